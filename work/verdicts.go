package work

import (
	"context"
	"strings"
	"time"

	"trimlantern/core/rewrite"
	"trimlantern/outside/probe"
)

const (
	verdictsFile = "verdicts.json"
	verdictAge   = 7 * 24 * time.Hour // a verdict older than this is asked for again
	PerHost      = 5                  // assets of a host that are asked for over HTTPS
)

// Verdicts answers for other hosts: the user's decision, what the logbook
// remembers, or a probe.
type Verdicts struct {
	job   *Job
	ctx   context.Context
	known map[string]probe.Verdict
	dirty bool

	asked  map[string]bool          // hosts that this run asked
	assets map[string]probe.Verdict // and what for
}

// Verdicts returns what is known of other hosts: from the logbook, as long as it is not too old, and from the site file.
func (j *Job) Verdicts(ctx context.Context) (*Verdicts, error) {
	v := &Verdicts{job: j, ctx: ctx, known: map[string]probe.Verdict{}}
	if j.Book != nil {
		if err := j.Book.ReadJSON(verdictsFile, &v.known); err != nil {
			return nil, BookFault(err)
		}
	}
	for host, known := range v.known {
		if j.Now().Sub(known.Asked) > verdictAge || known.Answer == "unknown" || known.Answer == "leave" {
			delete(v.known, host)
		}
	}
	for host, decision := range j.File.Hosts {
		v.known[strings.ToLower(host)] = probe.Verdict{Host: host, Answer: decision, Why: "decided in the site file", Asked: j.Now()}
	}
	return v, nil
}

// Ask is the Verdict function of the rules. A host that was not known is asked for the
// first few of the assets that pages load from it: it serves them all, or it is
// insecure; what it was asked for itself goes by its own answer.
func (v *Verdicts) Ask(host, url string) rewrite.Verdict {
	known, ok := v.known[host]
	if ok && (known.Assets == 0 || known.Assets >= PerHost || !v.asked[host]) {
		return known.Meaning()
	}
	if own, ok := v.assets[url]; ok {
		return own.Meaning()
	}
	client, err := v.job.Web()
	if err != nil || v.job.Offline {
		known = probe.Verdict{Host: host, Answer: "unknown", Why: "not asked (--offline)", Example: url, Asked: v.job.Now()}
		v.known[host] = known
		return known.Meaning()
	}
	v.job.Progress.At("asking "+host, 0, 0)
	own := probe.Host(v.ctx, client, host, url, v.job.Now())
	if v.assets == nil {
		v.assets, v.asked = map[string]probe.Verdict{}, map[string]bool{}
	}
	v.assets[url], v.asked[host], v.dirty = own, true, true
	switch {
	case !ok:
		known = own
	case known.Answer == "secure" && own.Answer == "insecure":
		known.Answer, known.Example, known.Why = "insecure", own.Example, "not everything: "+own.Why
	case known.Answer == "unknown" && own.Answer != "unknown":
		known.Answer, known.Example, known.Why = own.Answer, own.Example, own.Why
	}
	known.Assets++
	if !ok {
		known.Assets = 1
	}
	v.known[host] = known
	return own.Meaning()
}

// Of returns what is known of a host by now.
func (v *Verdicts) Of(host string) probe.Verdict { return v.known[host] }

// All is what is known of all hosts by now.
func (v *Verdicts) All() map[string]probe.Verdict { return v.known }

// Keep writes what was found out into the logbook.
func (v *Verdicts) Keep() error {
	if !v.dirty || v.job.Book == nil {
		return nil
	}
	return v.job.Book.Change(func() error {
		all := map[string]probe.Verdict{}
		if err := v.job.Book.ReadJSON(verdictsFile, &all); err != nil {
			return err
		}
		for host, known := range v.known { // another run may have asked other hosts meanwhile
			if was, ok := all[host]; !ok || !known.Asked.Before(was.Asked) {
				all[host] = known
			}
		}
		return v.job.Book.WriteJSON(verdictsFile, all)
	})
}
