// Package reach asks for a site as its visitors do: under all of its names, over HTTP and HTTPS, on each of its servers,
// behind all redirects.
package reach

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"trimlantern/core/address"
	"trimlantern/core/alike"
	"trimlantern/core/hops"
	"trimlantern/core/point"
	"trimlantern/outside/fetch"
	"trimlantern/outside/probe"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/findings"
)

// Twin is one page of the site as one of its servers shows it over HTTP and over HTTPS.
type Twin struct {
	Page   string       `json:"page"` // host, path and query
	Kind   hops.Kind    `json:"kind"`
	At     string       `json:"at,omitempty"` // the server's address, where the name has several
	Plain  Answer       `json:"plain"`
	Secure Answer       `json:"secure"`
	Stands TwinRelation `json:"stands"`

	Differs []alike.Difference `json:"differs,omitempty"` // where both show a page of one kind: what it shows only over one scheme

	site address.Site
	Want string `json:"-"` // path and query
}

// Answer is what one scheme shows of a page, behind all redirects.
type Answer struct {
	URL string `json:"url,omitempty"`
	alike.Page
	Err string `json:"error,omitempty"`

	By   string `json:"by,omitempty"` // what in the page sends on without end: "refresh" or "script"
	far  bool   // this machine has no way there
	Loop bool   `json:"-"` // redirects lead on and on
}

// TwinRelation says how the answers over HTTP and HTTPS relate: a verdict of package alike, or one of the
// constants below. The values are stable names.
type TwinRelation string

// The relations that are not verdicts of package alike.
const (
	Redirected TwinRelation = "redirected"  // HTTP redirects to HTTPS: there is nothing to compare
	Back       TwinRelation = "back"        // HTTPS redirects to HTTP
	NoSecure   TwinRelation = "no-answer"   // HTTPS gives none
	OnlySecure TwinRelation = "only-secure" // HTTP gives no answer
	Neither    TwinRelation = "neither"     // an error over both
	Barred     TwinRelation = "password"    // a password is asked for
	TooFar     TwinRelation = "too-far"     // this machine has no way to the server
	Differs    TwinRelation = "differs"     // the same page by its title and most of its text, and not the same everywhere
)

// Limits of a comparison.
const (
	MaxFolders = 8 // first-level folders of a site, one page of each
	together   = 4 // questions at once
)

// PagesToSee returns the pages of a site to check: the front page, the system description's entrances, and one page in
// each first-level folder, taken from the last scan or, without one, from the front page's links.
func PagesToSee(ctx context.Context, j *work.Job, client *fetch.Client, site address.Site) []hops.Place {
	out := []hops.Place{{Path: "/", Kind: hops.Page}}
	for _, e := range j.System.Entrances {
		out = append(out, hops.Place{Path: e.Path, Kind: hops.Entrance})
	}
	folders := map[string]bool{}
	add := func(u string, kind hops.Kind) {
		rest, ok := strings.CutPrefix(u, site.String()+"/")
		if !ok || len(folders) == MaxFolders {
			return
		}
		if folder, _, deep := strings.Cut(rest, "/"); deep && !folders[folder] && !strings.ContainsAny(folder, "?#") {
			folders[folder] = true
			out = append(out, hops.Place{Path: "/" + rest, Kind: kind})
		}
	}
	if j.Book != nil {
		if scan, err := findings.Weightiest(j); err == nil && scan != nil {
			_ = scan.EachPage(func(p findings.ScannedPage) error { // what cannot be read names no pages
				if p.Kind == "" {
					add(p.URL, hops.Page)
				}
				return nil
			})
		}
	}
	if len(folders) == 0 {
		for _, u := range linked(ctx, j, client, site) {
			add(u, hops.Probe) // a link may lead to what is not there
		}
	}
	return out
}

