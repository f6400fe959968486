// Package scan reads the pages of a site and lists what is insecure on them.
package scan

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"trimlantern/core/address"
	"trimlantern/core/coverage"
	"trimlantern/core/mixed"
	"trimlantern/outside/fetch"
	"trimlantern/outside/logbook"
	"trimlantern/outside/probe"
	"trimlantern/outside/sitefile"
	"trimlantern/work"
	"trimlantern/work/findings"
	"trimlantern/work/trace"
)

// Options bound a scan and say what it looks at.
type Options struct {
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
	Follow      []string      // links that are usually left alone: see FollowKinds
	Except      []string      // patterns of paths that are not asked for
	Sample      int           // read that many pages of those that are known, others each time; 0: all
	Browser     bool          // look with an installed browser too, and fail where there is none
	NoBrowser   bool          // or not, even where there is one
	witness     bool          // the browser is used because it is installed, not because of --browser
	Chromium    string        // its path; "" the one that is found
	BrowserUser string        // of this machine, that the browser runs as; "": the caller
	Tabs        int
	Looks       int                                    // pages that the browser looks at, at the most
	Shown       func(page *url.URL, r *fetch.Response) // where not nil, is given each page as it came, by several goroutines
	Trace       bool                                   // say where each culprit lives
	Because     string                                 // the reason, with which Accept is remembered in the site file
	Accept      []string                               // clauses of the verdict, or causes of gaps, that may stay open
}

// Bounds of what a scan keeps in memory.
const (
	maxCulprits = 50000
	maxUnread   = 500
	maxWorst    = 60
	maxLocs     = 200000 // addresses of one site map
)

// fails reports whether a name is one that FailOn knows.
func fails(name string) bool {
	return name == "" || name == "none" || slices.Contains(mixed.Classes, mixed.Class(name))
}

type culpritID struct {
	url   string
	class mixed.Class
}

type scanning struct {
	job       *work.Job
	o         Options
	client    *fetch.Client
	out       *findings.Scan
	front     *fetch.Frontier
	log       *crawlLog
	rules     map[string]*fetch.Rules // by host
	at        map[culpritID]int
	hosts     map[string]*findings.HostState
	assets    map[string][]string // of a host that pages load from insecurely, some
	memo      mixed.Memo
	known     map[string]string // own, of addresses that were asked for it already
	secure    []string          // other hosts that something is loaded from securely
	ledger    *coverage.Ledger
	except    []*regexp.Regexp
	pool      []fetch.Job     // of a sample: the pages that it can choose from
	later     []fetch.Job     // pages that the database knows of
	canonical map[string]bool // what pages that were read call themselves, where some come later
	sites     map[string]map[mixed.Class]int

	resumed *findings.BrowserState // what the browser had said before the scan was interrupted
	browsed map[string]bool        // pages that the browser looked at
	fronts  map[string][]byte      // front pages, which other names of their sites are held against

	accepted map[string]string // by the owner: URLs, with the reasons
	gaps     map[string]string // and clauses of the verdict, or causes of gaps

	differ atomic.Bool       // another visitor saw something else
	others atomic.Int32      // how many pages another visitor looked at
	once   []string          // those at which one visitor looked
	hinted map[string]bool   // what pages only name
	last   []fetch.Job       // of that, what was not asked for yet
	alike  map[uint64]*alike // pages by the print of their words
	funnel map[string]int    // how many addresses lead to one

	plain    int             // pages without scripts that the browser looked at
	unlisted []coverage.Mark // lists that could not be read
	release  func()          // lets other scans of the site begin
}

