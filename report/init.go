package report

import (
	"fmt"
	"strings"

	"trimlantern/work"
	"trimlantern/work/setup"
)

// Moved reports where the site file is now.
func (t *Text) Moved(r *work.Moved) {
	t.printf("Moved the site file and the logbook:\n  from  %s\n  to    %s\n\nNext: trimlantern status\n", Clean(r.From), Clean(r.Path))
}

// Inited reports what init wrote.
func (t *Text) Inited(r *setup.Inited) {
	t.printf("Wrote %s\n", t.clip(r.Path, 74))
	if r.Old != "" {
		t.printf("%s\n", t.faint("the previous one is kept: "+t.clip(r.Old, 52)))
	}
	t.printf("\n")
	rows := [][]string{{"site", r.Site}, {"system", r.System}, {"database", t.clip(r.Database, 60)},
		{"tables", fmt.Sprintf("%d with the prefix \"%s\"", r.Tables, t.clip(r.Prefix, 30))}, {"files", t.clip(strings.Join(r.Files, ", "), 60)}}
	if len(r.Files) == 0 {
		rows[4][1] = "none named; add folders of themes and plugins under files"
	}
	t.rows(nil, rows)
	if len(r.Used) > 0 {
		t.heading("Found")
		for _, u := range r.Used {
			t.wrap("  ", Clean(u))
		}
	}
	for i, a := range r.Addresses {
		if i == 0 {
			t.heading("Addresses in the database")
		}
		if i == 8 {
			t.printf("  and %s\n", plural(len(r.Addresses)-8, "more address"))
			break
		}
		t.printf("  %s  %s\n", t.clip(a.Value, 50), t.faint(t.clip(a.Title, 26)))
	}
	if len(r.Locked) > 0 {
		t.heading("Locked in the configuration; a change in the database does nothing there")
		for _, l := range r.Locked {
			t.wrap("  ", Clean(l))
		}
	}
	if len(r.Sites) > 1 {
		t.heading("Sites in this database; --sites chooses some of them")
		for i, s := range r.Sites {
			if i == 12 {
				t.printf("  and %s\n", plural(len(r.Sites)-12, "more site"))
				break
			}
			t.printf("  %4d  %s\n", s.Site, t.clip(s.Address, 70))
		}
	}
	if len(r.Others) > 0 {
		t.heading("Other systems in the same database, left alone")
		t.wrap("  ", "prefixes "+Clean(strings.Join(r.Others, ", ")))
	}
	t.next("trimlantern ready")
}
