package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"trimlantern/core/address"
	"trimlantern/core/markup"
	"trimlantern/core/mixed"
	"trimlantern/site/fetch"
	"trimlantern/site/logbook"
	"trimlantern/site/probe"
)

// ScanOptions bound a scan and say what it looks at.
type ScanOptions struct {
	URLs        []string // where to begin; none: the front page, the site map and the feed
	Pages       int
	Depth       int
	Parallel    int
	Pause       time.Duration
	Time        time.Duration // 0: no bound
	Bare        bool          // ask for no images and the like, only for what is read
	Robots      bool          // honour robots.txt
	AsHTTPS     bool          // before the switch: read over HTTP, judge as if over HTTPS
	Resume      bool          // go on with the scan that was interrupted
	Compare     string        // an earlier scan's ID, or "last"
	FailOn      string        // the mildest class that counts; "" all
	Browser     bool          // look with an installed browser too
	Chromium    string        // its path; "" the one that is found
	BrowserUser string        // of this machine, that the browser runs as; "": the caller
	Tabs        int
	Looks       int  // pages that the browser looks at, at the most
	Trace       bool // say where each culprit lives
}

// Scan is what a scan found. Its pages are kept in a file: see EachPage.
type Scan struct {
	Site     string              `json:"site"`
	ID       string              `json:"id"`
	Time     time.Time           `json:"time"`
	AsHTTPS  bool                `json:"as_https,omitempty"`
	Resumed  bool                `json:"resumed,omitempty"`
	Read     int                 `json:"pages_read"`
	Sheets   int                 `json:"style_sheets"`
	Others   int                 `json:"others"`         // scripts, images and the like that were asked for
	Classes  map[mixed.Class]int `json:"classes"`        // findings that count, by class
	On       map[mixed.Class]int `json:"documents_with"` // documents that have them
	Clean    int                 `json:"documents_clean"`
	Culprits []Culprit           `json:"culprits"` // the findings by URL, the gravest first
	More     int                 `json:"more_culprits,omitempty"`
	Worst    []PageCount         `json:"worst"`           // documents with the most
	Hosts    []HostState         `json:"hosts"`           // other hosts that pages load from insecurely
	Outward  int                 `json:"links_elsewhere"` // insecure links and names of other hosts
	Unread   []Unread            `json:"unread"`
	Dead     int                 `json:"dead_links"`
	Broken   []Unread            `json:"broken,omitempty"` // loaded securely, and gives nothing
	LeftOut  int                 `json:"left_out"`         // documents past the bounds, or that robots.txt keeps out
	Named    int                 `json:"named,omitempty"`  // addresses that it began at, instead of the front page and the site map
	Browser  *BrowserState       `json:"browser,omitempty"`
	Compared *Comparison         `json:"compared,omitempty"`
	FailOn   string              `json:"fail_on,omitempty"`

	pages string // the file that holds the pages
	loose bool   // which belongs to no logbook
}

// ScannedPage is one document.
type ScannedPage struct {
	URL      string          `json:"url"`
	Title    string          `json:"title,omitempty"`
	Kind     string          `json:"kind,omitempty"` // "" a page; "style", "script", "frame", "feed" …, "browser" what the browser saw of it
	Findings []mixed.Finding `json:"findings"`
}

// Culprit is one insecure URL on however many pages.
type Culprit struct {
	URL       string          `json:"url"`
	By        string          `json:"by"`
	Class     mixed.Class     `json:"class"`
	Certainty mixed.Certainty `json:"certainty"`
	Ours      bool            `json:"ours"`
	Via       string          `json:"via,omitempty"`
	Pages     int             `json:"pages"` // documents that hold it
	On        string          `json:"on"`    // one of them
	Line      int             `json:"line"`  // there
	Col       int             `json:"column"`
	Places    []Origin        `json:"places,omitempty"` // where it lives, the likeliest first
}

// PageCount is how much one document has.
type PageCount struct {
	URL     string              `json:"url"`
	Title   string              `json:"title,omitempty"`
	Classes map[mixed.Class]int `json:"classes"`
	Sum     int                 `json:"sum"`
}

// HostState is another host that pages load from over HTTP.
type HostState struct {
	Host     string        `json:"host"`
	Findings int           `json:"findings"`
	Verdict  probe.Verdict `json:"verdict"`
}

