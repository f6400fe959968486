package scan

import (
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"net/url"
	"slices"
	"strings"
	"sync"

	"trimlantern/core/coverage"
	"trimlantern/core/mixed"
	"trimlantern/outside/browser"
	"trimlantern/outside/fetch"
	"trimlantern/outside/probe"
	"trimlantern/work"
	"trimlantern/work/findings"
)

// browsed is what became of the browser's look at one page.
type browsed struct {
	URL     string `json:"u"`
	Reports int    `json:"r,omitempty"`
	Known   int    `json:"k,omitempty"`
}

// findBrowser has the scan look with an installed browser too, where it may be used; it refuses a scan that insists on one
// where there is none.
func findBrowser(o *Options) error {
	if o.NoBrowser && o.Browser {
		return work.BadUse(nil, "--browser and --no-browser exclude each other", "leave one of them out")
	}
	if !o.Browser { // as it comes
		path, err := browser.Find(o.Chromium)
		user := o.BrowserUser
		if browser.Unprotected(user) {
			user = browser.Nobody() // root itself does not run it
		}
		if o.Browser = err == nil && !o.NoBrowser && !o.AsHTTPS && !browser.Unprotected(user); o.Browser {
			o.Chromium, o.BrowserUser, o.witness = path, user, true
		}
		return nil
	}
	if o.AsHTTPS {
		return work.BadUse(nil, "a browser cannot look at pages as if they came over HTTPS", "leave out --browser, or --as-https")
	}
	if browser.Unprotected(o.BrowserUser) {
		return work.BadUse(nil, "--browser: as root the browser runs without its sandbox, so that a hostile page could use the whole machine", "name a user without rights: --browser-user nobody")
	}
	path, err := browser.Find(o.Chromium)
	if errors.Is(err, browser.ErrMissing) {
		return work.BadUse(err, "--browser", "install Chromium (Debian: apt-get install chromium), or name one with --chromium PATH")
	}
	o.Chromium = path
	return err
}

// pins returns the public keys of hosts that only the authority given with --ca vouches
// for: the browser does not know it.
func (s *scanning) pins(ctx context.Context) (pins []string) {
	if s.job.CA == "" && s.job.File.Network.CA == "" {
		return nil
	}
	for _, host := range append(s.job.Site.NetworkHosts(), s.secure...) {
		addrs, err := probe.Addresses(ctx, s.client, host, "443")
		if err != nil || len(addrs) == 0 {
			continue
		}
		chain := probe.Handshake(ctx, addrs[0], host).Chain
		if len(chain) == 0 {
			continue
		}
		between := x509.NewCertPool()
		for _, c := range chain[1:] {
			between.AddCert(c)
		}
		if _, err := chain[0].Verify(x509.VerifyOptions{DNSName: host, Roots: s.client.Roots(), Intermediates: between}); err != nil {
			continue
		}
		sum := sha256.Sum256(chain[0].RawSubjectPublicKeyInfo)
		if pin := base64.StdEncoding.EncodeToString(sum[:]); !slices.Contains(pins, pin) {
			pins = append(pins, pin)
		}
	}
	return pins
}

// secureHost notes a host that something is loaded from securely.
func (s *scanning) secureHost(raw string) {
	if len(s.secure) >= 200 || s.own(raw) != "" {
		return
	}
	if u, err := url.Parse(raw); err == nil && u.Scheme == "https" && !slices.Contains(s.secure, u.Hostname()) {
		s.secure = append(s.secure, u.Hostname())
	}
}

// look is what became of the browser's look at one page.
type look struct {
	doc  findings.ScannedPage
	seen *browser.Seen
	err  error
}

// browse looks at the pages with the browser and takes in what it reports. Where scripts made links, those are read and looked
// at too.
func (s *scanning) browse(ctx context.Context) error {
	out := &findings.BrowserState{}
	if s.resumed != nil {
		out.Pages, out.Reports, out.Known, out.New = s.resumed.Pages, s.resumed.Reports, s.resumed.Known, s.resumed.New
	}
	s.out.Browser = out
	b, err := browser.Open(ctx, s.client, browser.Options{Path: s.o.Chromium, Pins: s.pins(ctx), User: s.o.BrowserUser, Full: true})
	if err != nil {
		return work.Failed(err, "the browser", "try it by itself, name another with --chromium PATH, or go without it: --no-browser")
	}
	defer b.Close()
	out.Version = b.Version()
	tried := map[string]bool{}
	for {
		pages, err := s.unlooked(tried)
		if err != nil {
			return work.Failed(err, "what was read cannot be read back", "check the disk, then run the same command again")
		}
		if len(pages) == 0 {
			break
		}
		if err := s.lookAt(ctx, b, pages); err != nil {
			return err
		}
		if err := s.crawlOn(ctx); err != nil {
			return err
		}
	}
	s.walls()
	s.count()
	return nil
}

// witnesses is how many pages without scripts the browser looks at without --browser: their source holds all that they load.
const witnesses = 12

// unlooked returns the pages that the browser has still to look at: those with scripts come first. They count as tried.
func (s *scanning) unlooked(tried map[string]bool) (pages []findings.ScannedPage, err error) {
	var plain []findings.ScannedPage
	left := 0
	err = s.log.each(func(l crawlLine) error {
		switch {
		case l.Doc.Kind != "" || l.Job == nil || s.own(l.Doc.URL) == "" || l.Doc.Title == "" && len(l.Doc.Findings) > 0 && l.Doc.Findings[0].Via == l.Doc.URL:
		case s.browsed[l.Doc.URL] || tried[l.Doc.URL]: // before the scan was interrupted, too
		case s.ledger.Has(l.Doc.URL, coverage.Unrun):
			if len(pages)+len(s.browsed) < s.o.Looks {
				pages = append(pages, *l.Doc)
			} else {
				left++
			}
		case len(plain) < s.o.Looks:
			plain = append(plain, *l.Doc)
		default:
			left++
		}
		return nil
	})
	room := max(0, s.o.Looks-len(s.browsed)-len(pages))
	if s.o.witness {
		plain = plain[:min(len(plain), max(0, witnesses-s.plain))]
	}
	s.plain += min(len(plain), room)
	s.out.Browser.LeftOut = left + max(0, len(plain)-room)
	pages = append(pages, plain[:min(len(plain), room)]...)
	for _, p := range pages {
		tried[p.URL] = true
	}
	return pages, err
}

