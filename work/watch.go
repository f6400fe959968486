package work

import (
	"context"
	"time"

	"trimlantern/core/certs"
	"trimlantern/core/coverage"
	"trimlantern/core/hops"
)

// Watched is what one look at the site found, compared with the one before.
type Watched struct {
	Site      string        `json:"site"`
	Time      time.Time     `json:"time"`
	Well      bool          `json:"well"`
	Days      int           `json:"days"`      // that the certificate is good for
	Points    []certs.Point `json:"points"`    // of ready, those that are not good
	Redirects []JourneySeen `json:"redirects"` // those that do not lead where they should
	New       []Culprit     `json:"new"`       // insecure since the look before
	Still     []Culprit     `json:"still"`     // insecure then and now
	Gone      []Culprit     `json:"gone"`      // insecure then, and no more
	Unread    []Unread      `json:"unread"`
	Pages     int           `json:"pages"` // how many were read

	Coverage coverage.Summary `json:"coverage"`
}

// Code is the exit code that it comes to.
func (w *Watched) Code() int {
	if w.Well {
		return Clean
	}
	return Remain
}

// Watch looks at certificate, redirects and pages, for a timer: it is quiet when all
// is well.
func (j *Job) Watch(ctx context.Context, soon time.Duration, scan ScanOptions) (*Watched, error) {
	j.cookies = true
	ready, err := j.Ready(ctx, ReadyOptions{Soon: soon})
	if err != nil {
		return nil, err
	}
	redirects, err := j.TestRedirects(ctx, nil)
	if err != nil {
		return nil, err
	}
	out := &Watched{Site: j.Site.String(), Time: j.Now(), Days: ready.Days}
	for _, p := range ready.Points {
		// What is as it should be after the switch is no news.
		if p.Grade != certs.Good && p.ID != "hsts" && p.ID != "proxy" {
			out.Points = append(out.Points, p)
		}
	}
	for _, s := range redirects.Journeys {
		if len(s.Problems) > 0 && !(len(s.Problems) == 1 && s.Problems[0] == hops.Broken) {
			out.Redirects = append(out.Redirects, s)
		}
	}
	scan.Compare = "last"
	now, err := j.Scan(ctx, scan)
	if err != nil {
		return nil, err
	}
	if c := now.Compared; c != nil { // else it is the first
		out.New, out.Still, out.Gone = c.New, c.Still, c.Gone
	} else {
		out.New = now.Culprits
	}
	out.Unread, out.Pages, out.Coverage = now.Unread, now.Read, now.Coverage
	out.Well = len(out.Points)+len(out.Redirects)+len(now.Culprits) == 0 && now.Code() == Clean
	return out, nil
}
