// Package preview reads a site's database and files, works out every change, and writes a change sheet. It changes
// nothing.
package preview

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/address"
	"trimlantern/core/change"
	"trimlantern/core/envelope"
	"trimlantern/core/rewrite"
	"trimlantern/core/text"
	"trimlantern/outside/database"
	"trimlantern/outside/files"
	"trimlantern/outside/system"
	"trimlantern/work"
	"trimlantern/work/judge"
)

// Result is what preview found.
type Result struct {
	Kind      string                 `json:"kind"` // "references" or "lengths"
	Site      string                 `json:"site"`
	Database  string                 `json:"database"`
	Sheet     string                 `json:"sheet"` // its ID; "" where there is nothing to change
	Path      string                 `json:"path,omitempty"`
	Addresses []AddressState         `json:"addresses"`
	Tables    []change.TableCount    `json:"tables"`
	Rows      int64                  `json:"rows"`
	Cells     int                    `json:"cells"`
	Refs      int                    `json:"references"`
	Edited    int                    `json:"edited,omitempty"`   // texts that the owner edited
	Drops     int                    `json:"drops"`              // cached rows that apply --drop-caches removes
	Triggers  []string               `json:"triggers,omitempty"` // they run with the changes
	Choice    change.Choice          `json:"choice"`
	Sites     []work.Place           `json:"sites,omitempty"` // of several in one database, those that were read
	Hosts     map[string]int         `json:"hosts"`
	Counts    map[rewrite.Reason]int `json:"left"`
	Elsewhere []string               `json:"other_tables"` // tables of the database that are not the site's, by their names: not looked at
	Left      []change.Left          `json:"findings"`     // those that need a person, and some of the others
	Samples   []Sample               `json:"samples"`
	Verdicts  map[string]string      `json:"verdicts"`                // host: answer and why
	Folders   []work.CacheFolder     `json:"cache_folders,omitempty"` // folders of cached files
	Files     []FileChange           `json:"files,omitempty"`         // files to change
	FileRefs  int                    `json:"file_references"`
	Replaced  []work.Replacement     `json:"replaced,omitempty"` // by the owner's decision
	Copies    []change.Copy          `json:"copies,omitempty"`   // files to put into the site's folder
	Skipped   []files.Skipped        `json:"skipped_files,omitempty"`
	Opinion   *Opinion               `json:"opinion,omitempty"` // of PHP
	FailOn    []string               `json:"fail_on,omitempty"`
}

// AddressState is one of the site's own addresses as it stands.
type AddressState struct {
	Site   int    `json:"site,omitempty"` // of several in one database
	Name   string `json:"name"`
	Title  string `json:"title"`
	Value  string `json:"value"`
	Locked string `json:"locked,omitempty"` // file:line and constant that hold it
	Change bool   `json:"change"`
}

