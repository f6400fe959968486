package scan

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/coverage"
	"trimlantern/core/markup"
	"trimlantern/core/mixed"
	"trimlantern/outside/fetch"
	"trimlantern/outside/probe"
	"trimlantern/work/findings"
)

// FollowKinds are the kinds of links that a scan leaves alone unless it is told to follow them: those
// that say rel=nofollow, and those that would do something (see coverage.Acts).
var FollowKinds = []string{"nofollow", "acting"}

// listing reports whether a job is for one of the site's own lists of addresses.
func listing(j fetch.Job) bool { return j.As == "sitemap" || j.As == "robots" || j.As == "feed" }

// kindOf tells what a job is for.
func kindOf(j fetch.Job) coverage.Kind {
	switch {
	case j.Brief:
		return coverage.Thing
	case j.As != "":
		return coverage.Part
	}
	return coverage.Page
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
	r      *fetch.Response
	page   *mixed.Page
	more   []mixed.Finding // what another visitor sees besides
	both   bool            // another visitor looked
	failed bool            // or was to look, and got no answer
	err    error
	maps   []string
	locs   []string
}

// fetch asks for one thing and reads it; it runs in several goroutines.
func (s *scanning) fetch(ctx context.Context, j fetch.Job) (f fetched) {
	if u, err := url.Parse(j.URL); s.o.Robots && err == nil && s.own(j.URL) != "" && !s.rules[u.Hostname()].Allows(u.RequestURI()) {
		f.err = errRobots
		return f
	}
	visitor := s.client.As(fetch.Asker{}) // each page is read without the cookies of others
	want := func(typ string) bool {
		return j.As == "sitemap" || mixed.KindOf(typ, markup.Kind(j.As)) != ""
	}
	if j.Brief {
		f.r, f.err = visitor.Head(ctx, s.real(j.URL))
	} else {
		f.r, f.err = visitor.Get(ctx, s.real(j.URL), want)
	}
	if f.err != nil || !s.readable(j, f.r) {
		return f
	}
	r := f.r
	if j.As == "sitemap" && !noMap(j, f) && r.Status < 400 && s.own(s.as(r.URL).String()) != "" {
		f.locs, f.maps, f.err = fetch.Sitemap(r.Body, maxLocs)
		for _, list := range [][]string{f.locs, f.maps} {
			for i, raw := range list {
				if u, err := s.as(r.URL).Parse(raw); err == nil {
					list[i] = u.String()
				}
			}
		}
	}
	// What will not count is not read: links are told once, and would be lost.
	final := s.as(r.URL)
	if f.err != nil || noMap(j, f) || j.Brief || final.Scheme != "https" {
		return f
	}
	if !listing(j) && j.As != "" || s.ownOf(j, final) != "" {
		f.page = mixed.Read(mixed.Answer{Memo: &s.memo, URL: final, Type: r.Type, Header: r.Header, Body: r.Body, As: markup.Kind(j.As), Upgrades: j.Masked})
		if s.o.Shown != nil && kindOf(j) == coverage.Page && s.ownOf(j, final) != "" && mixed.KindOf(r.Type, "") == "html" {
			s.o.Shown(final, r)
		}
		if shows(j) && mixed.KindOf(r.Type, "") != "" {
			s.lookAgain(ctx, visitor, j, &f)
		}
	}
	r.Cut = r.Cut && len(r.Body) > 0
	r.Done()
	return f
}

// shows reports whether a job is for something that a visitor looks at as at a page.
func shows(j fetch.Job) bool {
	return kindOf(j) == coverage.Page || j.As == string(markup.Frame) && !j.Brief
}

// readable reports whether an answer holds something to read: it is whole, or the page that says that there is none.
func (s *scanning) readable(j fetch.Job, r *fetch.Response) bool {
	missing := gone(r.Status) && kindOf(j) == coverage.Page && j.By != named
	return (whole(r.Status) || missing) && r.Coding == "" && (len(r.Body) > 0 || len(r.Header) > 0)
}

// whole reports whether a status says that this is what was asked for (RFC 9110 §15.3).
func whole(status int) bool {
	return status == http.StatusOK || status == http.StatusNonAuthoritativeInfo
}

// gone reports whether a status says that there is nothing.
func gone(status int) bool { return status == http.StatusNotFound || status == http.StatusGone }

