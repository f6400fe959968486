// Package show lists everything that a sheet, a scan or a journal holds, filtered.
package show

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"trimlantern/core/change"
	"trimlantern/core/mixed"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/files"
	"trimlantern/work"
	"trimlantern/work/findings"
	"trimlantern/work/run"
)

// Pick says which of all lines show lists. What is empty lets everything through.
type Pick struct {
	Tables  []string // patterns
	Hosts   []string
	Reasons []string // of what was left, or classes of what a scan found
	Pages   []string // patterns of the paths of pages
	Files   []string // patterns
}

// Row is one numbered line of show: a change, something that was left, a finding of a scan, an entry of a
// journal. What does not apply is empty.
type Row struct {
	Number int         `json:"number"`
	Kind   string      `json:"kind"` // "change", "copy", "file", "cached row", "left", "finding", "skipped", "folder"
	Table  string      `json:"table,omitempty"`
	Key    []string    `json:"key,omitempty"`
	Column string      `json:"column,omitempty"`
	Label  string      `json:"label,omitempty"`
	File   string      `json:"file,omitempty"`
	Line   int         `json:"line,omitempty"`
	Path   string      `json:"path,omitempty"` // inside the value
	Reason string      `json:"reason,omitempty"`
	Host   string      `json:"host,omitempty"`
	URL    string      `json:"url,omitempty"`
	Class  mixed.Class `json:"class,omitempty"`
	Page   string      `json:"page,omitempty"`
	By     string      `json:"by,omitempty"`
	Note   string      `json:"note,omitempty"`
	Count  int         `json:"count"` // references
	Edits  []Edit      `json:"edits"`
}

// Edit is one edit with the text around it, before and after.
type Edit struct {
	Before string `json:"before"`
	After  string `json:"after"`
}

// showing numbers the lines and lets the chosen ones through.
type showing struct {
	job   *work.Job
	pick  Pick
	visit func(Row) error
	n     int
}

func fitsAny(patterns []string, names ...string) bool {
	if len(patterns) == 0 {
		return true
	}
	for _, p := range patterns {
		for _, n := range names {
			if ok, err := path.Match(p, n); n != "" && (p == n || ok && err == nil) {
				return true
			}
		}
	}
	return false
}

// put numbers a line, and hands it on where it was chosen. hosts are those of its references.
func (s *showing) put(l Row, hosts ...string) error {
	s.n++
	l.Number = s.n
	if l.Host != "" {
		hosts = append(hosts, l.Host)
	}
	if len(s.pick.Tables) > 0 && (l.Table == "" || !slices.ContainsFunc(s.pick.Tables, func(p string) bool { return s.job.Fits(p, l.Table) })) {
		return nil
	}
	if !fitsAny(s.pick.Files, l.File, path.Base(l.File)) || !fitsAny(s.pick.Reasons, l.Reason, string(l.Class)) || !fitsAny(s.pick.Hosts, hosts...) || !s.onPage(l.Page) {
		return nil
	}
	if l.Edits == nil {
		l.Edits = []Edit{}
	}
	return s.visit(l)
}

// onPage reports whether a page's path fits a pattern.
func (s *showing) onPage(page string) bool {
	_, rest, _ := strings.Cut(page, "://")
	at := strings.IndexByte(rest, '/')
	return len(s.pick.Pages) == 0 || page != "" && fitsAny(s.pick.Pages, page, rest[max(0, at):])
}

// snippet returns an edit with the text around it: as far as the URL goes, and a little more.
func snippet(before []byte, edits []rewrite.Edit) (list []Edit) {
	const around = 40
	stop := func(c byte) bool { return c <= ' ' || strings.IndexByte(`"'<>`, c) >= 0 }
	for i := 0; i < len(edits); {
		from, to := edits[i].Offset, edits[i].Offset+len(edits[i].Removed)
		for from > 0 && !stop(before[from-1]) && edits[i].Offset-from < 200 {
			from--
		}
		grow := func() {
			for end := to; to < len(before) && !stop(before[to]) && to-end < 200; {
				to++
			}
		}
		grow()
		last := i
		for last+1 < len(edits) && edits[last+1].Offset <= to+around && to-from < 400 { // a length and its URL, or a URL and its port
			last++
			to = max(to, edits[last].Offset+len(edits[last].Removed))
			grow()
		}
		from, to = max(0, from-around), min(len(before), to+around)
		if i > 0 {
			from = max(from, edits[i-1].Offset+len(edits[i-1].Removed))
		}
		if last+1 < len(edits) {
			to = min(to, edits[last+1].Offset)
		}
		after := bytes.Buffer{}
		p := from
		for _, e := range edits[i : last+1] {
			after.Write(before[p:e.Offset])
			after.WriteString(e.Inserted)
			p = e.Offset + len(e.Removed)
		}
		after.Write(before[p:to])
		list = append(list, Edit{legible(before[from:to]), legible(after.Bytes())})
		i = last + 1
	}
	return list
}

