// Package status is the road as a check list with dated evidence, and the history that the logbook holds.
package status

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"trimlantern/core/change"
	"trimlantern/core/mixed"
	"trimlantern/core/point"
	"trimlantern/outside/database"
	"trimlantern/report/words"
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

// add adds a step with a sentence of the catalogue and the values for its places.
func (s steps) add(name, state, when, sentence string, values ...any) {
	s.say(name, state, when, words.Fill(sentence, values...))
}

// say adds a step in words that are whole.
func (s steps) say(name, state, when, what string) {
	s.Steps = append(s.Steps, Step{name, state, what, when})
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
		to.say("database", "care", "", err.Error())
		to.next(words.Fill(words.NextDatabase, j.File.Path))
	} else {
		db.Close()
		if j.File.Database.Kind == database.NoneKind {
			to.add("database", "done", "", words.DatabaseNone)
		} else {
			to.add("database", "done", "", words.DatabaseThere, len(tables), j.File.Database.Prefix)
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
	inForce := func(r *work.JournalState) bool { return r.Mark == change.Finished }
	if !slices.ContainsFunc(runs, inForce) { // it comes before the first change
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
		to.next(words.NextAgain)
	}
	to.next("trimlantern preview")
	return st, nil
}

// lockStep adds what the system's configuration holds against the database, as it is now.
func lockStep(j *work.Job, to steps) {
	locks, err := j.Locks()
	if err != nil {
		to.add("locks", "care", "", words.LocksUnread, err)
		return
	}
	for _, l := range locks {
		switch {
		case l.Insecure():
			to.add("locks", "care", "", words.LockInsecure, l.Words(), l.Secure())
			to.next(words.Fill(words.NextLock, l.Lock.Line, l.File, l.Secure()))
		case l.Unknown():
			to.add("locks", "done", "", words.LockUnclear, l.Words())
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
		to.next(words.NextAgain)
	}
	return nil
}

// preview adds what the newest sheet says; end is nil where it is broken.
func (s steps) preview(id string, header change.Header, end *change.Summary) {
	switch {
	case id == "":
		s.add("preview", "todo", "", words.PreviewNot)
		s.next("trimlantern preview")
	case end == nil:
		s.add("preview", "care", "", words.PreviewBroken, id)
		s.next("trimlantern preview")
	case header.Kind == preview.Lengths:
		s.add("preview", "care", header.Time, words.PreviewLengths, words.Count(end.Cells, "cell"))
	default:
		what := words.PreviewCells
		if end.Files > 0 {
			what = words.PreviewFiles
		}
		s.add("preview", "done", header.Time, what, words.Count(end.References+end.FileRefs, "reference"), words.Count(end.Cells, "cell"), words.Count(end.Files, "file"))
	}
}

// apply adds what all journals in force say, and reports whether changes are in effect.
func (s steps) apply(runs []*work.JournalState, sheetID string, end *change.Summary) bool {
	if len(runs) == 0 {
		s.add("apply", "todo", "", words.ApplyNot)
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
		case change.Undone:
			continue
		case "":
			open = r.Header.Sheet
			s.add("apply", "care", r.Header.Time, words.ApplyStopped, words.Count(r.Cells, "cell"))
			continue
		}
		force++
		cells, files, skips = cells+r.Cells, files+len(r.Files), r.Read.Counts.Skips // what an earlier run skipped, a later one took up
	}
	switch {
	case open != "":
		return false
	case force == 0:
		s.add("apply", "todo", last.Time, words.ApplyUndone, words.Count(last.Cells-last.Left, "cell"), last.Left)
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
	done := words.ApplyCells
	if files > 0 {
		done = words.ApplyFiles
	}
	what := words.Fill(done, words.Count(cells, "cell"), words.Count(files, "file"), skips)
	if force > 1 {
		what = words.Fill(words.ApplyRuns, what, force)
	}
	s.say("apply", state, last.Time, what)
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
		s.add("scan", "todo", "", words.ScanNot)
		s.next("trimlantern scan")
	case scan.Time.Before(changed.Truncate(time.Second)):
		s.add("scan", "care", scan.Time.Format(time.RFC3339), words.ScanBefore)
		s.next("trimlantern scan")
	case scan.Code() != work.Clean || len(scan.Culprits) > 0:
		s.say("scan", "care", scan.Time.Format(time.RFC3339), scanWords(scan))
		if len(scan.Culprits) == 0 {
			s.next(words.NextUnread)
		}
		s.next(words.NextFindings)
	case scan.AsHTTPS:
		s.add("scan", "care", scan.Time.Format(time.RFC3339), words.ScanAsHTTPS)
		s.next("trimlantern scan")
	case scan.Sample > 0:
		s.add("scan", "care", scan.Time.Format(time.RFC3339), words.ScanSample, scan.Coverage.PagesRead, words.Count(scan.Coverage.PagesKnown, "page"))
		s.next("trimlantern scan")
	case !scan.Whole():
		s.add("scan", "care", scan.Time.Format(time.RFC3339), words.ScanNamed, words.Count(scan.Named, "named address"))
		s.next("trimlantern scan")
	case !scan.Proven():
		s.add("scan", "care", scan.Time.Format(time.RFC3339), words.ScanIncomplete)
		s.next("trimlantern scan")
	case s.now.Sub(scan.Time) > work.Fresh:
		s.add("scan", "care", scan.Time.Format(time.RFC3339), words.ScanOld, work.Days(s.now.Sub(scan.Time)))
		s.next("trimlantern scan")
	default:
		what := words.ScanClean
		if s.Excepted = len(scan.Accepted); s.Excepted > 0 {
			what = words.ScanCleanExcept
		}
		s.add("scan", "done", scan.Time.Format(time.RFC3339), what, words.Count(scan.Read, "page"), words.Count(s.Excepted, "finding"))
		return true
	}
	return false
}

// readyStep adds the result of the last trimlantern ready, judged by today's date and the owner's decisions, and
// returns what to do next about it; "" where there is nothing.
func readyStep(j *work.Job, to steps) (next string, err error) {
	r, err := ready.Last(j)
	if err != nil {
		return "", err
	}
	if r == nil {
		to.add("ready", "todo", "", words.ReadyNot)
		return "trimlantern ready", nil
	}
	points := r.Points
	stops, err := r.Blocks(j)
	if err != nil {
		return "", err
	}
	changed, err := j.CertificateChanged()
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
	case r.Time.Before(changed.Truncate(time.Second)):
		to.add("ready", "care", when, words.ReadyBefore)
		next = "trimlantern ready"
	case left <= 0 && !until.IsZero():
		to.add("ready", "care", when, words.ReadyExpired, until.UTC().Format("2006-01-02"))
		next = words.NextRenew
	case len(stops) == 0 && point.Worst(points) == point.Stop: // a loop that the next step ends
		to.add("ready", "care", when, words.ReadyLoop)
	case len(stops) > 0:
		to.add("ready", "care", when, words.ReadyBlocked, words.Count(faults, "fault"))
		next = "trimlantern ready"
	case faults > 0:
		to.add("ready", "care", when, words.ReadyFaults, words.Count(faults, "fault"), words.GoodFor(left))
		next = words.NextFaults
	case to.now.Sub(r.Time) > work.Fresh:
		to.add("ready", "care", when, words.ReadyOld, work.Days(to.now.Sub(r.Time)))
		next = "trimlantern ready"
	default:
		to.add("ready", "done", when, words.ReadyGood, words.GoodFor(left))
	}
	return next, nil
}

