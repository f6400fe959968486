// Package mixed finds what a page would load, send or name over an insecure
// scheme, and classifies it as W3C Mixed Content (Level 2) and today's browsers
// do. It reads HTML, CSS, SVG, feeds, site maps, manifests and the headers of an
// answer; of scripts it reads what is written out in them. What a script puts
// together it cannot see.
package mixed

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"hash/maphash"
	"net/netip"
	"net/url"
	"sort"
	"strings"
	"sync"
	"sync/atomic"

	"trimlantern/core/address"
	"trimlantern/core/markup"
)

// Class is what becomes of an insecure reference in a browser.
type Class string

// The classes, the gravest first.
const (
	Blocked  Class = "blocked"  // the browser refuses to load it
	Upgraded Class = "upgraded" // the browser asks over HTTPS instead; broken where there is none
	Form     Class = "form"     // a form sends to it
	Download Class = "download" // a visitor's click downloads it: browsers refuse
	Masked   Class = "masked"   // the page's policy has browsers ask over HTTPS: not all know it
	Possible Class = "possible" // a script, or an old browser, may load it
	Link     Class = "link"     // named, not loaded: costs a redirect
)

// Classes lists all classes, the gravest first.
var Classes = []Class{Blocked, Upgraded, Form, Download, Masked, Possible, Link}

// Certainty is how sure it is that every browser does what the class says.
type Certainty string

// The certainties.
const (
	Certain Certainty = "certain" // on every visit
	Likely  Certainty = "likely"  // where a rule matches, a candidate is chosen, a font is used
	Guess   Certainty = "guess"   // written out in a script or an attribute that scripts read
)

// Finding is one insecure reference of a document.
type Finding struct {
	URL       string    `json:"url"`
	By        string    `json:"by"` // what holds it: "img src", "@import"
	Class     Class     `json:"class"`
	Certainty Certainty `json:"certainty"`
	Line      int       `json:"line"`          // from 1; 0: in a header
	Col       int       `json:"column"`        // from 1, in bytes; 0: in a header
	Via       string    `json:"via,omitempty"` // the secure address that sends back to URL

	// Around is the markup in which it stands: with a Memo where it is met first.
	Around string `json:"around,omitempty"`
}

// Load is one thing that a document loads over a secure scheme.
type Load struct {
	URL       string
	By        string
	Kind      markup.Kind
	Certainty Certainty
	Masked    bool // the page's policy has browsers ask over HTTPS whatever comes
}

// Page is what was read out of one document.
type Page struct {
	Title    string
	Findings []Finding
	Links    []string // where a visitor can go, absolute; with a Memo those that it has not told before
	NoFollow []string // and where only links with rel=nofollow lead
	Loads    []Load   // what it loads securely, in order
	Feeds    []string // its feeds, absolute
	Hints    []string // addresses of its own host that it names otherwise: in attributes, scripts, data
	Crowded  bool     // it names more of them than are kept
	Scripts  int      // scripts that a browser would run: elements, handlers, javascript: addresses
	Print    uint64   // of its words, without those with digits or slashes: equal where a visitor reads the same
	Words    int      // how many those are
	Reloads  bool     // it loads itself again within half a minute
	Onward   []Onward // where it sends its visitors by itself
	Tongues  []string // the languages in which it says that it is there too (hreflang)
	Upgrades bool     // its policy has browsers upgrade what it loads
	Password bool     // it asks for a password

	Canonical string // its address as it names it itself, absolute
}

// Answer is what a server answered, as far as it counts here.
type Answer struct {
	URL      *url.URL
	Type     string              // media type, lower case, without parameters
	Header   map[string][]string // canonical names
	Body     []byte
	As       markup.Kind // what it was loaded for; "" for a page of its own
	Upgrades bool        // a page above it has the policy that upgrades
	Memo     *Memo       // where set, what many pages share is worked out once
}

// upgradeable is the one table of kinds: what W3C Mixed Content §4 lets browsers
// upgrade. Everything else that is loaded is blockable.
var upgradeable = map[markup.Kind]bool{
	markup.Image: true, markup.Audio: true, markup.Video: true,
}