// Run crawls the site over HTTPS and lists what its pages load, send or name
// insecurely.
func Run(ctx context.Context, j *work.Job, o Options) (*findings.Scan, error) {
	defer j.Progress.End()
	if !fails(o.FailOn) {
		return nil, work.BadUse(nil, "--fail-on "+o.FailOn+" is not a class", "write one of: blocked, upgraded, form, download, masked, possible, link, none")
	}
	if o.Pages < 1 || o.Depth < 0 || o.Sample < 0 {
		return nil, work.BadUse(nil, "no page can be read with these bounds", "write --pages 1 or more, and --depth 0 or more")
	}
	if err := findBrowser(&o); err != nil {
		return nil, err
	}
	before, err := compareWith(j, o.Compare)
	if err != nil {
		return nil, err
	}
	s, err := begin(j, o)
	if err != nil {
		return nil, err
	}
	defer s.front.Close()
	defer func() { s.release() }()
	if err := s.begin(ctx); err != nil {
		return nil, err
	}
	defer func() {
		s.log.close()
		if !s.out.IsKept() && s.log.book == nil {
			s.log.discard() // nobody could go on with it
		}
	}()
	if err := s.crawl(ctx); err != nil {
		return nil, err
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
	if err := s.number(); err != nil {
		return nil, err
	}
	if before != nil {
		if s.out.Compared, err = s.compare(before); err != nil {
			return nil, work.Failed(err, "the scan to compare with cannot be read", "run the scan without --compare")
		}
	}
	if o.Trace {
		if err := trace.Scan(ctx, j, s.out); err != nil {
			return nil, err
		}
	}
	if err := s.log.end(s.out); err != nil {
		return nil, work.Failed(err, "the scan's result cannot be kept", "make the folder of the site file writable, with room on the disk")
	}
	return s.out, nil
}

// begin makes ready for a scan.
func begin(j *work.Job, o Options) (*scanning, error) {
	client, err := j.Web()
	if err != nil {
		return nil, err
	}
	s := &scanning{job: j, o: o, client: client, at: map[culpritID]int{}, hosts: map[string]*findings.HostState{}, assets: map[string][]string{}, sites: map[string]map[mixed.Class]int{}, canonical: map[string]bool{}, browsed: map[string]bool{}, fronts: map[string][]byte{}, accepted: j.AcceptedURLs(), gaps: j.AcceptedGaps(),
		hinted: map[string]bool{}, alike: map[uint64]*alike{}, funnel: map[string]int{},
		out: &findings.Scan{Site: j.Site.String(), ID: j.RunID(), Time: j.Now().UTC(), AsHTTPS: o.AsHTTPS, FailOn: o.FailOn, Named: len(o.URLs), Sample: o.Sample, Classes: map[mixed.Class]int{}, On: map[mixed.Class]int{},
			Culprits: []findings.Culprit{}, Worst: []findings.PageCount{}, Hosts: []findings.HostState{}, Unread: []findings.Unread{}, Sites: []findings.SiteState{}, Accepted: []findings.AcceptedURL{}},
		front: fetch.NewFrontier(fetch.Crawl{Parallel: o.Parallel, Pages: o.Pages, Depth: o.Depth, Pause: o.Pause, Time: o.Time})}
	s.release = func() {}
	s.ledger = coverage.New(s.group)
	for _, name := range o.Accept {
		if !coverage.Names(name) {
			return nil, work.BadUse(nil, "--accept-gap "+name+" is not a clause of the verdict", "write one of: "+clauseNames())
		}
		if s.gaps[name] == "" {
			s.gaps[name] = cmp.Or(strings.TrimSpace(o.Because), "for this scan: --accept-gap "+name)
		}
	}
	if err := s.remember(); err != nil {
		return nil, err
	}
	for _, f := range o.Follow {
		if !slices.Contains(FollowKinds, f) {
			return nil, work.BadUse(nil, "--follow "+f+" is not known", "write "+strings.Join(FollowKinds, " or "))
		}
	}
	for _, pattern := range o.Except {
		if !strings.HasPrefix(pattern, "/") && !strings.HasPrefix(pattern, "*") {
			return nil, work.BadUse(nil, "--except "+pattern+" matches no path", "begin it with / or *, like /calendar/*")
		}
		quoted := strings.ReplaceAll(regexp.QuoteMeta(pattern), `\*`, ".*")
		s.except = append(s.except, regexp.MustCompile("^"+quoted+"$"))
	}
	return s, nil
}

// remember keeps in the site file which gaps the owner accepts, and why.
func (s *scanning) remember() error {
	because := strings.TrimSpace(s.o.Because)
	known := s.job.AcceptedGaps()
	names := slices.DeleteFunc(slices.Clone(s.o.Accept), func(name string) bool { return known[name] != "" })
	if because == "" || len(names) == 0 {
		return nil
	}
	if s.job.File == nil || s.job.File.Path == "" {
		return work.BadUse(nil, "--because is kept in a site file, and there is none", "leave it out, or make one: trimlantern init")
	}
	entry := sitefile.Accepted{Finding: work.UnseenGap, About: names, Because: because, Date: s.job.Today()}
	if err := s.job.File.Add("accepted", entry); err != nil {
		return s.job.DecisionFault(err)
	}
	return nil
}

func clauseNames() string {
	var names []string
	for _, c := range coverage.Clauses {
		names = append(names, string(c))
	}
	return strings.Join(names, ", ")
}

// group tells which of the site's names an address belongs to.
func (s *scanning) group(u string) string {
	_, rest, _ := strings.Cut(u, "://")
	host, _, _ := strings.Cut(rest, "/")
	if slices.Contains(s.job.Site.NetworkHosts(), host) {
		return host
	}
	return ""
}

// crawl reads all that there is to read.
func (s *scanning) crawl(ctx context.Context) error {
	err := fetch.Run(ctx, s.front, s.fetch, s.visit)
	if err == nil && len(s.later) > 0 && s.front.Waiting() == 0 {
		// What nothing leads to comes last: it is then known which of it was read by its usual address.
		l := crawlLine{}
		for _, j := range s.later {
			s.add(&l, j)
		}
		s.take(l)
		if err = s.log.put(l); err == nil && s.o.Sample == 0 {
			err = fetch.Run(ctx, s.front, s.fetch, s.visit)
		}
	}
	for err == nil && len(s.last) > 0 && s.front.Waiting() == 0 {
		l := crawlLine{}
		hints := s.last
		s.last = nil
		for _, j := range hints {
			switch cause := s.acts(j.URL); {
			case s.ledger.Of(j.URL) != "":
			case cause != "":
				s.leave(&l, j.URL, coverage.Page, cause)
			default:
				s.add(&l, j)
			}
		}
		s.take(l)
		if err = s.log.put(l); err == nil {
			err = fetch.Run(ctx, s.front, s.fetch, s.visit)
		}
	}
	if err == nil && s.o.Sample > 0 {
		if err = s.choose(); err == nil {
			err = fetch.Run(ctx, s.front, s.fetch, s.visit)
		}
	}
	if err == nil { // what was not come to in the time
		rest := crawlLine{}
		err = s.front.Rest(func(j fetch.Job) {
			rest.Marks = append(rest.Marks, coverage.Mark{URL: j.URL, Kind: kindOf(j), Cause: coverage.MaxTime})
		})
		s.take(rest)
	}
	err = s.flushed(err)
	switch {
	case err != nil && ctx.Err() == nil:
		return work.Failed(err, "what was read cannot be stored", "free some disk space")
	case err != nil:
		return work.Failed(nil, fmt.Sprintf("interrupted after %d pages", s.out.Read), s.again())
	}
	s.walls()
	s.count()
	switch {
	case s.out.Read > 0:
		return nil
	case len(s.out.Unread) > 0 && s.ledger.Of(s.job.Site.String()+"/") != coverage.Elsewhere:
		s.log.discard()
		u := s.out.Unread[0]
		do := "is HTTPS served for this name? For a private authority or address: --ca FILE, --resolve HOST:PORT:ADDR; before the switch: --as-https"
		if s.out.Coverage.Count(coverage.Password) > 0 {
			do = "the site requires a password: put its headers in a file and pass --credentials FILE"
		}
		return work.Failed(nil, u.URL+" cannot be read: "+u.Why, do)
	}
	s.log.discard()
	what := "no page of " + s.job.Site.String() + " was read: its addresses lead to other hosts, or give no pages"
	for _, l := range s.out.Coverage.Lines {
		if i := slices.IndexFunc(l.Examples, func(e coverage.Example) bool { return e.Note != "" }); l.Cause == coverage.Elsewhere && i >= 0 {
			what += "; " + l.Examples[i].Note
			break
		}
	}
	return work.Failed(nil, what, "check the address in a browser; another name of the same site: --also HOST")
}

// flushed writes out what of the log waits in memory; an error of that counts more than err.
func (s *scanning) flushed(err error) error { return cmp.Or(s.log.flush(), err) }

// again says how to go on with a scan that was interrupted.
func (s *scanning) again() string {
	if s.log.book == nil {
		return "run the same command again"
	}
	return "trimlantern scan --resume continues from there; trimlantern scan starts anew"
}

// alike are the pages that show a visitor the same words.
type alike struct {
	paths map[string]bool
	pages []string
}

// Bounds of what is kept of pages that are alike: of one kind, and kinds.
const maxAlike, maxPrints = 2000, 100000

// same notes the print of a page's words.
func (s *scanning) same(print uint64, u string) {
	a := s.alike[print]
	if a == nil {
		if len(s.alike) >= maxPrints {
			return
		}
		a = &alike{paths: map[string]bool{}}
		s.alike[print] = a
	}
	if len(a.pages) < maxAlike {
		a.paths[path(u)] = true
		a.pages = append(a.pages, u)
	}
}

// many is from how many addresses on it is no accident that they show the same page, or lead to one.
const many = 3

// walls notes what the addresses of the site say together: that many show the same page, or lead to one, and that another
// visitor sees something else.
func (s *scanning) walls() {
	note := func(cause coverage.Cause, u, why string) {
		s.ledger.Set(coverage.Mark{URL: u, Cause: cause, Note: why})
	}
	for _, a := range s.alike {
		if len(a.paths) >= many {
			for _, u := range a.pages {
				note(coverage.Alike, u, "")
			}
		}
	}
	for to, n := range s.funnel {
		if n >= many {
			note(coverage.Funnel, to, fmt.Sprintf("%d addresses lead here", n))
		}
	}
	if s.differ.Load() {
		for _, u := range s.once {
			note(coverage.Differs, u, "")
		}
	}
}

// count puts the ledger into the result.
func (s *scanning) count() {
	out := s.out
	all := s.ledger.Summary(maxUnread)
	all.Accept(s.gaps)
	out.Read, out.Dead, out.LeftOut = all.PagesRead, all.CountPages(coverage.Gone), 0
	for _, l := range all.Lines {
		if l.Accepted != "" {
			continue
		}
		switch l.State {
		case coverage.Login, coverage.Undecodable, coverage.Failed:
			for _, e := range l.Examples {
				out.Unread = append(out.Unread, findings.Unread{URL: e.URL, Why: e.Note})
			}
		case coverage.Excluded, coverage.NotAsked:
			if l.Blocks {
				out.LeftOut += l.Count
			}
		}
	}
	out.Coverage = s.ledger.Summary(maxExamples)
	out.Coverage.Accept(s.gaps)
	out.Sites = []findings.SiteState{}
	for _, host := range s.ledger.Groups() {
		if one := s.ledger.SummaryOf(host, 0); one.PagesKnown > 0 && host != "" {
			one.Accept(s.gaps)
			classes := s.sites[host]
			if classes == nil {
				classes = map[mixed.Class]int{}
			}
			out.Sites = append(out.Sites, findings.SiteState{Host: host, Complete: one.Complete, Read: one.PagesRead, Known: one.PagesKnown, Classes: classes})
		}
	}
	if len(out.Sites) == 1 {
		out.Sites = []findings.SiteState{}
	}
}

// maxExamples is how many addresses of one line of the ledger a result names.
const maxExamples = 20

// begin opens the crawl's log and fills the frontier.
func (s *scanning) begin(ctx context.Context) error {
	start := slices.Clone(s.o.URLs)
	for i, u := range start {
		if start[i] = s.own(u); start[i] == "" {
			return work.BadUse(nil, u+" is not an address of "+s.job.Site.String(), "name pages of the site, like "+s.job.Site.String()+"/about")
		}
	}
	if s.o.Resume {
		if len(start) == 0 {
			s.later = s.stored(ctx)
		}
		return s.resume()
	}
	if err := s.alone(); err != nil {
		return err
	}
	var err error
	if s.log, err = newCrawl(s.job, s.out); err != nil {
		return work.Failed(err, "what was read cannot be stored", "make the folder of the site file writable")
	}
	var jobs []fetch.Job
	var same []coverage.Mark
	mirrors := map[string]bool{}
	for _, u := range start {
		jobs = append(jobs, fetch.Job{URL: u})
	}
	if len(start) == 0 { // a network's other sites have front pages of their own
		for _, site := range s.job.Site.Network() {
			for _, host := range site.Hosts() {
				if front := "https://" + host + site.Path + "/"; s.mirrors(ctx, site, front) {
					mirrors[host] = true
					same = append(same, coverage.Mark{URL: front, Cause: coverage.Moved, Note: "the same page as " + site.String() + "/"})
				} else {
					jobs = append(jobs, fetch.Job{URL: front})
				}
			}
		}
	}
	if len(start) == 0 || s.o.Robots {
		s.rules = map[string]*fetch.Rules{}
		for _, site := range s.job.Site.Network() {
			for _, host := range site.Hosts() {
				if !mirrors[host] {
					jobs = append(jobs, s.robots(ctx, site, host, len(start) == 0)...)
				}
			}
		}
	}
	for i := range jobs {
		s.front.Add(jobs[i])
	}
	first := crawlLine{Scan: s.out, Next: jobs, Marks: append(same, s.unlisted...)}
	if len(start) == 0 {
		s.later = s.stored(ctx)
	}
	s.take(first)
	if err := s.log.put(first); err != nil {
		return work.Failed(err, "what was read cannot be stored", "free some disk space")
	}
	return s.log.flush()
}

// alone keeps other scans of the site out.
func (s *scanning) alone() error {
	if s.job.Book == nil {
		return nil
	}
	release, err := s.job.Book.LockScan("scan")
	if errors.Is(err, logbook.ErrBusy) {
		return work.Failed(err, "another scan of this site is at work", "wait until it has ended, or end it, then run the same command again")
	}
	if err != nil {
		return work.LockFault(err)
	}
	s.release = release
	return nil
}

// mirrors reports whether another name of a site shows the same front page under its own address,
// byte for byte: then it has no pages of its own.
func (s *scanning) mirrors(ctx context.Context, site address.Site, front string) bool {
	main := site.String() + "/"
	if front == main {
		return false
	}
	if _, asked := s.fronts[main]; !asked {
		s.fronts[main] = nil
		if r, err := s.client.As(fetch.Asker{}).Get(ctx, s.real(main), nil); err == nil && r.Status == 200 {
			s.fronts[main] = slices.Clone(r.Body)
			r.Done()
		}
	}
	r, err := s.client.As(fetch.Asker{}).Get(ctx, s.real(front), nil)
	if err != nil {
		return false
	}
	defer r.Done()
	return len(s.fronts[main]) > 0 && r.Status == 200 && s.as(r.URL).String() == front && bytes.Equal(r.Body, s.fronts[main])
}

// alias reports whether a host is another name of a site, and not the one that it goes by.
func (s *scanning) alias(host string) bool {
	return slices.ContainsFunc(s.job.Site.Network(), func(one address.Site) bool { return slices.Contains(one.Also, host) })
}

// guessed is By of a site map that nobody names: a page in its place is no broken site map.
const guessed = "guessed"

// robots reads the robots.txt of a host and returns it and the site maps as jobs.
func (s *scanning) robots(ctx context.Context, site address.Site, host string, maps bool) (jobs []fetch.Job) {
	origin := "https://" + host
	r, err := s.client.As(fetch.Asker{}).Get(ctx, s.real(origin+"/robots.txt"), nil)
	if why := ""; host == site.Host && (err != nil || !whole(r.Status) && !gone(r.Status)) {
		if err != nil {
			why = probe.Failure(err)
		} else {
			why = fmt.Sprintf("answers %d", r.Status)
		}
		s.unlisted = append(s.unlisted, coverage.Mark{URL: origin + "/robots.txt", Kind: coverage.Part, Cause: coverage.Unlisted, Note: why})
	}
	if host != site.Host && (err != nil || r.URL.Hostname() != host) {
		return nil // another name of the site, which is not there or leads to the first
	}
	add := func(address, by string) {
		if at, err := url.Parse(origin + "/"); err == nil {
			if u, err := at.Parse(address); err == nil {
				address = u.String()
			}
		}
		if u := s.own(address); u != "" && maps {
			jobs = append(jobs, fetch.Job{URL: u, As: "sitemap", By: by})
		}
	}
	if err == nil && r.Status < 500 {
		rules, more := fetch.Robots(r.Status, r.Body)
		if s.o.Robots {
			s.rules[host] = rules
		}
		if r.Status == 200 && r.Type == "text/plain" {
			jobs = append(jobs, fetch.Job{URL: origin + "/robots.txt", As: "robots"})
		}
		for _, m := range more {
			add(m, "robots.txt")
		}
	}
	add(origin+"/sitemap.xml", guessed)
	for _, m := range s.job.System.SiteMaps {
		add(origin+site.Path+m, guessed)
	}
	return jobs
}

// resume takes up the scan that was interrupted last.
func (s *scanning) resume() error {
	if s.job.Book == nil {
		return work.BadUse(nil, "--resume needs a logbook", "run the scan without it")
	}
	ids, err := s.job.Book.Crawls()
	if err != nil || len(ids) == 0 {
		return work.BadUse(err, "there is no scan to continue", "trimlantern scan starts one")
	}
	if err := s.alone(); err != nil {
		return err
	}
	done := map[string]bool{}
	key := func(j fetch.Job) string { return fmt.Sprint(j.Brief, j.URL) }
	id := ids[len(ids)-1]
	var queued, again []fetch.Job
	s.log, err = openCrawl(s.job.Book, id, func(l crawlLine) error {
		if l.Scan != nil {
			if l.Scan.Site != s.out.Site || l.Scan.AsHTTPS != s.o.AsHTTPS {
				return work.BadUse(nil, "the interrupted scan was one of another kind", "give it the same --as-https, or begin anew with trimlantern scan")
			}
			s.out.ID, s.out.Time = l.Scan.ID, l.Scan.Time
		}
		if l.Job != nil {
			done[key(*l.Job)] = true
		}
		if l.Scan == nil && l.Job != nil && l.Marks == nil && l.Doc != nil && l.Doc.Kind != "browser" {
			return work.BadUse(nil, "the interrupted scan was made by an older version", "begin anew: trimlantern scan")
		}
		queued = append(queued, l.Next...)
		for _, m := range l.Marks {
			switch m.Cause {
			case coverage.MaxPages, coverage.MaxDepth, coverage.MaxTime: // the bounds may be others now
				if m.Kind == coverage.Page {
					again = append(again, fetch.Job{URL: m.URL, Depth: l.depth() + 1})
				}
			case coverage.AsDocument:
				if m.Kind == coverage.Page {
					done[key(fetch.Job{URL: m.URL})] = true
					queued = append(queued, fetch.Job{URL: m.URL})
				}
			}
		}
		s.take(l)
		return nil
	})
	if err != nil {
		return err
	}
	if len(queued) == 0 {
		return work.BadUse(nil, "the interrupted scan had not started", "trimlantern scan starts anew")
	}
	s.log.book = s.job.Book
	for _, j := range queued {
		if done[key(j)] {
			s.front.Done(j)
		} else {
			s.front.Add(j)
		}
	}
	for _, j := range again {
		s.front.Add(j)
	}
	s.out.Resumed = true
	return nil
}

// take counts one line of the crawl, whether it is new or read back.
func (s *scanning) take(l crawlLine) {
	out := s.out
	for _, n := range l.Next {
		s.secureHost(n.URL)
	}
	out.Outward += l.Outward
	s.last = append(s.last, l.Hints...)
	if l.Once != "" && len(s.once) < maxAlike {
		s.once = append(s.once, l.Once)
	}
	if l.Path != "" {
		s.same(l.Print, l.Path)
	}
	if l.To != "" && (l.Job == nil || path(l.Job.URL)+"/" != path(l.To)) {
		s.funnel[l.To]++
	}
	if b := l.Browsed; b != nil {
		s.ledger.Clear(b.URL, coverage.Unrun)
	}
	if b := l.Browsed; b != nil && out.Browser == nil { // read back
		if s.resumed == nil {
			s.resumed = &findings.BrowserState{}
		}
		s.browsed[b.URL] = true
		s.resumed.Pages, s.resumed.Reports, s.resumed.Known, s.resumed.New = s.resumed.Pages+1, s.resumed.Reports+b.Reports, s.resumed.Known+b.Known, s.resumed.New+b.Reports-b.Known
	}
	if l.Canonical != "" {
		s.canonical[l.Canonical] = true
	}
	for _, m := range l.Marks {
		if m.Cause == coverage.AsDocument && m.Kind == coverage.Page && s.ledger.Of(m.URL) != coverage.AsDocument {
			out.Read++
			s.job.Progress.At("scanning", int64(out.Read), 0)
		}
		s.ledger.Set(m)
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
		}
	}
	if l.Doc == nil {
		return
	}
	counts := findings.PageCount{URL: l.Doc.URL, Title: l.Doc.Title, Classes: map[mixed.Class]int{}}
	counted := map[culpritID]bool{}
	for _, f := range l.Doc.Findings {
		if because := s.accepted[work.SameURL(f.URL)]; because != "" && len(s.accepted) > 0 {
			s.accept(f, because, counted)
			continue
		}
		out.Classes[f.Class]++
		host := work.HostOf(l.Doc.URL)
		if s.sites[host] == nil {
			s.sites[host] = map[mixed.Class]int{}
		}
		s.sites[host][f.Class]++
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
		out.Culprits = append(out.Culprits, findings.Culprit{URL: f.URL, By: f.By, Class: f.Class, Certainty: f.Certainty, Ours: ours, Via: f.Via, On: on, In: l.Doc.Kind, Line: f.Line, Col: f.Col, Around: f.Around})
	} else if h := s.hosts[work.HostOf(f.URL)]; h != nil {
		h.Findings++
	}
	if !counted[k] {
		counted[k] = true
		out.Culprits[n].Pages++
	}
}

