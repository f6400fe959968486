// Package redirect tests, writes, installs and removes the redirects of a site.
package redirect

import (
	"context"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"trimlantern/core/address"
	"trimlantern/core/hops"
	"trimlantern/core/point"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/reach"
)

// Tested is what a visitor meets who types any of the site's addresses.
type Tested struct {
	Site     string        `json:"site"`
	Time     time.Time     `json:"time"`
	Paths    []string      `json:"paths"` // the folders that alone are to be secure; none: the whole site
	Journeys []Journey     `json:"journeys"`
	Points   []point.Point `json:"points"`            // what is wrong or worth knowing, each once with its addresses, the gravest first
	Stale    []string      `json:"returning_visitor"` // what returning visitors may still see, and why
}

// Journey is one journey and what there is to say of it.
type Journey struct {
	hops.Journey
	Landing  string         `json:"landing"`
	Problems []hops.Problem `json:"problems"`
}

// Worst returns the worst grade of what counts.
func (r *Tested) Worst() point.Grade { return point.Worst(r.Points) }

// Code is the exit code that the test comes to. Notes, and what the owner accepts, do not count; where nothing
// could be followed from this machine, nothing is shown.
func (r *Tested) Code() int {
	if r.Worst().Fault() || r.Unfollowed() == len(r.Journeys) {
		return work.Remain
	}
	return work.Clean
}

// Unfollowed counts the addresses that this machine cannot reach: of them nothing is known.
func (r *Tested) Unfollowed() (n int) {
	for _, s := range r.Journeys {
		if s.Far {
			n++
		}
	}
	return n
}

// right counts the addresses that were followed and lead where they should.
func (r *Tested) right() int {
	faulty, _ := r.Faulty()
	return len(r.Journeys) - faulty - r.Unfollowed()
}

// Faulty counts the addresses that something is wrong with, and those of them whose faults the owner accepts.
func (r *Tested) Faulty() (faulty, accepted int) {
	about := map[string]bool{} // whether one of its faults counts
	for _, p := range r.Points {
		for _, a := range p.About {
			if p.Grade.Fault() {
				about[a] = about[a] || p.Counts()
			}
		}
	}
	for _, counts := range about {
		if !counts {
			accepted++
		}
	}
	return len(about), accepted
}

// LastTest is where the logbook keeps the last test.
const LastTest = "redirects.json"

// Options say what is tested.
type Options struct {
	URLs  []string // besides the addresses of the site
	Paths []string // the folders that alone are to be secure, as the rule was written for

	places []hops.Place // of the site, besides those that are looked at anyway
}

// Test goes the way of each address that visitors of the site and its sisters may type, and of
// those given.
func Test(ctx context.Context, j *work.Job, o Options) (*Tested, error) {
	defer j.Progress.End()
	out, err := journeys(ctx, j, o)
	if err != nil {
		return nil, err
	}
	stale(ctx, j, out)
	if j.Book != nil && len(o.URLs) == 0 {
		if err := j.Book.WriteJSON(LastTest, out); err != nil {
			return nil, work.Failed(err, "the result cannot be kept in the logbook", "make the folder of the site file writable")
		}
	}
	return out, nil
}

