package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"trimlantern/work"
)

// Systems shows all system descriptions, or one.
func (t *Text) Systems(r *work.Systems) {
	if r.One == nil {
		var rows [][]string
		for _, l := range r.All {
			rows = append(rows, []string{l.Name, t.clip(l.Title, 60)})
		}
		t.rows([]string{"system", "of"}, rows)
		t.next("trimlantern systems NAME shows one; docs/systems.md says how to write one")
		return
	}
	l := r.One
	t.printf("%s: %s (%s)\n\n", t.clip(l.Name, 30), t.clip(l.Title, 40), t.clip(r.Source, 30))
	list := func(what string, items []string) {
		if len(items) > 0 {
			t.printf("  %s\n", t.faint(what))
			t.wrap("    ", Clean(strings.Join(items, ", ")))
		}
	}
	list("told by the tables", l.Tables)
	var items []string
	for _, a := range l.Addresses {
		items = append(items, fmt.Sprintf("%s: %s.%s where %s is %s", a.Title, a.Table, a.Column, a.Where, a.Equals))
	}
	list("the site's own addresses", items)
	items = nil
	for _, c := range l.Identifiers {
		items = append(items, c.Table+"."+c.Column)
	}
	list("permanent identifiers, never changed", items)
	for _, safe := range []bool{true, false} {
		items = nil
		for _, c := range l.Caches {
			if c.Safe == safe && c.Column == "" {
				items = append(items, "all of "+c.Table)
			} else if c.Safe == safe {
				items = append(items, fmt.Sprintf("%s where %s begins with %s", c.Table, c.Column, strings.Join(c.Begins, " or ")))
			}
		}
		list(map[bool]string{true: "cached copies, safe to remove", false: "cached copies, left alone"}[safe], items)
	}
	items = nil
	for _, d := range l.Derived {
		items = append(items, fmt.Sprintf("%s.%s from %s", d.Table, d.Column, d.Of))
	}
	list("worked out from other columns, set anew with them", items)
	if l.Sites != nil {
		list("several sites in one database", []string{"listed in " + l.Sites.Table})
	}
	if c := l.Config; c != nil {
		items = []string{c.File + " (" + c.Format + ")"}
		for _, name := range slices.Sorted(maps.Keys(c.Locks)) {
			items = append(items, c.Locks[name]+" locks the "+name+" address")
		}
		list("the system's own configuration", items)
	}
	list("folders with code", l.Files)
	if len(r.Checks) > 0 {
		t.heading("In the site's database")
		for _, c := range r.Checks {
			mark := t.good("[x]")
			if !c.OK {
				mark = t.bad("[!]")
			}
			t.printf("  %s %s\n", mark, t.clip(c.What, 40)+"  "+t.faint(t.clip(c.Note, 30)))
		}
	}
	if r.Code() == work.Clean {
		t.next("name it under system in the site file, then: trimlantern preview")
	} else {
		t.next("fix the system description, or choose another one")
	}
}
