package system

import (
	"slices"
	"strconv"
	"strings"
)

// Seen is a table as an export shows it.
type Seen struct {
	Name    string
	Columns []string // empty where the export does not name them
	Width   int      // then how many values its rows have; 0: it has no rows
}

// Known is what a system description knows of a table.
type Known struct {
	Short   string   // its name in the system description
	Columns []string // its columns, where only the system description names them
	Blind   bool     // it holds permanent identifiers or caches, and nobody can tell in which of its columns
}

// Recognise tells which tables of an export are the system description's. They are told by their names and their
// columns: by a prefix that all tables of the system description have in common, or, of an export of some tables, each
// by itself. A table with other columns than the system description's is not known, whatever its name.
func (l *System) Recognise(tables []Seen) map[string]Known {
	names := make([]string, len(tables))
	for i, t := range tables {
		names[i] = t.Name
	}
	prefixes := l.Prefix(names)
	out := map[string]Known{}
	for _, t := range tables {
		if k, ok := l.recognise(t, prefixes); ok {
			out[t.Name] = k
		}
	}
	return out
}

func (l *System) recognise(t Seen, prefixes []string) (Known, bool) {
	for _, short := range l.Known() {
		before, ok := strings.CutSuffix(t.Name, short)
		if !ok {
			continue
		}
		family := slices.ContainsFunc(prefixes, func(p string) bool { return l.belongs(before, p) })
		alone := before == "" || strings.HasSuffix(before, "_")
		order := l.Columns[short]
		switch {
		case !family && !alone:
			continue
		case len(t.Columns) > 0 && family && len(l.needed(short)) == 0: // all of its rows are alike
			return Known{Short: short}, true
		case len(t.Columns) > 0:
			if has(t.Columns, l.needed(short)) && (family || len(order) > 0 && has(t.Columns, order)) {
				return Known{Short: short}, true
			}
		case len(order) > 0 && len(order) == t.Width:
			return Known{Short: short, Columns: order}, true
		case family && t.Width > 0 && l.isDelicate(short):
			return Known{Short: short, Blind: true}, true
		}
		return Known{}, false // a longer name that fits is the only one
	}
	return Known{}, false
}

// belongs reports whether what stands before a table's name is a prefix, or that of one site of several.
func (l *System) belongs(before, prefix string) bool {
	rest, ok := strings.CutPrefix(before, prefix)
	if !ok || rest == "" {
		return ok
	}
	number, ok := strings.CutSuffix(rest, "_")
	_, err := strconv.Atoi(number)
	return l.Sites != nil && ok && err == nil
}

// needed lists the columns of a table that a system description cannot do without.
func (l *System) needed(short string) (out []string) {
	for _, a := range l.Addresses {
		if a.Table == short {
			out = append(out, a.Column, a.Where)
		}
	}
	for _, c := range l.Identifiers {
		if c.Table == short {
			out = append(out, c.Column)
		}
	}
	for _, c := range l.Caches {
		if c.Table == short && c.Column != "" {
			out = append(out, c.Column)
		}
	}
	for _, lb := range l.Labels {
		if lb.Table == short {
			out = append(out, lb.Column)
		}
	}
	if s := l.Sites; s != nil && s.Table == short {
		out = append(out, s.ID, s.Host)
	}
	if len(out) == 0 {
		out = l.Columns[short]
	}
	return out
}

// isDelicate reports whether some columns of a table are not to be changed.
func (l *System) isDelicate(short string) bool {
	return slices.ContainsFunc(l.Identifiers, func(c Column) bool { return c.Table == short }) ||
		slices.ContainsFunc(l.Caches, func(c Cache) bool { return c.Table == short })
}

// has reports whether all wanted columns are there, and there are some.
func has(columns, wanted []string) bool {
	for _, w := range wanted {
		if !slices.ContainsFunc(columns, func(c string) bool { return strings.EqualFold(c, w) }) {
			return false
		}
	}
	return len(wanted) > 0
}
