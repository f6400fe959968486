package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"trimlantern/core/coverage"
	"trimlantern/core/point"
	"trimlantern/work"
	"trimlantern/work/cert"
	"trimlantern/work/checkup"
	"trimlantern/work/findings"
	"trimlantern/work/ready"
	"trimlantern/work/redirect"
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
		t.next("fix that, then: trimlantern ready; --for-support writes to your host")
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
		t.wrap("      ", t.faint("accepted: ")+Clean(p.Accepted))
		return
	}
	if p.Grade == point.Good {
		return
	}
	if p.Why != "" {
		t.wrap("      ", t.faint("why: ")+Clean(p.Why))
	}
	if p.Do != "" {
		t.wrap("      ", t.faint("do:  ")+Clean(p.Do))
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
func (t *Text) Rules(r *redirect.Rules) {
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
func (t *Text) RedirectFile(r *redirect.File, removed bool) {
	file := t.clip(r.File, 50)
	switch {
	case len(r.Refused) > 0:
		t.printf("%s\n\n", t.bad("Not installed: the redirect would harm visitors. "+file+" was not changed."))
		t.points(r.Refused)
		t.next("fix that, then run the same command again; --anyway installs without looking")
		return
	case r.Back != "":
		t.printf("%s\n", t.bad("Taken back: "+file+" is as it was before."))
		t.wrap("  ", Clean(r.Back)+".")
		if r.Note != "" {
			t.wrap("  ", t.care(Clean(r.Note)))
		}
		t.faults("With the rules in place", r.Faults)
		t.next("fix that, then run the same command again")
		return
	case !r.Changed && removed:
		t.printf("%s holds no rules of ours; it was not changed.\n", file)
	case !r.Changed:
		t.printf("%s holds these rules already; it was not changed.\n", file)
	case removed:
		t.printf("Took the rules out of %s.\n", file)
	default:
		t.printf("Put the rules into %s.\n", file)
	}
	switch {
	case r.Tested > 0 && r.Right == r.Tested:
		t.printf("%s\n", t.good(fmt.Sprintf("Tested: all %d addresses lead where they should.", r.Tested)))
	case r.Tested > 0:
		t.printf("%s\n", t.care(fmt.Sprintf("Tested: %d of %d addresses lead where they should; none answers worse than before.", r.Right, r.Tested)))
	}
	if r.Journal != "" {
		words := "journal " + r.Journal + "; trimlantern undo " + r.Journal + " takes it back"
		if r.After != "" {
			words += "; then run " + r.After
		}
		t.wrap("", t.faint(Clean(words)))
	}
	if len(r.Faults) > 0 {
		t.faults("The redirect does not work as it should", r.Faults)
	}
	if len(r.Others) > 0 {
		var lines []string
		for _, o := range r.Others {
			lines = append(lines, fmt.Sprint(o.Line))
		}
		t.wrap("", t.care("Another redirect stands in line "+strings.Join(lines, ", ")+": keep one of the two."))
	}
	t.next("trimlantern redirect test")
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

// RedirectTest shows what visitors type and where they end up: what is right in a line, faults in detail, all
// of it with All.
func (t *Text) RedirectTest(r *redirect.Tested) {
	t.printf("Redirects to %s\n\n", r.Site)
	faulty, accepted := r.Faulty()
	far := r.Unfollowed()
	if right := len(r.Journeys) - faulty - far; right > 0 {
		words := fmt.Sprintf("%d of %d addresses lead to the secure one as they should", right, len(r.Journeys))
		if faulty+far == 0 {
			words = fmt.Sprintf("all %d addresses lead to the secure one as they should", right)
		}
		if len(r.Paths) > 0 {
			words += "; only " + strings.Join(r.Paths, ", ") + " is to be redirected"
		}
		t.mark(t.good("[x]"), Clean(words))
	}
	for _, p := range r.Points {
		what := p.What + ": " + plural(len(p.About), "address")
		if p.Number > 0 && p.Accepted == "" {
			what = fmt.Sprintf("%d. %s", p.Number, what)
		}
		t.mark(t.pointMark(p), what)
		if p.Counts() && !t.All {
			most := 6
			for i, about := range p.About {
				if i == most {
					t.printf("      %s\n", t.faint("and "+number(len(p.About)-i)+" more; --all shows every address"))
					break
				}
				way := wayOf(r.Journeys, about)
				if line := about + "  " + way; t.Whole || len([]rune(line)) <= 74 {
					t.printf("      %s  %s\n", Clean(about), t.faint(Clean(way)))
					continue
				}
				t.printf("      %s\n", t.clip(about, 74))
				t.printf("        %s\n", t.faint(t.clip(way, 72)))
			}
		}
		t.whyAndDo(p)
	}
	if t.All {
		t.heading("Every address")
		var rows [][]string
		for _, j := range r.Journeys {
			rows = append(rows, []string{t.journeyMark(j), t.clip(aboutOf(j), 34), t.clip(j.Landing, 32), codesOf(j)})
		}
		t.rows([]string{"", "what a visitor types", "where they end up", "hops"}, rows)
	}
	if len(r.Stale) > 0 {
		t.heading("What a returning visitor may still see, and why")
		for _, s := range r.Stale {
			t.wrap("  ", Clean(s))
		}
	}
	if r.Code() == work.Clean {
		words := "Every address leads to the secure one."
		switch {
		case far > 0:
			words = fmt.Sprintf("As far as this machine can reach: every address leads to the secure one; %d were not followed.", far)
		case len(r.Paths) > 0:
			words = "Every address below " + Clean(strings.Join(r.Paths, ", ")) + " leads to the secure one; the others were not to be redirected."
		}
		if accepted > 0 {
			words = "Every address leads to the secure one, but for the faults that you accepted, marked [a]."
		}
		t.printf("\n%s\n", t.good(words))
		t.next("trimlantern scan")
		return
	}
	t.deciding(r.Points)
	t.next("fix that, then: trimlantern redirect test")
}

// aboutOf is a journey as points name it.
func aboutOf(j redirect.Journey) string {
	about := j.Typed
	if j.Method != "GET" {
		about = j.Method + " " + about
	}
	if j.At != "" {
		about += " (server " + j.At + ")"
	}
	return about
}

func codesOf(j redirect.Journey) string {
	var codes []string
	for _, h := range j.Hops {
		if h.Status > 0 {
			codes = append(codes, fmt.Sprint(h.Status))
		}
	}
	if len(codes) > 5 {
		codes = append(codes[:4], "…")
	}
	return strings.Join(codes, " ")
}

// wayOf says how the journey of an address went.
func wayOf(all []redirect.Journey, about string) string {
	for _, j := range all {
		if aboutOf(j) != about {
			continue
		}
		way := codesOf(j)
		if j.Redirects() > 0 {
			way += " → " + j.Landing
		}
		return strings.TrimSpace(way + " " + j.Err)
	}
	return ""
}

// journeyMark is the mark of the gravest that there is to say of a journey.
func (t *Text) journeyMark(j redirect.Journey) string {
	worst := point.Good
	for _, p := range j.Problems {
		if g := p.Grade(); g.Worse(worst) {
			worst = g
		}
	}
	return t.pointMark(point.Point{Grade: worst})
}

// Requested reports what cert request wrote.
func (t *Text) Requested(r *cert.Requested) {
	t.printf("Made a key and a request for %s.\n\n", t.clip(strings.Join(r.Names, ", "), 50))
	t.rows(nil, [][]string{{"request", t.clip(r.Request, 60), "send it to the authority"}, {"key", t.clip(r.Key, 60), "stays here, secret"}})
	t.next("when the certificate has come: trimlantern cert check FILE… " + Clean(r.Key))
}

// Checked reports what certificate files hold.
func (t *Text) Checked(r *cert.Checked) {
	t.printf("In the files\n\n")
	for _, p := range r.Papers {
		words := p.What
		if p.Bad != "" {
			words += ": " + p.Bad
		}
		t.printf("  %s\n", t.faint(t.clip(p.File, 70)))
		t.wrap("    ", Clean(words))
	}
	t.heading("Together")
	t.points(r.Points)
	if r.Chain != "" {
		t.printf("\nWrote %s\n", t.clip(r.Chain, 70))
	}
	if r.Key != "" {
		t.printf("Wrote %s (for nobody else to read)\n", t.clip(r.Key, 46))
	}
	for _, k := range r.Kept {
		t.printf("%s\n", t.faint("the one of before is kept: "+t.clip(k, 52)))
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
func (t *Text) Proof(r *cert.Proof) {
	for _, a := range r.Asked {
		mark := t.good("[x]")
		if !a.OK {
			mark = t.bad("[-]")
		}
		words := a.URL
		if a.At != "" {
			words += " at " + a.At
		}
		t.mark(mark, Clean(words))
		if a.Why != "" {
			t.wrap("      ", Clean(a.Why))
		}
	}
	if r.Kept {
		t.printf("\n%s stays there; remove it when the authority has seen it.\n", t.clip(r.File, 60))
	} else {
		t.printf("\n%s\n", t.faint("the file is gone again"))
	}
	if r.Code() == work.Clean {
		t.next("let the authority look")
	} else {
		t.next("let the server serve that folder over plain HTTP, for every name")
	}
}

// Checkup writes what a mail may hold: nothing when all is well, and first of all whether visitors get a page.
func (t *Text) Checkup(c *checkup.Result) {
	if c.Well {
		return
	}
	when := c.Time.UTC().Format("2006-01-02 15:04 UTC")
	if len(c.Down) > 0 {
		t.printf("%s\n", t.bad(fmt.Sprintf("%s is down (%s).", c.Site, when)))
		for _, d := range c.Down {
			t.printf("  %s\n", t.clip(d, 76))
		}
	} else {
		t.printf("%s needs attention (%s).\n", c.Site, when)
	}
	if len(c.Points) > 0 {
		t.heading("Certificate and server")
		t.points(c.Points)
	}
	if len(c.Redirects) > 0 {
		t.heading("Redirects")
		for _, p := range c.Redirects {
			t.mark(t.pointMark(p), Clean(p.What)+": "+plural(len(p.About), "address"))
			for i, about := range p.About {
				if i == 4 {
					t.printf("        %s\n", t.faint("and "+number(len(p.About)-i)+" more"))
					break
				}
				t.printf("        %s\n", t.clip(about, 70))
			}
			t.whyAndDo(p)
		}
	}
	if len(c.Failed) > 0 {
		t.heading("Could not be checked")
		for _, f := range c.Failed {
			t.wrap("  ", Clean(f))
		}
	}
	culprits := func(what string, list []findings.Culprit) {
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
			t.printf("  %s\n      %s\n", t.clip(c.URL, 76), t.faint(t.clip(fmt.Sprintf("%s, on %s, %s", c.Class.Words(), plural(c.Pages, "page"), c.On), 72)))
		}
	}
	culprits("Insecure since last time", c.New)
	culprits("Still insecure", c.Still)
	if len(c.Unread) > 0 {
		t.heading("Could not be read")
		for i, u := range c.Unread {
			if i == 20 {
				t.printf("  and %s\n", plural(len(c.Unread)-20, "more document"))
				break
			}
			t.printf("  %s\n", t.clip(u.URL+": "+u.Why, 76))
		}
	}
	if len(c.Unread) == 0 {
		for i, l := range c.Coverage.Blocking() {
			if i == 0 {
				t.heading("Not looked at")
			}
			if l.Cause != coverage.Sampled {
				t.printf("  %s\n", t.clip(countWords(l), 76))
			}
		}
	}
	culprits("No longer insecure", c.Gone)
	t.next("trimlantern status")
}

// Timer prints what a machine needs to run the checkup, so that it can be put there as it is.
func (t *Text) Timer(c *checkup.Timer) {
	if c.Kind == "cron" {
		t.printf("%s", c.Files["crontab"])
		return
	}
	for i, name := range slices.Sorted(maps.Keys(c.Files)) {
		if i > 0 {
			t.printf("\n")
		}
		t.printf("# /etc/systemd/system/%s\n%s", Clean(name), c.Files[name])
	}
}
