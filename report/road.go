package report

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"trimlantern/core/certs"
	"trimlantern/core/coverage"
	"trimlantern/work"
)

// Ready shows whether the site may switch.
func (t *Text) Ready(r *work.Ready) {
	if r.Support != "" {
		for line := range strings.Lines(r.Support) { // its own line ends, nothing else from outside
			t.printf("%s\n", Clean(strings.TrimSuffix(line, "\n")))
		}
		return
	}
	t.printf("Is %s ready?\n\n", r.Site)
	t.points(r.Points)
	switch r.Worst() {
	case certs.Stop:
		t.printf("\n%s\n", t.bad("Not yet: what is marked [-] would stop visitors."))
		t.next("fix that, then: trimlantern ready; --for-support writes to your host")
	case certs.Care:
		t.printf("\n%s\n", t.care("Ready to switch; what is marked [!] needs attention."))
		t.next("trimlantern preview")
	default:
		t.printf("\n%s\n", t.good("Ready to switch."))
		t.next("trimlantern preview")
	}
}

// points shows what was looked at: what is not good, with why and what to do.
func (t *Text) points(points []certs.Point) {
	for _, p := range points {
		mark := map[certs.Grade]string{certs.Good: t.good("[x]"), certs.Care: t.care("[!]"), certs.Stop: t.bad("[-]")}[p.Grade]
		t.mark(mark, Clean(p.What))
		if p.Grade == certs.Good {
			continue
		}
		if p.Why != "" {
			t.wrap("      ", t.faint("why: ")+Clean(p.Why))
		}
		if p.Do != "" {
			t.wrap("      ", t.faint("do:  ")+Clean(p.Do))
		}
	}
}

// mark writes words behind a mark, in lines that fit.
func (t *Text) mark(mark, words string) {
	first := true
	for line := range strings.Lines(text.WrapSoft(words, Width-6) + "\n") {
		line = strings.TrimRight(line, " \n")
		if first {
			t.printf("  %s %s\n", mark, line)
		} else {
			t.printf("      %s\n", line)
		}
		first = false
	}
}

// Rules prints rules as they stand in a file. What is to be known goes along as a
// comment, so that the output can be put into a file as it is.
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
	if r.Journal != "" {
		t.printf("%s\n", t.faint("journal "+r.Journal+"; trimlantern undo "+r.Journal+" takes it back"))
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

// RedirectTest shows what visitors type and where they end up.
func (t *Text) RedirectTest(r *work.RedirectTest) {
	t.printf("Redirects to %s\n\n", r.Site)
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
		if j.Proof && j.Redirects() == 0 && j.Err == "" {
			way += ", left out of the redirect"
		}
		if j.Err != "" {
			way = strings.TrimSpace(way + " " + clip(j.Err, 60))
		}
		t.printf("      %s\n", t.faint(way))
		for _, p := range j.Problems {
			t.printf("      %s\n", "the visitor "+p.Words())
		}
	}
	if len(r.Stale) > 0 {
		t.heading("What a returning visitor may still see, and why")
		for _, s := range r.Stale {
			t.wrap("  ", Clean(s))
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
	t.next("do that, then: trimlantern redirect test")
}

// Requested reports what cert request wrote.
func (t *Text) Requested(r *work.Requested) {
	t.printf("Made a key and a request for %s.\n\n", clip(strings.Join(r.Names, ", "), 50))
	t.rows(nil, [][]string{{"request", clip(r.Request, 60), "send it to the authority"}, {"key", clip(r.Key, 60), "stays here, secret"}})
	t.next("when the certificate has come: trimlantern cert check FILE… " + clip(r.Key, 40))
}

// Checked reports what certificate files hold.
func (t *Text) Checked(r *work.Checked) {
	t.printf("In the files\n\n")
	for _, p := range r.Papers {
		words := p.What
		if p.Bad != "" {
			words += ": " + p.Bad
		}
		t.printf("  %s\n", t.faint(clip(p.File, 70)))
		t.wrap("    ", Clean(words))
	}
	t.heading("Together")
	t.points(r.Points)
	if r.Chain != "" {
		t.printf("\nWrote %s\n", clip(r.Chain, 70))
	}
	if r.Key != "" {
		t.printf("Wrote %s (for nobody else to read)\n", clip(r.Key, 46))
	}
	switch {
	case r.Code() != work.Clean:
		t.next("fix what is marked, then check again")
	case r.Chain == "":
		t.next("write them in the server's order: --write FOLDER")
	default:
		t.next("name both files in the server's configuration, then: trimlantern ready")
	}
}

// Proof reports whether a proof of ownership can be fetched.
func (t *Text) Proof(r *work.Proof) {
	for _, a := range r.Asked {
		mark := t.good("[x]")
		if !a.OK {
			mark = t.bad("[-]")
		}
		t.mark(mark, Clean(a.URL))
		if a.Why != "" {
			t.wrap("      ", Clean(a.Why))
		}
	}
	if r.Kept {
		t.printf("\n%s stays there; remove it when the authority has seen it.\n", clip(r.File, 60))
	} else {
		t.printf("\n%s\n", t.faint("the file is gone again"))
	}
	if r.Code() == work.Clean {
		t.next("let the authority look")
	} else {
		t.next("let the server serve that folder over plain HTTP, for every name")
	}
}

// Watched writes what a mail may hold: nothing when all is well.
func (t *Text) Watched(w *work.Watched) {
	if w.Well {
		return
	}
	t.printf("%s needs attention (%s).\n", w.Site, w.Time.UTC().Format("2006-01-02 15:04 UTC"))
	if len(w.Points) > 0 {
		t.heading("Certificate and server")
		t.points(w.Points)
	}
	if len(w.Redirects) > 0 {
		t.heading("Redirects")
		for _, j := range w.Redirects {
			t.printf("  %s %s\n", t.care("[!]"), clip(j.Method+" "+j.Typed, 72))
			for _, p := range j.Problems {
				t.printf("      the visitor %s\n", p.Words())
			}
		}
	}
	culprits := func(what string, list []work.Culprit) {
		if len(list) == 0 {
			return
		}
		t.heading(what)
		const most = 20
		for i, c := range list {
			if i == most {
				t.printf("  and %s\n", plural(len(list)-most, "more URL"))
				break
			}
			t.printf("  %s\n      %s\n", t.clip(c.URL, 76), t.faint(clip(fmt.Sprintf("%s, on %s, %s", c.Class.Words(), plural(c.Pages, "page"), c.On), 72)))
		}
	}
	culprits("Insecure since last time", w.New)
	culprits("Still insecure", w.Still)
	if len(w.Unread) > 0 {
		t.heading("Could not be read")
		for i, u := range w.Unread {
			if i == 20 {
				t.printf("  and %s\n", plural(len(w.Unread)-20, "more document"))
				break
			}
			t.printf("  %s\n", t.clip(u.URL+": "+u.Why, 76))
		}
	}
	if len(w.Unread) == 0 {
		for i, l := range w.Coverage.Blocking() {
			if i == 0 {
				t.heading("Not looked at")
			}
			if l.Cause != coverage.Sampled {
				t.printf("  %s\n", clip(countWords(l), 76))
			}
		}
	}
	culprits("No longer insecure", w.Gone)
	t.next("trimlantern status")
}
