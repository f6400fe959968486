package mixed

import (
	"bytes"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"trimlantern/core/markup"
	"trimlantern/core/reference"
	"trimlantern/core/rewrite"
)

// document is where a walk through markup stands.
type document struct {
	*reader
	b       []byte
	shift   int // the offset of b in the whole
	head    bool
	inTitle bool
	baseSet bool
	picture int       // <source>s seen in the open <picture>, from 1; 0: none is open
	within  int       // elements open in it: what stands there is none of its images
	foreign []foreign // open elements that change whether what comes is HTML
	media   bool
	tables  int // that are open
	shadows int // shadow trees that are open
	// templates are those that are open, and whether each is a shadow tree.
	templates []bool
	noscript  bool     // what comes is what browsers without scripts see
	dormant   []string // open elements whose content is not loaded: noscript, template
	// What the script or style that was opened is.
	plain  bool // it is none that runs
	module bool
	src    bool // it is in a file of its own

	candidates rewrite.Candidates // where something insecure may be
}

// headElements may stand in a head; any other ends it (HTML §13.2.6.4.4).
var headElements = map[string]bool{"html": true, "head": true, "base": true, "link": true, "meta": true, "title": true, "style": true, "script": true, "noscript": true, "template": true}

// html reads markup that stands at offset shift.
func (r *reader) html(b []byte, shift int) {
	d := &document{reader: r, b: b, shift: shift, head: true}
	walk := markup.WalkHTML
	if r.xml {
		walk = markup.WalkXML
	}
	if r.xml && !r.strict {
		r.strict = !wellFormed(b) // browsers show an error in its place
	}
	d.candidates = rewrite.NewCandidates(b)
	walk(b, markup.Markup{Tag: d.tag, Raw: d.raw, End: d.end, Other: d.other})
}

// special are the elements that count without attributes too.
var special = map[string]bool{"noscript": true, "noembed": true, "noframes": true, "template": true, "picture": true, "audio": true, "video": true, "script": true, "style": true, "table": true}

func (d *document) tag(element string, attrs []markup.Attr) {
	d.inTitle = element == "title"
	d.enter(element)
	if !headElements[element] {
		d.head = false
	}
	if len(attrs) == 0 && !special[element] {
		return
	}
	get := func(name string) string { return markup.AttrText(d.b, attrs, name) }
	has := func(name string) bool {
		return slices.ContainsFunc(attrs, func(a markup.Attr) bool { return a.Name == name })
	}
	switch element {
	case "base":
		if !d.baseSet && has("href") && len(d.dormant) == 0 && d.shadows == 0 {
			if u, ok := d.resolve(get("href")); ok && (u.Scheme == "http" || u.Scheme == "https") && d.mayBase(u) {
				defer func() { d.base, d.baseSet, d.origin = u, true, 0 }()
			}
		}
	case "meta":
		if d.head && len(d.dormant) == 0 && strings.EqualFold(strings.TrimSpace(get("http-equiv")), "content-security-policy") {
			d.policy(get("content"))
		}
	case "input":
		d.page.Password = d.page.Password || strings.EqualFold(get("type"), "password")
	case "noscript":
		d.noscript = true
	case "template":
		mode := strings.ToLower(get("shadowrootmode"))
		shadow := mode == "open" || mode == "closed"
		if !shadow {
			d.dormant = append(d.dormant, element)
		}
		if d.templates = append(d.templates, shadow); shadow {
			d.shadows++
		}
	case "picture":
		d.picture, d.within = 1, 0
	case "audio", "video":
		d.media = true
	case "table":
		d.tables++
	case "script":
		d.plain, d.module = markup.ScriptType(get("type"), get("language"), has("type"))
		if d.src = has("src") || has("href") || has("xlink:href"); d.src && !d.plain && len(d.dormant) == 0 {
			d.page.Scripts++
		}
	case "form":
		if method := strings.ToLower(strings.TrimSpace(get("method"))); method != "post" && method != "dialog" && has("action") {
			d.lead(get("action"))
		}
	case "button":
		if method := strings.ToLower(strings.TrimSpace(get("formmethod"))); method != "post" && method != "dialog" && has("formaction") {
			d.hint(get("formaction"))
		}
	case "style":
		d.plain = !isCSS(get("type"))
	}
	for i, a := range attrs {
		if a.Context.Use == markup.Text {
			if a.End > a.Start {
				d.unknown(element, a)
			}
			continue
		}
		// Of two attributes the first counts (HTML §13.2.5.33).
		twice := slices.ContainsFunc(attrs[:i], func(b markup.Attr) bool { return b.Name == a.Name })
		if a.End > a.Start && !twice {
			d.attr(element, a, get, has)
		}
	}
	if element == "source" && d.picture > 0 {
		d.picture++
	}
}

