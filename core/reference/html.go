package reference

import (
	"bytes"
	"slices"
	"strings"

	"golang.org/x/net/html"
)

// Attr is one attribute of a start tag, with where its value stands.
type Attr struct {
	Element string // lower case
	Name    string // lower case
	Start   int    // the value's first byte, behind the quote
	End     int    // behind the value
	Context Context
}

// Markup is what WalkHTML reports. Nil functions are not called.
type Markup struct {
	// Tag is called for each start tag with its attributes; those with a known
	// use carry their Context.
	Tag func(element string, attrs []Attr)
	// Raw is called for the text of <script> and <style>, with the script's type.
	Raw func(element, typ string, start, end int)
	// End is called for each end tag.
	End func(element string)
	// Other is called for text, comments and declarations.
	Other func(tok html.TokenType, start, end int)
}

// WalkHTML goes through HTML, whole pages or fragments, however broken. Offsets
// count bytes of b.
func WalkHTML(b []byte, m Markup) {
	z := html.NewTokenizer(bytes.NewReader(b))
	var rawElement, rawType string
	var attrs []Attr // of one tag; its memory is used for the next
	for p := 0; ; {
		tok := z.Next()
		raw := len(z.Raw())
		start, end := p, p+raw
		p = end
		switch tok {
		case html.ErrorToken:
			if m.Other != nil && start < len(b) {
				m.Other(html.TextToken, start, len(b)) // a tag that was cut off
			}
			return
		case html.StartTagToken, html.SelfClosingTagToken:
			name, _ := z.TagName()
			element := intern(name)
			attrs = readAttrs(b[start:end], start, element, attrs[:0])
			if element == "script" || element == "style" {
				rawElement, rawType = element, strings.ToLower(attrText(b, attrs, "type"))
			}
			if m.Tag != nil {
				m.Tag(element, attrs)
			}
			continue
		case html.TextToken:
			if rawElement != "" {
				if m.Raw != nil {
					m.Raw(rawElement, rawType, start, end)
				}
				rawElement = ""
				continue
			}
		case html.EndTagToken:
			rawElement = ""
			if m.End != nil {
				name, _ := z.TagName()
				m.End(intern(name))
			}
			continue
		}
		if m.Other != nil {
			m.Other(tok, start, end)
		}
	}
}

// common are names of elements and attributes that pages are full of: their strings
// are made once.
var common = func() map[string]string {
	m := map[string]string{}
	for _, n := range strings.Fields(`a abbr article aside b body br button div em figure figcaption footer form h1 h2 h3 h4 h5 h6 head header hr html i iframe img input
		label li link main meta nav noscript ol option p path picture script section select small source span strong style svg table tbody td th title tr u ul use video
		alt aria-hidden aria-label async charset class content crossorigin d data-id decoding defer dir for height href hreflang id integrity lang loading media
		method name property rel role sizes src srcset tabindex target type value viewbox width xmlns`) {
		m[n] = n
	}
	return m
}()

// intern returns a name as a string, in lower case.
func intern(b []byte) string {
	if s, ok := common[string(b)]; ok {
		return s
	}
	return strings.ToLower(string(b))
}

// readAttrs reads the attributes of one start tag, as HTML §13.2.5.32 ff. does, behind
// those of attrs. base is the tag's offset in the whole.
func readAttrs(tag []byte, base int, element string, attrs []Attr) []Attr {
	isSpace := func(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' }
	p := 1
	for p < len(tag) && !isSpace(tag[p]) && tag[p] != '/' && tag[p] != '>' {
		p++
	}
	for p < len(tag) {
		for p < len(tag) && (isSpace(tag[p]) || tag[p] == '/') {
			p++
		}
		if p >= len(tag) || tag[p] == '>' {
			break
		}
		nameStart := p
		p++ // a leading = belongs to the name
		for p < len(tag) && !isSpace(tag[p]) && tag[p] != '/' && tag[p] != '>' && tag[p] != '=' {
			p++
		}
		a := Attr{Element: element, Name: intern(tag[nameStart:p])}
		for p < len(tag) && isSpace(tag[p]) {
			p++
		}
		if p < len(tag) && tag[p] == '=' {
			p++
			for p < len(tag) && isSpace(tag[p]) {
				p++
			}
			start, end := p, p
			if p < len(tag) && (tag[p] == '"' || tag[p] == '\'') {
				start = p + 1
				n := bytes.IndexByte(tag[start:], tag[p])
				if n < 0 {
					n = len(tag) - start
				}
				end = start + n
				p = min(end+1, len(tag))
			} else {
				for p < len(tag) && !isSpace(tag[p]) && tag[p] != '>' {
					p++
				}
				end = p
			}
			a.Start, a.End = base+start, base+end
		}
		attrs = append(attrs, a)
	}
	for i := range attrs {
		attrs[i].Context = contextOf(tag, base, element, attrs, attrs[i].Name)
	}
	return attrs
}

// Contexts tells attributes of b anew, as if their element were called element.
func Contexts(b []byte, element string, attrs []Attr) []Attr {
	out := make([]Attr, len(attrs))
	for i, a := range attrs {
		a.Element, a.Context = element, contextOf(b, 0, element, attrs, a.Name)
		out[i] = a
	}
	return out
}

// AttrText returns the decoded value of the attribute called name, or "".
func AttrText(b []byte, attrs []Attr, name string) string { return attrText(b, attrs, name) }

func attrText(b []byte, attrs []Attr, name string) string {
	for _, a := range attrs {
		if a.Name == name && a.End > a.Start {
			return html.UnescapeString(string(b[a.Start:a.End]))
		}
	}
	return ""
}

// contextIndex is contexts by element and attribute.
var contextIndex = func() map[[2]string]Context {
	m := map[[2]string]Context{}
	for _, c := range contexts {
		m[[2]string{c.Element, c.Attr}] = c
	}
	return m
}()

// meaningful are the attributes that a rule speaks of.
var meaningful = func() map[string]bool {
	m := map[string]bool{"xmlns": true, "imagesrcset": true, "content": true}
	for _, c := range contexts {
		m[c.Attr] = true
	}
	return m
}()

// contextOf finds the rule for one attribute.
func contextOf(tag []byte, base int, element string, attrs []Attr, name string) Context {
	if !meaningful[name] && !strings.HasPrefix(name, "xmlns:") {
		return Context{}
	}
	get := func(n string) string {
		for _, a := range attrs {
			if a.Name == n && a.End > a.Start {
				return strings.ToLower(html.UnescapeString(string(tag[a.Start-base : a.End-base])))
			}
		}
		return ""
	}
	switch {
	case name == "xmlns" || strings.HasPrefix(name, "xmlns:"):
		return Context{element, name, Ident, "", One}
	case element == "link" && (name == "href" || name == "imagesrcset"):
		c := LinkContext(get("rel"), get("as"))
		if c.Attr = name; name == "imagesrcset" {
			c.Shape, c.Kind = Set, ImageSet
		}
		return c
	case element == "meta" && name == "content":
		if get("http-equiv") == "refresh" {
			return Context{element, name, Opens, "", Refresh}
		}
		return Context{element, name, Names, "", One}
	}
	c, ok := contextIndex[[2]string{element, name}]
	if !ok {
		c = contextIndex[[2]string{"*", name}]
	}
	if c.Element == "input" && name == "src" && get("type") != "image" {
		return Context{Element: element, Attr: name}
	}
	return c
}

// LinkContext tells what a link with these words in rel and this as is for: in a
// <link> element or a Link header (RFC 8288). All in lower case.
func LinkContext(rel, as string) Context {
	c := Context{"link", "href", Names, "", One}
	words := strings.Fields(rel)
	for _, row := range linkRels {
		if !slices.Contains(words, row.rel) {
			continue
		}
		c.Use, c.Kind = row.use, row.kind
		if row.rel == "preload" && preloadAs[as] != "" {
			c.Kind = preloadAs[as]
		}
		break
	}
	return c
}

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
}