// Unread is a document that could not be read.
type Unread struct {
	URL string `json:"url"`
	Why string `json:"why"`
}

// Comparison is a scan held against an earlier one.
type Comparison struct {
	With  string              `json:"with"`
	Time  time.Time           `json:"time"`
	New   []Culprit           `json:"new"`
	Gone  []Culprit           `json:"gone"`
	Still int                 `json:"still"`
	Then  map[mixed.Class]int `json:"then"` // its findings by class
}

// Bounds of what a scan keeps in memory.
const (
	maxCulprits = 50000
	maxUnread   = 500
	maxWorst    = 60
	maxLocs     = 200000 // addresses of one site map
	perHost     = 5      // assets of a host that are asked for over HTTPS
)

// Complete reports whether all that the scan came to know of was read: only then nothing found
// means that nothing is there.
func (s *Scan) Complete() bool { return s.Read > 0 && s.LeftOut == 0 && len(s.Unread) == 0 }

// Whole reports whether the scan is complete and of the whole site, and not of pages that the user named.
func (s *Scan) Whole() bool { return s.Complete() && s.Named == 0 }

// Known returns how many documents the scan came to know of: read, unreadable and left out.
func (s *Scan) Known() int { return s.Read + s.Sheets + s.LeftOut + len(s.Unread) }

// Code is the exit code that the scan comes to.
func (s *Scan) Code() int {
	if len(s.Unread) > 0 || s.Read == 0 || s.LeftOut > 0 && s.FailOn != "none" {
		return Remain
	}
	for _, c := range mixed.Classes {
		if s.Classes[c] > 0 && s.FailOn != "none" {
			return Remain
		}
		if string(c) == s.FailOn {
			break
		}
	}
	return Clean
}

// fails reports whether a name is one that FailOn knows.
func fails(name string) bool {
	return name == "" || name == "none" || slices.Contains(mixed.Classes, mixed.Class(name))
}

type culpritID struct {
	url   string
	class mixed.Class
}

type scanning struct {
	job    *Job
	o      ScanOptions
	client *fetch.Client
	out    *Scan
	front  *fetch.Frontier
	log    *crawlLog
	rules  *fetch.Rules
	at     map[culpritID]int
	hosts  map[string]*HostState
	assets map[string][]string // of a host that pages load from insecurely, some
	memo   mixed.Memo
	known  map[string]string // own, of addresses that were asked for it already
	secure []string          // other hosts that something is loaded from securely
}

// Scan crawls the site over HTTPS and lists what its pages load, send or name
// insecurely.
func (j *Job) Scan(ctx context.Context, o ScanOptions) (*Scan, error) {
	defer j.Progress.End()
	if !fails(o.FailOn) {
		return nil, misuse(nil, "--fail-on "+o.FailOn+" is no class", "write one of: blocked, upgraded, form, download, masked, possible, address, none")
	}
	if o.Pages < 1 || o.Depth < 0 {
		return nil, misuse(nil, "no page can be read with these bounds", "write --pages 1 or more, and --depth 0 or more")
	}
	if err := findBrowser(&o); err != nil {
		return nil, err
	}
	before, err := j.compareWith(o.Compare)
	if err != nil {
		return nil, err
	}
	client, err := j.web()
	if err != nil {
		return nil, err
	}
	s := &scanning{job: j, o: o, client: client, at: map[culpritID]int{}, hosts: map[string]*HostState{}, assets: map[string][]string{},
		out:   &Scan{Site: j.Site.String(), ID: j.runID(), Time: j.Now().UTC(), AsHTTPS: o.AsHTTPS, FailOn: o.FailOn, Named: len(o.URLs), Classes: map[mixed.Class]int{}, On: map[mixed.Class]int{}},
		front: fetch.NewFrontier(fetch.Crawl{Parallel: o.Parallel, Pages: o.Pages, Depth: o.Depth, Pause: o.Pause, Time: o.Time})}
	defer s.front.Close()
	if err := s.begin(ctx); err != nil {
		return nil, err
	}
	defer func() {
		s.log.close()
		if s.out.pages == "" && s.log.book == nil {
			s.log.discard() // nobody could go on with it
		}
	}()
	err = fetch.Run(ctx, s.front, s.fetch, s.visit)
	if f := s.log.flush(); err == nil || f != nil {
		err = cmp.Or(f, err)
	}
	if err != nil && ctx.Err() == nil {
		return nil, world(err, "what was read cannot be kept", "make room on the disk")
	}
	if err != nil {
		return nil, world(nil, fmt.Sprintf("interrupted after %d pages", s.out.Read), "trimlantern scan --resume goes on from there; trimlantern scan begins anew")
	}
	s.out.LeftOut += s.front.LeftOut() // besides what robots.txt keeps out
	if s.out.Read == 0 && len(s.out.Unread) > 0 {
		u := s.out.Unread[0]
		s.log.discard()
		do := "is HTTPS served for this name? For a private authority or address: --ca FILE, --resolve HOST:PORT:ADDR; before the switch: --as-https"
		return nil, world(nil, u.URL+" cannot be read: "+u.Why, do)
	}
	if s.out.Read == 0 {
		s.log.discard()
		return nil, world(nil, "no page of "+j.Site.String()+" was read: its addresses lead to other hosts, or give no pages", "check the address in a browser; another name of the same site: --also HOST")
	}
	if o.Browser {
		if err := s.browse(ctx); err != nil {
			return nil, err
		}
	}
	if err := s.judgeHosts(ctx); err != nil {
		return nil, err
	}
	s.sort()
	if before != nil {
		s.out.Compared = compare(before, s.out)
	}
	if o.Trace {
		if err := j.traceScan(ctx, s.out); err != nil {
			return nil, err
		}
	}
	if err := s.log.end(s.out); err != nil {
		return nil, world(err, "the scan's result cannot be kept", "make the folder of the site file writable, with room on the disk")
	}
	return s.out, nil
}

