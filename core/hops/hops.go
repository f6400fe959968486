// Package hops judges what happens to a visitor who types an address: the redirects on the way and the
// page they end up on.
package hops

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/point"
)

// Hop is one answer on the way.
type Hop struct {
	URL      string `json:"url"`              // what was asked for
	Method   string `json:"method"`           // how
	Status   int    `json:"status"`           // of the answer; 0: there was none
	Location string `json:"location"`         // where it sends; "" where the way ends
	By       string `json:"by,omitempty"`     // what sends there: "refresh" or "script" of the page; "": the answer itself redirects
	Cookie   bool   `json:"cookie,omitempty"` // it set a cookie: asked again, it may answer otherwise
}

// Kind says what is asked for, and so what may be expected of it. The values are stable names.
type Kind string

// The kinds of addresses.
const (
	Page     Kind = "page"     // a page that is known to be there
	Entrance Kind = "entrance" // the login, the dashboard, the feed: it may be closed or hidden
	Probe    Kind = "probe"    // an address that need not be there: what counts is the way
	Proof    Kind = "proof"    // below the folder where authorities look for proofs of ownership
)

// Place is an address of a site.
type Place struct {
	Path string // below the site's folder, with its query
	Kind Kind
}

// Journey is the way of one visitor.
type Journey struct {
	Typed   string `json:"typed"`
	Method  string `json:"method"`
	Kind    Kind   `json:"kind"`
	At      string `json:"at,omitempty"` // the server's address, where a name has several
	Hops    []Hop  `json:"hops"`
	Err     string `json:"error,omitempty"`   // why there was no answer, in words
	Steered string `json:"steered,omitempty"` // where a script of the last page may send some visitors
	Far     bool   `json:"far,omitempty"`     // the machine that asked has no way there: that says nothing of the server
}

// Problem is what is wrong, or worth knowing, about a journey. The values are stable names.
type Problem string

// The problems, the gravest first.
const (
	Loop      Problem = "loop"      // a redirect loop
	Failed    Problem = "failed"    // no answer
	Nowhere   Problem = "nowhere"   // a redirect that does not say where to
	Downgrade Problem = "downgrade" // from HTTPS back to HTTP
	Insecure  Problem = "insecure"  // ends up on HTTP
	OtherPort Problem = "port"      // ends up on another port
	Elsewhere Problem = "elsewhere" // ends up on another host
	Missing   Problem = "missing"   // a known page is not there
	Broken    Problem = "broken"    // ends up on an error page
	PathLost  Problem = "path-lost"
	QueryLost Problem = "query-lost"
	Mixed     Problem = "mixed"     // ends up on another name
	Chain     Problem = "chain"     // more redirects than one to scheme and one to name
	Temporary Problem = "temporary" // a redirect that is not permanent
	ProofLost Problem = "proof-lost"
	ProofTo   Problem = "proof-moved" // the folder for proofs is redirected, to its secure self
	Post      Problem = "post"        // a POST loses its body: the method changes on the way
	Steps     Problem = "steps"       // one redirect for the scheme, one for the name
	Moves     Problem = "moves"       // the system sends on to another address of its own
	Denied    Problem = "denied"      // asks for a password
	BySelf    Problem = "by-page"     // a page sends on to another scheme, name or address, and no redirect
	Steers    Problem = "steers"      // a script may send visitors back to HTTP
	TooFar    Problem = "far"         // was not asked: this machine has no way there
)

// problems is the one table of problems, and of how much they matter.
var problems = map[Problem]point.Grade{
	Loop:      point.Stop,
	Failed:    point.Stop,
	Nowhere:   point.Stop,
	Downgrade: point.Stop,
	Insecure:  point.Stop,
	OtherPort: point.Stop,
	Elsewhere: point.Stop,
	Missing:   point.Stop,
	Broken:    point.Stop,
	PathLost:  point.Stop,
	QueryLost: point.Stop,
	Mixed:     point.Care,
	Chain:     point.Care,
	Temporary: point.Care,
	ProofLost: point.Care,
	BySelf:    point.Care,
	Steers:    point.Care,
	ProofTo:   point.Note,
	Post:      point.Note,
	Steps:     point.Note,
	Moves:     point.Note,
	Denied:    point.Note,
	TooFar:    point.Note,
}

// Order lists the problems, the gravest first.
var Order = []Problem{Loop, Failed, Nowhere, Downgrade, Insecure, OtherPort, Elsewhere, Missing, Broken, PathLost, QueryLost, Mixed, Chain, Temporary, BySelf, Steers, ProofLost, ProofTo, Post, Steps, Moves, Denied, TooFar}