func (d *document) end(element string) {
	if d.within > 0 && !void[element] {
		d.within--
	}
	if n := len(d.foreign); n > 0 && slices.ContainsFunc(d.foreign, func(f foreign) bool { return f.element == element }) {
		for n = len(d.foreign); d.foreign[n-1].element != element; n-- {
			d.foreign = d.foreign[:n-1]
		}
		d.foreign = d.foreign[:n-1]
	}
	switch element {
	case "head":
		d.head = false
	case "noscript":
		d.noscript = false
	case "picture":
		d.picture, d.within = 0, 0
	case "audio", "video":
		d.media = false
	case "table":
		d.tables = max(0, d.tables-1)
	}
	if n := len(d.templates) - 1; n >= 0 && element == "template" {
		shadow := d.templates[n]
		if d.templates = d.templates[:n]; shadow {
			d.shadows--
			return
		}
	}
	if i := len(d.dormant) - 1; i >= 0 && d.dormant[i] == element {
		d.dormant = d.dormant[:i]
	}
	d.inTitle = false
}

func (d *document) raw(element, typ string, start, end int) {
	if len(d.dormant) > 0 || element == "script" && d.isForeign() == "math" {
		defer func(was bool) { d.asleep = was }(d.asleep)
		d.asleep = true
	}
	text := d.b[start:end]
	at := d.shift + start
	if d.xml {
		plain, p := markup.XMLText(text)
		if p < 0 { // decoded text has offsets of its own
			d.inner(plain, element, at, func(in *reader) { d.embedded(in, plain, element, typ, 0) })
			return
		}
		text, at = plain, at+p
	}
	d.embedded(d.reader, text, element, typ, at)
}

// embedded reads the text of a script or a style with r.
func (d *document) embedded(r *reader, text []byte, element, typ string, at int) {
	n := len(r.page.Findings)
	switch {
	case element == "style":
		if !d.plain {
			r.css(text, at)
		}
	case strings.Contains(typ, "ld+json"):
		r.rest(text, "script (JSON-LD)", markup.Names, at, n, nil)
		r.hints(text)
	case strings.TrimSpace(typ) == "speculationrules":
		r.rest(text, "script (speculation rules)", markup.Maybe, at, n, nil)
		r.listed(text, true)
	case strings.TrimSpace(typ) == "importmap":
		r.maps.add(text, r.absolute)
		r.rest(text, "script (import map)", markup.Maybe, at, n, nil)
	case d.plain:
		r.rest(text, "script", markup.Maybe, at, n, nil)
		r.hints(text)
	default:
		if !d.src && len(d.dormant) == 0 && !d.asleep {
			r.page.Scripts++
			r.steers(text)
		}
		r.script(text, "script", at, d.module)
	}
}