// linked returns what a site's front page links to, by its secure addresses. It is asked for once.
func linked(ctx context.Context, j *work.Job, client *fetch.Client, site address.Site) (links []string) {
	front := "http://" + site.Host + site.Path + "/"
	if links, asked := j.LinksOf(front); asked {
		return links
	}
	j.KeepLinks(front, nil)
	r, err := client.Get(ctx, front, nil)
	if err != nil || r.Status >= 400 {
		return nil
	}
	defer r.Done()
	for _, href := range alike.Links(r.Body) {
		u, err := r.URL.Parse(href)
		if err != nil || u.Scheme != "http" && u.Scheme != "https" || site.Relate(u.Hostname(), strings.TrimPrefix(u.Port(), "443"), u.EscapedPath()) != address.Ours {
			continue
		}
		u.Scheme, u.Host, u.Fragment = "https", site.Host, ""
		links = append(links, u.String())
	}
	j.KeepLinks(front, links)
	return links
}

// Servers returns the servers behind a name, each as IP:PORT for ports 80 and 443. A single nil map means
// that the name has one server, reached the usual way.
func Servers(ctx context.Context, j *work.Job, client *fetch.Client, name string) (all []map[string]string) {
	secure, err := probe.Addresses(ctx, client, name, "443")
	if err != nil || len(secure) < 2 {
		return []map[string]string{nil}
	}
	plain, err := probe.Addresses(ctx, client, name, "80")
	if err != nil {
		plain = nil
	}
	for i, addr := range secure {
		at := map[string]string{"443": addr}
		if len(plain) > 0 { // in the same order
			at["80"] = plain[min(i, len(plain)-1)]
		}
		all = append(all, at)
	}
	return all
}

// Twins fetches the same pages over HTTP and HTTPS, for each site of the network, under each of its names, on
// each server. dead maps names that are known not to answer over HTTPS to the reason; they are not asked again.
func Twins(ctx context.Context, j *work.Job, dead map[string]string) ([]Twin, error) {
	client, err := j.Web()
	if err != nil {
		return nil, err
	}
	var all []Twin
	var visitors []*fetch.Client
	for _, site := range j.Site.Network() {
		pages := PagesToSee(ctx, j, client, site)
		for _, name := range site.Hosts() {
			servers := Servers(ctx, j, client, name)
			for _, at := range servers {
				see := pages
				if name != site.Host {
					see = pages[:1]
				}
				for _, p := range see {
					t := Twin{Page: name + site.Path + p.Path, Kind: p.Kind, site: site, Want: p.Path}
					if len(servers) > 1 {
						t.At = at["443"]
					}
					all = append(all, t)
					visitors = append(visitors, client.Visitor(name, at))
				}
			}
		}
	}
	err = EachTogether(ctx, j, len(all), func(ctx context.Context, i int) string {
		t, v := &all[i], visitors[i]
		defer v.Leave()
		t.Plain = answer(ctx, v, "http://"+t.Page)
		host, _, _ := strings.Cut(t.Page, "/")
		if why := dead[host]; why != "" {
			t.Secure = Answer{Err: why}
		} else {
			t.Secure = answer(ctx, v, "https://"+t.Page)
		}
		t.Stands = t.stands()
		switch alike.Verdict(t.Stands) {
		case alike.Same, alike.Title, alike.Text:
			t.compare(ctx, v)
		}
		return "comparing " + t.Page
	})
	return all, err
}

// EachTogether calls do for 0 to n-1, a few at a time, and shows progress. do returns what it did, in words.
func EachTogether(ctx context.Context, j *work.Job, n int, do func(ctx context.Context, i int) string) error {
	var lock sync.Mutex
	done := 0
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(together)
	for i := range n {
		g.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			what := do(ctx, i)
			lock.Lock()
			defer lock.Unlock()
			done++
			j.Progress.At(what, int64(done), int64(n))
			return nil
		})
	}
	if g.Wait() != nil || ctx.Err() != nil && done < n {
		return work.Failed(nil, "interrupted", "run the same command again")
	}
	return nil
}

