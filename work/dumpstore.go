package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"trimlantern/core/rewrite"
	"trimlantern/core/sheet"
	"trimlantern/outside/database"
	"trimlantern/outside/dump"
	"trimlantern/outside/mirror"
	"trimlantern/outside/pack"
)

// DumpKind is the kind of a database that is an exported one.
const DumpKind = "dump"

// IsDump reports whether the site's database is an exported one.
func (j *Job) IsDump() bool { return j.File.Database.Kind == DumpKind }

// storedRow is the largest row of a dump that is a store, in MB.
const storedRow = 512

// connect opens the site's database. Of a dump it is the working copy in the logbook, or before there is one, a
// copy that goes when it is closed.
func (j *Job) connect(ctx context.Context, c database.Config) (database.Database, error) {
	if c.Kind != DumpKind {
		return database.Open(ctx, c)
	}
	if j.Book != nil {
		if err := j.Book.Ensure(); err != nil {
			return nil, err
		}
		return mirror.Open(ctx, j.mirrored(c, filepath.Join(j.Book.Path(), "dump.db")))
	}
	dir, err := os.MkdirTemp("", "trimlantern-*")
	if err != nil {
		return nil, err
	}
	s, err := mirror.Open(ctx, j.mirrored(c, filepath.Join(dir, "dump.db")))
	if err != nil {
		_ = os.RemoveAll(dir) // it is ours
		return nil, err
	}
	return &passing{s, dir}, nil
}

// passing is a copy that goes when it is closed.
type passing struct {
	*mirror.Store
	dir string
}

func (p *passing) Close() error { return errors.Join(p.Store.Close(), os.RemoveAll(p.dir)) }

// mirrored says how the dump is copied.
func (j *Job) mirrored(c database.Config, to string) mirror.Config {
	rules := &rewrite.Rules{Site: j.Site}
	return mirror.Config{Dump: c.File, Copy: to, Charset: strings.ToLower(c.Charset), MaxUnit: storedRow << 20,
		Unsound: func(v []byte) bool { return isUnsound(rules.Value(v)) },
		Beside:  func(p *dump.Passage) []sheet.Left { return besideRows(&rewrite.Rules{Site: j.Site}, p) },
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
	case errors.Is(err, mirror.ErrUpdates):
		return BadUse(err, c.Where(), "export it again with INSERT; or use the filter: trimlantern filter --site https://HOST IN OUT")
	case errors.Is(err, dump.ErrDialect):
		return BadUse(err, c.Where(), "give a dump as the database's own dump program or a web panel writes it; one that does not tell whose SQL it is goes through the filter: trimlantern filter --dialect mysql --site https://HOST IN OUT")
	case errors.As(err, new(*dump.TooLarge)):
		return BadUse(err, c.Where(), "use the filter, which takes rows of up to 1 GB: trimlantern filter --largest-row 1024 --site https://HOST IN OUT")
	case errors.Is(err, context.Canceled):
		return Failed(nil, "interrupted; nothing was changed", "run the same command again")
	}
	f := &filtering{o: FilterOptions{In: c.File}}
	var broken *dump.Broken
	var foreign *pack.Foreign
	if errors.As(err, &broken) || errors.As(err, &foreign) || errors.Is(err, pack.ErrPacked) || errors.Is(err, dump.ErrChanged) {
		return f.failed(err, true)
	}
	return nil
}

// besideRows returns what is found in text of a dump that is no value.
func besideRows(rules *rewrite.Rules, p *dump.Passage) (left []sheet.Left) {
	res := rules.Value(p.Text)
	table := ""
	if p.Table != nil {
		table = p.Table.String()
	}
	if res.References > 0 {
		left = append(left, sheet.Left{Reason: besideReason(p), Table: table, URL: firstReference(p.Text, res.Edits), Count: res.References})
	}
	if p.Remark {
		return left // what else a comment holds, nobody loads
	}
	for _, l := range res.Left {
		left = append(left, sheet.Left{Reason: l.Reason, Table: table, Host: l.Host, URL: l.URL, Path: l.Path, Note: l.Note, Count: 1})
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

// store returns the working copy where the database is a dump's.
func store(db database.Database) *mirror.Store {
	switch s := db.(type) {
	case *mirror.Store:
		return s
	case *passing:
		return s.Store
	}
	return nil
}

// besideRows adds what stands outside of the rows of a dump to a preview.
func (s *survey) besideRows() error {
	copied := store(s.db)
	if copied == nil || s.out.Kind != References {
		return nil
	}
	for _, l := range copied.About.Left {
		if err := s.left(l); err != nil {
			return err
		}
	}
	return nil
}

// errDumpOnly says that a command changes a database, which an exported one is not.
func (j *Job) errDumpOnly() error {
	return BadUse(nil, fmt.Sprintf("the database is an exported one (%s), which is not changed in place", j.File.Database.File),
		"write a new dump: trimlantern apply --write FILE; or only what changes: trimlantern apply --patch FILE")
}
