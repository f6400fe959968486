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
	"time"

	"trimlantern/core/reference"
	"trimlantern/core/rewrite"
	"trimlantern/core/sheet"
	"trimlantern/site/database"
	"trimlantern/site/files"
)

// Preview is what preview found.
type Preview struct {
	Kind      string                 `json:"kind"` // "references" or "lengths"
	Site      string                 `json:"site"`
	Database  string                 `json:"database"`
	Sheet     string                 `json:"sheet"` // its ID; "" where there is nothing to change
	Path      string                 `json:"path,omitempty"`
	Addresses []AddressState         `json:"addresses"`
	Tables    []sheet.TableCount     `json:"tables"`
	Rows      int64                  `json:"rows"`
	Cells     int                    `json:"cells"`
	Refs      int                    `json:"references"`
	Hosts     map[string]int         `json:"hosts"`
	Counts    map[rewrite.Reason]int `json:"left"`
	Left      []sheet.Left           `json:"findings"` // those that need a person, and some of the others
	Samples   []Sample               `json:"samples"`
	Verdicts  map[string]string      `json:"verdicts"` // host: answer and why
	Skipped   []files.Skipped        `json:"skipped_files,omitempty"`
}

// AddressState is one of the site's own addresses as it stands.
type AddressState struct {
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

// Code is the exit code that the preview comes to.
func (p *Preview) Code() int {
	if p.Cells > 0 {
		return Remain
	}
	for r, n := range p.Counts {
		if n > 0 && r.NeedsPerson() {
			return Remain
		}
	}
	return Clean
}

// keepLeft is how many findings of one settled reason a preview shows; those
// that need a person are all kept, up to maxLeft.
const (
	keepLeft   = 5
	maxLeft    = 2000
	maxSamples = 8
)

// survey reads the database (and files) and says what would change. It is used
// by preview, and by apply to show that nothing is left.
type survey struct {
	job       *Job
	rules     *rewrite.Rules
	out       *Preview
	sheet     *sheet.Writer // nil: counts alone
	addresses map[string]bool
	samples   map[string]int
}

// The kinds of sheets: what a preview looks for.
const (
	References = "references" // insecure references to make secure
	Lengths    = "lengths"    // lengths of serialized values to correct
)

// Preview reads everything, writes a change sheet and changes nothing.
func (j *Job) Preview(ctx context.Context) (*Preview, error) { return j.preview(ctx, References) }

// Mend proposes corrected lengths for serialized values that an earlier careless
// replacement broke. It writes a change sheet like Preview and changes nothing.
func (j *Job) Mend(ctx context.Context) (*Preview, error) {
	j.Offline = true
	return j.preview(ctx, Lengths)
}

func (j *Job) preview(ctx context.Context, kind string) (*Preview, error) {
	defer j.Progress.End()
	if !j.Offline {
		if _, err := j.web(); err != nil {
			return nil, err
		}
	}
	db, tables, err := j.open(ctx, true)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	asked, err := j.verdicts(ctx)
	if err != nil {
		return nil, err
	}
	id := j.runID()
	pending, err := j.Book.NewSheet(id)
	if err != nil {
		return nil, world(err, "the change sheet cannot be written", "make the folder of the site file writable, or use --config in one that is")
	}
	defer pending.Discard()
	w, err := sheet.NewWriter(pending, sheet.Header{Tool: Tool, ID: id, Time: j.Now().UTC().Format(time.RFC3339),
		Site: j.Site.String(), Also: j.Site.Also, Kind: kind, Layout: j.Layout.Name, Database: db.Identity(), Prefix: j.File.Database.Prefix})
	if err != nil {
		return nil, world(err, "the change sheet cannot be written", "make room on the disk")
	}
	s := j.survey(db, asked, w, kind)
	if err := s.run(ctx, db, tables); err != nil {
		return nil, err
	}
	if err := s.files(); err != nil {
		return nil, err
	}
	p := s.out
	for host, v := range asked.known {
		p.Verdicts[host] = v.Answer + ": " + v.Why
	}
	if err := asked.keep(); err != nil {
		return nil, world(err, "the verdicts cannot be kept", "make room on the disk")
	}
	err = w.Close(sheet.Summary{Tables: p.Tables, Rows: p.Rows, Cells: p.Cells, References: p.Refs, Hosts: p.Hosts, Left: p.Counts})
	if err == nil {
		p.Path, err = pending.Commit()
	}
	if err != nil {
		return nil, world(err, "the change sheet cannot be written", "make room on the disk")
	}
	p.Sheet = id
	return p, nil
}

func (j *Job) survey(db database.Database, v *verdicts, w *sheet.Writer, kind string) *survey {
	return &survey{job: j, rules: &rewrite.Rules{Site: j.Site, Verdict: v.ask}, sheet: w, addresses: map[string]bool{}, samples: map[string]int{},
		out: &Preview{Kind: kind, Site: j.Site.String(), Database: db.Identity(), Hosts: map[string]int{}, Counts: map[rewrite.Reason]int{}, Verdicts: map[string]string{}}}
}

// run goes through the addresses and then all tables.
func (s *survey) run(ctx context.Context, db database.Database, tables []database.Table) error {
	if err := s.readAddresses(ctx, db, tables); err != nil {
		return err
	}
	counts := make([]int64, len(tables))
	var total, before int64
	for i, t := range tables {
		var err error
		if counts[i], err = db.Count(ctx, t); err != nil {
			return s.failed(err, t)
		}
		total += counts[i]
	}
	for i, t := range tables {
		tc := sheet.TableCount{Table: t.Name, Rows: counts[i]}
		s.job.Progress.At("reading "+t.Name, before, total)
		pick, look := database.References, s.row
		if s.out.Kind == Lengths {
			pick, look = database.Serialized, s.broken
		}
		err := db.Candidates(ctx, t, pick, func(row database.Row) error {
			tc.Read++
			if tc.Read%500 == 0 {
				s.job.Progress.At("reading "+t.Name, before+min(tc.Read, tc.Rows), total)
			}
			return look(t, row, &tc)
		})
		if err != nil {
			return s.failed(err, t)
		}
		before += counts[i]
		s.out.Tables = append(s.out.Tables, tc)
		s.out.Rows += tc.Rows
		s.out.Cells += tc.Cells
		s.out.Refs += tc.References
	}
	return nil
}

func (s *survey) failed(err error, t database.Table) error {
	var f *Fault
	if errors.As(err, &f) {
		return err
	}
	if errors.Is(err, context.Canceled) {
		return world(nil, "interrupted; nothing was changed", "run the same command again")
	}
	return world(err, "reading table "+t.Name, "look at the database's own log; then run the same command again")
}

// readAddresses looks at the site's own addresses and refuses a site that the
// database is not of.
func (s *survey) readAddresses(ctx context.Context, db database.Database, tables []database.Table) error {
	j := s.job
	foreign := 0
	for _, a := range j.Layout.Addresses {
		t, ok := database.Find(tables, j.File.Database.Prefix+a.Table)
		if !ok {
			continue
		}
		v, key, found, err := db.Lookup(ctx, t, a.Column, a.Where, a.Equals)
		if err != nil {
			return s.failed(err, t)
		}
		if !found || v.Null {
			continue
		}
		st := AddressState{Name: a.Name, Title: a.Title, Value: string(v.Bytes)}
		res := s.rules.Text(v.Bytes)
		st.Change = len(res.Edits) > 0
		if j.conn != nil {
			if lock, ok := j.conn.Locks[a.Name]; ok {
				st.Locked = fmt.Sprintf("%s:%d (%s)", filepath.Base(j.conn.File), lock.Line, lock.Constant)
			}
		}
		if !st.Change && !s.ownSecure(string(v.Bytes)) {
			foreign++
		}
		s.addresses[cellID(t.Name, key, a.Column)] = true
		s.out.Addresses = append(s.out.Addresses, st)
	}
	if n := len(s.out.Addresses); n > 0 && foreign == n {
		return misuse(nil, fmt.Sprintf("this database is of another site: its address is %s, not below %s", s.out.Addresses[0].Value, j.Site),
			"check site and also in the site file against the address in the database; a folder belongs to it only where the site lives in that folder")
	}
	return nil
}

// ownSecure reports whether a value is already a secure address of the site.
func (s *survey) ownSecure(v string) bool {
	insecure := ""
	if len(v) > 5 && (v[:5] == "https" || v[:5] == "HTTPS") {
		insecure = v[:4] + v[5:]
	}
	return len(s.rules.Text([]byte(insecure)).Edits) > 0
}

// cellID names a cell for maps.
func cellID(table string, key [][]byte, column string) string {
	return table + "\x00" + string(bytes.Join(key, []byte{1})) + "\x00" + column
}

// row works out what becomes of one row.
func (s *survey) row(t database.Table, row database.Row, tc *sheet.TableCount) error {
	g := judge{s.rules, s.job.Layout, true}
	value := func(i int) ([]byte, bool) { return row.Values[i].Bytes, !row.Values[i].Null }
	label, outcomes, err := g.row(s.job.short(t.Name), t.Columns, value, nil, len(t.Key) > 0)
	if err != nil {
		return fmt.Errorf("table %s: %w", t.Name, err)
	}
	for _, o := range outcomes {
		c := t.Columns[o.column]
		for _, l := range o.left {
			l.Table, l.Key, l.Column, l.Label = t.Name, values(row.Key), c.Name, label
			if err := s.left(l); err != nil {
				return err
			}
		}
		if len(o.edits) == 0 {
			continue
		}
		for _, h := range o.hosts {
			s.out.Hosts[h.Host] += h.Count
		}
		if err := s.change(t, row, o.column, label, o, tc); err != nil {
			return err
		}
	}
	return nil
}

// broken works out what becomes of the serialized values of a row that are not
// sound.
func (s *survey) broken(t database.Table, row database.Row, tc *sheet.TableCount) error {
	label := ""
	if lb, ok := s.job.Layout.LabelOf(s.job.short(t.Name)); ok {
		for i, c := range t.Columns {
			if c.Name == lb.Column && len(row.Values[i].Bytes) > 0 {
				label = lb.Word + " " + string(row.Values[i].Bytes)
			}
		}
	}
	for i, c := range t.Columns {
		edits, broken, err := rewrite.Mend(row.Values[i].Bytes)
		if !broken {
			continue
		}
		l := sheet.Left{Reason: rewrite.Unsound, Table: t.Name, Key: values(row.Key), Column: c.Name, Label: label, Count: 1}
		var after []byte
		if err == nil {
			after, err = rewrite.Apply(row.Values[i].Bytes, edits)
		}
		switch {
		case err != nil:
			l.Note = err.Error()
		case len(t.Key) == 0:
			l.Reason = rewrite.NoKey
		case outgrows(c, after) != "":
			l.Reason, l.Note = rewrite.TooLong, outgrows(c, after)
		default:
			if err := s.change(t, row, i, label, outcome{column: i, edits: edits, after: after}, tc); err != nil {
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
func (s *survey) change(t database.Table, row database.Row, i int, label string, o outcome, tc *sheet.TableCount) error {
	c, v := t.Columns[i], row.Values[i].Bytes
	tc.Cells++
	tc.References += o.references
	s.sample(t.Name, c.Name, label, v, o.edits)
	if s.sheet == nil {
		return nil
	}
	err := s.sheet.Cell(sheet.Cell{Table: t.Name, Key: values(row.Key), Column: c.Name, Before: sheet.Hash(v), After: sheet.Hash(o.after), Size: len(v),
		Edits: sheet.Edits(o.edits), References: o.references, Hosts: o.hosts, Address: s.addresses[cellID(t.Name, row.Key, c.Name)]})
	if err != nil {
		return world(err, "the change sheet cannot be written", "make room on the disk")
	}
	return nil
}

func values(key [][]byte) []sheet.Value {
	out := make([]sheet.Value, len(key))
	for i, k := range key {
		out[i] = k
	}
	return out
}

// left counts a finding, keeps it for the eye and writes it to the sheet.
func (s *survey) left(l sheet.Left) error {
	s.out.Counts[l.Reason] += l.Count
	keep := keepLeft
	if l.Reason.NeedsPerson() {
		keep = maxLeft
	}
	if s.samples[string(l.Reason)] < keep {
		s.samples[string(l.Reason)]++
		s.out.Left = append(s.out.Left, l)
	}
	if s.sheet == nil {
		return nil
	}
	if err := s.sheet.Left(l); err != nil {
		return world(err, "the change sheet cannot be written", "make room on the disk")
	}
	return nil
}

// sample keeps the first change of each table for the eye.
func (s *survey) sample(table, column, label string, before []byte, edits []rewrite.Edit) {
	if s.samples["table "+table] > 0 || len(s.out.Samples) >= maxSamples {
		return
	}
	s.samples["table "+table]++
	e := edits[max(0, slices.IndexFunc(edits, func(e rewrite.Edit) bool { return strings.EqualFold(e.Inserted, "s") }))]
	from, to := max(0, e.Offset-24), min(len(before), e.Offset+40)
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
	s.out.Samples = append(s.out.Samples, Sample{Where: where, Before: string(before[from:to]), After: after + string(before[p:to])})
}

// files reads the code that writes pages. What it names is for a person.
func (s *survey) files() error {
	if s.out.Kind == Lengths {
		return nil // files hold no serialized values
	}
	for _, dir := range s.job.File.Files {
		s.job.Progress.At("reading files in "+dir, 0, 0)
		skipped, err := files.Walk(s.job.File.Path(dir), func(path string, b []byte) error {
			if !reference.MayHave(b) {
				return nil
			}
			rel, err := filepath.Rel(s.job.File.Dir, path)
			if err != nil {
				rel = path
			}
			var found []rewrite.Finding
			s.rules.Rewritten = func(f rewrite.Finding) { f.Reason = rewrite.InFile; found = append(found, f) }
			res := s.rules.Text(b)
			s.rules.Rewritten = nil
			found = append(found, res.Left...)
			slices.SortStableFunc(found, func(a, b rewrite.Finding) int { return a.Offset - b.Offset })
			for _, f := range found {
				l := sheet.Left{Reason: f.Reason, File: rel, Line: files.Line(b, f.Offset), Host: f.Host, URL: f.URL, Count: 1}
				if err := s.left(l); err != nil {
					return err
				}
			}
			return nil
		})
		s.out.Skipped = append(s.out.Skipped, skipped...)
		if errors.Is(err, fs.ErrNotExist) {
			return misuse(nil, "the folder "+dir+" named under files in the site file is not there", "mend files in the site file")
		}
		if err != nil {
			return world(err, "reading files in "+dir, "look at the folder; then run the same command again")
		}
	}
	return nil
}