// begin opens the crawl's log and fills the frontier.
func (s *scanning) begin(ctx context.Context) error {
	start := slices.Clone(s.o.URLs)
	for i, u := range start {
		if start[i] = s.own(u); start[i] == "" {
			return misuse(nil, u+" is not an address of "+s.job.Site.String(), "name pages of the site, like "+s.job.Site.String()+"/about")
		}
	}
	if s.o.Resume {
		return s.resume()
	}
	var err error
	if s.log, err = s.job.newCrawl(s.out); err != nil {
		return world(err, "what is read cannot be kept", "make the folder of the site file writable")
	}
	front := s.job.Site.String() + "/"
	var jobs []fetch.Job
	for _, u := range start {
		jobs = append(jobs, fetch.Job{URL: u})
	}
	if len(start) == 0 {
		jobs = append(jobs, fetch.Job{URL: front})
	}
	if len(start) == 0 || s.o.Robots {
		origin := "https://" + s.job.Site.Host
		jobs = append(jobs, s.robots(ctx, origin, len(start) == 0)...)
	}
	for i := range jobs {
		s.front.Add(jobs[i])
	}
	if err := s.log.put(crawlLine{Scan: s.out, Next: jobs}); err != nil {
		return world(err, "what is read cannot be kept", "make room on the disk")
	}
	return s.log.flush()
}

// robots reads robots.txt and returns it and the site maps as jobs.
func (s *scanning) robots(ctx context.Context, origin string, maps bool) (jobs []fetch.Job) {
	r, err := s.client.Get(ctx, s.real(origin+"/robots.txt"), nil)
	named := []string{origin + "/sitemap.xml"}
	if err == nil && r.Status < 500 {
		rules, more := fetch.Robots(r.Status, r.Body)
		if s.o.Robots {
			s.rules = rules
		}
		if r.Status == 200 && r.Type == "text/plain" {
			jobs = append(jobs, fetch.Job{URL: origin + "/robots.txt", As: "robots"})
		}
		named = append(more, named...)
	}
	for _, m := range named {
		if u := s.own(m); u != "" && maps {
			jobs = append(jobs, fetch.Job{URL: u, As: "sitemap"})
		}
	}
	return jobs
}

