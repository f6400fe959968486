package report

import (
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"

	"trimlantern/work"
	"trimlantern/work/status"
)

// Status reports the road as a check list.
func (t *Text) Status(s *status.Status) {
	t.printf("The road of %s\n\n", s.Site)
	for _, step := range s.Steps {
		mark := map[string]string{"done": t.good("[x]"), "todo": "[ ]", "care": t.care("[!]")}[step.State]
		when := ""
		if at, err := time.Parse(time.RFC3339, step.When); err == nil {
			when = t.faint("  " + at.UTC().Format("2006-01-02 15:04") + " UTC")
		}
		t.printf("  %s %s%s\n", mark, t.paint(step.Name, text.Bold), when)
		t.wrap("      ", Clean(step.What))
	}
	if s.Clean {
		t.printf("\n%s\n", t.good("The site is "+onHTTPS(s)+"."))
	}
	t.next(s.Next)
}

// onHTTPS is the good verdict on a site.
func onHTTPS(s *status.Status) string {
	words := "on HTTPS, and every page that was scanned is clean"
	if s.Excepted > 0 {
		words += ", except for " + plural(s.Excepted, "finding") + " that you accepted"
	}
	return words
}

// History lists the logbook.
func (t *Text) History(h *status.History) {
	t.printf("The logbook of %s, in\n%s\n\n", h.Site, t.clip(h.Path, 76))
	if len(h.Entries) == 0 {
		t.printf("  empty\n")
		t.next("trimlantern preview")
		return
	}
	var rows [][]string
	for _, e := range h.Entries {
		cells, state := "", t.clip(e.State, 32)
		if !slices.Contains([]string{"scan", "backup", "certificate", "revoke"}, e.Run) {
			cells = number(e.Cells)
		}
		rows = append(rows, []string{t.clip(e.ID, 19), e.Run, cells, state})
	}
	t.rows([]string{"name", "run", ">cells", "state"}, rows)
	if !slices.ContainsFunc(h.Entries, func(e work.PastEntry) bool { return e.Run == "apply" || e.Run == "redirect" }) {
		t.next("trimlantern status")
		return
	}
	t.next("trimlantern undo NAME takes back the apply of that name")
}