// crawlOn reads what only scripts led to.
func (s *scanning) crawlOn(ctx context.Context) error {
	if s.front.Waiting() == 0 {
		return nil
	}
	err := s.flushed(fetch.Run(ctx, s.front, s.fetch, s.visit))
	switch {
	case err != nil && ctx.Err() == nil:
		return work.Failed(err, "what was read cannot be stored", "free some disk space")
	case err != nil:
		return work.Failed(nil, "interrupted while the browser looked", "trimlantern scan --resume continues from there")
	}
	return nil
}

// lookAt looks at some pages, several at once.
func (s *scanning) lookAt(ctx context.Context, b *browser.Browser, pages []findings.ScannedPage) error {
	out := s.out.Browser
	jobs, looks := make(chan findings.ScannedPage), make(chan look)
	var tabs sync.WaitGroup
	for range max(s.o.Tabs, 1) {
		tabs.Go(func() {
			for p := range jobs {
				seen, err := b.Look(ctx, p.URL)
				looks <- look{p, seen, err}
			}
		})
	}
	go func() {
		defer close(looks)
		defer tabs.Wait()
		defer close(jobs)
		for _, p := range pages {
			select {
			case jobs <- p:
			case <-ctx.Done():
				return
			}
		}
	}()
	var failed error
	n := 0
	for l := range looks {
		n++
		s.job.Progress.At("looking with the browser", int64(n), int64(len(pages)))
		if l.err != nil {
			out.Failed = append(out.Failed, findings.Unread{URL: l.doc.URL, Why: l.err.Error()})
			s.ledger.Set(coverage.Mark{URL: l.doc.URL, Cause: coverage.Unlooked, Note: l.err.Error()})
			continue
		}
		out.Pages++
		s.browsed[l.doc.URL] = true
		if l.seen.Timeout {
			out.Failed = append(out.Failed, findings.Unread{URL: l.doc.URL, Why: "was not quiet in time; what was seen counts"})
			s.ledger.Set(coverage.Mark{URL: l.doc.URL, Cause: coverage.Unlooked, Note: "was not quiet in time"})
		}
		failed = errors.Join(failed, s.seen(l.doc, l.seen))
	}
	if ctx.Err() != nil {
		return work.Failed(nil, "interrupted while the browser looked", "trimlantern scan --resume continues from there")
	}
	if failed != nil {
		return work.Failed(failed, "what was seen cannot be stored", "free some disk space")
	}
	return nil
}

// seen takes in what the browser reported of one page.
func (s *scanning) seen(doc findings.ScannedPage, seen *browser.Seen) error {
	out := s.out.Browser
	reports := Reports(seen)
	known := out.Known
	line := crawlLine{Doc: &findings.ScannedPage{URL: doc.URL, Title: doc.Title, Kind: "browser"}}
	for _, f := range reports {
		out.Reports++
		if _, known := s.at[culpritID{f.URL, f.Class}]; known {
			out.Known++
			continue
		}
		out.New++
		line.Doc.Findings = append(line.Doc.Findings, f)
	}
	for _, f := range doc.Findings {
		is := func(r mixed.Finding) bool { return r.URL == f.URL }
		if (f.Class == mixed.Blocked || f.Class == mixed.Upgraded) && f.Certainty == mixed.Certain && !slices.ContainsFunc(reports, is) && len(out.Unconfirmed) < 50 {
			out.Unconfirmed = append(out.Unconfirmed, findings.Unread{URL: f.URL, Why: f.By + " on " + doc.URL})
		}
	}
	line.Browsed = &browsed{doc.URL, len(reports), out.Known - known}
	for _, link := range seen.Links {
		if own := s.link(link); own != "" && s.ledger.Of(own) == "" && s.o.Sample == 0 {
			s.page(&line, fetch.Job{URL: doc.URL, Depth: 1}, link, false)
		}
	}
	if len(line.Doc.Findings) == 0 {
		line.Doc = nil
	}
	s.take(line)
	return s.log.put(line)
}

// Reports turns a browser's reports of mixed content into findings: of several on one
// address the gravest.
func Reports(seen *browser.Seen) (out []mixed.Finding) {
	classes := map[string]mixed.Class{browser.Blocked: mixed.Blocked, browser.Upgraded: mixed.Upgraded}
	for _, m := range seen.Mixed {
		if u, err := url.Parse(m.URL); err == nil && u.User != nil {
			u.User = nil // as in what is read
			m.URL = u.String()
		}
		class := classes[m.Status]
		if m.Kind == "Form" {
			class = mixed.Form
		}
		if class == "" {
			continue // loaded all the same, as from this machine itself
		}
		i := slices.IndexFunc(out, func(f mixed.Finding) bool { return f.URL == m.URL })
		if i < 0 {
			i = len(out)
			out = append(out, mixed.Finding{URL: m.URL, Class: class, By: "browser: " + strings.ToLower(m.Kind), Certainty: mixed.Certain})
		}
		if slices.Index(mixed.Classes, class) < slices.Index(mixed.Classes, out[i].Class) {
			out[i].Class = class
		}
	}
	return out
}