// answer fetches a page and follows redirects, and what pages send on by themselves, as a visitor's browser does.
func answer(ctx context.Context, v *fetch.Client, u string) Answer {
	for seen := map[string]bool{}; ; {
		r, err := v.Get(ctx, u, nil)
		if err != nil {
			a := Answer{Err: probe.Failure(err), far: probe.Unreachable(err), Loop: errors.Is(err, fetch.ErrHops)}
			if r != nil {
				a.URL = r.URL.String()
			}
			return a
		}
		at := r.URL.String()
		a := Answer{URL: at, Page: alike.Read(r.URL, r.Status, r.Type, r.Body)}
		to := ""
		if r.Status < 400 {
			to, a.By, _ = onward(at, r.Header, r.Type, r.Body)
		}
		r.Done()
		switch {
		case to == "":
			return a
		case seen[at] || len(seen) == maxTravel:
			a.Err, a.Loop = words.Fill(words.PageSends, at, a.By), true
			return a
		}
		seen[at] = true
		u = to
	}
}

// How often a page is fetched where both schemes do not show the same, at least and at most: what changes by itself does not
// count, and may be the same twice by chance.
const (
	leastRounds = 3
	mostRounds  = 5
)

// compare looks for what one scheme shows and the other one does not.
func (t *Twin) compare(ctx context.Context, v *fetch.Client) {
	if alike.Shows(t.Plain.Page, t.Secure.Page) {
		return
	}
	plain, secure := []alike.Page{t.Plain.Page}, []alike.Page{t.Secure.Page}
	for n := range mostRounds - 1 {
		if n >= leastRounds-1 && len(alike.Differences(plain, secure)) == 0 {
			break
		}
		for scheme, pages := range map[string]*[]alike.Page{"http://": &plain, "https://": &secure} {
			if a := answer(ctx, v, scheme+t.Page); a.Err == "" && a.Status < 400 {
				*pages = append(*pages, a.Page)
			}
		}
	}
	t.Differs = alike.Differences(plain, secure)
	switch {
	case len(t.Differs) == 0:
		t.Stands = TwinRelation(alike.Same)
	case t.Stands == TwinRelation(alike.Same):
		t.Stands = Differs
	}
}

// stands returns how the two answers relate.
func (t *Twin) stands() TwinRelation {
	switch {
	case t.Secure.far:
		return TooFar
	case t.Secure.Err != "":
		return NoSecure
	case strings.HasPrefix(t.Secure.URL, "http:"):
		return Back
	case strings.HasPrefix(t.Plain.URL, "https:"):
		return Redirected
	case t.Plain.Err != "":
		return OnlySecure
	case t.Plain.Status == 401 || t.Secure.Status == 401:
		return Barred
	case t.Plain.Status >= 400 && t.Secure.Status >= 400:
		return Neither
	}
	return TwinRelation(alike.Compare(t.Plain.Page, t.Secure.Page))
}

// lands returns the URL of the secure answer, and whether it belongs to the site.
func (t *Twin) lands() (string, bool) {
	u, err := url.Parse(t.Secure.URL)
	return t.Secure.URL, err == nil && slices.Contains(t.site.Hosts(), u.Hostname()) && (u.Port() == "" || u.Port() == "443")
}

