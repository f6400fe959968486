package markup

import (
	"bytes"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"trimlantern/core/text"
)

// span is a stretch of a text in which every reference has the same use.
type span struct {
	start, end int
	use        Use
}

// Uses tells, for the references of one text, what a page does with each.
type Uses struct {
	b     []byte
	spans []span // sorted, not overlapping
	lone  bool   // the whole text is the URL of an asset
	based bool   // a <base> says what URLs without a host belong to
	feed  bool   // the text is XML of its own, like a feed or a site map: whoever reads it may be elsewhere
	tags  bool   // there are tags
	raw   []span // the texts of scripts and style sheets, sorted
}

// UsesOf reads the contexts of a text: HTML, CSS, short codes, or a lone URL,
// which counts as loaded where it ends like an asset or where the field that holds
// it is named like one. name is that field's name, or a file's, or "".
func UsesOf(b []byte, name string) Uses {
	u := Uses{b: b, feed: isFeed(b, name)}
	switch kind := endingKind(name); {
	case kind == Style:
		u.sheet(0, len(b))
	case kind == Script:
		u.script(0, len(b), true)
	case bytes.IndexByte(b, '<') >= 0:
		u.read(b, 0)
	default:
		if t := bytes.TrimSpace(b); len(t) < loneMax && !bytes.ContainsAny(t, " \t\r\n\"'()") {
			u.lone = AssetKind(string(t)) != "" || bracketAttrs[strings.ToLower(name)]
		}
	}
	return u
}

func (u *Uses) add(start, end int, use Use) {
	if start < end {
		u.spans = append(u.spans, span{start, end, use})
	}
}

// read reads the contexts of markup that stands at offset shift of the text.
func (u *Uses) read(b []byte, shift int) {
	raw := "" // the element whose text comes next, as it stands
	WalkHTML(b, Markup{
		Tag: func(element string, attrs []Attr) {
			raw, u.tags = element, true
			for _, a := range attrs {
				c := a.Context
				if c.Element == "base" {
					c.Use = Loads // what is written without a host is loaded from there
					u.based = true
				}
				if c.Use == Loads {
					c.Use = dataUse(b[a.Start:a.End])
				}
				if c.Use != Text {
					u.add(shift+a.Start, shift+a.End, c.Use)
				}
			}
		},
		Raw: func(element, typ string, start, end int) {
			start, end = shift+start, shift+end
			u.raw = append(u.raw, span{start: start, end: end})
			plain, module := ScriptType(typ, "", typ != "")
			switch {
			case element == "style" && (typ == "" || typ == "text/css"):
				u.sheet(start, end)
			case element == "style":
				// Of another language; url(…) is told by what stands before it.
			case strings.Contains(typ, "ld+json"):
				u.add(start, end, Names)
			case plain:
				u.add(start, end, Maybe)
			default:
				u.script(start, end, module)
			}
		},
		Other: func(tok html.TokenType, start, end int) {
			switch {
			case tok == html.DoctypeToken:
				u.add(shift+start, shift+end, Ident)
			case raw == "noscript" && tok == html.TextToken && shift == 0 && bytes.IndexByte(b[start:end], '<') >= 0:
				u.read(b[start:end], start) // markup to browsers without scripts
			}
			raw = ""
		},
	})
}

// sheet reads the contexts of a style sheet at b[start:end].
func (u *Uses) sheet(start, end int) {
	from := start
	WalkCSS(u.b[start:end], func(s StyleURL) {
		u.add(from, start+s.Start, Text)
		u.add(max(from, start+s.Start), start+s.End, dataUse(u.b[start+s.Start:start+s.End]))
		from = max(from, start+s.End)
	})
	u.add(from, end, Text)
}

// dataUse returns the use of what stands inside a URL that a page loads: Loads, but where that is a data: URL
// (RFC 2397). What is written inside a picture or a font is its content, of which a browser loads nothing;
// a document may load.
func dataUse(b []byte) Use {
	b = bytes.TrimLeft(b, " \t\r\n\f'\"")
	if len(b) < 5 || !strings.EqualFold(string(b[:5]), "data:") {
		return Loads
	}
	typ := strings.ToLower(string(b[5:min(len(b), 64)]))
	if strings.HasPrefix(typ, "text/html") || strings.HasPrefix(typ, "application/xhtml") || strings.HasPrefix(typ, "text/css") {
		return Maybe
	}
	return Text
}

