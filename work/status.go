package work

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"trimlantern/core/certs"
	"trimlantern/core/mixed"
	"trimlantern/core/sheet"
)

// Status is the road as a check list.
type Status struct {
	Site  string `json:"site"`
	Steps []Step `json:"steps"`
	Next  string `json:"next"` // the one next command
	Clean bool   `json:"clean"`
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
		return Clean
	}
	return Remain
}

// steps gathers the check list and the first thing to do.
type steps struct{ *Status }

func (s steps) add(name, state, when, what string, args ...any) {
	s.Steps = append(s.Steps, Step{name, state, fmt.Sprintf(what, args...), when})
}

// next says what to do next, unless something before it comes first.
func (s steps) next(command string) {
	if s.Next == "" {
		s.Next = command
	}
}

// Status reads the logbook, and asks the database only whether it is there.
func (j *Job) Status(ctx context.Context) (*Status, error) {
	defer j.Progress.End()
	st := &Status{Site: j.Site.String()}
	to := steps{st}
	if !j.Stored() {
		return st, j.looked(to)
	}
	if db, tables, err := j.open(ctx, true); err != nil {
		to.add("database", "care", "", "%s", err.Error())
		to.next("fix database in " + j.File.Path + ", then: trimlantern status")
	} else {
		db.Close()
		to.add("database", "done", "", "answers; %d tables with the prefix %q", len(tables), j.File.Database.Prefix)
	}
	if err := j.readyStep(to); err != nil {
		return nil, err
	}
	sheetID, header, end, err := j.lastSheet()
	if err != nil {
		return nil, err
	}
	last, err := j.lastJournal()
	if err != nil {
		return nil, err
	}
	to.preview(sheetID, header, end)
	applied := to.apply(last, sheetID, end)
	if err := j.redirectStep(to); err != nil {
		return nil, err
	}
	scan, err := j.weightiest()
	if err != nil {
		return nil, err
	}
	if to.scan(scan, last) {
		// On HTTPS is said where every step has its evidence, and not where nobody looked.
		st.Clean = (applied || end != nil && end.Cells+end.Files == 0) && !slices.ContainsFunc(st.Steps, func(s Step) bool { return s.State != "done" && s.Name != "apply" })
	}
	if st.Clean {
		to.next("scan again in a month: editors paste http:// links")
	}
	to.next("trimlantern preview")
	return st, nil
}

// looked is the status of a site that is only looked at: its database is not known.
func (j *Job) looked(to steps) error {
	if err := j.readyStep(to); err != nil {
		return err
	}
	if err := j.redirectStep(to); err != nil {
		return err
	}
	scan, err := j.weightiest()
	if err != nil {
		return err
	}
	if to.scan(scan, nil) {
		to.Clean = !slices.ContainsFunc(to.Steps, func(s Step) bool { return s.State != "done" })
	}
	if to.Clean {
		to.next("scan again in a month: editors paste http:// links")
	}
	for _, s := range to.Steps {
		if s.State != "done" {
			command := s.Name
			if command == "redirect" {
				command = "redirect test"
			}
			to.next("trimlantern " + command + " --site " + j.Site.String())
		}
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
	case header.Kind == Lengths:
		s.add("preview", "care", header.Time, "the newest sheet corrects lengths in %d cells, and no references", end.Cells)
	default:
		and := ""
		if end.Files > 0 {
			and = fmt.Sprintf(" and %d files", end.Files)
		}
		s.add("preview", "done", header.Time, "%d references in %d cells%s to change", end.References+end.FileRefs, end.Cells, and)
	}
}

// apply adds what the newest journal says, and reports whether its changes are in effect.
func (s steps) apply(last *journalState, sheetID string, end *sheet.Summary) bool {
	switch {
	case last == nil:
		s.add("apply", "todo", "", "nothing was changed yet")
		if end == nil || end.Cells+end.Files > 0 {
			s.next("trimlantern apply")
		}
	case last.Mark == sheet.Undone:
		s.add("apply", "todo", last.Time, "undone: %d cells put back, %d left as others changed them", last.Cells-last.Left, last.Left)
		if last.Header.Sheet == sheetID {
			s.next("trimlantern apply")
		}
	case last.Mark == "":
		s.add("apply", "care", last.Header.Time, "interrupted after %d cells", last.Cells)
		s.next("trimlantern apply " + last.Header.Sheet)
	default:
		state := "done"
		if last.Skips > 0 { // they are still as they were: a new sheet takes them up
			state = "care"
			s.next("trimlantern preview")
		}
		and := ""
		if n := len(last.Files); n > 0 {
			and = fmt.Sprintf(" and %d files", n)
		}
		s.add("apply", state, last.Time, "%d cells%s changed, %d skipped", last.Cells, and, last.Skips)
		if end != nil && last.Header.Sheet != sheetID && end.Cells+end.Files > 0 {
			s.next("trimlantern apply")
		}
		return true
	}
	return false
}

