// Package mixed finds what a page would load, send or name over an insecure
// scheme, and classifies it as W3C Mixed Content (Level 2) and today's browsers
// do. It reads HTML and CSS; what only a script loads it cannot see.
package mixed

import (
	"bytes"
	"net/netip"
	"net/url"
	"sort"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
	"golang.org/x/net/html"

	"trimlantern/core/reference"
)

// Class is what becomes of an insecure reference in a browser.
type Class string

// The classes, the gravest first.
const (
	Blocked  Class = "blocked"  // the browser refuses to load it
	Upgraded Class = "upgraded" // the browser asks over HTTPS instead; broken where there is none
	Form     Class = "form"     // a form sends to it
	Possible Class = "possible" // a script may load it
	Address  Class = "address"  // named, not loaded: costs a redirect
)

// Classes lists all classes, the gravest first.
var Classes = []Class{Blocked, Upgraded, Form, Possible, Address}

// Words returns the class as a person reads it.
func (c Class) Words() string {
	return map[Class]string{
		Blocked:  "blocked by browsers",
		Upgraded: "upgraded by browsers",
		Form:     "form sends insecurely",
		Possible: "possible, by script",
		Address:  "address only",
	}[c]
}

// Finding is one insecure reference of a page or style sheet.
type Finding struct {
	URL   string `json:"url"`
	By    string `json:"by"` // what holds it: "img src", "@import"
	Class Class  `json:"class"`
	Line  int    `json:"line"`   // from 1
	Col   int    `json:"column"` // from 1, in bytes
}

// Page is what was read out of one document.
type Page struct {
	Title    string
	Findings []Finding
	Links    []string // where a visitor can go, absolute
	Sheets   []string // style sheets the document loads, absolute
	Upgrades bool     // the page asks browsers to upgrade (CSP in a meta element)
}

// upgradeable is the one table of kinds: what W3C Mixed Content §4 lets browsers
// upgrade. Everything else that is loaded is blockable.
var upgradeable = map[reference.Kind]bool{
	reference.Image: true, reference.Audio: true, reference.Video: true,
}

// classOf classifies one insecure URL. A host that is an IP address is never
// upgraded: nobody gives it a certificate.
func classOf(use reference.Use, kind reference.Kind, u *url.URL) (Class, bool) {
	switch use {
	case reference.Loads:
		if _, err := netip.ParseAddr(u.Hostname()); upgradeable[kind] && err != nil {
			return Upgraded, true
		}
		return Blocked, true
	case reference.Sends:
		return Form, true
	case reference.Maybe:
		return Possible, true
	case reference.Opens, reference.Names, reference.Text:
		return Address, true
	}
	return "", false
}

type reader struct {
	b     []byte
	base  *url.URL
	page  *Page
	lines []int // offsets at which lines begin, made when needed
}

// HTML reads a page that was found at address.
func HTML(b []byte, address *url.URL) *Page {
	r := &reader{b: b, base: address, page: &Page{}}
	r.html(b, 0)
	return r.page
}

// CSS reads a style sheet that was found at address.
func CSS(b []byte, address *url.URL) *Page {
	r := &reader{b: b, base: address, page: &Page{}}
	r.css(b, 0)
	return r.page
}

// insecure reports whether a URL's scheme is one that the page must not load.
func insecure(u *url.URL) bool {
	return (u.Scheme == "http" || u.Scheme == "ws") && u.Host != ""
}

// trustworthy reports whether browsers trust a host although its scheme is
// insecure: Secure Contexts §3.1.
func trustworthy(host string) bool {
	if ip, err := netip.ParseAddr(host); err == nil {
		return ip.IsLoopback()
	}
	return host == "localhost" || strings.HasSuffix(host, ".localhost")
}

