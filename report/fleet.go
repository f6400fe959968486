package report

import (
	"fmt"
	"io"
	"strings"

	"trimlantern/core/point"
	"trimlantern/work"
	"trimlantern/work/cert"
	"trimlantern/work/checkup"
	"trimlantern/work/findings"
	"trimlantern/work/fleet"
	"trimlantern/work/preview"
	"trimlantern/work/ready"
	"trimlantern/work/run"
	"trimlantern/work/setup"
	"trimlantern/work/status"
)

// PutAny writes one line of JSON.
func (l Lines) PutAny(v any) error { return l.put(v) }

// fleetTitles are the heads of the fleet's tables.
var fleetTitles = map[string]string{"init": "Sites found", "status": "The road of each site", "ready": "Ready for HTTPS?", "preview": "What would change", "apply": "What was changed",
	"scan": "What the pages load", "checkup": "Health", "renew": "Certificates"}

// Fleet shows what many sites came to, in one table.
func (t *Text) Fleet(f *fleet.Fleet) {
	t.printf("%s\n\n", t.paint(fleetTitles[f.Command], 1))
	well, wide := 0, 0 // the column of names is as wide as they are, at most 30
	for _, o := range f.Outcomes {
		wide = max(wide, len([]rune(t.clip(shortSite(o.Site), 30))))
	}
	for _, o := range f.Outcomes {
		mark := t.good("[x]")
		switch {
		case o.Error != "":
			mark = t.bad("[-]")
		case o.Code != work.Clean:
			mark = t.care("[!]")
		default:
			well++
		}
		t.printf("  %s %-*s  %s\n", mark, wide, t.clip(shortSite(o.Site), 30), t.clip(OutcomeWords(o), 42+max(0, 30-wide)))
	}
	t.printf("\n%s, %s %s.\n", plural(len(f.Outcomes), "site"), number(well), wellWord(f.Command))
	for _, o := range f.Outcomes {
		if o.Error == "" {
			continue
		}
		t.printf("\n  %s\n", t.clip(shortSite(o.Site), 76))
		t.wrap("    ", t.bad(Clean(o.Error)))
		if o.Do != "" {
			t.wrap("    ", "What to do: "+Clean(o.Do))
		}
	}
	if f.Resumed > 0 {
		t.printf("%s\n", t.faint(plural(f.Resumed, "site")+" were asked by the run before."))
	}
	if f.Left > 0 {
		t.printf("%s\n", t.care(plural(f.Left, "site")+" left out."))
		t.next("trimlantern fleet " + f.Command + " --resume")
	}
}

// wellWord is what a site is whose command ended with 0: a check found nothing wrong, or work was done.
func wellWord(command string) string {
	switch command {
	case "init", "preview", "apply", "renew":
		return "done"
	}
	return "well"
}

func shortSite(s string) string { return strings.TrimPrefix(s, "https://") }

// OutcomeWords is what one site came to, in one line.
func OutcomeWords(o fleet.Outcome) string {
	if o.Error != "" {
		return o.Error
	}
	switch r := o.Result.(type) {
	case *setup.Inited:
		return r.System + ", " + r.Database
	case *status.Status:
		done := 0
		for _, s := range r.Steps {
			if s.State == "done" {
				done++
			}
		}
		if r.Clean {
			return onHTTPS(r)
		}
		return fmt.Sprintf("%d of %d steps; next: %s", done, len(r.Steps), r.Next)
	case *ready.Result:
		for _, p := range r.Points {
			if p.Counts() && p.Grade == r.Worst() {
				return p.What
			}
		}
		if r.Worst() == point.Good || r.Worst() == point.Note {
			return "ready; certificate for " + plural(r.Days, "more day")
		}
		return "ready"
	case *findings.Scan:
		if words := verdict(r); strings.Contains(words, readWords(r.Coverage)) {
			return words
		}
		return verdict(r) + ": " + readWords(r.Coverage)
	case *preview.Result:
		if r.Changes() == 0 && r.Person() == 0 {
			return "nothing to change"
		}
		words := plural(r.Cells, "cell")
		if len(r.Files) > 0 {
			words += ", " + plural(len(r.Files), "file")
		}
		if n := r.Person(); n > 0 {
			words += "; " + sentence(plural(n, "finding"), n, " needs a decision", " need a decision")
		}
		return words
	case *run.Applied:
		words := plural(r.Changed, "cell") + " changed"
		if len(r.Files) > 0 {
			words += ", " + plural(len(r.Files), "file")
		}
		if len(r.Skipped) > 0 {
			words += ", " + number(len(r.Skipped)) + " left out"
		}
		return words
	case *checkup.Result:
		return checkupWords(r)
	case *cert.Obtained:
		for _, c := range r.Certificates {
			if c.State != cert.CertKept {
				return string(c.State) + ": " + strings.Join(c.Names, ", ")
			}
		}
		return "nothing is due"
	}
	return ""
}

// checkupWords is a checkup in one line, the gravest first.
func checkupWords(r *checkup.Result) string {
	switch {
	case len(r.Down) > 0:
		return "down: " + r.Down[0]
	case len(r.Failed) > 0:
		return "not checked: " + r.Failed[0]
	case len(r.Points) > 0:
		return r.Points[0].What
	case len(r.Redirects) > 0:
		return "redirects: " + r.Redirects[0].What
	case len(r.New) > 0:
		return plural(len(r.New), "new insecure address")
	case len(r.Still) > 0:
		return plural(len(r.Still), "insecure address")
	case !r.Well:
		return "not well"
	}
	return "well; " + readWords(r.Coverage)
}

// fleetData is what the overview page shows.
type fleetData struct {
	Title, When, Tool, Words string
	Good                     bool
	Rows                     []fleetRow
}

type fleetRow struct{ Site, Tone, Mark, Words, Do string }

// FleetHTML writes an overview of many sites: one file, which asks for nothing.
func FleetHTML(w io.Writer, f *fleet.Fleet) error {
	d := fleetData{Title: fleetTitles[f.Command], When: f.Time.UTC().Format("2006-01-02 15:04") + " UTC", Tool: Clean(work.Tool), Good: f.Code() == work.Clean}
	well := 0
	for _, o := range f.Outcomes {
		row := fleetRow{Site: Clean(o.Site), Tone: "upgraded", Mark: "!", Words: Clean(OutcomeWords(o)), Do: Clean(o.Do)}
		switch {
		case o.Error != "":
			row.Tone, row.Mark = "blocked", "–"
		case o.Code == work.Clean:
			row.Tone, row.Mark = "good", "✓"
			well++
		}
		d.Rows = append(d.Rows, row)
	}
	d.Words = fmt.Sprintf("%s, %s %s.", plural(len(f.Outcomes), "site"), number(well), wellWord(f.Command))
	if f.Left > 0 {
		d.Words += " " + plural(f.Left, "site") + " left out."
	}
	return fleetTemplate.Execute(w, d)
}