func (d *document) other(tok html.TokenType, start, end int) {
	text := d.b[start:end]
	switch {
	case tok == html.TextToken && d.inTitle:
		if d.page.Title == "" {
			title := []rune(strings.Join(strings.Fields(html.UnescapeString(string(text[:min(len(text), 4000)]))), " "))
			d.page.Title = string(title[:min(len(title), 300)])
			for _, c := range []byte(d.page.Title) {
				d.page.Print = (d.page.Print ^ uint64(c)) * prime
			}
			d.page.Words += len(strings.Fields(d.page.Title))
		}
	case tok == html.TextToken && d.noscript:
		in := &document{reader: d.reader, b: text, shift: d.shift + start, dormant: []string{"noscript"}, candidates: rewrite.NewCandidates(text)}
		markup.WalkHTML(text, markup.Markup{Tag: in.tag, End: in.end})
		d.noscript = false
	case tok == html.TextToken && len(d.dormant) == 0 && len(bytes.TrimSpace(text)) > 0:
		d.head = false
		d.words(text)
	case tok == html.CommentToken && d.xml && bytes.HasPrefix(text, []byte("<?xml-stylesheet")):
		// Its pseudo-attributes are written like those of a tag.
		inside := append([]byte("<link"), bytes.TrimSuffix(text[len("<?xml-stylesheet"):], []byte("?>"))...)
		inside = append(inside, '>')
		markup.WalkHTML(inside, markup.Markup{Tag: func(_ string, attrs []markup.Attr) {
			u := use{by: "xml-stylesheet", use: markup.Loads, kind: markup.Style, offset: d.shift + start}
			switch typ := markup.AttrText(inside, attrs, "type"); {
			case typ == "text/xsl", typ == "text/xml", typ == "application/xml", strings.HasSuffix(typ, "+xml"):
				u.kind, u.certainty = markup.Script, Likely // XSLT, which some browsers treat like one, and others load no more
			case !isCSS(typ):
				return
			}
			d.add(markup.AttrText(inside, attrs, "href"), u)
		}})
	}
	d.inTitle = false
}

// mayBase reports whether the page's policy lets a <base> count.
func (d *document) mayBase(u *url.URL) bool {
	return d.bases == anyBase || d.bases == ownBase && u.Scheme == d.base.Scheme && u.Host == d.base.Host
}

// prime spreads the bytes of words (FNV-1a).
const prime = 0x100000001b3

// words counts the words of a text that are the same on each visit: without digits and slashes.
func (d *document) words(text []byte) {
	h, in, changing := uint64(0), false, false
	end := func() {
		if in && !changing {
			d.page.Words++
			d.page.Print = d.page.Print*prime + h
		}
		h, in, changing = 0, false, false
	}
	for _, c := range text {
		switch {
		case c <= ' ':
			if in {
				end()
			}
		case c <= '9' && c >= '/':
			in, changing = true, true
		default:
			h, in = (h^uint64(c))*prime, true
		}
	}
	end()
}

// foreign is an open element that makes what comes into SVG or MathML, or back into HTML.
type foreign struct{ element, kind string } // "svg", "math" or "html"

// breakouts are elements of HTML that end SVG and MathML (HTML §13.2.6.5).
var breakouts = map[string]bool{}

// void are the elements that have no end.
var void = map[string]bool{}

// presentation are attributes of SVG that hold CSS.
var presentation = map[string]bool{"fill": true, "stroke": true, "filter": true, "mask": true, "clip-path": true, "marker-start": true, "marker-mid": true, "marker-end": true}

// ownOfSVG are the elements of SVG that lead or load with href.
var ownOfSVG = map[string]bool{"a": true, "image": true, "use": true, "feimage": true, "script": true}

func init() {
	for name := range strings.FieldsSeq("b big blockquote body br center code dd div dl dt em embed h1 h2 h3 h4 h5 h6 head hr i img li listing menu meta nobr ol p pre ruby s small span strong strike sub sup table tt u ul var") {
		breakouts[name] = true
	}
	for name := range strings.FieldsSeq("area base br col embed hr img input link meta param source track wbr") {
		void[name] = true
	}
}

// maxForeign bounds how many elements of SVG and MathML are open in each other: browsers themselves nest no deeper than 512
// elements.
const maxForeign = 512