// add looks at one URL as written, which stands at offset.
func (r *reader) add(raw, by string, use reference.Use, kind reference.Kind, offset int) {
	u, ok := r.resolve(raw)
	if !ok {
		return
	}
	switch {
	case use == reference.Opens && (u.Scheme == "http" || u.Scheme == "https"):
		r.page.Links = append(r.page.Links, u.String())
	case use == reference.Loads && kind == reference.Style && (u.Scheme == "http" || u.Scheme == "https"):
		r.page.Sheets = append(r.page.Sheets, u.String())
	}
	if !insecure(u) || trustworthy(u.Hostname()) {
		return
	}
	if class, ok := classOf(use, kind, u); ok {
		line, col := r.position(offset)
		r.page.Findings = append(r.page.Findings, Finding{URL: u.String(), By: by, Class: class, Line: line, Col: col})
	}
}

func (r *reader) resolve(raw string) (*url.URL, bool) {
	raw = strings.Map(func(c rune) rune { // URL standard: tabs and newlines go
		if c == '\t' || c == '\n' || c == '\r' {
			return -1
		}
		return c
	}, strings.TrimFunc(raw, func(c rune) bool { return c <= ' ' }))
	if raw == "" {
		return nil, false
	}
	u, err := r.base.Parse(raw)
	if err != nil {
		return nil, false
	}
	return u, true
}