// scan adds what the newest scan says, and reports whether it is clean and newer than the last
// change.
func (s steps) scan(scan *Scan, last *journalState) bool {
	switch {
	case scan == nil:
		s.add("scan", "todo", "", "not made yet")
		s.next("trimlantern scan")
	case last != nil && scan.Time.Format(time.RFC3339) < max(last.Time, last.Header.Time):
		s.add("scan", "care", scan.Time.Format(time.RFC3339), "older than the last change")
		s.next("trimlantern scan")
	case scan.Code() != Clean || len(scan.Culprits) > 0:
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
	default:
		s.add("scan", "done", scan.Time.Format(time.RFC3339), "%d pages, all clean", scan.Read)
		return true
	}
	return false
}

// readyStep adds the result of the last trimlantern ready. The step is optional.
func (j *Job) readyStep(to steps) error {
	var r Ready
	if err := j.Book.ReadJSON(readyFile, &r); err != nil {
		return world(err, "the logbook cannot be read", "remove the broken file")
	}
	when := r.Time.UTC().Format(time.RFC3339)
	switch {
	case r.Site == "":
		to.add("ready", "todo", "", "not looked at: trimlantern ready")
	case r.Worst() == certs.Stop:
		to.add("ready", "care", when, "something blocks the switch")
		to.next("trimlantern ready")
	default:
		to.add("ready", "done", when, "the certificate is good for %d more days from then", r.Days)
	}
	return nil
}

// redirectStep adds the result of the last trimlantern redirect test. The step is optional.
func (j *Job) redirectStep(to steps) error {
	var r RedirectTest
	if err := j.Book.ReadJSON(redirectsFile, &r); err != nil {
		return world(err, "the logbook cannot be read", "remove the broken file")
	}
	bad := 0
	for _, s := range r.Journeys {
		if len(s.Problems) > 0 {
			bad++
		}
	}
	when := r.Time.UTC().Format(time.RFC3339)
	switch {
	case r.Site == "":
		to.add("redirect", "todo", "", "not tested: trimlantern redirect test")
	case bad > 0:
		to.next("trimlantern redirect show, then: trimlantern redirect test")
		to.add("redirect", "care", when, "%d of %d addresses do not lead to the secure one as they should", bad, len(r.Journeys))
	default:
		to.add("redirect", "done", when, "all %d addresses lead to the secure one", len(r.Journeys))
	}
	return nil
}

func scanWords(s *Scan) string {
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

// lastSheet reads header and summary of the newest sheet; end is nil where it is
// broken.
func (j *Job) lastSheet() (id string, h sheet.Header, end *sheet.Summary, err error) {
	ids, err := j.Book.Sheets()
	if err != nil {
		return "", h, nil, world(err, "the logbook cannot be read", "check the folder "+j.Book.Path())
	}
	if len(ids) == 0 {
		return "", h, nil, nil
	}
	id = ids[len(ids)-1]
	h, end, err = j.readSheet(id)
	return id, h, end, err
}

// readSheet reads header and summary of a sheet; end is nil where it is broken.
func (j *Job) readSheet(id string) (h sheet.Header, end *sheet.Summary, err error) {
	f, err := j.Book.OpenSheet(id)
	if err != nil {
		return h, nil, world(err, "the logbook cannot be read", "check the folder "+j.Book.Path())
	}
	defer f.Close()
	r, err := sheet.NewReader(f)
	if err != nil {
		return h, nil, nil // broken: the caller says so
	}
	defer r.Close()
	if r.Each(nil, nil, nil) != nil {
		return r.Header, nil, nil
	}
	return r.Header, r.End, nil
}

// lastJournal reads the newest journal, or returns nil.
func (j *Job) lastJournal() (*journalState, error) {
	ids, err := j.Book.Journals()
	if err != nil {
		return nil, world(err, "the logbook cannot be read", "check the folder "+j.Book.Path())
	}
	for i := len(ids) - 1; i >= 0; i-- {
		st, err := j.readState(ids[i], nil)
		if err != nil {
			return nil, world(err, "the logbook cannot be read", "keep the file")
		}
		if st.Blocks > 0 && st.Header.Sheet != "" {
			return st, nil
		}
	}
	return nil, nil
}

// weightiest returns the newest scan that says something of the whole site: one that found something,
// or was of all of it. Where there is none, the newest of any kind.
func (j *Job) weightiest() (*Scan, error) {
	ids, err := j.Book.Scans()
	if err != nil {
		return nil, err
	}
	var newest *Scan
	for i := len(ids) - 1; i >= 0; i-- {
		s, err := j.readScan(ids[i])
		if err != nil {
			return nil, err
		}
		if newest == nil {
			newest = s
		}
		if len(s.Culprits) > 0 || s.Sample == 0 && s.Named == 0 && !s.AsHTTPS {
			return s, nil
		}
	}
	return newest, nil
}

func (j *Job) lastScan() (*Scan, error) {
	ids, err := j.Book.Scans()
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return j.readScan(ids[len(ids)-1])
}