// resume takes up the scan that was interrupted last.
func (s *scanning) resume() error {
	if s.job.Book == nil {
		return misuse(nil, "--resume needs the logbook of a site file", "run the scan without it")
	}
	ids, err := s.job.Book.Crawls()
	if err != nil || len(ids) == 0 {
		return misuse(err, "there is no scan to go on with", "trimlantern scan begins one")
	}
	done := map[string]bool{}
	key := func(j fetch.Job) string { return fmt.Sprint(j.Brief, j.URL) }
	id := ids[len(ids)-1]
	var queued []fetch.Job
	s.log, err = openCrawl(s.job.Book, id, func(l crawlLine) error {
		if l.Scan != nil {
			if l.Scan.Site != s.out.Site || l.Scan.AsHTTPS != s.o.AsHTTPS {
				return misuse(nil, "the interrupted scan was one of another kind", "give it the same --as-https, or begin anew with trimlantern scan")
			}
			s.out.ID, s.out.Time = l.Scan.ID, l.Scan.Time
		}
		if l.Job != nil {
			done[key(*l.Job)] = true
		}
		queued = append(queued, l.Next...)
		s.take(l)
		return nil
	})
	if err != nil {
		return err
	}
	if len(queued) == 0 {
		return misuse(nil, "the interrupted scan had not begun", "trimlantern scan begins anew")
	}
	s.log.book = s.job.Book
	for _, j := range queued {
		if done[key(j)] {
			s.front.Done(j)
		} else {
			s.front.Add(j)
		}
	}
	s.out.Resumed = true
	return nil
}

// maxKnown is how many addresses known remembers before it begins anew.
const maxKnown = 20000