// legible returns bytes as a text: what is no UTF-8 at the ends, where a snippet cuts, goes.
func legible(b []byte) string {
	for len(b) > 0 && !utf8.RuneStart(b[0]) {
		b = b[1:]
	}
	return strings.ToValidUTF8(string(b), "�")
}

func keyWords(key []change.Value) (words []string) {
	for _, k := range key {
		words = append(words, legible(k))
	}
	return words
}

func hostNames(hosts []rewrite.HostCount) (names []string) {
	for _, h := range hosts {
		names = append(names, h.Host)
	}
	return names
}

// Changes visits every change of a sheet, the newest unless id names one. What stands around each edit
// comes from the journal where the sheet was carried out, and from the database and the files where not: a
// value that changed since has no edits, and a note.
func Changes(ctx context.Context, j *work.Job, id string, pick Pick, visit func(Row) error) (sheetID string, err error) {
	defer j.Progress.End()
	if id, err = run.ChooseSheet(j, id); err != nil {
		return "", err
	}
	s := &showing{job: j, pick: pick, visit: visit}
	runs, err := j.Runs()
	if err != nil {
		return id, err
	}
	for _, r := range runs {
		if r.Header.Sheet == id {
			_, err := journal(j, r.ID, s)
			return id, err
		}
	}
	f, err := j.Book.OpenSheet(id)
	if err != nil {
		return id, work.BadUse(err, "the change sheet "+id, "make a new one: trimlantern preview")
	}
	defer f.Close()
	r, err := change.NewReader(f)
	if err != nil {
		return id, work.BadUse(err, "the change sheet "+id, "make a new one: trimlantern preview")
	}
	defer r.Close()
	t := &cellTexts{job: j, ctx: ctx, show: s}
	defer t.close()
	err = r.Each(change.Visit{
		Copy: func(c *change.Copy) error {
			return s.put(Row{Kind: "copy", File: c.Path, URL: c.From, By: c.URL, Host: work.HostOf(c.From)})
		},
		Cell: func(c *change.Cell) error { return t.add(*c) },
		Drop: func(d *change.Drop) error {
			if err := t.flush(); err != nil {
				return err
			}
			return s.put(Row{Kind: "cached row", Table: d.Table, Key: keyWords(d.Key), Label: d.Label, Count: d.References})
		},
		Source: func(f *change.Source) error {
			if err := t.flush(); err != nil {
				return err
			}
			return s.source(f)
		},
	})
	if err == nil {
		err = t.flush()
	}
	return id, asShown(err, "the change sheet "+id)
}

// asShown passes faults and the errors of whoever is shown on, and names a sheet or journal that is broken.
func asShown(err error, what string) error {
	var f *work.Fault
	if err == nil || errors.As(err, &f) {
		return err
	}
	return work.BadUse(err, what, "make a new one: trimlantern preview")
}

// source shows the change of a file, with what stands there now.
func (s *showing) source(f *change.Source) error {
	l := Row{Kind: "file", File: f.Path, Count: f.References}
	b, err := readFile(s.job, f.Path)
	if err == nil && change.Hash(b) == f.Before {
		edits := make([]rewrite.Edit, len(f.Edits))
		for i, e := range f.Edits {
			edits[i] = rewrite.Edit{Offset: e.At, Removed: string(e.Out), Inserted: string(e.In)}
		}
		l.Edits = snippet(b, edits)
		if len(edits) > 0 {
			l.Line = files.Line(b, edits[0].Offset)
		}
	} else {
		l.Note = "changed since the preview"
	}
	return s.put(l, hostNames(f.Hosts)...)
}

