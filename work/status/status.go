// Package status is the road as a check list with dated evidence, and the history that the logbook holds.
package status

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/mixed"
	"trimlantern/core/point"
	"trimlantern/core/sheet"
	"trimlantern/outside/database"
	"trimlantern/work"
	"trimlantern/work/backup"
	"trimlantern/work/cert"
	"trimlantern/work/dumps"
	"trimlantern/work/findings"
	"trimlantern/work/preview"
	"trimlantern/work/ready"
	"trimlantern/work/redirect"
)

// Status is the road as a check list.
type Status struct {
	Site  string `json:"site"`
	Steps []Step `json:"steps"`
	Next  string `json:"next"` // the one next command
	Clean bool   `json:"clean"`

	Excepted int `json:"excepted"` // findings on the pages that the owner accepted: clean but for them
}

// Step is one step of the road.
type Step struct {
	Name  string `json:"name"`
	State string `json:"state"` // "done", "todo", "care"
	What  string `json:"what"`  // what was measured
	When  string `json:"when,omitempty"`
}

// Code is the exit code that the status comes to.
func (s *Status) Code() int {
	if s.Clean {
		return work.Clean
	}
	return work.Remain
}

// steps gathers the check list and the first thing to do.
type steps struct {
	*Status
	now  time.Time
	flag string // that every command needs
}

func (s steps) add(name, state, when, what string, args ...any) {
	s.Steps = append(s.Steps, Step{name, state, fmt.Sprintf(what, args...), when})
}

// next says what to do next, unless something before it comes first.
func (s steps) next(command string) {
	if s.Next == "" && command != "" {
		s.Next = command
		if strings.HasPrefix(command, "trimlantern ") {
			s.Next += s.flag
		}
	}
}

// Of reads the logbook, the system's configuration, and asks the database only whether it is there.
func Of(ctx context.Context, j *work.Job) (*Status, error) {
	defer j.Progress.End()
	st := &Status{Site: j.Site.String()}
	to := steps{Status: st, now: j.Now()}
	if !j.Stored() {
		to.flag = " --site " + j.Site.String()
		return st, looked(j, to)
	}
	if db, tables, err := j.Open(ctx, true); err != nil {
		to.add("database", "care", "", "%s", err.Error())
		to.next("fix database in " + j.File.Path + ", then: trimlantern status")
	} else {
		db.Close()
		if j.File.Database.Kind == database.NoneKind {
			to.add("database", "done", "", "none: the content is files")
		} else {
			to.add("database", "done", "", "answers; %d tables with the prefix %q", len(tables), j.File.Database.Prefix)
		}
	}
	runs, err := j.Runs()
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		if r.Mark == "" { // what was interrupted comes first, whatever was done since
			to.next("trimlantern apply " + r.Header.Sheet)
		}
	}
	ready, err := readyStep(j, to)
	if err != nil {
		return nil, err
	}
	if len(runs) == 0 { // it comes before the first change
		to.next(ready)
	}
	renewalStep(j, to)
	if err := backupStep(j, to); err != nil {
		return nil, err
	}
	sheetID, header, end, err := j.LastSheet()
	if err != nil {
		return nil, err
	}
	to.preview(sheetID, header, end)
	scan, err := findings.Weightiest(j)
	if err != nil {
		return nil, err
	}
	applied, changed := false, work.LastOf(runs)
	if j.IsDump() {
		if changed, err = dumpStep(j, to, sheetID, end, scan); err != nil {
			return nil, err
		}
		applied = !changed.IsZero()
	} else {
		applied = to.apply(runs, sheetID, end)
	}
	lockStep(j, to)
	if err := redirectStep(j, to); err != nil {
		return nil, err
	}
	if to.scan(scan, changed) {
		// On HTTPS is said where every step has its evidence, and not where nobody looked.
		st.Clean = (applied || end != nil && end.Changes() == 0) && !slices.ContainsFunc(st.Steps, func(s Step) bool { return s.State != "done" && s.Name != "apply" })
	}
	to.next(ready)
	if st.Clean {
		to.next("scan again in a month: editors paste http:// links")
	}
	to.next("trimlantern preview")
	return st, nil
}

// lockStep adds what the system's configuration holds against the database, as it is now.
func lockStep(j *work.Job, to steps) {
	locks, err := j.Locks()
	if err != nil {
		to.add("locks", "care", "", "the system's configuration cannot be read: %s", err.Error())
		return
	}
	for _, l := range locks {
		switch {
		case l.Insecure():
			to.add("locks", "care", "", "%s; change it to: %s", l.Words(), l.Secure())
			to.next(fmt.Sprintf("change line %d of %s to: %s", l.Lock.Line, l.File, l.Secure()))
		case l.Unknown():
			to.add("locks", "done", "", "%s; whether it says https is for the scan to show", l.Words())
		}
	}
}

