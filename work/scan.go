package work

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"trimlantern/core/address"
	"trimlantern/core/mixed"
	"trimlantern/site/fetch"
	"trimlantern/site/logbook"
)

// ScanOptions bound a scan.
type ScanOptions struct {
	URLs     []string // where to begin; none: the front page
	Pages    int
	Depth    int
	Parallel int
	Pause    time.Duration
}

// Scan is what a scan found.
type Scan struct {
	Site     string              `json:"site"`
	ID       string              `json:"id"`
	Time     time.Time           `json:"time"`
	Pages    []ScannedPage       `json:"pages"`
	Sheets   int                 `json:"style_sheets"`
	Classes  map[mixed.Class]int `json:"classes"`         // findings that count, by class
	Culprits []Culprit           `json:"culprits"`        // the same by URL, the gravest first
	Outward  int                 `json:"links_elsewhere"` // insecure links and names of other hosts
	Unread   []Unread            `json:"unread"`
	LeftOut  int                 `json:"left_out"` // documents past the bounds
}

// ScannedPage is one document.
type ScannedPage struct {
	URL      string          `json:"url"`
	Title    string          `json:"title,omitempty"`
	Sheet    bool            `json:"style_sheet,omitempty"`
	Findings []mixed.Finding `json:"findings"`
}

// Culprit is one insecure URL on however many pages.
type Culprit struct {
	URL   string      `json:"url"`
	By    string      `json:"by"`
	Class mixed.Class `json:"class"`
	Pages int         `json:"pages"`
	On    string      `json:"on"` // one of the pages
}

// Unread is a document that could not be read.
type Unread struct {
	URL string `json:"url"`
	Why string `json:"why"`
}

// Code is the exit code that the scan comes to.
func (s *Scan) Code() int {
	if len(s.Culprits) > 0 || len(s.Unread) > 0 {
		return Remain
	}
	return Clean
}

type scanning struct {
	job    *Job
	out    *Scan
	sheets map[string]bool // asked for as style sheets
}

// Scan crawls the site over HTTPS and lists what its pages load, send or name
// insecurely.
func (j *Job) Scan(ctx context.Context, o ScanOptions) (*Scan, error) {
	defer j.Progress.End()
	client, err := j.web()
	if err != nil {
		return nil, err
	}
	s := &scanning{job: j, sheets: map[string]bool{}, out: &Scan{Site: j.Site.String(), ID: j.runID(), Time: j.Now().UTC(), Classes: map[mixed.Class]int{}}}
	start := o.URLs
	if len(start) == 0 {
		start = []string{j.Site.String() + "/"}
	}
	for i, u := range start {
		if start[i] = s.own(u); start[i] == "" {
			return nil, misuse(nil, u+" is not an address of "+j.Site.String(), "name pages of the site, like "+j.Site.String()+"/about")
		}
	}
	s.out.LeftOut, err = client.Run(ctx, fetch.Crawl{Parallel: o.Parallel, Pages: o.Pages, Depth: o.Depth, Pause: o.Pause}, start, s.visit)
	if err != nil {
		return nil, world(nil, fmt.Sprintf("interrupted after %d pages", len(s.out.Pages)), "run the same command again")
	}
	if len(s.out.Pages) == 0 && len(s.out.Unread) > 0 {
		u := s.out.Unread[0]
		return nil, world(nil, u.URL+" cannot be read: "+u.Why, "is HTTPS served for this name? For a private authority or address: --ca FILE, --resolve HOST:PORT:ADDR")
	}
	s.finish()
	if j.Book == nil {
		return s.out, nil
	}
	if err := j.Book.WriteJSON(logbook.ScanName(s.out.ID), s.out); err != nil {
		return nil, world(err, "the scan's result cannot be kept", "make the folder of the site file writable")
	}
	return s.out, nil
}