// Loaded classifies something that is loaded from an insecure address. A host that
// is an IP address is never upgraded: nobody gives it a certificate.
func Loaded(kind markup.Kind, host string) Class {
	_, err := netip.ParseAddr(strings.Trim(host, "[]"))
	return loaded(kind, err == nil)
}

// loaded is Loaded where it is known whether the host is an IP address.
func loaded(kind markup.Kind, bare bool) Class {
	if upgradeable[kind] && !bare {
		return Upgraded
	}
	return Blocked
}

// Read reads a document of whatever type. Types that can name nothing give an empty
// page, with what their headers say.
func Read(a Answer) *Page {
	r := &reader{b: a.Body, base: a.URL, here: a.URL, page: &Page{Upgrades: a.Upgrades}, memo: a.Memo, maps: &importMap{}, frame: a.As == markup.Frame || a.As == markup.Object}
	r.part = a.As != "" && !r.frame
	r.headers(a.Header)
	switch kind := KindOf(a.Type, a.As); {
	case kind == "html":
		r.xml = a.Type == "application/xhtml+xml"
		r.html(a.Body, 0)
	case kind == "css":
		r.css(a.Body, 0)
	case kind == "svg" && a.As != markup.Image && a.As != markup.ImageSet: // an image loads nothing more
		r.xml = true
		r.html(a.Body, 0)
	case kind == "xml" && isDocument(a.Body):
		r.xml = true
		r.html(a.Body, 0)
	case kind == "xml":
		if !r.part { // what of it is XHTML or SVG is shown, with its style sheets
			r.xml = true
			r.html(a.Body, 0)
		}
		r.feed(a.Body, a.As == "sitemap")
	case kind == "js":
		r.script(a.Body, "script", 0, true)
	case kind == "manifest":
		r.manifest(a.Body)
		r.listed(a.Body, true)
	case kind == "json":
		r.rest(a.Body, "JSON", markup.Maybe, 0, 0, nil)
		r.listed(a.Body, strings.HasPrefix(a.Type, "application/feed") || strings.Contains(a.Type, "speculationrules"))
	case kind == "robots":
		r.rest(a.Body, "robots.txt", markup.Names, 0, 0, nil)
	}
	return r.page
}

// KindOf tells how a document is read: "html", "css", "svg", "xml", "js",
// "manifest", "robots" or "" for not at all.
func KindOf(typ string, as markup.Kind) string {
	switch {
	case as == markup.Style:
		return "css" // whatever its server calls it
	case as == markup.Manifest || typ == "application/manifest+json":
		return "manifest"
	case typ == "text/html" || typ == "application/xhtml+xml":
		return "html"
	case typ == "text/css":
		return "css"
	case typ == "image/svg+xml":
		return "svg"
	case typ == "text/javascript" || strings.HasSuffix(typ, "/javascript") || strings.HasSuffix(typ, "/x-javascript") || as == markup.Script:
		return "js"
	case typ == "text/xml" || typ == "application/xml" || strings.HasSuffix(typ, "+xml"):
		return "xml"
	case as == "robots":
		return "robots"
	case typ == "application/json" || typ == "text/json" || strings.HasSuffix(typ, "+json"):
		return "json"
	}
	return ""
}

// isDocument reports whether XML is a page or a picture by the namespace of its root.
func isDocument(b []byte) (is bool) {
	first := true
	markup.WalkXML(b[:min(len(b), 4096)], markup.Markup{Tag: func(element string, _ []markup.Attr) {
		is = is || first && (element == "html" || element == "svg")
		first = false
	}})
	return is
}

// HTML reads a page that was found at address.
func HTML(b []byte, address *url.URL) *Page {
	return Read(Answer{URL: address, Type: "text/html", Body: b})
}

// CSS reads a style sheet that was found at address.
func CSS(b []byte, address *url.URL) *Page {
	return Read(Answer{URL: address, Type: "text/css", Body: b})
}