// looked is the status of a site that is only looked at: its database is not known.
func looked(j *work.Job, to steps) error {
	ready, err := readyStep(j, to)
	if err != nil {
		return err
	}
	to.next(ready)
	renewalStep(j, to)
	if err := redirectStep(j, to); err != nil {
		return err
	}
	scan, err := findings.Weightiest(j)
	if err != nil {
		return err
	}
	if to.scan(scan, time.Time{}) {
		to.Clean = !slices.ContainsFunc(to.Steps, func(s Step) bool { return s.State != "done" })
	}
	if to.Clean {
		to.next("scan again in a month: editors paste http:// links")
	}
	return nil
}

// preview adds what the newest sheet says; end is nil where it is broken.
func (s steps) preview(id string, header sheet.Header, end *sheet.Summary) {
	switch {
	case id == "":
		s.add("preview", "todo", "", "not made yet")
		s.next("trimlantern preview")
	case end == nil:
		s.add("preview", "care", "", "sheet %s is broken", id)
		s.next("trimlantern preview")
	case header.Kind == preview.Lengths:
		s.add("preview", "care", header.Time, "the newest sheet corrects lengths in %d cells, and no references", end.Cells)
	default:
		and := ""
		if end.Files > 0 {
			and = fmt.Sprintf(" and %d files", end.Files)
		}
		s.add("preview", "done", header.Time, "%d references in %d cells%s to change", end.References+end.FileRefs, end.Cells, and)
	}
}

// apply adds what all journals in force say, and reports whether changes are in effect.
func (s steps) apply(runs []*work.JournalState, sheetID string, end *sheet.Summary) bool {
	if len(runs) == 0 {
		s.add("apply", "todo", "", "nothing was changed yet")
		if end == nil || end.Changes() > 0 {
			s.next("trimlantern apply")
		}
		return false
	}
	last := runs[len(runs)-1]
	cells, files, skips, force := 0, 0, 0, 0
	open := ""
	for _, r := range runs {
		switch r.Mark {
		case sheet.Undone:
			continue
		case "":
			open = r.Header.Sheet
			s.add("apply", "care", r.Header.Time, "interrupted after %d cells", r.Cells)
			continue
		}
		force++
		cells, files, skips = cells+r.Cells, files+len(r.Files), r.Skips // what an earlier run skipped, a later one took up
	}
	switch {
	case open != "":
		return false
	case force == 0:
		s.add("apply", "todo", last.Time, "undone: %d cells put back, %d left as others changed them", last.Cells-last.Left, last.Left)
		if last.Header.Sheet == sheetID {
			s.next("trimlantern apply")
		}
		return false
	}
	state := "done"
	if skips > 0 { // they are still as they were: a new sheet takes them up
		state = "care"
		s.next("trimlantern preview")
	}
	what := fmt.Sprintf("%d cells", cells)
	if files > 0 {
		what += fmt.Sprintf(" and %d files", files)
	}
	what += fmt.Sprintf(" changed, %d skipped", skips)
	if force > 1 {
		what += fmt.Sprintf(", in %d runs", force)
	}
	s.add("apply", state, last.Time, "%s", what)
	if end != nil && last.Header.Sheet != sheetID && end.Changes() > 0 {
		s.next("trimlantern apply")
	}
	return true
}