// link is own for what pages lead to, again and again.
func (s *scanning) link(raw string) string {
	own, ok := s.known[raw]
	if !ok {
		if len(s.known) >= maxKnown || s.known == nil {
			s.known = map[string]string{}
		}
		own = s.own(raw)
		s.known[raw] = own
	}
	return own
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

// real returns where an address is asked for: before the switch, the site's own are
// there over HTTP.
func (s *scanning) real(u string) string {
	if s.o.AsHTTPS && s.own(u) != "" {
		return "http" + strings.TrimPrefix(u, "https")
	}
	return u
}

// as returns the address that counts for one that was asked for: the opposite of real.
func (s *scanning) as(u *url.URL) *url.URL {
	if s.o.AsHTTPS {
		if own := s.own(u.String()); own != "" {
			if secure, err := url.Parse(own); err == nil {
				return secure
			}
		}
	}
	return u
}

// fetched is what became of one job.
type fetched struct {
	r    *fetch.Response
	page *mixed.Page
	err  error
	maps []string
	locs []string
}

// fetch asks for one thing and reads it; it runs in several goroutines.
func (s *scanning) fetch(ctx context.Context, j fetch.Job) (f fetched) {
	if u, err := url.Parse(j.URL); err == nil && s.rules != nil && s.own(j.URL) != "" && !s.rules.Allows(u.RequestURI()) {
		f.err = errRobots
		return f
	}
	switch {
	case j.Brief:
		f.r, f.err = s.client.Head(ctx, s.real(j.URL))
	default:
		f.r, f.err = s.client.Get(ctx, s.real(j.URL), func(typ string) bool {
			return j.As == "sitemap" || mixed.KindOf(typ, markup.Kind(j.As)) != ""
		})
	}
	if f.err != nil || f.r.Status >= 400 || len(f.r.Body) == 0 && len(f.r.Header) == 0 {
		return f
	}
	r := f.r
	if j.As == "sitemap" {
		f.locs, f.maps, f.err = fetch.Sitemap(r.Body, maxLocs)
	}
	if !j.Brief {
		f.page = mixed.Read(mixed.Answer{Memo: &s.memo, URL: s.as(r.URL), Type: r.Type, Header: r.Header, Body: r.Body, As: markup.Kind(j.As), Upgrades: j.Masked})
	}
	r.Cut = r.Cut && len(r.Body) > 0
	r.Done()
	return f
}

// visit takes one result into the scan.
func (s *scanning) visit(j fetch.Job, f fetched) error {
	if errors.Is(f.err, context.Canceled) {
		return nil // interrupted: it is still to be done
	}
	l := crawlLine{Job: &j}
	s.look(j, f, &l)
	s.take(l)
	return s.log.put(l)
}

// look decides what a result says and leads to.
func (s *scanning) look(j fetch.Job, f fetched, l *crawlLine) {
	unread := func(why string) { l.Unread = &Unread{j.URL, why} }
	page := j.As == "" && !j.Brief
	if f.err != nil && f.r != nil && !page {
		if via := s.insecureHop(j, f.r); via != nil { // whether there is anything there or not
			l.Doc = &ScannedPage{URL: j.URL, Kind: j.As, Findings: []mixed.Finding{*via}}
			return
		}
	}
	switch {
	case f.err == errRobots:
		if page {
			l.Robots = true
		}
		return
	case f.err != nil && j.As == "sitemap":
		if f.r != nil && f.r.Status == 200 {
			unread("the site map cannot be read: " + f.err.Error())
		} else if j.Depth > 0 {
			unread(probe.Failure(f.err))
		}
		return
	case f.err != nil && j.Brief:
		l.Broken = &Unread{j.URL, probe.Failure(f.err)}
		return
	case f.err != nil:
		unread(probe.Failure(f.err))
		return
	case f.r.Status >= 400 && !page:
		if j.As == "style" || j.As == "script" || j.Brief {
			l.Broken = &Unread{j.URL, fmt.Sprintf("answers %d", f.r.Status)}
		}
		return
	case f.r.Status >= 400:
		if l.Dead = (f.r.Status == 404 || f.r.Status == 410) && j.Depth > 0; !l.Dead {
			unread(fmt.Sprintf("answers %d", f.r.Status))
		}
		return
	}
	doc := &ScannedPage{URL: s.as(f.r.URL).String(), Kind: j.As}
	if via := s.insecureHop(j, f.r); via != nil {
		doc.URL = j.URL
		doc.Findings = append(doc.Findings, *via)
		l.Doc = doc
	}
	if j.Brief {
		return
	}
	own := s.own(f.r.URL.String()) != ""
	switch {
	case page && !own:
		return // a redirect off the site
	case s.as(f.r.URL).Scheme != "https":
		unread("sends back to " + f.r.URL.String())
		return
	case page && mixed.KindOf(f.r.Type, "") == "":
		return // a picture or the like, of which nothing was read
	}
	if f.r.Cut {
		unread("only its first 16 MB were read")
	}
	doc.Title = f.page.Title
	doc.Findings = append(doc.Findings, f.page.Findings...)
	l.Doc = doc
	s.filter(doc, l)
	s.follow(j, f, l)
}

// filter drops what is not this site's to change: where a visitor may go elsewhere,
// and what another host only names.
func (s *scanning) filter(doc *ScannedPage, l *crawlLine) {
	kept := doc.Findings[:0]
	for _, f := range doc.Findings {
		if (f.Class == mixed.Address || f.Class == mixed.Possible || f.Class == mixed.Download && !strings.HasPrefix(f.By, "a ")) && !s.ours(f.URL) {
			l.Outward++
			continue
		}
		kept = append(kept, f)
	}
	doc.Findings = kept
}

// insecureHop returns the finding of something secure that leads somewhere insecure.
func (s *scanning) insecureHop(j fetch.Job, r *fetch.Response) *mixed.Finding {
	chain := append(slices.Clone(r.Hops), r.URL.String())
	for _, hop := range chain[1:] {
		u, err := url.Parse(hop)
		if err != nil || !mixed.Insecure(s.as(u)) {
			continue
		}
		f := mixed.Finding{URL: hop, By: cmp.Or(j.By, "redirect"), Class: mixed.Address, Certainty: mixed.Certain, Via: j.URL}
		switch {
		case j.As == "" && !j.Brief || j.As == "feed" || j.As == "sitemap" || j.As == "robots":
		case j.Masked:
			f.Class = mixed.Masked
		default:
			f.Class = mixed.Loaded(markup.Kind(j.As), u.Hostname())
		}
		return &f
	}
	return nil
}

// follow adds what a document leads to.
func (s *scanning) follow(j fetch.Job, f fetched, l *crawlLine) {
	on := s.as(f.r.URL).String()
	add := func(n fetch.Job) {
		if s.front.Add(n) {
			l.Next = append(l.Next, n)
		}
	}
	for _, load := range f.page.Loads {
		n := fetch.Job{URL: load.URL, As: string(load.Kind), Depth: j.Depth, From: on, By: load.By, Masked: load.Masked}
		if u, _, ok := strings.Cut(n.URL, "#"); ok {
			n.URL = u
		}
		secure := s.link(n.URL)
		own := secure != ""
		if own {
			n.URL = secure
		}
		switch load.Kind {
		case markup.Style, markup.Manifest:
		case markup.Script, markup.Frame, markup.Object:
			n.Brief = !own // another host's scripts and pages are its own matter
		default:
			n.Brief = true
		}
		if n.Brief && s.o.Bare || s.o.AsHTTPS && !own && n.Brief {
			continue
		}
		add(n)
	}
	for _, feed := range f.page.Feeds {
		// Each page may have one of its own, of its comments: those of the front page do.
		if own := s.own(feed); own != "" && on == s.job.Site.String()+"/" {
			add(fetch.Job{URL: own, As: "feed", Depth: j.Depth})
		}
	}
	for _, m := range f.maps {
		if own := s.own(m); own != "" {
			add(fetch.Job{URL: own, As: "sitemap", Depth: j.Depth + 1})
		}
	}
	for _, list := range [][]string{f.locs, f.page.Links} {
		for _, link := range list {
			if own := s.link(link); own != "" {
				add(fetch.Job{URL: own, Depth: j.Depth + 1})
			}
		}
	}
}

// take counts one line of the crawl, whether it is new or read back.
func (s *scanning) take(l crawlLine) {
	out := s.out
	for _, n := range l.Next {
		s.secureHost(n.URL)
	}
	out.Outward += l.Outward
	if l.Dead {
		out.Dead++
	}
	if l.Robots {
		out.LeftOut++
	}
	if l.Unread != nil && len(out.Unread) < maxUnread {
		out.Unread = append(out.Unread, *l.Unread)
	}
	if l.Broken != nil && len(out.Broken) < maxUnread {
		out.Broken = append(out.Broken, *l.Broken)
	}
	if l.Job != nil {
		switch {
		case l.Job.As == "style":
			out.Sheets++
		case l.Job.As != "" || l.Job.Brief:
			out.Others++
		case l.Doc != nil:
			out.Read++
			s.job.Progress.At("scanning", int64(out.Read), 0)
		}
	}
	if l.Doc == nil {
		return
	}
	counts := PageCount{URL: l.Doc.URL, Title: l.Doc.Title, Classes: map[mixed.Class]int{}}
	counted := map[culpritID]bool{}
	for _, f := range l.Doc.Findings {
		out.Classes[f.Class]++
		if counts.Classes[f.Class]++; counts.Classes[f.Class] == 1 {
			out.On[f.Class]++
		}
		counts.Sum++
		s.culprit(l, f, counted)
	}
	if counts.Sum == 0 {
		out.Clean++
		return
	}
	s.worst(counts)
}

func (s *scanning) culprit(l crawlLine, f mixed.Finding, counted map[culpritID]bool) {
	out := s.out
	k := culpritID{f.URL, f.Class}
	n, ok := s.at[k]
	if !ok {
		ours := s.ours(f.URL)
		if !ours {
			s.host(f)
		}
		if len(out.Culprits) >= maxCulprits {
			out.More++
			return
		}
		n = len(out.Culprits)
		s.at[k] = n
		on := l.Doc.URL
		if l.Job != nil && l.Job.From != "" && f.Via != "" {
			on = l.Job.From
		}
		out.Culprits = append(out.Culprits, Culprit{URL: f.URL, By: f.By, Class: f.Class, Certainty: f.Certainty, Ours: ours, Via: f.Via, On: on, Line: f.Line, Col: f.Col})
	} else if h := s.hosts[hostOf(f.URL)]; h != nil {
		h.Findings++
	}
	if !counted[k] {
		counted[k] = true
		out.Culprits[n].Pages++
	}
}

// host notes another host that something is loaded from insecurely, with some of what
// is loaded.
func (s *scanning) host(f mixed.Finding) {
	if f.Class != mixed.Blocked && f.Class != mixed.Upgraded && f.Class != mixed.Masked {
		return
	}
	name := hostOf(f.URL)
	h := s.hosts[name]
	if h == nil {
		h = &HostState{Host: name}
		s.hosts[name] = h
	}
	h.Findings++
	if list := s.assets[name]; len(list) < perHost {
		s.assets[name] = append(list, f.URL)
	}
}

func hostOf(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return ""
	}
	return u.Host
}