func readFile(j *work.Job, name string) ([]byte, error) {
	in := j.DeclaredFiles()
	defer in.Close()
	tree, inside, err := in.Of(filepath.Clean(j.File.Abs(filepath.FromSlash(name))))
	if err != nil {
		return nil, err
	}
	b, _, err := tree.Read(inside, files.MaxSize)
	return b, err
}

// cellTexts reads the values that cells of a sheet are of, many at once.
type cellTexts struct {
	job    *work.Job
	ctx    context.Context
	show   *showing
	cells  []change.Cell // of one table
	db     database.Database
	tables []database.Table
}

// maxCellTexts is how many cells are read at once.
const maxCellTexts = 100_000

func (t *cellTexts) add(c change.Cell) error {
	if n := len(t.cells); n > 0 && (n >= maxCellTexts || t.cells[0].Table != c.Table) {
		if err := t.flush(); err != nil {
			return err
		}
	}
	// The reader uses its memory again.
	key := make([]change.Value, len(c.Key))
	for i := range key {
		key[i] = bytes.Clone(c.Key[i])
	}
	edits := make([]change.Edit, len(c.Edits))
	for i, e := range c.Edits {
		edits[i] = change.Edit{At: e.At, Out: bytes.Clone(e.Out), In: bytes.Clone(e.In)}
	}
	c.Key, c.Edits, c.Hosts = key, edits, slices.Clone(c.Hosts)
	t.cells = append(t.cells, c)
	return nil
}

func (t *cellTexts) close() {
	if t.db != nil {
		t.db.Close()
	}
}

// flush shows the cells that wait.
func (t *cellTexts) flush() error {
	if len(t.cells) == 0 {
		return nil
	}
	if t.db == nil {
		var err error
		if t.db, t.tables, err = t.job.Open(t.ctx, true); err != nil {
			return err
		}
	}
	cells := t.cells
	t.cells = nil
	lines := make([]Row, len(cells))
	byRow := map[string][]int{}
	for i, c := range cells {
		lines[i] = Row{Kind: "change", Table: c.Table, Key: keyWords(c.Key), Column: c.Column, Count: c.References, Note: "changed since the preview"}
		byRow[change.RowID(c.Key)] = append(byRow[change.RowID(c.Key)], i)
	}
	if table, ok := database.Find(t.tables, cells[0].Table); ok {
		labels, hasLabel := t.job.System.LabelOf(t.job.Short(table.Name))
		err := t.db.Candidates(t.ctx, table, database.Everything, func(row database.Row) error {
			for _, i := range byRow[change.RowID(change.Values(row.Key))] {
				c := &cells[i]
				for k, column := range table.Columns {
					if hasLabel && column.Name == labels.Column {
						lines[i].Label = labels.Word + " " + legible(row.Values[k].Bytes)
					}
					if column.Name == c.Column && change.Hash(row.Values[k].Bytes) == c.Before {
						lines[i].Note, lines[i].Edits = "", snippet(row.Values[k].Bytes, c.Rewrites())
					}
				}
			}
			return nil
		}, func(int64) {})
		if err != nil {
			return work.Failed(err, "reading table "+table.Name, "check the database server's log, then run the same command again")
		}
	}
	for i := range lines {
		if err := t.show.put(lines[i], hostNames(cells[i].Hosts)...); err != nil {
			return err
		}
	}
	return nil
}

// Left visits everything that a preview left alone; see ShowChanges for id.
func Left(_ context.Context, j *work.Job, id string, pick Pick, visit func(Row) error) (sheetID string, err error) {
	if id, err = run.ChooseSheet(j, id); err != nil {
		return "", err
	}
	f, err := j.Book.OpenSheet(id)
	if err != nil {
		return id, work.BadUse(err, "the change sheet "+id, "make a new one: trimlantern preview")
	}
	defer f.Close()
	s := &showing{job: j, pick: pick, visit: visit}
	var failed error
	err = change.EachLeft(f, func(l *change.Left) {
		if failed == nil {
			failed = s.put(Row{Kind: "left", Table: l.Table, Key: keyWords(l.Key), Column: l.Column, Label: l.Label, File: l.File, Line: l.Line, Path: l.Path,
				Reason: string(l.Reason), Host: l.Host, URL: l.URL, Note: l.Note, Count: l.Count})
		}
	})
	if failed != nil {
		return id, failed
	}
	return id, asShown(err, "the change sheet "+id)
}

