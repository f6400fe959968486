// Package guide walks the whole road from HTTP to HTTPS with a person: it looks, shows, asks one question at a
// time, does what was answered, and checks. It can stop anywhere; the same walk goes on from what the logbook
// holds. It knows no words: what it tells and asks are values, which whoever talks to the person puts into words.
package guide

import (
	"context"
	"errors"
	"slices"

	"trimlantern/work"
	"trimlantern/work/backup"
	"trimlantern/work/cert"
	"trimlantern/work/decide"
	"trimlantern/work/findings"
	"trimlantern/work/preview"
	"trimlantern/work/ready"
	"trimlantern/work/run"
	"trimlantern/work/scan"
	"trimlantern/work/status"
)

// Step is one step of the road. The values are stable names.
type Step string

// The steps, in their order.
const (
	Site     Step = "site"
	Ready    Step = "ready"
	Backup   Step = "backup"
	Look     Step = "look" // what the pages load today
	Preview  Step = "preview"
	Apply    Step = "apply"
	Redirect Step = "redirect"
	Check    Step = "check" // every page, over HTTPS
	Summary  Step = "summary"
)

// Steps lists them.
var Steps = []Step{Site, Ready, Backup, Look, Preview, Apply, Redirect, Check, Summary}

// Question is one thing that a person is asked.
type Question struct {
	ID      string   // a stable name: files of answers know it
	About   any      // what its words need; its type goes with the ID
	Choices []string // stable names; none: a text is asked for
	Default string   // the safe answer; "": there is none
	Key     string   // what it is about, where the same question may come several times: a URL, a place
}

// Person is who is asked and told.
type Person interface {
	// Ask returns one of the choices, or a text. It fails with ErrStop where the person wants to stop.
	Ask(ctx context.Context, q Question) (string, error)
	// Begin says that a step begins.
	Begin(s Step)
	// Tell tells a result in a few lines: one of the results of package work, or an error.
	Tell(result any)
}

// ErrStop says that the person wants to stop here.
var ErrStop = errors.New("stopped")

// errUntil says that the walk came to where it was to end.
var errUntil = errors.New("far enough")

// Options bound a walk.
type Options struct {
	Until Step         // the last step; "": all of them
	Live  bool         // somebody answers who can answer otherwise: what failed is asked again
	Scan  scan.Options // how pages are read
	Cert  cert.ObtainOptions
}

// Walked is what a walk came to.
type Walked struct {
	Site    string         `json:"site"`
	Steps   []Step         `json:"steps"`             // that were done, in order
	Stopped Step           `json:"stopped,omitempty"` // where the person, or --until, stopped
	Status  *status.Status `json:"status"`            // the road as it is now
	Left    *decide.List   `json:"left"`              // what still needs a decision
	Scan    *findings.Scan `json:"scan,omitempty"`    // the last one of this walk
	Before  *findings.Scan `json:"before,omitempty"`  // the first one
	Report  string         `json:"report,omitempty"`  // the file with the summary
}

// Code is the exit code that the walk comes to: only a site that is on HTTPS, with evidence, is done.
func (w *Walked) Code() int {
	if w.Status != nil && w.Status.Clean {
		return work.Clean
	}
	return work.Remain
}

// walk is a walk at work.
type walk struct {
	ctx    context.Context
	job    *work.Job
	person Person
	o      Options
	out    *Walked
	later  map[string]bool // items that were put off
	last   *preview.Result // the newest one, where nothing was decided or changed since
	loaded bool            // of a site known by an export: what was made of it is loaded into the database
	faulty bool            // the site was not all ready: what was changed may have mended that
}

// Walk walks the road of a site whose site file is there.
func Walk(ctx context.Context, job *work.Job, person Person, o Options) (*Walked, error) {
	w := &walk{ctx: ctx, job: job, person: person, o: o, later: map[string]bool{}, out: &Walked{Steps: []Step{}}}
	err := w.run()
	if err != nil && !errors.Is(err, ErrStop) && !errors.Is(err, errUntil) {
		return nil, err
	}
	if w.out.Status, err = status.Of(ctx, job); err != nil {
		return nil, err
	}
	w.out.Site = w.out.Status.Site
	if w.out.Left, err = decide.WorkList(job); err != nil {
		return nil, err
	}
	return w.out, nil
}

