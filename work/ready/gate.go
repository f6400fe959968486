package ready

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"trimlantern/core/change"
	"trimlantern/core/hops"
	"trimlantern/core/point"
	"trimlantern/outside/probe"
	"trimlantern/report/words"
	"trimlantern/work"
)

// Reached reports whether anything answered for the site, over HTTP or HTTPS: a machine without a network, or one from which
// the site's names cannot be looked up, knows nothing of it.
func (r *Result) Reached() bool {
	for _, t := range r.Pages {
		if t.Plain.Err == "" || t.Secure.Err == "" && t.Secure.Status > 0 || t.Plain.Loop || t.Secure.Loop {
			return true
		}
	}
	return false
}

// Blocks returns what blocks the switch, in the order in which it was found. A loop alone does not, where the next step ends it:
//
//   - the server sends visitors to HTTPS already, and the system sends them back because its own address is the insecure one: then
//     no visitor gets a page now, and the change is the remedy;
//   - the addresses were made secure already: a system that redirects by itself ends the loop as soon as a rule tells it what
//     visitors of a proxy use.
func (r *Result) Blocks(j *work.Job) (all []point.Point, err error) {
	onlyLoops, circle, down, remedy := true, true, false, false
	for _, p := range r.Points {
		remedy = remedy || p.ID == words.AddressToBeSecure.ID && p.What != "" && strings.HasPrefix(p.What, "http:")
		down = down || p.ID == string(hops.Loop) && slices.ContainsFunc(p.About, func(about string) bool { return strings.HasPrefix(about, "http:") })
		if p.Counts() && p.Grade == point.Stop {
			all = append(all, p)
			onlyLoops = onlyLoops && p.ID == string(hops.Loop)
			circle = circle && (p.ID == string(hops.Loop) || p.ID == string(hops.Downgrade))
		}
	}
	switch {
	case circle && down && remedy:
		return nil, nil
	case len(all) == 0 || !onlyLoops:
		return all, nil
	}
	runs, err := j.Runs()
	if slices.ContainsFunc(runs, func(run *work.JournalState) bool { return run.Mark == change.Finished }) {
		all = nil
	}
	return all, err
}

// Last returns the last result that the logbook has for this site, with today's decisions; nil: there is none.
func Last(j *work.Job) (*Result, error) {
	var r Result
	if err := j.Book.ReadJSON(File, &r); err != nil {
		return nil, work.BookFault(err)
	}
	if r.Site != j.Site.String() {
		return nil, nil
	}
	points, err := j.WithDecisions(r.Points)
	r.Points = points
	return &r, err
}

// Gate refuses to change a site's addresses while HTTPS does not work for it: visitors would be sent where nothing answers. Last
// evidence counts while it is fresh and good; otherwise it looks now. Where the site cannot be reached from here it says so in
// unknown and lets pass, and so does the rest of a run that was interrupted.
func Gate(ctx context.Context, j *work.Job) (unknown string, err error) {
	runs, err := j.Runs()
	if err != nil || slices.ContainsFunc(runs, func(run *work.JournalState) bool { return run.Mark == "" }) {
		return "", err
	}
	last, err := Last(j)
	if err != nil {
		return "", err
	}
	changed, err := j.CertificateChanged()
	if err != nil {
		return "", err
	}
	if last != nil {
		stops, err := last.Blocks(j)
		if err != nil {
			return "", err
		}
		fresh := j.Now().Sub(last.Time) < work.Fresh && !last.Time.Before(changed)
		if len(stops) == 0 && (fresh || j.Offline) {
			return "", nil
		}
		if j.Offline {
			return "", refused(stops)
		}
	}
	if j.Offline {
		return words.NotReadyOffline, nil
	}
	defer j.Progress.End()
	if known, err := known(ctx, j); err != nil || !known {
		return words.NotReadyAsked, err
	}
	r, err := check(ctx, j, Options{})
	if err != nil {
		return "", err
	}
	if !r.Reached() {
		return words.NotReadyAsked, nil
	}
	if err := r.keep(j); err != nil {
		return "", err
	}
	stops, err := r.Blocks(j)
	if err != nil || len(stops) == 0 {
		return "", err
	}
	return "", refused(stops)
}

// known reports whether any name of the site can be looked up from here.
func known(ctx context.Context, j *work.Job) (bool, error) {
	client, err := j.Web()
	if err != nil {
		return false, err
	}
	for _, name := range j.Site.Hosts() {
		if addrs, err := probe.Addresses(ctx, client, name, "443"); err == nil && len(addrs) > 0 {
			return true, nil
		}
	}
	return false, nil
}

// refused says what blocks the switch.
func refused(stops []point.Point) error {
	what := stops[0].What
	if more := len(stops) - 1; more > 0 {
		what += fmt.Sprintf(" (and %d more)", more)
	}
	return work.Refused(words.Fill(words.NotReady, what), words.NotReadyDo)
}