type reader struct {
	b      []byte
	base   *url.URL
	here   *url.URL // the document's own address; nil in documents in documents
	page   *Page
	xml    bool
	lines  []int      // offsets at which lines begin, made when needed
	maps   *importMap // of the whole page
	memo   *Memo
	depth  int  // documents in documents
	frame  bool // it is shown in a frame: where it refreshes to is loaded there
	asleep bool // what comes is not loaded: a template
	part   bool // it is none that a visitor looks at: a style sheet, a script
	strict bool // a policy says what may be loaded: it may refuse something before anything else does
	bases  basePolicy

	origin uint64 // the base's, as hash takes it; 0: not asked for yet
}

// use is what a document does with one URL.
type use struct {
	by        string
	use       markup.Use
	kind      markup.Kind
	certainty Certainty
	offset    int
	download  bool
	nofollow  bool
	picture   bool // an object that is a picture by its type
}

// Insecure reports whether an absolute URL is one that a secure page must not load,
// and browsers do not trust all the same: Secure Contexts §3.1.
func Insecure(u *url.URL) bool {
	return (u.Scheme == "http" || u.Scheme == "ws") && u.Host != "" && !trustworthy(u.Hostname())
}

func trustworthy(host string) bool {
	if ip, err := netip.ParseAddr(host); err == nil {
		return ip.IsLoopback()
	}
	return host == "localhost" || strings.HasSuffix(host, ".localhost")
}

// add looks at one URL as written.
func (r *reader) add(raw string, c use) {
	u := r.remembered(raw)
	if u == nil {
		return
	}
	if u.data && c.use == markup.Loads {
		r.data(raw, c)
		return
	}
	switch {
	case c.use != markup.Opens || !u.web || c.download:
	case c.nofollow:
		r.page.NoFollow = append(r.page.NoFollow, u.text)
	default:
		if r.memo == nil || !u.told.Load() && !u.told.Swap(true) {
			r.page.Links = append(r.page.Links, u.text)
		}
		if !u.insecure {
			r.tell(raw)
		}
	}
	if c.certainty == "" {
		c.certainty = Certain
	}
	if !u.insecure {
		if (c.use == markup.Names || c.use == markup.Maybe) && u.web {
			r.hint(u.text)
		}
		if c.use == markup.Loads && u.web {
			r.page.Loads = append(r.page.Loads, Load{u.text, c.by, c.kind, c.certainty, r.page.Upgrades})
		}
		return
	}
	f := Finding{URL: u.text, By: c.by, Certainty: c.certainty}
	if r.asleep && c.use == markup.Loads {
		c.use = markup.Maybe
	}
	switch c.use {
	case markup.Loads:
		f.Class = loaded(c.kind, u.bare)
		if (u.named || r.strict) && c.certainty == Certain { // browsers refuse most of these whatever the scheme
			f.Certainty = Likely
		}
		if u.private { // today's browsers ask the visitor instead of refusing (Local Network Access)
			f.Class, f.Certainty = Possible, Likely
		}
	case markup.Sends:
		f.Class = Form
	case markup.Maybe:
		f.Class, f.Certainty = Possible, Guess
	case markup.Opens:
		if f.Class = Link; c.download || u.archive {
			f.Class = Download
		}
	case markup.Names, markup.Text:
		f.Class = Link
	default:
		return
	}
	// What a plug-in or a frame would show for an object is refused whatever the policy says.
	if r.page.Upgrades && (c.use == markup.Loads && (c.kind != markup.Object || c.picture) || c.use == markup.Sends) {
		f.Class = Masked
	}
	f.Line, f.Col = r.position(c.offset)
	if r.memo == nil || !u.shown.Load() && !u.shown.Swap(true) {
		f.Around = r.around(c.offset)
	}
	r.page.Findings = append(r.page.Findings, f)
}

// archive reports whether a browser downloads what a path names, instead of
// showing it.
func archive(path string) bool {
	path = strings.ToLower(path)
	for _, end := range []string{".zip", ".gz", ".tgz", ".xz", ".zst", ".bz2", ".7z", ".rar", ".tar", ".exe", ".msi", ".dmg", ".pkg", ".deb", ".rpm", ".apk", ".iso", ".docx", ".xlsx", ".pptx", ".odt", ".ods", ".epub"} {
		if strings.HasSuffix(path, end) {
			return true
		}
	}
	return false
}