// often is how many pages are looked at as another visitor whatever their headers say.
const often = 25

// lookAgain asks for a page once more, as somebody who comes back, on a telephone and with another language, where it
// says that it varies (RFC 9110 §12.5.5), or to see whether pages of this site do so without saying it.
func (s *scanning) lookAgain(ctx context.Context, visitor *fetch.Client, j fetch.Job, f *fetched) {
	vary := strings.ToLower(strings.Join(f.r.Header["Vary"], ","))
	says := strings.Contains(vary, "user-agent") || strings.Contains(vary, "cookie") || strings.Contains(vary, "language") || strings.Contains(vary, "*") || strings.Contains(vary, "sec-ch-ua")
	if !says && !s.differ.Load() && s.others.Add(1) > often || !whole(f.r.Status) {
		return
	}
	tongues := slices.Clone(f.page.Tongues)
	if len(tongues) == 0 || !strings.Contains(vary, "language") {
		tongues = []string{otherTongue}
	}
	known := map[string]bool{}
	for _, one := range f.page.Findings {
		known[string(one.Class)+one.URL] = true
	}
	f.both = true
	for _, tongue := range tongues {
		r, err := visitor.With(fetch.Asker{Phone: true, Language: tongue}).Get(ctx, s.real(j.URL), func(typ string) bool { return mixed.KindOf(typ, "") != "" })
		if ctx.Err() != nil {
			f.err = context.Canceled // interrupted: the page is still to be read
			return
		}
		if err != nil || !whole(r.Status) || r.Coding != "" || s.own(s.as(r.URL).String()) == "" {
			if err != nil || !whole(r.Status) || r.Coding != "" {
				f.both, f.failed = false, true
			}
			continue // it leads elsewhere, as to a page for telephones, which is another address
		}
		if string(r.Body) != string(f.r.Body) {
			other := mixed.Read(mixed.Answer{URL: s.as(r.URL), Type: r.Type, Header: r.Header, Body: r.Body})
			for _, one := range other.Findings {
				if id := string(one.Class) + one.URL; !known[id] {
					known[id] = true
					one.By += " (on a telephone, in " + tongue + ", at a second visit)"
					f.more = append(f.more, one)
				}
			}
			f.page.Links = append(f.page.Links, other.Links...)
			f.page.Loads = append(f.page.Loads, other.Loads...)
			f.page.Scripts = max(f.page.Scripts, other.Scripts)
		}
		r.Done()
	}
	if len(f.more) > 0 {
		s.differ.Store(true)
	}
}

// otherTongue is the language of the other visitor where a page names none.
const otherTongue = "de"

// ownOf is own for where a job ended: mostly where it began.
func (s *scanning) ownOf(j fetch.Job, final *url.URL) string {
	u := final.String()
	if u == j.URL && (j.As == "" || listing(j)) {
		return u // only own addresses are asked for as pages
	}
	return s.own(u)
}