// backupStep adds what the last backup holds, where one was made.
func backupStep(j *work.Job, to steps) error {
	b, err := backup.Last(j)
	if err != nil || b == nil {
		return err
	}
	what := words.Fill(words.BackupHolds, words.Count(b.Tables, "table"), words.Count(int(b.Rows), "row"), words.Count(b.Files, "file"))
	state := "done"
	switch _, err := os.Stat(b.Folder); {
	case b.Code() != work.Clean:
		state = "care"
		what = words.Fill(words.BackupPart, what)
	case err != nil:
		what = words.Fill(words.BackupGone, what, b.Folder)
	}
	to.say("backup", state, b.Time.UTC().Format(time.RFC3339), what)
	return nil
}

// renewalStep adds when the certificates that this program obtained are renewed.
func renewalStep(j *work.Job, to steps) {
	renewals, err := cert.Renewals(j)
	if err != nil {
		to.add("renewal", "care", "", words.RenewalsUnread, err)
		return
	}
	for _, r := range renewals {
		when := ""
		if !r.Ran.IsZero() {
			when = r.Ran.UTC().Format(time.RFC3339)
		}
		if trouble := r.Trouble(to.now); trouble != "" {
			to.say("renewal", "care", when, trouble)
			to.next("trimlantern cert renew")
			continue
		}
		due := words.RenewalDue
		if r.Ran.IsZero() {
			due = words.RenewalNoTimer
		}
		to.add("renewal", "done", when, due, r.Host, r.Due.Format("2006-01-02"), r.Until.Format("2006-01-02"))
	}
}