// own returns the secure form of an address of the site, without its fragment,
// or "".
func (s *scanning) own(raw string) string {
	u, err := url.Parse(raw)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return ""
	}
	port := u.Port()
	if u.Scheme == "https" && port == "443" {
		port = ""
	}
	if s.job.Site.Relate(u.Hostname(), port, u.EscapedPath()) != address.Ours {
		return ""
	}
	host, err := address.CanonicalHost(u.Hostname())
	if err != nil {
		return ""
	}
	u.Scheme, u.Host, u.Fragment, u.User = "https", host, "", nil
	if u.Path == "" {
		u.Path = "/"
	}
	return u.String()
}

// visit reads one document and returns which of the site's documents it leads to.
func (s *scanning) visit(u string, _ int, r *fetch.Response, err error) []string {
	unread := func(why string) []string {
		s.out.Unread = append(s.out.Unread, Unread{u, why})
		return nil
	}
	switch {
	case err != nil:
		return unread(err.Error())
	case s.own(r.URL.String()) == "":
		return nil // a redirect off the site
	case r.URL.Scheme != "https":
		return unread("sends back to " + r.URL.String())
	case r.Status >= 400:
		return unread(fmt.Sprintf("answers %d", r.Status))
	}
	if r.Cut {
		s.out.Unread = append(s.out.Unread, Unread{u, fmt.Sprintf("only the first %d MB were read", len(r.Body)>>20)})
	}
	page := ScannedPage{URL: r.URL.String()}
	var read *mixed.Page
	switch {
	case r.Type == "text/css" || s.sheets[u]:
		read, page.Sheet = mixed.CSS(r.Body, r.URL), true
		s.out.Sheets++
	case r.Type == "text/html" || r.Type == "application/xhtml+xml":
		read = mixed.HTML(r.Body, r.URL)
		page.Title = read.Title
	default:
		return nil
	}
	page.Findings = read.Findings
	s.out.Pages = append(s.out.Pages, page)
	s.job.Progress.At("scanning", int64(len(s.out.Pages)), 0)
	var next []string
	for _, sheet := range read.Sheets {
		if own := s.own(sheet); own != "" {
			s.sheets[own] = true
			next = append(next, own)
		}
	}
	for _, link := range read.Links {
		if own := s.own(link); own != "" {
			next = append(next, own)
		}
	}
	return next
}

// finish sorts the findings: by page, and by culprit.
func (s *scanning) finish() {
	slices.SortFunc(s.out.Pages, func(a, b ScannedPage) int { return strings.Compare(a.URL, b.URL) })
	slices.SortFunc(s.out.Unread, func(a, b Unread) int { return strings.Compare(a.URL, b.URL) })
	type id struct {
		url   string
		class mixed.Class
	}
	at := map[id]int{}
	for i, p := range s.out.Pages {
		counted := map[id]bool{}
		kept := p.Findings[:0]
		for _, f := range p.Findings {
			// Where a visitor may go elsewhere, or what another host only names, is not
			// this site's to change.
			if (f.Class == mixed.Address || f.Class == mixed.Possible) && !s.ours(f.URL) {
				s.out.Outward++
				continue
			}
			kept = append(kept, f)
			s.out.Classes[f.Class]++
			k := id{f.URL, f.Class}
			n, ok := at[k]
			if !ok {
				n = len(s.out.Culprits)
				at[k] = n
				s.out.Culprits = append(s.out.Culprits, Culprit{URL: f.URL, By: f.By, Class: f.Class, On: p.URL})
			}
			if !counted[k] {
				counted[k] = true
				s.out.Culprits[n].Pages++
			}
		}
		s.out.Pages[i].Findings = kept
	}
	slices.SortStableFunc(s.out.Culprits, func(a, b Culprit) int {
		return cmp.Or(slices.Index(mixed.Classes, a.Class)-slices.Index(mixed.Classes, b.Class), b.Pages-a.Pages, strings.Compare(a.URL, b.URL))
	})
}

// ours reports whether an insecure URL is one of the site's.
func (s *scanning) ours(raw string) bool {
	u, err := url.Parse(raw)
	return err == nil && s.job.Site.Relate(u.Hostname(), u.Port(), u.EscapedPath()) == address.Ours
}