// enter notes what an element that opens makes of what comes.
func (d *document) enter(element string) {
	if d.xml {
		return // there names have namespaces of their own
	}
	if d.picture > 0 && !void[element] && element != "picture" {
		d.within++
	}
	in := d.isForeign()
	switch {
	case len(d.foreign) >= maxForeign:
	case element == "svg" || element == "math":
		d.foreign = append(d.foreign, foreign{element, element})
	case in == "svg" && (element == "foreignobject" || element == "desc" || element == "title"):
		d.foreign = append(d.foreign, foreign{element, "html"})
	case in == "math" && (element == "mi" || element == "mo" || element == "mn" || element == "ms" || element == "mtext" || element == "annotation-xml"):
		d.foreign = append(d.foreign, foreign{element, "html"})
	case in != "" && breakouts[element]:
		for n := len(d.foreign); n > 0 && d.foreign[n-1].kind != "html"; n-- {
			d.foreign = d.foreign[:n-1]
		}
	}
}

// isForeign tells what is not HTML: "svg", "math" or "".
func (d *document) isForeign() string {
	if n := len(d.foreign); n > 0 && d.foreign[n-1].kind != "html" {
		return d.foreign[n-1].kind
	}
	return ""
}

func isCSS(typ string) bool {
	typ = strings.ToLower(strings.TrimSpace(typ))
	return typ == "" || typ == "text/css"
}

// attr looks at one attribute.
func (d *document) attr(element string, a markup.Attr, get func(string) string, has func(string) bool) {
	c := a.Context
	if c.Use == markup.Ident {
		return
	}
	if c.Use == markup.Opens && c.Shape == markup.One && d.told(d.b[a.Start:a.End]) {
		return
	}
	raw := string(d.b[a.Start:a.End])
	text := raw
	if strings.IndexByte(raw, '&') >= 0 {
		text = string(markup.AttrValue(d.b[a.Start:a.End]))
	}
	u := use{by: nameOf(element, a.Name), use: c.Use, kind: c.Kind, offset: d.shift + a.Start}
	if code, ok := run(text); ok && c.Shape == markup.One && len(d.dormant) == 0 {
		d.handler(code, u.by, u.offset)
		return
	}
	if c.Shape != markup.Sheet && d.candidates.In(a.Start, a.End) {
		defer func(n int) {
			what := markup.Names
			if c.Use == markup.Maybe || c.Use == markup.Loads && len(text) > 5 && strings.EqualFold(text[:5], "data:") {
				what = markup.Maybe
			}
			d.rest([]byte(raw), u.by, what, d.shift+a.Start, n, nil)
		}(len(d.page.Findings))
	}
	d.settle(element, a.Name, &u, get, has)
	if u.use == markup.Text {
		return
	}
	if n := len(d.dormant); n > 0 {
		if u.use == markup.Loads {
			u.use = markup.Maybe
		}
		u.by = d.dormant[n-1] + " → " + u.by
	}
	switch c.Shape {
	case markup.One:
		if u.use == markup.Names && !strings.Contains(text, ":") {
			return // a meta's words, or a relative address
		}
		if element == "meta" && !strings.HasPrefix(strings.ToLower(strings.TrimSpace(text)), "http") {
			return
		}
		d.add(text, u)
	case markup.Set:
		set := SrcSet(text)
		if len(set) > 1 && u.certainty == "" {
			u.certainty = Likely
			typ := strings.ToLower(strings.TrimSpace(get("type")))
			u.picture = strings.HasPrefix(typ, "image/") && typ != "image/svg+xml"
		}
		for _, candidate := range set {
			d.add(candidate, u)
		}
	case markup.Spaced:
		for _, word := range strings.Fields(text) {
			d.add(word, u)
		}
	case markup.Refresh:
		if seconds, to, ok := refresh(text); ok {
			if len(d.dormant) == 0 {
				d.again(seconds, to)
			}
			if d.frame {
				if u.use, u.kind = markup.Loads, markup.Frame; seconds > 5 {
					u.certainty = Likely // who stays so long
				}
			}
			d.add(to, u)
		}
	case markup.Sheet:
		if text == raw && len(d.dormant) == 0 {
			d.css(d.b[a.Start:a.End], u.offset)
		} else if len(d.dormant) == 0 { // decoded text has offsets of its own
			d.inner([]byte(text), u.by, u.offset, func(in *reader) { in.css(in.b, 0) })
		}
	case markup.Fragment:
		d.inner([]byte(text), u.by, u.offset, func(in *reader) {
			in.maps, in.frame = &importMap{}, true
			in.strict = in.strict || has("sandbox") // it has an origin of its own, of which browsers ask less
			in.html(in.b, 0)
		})
	}
}