// Grade says how much it matters: what the host or the system does by itself is a note.
func (p Problem) Grade() point.Grade { return problems[p] }

// Landing returns the last address of a journey.
func (j Journey) Landing() string {
	if len(j.Hops) == 0 {
		return j.Typed
	}
	return j.Hops[len(j.Hops)-1].URL
}

// Redirects counts the redirects.
func (j Journey) Redirects() int {
	n := 0
	for _, h := range j.Hops {
		if h.Location != "" {
			n++
		}
	}
	return n
}

// judging is one journey while it is judged.
type judging struct {
	Journey
	site  address.Site
	found map[Problem]bool
}

// Judge says what is wrong with a journey, or worth knowing about it, the gravest first. paths are the
// folders that alone are to be secure, like /shop; empty: the whole site. What the site does behind the
// redirect, from one secure address of its own to another, is at most a note.
func (j Journey) Judge(site address.Site, paths []string) []Problem {
	d := &judging{j, site, map[Problem]bool{}}
	d.follow()
	switch {
	case d.found[Failed] && len(d.Hops) > 0:
		d.stranded()
	case !d.found[TooFar] && !d.found[Loop] && !d.found[Failed]:
		d.landing(paths)
	}
	out := []Problem{}
	for _, p := range Order {
		if d.found[p] {
			out = append(out, p)
		}
	}
	return out
}

// follow judges the way. A step that changes scheme, host or port is one of the redirect.
func (d *judging) follow() {
	if d.Far {
		d.found[TooFar], d.found[Failed] = true, false
		return
	}
	if len(d.Hops) == 0 {
		d.found[Failed] = true
		return
	}
	seen := map[string]bool{}
	switches, name, scheme := 0, false, false
	for i, h := range d.Hops {
		if seen[h.Method+h.URL] {
			d.found[Loop] = true
		}
		if h.Cookie {
			clear(seen)
		} else {
			seen[h.Method+h.URL] = true
		}
		if h.Location == "" {
			continue
		}
		from, err1 := url.Parse(h.URL)
		to, err2 := url.Parse(h.Location)
		if err1 != nil || err2 != nil {
			d.found[Nowhere] = true
			continue
		}
		if from.Scheme == "https" && to.Scheme == "http" {
			d.found[Downgrade] = true
		}
		if i+1 < len(d.Hops) && d.Hops[i+1].Method != h.Method {
			d.found[Post] = true
		}
		if from.Scheme == to.Scheme && from.Host == to.Host {
			if !same(from, to) {
				d.found[Moves] = true
			}
			continue
		}
		if h.By != "" {
			d.found[BySelf] = true
		}
		switches++
		name, scheme = name || from.Host != to.Host, scheme || from.Scheme != to.Scheme
		d.step(h, from, to)
	}
	last := d.Hops[len(d.Hops)-1]
	if to, err := url.Parse(d.Steered); err == nil && to.Scheme == "http" && strings.HasPrefix(last.URL, "https:") && slices.Contains(d.site.Hosts(), to.Hostname()) {
		d.found[Steers] = true
	}
	switch {
	case d.found[Loop]:
	case last.Location != "": // it was given up on the way
		d.found[Loop] = true
	case d.Err != "" || last.Status == 0:
		d.found[Failed] = true
	case switches > 2 || switches == 2 && !(name && scheme):
		d.found[Chain] = true
	case switches == 2:
		d.found[Steps] = true
	}
}

// step judges one redirect that changes scheme, host or port.
func (d *judging) step(h Hop, from, to *url.URL) {
	if h.By == "" && h.Method != "POST" && (h.Status == 302 || h.Status == 303 || h.Status == 307) {
		d.found[Temporary] = true
	}
	switch {
	case same(from, to):
	case strings.Trim(from.Path, "/") == strings.Trim(d.site.Path, "/") && strings.HasPrefix(to.Path, d.site.Path+"/"):
		d.found[Moves] = true // from the front page to a page in a language, to the page that ?p= names
	default:
		d.found[PathLost] = d.found[PathLost] || trimmed(from) != trimmed(to)
		d.found[QueryLost] = d.found[QueryLost] || query(from) != query(to)
	}
}

// same reports whether two addresses have the same path and query, however they are written. A slash at
// the end is no difference.
func same(a, b *url.URL) bool { return trimmed(a) == trimmed(b) && query(a) == query(b) }

func trimmed(u *url.URL) string { return strings.TrimSuffix(u.Path, "/") }

func query(u *url.URL) string {
	values, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return u.RawQuery
	}
	return values.Encode()
}