// Journal visits everything that an apply did; the newest journal, unless id names one.
func Journal(_ context.Context, j *work.Job, id string, pick Pick, visit func(Row) error) (journalID string, err error) {
	ids, err := j.Book.Journals()
	if err != nil {
		return "", work.BookFault(err)
	}
	if id == "" && len(ids) > 0 {
		id = ids[len(ids)-1]
	}
	if !slices.Contains(ids, id) {
		what := "the logbook holds no journal: nothing was changed yet"
		if id != "" {
			what = "the logbook holds no journal " + id
		}
		return "", work.BadUse(nil, what, "trimlantern history lists what is there")
	}
	return journal(j, id, &showing{job: j, pick: pick, visit: visit})
}

func journal(j *work.Job, id string, s *showing) (string, error) {
	var failed error
	_, err := j.ReadState(id, func(b change.Block) error {
		for _, r := range b.Records {
			if failed == nil {
				failed = s.record(r)
			}
		}
		return failed
	})
	if failed != nil {
		return id, failed
	}
	if err != nil {
		return id, work.Failed(err, "the journal "+id+" cannot be read", "keep the file; put the database back from your backup if in doubt")
	}
	return id, nil
}

// record shows one record of a journal.
func (s *showing) record(r change.Record) error {
	switch {
	case r.Entry != nil:
		e := r.Entry
		edits := make([]rewrite.Edit, len(e.Edits))
		for i, one := range e.Edits {
			edits[i] = rewrite.Edit{Offset: one.At, Removed: string(one.Out), Inserted: string(one.In)}
		}
		return s.put(Row{Kind: "change", Table: e.Table, Key: keyWords(e.Key), Column: e.Column, Count: len(e.Edits), Edits: snippet(e.Before, edits)})
	case r.Skip != nil:
		return s.put(Row{Kind: "skipped", Table: r.Skip.Table, Key: keyWords(r.Skip.Key), Column: r.Skip.Column, Note: r.Skip.Why})
	case r.Refused != nil:
		return s.put(Row{Kind: "skipped", Table: r.Refused.Table, Key: keyWords(r.Refused.Key), Column: r.Refused.Column, Note: r.Refused.Why})
	case r.Dropped != nil:
		return s.put(Row{Kind: "cached row", Table: r.Dropped.Table, Key: keyWords(r.Dropped.Key)})
	case r.File != nil:
		what := "file"
		if r.File.Missing {
			what = "copy"
		}
		return s.put(Row{Kind: what, File: s.job.Relative(r.File.Path)})
	case r.Moved != nil:
		return s.put(Row{Kind: "folder", File: s.job.Relative(r.Moved.From), Note: fmt.Sprintf("its files are in %s", r.Moved.To)})
	}
	return nil
}

// Scan visits every finding of a scan, page by page; the last one, unless id names one.
func Scan(_ context.Context, j *work.Job, id string, pick Pick, visit func(Row) error) (scanID string, err error) {
	var scan *findings.Scan
	if id == "" {
		scan, err = findings.Last(j)
	} else {
		ids, lerr := j.Book.Scans()
		if lerr == nil && !slices.Contains(ids, id) {
			return "", work.BadUse(nil, "the logbook holds no scan "+id, "trimlantern history lists what is there")
		}
		scan, err = findings.Read(j, id)
	}
	if err != nil {
		return "", err
	}
	if scan == nil {
		return "", work.BadUse(nil, "there is no scan yet", "make one: trimlantern scan")
	}
	s := &showing{job: j, pick: pick, visit: visit}
	var failed error
	err = scan.EachPage(func(p findings.ScannedPage) error {
		for _, f := range p.Findings {
			if failed = s.put(Row{Kind: "finding", Class: f.Class, URL: f.URL, Host: work.HostOf(f.URL), Page: p.URL, By: f.By, Line: f.Line, Count: 1}); failed != nil {
				return failed
			}
		}
		return nil
	})
	if failed != nil {
		return scan.ID, failed
	}
	if err != nil {
		return scan.ID, work.Failed(err, "the pages of scan "+scan.ID+" cannot be read", "scan again: trimlantern scan")
	}
	return scan.ID, nil
}
