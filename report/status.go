package report

import (
	"slices"
	"strings"
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

// HistoryCheck reports a check of the logbook.
func (t *Text) HistoryCheck(c *status.Check) {
	t.printf("The logbook of %s, in\n%s\n\n", c.Site, t.clip(c.Path, 76))
	t.printf("  %s as written, to the last byte\n", plural(c.Sound, "file"))
	if c.Older > 0 {
		t.printf("  %s of an earlier version, without checksums\n", plural(c.Older, "file"))
	}
	if c.Torn > 0 {
		t.wrap("  ", plural(c.Torn, "journal")+" of an interrupted run: the last block was not written to its end, and nothing was changed under it")
	}
	if len(c.Skipped) > 0 {
		t.wrap("  ", plural(len(c.Skipped), "file")+" not checked, without a checksum: "+strings.Join(c.Skipped, ", "))
	}
	if len(c.Edited) > 0 {
		t.heading("Edited in the site file since Trim Lantern wrote it")
		for _, line := range c.Edited {
			t.wrap("  ", line)
		}
	}
	if len(c.Damaged) == 0 {
		if c.Older > 0 || len(c.Skipped) > 0 || c.Sound == 0 { // what has no checksum may be damaged
			t.printf("\n%s\n", "Nothing that has a checksum is damaged.")
		} else {
			t.printf("\n%s\n", t.good("Nothing is damaged."))
		}
		t.next("trimlantern status")
		return
	}
	t.heading("Damaged")
	next := "put the damaged files back from a backup"
	for _, d := range c.Damaged {
		t.wrap("  ", t.bad(d.Name)+": "+d.Why)
		if d.Journal != "" {
			next = "put the damaged files back from a backup, or make a copy of what can be read: trimlantern history --repair " + d.Journal
		}
	}
	t.next(next)
}

// HistoryRepair reports the repair of a journal.
func (t *Text) HistoryRepair(r *status.Repair) {
	t.printf("Made the journal %s of all that can be read of %s.\n", r.Journal, r.Damaged)
	t.printf("  %s, %s; %s could not be read\n", plural(r.Cells, "cell"), plural(r.Files, "file"), plural(int(r.Lost), "byte"))
	t.wrap("", "The damaged journal stays in the logbook as it is, under a name that no command uses.")
	t.next("trimlantern undo " + r.Journal)
}
