package decide

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"trimlantern/core/change"
	"trimlantern/core/envelope"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/sitefile"
	"trimlantern/work"
	"trimlantern/work/preview"
)

// MaxText bounds a text that is edited, in bytes.
const MaxText = 16 << 20

// Edit lets the owner edit the stored texts that an item is about, decoded: of a value that cannot be read, the value
// as a whole. edit returns the new text; it is asked once for places that hold the same text, and for the places that are
// named one by one, or, with once, not for those. The site file keeps the decisions and the logbook the texts; the next preview
// seals them in whatever encloses them. What cannot be edited is named.
func Edit(ctx context.Context, j *work.Job, what string, once bool, edit func(text []byte) ([]byte, error)) (*Decision, error) {
	i, err := item(j, what)
	if err != nil {
		return nil, err
	}
	if i == nil {
		return nil, work.BadUse(nil, what+" is not the number of an item", "trimlantern show lists the items, with numbers")
	}
	e := editing{j: j, ask: edit, most: maxItemPlaces, answers: map[string][]byte{}, done: map[string]bool{}}
	d := &Decision{Number: i.Number, Finding: "edited", What: strings.Join(i.Places, ", "), Path: j.File.Path}
	if once {
		e.most = 1
	}
	var first error
	for k := range i.lefts {
		entry, err := e.place(ctx, &i.lefts[k])
		if first == nil {
			first = err
		}
		where := placeWords(&i.lefts[k])
		switch fault := (*work.Fault)(nil); {
		case errors.As(err, &fault) && fault.Code == work.Misuse && !e.failed:
			d.Not = append(d.Not, where+": "+strings.TrimPrefix(fault.What, where+" "))
		case err != nil:
			return nil, err
		case entry != nil:
			d.About = append(d.About, entry.Cell)
		}
	}
	if len(d.About) == 0 {
		return nil, first
	}
	if more := i.Stored - len(i.lefts); more > 0 {
		d.Not = append(d.Not, fmt.Sprintf("%d more places: the list of them is full", more))
	}
	if d.Because = fmt.Sprintf("%d bytes, before %d", e.now, e.was); len(d.About) > 1 {
		d.Because = fmt.Sprintf("%d places", len(d.About))
	}
	return d, nil
}

// editing is the way through the places of an item.
type editing struct {
	j       *work.Job
	ask     func(text []byte) ([]byte, error)
	most    int               // for how many texts it is asked
	answers map[string][]byte // the new texts by the old ones
	done    map[string]bool   // cells and paths that were edited
	was     int               // how long the last text was
	now     int               // and is
	failed  bool              // the editor, or what it gave back, is no good for any place
}

// place edits one place of an item; nil: it was edited as another one.
func (e *editing) place(ctx context.Context, l *change.Left) (*sitefile.Edited, error) {
	j := e.j
	switch {
	case l.File != "":
		return nil, work.BadUse(nil, placeWords(l)+" is in a file", "edit the file itself, then run trimlantern preview")
	case l.Column == "" || len(l.Key) == 0:
		return nil, work.BadUse(nil, "the item is not about one stored text", "trimlantern show names what can be decided about it")
	}
	cell, err := readCell(ctx, j, l)
	if err != nil {
		return nil, err
	}
	at, text := textOf(j, cell, l.Path)
	if id := cellOf(l) + "\x00" + at; e.done[id] {
		return nil, nil
	} else if e.done[id] = true; !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0 {
		return nil, work.BadUse(nil, "the value is not text", "change it in the system itself")
	}
	by, asked := e.answers[string(text)]
	if !asked {
		if len(e.answers) == e.most {
			return nil, work.BadUse(nil, "it holds another text", "make a new preview after this one is carried out, and edit what it names then")
		}
		if by, err = e.ask(bytes.Clone(text)); err != nil {
			e.failed = true
			return nil, err
		}
		if !bytes.HasSuffix(text, []byte("\n")) {
			by = bytes.TrimSuffix(by, []byte("\n")) // which editors add
		}
		e.answers[string(text)] = by
	}
	if bytes.Equal(by, text) {
		return nil, work.BadUse(nil, "the text is as it was: nothing was decided", "change it in the editor and save it")
	}
	if err := sound(j, cell, at, by); err != nil {
		return nil, err
	}
	e.was, e.now = len(text), len(by)
	entry := sitefile.Edited{Cell: cellOf(l), Path: at, Was: change.Hash(text), Text: change.Hash(by), Date: j.Today()}
	if err := j.Book.KeepCopy(entry.Text, by); err != nil {
		e.failed = true
		return nil, work.Failed(err, "the text cannot be kept in the logbook", "free some disk space and make the logbook writable")
	}
	if err := j.File.Drop("edited", func(n *yaml.Node) bool { return sameEdit(n, entry.Cell, at) }); err != nil {
		e.failed = true
		return nil, j.DecisionFault(err)
	}
	if err := j.File.Add("edited", entry); err != nil {
		e.failed = true
		return nil, j.DecisionFault(err)
	}
	return &entry, nil
}

