// Package judge decides what becomes of the values of one row, whether it comes from a database or from a dump.
package judge

import (
	"fmt"
	"slices"
	"unicode/utf8"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
	"trimlantern/core/text"
	"trimlantern/outside/database"
	"trimlantern/outside/system"
)

// Judge decides over rows, whether they come from a database or from a dump.
type Judge struct {
	Rules  *rewrite.Rules
	System *system.System
	Labels bool                      // rows that change are called by name too, not only those with something left
	Lean   bool                      // nobody asks for what a value is afterwards
	Wants  func(rewrite.Reason) bool // whether the label of a row left for that reason is needed; nil: always
	out    []Outcome                 // memory for the next row

	// For, where not nil, returns the rules for a column of the row that is judged, whose values get returns; nil: Rules.
	For func(column string, get func(column string) string) *rewrite.Rules

	// Where not nil: again reads a value in the next other way, for one whose lengths do not fit; first returns
	// to the first way.
	Again func(i int) ([]byte, bool)
	First func(i int)

	// Sealable, where not nil, reports whether a column may be set because it holds a digest of another one: not if it
	// tells rows apart. Nil: none may.
	Sealable func(i int) bool

	// Size, where not nil, returns about how long a value is, without reading it.
	Size func(i int) int
}

// Outcome is what becomes of one value of a row.
type Outcome struct {
	Column     int
	Edits      []rewrite.Edit // none: the value stays
	After      []byte         // nil where the judge is lean
	References int
	Edited     int // texts that were put in the place of others
	Hosts      []rewrite.HostCount
	Seals      []Seal        // columns of the row that go with it: what is derived from the value
	Safe       bool          // its row is a cached copy that may be removed
	Left       []change.Left // without table, key, column and label
}

// Seal is a column that is derived from a value, as it is to be with it.
type Seal struct {
	Column int
	Edits  []rewrite.Edit
	After  []byte
}

// Row decides over one row of a table, which the system description knows as short. value
// returns a column's value; maybe, where not nil, is a first look at whether it can
// hold a reference. keyed says that the row can be found again;
// refuse, where not nil, says why a column is to be left. What it returns is gone
// with the next row.
func (g *Judge) Row(short string, columns []database.Column, value func(i int) ([]byte, bool), maybe func(i int) bool, keyed bool, refuse func(i int) rewrite.Reason) (label string, out []Outcome, err error) {
	get := func(column string) string {
		for i, c := range columns {
			if c.Name == column {
				v, _ := value(i) // NULL is no name
				return string(v)
			}
		}
		return ""
	}
	out = g.out[:0]
	defer func() { g.out = out }()
	kept, cached, safe, asked := false, false, false, false
	for i, c := range columns {
		if maybe != nil && !maybe(i) {
			continue
		}
		v, ok := value(i)
		if !ok {
			continue
		}
		rules := g.Rules
		if g.For != nil {
			if r := g.For(c.Name, get); r != nil {
				rules = r
			}
		}
		v, res := g.value(rules, i, v)
		if len(res.Edits) == 0 && len(res.Left) == 0 {
			continue
		}
		if !asked {
			cached, safe = g.System.IsCache(short, get)
			kept, asked = g.System.IsKeptRow(short, get), true
		}
		o := Outcome{Column: i}
		whole := g.whole(short, c, kept, cached, keyed)
		if whole == "" && refuse != nil {
			whole = refuse(i)
		}
		o.Safe = whole == rewrite.Cached && safe
		o.References, o.Edited = res.References, res.Edited
		if whole != "" && res.References > 0 {
			o.Left = append(o.Left, change.Left{Reason: whole, Count: res.References})
		}
		if whole != rewrite.Identifier && whole != rewrite.Cached && whole != rewrite.Unchanging && whole != rewrite.NotChosen {
			for _, f := range res.Left {
				l := change.Left{Reason: f.Reason, Host: f.Host, URL: f.URL, Path: f.Path, Note: f.Note, Count: 1}
				if f.Host != "" {
					l.Use = f.Use.String()
				}
				o.Left = append(o.Left, l)
			}
		}
		if len(res.Edits) > 0 && whole == "" {
			if err := g.edited(&o, row{short, columns, value, refuse}, v, res); err != nil {
				return label, nil, fmt.Errorf("column %s: %w", c.Name, err)
			}
		}
		out = append(out, o)
	}
	if lb, ok := g.System.LabelOf(short); ok && slices.ContainsFunc(out, g.labelled) {
		if v := get(lb.Column); v != "" {
			label = lb.Word + " " + text.Show(v)
		}
	}
	return label, out, nil
}