// names are the usual "element attribute", so that they are made once.
var names = map[[2]string]string{}

func init() {
	for _, n := range []string{"a href", "img src", "img srcset", "link href", "script src", "meta content", "form action", "iframe src", "source src", "source srcset"} {
		element, attr, _ := strings.Cut(n, " ")
		names[[2]string{element, attr}] = n
	}
}

func nameOf(element, attr string) string {
	if n, ok := names[[2]string{element, attr}]; ok {
		return n
	}
	return element + " " + attr
}

// settle sets right what an attribute's element and its other attributes say.
func (d *document) settle(element, name string, u *use, get func(string) string, has func(string) bool) {
	load := u.use == markup.Loads
	if in := d.isForeign(); in != "" && name != "style" && !(in == "svg" && ownOfSVG[element] && strings.HasSuffix(name, "href")) && !presentation[name] {
		if element != "link" && !(element == "source" && name == "srcset") {
			u.use = markup.Text // a name of HTML, which means nothing there
			return
		}
		// Nor do these; but browsers ask for them before they have parsed so far.
		defer func() {
			if u.use == markup.Loads {
				u.certainty = Likely
			}
		}()
	}
	switch element {
	case "thead", "tbody", "tfoot", "tr", "td", "th":
		if load && d.tables == 0 && !d.xml {
			u.certainty = Likely // outside of a table there is none
		}
	case "img", "image":
		if element == "image" && strings.HasSuffix(name, "href") && d.isForeign() != "svg" && !d.xml {
			u.use = markup.Maybe // of SVG, and this is none
		}
		if d.xml && load && name == "src" && d.picture > 0 {
			u.kind = markup.ImageSet
		}
		if !load || name != "src" || d.xml {
			return
		}
		if d.picture > 0 && d.within == 0 { // its image is one of a set
			if u.kind = markup.ImageSet; d.picture > 1 {
				u.certainty = Likely
			}
		}
		if set := get("srcset"); strings.TrimSpace(set) != "" {
			if u.kind, u.certainty = markup.ImageSet, Likely; settled(set) {
				u.use = markup.Maybe // for browsers that do not know srcset
			}
		}
	case "source":
		switch {
		case name == "srcset" && d.picture > 0 && d.within == 0:
			u.certainty = Likely
		case name == "src" && d.media:
			u.certainty = Likely
		default:
			u.use = markup.Text // it stands where it means nothing
		}
	case "audio", "video":
		if name == "src" && strings.EqualFold(strings.TrimSpace(get("preload")), "none") {
			u.certainty = Likely // when a visitor starts it
		}
	case "track", "object", "embed": // of a film that is shown; and what is not shown is not loaded
		u.certainty = Likely
	case "iframe":
		if name == "src" && has("srcdoc") {
			u.use = markup.Maybe
		}
	case "script":
		if load && has("nomodule") {
			u.use = markup.Maybe
		}
		if load && (d.plain || name != "src" && d.isForeign() != "svg" && !d.xml) {
			u.use = markup.Maybe
		}
	case "a", "area":
		u.download = name == "href" && has("download")
		u.nofollow = slices.Contains(strings.Fields(strings.ToLower(get("rel"))), "nofollow")
	case "link":
		rel := strings.Join(strings.Fields(strings.ToLower(get("rel"))), " ")
		if u.by = "link " + rel; rel == "" {
			u.by = "link href"
		}
		if typ := strings.ToLower(get("type")); name == "href" && strings.Contains(rel, "alternate") && (strings.Contains(typ, "rss") || strings.Contains(typ, "atom") || strings.Contains(typ, "feed+json")) {
			if to, ok := d.resolve(get("href")); ok {
				d.page.Feeds = append(d.page.Feeds, to.String())
			}
		}
		if name == "href" && len(d.dormant) == 0 {
			if typ := strings.ToLower(get("type")); typ == "" || strings.Contains(typ, "html") {
				d.leads(rel, get("href"), get("hreflang"))
			} else if u := d.remembered(get("href")); u != nil && u.web {
				d.hint(u.text)
			}
		}
		if rel == "canonical" && name == "href" && d.page.Canonical == "" {
			if to, ok := d.resolve(get("href")); ok {
				d.page.Canonical = to.String()
			}
		}
		d.link(u, rel, get, has)
	}
}