// worst keeps the documents that have the most.
func (s *scanning) worst(c PageCount) {
	graver := func(a, b PageCount) int {
		for _, class := range mixed.Classes {
			if n := b.Classes[class] - a.Classes[class]; n != 0 {
				return n
			}
		}
		return strings.Compare(a.URL, b.URL)
	}
	i, _ := slices.BinarySearchFunc(s.out.Worst, c, graver)
	if i >= maxWorst {
		return
	}
	s.out.Worst = slices.Insert(s.out.Worst, i, c)
	if len(s.out.Worst) > maxWorst {
		s.out.Worst = s.out.Worst[:maxWorst]
	}
}

// sort brings the results into the order of reading.
func (s *scanning) sort() {
	byURL := func(a, b Unread) int { return strings.Compare(a.URL, b.URL) }
	slices.SortFunc(s.out.Unread, byURL)
	slices.SortFunc(s.out.Broken, byURL)
	slices.SortStableFunc(s.out.Culprits, func(a, b Culprit) int {
		return cmp.Or(slices.Index(mixed.Classes, a.Class)-slices.Index(mixed.Classes, b.Class), b.Pages-a.Pages, strings.Compare(a.URL, b.URL))
	})
}

// judgeHosts asks the other hosts whether they serve over HTTPS what pages load from
// them.
func (s *scanning) judgeHosts(ctx context.Context) error {
	var v *verdicts
	if s.job.Book != nil {
		var err error
		if v, err = s.job.verdicts(ctx); err != nil {
			return err
		}
	} else {
		v = &verdicts{job: s.job, ctx: ctx, known: map[string]probe.Verdict{}}
	}
	for name, h := range s.hosts {
		host := name
		if u, err := url.Parse("http://" + name); err == nil && u.Port() == "" {
			host = u.Hostname()
		}
		for _, asset := range s.assets[name] {
			v.ask(host, asset)
		}
		h.Verdict = v.known[host]
		s.out.Hosts = append(s.out.Hosts, *h)
	}
	slices.SortFunc(s.out.Hosts, func(a, b HostState) int {
		return cmp.Or(b.Findings-a.Findings, strings.Compare(a.Host, b.Host))
	})
	if s.job.Book == nil {
		return nil
	}
	if err := v.keep(); err != nil {
		return world(err, "the verdicts cannot be kept", "make room on the disk")
	}
	return nil
}