// resolved is a URL as written, made absolute, with what counts of it.
type resolved struct {
	text     string
	web      bool // its scheme is http or https
	data     bool
	insecure bool
	bare     bool        // its host is an IP address
	private  bool        // or one of a local network
	named    bool        // it has a name or a password, which is nobody's to read
	archive  bool        // a browser downloads it
	told     atomic.Bool // it was among the links of a page
	shown    atomic.Bool // a finding had the markup around it
}

func newResolved(raw string, u *url.URL) *resolved {
	_, err := netip.ParseAddr(u.Hostname())
	n := &resolved{text: withoutUser(u), web: u.Scheme == "http" || u.Scheme == "https", data: u.Scheme == "data", insecure: Insecure(u), bare: err == nil, private: isLocal(u.Hostname()), named: u.User != nil, archive: archive(u.Path)}
	if n.text == raw {
		n.text = raw // one string for both
	}
	return n
}

// withoutUser writes a URL without a name and a password, as browsers report it.
func withoutUser(u *url.URL) string {
	if u.User == nil {
		return u.String()
	}
	plain := *u
	plain.User = nil
	return plain.String()
}

// shared is where networks of carriers give addresses that the internet does not reach (RFC 6598).
var shared = netip.MustParsePrefix("100.64.0.0/10")

// isLocal reports whether a host is one that browsers take for a local network's by its name alone: an
// address, or a name below .local (Local Network Access).
func isLocal(host string) bool {
	if ip, err := netip.ParseAddr(host); err == nil {
		ip = ip.Unmap()
		return ip.IsPrivate() || ip.IsLinkLocalUnicast() || shared.Contains(ip)
	}
	return strings.HasSuffix(host, ".local")
}

// Memo remembers addresses: the menu of a site is on all its pages. It may be used
// from several goroutines.
type Memo struct {
	mu    sync.RWMutex
	known map[string]*resolved
	told  map[uint64]struct{} // hashes of links that say nothing new
}

// memoSeed is what all hashes of a Memo begin with.
var memoSeed = maphash.MakeSeed()

// hash returns what stands for a link as written on a page of this origin; ok ==
// false: it depends on the page.
func (r *reader) hash(raw []byte) (h uint64, ok bool) {
	switch {
	case r.memo == nil || len(raw) == 0 || len(raw) > 500:
		return 0, false
	case raw[0] == '/' && (len(raw) == 1 || raw[1] != '/'):
		if r.origin == 0 {
			r.origin = maphash.String(memoSeed, r.base.Scheme+" "+r.base.Host)
		}
		return maphash.Bytes(memoSeed, raw) ^ r.origin, true
	case bytes.HasPrefix(raw, []byte("https://")), bytes.HasPrefix(raw, []byte("http://")):
		return maphash.Bytes(memoSeed, raw), true
	}
	return 0, false
}

// told reports whether a link was met before and says nothing new: it leads to a
// secure address that is among a page's links.
func (r *reader) told(raw []byte) bool {
	h, ok := r.hash(raw)
	if !ok {
		return false
	}
	r.memo.mu.RLock()
	_, ok = r.memo.told[h]
	r.memo.mu.RUnlock()
	return ok
}

// tell notes such a link.
func (r *reader) tell(raw string) {
	h, ok := r.hash([]byte(raw))
	if !ok {
		return
	}
	r.memo.mu.Lock()
	if len(r.memo.told) >= maxTold || r.memo.told == nil {
		r.memo.told = map[uint64]struct{}{}
	}
	r.memo.told[h] = struct{}{}
	r.memo.mu.Unlock()
}

// maxTold is how many links a Memo notes before it begins anew.
const maxTold = 200000

// maxMemo is how many addresses a Memo remembers before it begins anew.
const maxMemo = 40000