// Sample is one change for the eye.
type Sample struct {
	Where  string `json:"where"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// FileChange is what becomes of one file.
type FileChange struct {
	Path       string       `json:"path"`
	References int          `json:"references"`
	Lines      []LineChange `json:"lines"` // the first of them
}

// LineChange is one line before and after.
type LineChange struct {
	Line   int    `json:"line"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// Changes returns how many cells and files are to change.
func (p *Result) Changes() int { return p.Cells + len(p.Files) + len(p.Copies) }

// Person returns how many findings need a person.
func (p *Result) Person() (n int) {
	for r, count := range p.Counts {
		if r.NeedsPerson() {
			n += count
		}
	}
	return n
}

// What --fail-on knows: what of a result makes an exit code of 1, whether the command did its work or not.
const (
	FailChange = "change" // something is left to change
	FailPerson = "person" // something needs a person
)

// FailKinds lists them.
var FailKinds = []string{FailChange, FailPerson}

// Code is the exit code that the preview comes to: it did its work, unless the caller is stricter.
func (p *Result) Code() int {
	if slices.Contains(p.FailOn, FailChange) && p.Changes() > 0 || slices.Contains(p.FailOn, FailPerson) && p.Person() > 0 {
		return work.Remain
	}
	return work.Clean
}

// KeepLeft is how many findings of one settled reason a preview shows; those
// that need a person are all kept, up to maxLeft.
const (
	KeepLeft   = 5
	MaxLeft    = 2000
	maxSamples = 8
)

// Survey reads the database (and files) and says what would change. It is used
// by preview, and by apply to show that nothing is left.
type Survey struct {
	job       *work.Job
	rules     *rewrite.Rules
	judge     judge.Judge
	Out       *Result
	sheet     *change.Writer    // nil: counts alone
	addresses map[string]string // cells that hold an address: its name
	choice    change.Choice
	db        database.Database
	ctx       context.Context
	unique    map[[32]byte]bool // values that a unique index will hold
	samples   map[string]int
	Cause     envelope.Cause // what broke the lengths that are corrected
	decided   *decided       // nil: there is no decision about a single place
	opinion   *judging       // nil: nobody is asked
	replaced  *work.Replacements
}

// The kinds of sheets: what a preview looks for.
const (
	References = "references" // insecure references to make secure
	Lengths    = "lengths"    // lengths of serialized values to correct
)

// Run reads everything, writes a change sheet and changes nothing.
func Run(ctx context.Context, j *work.Job) (*Result, error) {
	return look(ctx, j, References, envelope.Cause{})
}

// Mend proposes corrected lengths for serialized values that an earlier careless
// replacement, the cause, broke. It writes a change sheet like Preview and changes nothing.
func Mend(ctx context.Context, j *work.Job, cause envelope.Cause) (*Result, error) {
	if cause.Was == "" || cause.Now == "" || cause.Was == cause.Now {
		return nil, work.BadUse(nil, "the replacement that broke the values needs two different texts", "name them: --was http:// --now https://")
	}
	j.Offline = true
	return look(ctx, j, Lengths, cause)
}

func look(ctx context.Context, j *work.Job, kind string, cause envelope.Cause) (*Result, error) {
	defer j.Progress.End()
	if !j.Offline {
		if _, err := j.Web(); err != nil {
			return nil, err
		}
	}
	db, tables, err := j.Open(ctx, true)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	choice, err := j.JoinedChoice()
	if err != nil {
		return nil, err
	}
	if tables, err = j.Chosen(choice, tables); err != nil {
		return nil, err
	}
	asked, err := j.Verdicts(ctx)
	if err != nil {
		return nil, err
	}
	id := j.RunID()
	pending, err := j.Book.NewSheet(id)
	if err != nil {
		return nil, work.Failed(err, "the change sheet cannot be written", "make the folder of the site file writable, or use --config in one that is")
	}
	defer pending.Discard()
	w, err := change.NewWriter(pending, change.Header{Tool: work.Tool, ID: id, Time: j.Now().UTC().Format(time.RFC3339),
		Site: j.Site.String(), Also: j.Site.Also, Sisters: work.SistersOf(j.Site), Kind: kind, System: j.System.Name, Database: db.Identity(), Prefix: j.File.Database.Prefix, Choice: choice, Cause: cause})
	if err != nil {
		return nil, work.Failed(err, "the change sheet cannot be written", "free some disk space")
	}
	s := NewSurvey(j, db, asked, w, kind, choice)
	s.Cause = cause
	if s.opinion, err = secondOpinion(j, kind); err != nil {
		return nil, err
	}
	defer s.opinion.close()
	s.Out.Opinion = s.opinion.out
	if err := s.copies(); err != nil {
		return nil, err
	}
	if err := s.Run(ctx, db, tables); err != nil {
		return nil, err
	}
	if err := s.Files(); err != nil {
		return nil, err
	}
	p := s.Out
	p.Replaced = s.replaced.List(j)
	for host, v := range asked.All() {
		p.Verdicts[host] = v.Answer + ": " + v.Why
	}
	if err := asked.Keep(); err != nil {
		return nil, work.Failed(err, "the verdicts cannot be kept", "free some disk space")
	}
	err = w.Close(change.Summary{Tables: p.Tables, Rows: p.Rows, Cells: p.Cells, References: p.Refs, Drops: p.Drops, Files: len(p.Files), FileRefs: p.FileRefs, Copies: len(p.Copies), Hosts: p.Hosts, Left: p.Counts})
	if err == nil {
		p.Path, err = j.Book.SheetPath(id), pending.Commit()
	}
	if err != nil {
		return nil, work.Failed(err, "the change sheet cannot be written", "free some disk space")
	}
	p.Sheet = id
	if len(j.Edited) > 0 { // what was edited by hand is in the sheet now, and was shown
		if err := j.Book.Change(func() error { return j.Book.KeepSiteFile(j.File.Text()) }); err != nil {
			return nil, work.Failed(err, "the logbook cannot be written", "free some disk space")
		}
	}
	return p, nil
}

// NewSurvey makes ready to read a site's content: v answers for other hosts, nil asks nobody; w takes the changes, nil
// only counts them.
func NewSurvey(j *work.Job, db database.Database, v *work.Verdicts, w *change.Writer, kind string, choice change.Choice) *Survey {
	rules := &rewrite.Rules{Site: j.Site, Hashed: j.Hashed()}
	if v != nil {
		rules.Verdict = v.Ask
	}
	replaced := j.Replacements()
	replaced.Rule(rules)
	s := &Survey{job: j, replaced: replaced, rules: rules, judge: judge.Judge{Rules: rules, System: j.System, Labels: true}, sheet: w, choice: choice, db: db, unique: map[[32]byte]bool{}, addresses: map[string]string{}, samples: map[string]int{},
		Out: &Result{FailOn: j.FailOn, Kind: kind, Choice: choice, Site: j.Site.String(), Database: db.Identity(), Elsewhere: j.Elsewhere(), Hosts: map[string]int{}, Counts: map[rewrite.Reason]int{}, Verdicts: map[string]string{}}}
	if s.decided = newDecided(j, rules); s.decided != nil {
		s.judge.For = s.decided.For
	}
	return s
}

// Run goes through the addresses and then all tables.
func (s *Survey) Run(ctx context.Context, db database.Database, tables []database.Table) error {
	s.ctx = ctx
	if err := s.readAddresses(ctx, db, tables); err != nil {
		return err
	}
	counts, exact := make([]int64, len(tables)), make([]bool, len(tables))
	var total, before int64
	for i, t := range tables {
		var err error
		if counts[i], exact[i], err = db.Count(ctx, t); err != nil {
			return TableFault(err, t)
		}
		total += counts[i]
	}
	for i, t := range tables {
		tc := change.TableCount{Table: t.Name}
		if exact[i] {
			tc.Rows = counts[i]
		}
		s.job.Progress.At("reading "+t.Name, before, total)
		pick, look := database.References, s.row
		if s.Out.Kind == Lengths {
			pick, look = database.Serialized, s.broken
		}
		if s.job.System.IsKept(s.job.Short(t.Name)) {
			if err := s.kept(ctx, t, &tc); err != nil {
				return err
			}
			before += counts[i]
			continue
		}
		if t.Hidden {
			if err := s.left(change.Left{Reason: rewrite.Hidden, Table: t.Name, Count: 1}); err != nil {
				return err
			}
		}
		err := db.Candidates(ctx, t, pick, func(row database.Row) error {
			tc.Read++
			return look(t, row, &tc)
		}, func(rows int64) {
			if !exact[i] {
				tc.Rows = rows
			}
			s.job.Progress.At("reading "+t.Name, before+min(rows, counts[i]), total)
		})
		if err == nil {
			err = s.opinion.drain()
		}
		if err != nil {
			return TableFault(err, t)
		}
		before += counts[i]
		if len(t.Triggers) > 0 && tc.Cells > 0 {
			s.Out.Triggers = append(s.Out.Triggers, fmt.Sprintf("%s: %s", t.Name, strings.Join(t.Triggers, ", ")))
		}
		s.Out.Tables = append(s.Out.Tables, tc)
		s.Out.Rows += tc.Rows
		s.Out.Cells += tc.Cells
		s.Out.Refs += tc.References
	}
	return s.besideRows()
}

// objects names references in code and definitions of the database, and what is not read.
func (s *Survey) objects() error {
	all, err := s.db.Objects(s.ctx)
	if err != nil {
		return work.Failed(err, "the catalogue of the database cannot be read", "give the user the right to read it, then run the same command again")
	}
	for _, o := range all {
		if o.Unread {
			if err := s.left(change.Left{Reason: rewrite.NotRead, Table: o.Name, Note: o.Kind, Count: 1}); err != nil {
				return err
			}
			continue
		}
		if !rewrite.MayHold([]byte(o.Text)) {
			continue
		}
		found := *s.rules
		l := change.Left{Reason: rewrite.Code, Table: o.Name, Note: o.Kind}
		found.Rewritten = func(f rewrite.Finding) {
			if l.URL == "" {
				l.URL, l.Host = f.URL, f.Host
			}
		}
		res := found.Value([]byte(o.Text))
		l.Count = res.References
		for _, f := range res.Left {
			if f.Reason.NeedsPerson() && s.rules.Site.Relate(f.Host, "", s.rules.Site.Path) == address.Ours { // a condition, as a rule
				l.Host, l.URL = cmp.Or(l.Host, f.Host), cmp.Or(l.URL, f.URL)
				l.Count++
			}
		}
		if l.Count > 0 {
			if err := s.left(l); err != nil {
				return err
			}
		}
	}
	return nil
}

// kept names a table whose rows are never changed. They are not looked at.
func (s *Survey) kept(ctx context.Context, t database.Table, tc *change.TableCount) error {
	if tc.Rows == 0 { // only reading tells how many there are
		if err := s.db.Candidates(ctx, t, database.References, func(database.Row) error { return nil }, func(rows int64) { tc.Rows = rows }); err != nil {
			return TableFault(err, t)
		}
	}
	s.Out.Tables = append(s.Out.Tables, *tc)
	s.Out.Rows += tc.Rows
	if tc.Rows == 0 {
		return nil
	}
	return s.left(change.Left{Reason: rewrite.Immutable, Table: t.Name, Count: int(tc.Rows)})
}

// TableFault says in a user's words why a table could not be read.
func TableFault(err error, t database.Table) error {
	var f *work.Fault
	if errors.As(err, &f) {
		return err
	}
	if errors.Is(err, context.Canceled) {
		return work.Failed(nil, "interrupted; nothing was changed", "run the same command again")
	}
	return work.Failed(err, "reading table "+t.Name, "check the database server's log, then run the same command again")
}

// OwnAddresses returns the site's own addresses as the database has them. The error says that they are those of
// another site, or cannot be read.
func OwnAddresses(ctx context.Context, j *work.Job, db database.Database, tables []database.Table) ([]AddressState, error) {
	s := NewSurvey(j, db, nil, nil, References, change.Choice{})
	err := s.readAddresses(ctx, db, tables)
	return s.Out.Addresses, err
}

// readAddresses looks at the site's own addresses and refuses a site that the
// database is not of.
func (s *Survey) readAddresses(ctx context.Context, db database.Database, tables []database.Table) error {
	j := s.job
	foreign := 0
	locks, err := j.Locks()
	if err != nil {
		return work.BadUse(err, "the system's configuration cannot be read", "correct its path in the site file: system-config, or config of database")
	}
	for _, t := range tables {
		site, short := j.Set(t.Name)
		if len(j.Places()) == 0 {
			site = 0
		}
		for _, a := range j.System.Addresses {
			if a.Table != short {
				continue
			}
			v, key, found, err := db.Lookup(ctx, t, a.Column, a.Where, a.Equals)
			if err != nil {
				return TableFault(err, t)
			}
			if !found || v.Null {
				continue
			}
			st := AddressState{Site: site, Name: a.Name, Title: a.Title, Value: string(v.Bytes)}
			if site > 0 {
				st.Title += fmt.Sprintf(", site %d", site)
			}
			res := s.rules.Value(v.Bytes)
			st.Change = len(res.Edits) > 0 && (s.choice.Address == "" || s.choice.Address == a.Name)
			for _, l := range locks {
				if l.Name == a.Name && l.How != system.Possibly {
					st.Locked = fmt.Sprintf("%s:%d (%s)", filepath.Base(l.File), l.Lock.Line, l.Constant)
				}
			}
			if len(res.Edits) == 0 && !s.ownSecure(string(v.Bytes)) {
				foreign++
			}
			s.addresses[change.CellID(t.Name, key, a.Column)] = a.Name
			s.Out.Addresses = append(s.Out.Addresses, st)
		}
		if p, ok := j.Place(site); ok && !slices.Contains(s.Out.Sites, p) {
			s.Out.Sites = append(s.Out.Sites, p)
		}
	}
	slices.SortFunc(s.Out.Sites, func(a, b work.Place) int { return a.Site - b.Site })
	slices.SortStableFunc(s.Out.Addresses, func(a, b AddressState) int { return a.Site - b.Site })
	if n := len(s.Out.Addresses); n > 0 && foreign == n {
		return work.BadUse(nil, fmt.Sprintf("this database belongs to another site: its address is %s, not below %s", s.Out.Addresses[0].Value, j.Site),
			"check site and also in the site file against the address in the database; write a folder only if the whole site is in it")
	}
	return nil
}

// ownSecure reports whether a value is already a secure address of the site.
func (s *Survey) ownSecure(v string) bool {
	insecure := ""
	if len(v) > 5 && (v[:5] == "https" || v[:5] == "HTTPS") {
		insecure = v[:4] + v[5:]
	}
	return len(s.rules.Value([]byte(insecure)).Edits) > 0
}

// row works out what becomes of one row.
func (s *Survey) row(t database.Table, row database.Row, tc *change.TableCount) error {
	value := func(i int) ([]byte, bool) { return row.Values[i].Bytes, !row.Values[i].Null }
	refuse := func(i int) rewrite.Reason {
		if row.Values[i].Lossy {
			return rewrite.Charset
		}
		return s.refuse(t, row, t.Columns[i].Name)
	}
	var may func(i int) bool
	if row.May != nil {
		may = func(i int) bool { return row.May[i] }
	}
	if s.decided != nil {
		s.decided.table, s.decided.key = t, row.Key
	}
	s.judge.Sealable = func(i int) bool {
		return !slices.ContainsFunc(t.Key, func(c database.Column) bool { return c.Name == t.Columns[i].Name })
	}
	label, outcomes, err := s.judge.Row(s.job.Short(t.Name), t.Columns, value, may, len(t.Key) > 0, refuse)
	if err != nil {
		return fmt.Errorf("table %s: %w", t.Name, err)
	}
	drops := 0
	for _, o := range outcomes {
		c := t.Columns[o.Column]
		if o.Safe {
			drops += o.References
		}
		if len(o.Edits) > 0 {
			taken, err := s.taken(t, row, o)
			if err != nil {
				return err
			}
			if lost := t.Empties(c.Name); lost != "" {
				o.Edits, o.Seals = nil, nil
				o.Left = append(o.Left, change.Left{Reason: rewrite.Followed, Note: lost, Count: o.References})
			} else if taken != "" {
				o.Edits, o.Seals = nil, nil
				o.Left = append(o.Left, change.Left{Reason: rewrite.Taken, Note: taken, Count: o.References})
			}
			for _, seal := range o.Seals {
				taken, err := s.taken(t, row, judge.Outcome{Column: seal.Column, Edits: seal.Edits, After: seal.After})
				if err != nil {
					return err
				}
				if taken != "" {
					o.Edits, o.Seals = nil, nil
					o.Left = append(o.Left, change.Left{Reason: rewrite.Taken, Note: taken, Count: o.References})
					break
				}
			}
		}
		for _, l := range o.Left {
			l.Table, l.Key, l.Column, l.Label = t.Name, change.Values(row.Key), c.Name, label
			if s.decided != nil && s.decided.stale(&l) {
				l.Note = strings.TrimPrefix(l.Note+"; "+work.EditStale, "; ")
			}
			if err := s.left(l); err != nil {
				return err
			}
		}
		if len(o.Edits) == 0 {
			continue
		}
		if err := s.change(t, row, o.Column, label, o, tc); err != nil {
			return err
		}
	}
	if drops == 0 || len(t.Key) == 0 {
		return nil
	}
	s.Out.Drops++
	if s.sheet == nil {
		return nil
	}
	if err := s.sheet.Drop(change.Drop{Table: t.Name, Key: change.Values(row.Key), Label: label, References: drops}); err != nil {
		return work.Failed(err, "the change sheet cannot be written", "free some disk space")
	}
	return nil
}

// refuse says why a cell is left by the user's choice, or "".
func (s *Survey) refuse(t database.Table, row database.Row, column string) rewrite.Reason {
	if slices.ContainsFunc(s.choice.ExceptColumns(), func(p string) bool { return s.job.FitsColumn(p, t.Name, column) }) {
		return rewrite.NotChosen
	}
	if s.choice.Address != "" {
		if name := s.addresses[change.CellID(t.Name, row.Key, column)]; name != "" && name != s.choice.Address {
			return rewrite.NotChosen
		}
	}
	return ""
}

// taken says which unique index a change would break, or "".
func (s *Survey) taken(t database.Table, row database.Row, o judge.Outcome) (string, error) {
	c := t.Columns[o.Column]
	for _, ix := range t.Unique {
		if !slices.Contains(ix.Columns, c.Name) {
			continue
		}
		taken, err := s.db.Taken(s.ctx, t, ix, row.Key, c.Name, database.Value{Bytes: o.After, As: row.Values[o.Column].As})
		if err != nil {
			return "", TableFault(err, t)
		}
		// Two rows that differ now may become equal. Collations that do not mind letter
		// case are the rule, so letter case does not count here.
		h, whole := sha256.New(), true
		fmt.Fprintf(h, "%s\x00%s\x00%s\x00%s", t.Name, ix.Name, c.Name, bytes.ToLower(o.After))
		for _, name := range ix.Columns {
			named := func(c database.Column) bool { return c.Name == name }
			if name == c.Name {
				continue
			}
			if i := slices.IndexFunc(t.Columns, named); i >= 0 {
				fmt.Fprintf(h, "\x00%s", bytes.ToLower(row.Values[i].Bytes))
			} else if i := slices.IndexFunc(t.Key, named); i >= 0 {
				fmt.Fprintf(h, "\x00%s", row.Key[i])
			} else {
				whole = false // what was not read cannot be compared: apply asks the database
			}
		}
		id := [32]byte(h.Sum(nil))
		if taken || whole && s.unique[id] {
			return "the unique index " + ix.Name + " has it already", nil
		}
		s.unique[id] = true
	}
	return "", nil
}

// broken works out what becomes of the serialized values of a row that are not
// sound.
func (s *Survey) broken(t database.Table, row database.Row, tc *change.TableCount) error {
	label := ""
	if lb, ok := s.job.System.LabelOf(s.job.Short(t.Name)); ok {
		for i, c := range t.Columns {
			if c.Name == lb.Column && len(row.Values[i].Bytes) > 0 {
				label = lb.Word + " " + text.Show(string(row.Values[i].Bytes))
			}
		}
	}
	value := func(i int) ([]byte, bool) { return row.Values[i].Bytes, !row.Values[i].Null }
	if s.job.System.IsKeptRow(s.job.Short(t.Name), func(column string) string {
		i := slices.IndexFunc(t.Columns, func(c database.Column) bool { return c.Name == column })
		if i < 0 {
			return ""
		}
		return string(row.Values[i].Bytes)
	}) {
		return nil
	}
	for i, c := range t.Columns {
		edits, broken, err := s.rules.Mend(row.Values[i].Bytes, s.Cause)
		if !broken {
			continue
		}
		l := change.Left{Reason: rewrite.Unsound, Table: t.Name, Key: change.Values(row.Key), Column: c.Name, Label: label, Count: 1}
		var after []byte
		if err == nil {
			after, err = rewrite.Apply(row.Values[i].Bytes, edits)
		}
		switch {
		case err != nil:
			l.Note = err.Error()
		case len(t.Key) == 0:
			l.Reason = rewrite.NoKey
		case judge.Outgrows(c, int64(len(after)), after) != "":
			l.Reason, l.Note = rewrite.TooLong, judge.Outgrows(c, int64(len(after)), after)
		case judge.Beside(t.Columns, value, i, row.Values[i].Bytes) != "":
			l.Reason, l.Note = rewrite.Protected, judge.Beside(t.Columns, value, i, row.Values[i].Bytes)
		default:
			if err := s.change(t, row, i, label, judge.Outcome{Column: i, Edits: edits, After: after}, tc); err != nil {
				return err
			}
			continue
		}
		if err := s.left(l); err != nil {
			return err
		}
	}
	return nil
}

// change counts the change of one cell and writes it to the sheet.
func (s *Survey) change(t database.Table, row database.Row, i int, label string, o judge.Outcome, tc *change.TableCount) error {
	c, v := t.Columns[i], row.Values[i].Bytes
	count := func() {
		tc.Cells += 1 + len(o.Seals)
		tc.References += o.References
		s.Out.Edited += o.Edited
		for _, h := range o.Hosts {
			s.Out.Hosts[h.Host] += h.Count
		}
	}
	if s.sheet == nil {
		count()
		return nil
	}
	cell := change.Cell{Table: t.Name, Key: change.Values(row.Key), Column: c.Name, Before: change.Hash(v), After: change.Hash(o.After), Size: len(v),
		Edits: change.Edits(o.Edits), References: o.References, Hosts: o.Hosts, Address: s.addresses[change.CellID(t.Name, row.Key, c.Name)] != ""}
	if len(o.Seals) > 0 {
		cell.With = c.Name
	}
	// The row's memory is used again before the answer comes.
	for k := range cell.Key {
		cell.Key[k] = bytes.Clone(cell.Key[k])
	}
	var seals []change.Cell // what is derived from the value changes with it, or not at all
	for _, seal := range o.Seals {
		was := row.Values[seal.Column].Bytes
		seals = append(seals, change.Cell{Table: t.Name, Key: cell.Key, Column: t.Columns[seal.Column].Name, Before: change.Hash(was), After: change.Hash(seal.After), Size: len(was), Edits: change.Edits(seal.Edits), Hosts: []rewrite.HostCount{}, Address: cell.Address, With: c.Name})
	}
	var shown *Sample
	if s.samples["table "+t.Name] == 0 {
		shown = sampled(t.Name, c.Name, label, v, o.Edits)
	}
	return s.opinion.later(v, o.After, func(loads bool) error {
		if !loads {
			return s.left(change.Left{Reason: rewrite.Unloadable, Table: t.Name, Key: cell.Key, Column: c.Name, Label: label, Count: max(1, o.References)})
		}
		count()
		if shown != nil && s.samples["table "+t.Name] == 0 && len(s.Out.Samples) < maxSamples {
			s.samples["table "+t.Name]++
			s.Out.Samples = append(s.Out.Samples, *shown)
		}
		for _, c := range append([]change.Cell{cell}, seals...) {
			if err := s.sheet.Cell(c); err != nil {
				return work.Failed(err, "the change sheet cannot be written", "free some disk space")
			}
		}
		return nil
	})
}

// left counts a finding, keeps it for the eye and writes it to the sheet.
func (s *Survey) left(l change.Left) error {
	s.job.Settled(&l)
	s.Out.Counts[l.Reason] += l.Count
	keep := KeepLeft
	if l.Reason.NeedsPerson() {
		keep = MaxLeft
	}
	if s.samples[string(l.Reason)] < keep {
		s.samples[string(l.Reason)]++
		s.Out.Left = append(s.Out.Left, l)
	}
	if s.sheet == nil {
		return nil
	}
	if err := s.sheet.Left(l); err != nil {
		return work.Failed(err, "the change sheet cannot be written", "free some disk space")
	}
	return nil
}

// sampled returns the first change of a value as an example.
func sampled(table, column, label string, before []byte, edits []rewrite.Edit) *Sample {
	e := edits[max(0, slices.IndexFunc(edits, func(e rewrite.Edit) bool { return strings.EqualFold(e.Inserted, "s") }))]
	from, to := max(0, e.Offset-24), min(len(before), e.Offset+max(40, len(e.Removed)))
	after := ""
	p := from
	for _, e := range edits { // all that fall into the stretch: a length that follows is seen too
		if e.Offset < p || e.Offset+len(e.Removed) > to {
			continue
		}
		after += string(before[p:e.Offset]) + e.Inserted
		p = e.Offset + len(e.Removed)
	}
	where := table + "." + column
	if label != "" {
		where += ", " + label
	}
	return &Sample{Where: where, Before: string(before[from:to]), After: after + string(before[p:to])}
}

// besideRows adds what is outside of rows to a preview: what the catalogue of a database has beside them, or a dump.
func (s *Survey) besideRows() error {
	copied := work.Store(s.db)
	switch {
	case s.Out.Kind != References:
		return nil
	case copied == nil:
		return s.objects()
	}
	for _, l := range copied.About.Left {
		if err := s.left(l); err != nil {
			return err
		}
	}
	return nil
}