// run takes the steps, one after the other.
func (w *walk) run() error {
	for _, s := range []struct {
		step Step
		do   func() error
	}{{Ready, w.ready}, {Backup, w.backup}, {Look, w.look}, {Preview, w.preview}, {Apply, w.apply}, {Redirect, w.redirect}, {Check, w.check}} {
		if w.o.Until != "" && slices.Index(Steps, s.step) > slices.Index(Steps, w.o.Until) {
			w.out.Stopped = w.o.Until
			return errUntil
		}
		w.person.Begin(s.step)
		if err := s.do(); err != nil {
			w.out.Stopped = s.step
			return err
		}
		w.out.Steps = append(w.out.Steps, s.step)
	}
	return nil
}

// ask asks a question.
func (w *walk) ask(q Question) (string, error) { return w.person.Ask(w.ctx, q) }

// yes asks a question that is answered with yes or no.
func (w *walk) yes(id string, about any) (bool, error) {
	answer, err := w.ask(Question{ID: id, About: about, Choices: []string{"yes", "no"}, Default: "yes"})
	return answer == "yes", err
}

// ready looks whether the site may switch, until it may or the person goes on all the same.
func (w *walk) ready() error {
	if sheet, err := unfinished(w.job); err != nil {
		return err
	} else if sheet != "" {
		if err := w.unfinished(sheet); err != nil {
			return err
		}
	}
	for {
		r, err := ready.Check(w.ctx, w.job, ready.Options{})
		if err != nil {
			return err
		}
		w.person.Tell(r)
		w.faulty = r.Code() != work.Clean
		if !w.faulty {
			return nil
		}
		stops, err := r.Blocks(w.job)
		if err != nil {
			return err
		}
		q := Question{ID: "ready", About: r, Default: "stop", Choices: []string{"again", "support", "stop"}}
		if len(stops) == 0 {
			q.Choices, q.Default = append([]string{"on"}, q.Choices...), "on"
		}
		if r.WantsCertificate() {
			q.Choices = append([]string{"obtain"}, q.Choices...)
		}
		answer, err := w.ask(q)
		if err != nil {
			return err
		}
		switch answer {
		case "on":
			return nil
		case "stop":
			return ErrStop
		case "support":
			words, err := ready.Check(w.ctx, w.job, ready.Options{Support: true})
			if err != nil {
				return err
			}
			w.person.Tell(Support(words.Support))
		case "obtain":
			if err := w.obtain(); err != nil {
				return err
			}
		}
	}
}

// Support is a text for the people who run the server.
type Support string

// unfinished goes on with a run that was interrupted, or takes it back.
func (w *walk) unfinished(sheet string) error {
	answer, err := w.ask(Question{ID: "unfinished", About: sheet, Choices: []string{"finish", "undo", "stop"}, Default: "finish"})
	if err != nil {
		return err
	}
	switch answer {
	case "finish":
		a, err := run.Apply(w.ctx, w.job, run.Options{Sheet: sheet})
		if err != nil {
			return err
		}
		w.person.Tell(a)
	case "undo":
		u, err := run.Undo(w.ctx, w.job, run.UndoOptions{})
		if err != nil {
			return err
		}
		w.person.Tell(u)
	default:
		return ErrStop
	}
	return nil
}

// obtain has an authority issue a certificate.
func (w *walk) obtain() error {
	o := w.o.Cert
	for _, one := range []struct {
		id   string
		into *string
	}{{"directory", &o.Directory}, {"chain", nil}, {"key", nil}, {"reload", &o.After}} {
		if one.into != nil && *one.into != "" || one.into == nil && len(w.o.Cert.Install) > 0 {
			continue
		}
		answer, err := w.ask(Question{ID: one.id})
		if err != nil {
			return err
		}
		switch {
		case one.into != nil:
			*one.into = answer
		case answer != "":
			o.Install = append(o.Install, answer)
		}
		if one.id == "directory" && answer == "" {
			return nil
		}
		if one.id == "chain" && answer == "" { // then it stays beside the site file
			break
		}
	}
	agree, err := w.ask(Question{ID: "terms", About: o.Directory, Choices: []string{"yes", "no"}, Default: "no"})
	if err != nil {
		return err
	}
	if o.Accept = agree == "yes"; !o.Accept {
		return nil
	}
	got, err := cert.Obtain(w.ctx, w.job, o)
	if err != nil {
		return w.told(err)
	}
	w.person.Tell(got)
	return nil
}