// row is what is known of a row while one of its values is judged.
type row struct {
	short   string
	columns []database.Column
	value   func(i int) ([]byte, bool)
	refuse  func(i int) rewrite.Reason
}

// edited makes the edits of a value its outcome, unless something around it would stop fitting: the column's width, or
// another column that is derived from it.
func (g *Judge) edited(o *Outcome, r row, v []byte, res rewrite.Result) (err error) {
	c := r.columns[o.Column]
	size := int64(len(v))
	for _, e := range res.Edits {
		size += int64(len(e.Inserted) - len(e.Removed))
	}
	if !g.Lean || c.MaxChars > 0 && size > c.MaxChars {
		if o.After, err = rewrite.Apply(v, res.Edits); err != nil {
			return err
		}
	}
	seals, torn, err := g.beside(r, o.Column, v, res.Edits)
	if err != nil {
		return err
	}
	switch note := Outgrows(c, size, o.After); {
	case note != "":
		o.Left = append(o.Left, change.Left{Reason: rewrite.TooLong, Note: note, Count: res.References})
	case torn != "":
		o.Left = append(o.Left, change.Left{Reason: rewrite.Protected, Note: torn, Count: res.References})
	default:
		o.Edits, o.Hosts, o.Seals = res.Edits, res.Hosts, seals
	}
	return nil
}

// value judges a value, read in the way in which its lengths fit.
func (g *Judge) value(rules *rewrite.Rules, i int, v []byte) ([]byte, rewrite.Result) {
	res := rules.Value(v)
	if g.Again == nil || !IsUnsound(res) {
		return v, res
	}
	for other, ok := g.Again(i); ok; other, ok = g.Again(i) {
		if r := rules.Value(other); !IsUnsound(r) && (r.References > 0 || len(r.Left) > 0) {
			return other, r
		}
	}
	g.First(i)
	return v, res
}

// IsUnsound reports whether a value could not be read: it may be written in another charset. One that was read and cannot
// be sealed again is not: in another charset the length that protects it would count for nothing.
func IsUnsound(r rewrite.Result) bool {
	return slices.ContainsFunc(r.Left, func(f rewrite.Finding) bool { return f.Reason == rewrite.Unsound })
}

// labelled reports whether the label of a row is asked for.
func (g *Judge) labelled(o Outcome) bool {
	return g.Labels || slices.ContainsFunc(o.Left, func(l change.Left) bool { return g.Wants == nil || g.Wants(l.Reason) })
}

// whole says why all of a value is left, whatever it holds, or "".
func (g *Judge) whole(short string, c database.Column, kept, cached, keyed bool) rewrite.Reason {
	switch {
	case kept:
		return rewrite.Unchanging
	case g.System.IsIdentifier(short, c.Name):
		return rewrite.Identifier
	case cached:
		return rewrite.Cached
	case c.Kind == database.List:
		return rewrite.List
	case !keyed:
		return rewrite.NoKey
	}
	return ""
}

// Outgrows says why a value of size bytes does not fit its column, or "". after is
// asked for only where there are more bytes than the column holds characters.
func Outgrows(c database.Column, size int64, after []byte) string {
	switch {
	case c.MaxChars > 0 && size > c.MaxChars && int64(utf8.RuneCount(after)) > c.MaxChars:
		return fmt.Sprintf("%d characters, and the column holds %d", utf8.RuneCount(after), c.MaxChars)
	case c.MaxBytes > 0 && size > c.MaxBytes:
		return fmt.Sprintf("%d bytes, and the column holds %d", size, c.MaxBytes)
	}
	return ""
}