// remembered is resolve for addresses that do not depend on the page: absolute ones, and
// paths of the same origin.
func (r *reader) remembered(raw string) *resolved {
	key := ""
	switch {
	case r.memo == nil || len(raw) > 500:
	case strings.HasPrefix(raw, "https://") || strings.HasPrefix(raw, "http://"):
		key = raw
	case strings.HasPrefix(raw, "/") && !strings.HasPrefix(raw, "//"):
		key = r.base.Scheme + " " + r.base.Host + raw
	}
	if key != "" {
		r.memo.mu.RLock()
		u := r.memo.known[key]
		r.memo.mu.RUnlock()
		if u != nil {
			return u
		}
	}
	parsed, ok := r.resolve(raw)
	if !ok {
		return nil
	}
	u := newResolved(raw, parsed)
	if key != "" {
		r.memo.mu.Lock()
		if len(r.memo.known) >= maxMemo || r.memo.known == nil {
			r.memo.known = map[string]*resolved{}
		}
		r.memo.known[key] = u
		r.memo.mu.Unlock()
	}
	return u
}

// resolve reads a URL as browsers do (URL Standard §4.4) and makes it absolute.
func (r *reader) resolve(raw string) (*url.URL, bool) {
	raw = strings.Map(func(c rune) rune { // tabs and newlines go
		if c == '\t' || c == '\n' || c == '\r' {
			return -1
		}
		return c
	}, strings.TrimFunc(raw, func(c rune) bool { return c <= ' ' }))
	if raw == "" {
		return nil, false
	}
	scheme, rest := "", raw
	if i := strings.IndexByte(raw, ':'); i > 0 && !strings.ContainsAny(raw[:i], "/?#\\") {
		scheme, rest = strings.ToLower(raw[:i]), raw[i+1:]
	}
	special := scheme == "" || scheme == "http" || scheme == "https" || scheme == "ws" || scheme == "wss"
	if !special {
		return &url.URL{Scheme: scheme, Opaque: rest}, true
	}
	path, query := rest, ""
	if i := strings.IndexAny(rest, "?#"); i >= 0 {
		path, query = rest[:i], rest[i:]
	}
	path = strings.ReplaceAll(path, `\`, "/")
	switch {
	case scheme == "":
		raw = path + query
	case scheme == r.base.Scheme && !strings.HasPrefix(path, "//"):
		raw = path + query // as relative as if the scheme were not there
	default:
		raw = scheme + "://" + strings.TrimLeft(path, "/") + query
	}
	u, err := r.base.Parse(raw)
	if err != nil {
		if u, err = r.base.Parse(mend(raw)); err != nil {
			return nil, false
		}
	}
	if u.Host != "" {
		u.Host = canonical(u)
	}
	return u, true
}

// mend escapes what url.Parse does not take and browsers do.
func mend(raw string) string {
	var out strings.Builder
	hex := func(i int) bool { return i < len(raw) && strings.IndexByte("0123456789abcdefABCDEF", raw[i]) >= 0 }
	for i := 0; i < len(raw); i++ {
		switch c := raw[i]; {
		case c == '%' && !(hex(i+1) && hex(i+2)):
			out.WriteString("%25")
		case c <= ' ' || c == 0x7f:
			const digits = "0123456789ABCDEF"
			out.WriteByte('%')
			out.WriteByte(digits[c>>4])
			out.WriteByte(digits[c&15])
		default:
			out.WriteByte(c)
		}
	}
	return out.String()
}

// canonical returns host and port as browsers write them.
func canonical(u *url.URL) string {
	host, port := strings.ToLower(u.Host), u.Port()
	name := u.Hostname()
	odd := strings.IndexFunc(name, func(c rune) bool { return c >= 0x80 }) >= 0
	if number := name != "" && !strings.Contains(name, ":") && name[strings.LastIndexByte(name, '.')+1:] != "" && isDigit(name[strings.LastIndexByte(name, '.')+1]); odd || number {
		if h, err := address.CanonicalHost(name); err == nil {
			if host = h; port != "" {
				host += ":" + port
			}
		}
	}
	if port == "" {
		return strings.TrimSuffix(host, ":")
	}
	host = strings.TrimSuffix(host, ":"+port)
	if port = strings.TrimLeft(port, "0"); port == defaultPorts[u.Scheme] {
		return host
	}
	return host + ":" + cmp.Or(port, "0")
}

// defaultPorts are the ports that are not written.
var defaultPorts = map[string]string{"http": "80", "ws": "80", "https": "443", "wss": "443"}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// position returns line and column of an offset of the outermost document; a
// negative offset is in a header.
func (r *reader) position(offset int) (line, col int) {
	if offset < 0 {
		return 0, 0
	}
	if r.lines == nil {
		r.lines = []int{0}
		for i, c := range r.b {
			if c == '\n' {
				r.lines = append(r.lines, i+1)
			}
		}
	}
	offset = min(offset, len(r.b))
	line = sort.SearchInts(r.lines, offset+1)
	return line, offset - r.lines[line-1] + 1
}

// The markup around a finding: so much before it, and behind its beginning.
const beforeIt, behindIt = 240, 160

// around returns the markup around an offset, in one line.
func (r *reader) around(offset int) string {
	if offset < 0 || offset > len(r.b) {
		return ""
	}
	text := r.b[max(0, offset-beforeIt):min(len(r.b), offset+behindIt)]
	return strings.Join(strings.Fields(strings.ToValidUTF8(string(text), "")), " ")
}

// maxInside is how many documents may stand in each other.
const maxInside = 8

// inner reads a document that stands decoded inside this one: all of it counts as
// standing at one place.
func (r *reader) inner(b []byte, by string, offset int, read func(*reader)) {
	if r.depth >= maxInside {
		return
	}
	in := &reader{b: b, base: r.base, page: &Page{Upgrades: r.page.Upgrades}, maps: r.maps, memo: r.memo, depth: r.depth + 1, frame: r.frame, asleep: r.asleep, part: r.part, strict: r.strict, bases: r.bases}
	read(in)
	line, col := r.position(offset)
	for _, f := range in.page.Findings {
		f.By, f.Line, f.Col = by+" → "+f.By, line, col
		r.page.Findings = append(r.page.Findings, f)
	}
	for _, l := range in.page.Loads {
		l.By = by + " → " + l.By
		r.page.Loads = append(r.page.Loads, l)
	}
	r.page.Links = append(r.page.Links, in.page.Links...)
	r.page.NoFollow = append(r.page.NoFollow, in.page.NoFollow...)
	r.page.Hints = append(r.page.Hints, in.page.Hints...)
	r.page.Scripts += in.page.Scripts
	r.page.Crowded = r.page.Crowded || in.page.Crowded
}

// data reads a data: URL (RFC 2397) that is a document or a style sheet.
func (r *reader) data(raw string, c use) {
	if c.kind == markup.Script {
		r.page.Scripts++ // whether it can be read or not
	}
	head, body, ok := strings.Cut(strings.TrimSpace(raw)[len("data:"):], ",")
	if !ok || len(body) > 1<<20 {
		return
	}
	text, err := url.PathUnescape(mend(body))
	if err != nil {
		return
	}
	head = strings.ToLower(head)
	if strings.HasSuffix(strings.TrimSpace(head), ";base64") {
		b, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return
		}
		text = string(b)
	}
	typ, _, _ := strings.Cut(head, ";")
	switch kind := KindOf(strings.TrimSpace(typ), c.kind); {
	case c.kind == markup.Script:
		r.inner([]byte(text), c.by, c.offset, func(in *reader) { in.script(in.b, "script", 0, true) })
	case kind == "css" && c.kind == markup.Style:
		r.inner([]byte(text), c.by, c.offset, func(in *reader) { in.css(in.b, 0) })
	case kind == "html" && (c.kind == markup.Frame || c.kind == markup.Object), kind == "svg" && (c.kind == markup.Frame || c.kind == markup.Object):
		r.inner([]byte(text), c.by, c.offset, func(in *reader) { in.xml, in.maps, in.frame = kind == "svg", &importMap{}, true; in.html(in.b, 0) })
	}
}
