package preview

import (
	"path"
	"strings"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/sitefile"
	"trimlantern/work"
)

// What a place begins with, in the site file's list relative, that is no table.
const (
	SettingPlace = "setting:" // a row that the system description has a label for, by its name
	FilePlace    = "file:"    // a file, by the end of its path
)

// decided are the owner's decisions about single places: texts that are edited, and places whose own references are
// written from the path on.
type decided struct {
	job      *work.Job
	rules    *rewrite.Rules
	relative rewrite.Rules // rules, but for that
	edits    map[string][]sitefile.Edited
	used     map[sitefile.Edited]bool

	table database.Table // the row that is judged is of this table
	key   [][]byte
	texts map[string][]byte // of edits, by their hashes
}

// newDecided returns the decisions of a site; nil where it has none.
func newDecided(j *work.Job, rules *rewrite.Rules) *decided {
	if len(j.File.Relative)+len(j.File.Edited) == 0 {
		return nil
	}
	d := &decided{job: j, rules: rules, relative: *rules, edits: map[string][]sitefile.Edited{}, used: map[sitefile.Edited]bool{}, texts: map[string][]byte{}}
	d.relative.Relative = true
	for _, e := range j.File.Edited {
		d.edits[e.Cell] = append(d.edits[e.Cell], e)
	}
	return d
}

// For returns the rules for a column of the row; nil: the usual ones.
func (d *decided) For(column string, get func(string) string) *rewrite.Rules {
	rules := (*rewrite.Rules)(nil)
	if d.isRelative(column, get) {
		rules = &d.relative
		rules.Verdict, rules.Rewritten = d.rules.Verdict, d.rules.Rewritten
	}
	if len(d.edits) == 0 {
		return rules
	}
	edits := d.edits[work.CellPlace(d.table.Name, column, change.Values(d.key))]
	if len(edits) == 0 {
		return rules
	}
	if rules == nil {
		rules = d.rules
	}
	own := *rules
	own.Edit = func(path string, b []byte) ([]byte, bool) {
		for _, e := range edits {
			if e.Path != path || change.Hash(b) != e.Was {
				continue
			}
			if text := d.text(e.Text); text != nil {
				d.used[e] = true
				return text, true
			}
		}
		return nil, false
	}
	return &own
}

// stale reports whether a finding is about a text that was edited by a decision, which fits no longer: somebody changed
// the text since, or the logbook keeps the new one no more.
func (d *decided) stale(l *change.Left) bool {
	for _, e := range d.edits[work.CellPlace(l.Table, l.Column, l.Key)] {
		if (e.Path == "" || e.Path == l.Path) && !d.used[e] {
			return true
		}
	}
	return false
}

// text returns a text that the logbook keeps; nil where it does so no more.
func (d *decided) text(hash string) []byte {
	b, ok := d.texts[hash]
	if !ok {
		b, _ = d.job.Book.Copy(hash) // then the value stays as it is, and is named
		d.texts[hash] = b
	}
	return b
}

// isRelative reports whether the own references of a column are written from the path on.
func (d *decided) isRelative(column string, get func(string) string) bool {
	site, short := d.job.Set(d.table.Name)
	if site > 1 || IsPages(d.job, short) { // the pages of a sister site have another host
		return false
	}
	for _, p := range d.job.File.Relative {
		switch {
		case strings.HasPrefix(p, FilePlace):
		case strings.HasPrefix(p, SettingPlace):
			if lb, ok := d.job.System.LabelOf(short); ok {
				if fits, err := path.Match(strings.TrimPrefix(p, SettingPlace), get(lb.Column)); fits && err == nil {
					return true
				}
			}
		case strings.Contains(p, "."):
			if d.job.FitsColumn(p, d.table.Name, column) {
				return true
			}
		case d.job.Fits(p, d.table.Name):
			return true
		}
	}
	return false
}

// IsPages reports whether the rows of a table, by its name in system descriptions, are pages: their text goes into feeds
// and mails too, where an address without a host leads nowhere.
func IsPages(j *work.Job, short string) bool {
	for _, p := range j.System.Pages {
		if p.Table == short {
			return true
		}
	}
	return false
}

// file returns the rules for a file.
func (d *decided) file(rel string) *rewrite.Rules {
	for _, p := range d.job.File.Relative {
		p, ok := strings.CutPrefix(p, FilePlace)
		if !ok {
			continue
		}
		for _, name := range []string{rel, path.Base(rel)} {
			if fits, err := path.Match(p, name); fits && err == nil {
				d.relative.Verdict, d.relative.Rewritten = d.rules.Verdict, d.rules.Rewritten
				return &d.relative
			}
		}
	}
	return d.rules
}