// redirectStep adds the result of the last trimlantern redirect test, if it is newer than the last change of
// the rules and not too old.
func redirectStep(j *work.Job, to steps) error {
	var r redirect.Tested
	if err := j.Book.ReadJSON(redirect.LastTest, &r); err != nil {
		return work.BookFault(err)
	}
	if r.Site != j.Site.String() {
		to.add("redirect", "todo", "", words.RedirectNot)
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
	all := words.Count(len(r.Journeys), "address")
	switch bad := faulty - accepted; {
	case r.Time.Before(changed):
		to.add("redirect", "care", when, words.RedirectChanged)
		to.next("trimlantern redirect test")
	case bad > 0:
		to.add("redirect", "care", when, words.RedirectFaults, bad, all)
		to.next(words.NextRedirects)
	case len(r.Paths) > 0:
		to.add("redirect", "care", when, words.RedirectPart, strings.Join(r.Paths, ", "))
		to.next("trimlantern redirect test")
	case to.now.Sub(r.Time) > work.Fresh:
		to.add("redirect", "care", when, words.RedirectOld, work.Days(to.now.Sub(r.Time)))
		to.next("trimlantern redirect test")
	case r.Unfollowed() > 0:
		to.add("redirect", "care", when, words.RedirectFar, r.Unfollowed(), all)
		to.next("trimlantern redirect test")
	case accepted > 0:
		to.add("redirect", "done", when, words.RedirectExcept, len(r.Journeys)-accepted, all, accepted)
	default:
		to.add("redirect", "done", when, words.RedirectGood, all)
	}
	return nil
}

func scanWords(s *findings.Scan) string {
	var found []string
	for _, c := range mixed.Classes {
		if n := s.Classes[c]; n > 0 {
			found = append(found, fmt.Sprintf("%d %s", n, words.Class(c)))
		}
	}
	c, what := s.Coverage, strings.Join(found, ", ")
	switch {
	case what == "":
		return words.Fill(words.ScanPart, c.PagesRead, words.Count(c.PagesKnown, "page")) + words.Open(c)
	case c.Complete:
		return what
	}
	return words.Fill(words.ScanFoundPart, what, c.PagesRead, words.Count(c.PagesKnown, "page"))
}

// dumpStep says what was made of the newest sheet of a dump, and when. That it was loaded only the pages can
// show: a scan since then that found all of them clean.
func dumpStep(j *work.Job, to steps, sheetID string, end *change.Summary, scan *findings.Scan) (wrote time.Time, err error) {
	last := dumps.Applied{}
	if err := j.Book.ReadJSON(work.DumpRecord, &last); err != nil {
		return wrote, work.BookFault(err)
	}
	wrote, _ = time.Parse(time.RFC3339, last.Time) // else it was never written
	files := strings.Join(last.Wrote, ", ")
	switch {
	case end != nil && end.Cells == 0:
		to.add("apply", "done", "", words.DumpAsItIs)
	case last.Sheet == "" || last.Sheet != sheetID:
		to.add("apply", "todo", "", words.DumpNot)
		if end != nil {
			to.next("trimlantern apply --write FILE")
		}
	case scan != nil && scan.Proven() && scan.Code() == work.Clean && !scan.Time.Before(wrote):
		to.add("apply", "done", last.Time, words.DumpLoaded, words.Count(last.Changed, "cell"), files)
	default:
		to.add("apply", "care", last.Time, words.DumpWritten, words.Count(last.Changed, "cell"), files)
		to.next(words.Fill(words.NextLoad, files))
	}
	return wrote, nil
}
