package work

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/disk"
	"trimlantern/outside/dump"
	"trimlantern/outside/mirror"
	"trimlantern/outside/pack"
	"trimlantern/work/judge"
)

// DumpKind is the kind of a database that is an exported one.
const DumpKind = "dump"

// IsDump reports whether the site's database is an exported one.
func (j *Job) IsDump() bool { return j.File.Database.Kind == DumpKind }

// StoredRow is the largest row of a dump that is a store, in MB.
const StoredRow = 512

// Connect opens the site's database. Of a dump it is the working copy in the logbook, or before there is one, a
// copy of the tables that say what the site is, which goes when it is closed.
func (j *Job) Connect(ctx context.Context, c database.Config) (database.Database, error) {
	if c.Kind != DumpKind {
		return database.Open(ctx, c)
	}
	if j.Book != nil {
		if err := j.Book.Ensure(); err != nil {
			return nil, err
		}
		return mirror.Open(ctx, j.mirrored(c, filepath.Join(j.Book.Path(), "dump.db")))
	}
	tells, err := j.tells()
	if err != nil {
		return nil, err
	}
	dir, remove, err := disk.TempFolder("copy")
	if err != nil {
		return nil, err
	}
	some := j.mirrored(c, filepath.Join(dir, "dump.db"))
	some.Rows = tells
	s, err := mirror.Open(ctx, some)
	if err != nil {
		remove()
		return nil, err
	}
	return &passing{s, remove}, nil
}

// passing is a copy that goes when it is closed.
type passing struct {
	*mirror.Store
	remove func()
}

// Close removes the copy.
func (p *passing) Close() error {
	defer p.remove()
	return p.Store.Close()
}

// tells returns which tables can hold addresses of a site, whatever the prefix and the system.
func (j *Job) tells() (func(table string) bool, error) {
	systems, err := SystemsNamed("")
	if err != nil {
		return nil, BadUse(err, "a built-in system description", "report this")
	}
	var names []string
	for _, s := range append(systems, j.System) {
		for _, a := range s.Addresses {
			names = append(names, a.Table)
		}
		if s.Sites != nil {
			names = append(names, s.Sites.Table)
		}
	}
	return func(table string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return strings.HasSuffix(table, n) })
	}, nil
}

// mirrored says how the dump is copied.
func (j *Job) mirrored(c database.Config, to string) mirror.Config {
	rules := &rewrite.Rules{Site: j.Site}
	return mirror.Config{Dump: c.File, Copy: to, Rules: fmt.Sprintf("%+v", j.Site), Charset: strings.ToLower(c.Charset), MaxUnit: StoredRow << 20,
		Unsound: func(v []byte) bool { return judge.IsUnsound(rules.Value(v)) },
		Beside:  func(p *dump.Passage) []change.Left { return BesideRows(&rewrite.Rules{Site: j.Site}, p) },
		Progress: func(what string, done, total int64) {
			if j.Progress != nil {
				j.Progress.At(what, done>>20, total>>20)
			}
		},
	}
}

// dumpFault says in a user's words why a dump cannot be a store; nil where it is something else.
func dumpFault(err error, c database.Config) error {
	if c.Kind != DumpKind {
		return nil
	}
	switch {
	case errors.Is(err, mirror.ErrRows):
		return BadUse(err, c.Where(), "export it again with structure and data")
	case errors.Is(err, mirror.ErrValues):
		return BadUse(err, c.Where(), "the file is damaged, or was edited: export it again")
	case errors.Is(err, mirror.ErrUpdates):
		return BadUse(err, c.Where(), "export it again with INSERT; or use the filter: trimlantern filter --site https://HOST IN OUT")
	case errors.Is(err, dump.ErrDialect):
		return BadUse(err, c.Where(), "give a dump as the database's own dump program or a web panel writes it; one that does not tell whose SQL it is goes through the filter: trimlantern filter --dialect mysql --site https://HOST IN OUT")
	case errors.As(err, new(*dump.TooLarge)):
		return BadUse(err, c.Where(), "use the filter, which takes rows of up to 1 GB: trimlantern filter --largest-row 1024 --site https://HOST IN OUT")
	case errors.Is(err, context.Canceled):
		return Failed(nil, "interrupted; nothing was changed", "run the same command again")
	}
	var broken *dump.Broken
	var foreign *pack.Foreign
	if errors.As(err, &broken) || errors.As(err, &foreign) || errors.Is(err, pack.ErrPacked) || errors.Is(err, dump.ErrChanged) {
		return InputFault(err, c.File, "", true)
	}
	return nil
}

