package report

import (
	"fmt"
	"strings"

	"trimlantern/work"
)

// Rules prints rules as they stand in a file; the words around go with them as
// comments of nobody's: they are left out where the output is no terminal.
func (t *Text) Rules(r *work.Rules) {
	t.printf("%s", r.Text)
	if r.Note != "" {
		comment := "# "
		if r.Server == "php" {
			comment = "// "
		}
		t.wrap(comment, r.Note)
	}
}

// RedirectFile reports what became of a file with rules.
func (t *Text) RedirectFile(r *work.RedirectFile, removed bool) {
	switch {
	case !r.Changed && removed:
		t.printf("%s holds no rules of ours; it was not changed.\n", clip(r.File, 50))
	case !r.Changed:
		t.printf("%s holds these rules already; it was not changed.\n", clip(r.File, 50))
	case removed:
		t.printf("Took the rules out of %s.\n", clip(r.File, 55))
	default:
		t.printf("Put the rules into %s.\n", clip(r.File, 55))
	}
	if r.Kept != "" {
		t.printf("%s\n", t.faint("the file of before: "+clip(r.Kept, 58)))
	}
	if len(r.Others) > 0 {
		var lines []string
		for _, n := range r.Others {
			lines = append(lines, fmt.Sprint(n))
		}
		t.wrap("", t.care("Another redirect to HTTPS stands in line "+strings.Join(lines, ", ")+": keep one of the two."))
	}
	t.next("trimlantern redirect test")
}

// RedirectTest shows what a visitor types and where he lands.
func (t *Text) RedirectTest(r *work.RedirectTest) {
	t.printf("The ways to %s\n\n", r.Site)
	bad := 0
	for _, j := range r.Journeys {
		mark := t.good("[x]")
		if len(j.Problems) > 0 {
			mark = t.care("[!]")
			bad++
			if j.Problems[0].Grave() {
				mark = t.bad("[!]")
			}
		}
		typed := j.Typed
		if j.Method != "GET" {
			typed = j.Method + " " + typed
		}
		t.printf("  %s %s\n", mark, clip(typed, 72))
		var codes []string
		for _, h := range j.Hops {
			if h.Status > 0 {
				codes = append(codes, fmt.Sprint(h.Status))
			}
		}
		way := strings.Join(codes, " ")
		if len(codes) > 6 {
			way = strings.Join(codes[:5], " ") + " …"
		}
		if j.Redirects() > 0 {
			way += " → " + clip(j.Landing, 60)
		}
		if j.Err != "" {
			way = strings.TrimSpace(way + " " + clip(j.Err, 60))
		}
		t.printf("      %s\n", t.faint(way))
		for _, p := range j.Problems {
			t.printf("      %s\n", "the visitor "+p.Words())
		}
	}
	if bad == 0 {
		t.printf("\n%s\n", t.good("Every address leads to the secure one, at once."))
		t.next("trimlantern scan")
		return
	}
	t.heading("What to do")
	for _, do := range r.Do {
		t.wrap("  ", do)
	}
	t.next("then: trimlantern redirect test")
}