// cellOf names the cell that a finding is in, as decisions do.
func cellOf(l *change.Left) string { return work.CellPlace(l.Table, l.Column, l.Key) }

// sameEdit reports whether an entry of the site file is an edit of the text at a path of a cell.
func sameEdit(entry *yaml.Node, cell, path string) bool {
	var e sitefile.Edited
	return entry.Decode(&e) == nil && e.Cell == cell && e.Path == path
}

// readCell reads the value that a finding of preview is in, as it is now.
func readCell(ctx context.Context, j *work.Job, l *change.Left) ([]byte, error) {
	defer j.Progress.End()
	db, tables, err := j.Open(ctx, true)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	gone := work.BadUse(nil, "the row is gone: "+cellOf(l), "make a new preview: trimlantern preview")
	table, ok := database.Find(tables, l.Table)
	if !ok {
		return nil, gone
	}
	i := slices.IndexFunc(table.Columns, func(c database.Column) bool { return c.Name == l.Column })
	if i < 0 {
		return nil, gone
	}
	want := change.RowID(l.Key)
	var cell []byte
	j.Progress.At("reading "+table.Name, 0, 0)
	err = db.Candidates(ctx, table, database.Everything, func(row database.Row) error {
		if change.RowID(change.Values(row.Key)) == want {
			cell = append([]byte{}, row.Values[i].Bytes...)
		}
		return nil
	}, func(int64) {})
	if err != nil {
		return nil, preview.TableFault(err, table)
	}
	if cell == nil {
		return nil, gone
	}
	return cell, nil
}

// textOf returns the text inside a value that stands at a path, and the path; where none does, or several do, the whole
// value.
func textOf(j *work.Job, cell []byte, path string) (at string, text []byte) {
	if path == "" {
		return "", cell
	}
	n := 0
	rules := &rewrite.Rules{Site: j.Site, Hashed: j.Hashed(), Edit: func(p string, b []byte) ([]byte, bool) {
		if p == path {
			n++
			text = bytes.Clone(b)
		}
		return nil, false
	}}
	rules.Value(cell)
	if n != 1 {
		return "", cell
	}
	return path, text
}

// sound refuses a new text with which the value could not be read or sealed again.
func sound(j *work.Job, cell []byte, at string, by []byte) error {
	rules := &rewrite.Rules{Site: j.Site, Hashed: j.Hashed(), Edit: func(p string, _ []byte) ([]byte, bool) { return by, p == at }}
	res := rules.Value(cell)
	after, err := rewrite.Apply(cell, res.Edits)
	if err != nil || res.Edited != 1 || len(res.Edits) == 0 {
		return work.BadUse(err, "what encloses the text cannot be sealed with the new one", "leave out letters that it does not have, or edit it in the system itself")
	}
	if envelope.LooksSerialized(after) {
		s, err := envelope.OpenPHP(after)
		if err != nil {
			return work.BadUse(err, "the new text is a serialized value that cannot be read", "correct it: a length counts bytes")
		}
		s.Done()
	}
	return nil
}