// position returns line and column of an offset of the outermost document.
func (r *reader) position(offset int) (line, col int) {
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

// html reads markup that stands at offset shift.
func (r *reader) html(b []byte, shift int) {
	inTitle, baseSet := false, false
	reference.WalkHTML(b, reference.Markup{
		Tag: func(element string, attrs []reference.Attr) {
			if element == "base" && !baseSet {
				if u, ok := r.resolve(reference.AttrText(b, attrs, "href")); ok {
					r.base, baseSet = u, true
				}
			}
			if element == "meta" && strings.EqualFold(reference.AttrText(b, attrs, "http-equiv"), "content-security-policy") &&
				strings.Contains(strings.ToLower(reference.AttrText(b, attrs, "content")), "upgrade-insecure-requests") {
				r.page.Upgrades = true
			}
			inTitle = element == "title"
			for _, a := range attrs {
				r.attr(b, a, shift)
			}
		},
		Raw: func(element, typ string, start, end int) {
			switch {
			case element == "style":
				r.css(b[start:end], shift+start)
			case strings.Contains(typ, "ld+json"):
				r.literals(b[start:end], "script (JSON-LD)", reference.Names, shift+start)
			default:
				r.literals(b[start:end], "script", reference.Maybe, shift+start)
			}
		},
		Other: func(tok html.TokenType, start, end int) {
			if inTitle && tok == html.TextToken && r.page.Title == "" {
				r.page.Title = strings.Join(strings.Fields(html.UnescapeString(string(b[start:end]))), " ")
			}
			inTitle = false
		},
	})
}

func (r *reader) attr(b []byte, a reference.Attr, shift int) {
	c := a.Context
	if a.End <= a.Start || c.Use == reference.Ident || c.Use == reference.Text {
		return
	}
	raw := string(b[a.Start:a.End])
	text, at, by := html.UnescapeString(raw), shift+a.Start, a.Element+" "+a.Name
	switch c.Shape {
	case reference.One:
		if c.Use == reference.Names && !strings.Contains(text, "://") {
			return // a meta's words, or a relative address
		}
		r.add(text, by, c.Use, c.Kind, at)
	case reference.Set:
		for _, candidate := range SrcSet(text) {
			r.add(candidate, by, c.Use, c.Kind, at)
		}
	case reference.Spaced:
		for _, word := range strings.Fields(text) {
			r.add(word, by, c.Use, c.Kind, at)
		}
	case reference.Refresh:
		if i := strings.Index(strings.ToLower(text), "url="); i >= 0 {
			r.add(strings.Trim(text[i+4:], `"' `), by, c.Use, c.Kind, at)
		}
	case reference.Sheet:
		if text == raw {
			r.css(b[a.Start:a.End], at)
		} else { // decoded text has offsets of its own: all stands at the attribute
			inner := &reader{b: []byte(text), base: r.base, page: &Page{}}
			inner.css(inner.b, 0)
			r.adopt(inner.page, by, at)
		}
	case reference.Fragment:
		inner := &reader{b: []byte(text), base: r.base, page: &Page{}}
		inner.html(inner.b, 0)
		r.adopt(inner.page, by, at)
	}
}

// adopt takes over what a document inside an attribute holds.
func (r *reader) adopt(p *Page, by string, at int) {
	line, col := r.position(at)
	for _, f := range p.Findings {
		f.By, f.Line, f.Col = by+" → "+f.By, line, col
		r.page.Findings = append(r.page.Findings, f)
	}
	r.page.Links = append(r.page.Links, p.Links...)
	r.page.Sheets = append(r.page.Sheets, p.Sheets...)
}

// literals looks for insecure addresses written out in a script's text.
func (r *reader) literals(b []byte, by string, use reference.Use, shift int) {
	reference.Find(b, func(ref reference.Reference) bool {
		if tail := ref.Tail(b); !reference.IsStandard(ref.Host, tail) {
			r.add(ref.Text(b), by, use, "", shift+ref.Start)
		}
		return true
	})
}

// css reads a style sheet, or the value of a style attribute, at offset shift.
func (r *reader) css(b []byte, shift int) {
	lexer := css.NewLexer(parse.NewInputBytes(bytes.Clone(b)))
	rule := ""  // the at-rule whose prelude is read
	block := "" // the at-rule whose block is read
	depth := 0
	inURL := false // behind url( when the address is a string of its own
	for p := 0; ; {
		tok, text := lexer.Next()
		at := shift + p
		p += len(text)
		switch tok {
		case css.ErrorToken:
			return // the end, or what no browser could read either
		case css.AtKeywordToken:
			rule = strings.ToLower(string(text))
		case css.SemicolonToken:
			rule = ""
		case css.LeftBraceToken:
			if depth++; rule != "" && depth == 1 || rule == "@font-face" {
				block = rule
			}
			rule = ""
		case css.RightBraceToken:
			if depth--; depth <= 0 {
				depth, block = 0, ""
			} else if block == "@font-face" {
				block = ""
			}
		case css.FunctionToken:
			name := strings.ToLower(strings.TrimSuffix(string(text), "("))
			inURL = name == "url" || name == "src" || strings.HasSuffix(name, "image-set")
		case css.RightParenthesisToken:
			inURL = false
		case css.StringToken:
			if rule == "@import" || inURL {
				r.cssURL(unquote(string(text)), rule, block, at)
			}
		case css.URLToken:
			inner := strings.TrimSuffix(string(text)[4:], ")")
			r.cssURL(unquote(strings.TrimSpace(inner)), rule, block, at)
		}
	}
}

func (r *reader) cssURL(raw, rule, block string, at int) {
	raw = unescapeCSS(raw)
	switch {
	case rule == "@namespace":
	case rule == "@import":
		r.add(raw, "@import", reference.Loads, reference.Style, at)
	case block == "@font-face":
		r.add(raw, "@font-face url()", reference.Loads, reference.Font, at)
	default:
		r.add(raw, "CSS url()", reference.Loads, reference.Image, at)
	}
}

func unquote(s string) string {
	if len(s) >= 2 && (s[0] == '"' || s[0] == '\'') && s[len(s)-1] == s[0] {
		return s[1 : len(s)-1]
	}
	return s
}

// unescapeCSS decodes CSS escapes (CSS Syntax §4.3.7).
func unescapeCSS(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 >= len(s) {
			out.WriteByte(s[i])
			continue
		}
		v, n := rune(0), 0
		for i+1+n < len(s) && n < 6 {
			d := strings.IndexByte("0123456789abcdef", s[i+1+n]|0x20)
			if s[i+1+n] >= '0' && s[i+1+n] <= '9' {
				d = int(s[i+1+n] - '0')
			}
			if d < 0 {
				break
			}
			v, n = v<<4|rune(d), n+1
		}
		if n == 0 {
			i++
			out.WriteByte(s[i])
			continue
		}
		i += n
		if i+1 < len(s) && (s[i+1] == ' ' || s[i+1] == '\n' || s[i+1] == '\t') {
			i++
		}
		out.WriteRune(v)
	}
	return out.String()
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