// stranded judges a journey that ends where nothing answers: being sent there is the fault.
func (d *judging) stranded() {
	u, err := url.Parse(d.Hops[len(d.Hops)-1].URL)
	switch {
	case err != nil:
	case !slices.Contains(d.site.Hosts(), u.Hostname()):
		d.found[Elsewhere], d.found[Failed] = true, false
	case !standard(u):
		d.found[OtherPort], d.found[Failed] = true, false
	}
}

// standard reports whether a URL has its scheme's default port.
func standard(u *url.URL) bool {
	return u.Port() == "" || u.Scheme == "http" && u.Port() == "80" || u.Scheme == "https" && u.Port() == "443"
}

// landing judges where the way ends.
func (d *judging) landing(paths []string) {
	last := d.Hops[len(d.Hops)-1]
	typed, err1 := url.Parse(d.Typed)
	landed, err2 := url.Parse(last.URL)
	if err1 != nil || err2 != nil {
		d.found[Failed] = true
		return
	}
	if last.Status/100 == 3 && last.Status != 304 {
		d.found[Nowhere] = true
		return
	}
	host := landed.Hostname()
	ours := slices.Contains(d.site.Hosts(), host)
	switch {
	case d.Kind == Proof:
		d.proof(typed, landed, ours && standard(landed))
		return
	case !ours:
		d.found[Elsewhere] = true
		return
	case !standard(landed):
		d.found[OtherPort] = true
	case !below(typed.Path, paths):
	case landed.Scheme != "https":
		d.found[Insecure] = true
	case host != d.site.Host && last.Status != 401: // who is asked for a password is not there yet
		d.found[Mixed] = true
	}
	front := strings.TrimSuffix(d.site.Path, "/")
	if d.Kind == Page && trimmed(typed) != front && trimmed(landed) == front {
		d.found[PathLost] = true
	}
	d.answer(last)
}

// proof judges the way to where an authority looks. Whether something is there does not matter.
func (d *judging) proof(typed, landed *url.URL, ours bool) {
	d.found[Temporary], d.found[Moves], d.found[PathLost] = false, false, false
	switch {
	case !ours || !same(typed, landed):
		d.found[ProofLost] = true
	case d.Redirects() > 0:
		d.found[ProofTo] = true
	}
}

// answer judges what is there at the end.
func (d *judging) answer(last Hop) {
	switch known := d.Kind == Page || d.Kind == Entrance; {
	case last.Status == 401, last.Status == 403 && d.Kind == Entrance:
		d.found[Denied] = true
	case d.Kind == Entrance && (last.Status == 404 || last.Status == 410):
	case d.Kind == Page && (last.Status == 404 || last.Status == 410):
		d.found[Missing] = true
	case last.Status == 501, last.Status == 503 && !known: // cannot do that; the system is being updated
	case last.Status >= 500, known && last.Status >= 400:
		d.found[Broken] = true
	}
}

// below reports whether a path is one that is to be secure.
func below(path string, paths []string) bool {
	return len(paths) == 0 || slices.ContainsFunc(paths, func(p string) bool {
		folder := strings.TrimSuffix(p, "/")
		return path == folder || strings.HasPrefix(path, folder+"/")
	})
}

// ProofFolders are where certificate authorities look for proofs of ownership
// (RFC 8555 §8.3 and the older way), below the root of a name.
var ProofFolders = []string{"/.well-known/acme-challenge/", "/.well-known/pki-validation/"}

// Matrix returns the addresses that a site's visitors may type: every scheme and name, and of each the
// front page, a deep path with query and percent signs, a static file, a file for a proof, and something
// sent with POST; and under the site's own name the places given.
func Matrix(site address.Site, places []Place) []Journey {
	var out []Journey
	for _, scheme := range []string{"http", "https"} {
		for _, n := range site.Hosts() {
			base := scheme + "://" + n + site.Path
			out = append(out,
				Journey{Typed: base + "/", Method: "GET", Kind: Page},
				Journey{Typed: base + "/lamp%20room/caf%C3%A9/?a=1%2B1&b=%26", Method: "GET", Kind: Probe},
				Journey{Typed: base + "/?p=7", Method: "POST", Kind: Probe},
				Journey{Typed: base + "/favicon.ico", Method: "GET", Kind: Probe},
				Journey{Typed: fmt.Sprintf("%s://%s%strimlantern-test", scheme, n, ProofFolders[0]), Method: "GET", Kind: Proof})
		}
		for _, p := range places {
			if p.Path != "/" {
				out = append(out, Journey{Typed: scheme + "://" + site.Host + site.Path + p.Path, Method: "GET", Kind: p.Kind})
			}
		}
	}
	return out
}