// link sets right what a <link> that loads is.
func (d *document) link(u *use, rel string, get func(string) string, has func(string) bool) {
	if u.use != markup.Loads {
		return
	}
	as := strings.ToLower(strings.TrimSpace(get("as")))
	switch {
	case u.kind == markup.Style && as == "" && (has("disabled") || !isCSS(strings.SplitN(get("type"), ";", 2)[0])):
		u.use = markup.Names
	case u.kind == markup.Icon:
		u.certainty = Likely // where the browser shows one
	case u.kind == markup.Touch, strings.Contains(rel, "prerender"):
		u.use = markup.Maybe
	case u.kind == markup.Prefetch && strings.Contains(rel, "preload"), strings.Contains(rel, "preload") && (u.kind == markup.Audio || u.kind == markup.Video):
		u.use = markup.Names // browsers load nothing for it
	}
}

// settled reports whether a srcset leaves no room for src: it has widths, or a
// candidate for ordinary screens.
func settled(set string) bool {
	for part := range strings.SplitSeq(set, ",") {
		words := strings.Fields(part)
		if len(words) == 1 || len(words) > 1 && (words[1] == "1x" || strings.HasSuffix(words[1], "w")) {
			return true
		}
	}
	return false
}

// refresh reads where a refresh leads, and when (HTML §4.2.5.3): "5; url=…", "5,'…'", "5 …". Without an address it is ""
// and leads to the page itself.
func refresh(text string) (seconds int, to string, ok bool) {
	text = strings.TrimLeft(text, " \t\n\f\r")
	i := 0
	for i < len(text) && text[i] >= '0' && text[i] <= '9' {
		seconds = min(seconds*10+int(text[i]-'0'), 1<<30)
		i++
	}
	if i == 0 && (text == "" || text[0] != '.') {
		return 0, "", false
	}
	for i < len(text) && (text[i] == '.' || text[i] >= '0' && text[i] <= '9') {
		i++
	}
	rest := text[i:]
	to = strings.TrimLeft(rest, " \t\n\f\r")
	if rest != "" && to == rest && to[0] != ';' && to[0] != ',' {
		return 0, "", false
	}
	if to != "" && (to[0] == ';' || to[0] == ',') {
		to = strings.TrimLeft(to[1:], " \t\n\f\r")
	}
	if len(to) > 3 && strings.EqualFold(to[:3], "url") {
		if tail := strings.TrimLeft(to[3:], " \t\n\f\r"); strings.HasPrefix(tail, "=") {
			to = strings.TrimLeft(tail[1:], " \t\n\f\r")
		}
	}
	if to != "" && (to[0] == '"' || to[0] == '\'') {
		quote := to[0]
		to = to[1:]
		if end := strings.IndexByte(to, quote); end >= 0 {
			to = to[:end]
		}
	}
	return seconds, strings.TrimRight(to, " \t\n\f\r"), true
}

// soon is within how many seconds a page loads itself again that waits for something.
const soon = 30

// again notes a page that loads itself again.
func (r *reader) again(seconds int, to string) {
	if seconds > soon || r.depth > 0 {
		return
	}
	if to == "" {
		r.page.Reloads = true
	} else if u, ok := r.resolve(to); ok {
		u.Fragment = ""
		r.page.Reloads = r.page.Reloads || u.String() == r.base.String()
		r.onward(u, "refresh", true)
	}
}

// lead notes an address that a visitor can reach, by a form without fields or a browser's own button.
func (r *reader) lead(raw string) {
	if u := r.remembered(raw); u != nil && u.web && strings.TrimSpace(raw) != "" {
		r.page.Links = append(r.page.Links, u.text)
	}
}