// scan adds what the newest scan says, and reports whether it is clean, newer than the last change, and not
// too old.
func (s steps) scan(scan *findings.Scan, changed time.Time) bool {
	switch {
	case scan == nil:
		s.add("scan", "todo", "", "not made yet")
		s.next("trimlantern scan")
	case scan.Time.Before(changed.Truncate(time.Second)):
		s.add("scan", "care", scan.Time.Format(time.RFC3339), "older than the last change")
		s.next("trimlantern scan")
	case scan.Code() != work.Clean || len(scan.Culprits) > 0:
		s.add("scan", "care", scan.Time.Format(time.RFC3339), "%s", scanWords(scan))
		if len(scan.Culprits) == 0 {
			s.next("trimlantern scan, which names what was not read")
		}
		s.next("fix what trimlantern preview and trimlantern scan name, then: trimlantern scan")
	case scan.AsHTTPS:
		s.add("scan", "care", scan.Time.Format(time.RFC3339), "read over HTTP (--as-https): not proof")
		s.next("trimlantern scan")
	case scan.Sample > 0:
		s.add("scan", "care", scan.Time.Format(time.RFC3339), "a sample only: %d of %d pages", scan.Coverage.PagesRead, scan.Coverage.PagesKnown)
		s.next("trimlantern scan")
	case !scan.Whole():
		s.add("scan", "care", scan.Time.Format(time.RFC3339), "of %d named addresses only", scan.Named)
		s.next("trimlantern scan")
	case !scan.Proven():
		s.add("scan", "care", scan.Time.Format(time.RFC3339), "not complete")
		s.next("trimlantern scan")
	case s.now.Sub(scan.Time) > work.Fresh:
		s.add("scan", "care", scan.Time.Format(time.RFC3339), "clean then, %s ago", work.Days(s.now.Sub(scan.Time)))
		s.next("trimlantern scan")
	default:
		except := ""
		if n := len(scan.Accepted); n > 0 {
			s.Excepted = n
			except = ", except for " + work.CountOf(n, "finding") + " that you accepted"
		}
		s.add("scan", "done", scan.Time.Format(time.RFC3339), "%d pages, all clean%s", scan.Read, except)
		return true
	}
	return false
}

// readyStep adds the result of the last trimlantern ready, judged by today's date and the owner's decisions, and
// returns what to do next about it; "" where there is nothing.
func readyStep(j *work.Job, to steps) (next string, err error) {
	var r ready.Result
	if err := j.Book.ReadJSON(ready.File, &r); err != nil {
		return "", work.Failed(err, "the logbook cannot be read", "remove the broken file")
	}
	if r.Site != j.Site.String() {
		to.add("ready", "todo", "", "not checked yet: trimlantern ready")
		return "trimlantern ready", nil
	}
	points, err := j.WithDecisions(r.Points)
	if err != nil {
		return "", err
	}
	until := r.Until
	if until.IsZero() && r.Days > 0 {
		until = r.Time.Add(time.Duration(r.Days) * 24 * time.Hour)
	}
	when := r.Time.UTC().Format(time.RFC3339)
	faults := 0
	for _, p := range points {
		if p.Counts() {
			faults++
		}
	}
	switch left := until.Sub(to.now); {
	case left <= 0 && !until.IsZero():
		to.add("ready", "care", when, "the certificate expired on %s", until.UTC().Format("2006-01-02"))
		next = "renew the certificate, then: trimlantern ready"
	case point.Worst(points) == point.Stop:
		to.add("ready", "care", when, "%s, and the switch is blocked", work.CountOf(faults, "fault"))
		next = "trimlantern ready"
	case faults > 0:
		to.add("ready", "care", when, "%s; the certificate is good for %s", work.CountOf(faults, "fault"), work.CountOf(int(left.Hours()/24), "more day"))
		next = "fix or accept what trimlantern ready names, then: trimlantern ready"
	case to.now.Sub(r.Time) > work.Fresh:
		to.add("ready", "care", when, "checked %s ago", work.Days(to.now.Sub(r.Time)))
		next = "trimlantern ready"
	default:
		to.add("ready", "done", when, "the certificate is good for %s", work.CountOf(int(left.Hours()/24), "more day"))
	}
	return next, nil
}

// backupStep adds what the last backup holds, where one was made.
func backupStep(j *work.Job, to steps) error {
	b, err := backup.Last(j)
	if err != nil || b == nil {
		return err
	}
	what := fmt.Sprintf("%d tables with %d rows, %d files", b.Tables, b.Rows, b.Files)
	state := "done"
	switch _, err := os.Stat(b.Folder); {
	case b.Code() != work.Clean:
		state = "care"
		what += "; not all of it: trimlantern backup"
	case err != nil:
		what += "; no longer at " + b.Folder
	}
	to.add("backup", state, b.Time.UTC().Format(time.RFC3339), "%s", what)
	return nil
}

// renewalStep adds when the certificates that this program obtained are renewed.
func renewalStep(j *work.Job, to steps) {
	renewals, err := cert.Renewals(j)
	if err != nil {
		to.add("renewal", "care", "", "what is known of the certificates cannot be read: %s", err.Error())
		return
	}
	for _, r := range renewals {
		when := ""
		if !r.Ran.IsZero() {
			when = r.Ran.UTC().Format(time.RFC3339)
		}
		if trouble := r.Trouble(to.now); trouble != "" {
			to.add("renewal", "care", when, "%s", trouble)
			to.next("trimlantern cert renew")
			continue
		}
		by := ""
		if r.Ran.IsZero() {
			by = "; no timer has run cert renew yet"
		}
		to.add("renewal", "done", when, "%s: due on %s, good until %s%s", r.Host, r.Due.Format("2006-01-02"), r.Until.Format("2006-01-02"), by)
	}
}

