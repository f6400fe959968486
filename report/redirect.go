package report

import (
	"fmt"
	"strings"

	"trimlantern/core/point"
	"trimlantern/work"
	"trimlantern/work/redirect"
)

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
		t.printf("\n%s\n", t.faint("--anyway installs the rules all the same."))
		t.next("fix what is marked above, then run the same command again")
		return
	case r.Back != "":
		t.printf("%s\n", t.bad("Taken back: "+file+" is as it was before."))
		t.wrap("  ", Clean(r.Back)+".")
		if r.Note != "" {
			t.wrap("  ", t.care(Clean(r.Note)))
		}
		t.faults("With the rules in place", r.Faults)
		t.next("fix the faults above, then run the same command again")
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
			words += ", and runs " + r.After
		}
		t.wrap("", t.faint(Clean(words)))
	}
	if len(r.Stayed) > 0 {
		t.heading(fmt.Sprintf("As before: the rules do not reach %s", plural(len(r.Stayed), "address")))
		for i, s := range r.Stayed {
			if i == 8 && !t.All {
				t.printf("  %s\n", t.faint("and "+number(len(r.Stayed)-i)+" more"))
				break
			}
			t.printf("  %s\n", t.clip(s, 76))
		}
		t.wrap("  ", "why: "+Clean(r.Why))
		t.wrap("  ", "do:  "+Clean(r.Do))
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
				if line := about + "  " + way; t.Whole || len([]rune(line)) <= t.columns()-6 {
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
	t.next("fix the faults above, then run trimlantern redirect test")
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