// roads are the relations by which a page names another that visitors come to; ends are those that name none.
var (
	roads = words("next prev previous first last start contents index up alternate amphtml canonical shortlink prerender prefetch help search author license bookmark glossary copyright chapter section subsection appendix home")
	ends  = words("preconnect dns-prefetch stylesheet icon apple-touch-icon mask-icon manifest modulepreload preload pingback profile")
)

func words(list string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(list) {
		m[w] = true
	}
	return m
}

// leads notes where a <link> or a Link header leads by its relation.
func (r *reader) leads(rel, to, tongue string) {
	if tongue = strings.TrimSpace(tongue); tongue != "" && tongue != "x-default" && len(r.page.Tongues) < 20 {
		r.page.Tongues = append(r.page.Tongues, tongue)
	}
	hint := true
	for word := range strings.FieldsSeq(rel) {
		if roads[word] {
			r.lead(to)
			return
		}
		hint = hint && !ends[word]
	}
	if u, ok := r.resolve(to); ok && hint {
		r.hint(u.String())
	}
}

// said are attributes whose words a visitor reads, or a program matches: what they hold is only named.
var said = words("alt title placeholder aria-label aria-description aria-roledescription aria-valuetext label summary abbr value content pattern accept srcdoc class id name for headers")

// unknown looks at an attribute that no table speaks of.
func (d *document) unknown(element string, a markup.Attr) {
	if element == "" {
		return // of XML that browsers know nothing of
	}
	raw := d.b[a.Start:a.End]
	if len(a.Name) > 2 && a.Name[0] == 'o' && a.Name[1] == 'n' {
		if len(d.dormant) == 0 {
			code := markup.AttrValue(raw)
			if element == "body" && a.Name == "onload" {
				d.steers(code)
			}
			d.handler(code, nameOf(element, a.Name), d.shift+a.Start)
		}
		return
	}
	if d.candidates.In(a.Start, a.End) {
		what := markup.Maybe
		if said[a.Name] && element != "param" && element != "option" && element != "input" && element != "button" {
			what = markup.Names
		}
		d.rest(raw, nameOf(element, a.Name), what, d.shift+a.Start, len(d.page.Findings), nil)
	}
	switch c := raw[0]; {
	case c == '{' || c == '[':
		d.hints(markup.AttrValue(raw))
	case (c == '/' || c == 'h' || bytes.IndexByte(raw, '.') > 0) && len(raw) < 500 && a.Name != "class" && a.Name != "d":
		d.hint(string(markup.AttrValue(raw)))
	}
}

// SrcSet returns the URLs of a srcset attribute (HTML §4.8.4.2.2).
func SrcSet(s string) []string {
	var urls []string
	for {
		s = strings.TrimLeft(s, ", \t\n\f\r")
		if s == "" {
			return urls
		}
		i := strings.IndexAny(s, " \t\n\f\r")
		if i < 0 {
			i = len(s)
		}
		candidate := s[:i]
		s = s[i:]
		if trimmed := strings.TrimRight(candidate, ","); trimmed != candidate {
			urls = append(urls, trimmed)
			continue
		}
		urls = append(urls, candidate)
		if i := strings.IndexByte(s, ','); i >= 0 {
			s = s[i+1:]
		} else {
			s = ""
		}
	}
}

// absolute returns a URL as browsers make it absolute.
func (r *reader) absolute(raw string) (string, bool) {
	u, ok := r.resolve(raw)
	if !ok {
		return "", false
	}
	return u.String(), true
}

// manifest reads an application's manifest: its icons are loaded, the rest is named.
func (r *reader) manifest(b []byte) {
	reference.Find(b, func(ref reference.Reference) bool {
		head := bytes.TrimRight(b[max(0, ref.Start-40):ref.Start], "\" \t\r\n:")
		u := use{by: "manifest", use: markup.Names, offset: ref.Start}
		if bytes.HasSuffix(head, []byte(`"src`)) {
			u.by, u.use = "manifest src", markup.Maybe
		}
		r.add(ref.Text(b), u)
		return true
	})
}