// ours reports whether an insecure URL is one of the site's.
func (s *scanning) ours(raw string) bool {
	u, err := url.Parse(raw)
	return err == nil && s.job.Site.Relate(u.Hostname(), u.Port(), u.EscapedPath()) == address.Ours
}

// compareWith reads the scan to compare with; nil where none is asked for.
func (j *Job) compareWith(id string) (*Scan, error) {
	if id == "" {
		return nil, nil
	}
	if j.Book == nil {
		return nil, misuse(nil, "--compare needs the logbook of a site file", "run the scan without it")
	}
	ids, err := j.Book.Scans()
	if err != nil {
		return nil, world(err, "the logbook cannot be read", "check the folder "+j.Book.Path())
	}
	if id == "last" && len(ids) > 0 {
		id = ids[len(ids)-1]
	}
	if !slices.Contains(ids, id) {
		return nil, misuse(nil, "there is no scan "+id, "trimlantern history lists them")
	}
	return j.readScan(id)
}

// compare holds a scan against an earlier one.
func compare(before, now *Scan) *Comparison {
	c := &Comparison{With: before.ID, Time: before.Time, New: []Culprit{}, Gone: []Culprit{}, Then: before.Classes}
	then, seen := map[culpritID]bool{}, map[culpritID]bool{}
	for _, one := range before.Culprits {
		then[culpritID{one.URL, one.Class}] = true
	}
	for _, one := range now.Culprits {
		id := culpritID{one.URL, one.Class}
		if seen[id] = true; then[id] {
			c.Still++
		} else {
			c.New = append(c.New, one)
		}
	}
	for _, one := range before.Culprits {
		if !seen[culpritID{one.URL, one.Class}] {
			c.Gone = append(c.Gone, one)
		}
	}
	return c
}

// readScan reads a scan of the logbook.
func (j *Job) readScan(id string) (*Scan, error) {
	var s Scan
	if err := j.Book.ReadJSON(logbook.ScanName(id), &s); err != nil {
		return nil, world(err, "the logbook cannot be read", "remove the broken file")
	}
	s.pages = j.Book.PagesPath(id)
	return &s, nil
}

// ScanIDs lists the scans of the logbook, the oldest first.
func (j *Job) ScanIDs() ([]string, error) { return j.Book.Scans() }