// script reads the contexts of a script at b[start:end].
func (u *Uses) script(start, end int, module bool) {
	from := start
	to := func(p, q int, use Use) {
		u.add(from, start+p, Maybe)
		u.add(start+p, start+q, use)
		from = start + q
	}
	legacy := isLegacy(u.b[start:end]) // the end of a comment is uncertain
	WalkScript(u.b[start:end], module, func(part ScriptPart, p, q int) {
		switch {
		case part == ScriptSpecifier:
			to(p, q, Loads)
		case part == ScriptComment && !legacy:
			to(p, q, Text)
		}
	})
	u.add(from, end, Maybe)
}

// loneMax is how long a lone URL is at the most.
const loneMax = 2048

// At returns the use of a reference that begins at start.
func (u Uses) At(start int) Use {
	i, _ := slices.BinarySearchFunc(u.spans, start, func(s span, p int) int {
		if s.end <= p {
			return -1
		}
		return 1
	})
	if i < len(u.spans) && u.spans[i].start <= start {
		if use := u.spans[i].use; use != Text || before(u.b, start) != Ident {
			return use
		}
		return Ident
	}
	if u.lone {
		return Loads
	}
	return around(u.b, start)
}

// around returns the use of what begins at start from what is around it, outside of markup that is read as it is.
func around(b []byte, start int) Use {
	for _, use := range []func(b []byte, start int) Use{tagUse, before, fieldUse} {
		if u := use(b, start); u != Text {
			return u
		}
	}
	return Text
}

// Reads reports whether markup or a style sheet reads what begins at start as a URL that may be written without scheme
// and host: a browser adds those of the page. It does not where another program may read it: in a feed, in a script, in
// a field that holds a URL alone, as a canonical address; nor where the page names a base.
func (u Uses) Reads(start int) bool {
	if u.feed || u.based || u.lone {
		return false
	}
	switch use := u.At(start); use {
	case Loads, Opens, Sends:
		i, in := slices.BinarySearchFunc(u.spans, start, func(s span, p int) int {
			if s.end <= p {
				return -1
			}
			if s.start > p {
				return 1
			}
			return 0
		})
		return in && u.spans[i].use == use || use == Loads && inStyle(u.b, start)
	}
	return false
}

// Entities reports whether what begins at start is read with its character references resolved: in markup, outside of
// scripts and style sheets.
func (u Uses) Entities(start int) bool {
	return u.tags && !slices.ContainsFunc(u.raw, func(s span) bool { return s.start <= start && start < s.end })
}

// inStyle reports whether url( stands directly before start, as in a style sheet that is a text by itself.
func inStyle(b []byte, start int) bool {
	head := bytes.TrimRight(b[max(0, start-beforeMax):start], " \t\r\n\"'")
	return bytes.HasSuffix(bytes.ToLower(head), []byte("url("))
}

// isFeed reports whether a text, or the file of that name, is XML of its own.
func isFeed(b []byte, name string) bool {
	switch _, ending, _ := strings.Cut(name[max(0, strings.LastIndexByte(name, '.')):], "."); strings.ToLower(ending) {
	case "xml", "rss", "atom", "xsl", "xslt":
		return true
	}
	head := bytes.ToLower(bytes.TrimLeft(b[:min(len(b), 512)], "\xef\xbb\xbf \t\r\n"))
	for _, root := range []string{"<?xml", "<rss", "<feed", "<urlset", "<sitemapindex", "<rdf:rdf"} {
		if bytes.HasPrefix(head, []byte(root)) {
			return true
		}
	}
	return false
}

// identAttrs are the attributes, of any element, that hold names.
var identAttrs = func() map[string]bool {
	m := map[string]bool{}
	for _, c := range contexts {
		if c.Use == Ident && c.Element == "*" {
			m[c.Attr] = true
		}
	}
	return m
}()

// beforeMax is how far back before looks.
const beforeMax = 64