// accept counts a finding that the owner accepts.
func (s *scanning) accept(f mixed.Finding, because string, counted map[culpritID]bool) {
	k := culpritID{f.URL, f.Class}
	i := slices.IndexFunc(s.out.Accepted, func(a findings.AcceptedURL) bool { return a.URL == f.URL && a.Class == f.Class })
	if i < 0 {
		i = len(s.out.Accepted)
		s.out.Accepted = append(s.out.Accepted, findings.AcceptedURL{URL: f.URL, Class: f.Class, Because: because})
	}
	if !counted[k] {
		counted[k] = true
		s.out.Accepted[i].Pages++
	}
}

// host notes another host that something is loaded from insecurely, with some of what
// is loaded.
func (s *scanning) host(f mixed.Finding) {
	if f.Class != mixed.Blocked && f.Class != mixed.Upgraded && f.Class != mixed.Masked {
		return
	}
	name := work.HostOf(f.URL)
	h := s.hosts[name]
	if h == nil {
		h = &findings.HostState{Host: name}
		s.hosts[name] = h
	}
	h.Findings++
	if list := s.assets[name]; len(list) < work.PerHost {
		s.assets[name] = append(list, f.URL)
	}
}

// worst keeps the documents that have the most.
func (s *scanning) worst(c findings.PageCount) {
	graver := func(a, b findings.PageCount) int {
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
	byURL := func(a, b findings.Unread) int { return strings.Compare(a.URL, b.URL) }
	slices.SortFunc(s.out.Unread, byURL)
	slices.SortFunc(s.out.Broken, byURL)
	slices.SortStableFunc(s.out.Culprits, func(a, b findings.Culprit) int {
		return cmp.Or(slices.Index(mixed.Classes, a.Class)-slices.Index(mixed.Classes, b.Class), b.Pages-a.Pages, strings.Compare(a.URL, b.URL))
	})
}

// maxNumbered is how many findings of a scan get numbers: nobody types more.
const maxNumbered = 5000

// number gives the findings the numbers under which decisions and trace know them.
func (s *scanning) number() error {
	j := s.job
	if j.Book == nil || j.File == nil || j.File.Path == "" {
		for i := range s.out.Culprits {
			s.out.Culprits[i].Number = i + 1
		}
		return nil
	}
	var keys []string
	for _, c := range s.out.Culprits[:min(len(s.out.Culprits), maxNumbered)] {
		keys = append(keys, work.InsecureAddress+" "+work.SameURL(c.URL))
	}
	numbers, err := j.Numbered(keys)
	for i, n := range numbers {
		s.out.Culprits[i].Number = n
	}
	return err
}

// judgeHosts asks the other hosts whether they serve over HTTPS what pages load from
// them.
func (s *scanning) judgeHosts(ctx context.Context) error {
	v, err := s.job.Verdicts(ctx)
	if err != nil {
		return err
	}
	for name, h := range s.hosts {
		host := name
		if u, err := url.Parse("http://" + name); err == nil && u.Port() == "" {
			host = u.Hostname()
		}
		for _, asset := range s.assets[name] {
			v.Ask(host, asset)
		}
		h.Verdict = v.Of(host)
		s.out.Hosts = append(s.out.Hosts, *h)
	}
	slices.SortFunc(s.out.Hosts, func(a, b findings.HostState) int {
		return cmp.Or(b.Findings-a.Findings, strings.Compare(a.Host, b.Host))
	})
	if err := v.Keep(); err != nil {
		return work.Failed(err, "the verdicts cannot be kept", "free some disk space")
	}
	return nil
}

// ours reports whether an insecure URL is one of the site's.
func (s *scanning) ours(raw string) bool {
	u, err := url.Parse(raw)
	return err == nil && s.job.Site.Relate(u.Hostname(), u.Port(), u.EscapedPath()) == address.Ours
}
