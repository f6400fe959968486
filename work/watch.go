package work

import (
	"context"
	"time"

	"trimlantern/core/certs"
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
	before, err := j.lastScan()
	if err != nil {
		return nil, err
	}
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
	now, err := j.Scan(ctx, scan)
	if err != nil {
		return nil, err
	}
	then := map[string]bool{}
	if before != nil {
		for _, c := range before.Culprits {
			then[c.URL] = true
		}
	}
	seen := map[string]bool{}
	for _, c := range now.Culprits {
		seen[c.URL] = true
		if then[c.URL] {
			out.Still = append(out.Still, c)
		} else {
			out.New = append(out.New, c)
		}
	}
	if before != nil && now.LeftOut == 0 { // a sample does not tell what is gone
		for _, c := range before.Culprits {
			if !seen[c.URL] {
				out.Gone = append(out.Gone, c)
			}
		}
	}
	out.Unread, out.Pages = now.Unread, now.Read
	out.Well = len(out.Points)+len(out.Redirects)+len(now.Culprits)+len(now.Unread) == 0
	return out, nil
}