// noMap reports whether what a guessed site map gave is a page.
func noMap(j fetch.Job, f fetched) bool {
	return j.As == "sitemap" && j.By == guessed && f.r.Type == "text/html"
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

// marking notes what became of a job's address, or of the one that it redirected to.
type marking struct {
	at   string
	kind coverage.Kind
	l    *crawlLine
}

func (m *marking) mark(cause coverage.Cause, note string) {
	m.l.Marks = append(m.l.Marks, coverage.Mark{URL: m.at, Kind: m.kind, Cause: cause, Note: note})
}

// look decides what a result says and leads to.
func (s *scanning) look(j fetch.Job, f fetched, l *crawlLine) {
	m := &marking{j.URL, kindOf(j), l}
	page := m.kind == coverage.Page
	if f.err != nil && f.r != nil && !page {
		if via := s.insecureHop(j, f.r); via != nil { // whether there is anything there or not
			l.Doc = &findings.ScannedPage{URL: j.URL, Kind: j.As, Findings: []mixed.Finding{*via}}
			m.mark(coverage.Loaded, "")
			return
		}
	}
	switch {
	case f.err != nil:
		s.failed(j, f, l, m.mark)
		return
	case !whole(f.r.Status) && !(j.Brief && f.r.Status < 300):
		if own := s.own(f.r.URL.String()); page && own != "" && own != j.URL {
			m.mark(coverage.Moved, own)
			if m.at = own; s.front.Done(fetch.Job{URL: own}) == fetch.Known {
				return // it is asked for by itself
			}
		}
		s.refused(j, f, l, m.mark)
		if f.page != nil && len(f.page.Findings) > 0 {
			l.Doc = &findings.ScannedPage{URL: s.as(f.r.URL).String(), Title: f.page.Title, Kind: "error", Findings: f.page.Findings}
			s.filter(l.Doc, l)
		}
		if f.page != nil {
			s.follow(j, f, l)
		}
		return
	case noMap(j, f):
		m.mark(coverage.Absent, "not a sitemap")
		return
	}
	final := s.as(f.r.URL)
	doc := &findings.ScannedPage{URL: final.String(), Kind: j.As}
	if via := s.insecureHop(j, f.r); via != nil {
		doc.URL = j.URL
		doc.Findings = append(doc.Findings, *via)
		l.Doc = doc
	}
	own := s.ownOf(j, final)
	switch {
	case j.Brief:
		m.mark(coverage.Loaded, "")
	case shows(j) && gated(j, f.r, final):
		m.mark(coverage.Gate, "redirects to "+final.String())
		if page && own != "" {
			s.page(l, j, own, false)
		}
	case (page || listing(j)) && own == "":
		m.mark(coverage.Elsewhere, j.URL+" redirects to "+final.Host)
		if page {
			s.leadsTo(l, final.String())
		}
	case final.Scheme != "https":
		m.mark(coverage.Insecurely, "redirects to "+f.r.URL.String())
	case f.r.Coding != "":
		m.mark(coverage.Encoding, "compressed with "+f.r.Coding+", which was not requested and cannot be decoded")
	case shows(j) && mixed.KindOf(f.r.Type, "") == "":
		if typ := http.DetectContentType(f.r.Start); mixed.KindOf(strings.SplitN(typ, ";", 2)[0], "") != "" && f.r.Type != "text/plain" {
			m.mark(coverage.Type, "a page served as "+f.r.Type+": browsers download it")
		} else {
			m.mark(coverage.Media, f.r.Type)
		}
	default:
		s.document(j, f, doc, own, m)
	}
}

// document takes in what was read, under the address that it has: once, however many lead to it.
func (s *scanning) document(j fetch.Job, f fetched, doc *findings.ScannedPage, own string, m *marking) {
	l := m.l
	if f.page == nil {
		f.page = &mixed.Page{} // an answer without headers and body
	}
	if m.kind == coverage.Page && own != j.URL {
		known := s.moved(j.URL, own, f, m.mark)
		if !f.page.Password {
			s.leadsTo(l, own)
		}
		if m.at = own; known {
			s.follow(j, f, l) // links are told once: the page under its own address may not have had them
			return
		}
	}
	doc.Title = f.page.Title
	doc.Findings = append(append(doc.Findings, f.page.Findings...), f.more...)
	s.visible(j, f, m)
	s.filter(doc, l)
	if len(s.later) > 0 && f.page.Canonical != "" {
		to := s.own(f.page.Canonical)
		if j.By == byDatabase && to != m.at && to != "" && (s.ledger.Of(to) == coverage.AsDocument || s.canonical[to]) && !slices.ContainsFunc(doc.Findings, s.isNew) {
			m.mark(coverage.Moved, "the same page as "+to)
			l.Doc = nil
			s.follow(j, f, l)
			return
		}
		l.Canonical = to
	}
	if f.r.Cut {
		m.mark(coverage.Cut, "only its first 16 MB were read")
	} else {
		m.mark(coverage.AsDocument, "")
	}
	l.Doc = doc
	s.follow(j, f, l)
}

// few is the most words of a page that only says that something blocks the way.
const few = 60

// fewest is the fewest words of a wall, like "One moment, please, while …".
const fewest = 4

// visible notes where a page that was read is not what each visitor sees.
func (s *scanning) visible(j fetch.Job, f fetched, m *marking) {
	note := func(cause coverage.Cause, u, why string) {
		m.l.Marks = append(m.l.Marks, coverage.Mark{URL: u, Cause: cause, Note: why})
	}
	p := f.page
	at := m.at
	if m.kind != coverage.Page && j.Root != "" {
		at = j.Root // a browser that looks at the page runs what is in its frames
	}
	if p.Scripts > 0 && (m.kind == coverage.Page || j.As == string(markup.Frame) || j.As == string(markup.Object) || j.As == named) {
		note(coverage.Unrun, at, "")
	}
	if !shows(j) {
		return
	}
	if p.Reloads && p.Words < few {
		note(coverage.Reloads, at, "")
	}
	if p.Password && p.Words < few && !signIn.MatchString(j.URL) {
		note(coverage.SignIn, at, "")
	}
	vary := strings.ToLower(strings.Join(f.r.Header["Vary"], ","))
	switch {
	case f.failed:
		note(coverage.Differs, at, "a second look failed")
	case !f.both:
		m.l.Once = at
	case strings.Contains(vary, "language") && len(p.Tongues) == 0:
		note(coverage.Differs, at, "answers by language: read in English and German")
	}
	if m.kind != coverage.Page {
		return
	}
	if p.Words >= fewest && (p.Canonical == "" || s.own(p.Canonical) == at) {
		m.l.Print, m.l.Path = p.Print, at
	}
}

// signIn are words of addresses at which a question for a password is what a visitor came for.
var signIn = regexp.MustCompile(`(?i)log[-_]?in|sign[-_]?(in|up|on)|account|user|admin|register|auth|session|passw`)

// carries reports whether a redirect's target is told where the visitor wanted to go, as pages are that want something
// first: /login?to=/tours/ for /tours/.
func carries(to *url.URL, from string) bool {
	u, err := url.Parse(from)
	if err != nil || u.Path == to.Path && u.Host == to.Host {
		return false
	}
	path := strings.Trim(u.Path, "/")
	for _, values := range to.Query() {
		for _, v := range values {
			if v == from || v == u.RequestURI() || strings.Trim(v, "/") == path && path != "" || strings.HasSuffix(v, "/"+u.Host+u.RequestURI()) {
				return true
			}
		}
	}
	return false
}

// gated reports whether a redirect on the way to where a job ended is told where the visitor wanted to go.
func gated(j fetch.Job, r *fetch.Response, final *url.URL) bool {
	return slices.ContainsFunc(append(slices.Clone(r.Hops), j.URL), func(from string) bool { return from != final.String() && carries(final, from) })
}

// leadsTo counts the addresses that lead to one.
func (s *scanning) leadsTo(l *crawlLine, to string) { l.To = to }

// isNew reports whether no document had a finding before: a page that has one is no copy, whatever it
// calls itself.
func (s *scanning) isNew(f mixed.Finding) bool {
	_, known := s.at[culpritID{f.URL, f.Class}]
	return !known
}

// moved notes that a page redirected to another address of the site, and reports whether that is asked
// for by itself.
func (s *scanning) moved(from, final string, f fetched, mark func(coverage.Cause, string)) bool {
	if f.page.Password && !signIn.MatchString(path(from)) {
		mark(coverage.Password, "redirects to a login page: "+final)
	} else {
		mark(coverage.Moved, final)
	}
	return s.front.Done(fetch.Job{URL: final}) == fetch.Known
}

// path returns the path of an address.
func path(u string) string {
	if parsed, err := url.Parse(u); err == nil {
		return parsed.Path
	}
	return u
}

// failed notes what gave no answer.
func (s *scanning) failed(j fetch.Job, f fetched, l *crawlLine, mark func(coverage.Cause, string)) {
	why := ""
	if f.err != errRobots {
		why = probe.Failure(f.err)
	}
	var dns *net.DNSError
	u, err := url.Parse(j.URL)
	switch {
	case f.err == errRobots:
		mark(coverage.Robots, "")
	case shows(j) && f.r != nil && gated(j, f.r, f.r.URL):
		mark(coverage.Gate, "redirects to "+f.r.URL.String())
	case kindOf(j) == coverage.Page && f.r != nil && s.own(f.r.URL.String()) == "":
		mark(coverage.Elsewhere, j.URL+" redirects to "+f.r.URL.Host)
	case kindOf(j) == coverage.Page && f.r != nil && slices.ContainsFunc(append(f.r.Hops, f.r.URL.String()), s.insecure):
		mark(coverage.Insecurely, "redirects to HTTP and back: "+why)
	case j.As == "sitemap" && f.r != nil && f.r.Status == 200:
		mark(coverage.Malformed, "the sitemap cannot be read: "+f.err.Error())
	case listing(j):
		mark(coverage.Unlisted, why)
	case errors.As(f.err, &dns) && dns.IsNotFound && err == nil && j.Depth == 0 && s.alias(u.Hostname()):
		mark(coverage.Unnamed, why)
	default:
		if j.Brief {
			l.Broken = &findings.Unread{URL: j.URL, Why: why}
		}
		mark(coverage.NoAnswer, why)
	}
}

// insecure reports whether an address that was asked for is one that a secure page must not load.
func (s *scanning) insecure(raw string) bool {
	u, err := url.Parse(raw)
	return err == nil && mixed.Insecure(s.as(u))
}

// refused notes what was answered with a status of 400 or above.
func (s *scanning) refused(j fetch.Job, f fetched, l *crawlLine, mark func(coverage.Cause, string)) {
	why := fmt.Sprintf("answers %d", f.r.Status)
	gone := gone(f.r.Status)
	kind := kindOf(j)
	loaded := kind == coverage.Thing || j.As == "style" || j.As == "script"
	if loaded {
		l.Broken = &findings.Unread{URL: j.URL, Why: why}
	}
	switch {
	case gone && (loaded || j.As == "robots"), (gone || f.r.Status == http.StatusMethodNotAllowed) && j.By == named:
		mark(coverage.Absent, why) // a browser gets nothing either
	case f.r.Status == http.StatusUnauthorized:
		mark(coverage.Password, why+": requires a password")
	case gone && (kind == coverage.Part || j.Depth > 0):
		mark(coverage.Gone, why)
	case listing(j):
		mark(coverage.Unlisted, why)
	default:
		mark(coverage.Refused, why)
	}
}

// filter drops what is not this site's to change: where a visitor may go elsewhere,
// and what another host only names.
func (s *scanning) filter(doc *findings.ScannedPage, l *crawlLine) {
	kept := doc.Findings[:0]
	for _, f := range doc.Findings {
		if (f.Class == mixed.Link || f.Class == mixed.Download && !strings.HasPrefix(f.By, "a ")) && !s.ours(f.URL) {
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
		f := mixed.Finding{URL: hop, By: cmp.Or(j.By, "redirect"), Class: mixed.Link, Certainty: mixed.Certain, Via: j.URL}
		switch {
		case kindOf(j) == coverage.Page || listing(j):
		case j.Masked:
			f.Class = mixed.Masked
		default:
			f.Class, f.Certainty = mixed.Loaded(markup.Kind(j.As), u.Hostname()), mixed.Likely // as far as the browser lets it come so far
		}
		return &f
	}
	return nil
}

// follow adds what a document leads to.
func (s *scanning) follow(j fetch.Job, f fetched, l *crawlLine) {
	on := s.as(f.r.URL).String()
	root := j.Root
	if kindOf(j) == coverage.Page {
		root = on
	}
	for _, load := range f.page.Loads {
		n := fetch.Job{URL: load.URL, As: string(load.Kind), Depth: j.Depth, From: on, Root: root, By: load.By, Masked: load.Masked}
		if u, _, ok := strings.Cut(n.URL, "#"); ok {
			n.URL = u
		}
		secure := s.link(n.URL)
		own := secure != ""
		if own {
			n.URL = secure
		}
		switch load.Kind {
		case markup.Style, markup.Manifest, markup.Script:
		case markup.Frame, markup.Object:
			n.Brief = !own && load.Kind == markup.Object // what it shows is mostly a picture
		default:
			n.Brief = true
		}
		if n.Brief && s.o.Bare {
			s.leave(l, n.URL, coverage.Thing, coverage.Bare)
			continue
		}
		s.add(l, n)
	}
	for _, feed := range f.page.Feeds {
		if own := s.own(feed); own != "" {
			s.add(l, fetch.Job{URL: own, As: "feed", Depth: j.Depth})
		}
	}
	s.name(j, f, l, root)
	for _, m := range f.maps {
		if own := s.own(m); own != "" {
			s.add(l, fetch.Job{URL: own, As: "sitemap", Depth: j.Depth + 1})
		}
	}
	for _, loc := range f.locs { // what the owner lists is a page
		s.page(l, j, loc, true)
	}
	for _, link := range f.page.Links {
		s.page(l, j, link, false)
	}
	for _, link := range f.page.NoFollow {
		if own := s.link(link); own != "" && !slices.Contains(s.o.Follow, "nofollow") {
			s.leave(l, own, coverage.Page, cmp.Or(s.acts(own), coverage.NoFollow))
			continue
		}
		s.page(l, j, link, false)
	}
}

// named is By of an address that a page only names, in an attribute, a script or data: it may be none.
const named = "named"

// name keeps what a document only names for the end: most of it is known by then.
func (s *scanning) name(j fetch.Job, f fetched, l *crawlLine, root string) {
	if f.page.Crowded {
		s.leave(l, j.URL+" (addresses that it names)", coverage.Part, coverage.MaxLoaded)
	}
	for _, hint := range f.page.Hints {
		own := s.link(hint)
		if own == "" || s.ledger.Of(own) != "" || s.hinted[own] {
			continue
		}
		if len(s.hinted) >= maxHinted {
			s.leave(l, own, coverage.Part, coverage.MaxLoaded)
			continue
		}
		s.hinted[own] = true
		n := fetch.Job{URL: own, As: named, By: named, From: s.as(f.r.URL).String(), Root: root, Depth: j.Depth + 1}
		if kind := markup.AssetKind(own); kind != "" && kind != markup.Script && kind != markup.Style {
			n.As, n.Brief = string(kind), true
		}
		l.Hints = append(l.Hints, n)
	}
}

// maxHinted is how many such addresses of a site are kept.
const maxHinted = 50000

// page adds a page that a link leads to; listed is one of a site map.
func (s *scanning) page(l *crawlLine, j fetch.Job, link string, listed bool) {
	own := s.link(link)
	switch {
	case own == "":
		s.leave(l, link, coverage.Page, coverage.Elsewhere)
	case !listed && s.acts(own) != "":
		s.leave(l, own, coverage.Page, s.acts(own))
	default:
		s.add(l, fetch.Job{URL: own, Depth: j.Depth + 1})
	}
}

// acts returns why a link is not followed that would do something.
func (s *scanning) acts(own string) coverage.Cause {
	u, err := url.Parse(own)
	if err != nil || slices.Contains(s.o.Follow, "acting") {
		return ""
	}
	return coverage.Acts(u, len(s.client.Secrets()) > 0)
}

// leave notes an address that is not asked for.
func (s *scanning) leave(l *crawlLine, u string, kind coverage.Kind, cause coverage.Cause) {
	if s.ledger.Of(u) == "" {
		l.Marks = append(l.Marks, coverage.Mark{URL: u, Kind: kind, Cause: cause})
	}
}

// add has something fetched, or notes why it is not.
func (s *scanning) add(l *crawlLine, n fetch.Job) {
	if s.excepted(n.URL) {
		s.leave(l, n.URL, kindOf(n), coverage.Pattern)
		return
	}
	if s.o.Sample > 0 && kindOf(n) == coverage.Page && n.Depth > 0 {
		if s.ledger.Of(n.URL) == "" {
			l.Marks = append(l.Marks, coverage.Mark{URL: n.URL, Cause: coverage.Sampled})
			s.pool = append(s.pool, n)
		}
		return
	}
	switch s.front.Add(n) {
	case fetch.Queued:
		l.Next = append(l.Next, n)
	case fetch.PastPages:
		s.leave(l, n.URL, coverage.Page, coverage.MaxPages)
	case fetch.PastOthers:
		s.leave(l, n.URL, kindOf(n), coverage.MaxLoaded)
	case fetch.PastDepth:
		s.leave(l, n.URL, kindOf(n), coverage.MaxDepth)
	}
}

// excepted reports whether the user leaves an address of the site out.
func (s *scanning) excepted(own string) bool {
	if len(s.except) == 0 || s.own(own) == "" {
		return false
	}
	u, err := url.Parse(own)
	return err == nil && slices.ContainsFunc(s.except, func(p *regexp.Regexp) bool {
		return p.MatchString(u.Path) || p.MatchString(u.RequestURI())
	})
}