// BesideRows returns what is found in text of a dump that is no value.
func BesideRows(rules *rewrite.Rules, p *dump.Passage) (left []change.Left) {
	res := rules.Value(p.Text)
	table := ""
	if p.Table != nil {
		table = p.Table.String()
	}
	if res.References > 0 {
		left = append(left, change.Left{Reason: besideReason(p), Table: table, URL: firstReference(p.Text, res.Edits), Count: res.References})
	}
	if p.Remark {
		return left // what else a comment holds, nobody loads
	}
	for _, l := range res.Left {
		left = append(left, change.Left{Reason: l.Reason, Table: table, Host: l.Host, URL: l.URL, Path: l.Path, Note: l.Note, Count: 1})
	}
	return left
}

func besideReason(p *dump.Passage) rewrite.Reason {
	switch {
	case p.Remark:
		return rewrite.Remark
	case p.Code:
		return rewrite.Code
	}
	return rewrite.Statement
}

// Store returns the working copy where the database is a dump's.
func Store(db database.Database) *mirror.Store {
	switch s := db.(type) {
	case *mirror.Store:
		return s
	case *passing:
		return s.Store
	}
	return nil
}

// ErrDumpOnly says that a command changes a database, which an exported one is not.
func (j *Job) ErrDumpOnly() error {
	return BadUse(nil, fmt.Sprintf("the database is an exported one (%s), which is not changed in place", j.File.Database.File),
		"write a new dump: trimlantern apply --write FILE; or only what changes: trimlantern apply --patch FILE")
}

// firstReference returns the text around the first edit, up to what cannot be of an address.
func firstReference(b []byte, edits []rewrite.Edit) string {
	if len(edits) == 0 {
		return ""
	}
	end := edits[0].Offset
	for end < len(b) && b[end] > ' ' && !bytes.ContainsRune([]byte("'\"<>`"), rune(b[end])) && end < edits[0].Offset+100 {
		end++
	}
	return strings.ToValidUTF8(string(b[max(0, edits[0].Offset-4):end]), "?")
}

// InputFault says in a user's words what stopped the reading of a dump or the writing of another; in and out are
// their names. Nothing was written under the output's name; before says that nothing was written at all.
func InputFault(err error, in, out string, before bool) error {
	var broken *dump.Broken
	var large *dump.TooLarge
	var foreign *pack.Foreign
	var fault *Fault
	name := in
	if name == "" || name == "-" {
		name = "the input"
	}
	kept := "nothing was written"
	if !before && (out == "" || out == "-") {
		kept = "what was written to standard output is incomplete: delete it"
	}
	switch {
	case errors.As(err, &fault):
		return err
	case errors.As(err, &foreign):
		return BadUse(err, name, foreign.Do)
	case errors.As(err, &broken):
		do := "get a whole dump and run the command again; " + kept
		if errors.Is(err, dump.ErrStatement) {
			do = "give a whole dump; of one that was split give all parts, in order: IN OUT --part SECOND --part THIRD; " + kept
		}
		return BadUse(err, name, do)
	case errors.As(err, &large):
		return BadUse(err, name, fmt.Sprintf("allow it with --largest-row %d, which takes about %d MB of memory; %s", 4*(large.Limit>>20), 20*(large.Limit>>20), kept))
	case errors.Is(err, dump.ErrDialect):
		return BadUse(err, name, "name a dump as the database's own dump program writes it; for one stored value: --as value")
	case errors.Is(err, dump.ErrChanged):
		return Failed(err, name, "wait until it is written, then run the command again; "+kept)
	case errors.Is(err, syscall.EPIPE):
		return Failed(nil, "the reader of the output has gone", "run the command again; "+kept)
	case errors.Is(err, syscall.ENOSPC):
		return Failed(err, "the output cannot be written", "free some disk space and run the command again; "+kept)
	case errors.Is(err, context.Canceled):
		return Failed(nil, "interrupted", "run the command again; "+kept)
	case errors.Is(err, pack.ErrPacked):
		return BadUse(err, name+" is packed", "get a whole file and run the command again; "+kept)
	case errors.Is(err, fs.ErrNotExist) && before:
		return BadUse(nil, "there is no file "+missing(err, name), "name the dump")
	}
	return Failed(err, name, "check the input and output, then run the command again; "+kept)
}

// missing returns the file that an error is about.
func missing(err error, name string) string {
	var path *fs.PathError
	if errors.As(err, &path) {
		return path.Path
	}
	return name
}