// point describes what is wrong with a pair of answers; ok is true if nothing is.
func (t *Twin) point() (p point.Point, ok bool) {
	page, at := "https://"+t.Page, words.AtServer(t.At)
	about := t.Page
	if t.At != "" {
		about += " " + t.At
	}
	say := func(s words.Sentence, values ...any) (point.Point, bool) {
		p := s.Point([]string{about}, append(append([]any{page}, values...), at)...)
		if p.Grade == point.Stop && t.Stands == Redirected {
			p.Why = words.SeenNow
		}
		if p.Grade == point.Stop && t.Secure.Status >= 500 {
			p.Do = words.ReadErrorLog
		}
		return p, false
	}
	where, ours := t.lands()
	status := t.Secure.Status
	if t.Secure.Err == "" && t.Stands != Back && !ours {
		return say(words.PageElsewhere, where)
	}
	switch t.Stands {
	case TooFar:
		return say(words.PageUnreached)
	case NoSecure:
		switch {
		case where != "" && !ours:
			return say(words.PageElsewhereDead, where, t.Secure.Err)
		case t.Secure.Loop:
			return say(words.PageLoops, t.Secure.Err)
		}
		return say(words.PageNot, t.Secure.Err)
	case Back:
		return say(words.PageBack)
	case Redirected, OnlySecure:
		if status >= 500 || status >= 400 && status != 401 && t.Kind == hops.Page || status/100 == 3 { // what is only linked may not be there
			return say(words.PageAnswers, status)
		}
		return p, true
	case Neither:
		if t.Want == "/" {
			return say(words.PageStatus, status, t.Plain.Status)
		}
		return p, true
	case Barred:
		return say(words.PageBarred)
	case TwinRelation(alike.Same):
		if status/100 == 3 {
			return say(words.PageNowhere, status)
		}
		return p, true
	case Differs:
		return say(words.PageDiffers, words.Shown(t.Differs))
	case TwinRelation(alike.Status):
		return say(words.PageStatus, status, t.Plain.Status)
	case TwinRelation(alike.Type):
		return say(words.PageType, t.Secure.Type, t.Plain.Type)
	}
	p, ok = say(words.PageOther, t.Secure.Title, t.Plain.Title)
	if t.Want != "/" {
		p.Grade = point.Care
	}
	return p, ok
}

// TwinPoints turns pairs into points: one for each fault, one for each name without faults, and one where the
// servers of a name differ.
func TwinPoints(twins []Twin) (points []point.Point) {
	right, compared := map[string]int{}, map[string]int{}
	said := map[string]int{} // which point says that a host cannot be loaded, by host, server and reason
	var hosts []string
	first := map[string]*Twin{}
	for i := range twins {
		t := &twins[i]
		host, _, _ := strings.Cut(t.Page, "/")
		if !slices.Contains(hosts, host) {
			hosts = append(hosts, host)
		}
		p, ok := t.point()
		failed := t.Stands == NoSecure || t.Secure.Status >= 500
		if id := fmt.Sprint(host, " ", t.At, " ", t.Stands, " ", t.Secure.Status, " ", t.Secure.Err); !ok && failed { // one reason is said once
			if at, before := said[id]; before {
				one := &points[at]
				one.About = append(one.About, p.About...)
				one.What = words.Fill(words.HostNot.What, host, somePaths(one.About), t.Secure.Err, words.AtServer(t.At))
				if t.Secure.Err == "" {
					one.What = words.Fill(words.HostAnswers.What, host, t.Secure.Status, somePaths(one.About), words.AtServer(t.At))
				}
				continue
			}
			said[id] = len(points)
		}
		if !ok {
			points = append(points, p)
			continue
		}
		if t.Secure.Err == "" && t.Secure.Status < 400 { // an entrance that is hidden shows nothing
			right[host]++
		}
		if t.Stands == TwinRelation(alike.Same) {
			compared[host]++
		}
		if before := first[t.Page]; before == nil {
			first[t.Page] = t
		} else if alike.Compare(before.Secure.Page, t.Secure.Page) != alike.Same {
			points = append(points, words.ServersDiffer.Point([]string{t.Page + " " + t.At}, t.Page, t.At, before.At))
		}
	}
	for _, h := range hosts {
		switch n := right[h]; {
		case n == 0:
		case compared[h] > 0:
			points = append(points, words.PagesSame.Point([]string{h}, h, words.Count(compared[h], "page")))
		default:
			points = append(points, words.PagesOnlyHTTPS.Point([]string{h}, h, words.Count(n, "page")))
		}
	}
	return points
}

// somePaths lists the paths of pages, the first of many.
func somePaths(pages []string) string {
	const most = 3
	var paths []string
	for _, p := range pages[:min(len(pages), most)] {
		page, _, _ := strings.Cut(p, " ") // without the server
		_, path, _ := strings.Cut(page, "/")
		paths = append(paths, "/"+path)
	}
	list := strings.Join(paths, ", ")
	if n := len(pages) - most; n > 0 {
		list += fmt.Sprintf(" and %d more", n)
	}
	return list
}