// UsesOf reads the contexts of a text: HTML, CSS, short codes, or a lone URL,
// which counts as loaded where it ends like an asset or where the field that holds
// it is named like one. name is that field's name, or "".
func UsesOf(b []byte, name string) Uses {
	u := Uses{b: b}
	if bytes.IndexByte(b, '<') >= 0 {
		WalkHTML(b, Markup{
			Tag: func(_ string, attrs []Attr) {
				for _, a := range attrs {
					if c := a.Context; c.Use != Text && a.End > a.Start {
						u.spans = append(u.spans, span{a.Start, a.End, c.Use})
					}
				}
			},
			Raw: func(element, typ string, start, end int) {
				use := Maybe
				if element == "style" {
					use = Text // url(…) is told by what stands before it
				} else if strings.Contains(typ, "ld+json") {
					use = Names
				}
				u.spans = append(u.spans, span{start, end, use})
			},
			Other: func(tok html.TokenType, start, end int) {
				if tok == html.DoctypeToken {
					u.spans = append(u.spans, span{start, end, Ident})
				}
			},
		})
	} else if t := bytes.TrimSpace(b); len(t) < pathMax && !bytes.ContainsAny(t, " \t\r\n\"'()") {
		u.lone = AssetKind(string(t)) != "" || bracketAttrs[strings.ToLower(name)]
	}
	return u
}

// At returns the use of a reference of the text.
func (u Uses) At(r Reference) Use {
	i, _ := slices.BinarySearchFunc(u.spans, r.Start, func(s span, p int) int {
		if s.end <= p {
			return -1
		}
		return 1
	})
	if i < len(u.spans) && u.spans[i].start <= r.Start && u.spans[i].use != Text {
		return u.spans[i].use
	}
	if u.lone {
		return Loads
	}
	return before(u.b, r.Start)
}

// beforeMax is how far back before looks.
const beforeMax = 64

// before tells the use from what stands directly before a reference outside of
// markup: url( and @import of CSS, src= of a short code, a DTD's or a
// namespace's declaration. Escapes of quotes are stepped over.
func before(b []byte, start int) Use {
	head := b[max(0, start-beforeMax):start]
	head = bytes.TrimRight(head, " \t\r\n\"'\\")
	for _, quote := range []string{"&quot;", "&#039;", "&#39;", "&#034;", "&#34;", "u0022", "u0027", "%22", "%27"} {
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
	case bytes.HasSuffix(lower, []byte("@import")):
		return Loads
	case bytes.HasSuffix(lower, []byte("=")):
		name := lower[:len(lower)-1]
		i := len(name)
		for i > 0 && (isAlnum(name[i-1]) || name[i-1] == '_' || name[i-1] == '-' || name[i-1] == ':') {
			i--
		}
		attr := string(name[i:])
		switch {
		case attr == "xmlns" || strings.HasPrefix(attr, "xmlns:"):
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

// AssetKind tells from the ending of a URL's path what kind of asset it names;
// "" where it does not look like one.
func AssetKind(u string) Kind {
	u, _, _ = strings.Cut(u, "#")
	u, _, _ = strings.Cut(u, "?")
	slash := strings.LastIndexByte(u, '/')
	dot := strings.LastIndexByte(u, '.')
	if dot < slash || strings.Count(u, "/") < 3 {
		return ""
	}
	return assetEndings[strings.ToLower(u[dot+1:])]
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