// before tells the use from what stands directly before a reference outside of
// markup: url( and @import of CSS, src= of a short code, a DTD's or a
// namespace's declaration. Escapes of quotes are stepped over.
func before(b []byte, start int) Use {
	head := []byte(text.Head(b, start, beforeMax))
	head = bytes.TrimRight(head, " \t\r\n\"'\\")
	for _, quote := range []string{"u0022", "u0027"} { // somebody stripped the backslash
		head = bytes.TrimSuffix(head, []byte(quote))
	}
	head = bytes.TrimRight(head, " \t\r\n\\")
	lower := bytes.ToLower(head)
	switch {
	case bytes.HasSuffix(lower, []byte("url(")):
		if i := bytes.LastIndexByte(lower, ';'); bytes.Contains(lower[i+1:], []byte("@namespace")) {
			return Ident
		}
		return Loads
	case bytes.HasSuffix(lower, []byte("@import")), bytes.HasSuffix(lower, []byte("image-set(")):
		return Loads
	case bytes.HasSuffix(lower, []byte("=")):
		name := lower[:len(lower)-1]
		i := len(name)
		for i > 0 && (isAlnum(name[i-1]) || name[i-1] == '_' || name[i-1] == '-' || name[i-1] == ':') {
			i--
		}
		attr := string(name[i:])
		switch {
		case attr == "xmlns" || strings.HasPrefix(attr, "xmlns:") || identAttrs[attr]:
			return Ident
		case bracketAttrs[attr]:
			return Loads
		case attr == "href":
			return Opens
		case attr == "action":
			return Sends
		}
	}
	return Text
}

// IsIdent reports whether what begins at start is a name that only looks like a URL, as
// what stands directly before it tells: of a namespace, of a vocabulary, or of a document type.
func IsIdent(b []byte, start int) bool {
	if start == 0 {
		return false
	}
	if b[start-1] == ' ' || b[start-1] == '+' {
		return listed(b, start)
	}
	if strings.IndexByte("\"';=2479\\dD", b[start-1]) < 0 { // no quote or sign in any spelling
		return false
	}
	if head := b[:start-1]; bytes.HasSuffix(head, []byte("src=")) || bytes.HasSuffix(head, []byte("href=")) {
		return false // by far the most
	}
	if before(b, start) == Ident {
		return true
	}
	if start > 1 && isSpace(b[start-2]) {
		head := b[max(0, start-doctypeMax):start]
		if i := bytes.LastIndexByte(head, '<'); i >= 0 && i+9 < len(head) && head[i+1] == '!' {
			word := strings.ToLower(string(head[i+2 : i+9]))
			return word == "doctype" || strings.HasPrefix(word, "entity")
		}
	}
	return false
}

// listedMax is how far before an address the attribute may begin that lists it.
const listedMax = 300

// listed reports whether what begins at start, after a blank, is in an attribute that lists names:
// prefix="gr: http://…# og: http://…#".
func listed(b []byte, start int) bool {
	head := plainHead(b, start, listedMax)
	open := strings.LastIndexAny(head, "\"'<>")
	if open < 1 || head[open] == '<' || head[open] == '>' || head[open-1] != '=' {
		return false
	}
	end := open - 1
	from := end
	for from > 0 && (isAlnum(head[from-1]) || head[from-1] == '-' || head[from-1] == ':') {
		from--
	}
	return identAttrs[strings.ToLower(head[from:end])]
}

// doctypeMax is how far before a name of it a document type begins.
const doctypeMax = 400

// AssetKind tells from the ending of a URL's path what kind of asset it names;
// "" where it does not look like one.
func AssetKind(u string) Kind {
	u, _, _ = strings.Cut(u, "#")
	u, _, _ = strings.Cut(u, "?")
	slash := strings.LastIndexByte(u, '/')
	if strings.Count(u, "/") < 3 {
		return ""
	}
	return endingKind(u[slash+1:])
}

// endingKind tells by the ending of a file's name what it is.
func endingKind(name string) Kind {
	_, ending, _ := strings.Cut(name[max(0, strings.LastIndexByte(name, '.')):], ".")
	return assetEndings[strings.ToLower(ending)]
}

// IsStandard reports whether an address is the name of a standard: a namespace,
// a DTD, a schema or a profile.
func IsStandard(host, path string) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	for _, s := range standards {
		if host == s.host && strings.HasPrefix(path, s.path) {
			return true
		}
	}
	return false
}