// Relative decides that the site's own references at a place are written from the path on.
func Relative(ctx context.Context, j *work.Job, place string) (*Decision, error) {
	pattern := place
	for _, kind := range []string{preview.SettingPlace, preview.FilePlace} {
		pattern = strings.TrimPrefix(pattern, kind)
	}
	if _, err := path.Match(pattern, ""); err != nil || pattern == "" {
		return nil, work.BadUse(nil, fmt.Sprintf("%q is not a place", place), "write TABLE, TABLE.COLUMN, setting:NAME or file:FILE")
	}
	if slices.Contains(j.File.Relative, place) {
		return nil, work.BadUse(nil, place+" is decided already", "take it back: trimlantern decide forget "+place)
	}
	if pattern == place {
		if err := relativeTable(ctx, j, place); err != nil {
			return nil, err
		}
	}
	if err := j.File.Add("relative", place); err != nil {
		return nil, j.DecisionFault(err)
	}
	return &Decision{Finding: "relative", About: []string{place}, What: place, Because: "from the path on, where pages read them", Path: j.File.Path}, nil
}

// relativeTable refuses a place that no table has, and one whose text is read elsewhere than on the site's pages.
func relativeTable(ctx context.Context, j *work.Job, place string) error {
	defer j.Progress.End()
	db, tables, err := j.Open(ctx, true)
	if err != nil {
		return err
	}
	db.Close()
	fits := 0
	for _, t := range tables {
		in := j.Fits(place, t.Name) || slices.ContainsFunc(t.Columns, func(c database.Column) bool {
			return strings.Contains(place, ".") && j.FitsColumn(place, t.Name, c.Name)
		})
		if !in {
			continue
		}
		if fits++; preview.IsPages(j, j.Short(t.Name)) {
			return work.BadUse(nil, t.Name+" holds pages: their text goes into feeds and mails too, where an address without a host leads nowhere", "leave it: its references become secure. Name a setting (setting:NAME), another table, or files")
		}
	}
	if fits == 0 {
		return work.BadUse(nil, "no table or column matches "+place, "write TABLE or TABLE.COLUMN as the database has it; a setting is setting:NAME, a file file:FILE")
	}
	return nil
}

// forgetPlace takes back what was decided about a place: that its references are relative, or what a text in it is. An
// edit may be named by the number of its item too.
func forgetPlace(j *work.Job, what string, d *Decision) error {
	cell, path := what, ""
	if _, err := strconv.Atoi(what); err == nil { // a URL may stand in a cell whose text is edited for another reason
		if i, err := item(j, what); err == nil && i != nil && i.left.Column != "" {
			cell, path = cellOf(&i.left), i.left.Path
		}
	}
	gone := func(list string, is func(*yaml.Node) (about string, ok bool)) error {
		err := j.File.Drop(list, func(entry *yaml.Node) bool {
			about, ok := is(entry)
			if ok {
				d.About = append(d.About, about)
			}
			return ok
		})
		if err != nil {
			return j.DecisionFault(err)
		}
		return nil
	}
	if err := gone("relative", func(entry *yaml.Node) (string, bool) { return entry.Value, entry.Value == what }); err != nil {
		return err
	}
	return gone("edited", func(entry *yaml.Node) (string, bool) {
		var e sitefile.Edited
		err := entry.Decode(&e)
		return e.Cell, err == nil && e.Cell == cell && (path == "" || e.Path == "" || e.Path == path)
	})
}

// Decided lists what the site file holds of decisions.
type Decided struct {
	Site      string     `json:"site"`
	Path      string     `json:"path"` // of the site file
	Decisions []Decision `json:"decisions"`
}

// Code is the exit code that it comes to.
func (*Decided) Code() int { return work.Clean }

// Decisions returns what was decided, by the kind of decision.
func Decisions(j *work.Job) *Decided {
	out := &Decided{Site: j.Site.String(), Path: j.File.Path, Decisions: []Decision{}}
	add := func(finding, what, because string, about ...string) {
		out.Decisions = append(out.Decisions, Decision{Finding: finding, About: append([]string{}, about...), What: what, Because: because, Path: j.File.Path})
	}
	for _, host := range slices.Sorted(maps.Keys(j.File.Hosts)) {
		add("host", host, j.File.Hosts[host], host)
	}
	for _, r := range j.File.Replaced {
		add("replaced", r.From, r.To, r.From)
	}
	for _, p := range j.File.Relative {
		add("relative", p, "", p)
	}
	for _, e := range j.File.Edited {
		add("edited", strings.TrimSpace(e.Cell+" "+e.Path), e.Date, e.Cell)
	}
	for _, a := range j.File.Accepted {
		add(a.Finding, cmp.Or(strings.Join(a.About, ", "), a.Finding), a.Because, a.About...)
	}
	return out
}