// journeys goes the ways and judges them.
func journeys(ctx context.Context, j *work.Job, o Options) (*Tested, error) {
	type way struct {
		site address.Site
		hops.Journey
		at map[string]string
	}
	client, err := j.Web()
	if err != nil {
		return nil, err
	}
	var ways []way
	for _, site := range j.Site.Network() {
		places := reach.PagesToSee(ctx, j, client, site)
		if site.Host == j.Site.Host {
			places = append(places, o.places...)
		}
		for _, journey := range hops.Matrix(site, places) {
			u, err := url.Parse(journey.Typed)
			if err != nil {
				return nil, work.BadUse(err, journey.Typed, "check site and also in the site file")
			}
			servers := reach.Servers(ctx, j, client, u.Hostname())
			for i, at := range servers {
				if i > 0 && journey.Kind != hops.Page {
					break // a server that differs shows it on its pages
				}
				one := way{site, journey, at}
				if len(servers) > 1 {
					one.At = at[map[string]string{"http": "80", "https": "443"}[u.Scheme]]
				}
				ways = append(ways, one)
			}
		}
	}
	for _, u := range o.URLs {
		if !strings.HasPrefix(u, "http://") && !strings.HasPrefix(u, "https://") {
			return nil, work.BadUse(nil, "the address "+u+" has no scheme", "write it as a visitor's browser would: http://"+u)
		}
		ways = append(ways, way{site: siteOf(j, u), Journey: hops.Journey{Typed: u, Method: "GET", Kind: hops.Probe}})
	}
	out := &Tested{Site: j.Site.String(), Time: j.Now(), Paths: append([]string{}, o.Paths...), Journeys: make([]Journey, len(ways)), Stale: []string{}}
	err = reach.EachTogether(ctx, j, len(ways), func(ctx context.Context, i int) string {
		w := &ways[i]
		host := ""
		if u, err := url.Parse(w.Typed); err == nil {
			host = u.Hostname()
		}
		visitor := client.Visitor(host, w.at)
		if w.at != nil {
			defer visitor.Leave()
		}
		reach.Follow(ctx, visitor, &w.Journey)
		out.Journeys[i] = Journey{w.Journey, w.Landing(), w.Judge(w.site, o.Paths)}
		return "asking " + w.Typed
	})
	if err != nil {
		return nil, err
	}
	out.Points, err = j.WithDecisions(causes(out.Journeys))
	return out, err
}

// siteOf returns the site of the network that an address belongs to; the main one where it is none of them.
func siteOf(j *work.Job, raw string) address.Site {
	all := j.Site.Network()
	if u, err := url.Parse(raw); err == nil {
		for _, site := range all {
			if slices.Contains(site.Hosts(), u.Hostname()) {
				return site
			}
		}
	}
	return all[0]
}

// causes names each problem once, with the addresses that have it, the gravest first.
func causes(journeys []Journey) []point.Point {
	points := []point.Point{}
	for _, p := range hops.Order {
		var from []string
		for _, s := range journeys {
			if !slices.Contains(s.Problems, p) {
				continue
			}
			about := s.Typed
			if s.Method != "GET" {
				about = s.Method + " " + about
			}
			if s.At != "" {
				about += " (server " + s.At + ")"
			}
			from = append(from, about)
		}
		if from != nil {
			points = append(points, words.Visitor(p).Point(from))
		}
	}
	return points
}

// stale says in plain words what a visitor who was here before may still see.
func stale(ctx context.Context, j *work.Job, out *Tested) {
	add := func(sentence string, values ...any) { out.Stale = append(out.Stale, words.Fill(sentence, values...)) }
	if slices.ContainsFunc(out.Journeys, func(s Journey) bool {
		return len(s.Hops) > 1 && (s.Hops[0].Status == 301 || s.Hops[0].Status == 308)
	}) {
		add(words.RedirectRemembered)
	}
	client, err := j.Web()
	if err != nil {
		return
	}
	res, _, err := client.Step(ctx, "GET", j.Site.String()+"/")
	if err != nil {
		return
	}
	age := 0
	for _, part := range strings.Split(strings.ToLower(res.Header.Get("Cache-Control")), ",") {
		if n, ok := strings.CutPrefix(strings.TrimSpace(part), "max-age="); ok {
			age, _ = strconv.Atoi(n) // what is no number does not count
		}
	}
	if age > 0 {
		add(words.PageRemembered, (time.Duration(min(age, 1<<31)) * time.Second).String())
	}
	if seen := res.Header.Get("Age"); seen != "" {
		add(words.CacheInFront, seen)
	}
	if res.Header.Get("Cache-Control") == "" && res.Header.Get("Expires") == "" {
		add(words.NothingSaid)
	}
}