// told tells a fault that the person can do something about, and goes on; what ends the walk is returned.
func (w *walk) told(err error) error {
	var f *work.Fault
	if w.ctx.Err() != nil || !errors.As(err, &f) {
		return err
	}
	w.person.Tell(err)
	return nil
}

// backup makes a backup, unless there is one that is newer than all changes.
func (w *walk) backup() error {
	if w.job.IsDump() {
		w.person.Tell(Exported{w.job.File.Abs(w.job.File.Database.File)})
		return nil
	}
	last, err := backup.Last(w.job)
	if err != nil {
		return err
	}
	if last != nil {
		changed, err := changedSinceBackup(w.job)
		if err != nil {
			return err
		}
		if !changed {
			w.person.Tell(last)
			return nil
		}
	}
	for {
		q := Question{ID: "backup", About: last, Choices: []string{"yes", "no"}, Default: "yes"}
		answer, err := w.ask(q)
		if err != nil || answer != "yes" {
			return err
		}
		b, err := backup.Run(w.ctx, w.job, "")
		if err == nil {
			w.person.Tell(b)
			return nil
		}
		if err := w.told(err); err != nil {
			return err
		}
		if answer, err = w.ask(Question{ID: "backup-failed", Choices: []string{"again", "without", "stop"}, Default: "stop"}); err != nil {
			return err
		} else if answer == "without" {
			return nil
		} else if answer == "stop" {
			return ErrStop
		}
	}
}

// look reads the pages as they are.
func (w *walk) look() error {
	o := w.o.Scan
	s, err := scan.Run(w.ctx, w.job, o)
	if err != nil { // before HTTPS is there, pages are read over HTTP
		o.AsHTTPS = true
		if s, err = scan.Run(w.ctx, w.job, o); err != nil {
			return w.told(err)
		}
	}
	w.out.Before, w.out.Scan = s, s
	w.person.Tell(s)
	return nil
}

// preview works out the changes, and goes through what needs a decision.
func (w *walk) preview() error {
	if w.job.IsDump() {
		if done, err := w.written(); err != nil || done {
			return err
		}
	}
	for {
		p, err := preview.Run(w.ctx, w.job)
		if err != nil {
			return err
		}
		w.person.Tell(p)
		w.last = p
		again, err := w.decide()
		if err != nil || !again {
			return err
		}
	}
}

// apply carries the newest sheet out, with the person's consent.
func (w *walk) apply() error {
	if w.loaded {
		return nil
	}
	p := w.last
	if w.last = nil; p == nil {
		var err error
		if p, err = preview.Run(w.ctx, w.job); err != nil {
			return err
		}
	}
	if p.Changes() == 0 {
		w.person.Tell(Nothing{})
		return nil
	}
	if w.job.IsDump() {
		return w.write(p)
	}
	ok, err := w.yes("apply", p)
	if err != nil {
		return err
	}
	if !ok {
		return ErrStop
	}
	a, err := run.Apply(w.ctx, w.job, run.Options{})
	if err != nil {
		return err
	}
	w.person.Tell(a)
	return nil
}

// Nothing says that there is nothing to change.
type Nothing struct{}

// check reads every page over HTTPS, and goes through what is left, until nothing more can be done here.
func (w *walk) check() error {
	if w.faulty {
		r, err := ready.Check(w.ctx, w.job, ready.Options{})
		if err != nil {
			return err
		}
		w.person.Tell(r)
	}
	for {
		o := w.o.Scan
		o.Trace = true
		s, err := scan.Run(w.ctx, w.job, o)
		if err != nil {
			return w.told(err)
		}
		w.out.Scan = s
		w.person.Tell(s)
		if w.job.IsDump() { // what is left takes another export
			return nil
		}
		again, err := w.decide()
		if err != nil || !again {
			return err
		}
		if err := w.apply(); err != nil {
			return err
		}
	}
}
