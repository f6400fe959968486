package report

import (
	"fmt"
	"strings"

	"trimlantern/core/point"
	"trimlantern/work/ready"
)

// Ready shows whether the site may switch.
func (t *Text) Ready(r *ready.Result) {
	if r.Support != "" {
		for line := range strings.Lines(r.Support) { // its own line ends, nothing else from outside
			t.printf("%s\n", Clean(strings.TrimSuffix(line, "\n")))
		}
		return
	}
	t.printf("Is %s ready?\n\n", r.Site)
	t.points(r.Points)
	switch r.Worst() {
	case point.Stop:
		t.printf("\n%s\n", t.bad("Not yet: what is marked [-] would stop visitors."))
		t.deciding(r.Points)
		if r.WantsCertificate() {
			t.printf("\n")
			t.wrap("", t.faint("A certificate comes from your host's panel, or from any authority that speaks the open protocol: trimlantern cert obtain --help"))
		}
		t.wrap("", t.faint("trimlantern ready --for-support writes a text for the people who run the server."))
		t.next("fix what is marked [-], then run trimlantern ready")
	case point.Care:
		t.printf("\n%s\n", t.care("Ready to switch; what is marked [!] needs attention."))
		t.deciding(r.Points)
		t.next("trimlantern preview")
	case point.Note:
		t.printf("\n%s\n", t.good("Ready to switch. What is marked [i] is only worth knowing."))
		t.next("trimlantern preview")
	default:
		t.printf("\n%s\n", t.good("Ready to switch."))
		t.next("trimlantern preview")
	}
}

// deciding says how a fault is accepted, where there are faults with numbers.
func (t *Text) deciding(points []point.Point) {
	for _, p := range points {
		if p.Counts() && p.Number > 0 && p.Grade == point.Care {
			t.printf("\n")
			t.wrap("", t.faint(fmt.Sprintf("To accept a fault that has to stay: trimlantern decide accept %d --because \"…\"", p.Number)))
			return
		}
	}
}

// pointMark is the mark of a point.
func (t *Text) pointMark(p point.Point) string {
	switch {
	case p.Accepted != "":
		return t.faint("[a]")
	case p.Grade == point.Good:
		return t.good("[x]")
	case p.Grade == point.Note:
		return t.faint("[i]")
	case p.Grade == point.Care:
		return t.care("[!]")
	}
	return t.bad("[-]")
}

// points shows what was looked at: what is not good, with why and what to do.
func (t *Text) points(points []point.Point) {
	for _, p := range points {
		what := Clean(p.What)
		if p.Number > 0 && p.Accepted == "" {
			what = fmt.Sprintf("%d. %s", p.Number, what)
		}
		t.mark(t.pointMark(p), what)
		t.whyAndDo(p)
	}
}

func (t *Text) whyAndDo(p point.Point) {
	if p.Accepted != "" {
		t.labelled("      ", "accepted:", Clean(p.Accepted))
		return
	}
	if p.Grade == point.Good {
		return
	}
	if p.Why != "" {
		t.labelled("      ", "why:", Clean(p.Why))
	}
	if p.Do != "" {
		t.labelled("      ", "do: ", Clean(p.Do))
	}
}

// mark writes words behind a mark, in lines that fit.
func (t *Text) mark(mark, words string) {
	for i, line := range t.lines(words, 6) {
		if i == 0 {
			t.printf("  %s %s\n", mark, line)
		} else {
			t.printf("      %s\n", line)
		}
	}
}

// faults lists what a test found, each with a few of its addresses.
func (t *Text) faults(title string, points []point.Point) {
	if len(points) == 0 {
		return
	}
	t.heading(title)
	for _, p := range points {
		t.mark(t.pointMark(p), p.What+": "+plural(len(p.About), "address"))
		for i, about := range p.About {
			if i == 3 && !t.All {
				t.printf("        %s\n", t.faint("and "+number(len(p.About)-i)+" more"))
				break
			}
			t.printf("        %s\n", t.clip(about, 70))
		}
	}
}