// redirectStep adds the result of the last trimlantern redirect test, if it is newer than the last change of
// the rules and not too old.
func redirectStep(j *work.Job, to steps) error {
	var r redirect.Tested
	if err := j.Book.ReadJSON(redirect.LastTest, &r); err != nil {
		return work.Failed(err, "the logbook cannot be read", "remove the broken file")
	}
	if r.Site != j.Site.String() {
		to.add("redirect", "todo", "", "not tested: trimlantern redirect test")
		to.next("trimlantern redirect test")
		return nil
	}
	var err error
	if r.Points, err = j.WithDecisions(r.Points); err != nil {
		return err
	}
	changed, err := j.RulesChanged()
	if err != nil {
		return err
	}
	when := r.Time.UTC().Format(time.RFC3339)
	faulty, accepted := r.Faulty()
	switch bad := faulty - accepted; {
	case r.Time.Before(changed):
		to.add("redirect", "care", when, "older than the last change of the rules")
		to.next("trimlantern redirect test")
	case bad > 0:
		to.add("redirect", "care", when, "%d of %d addresses do not lead to the secure one as they should", bad, len(r.Journeys))
		to.next("trimlantern redirect show, then: trimlantern redirect test")
	case len(r.Paths) > 0:
		to.add("redirect", "care", when, "only %s is redirected", strings.Join(r.Paths, ", "))
		to.next("trimlantern redirect test")
	case to.now.Sub(r.Time) > work.Fresh:
		to.add("redirect", "care", when, "tested %s ago", work.Days(to.now.Sub(r.Time)))
		to.next("trimlantern redirect test")
	case r.Unfollowed() > 0:
		to.add("redirect", "care", when, "%d of %d addresses could not be reached from the machine that tested", r.Unfollowed(), len(r.Journeys))
		to.next("trimlantern redirect test")
	case accepted > 0:
		to.add("redirect", "done", when, "%d of %d addresses lead to the secure one; the faults of %d are accepted", len(r.Journeys)-accepted, len(r.Journeys), accepted)
	default:
		to.add("redirect", "done", when, "all %d addresses lead to the secure one", len(r.Journeys))
	}
	return nil
}

func scanWords(s *findings.Scan) string {
	what := ""
	for _, c := range mixed.Classes {
		if n := s.Classes[c]; n > 0 {
			what += fmt.Sprintf("%d %s, ", n, c.Words())
		}
	}
	c := s.Coverage
	if what == "" {
		return fmt.Sprintf("clean as far as read: %d of %d pages", c.PagesRead, c.PagesKnown)
	}
	if c.Complete {
		return strings.TrimSuffix(what, ", ")
	}
	return what + fmt.Sprintf("%d of %d pages read", c.PagesRead, c.PagesKnown)
}

// dumpStep says what was made of the newest sheet of a dump, and when. That it was loaded only the pages can
// show: a scan since then that found all of them clean.
func dumpStep(j *work.Job, to steps, sheetID string, end *sheet.Summary, scan *findings.Scan) (wrote time.Time, err error) {
	last := dumps.Applied{}
	if err := j.Book.ReadJSON(work.DumpRecord, &last); err != nil {
		return wrote, work.Failed(err, "the logbook cannot be read", "delete "+filepath.Join(j.Book.Path(), work.DumpRecord))
	}
	wrote, _ = time.Parse(time.RFC3339, last.Time) // else it was never written
	files := strings.Join(last.Wrote, ", ")
	switch {
	case end != nil && end.Cells == 0:
		to.add("apply", "done", "", "the dump needs no change")
	case last.Sheet == "" || last.Sheet != sheetID:
		to.add("apply", "todo", "", "no new dump and no patch was written yet")
		if end != nil {
			to.next("trimlantern apply --write FILE")
		}
	case scan != nil && scan.Proven() && scan.Code() == work.Clean && !scan.Time.Before(wrote):
		to.add("apply", "done", last.Time, "%d cells changed in %s; the pages are clean since", last.Changed, files)
	default:
		to.add("apply", "care", last.Time, "%d cells changed in %s; whether it was loaded cannot be seen from here", last.Changed, files)
		to.next("load " + files + ", then scan the site: trimlantern scan")
	}
	return wrote, nil
}
