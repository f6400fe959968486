package markup

import (
	"bytes"
	"strings"

	"golang.org/x/net/html"

	"trimlantern/core/text"
)

// The namespaces that browsers support and WalkXML knows.
const (
	NamespaceHTML = "http://www.w3.org/1999/xhtml"
	NamespaceSVG  = "http://www.w3.org/2000/svg"
)

// WalkXML is WalkHTML for XML: names are case-sensitive, any element may be empty, CDATA
// sections are text, and namespaces decide which elements are HTML or SVG. Those are
// reported by their local names; all others as "", with attributes without a Context. The
// content of <script> and <style> is reported as written; XMLText decodes it.
//
// Unlike an XML parser it continues after an error.
func WalkXML(b []byte, m Markup) {
	w := xmlWalk{walk: walk{b: b, m: m}}
	for w.p < len(b) {
		w.next()
	}
	w.text(len(b))
}

// xmlWalk is a way through XML.
type xmlWalk struct {
	walk
	open []scope
}

// scope is an open element with the namespaces that it declares.
type scope struct {
	name  string            // as it is written
	known map[string]string // prefix to namespace; nil: it declares none
	space int               // the innermost element that declares some, this one or above; -1: none
}

// Bounds of what broken or hostile XML can cost.
const (
	maxUnclosed = 32 // elements left open inside of one that is closed
	maxDeclared = 64 // elements around one that are asked for its namespace
)

// xmlOthers are comments and processing instructions: how they begin and end.
var xmlOthers = []struct {
	begin, end string
	token      html.TokenType
}{
	{"<!--", "-->", html.CommentToken},
	{"<?", "?>", html.CommentToken},
}

// cdata begins a CDATA section, which cdataEnd ends.
const (
	cdata    = "<![CDATA["
	cdataEnd = "]]>"
)

// behind returns the place behind the next mark at or after p; none: the end.
func (w *xmlWalk) behind(p int, mark string) int {
	if n := bytes.Index(w.b[p:], []byte(mark)); n >= 0 {
		return p + n + len(mark)
	}
	return len(w.b)
}

// next looks at what the next < is.
func (w *xmlWalk) next() {
	open := w.bracket()
	if open < 0 {
		return
	}
	rest := w.b[open:]
	for _, o := range xmlOthers {
		if bytes.HasPrefix(rest, []byte(o.begin)) {
			w.text(open)
			w.other(o.token, open, w.behind(open+len(o.begin), o.end))
			return
		}
	}
	switch c := rest[1]; {
	case bytes.HasPrefix(rest, []byte(cdata)):
		w.text(open)
		w.words = open + len(cdata)
		end := w.behind(w.words, cdataEnd)
		inner := bytes.TrimSuffix(w.b[w.words:end], []byte(cdataEnd))
		w.text(w.words + len(inner))
		w.words, w.p = end, end
	case c == '!':
		w.text(open)
		w.other(html.DoctypeToken, open, w.doctype(open+2))
	case c == '/':
		w.text(open)
		w.endTag(open)
	case isLetter(c) || c == '_' || c == ':' || c >= 0x80:
		w.text(open)
		w.startTag(open)
	default:
		w.p = open + 1
	}
}

// doctype returns where a declaration ends whose text begins at p: at a > outside of quotes,
// comments and brackets.
func (w *xmlWalk) doctype(p int) int {
	depth := 0
	for p < len(w.b) {
		switch c := w.b[p]; {
		case c == '"' || c == '\'':
			n := bytes.IndexByte(w.b[p+1:], c)
			if n < 0 {
				return len(w.b)
			}
			p += n + 1
		case bytes.HasPrefix(w.b[p:], []byte("<!--")):
			p = w.behind(p+4, "-->")
			continue
		case c == '[':
			depth++
		case c == ']':
			depth--
		case c == '>' && depth <= 0:
			return p + 1
		}
		p++
	}
	return len(w.b)
}

// startTag reads the start tag at open.
func (w *xmlWalk) startTag(open int) {
	nameEnd := tagName(w.b, open+1)
	written := string(w.b[open+1 : nameEnd])
	attrs, end, ok := readAttrs(w.b, nameEnd, "", w.attrs[:0], xmlNameOf)
	w.attrs = attrs
	if !ok {
		w.other(html.TextToken, open, len(w.b)) // a tag that was cut off
		return
	}
	w.words, w.p = end, end
	s := scope{written, w.declared(attrs), len(w.open)}
	if s.known == nil {
		s.space = w.space(len(w.open) - 1)
	}
	w.open = append(w.open, s)
	element, svg := w.element(written)
	for i := range attrs {
		a := &attrs[i]
		a.Element, a.Context = element, Context{}
		if element != "" && a.rules != nil && !(svg && (a.Name == "src" || a.Name == "srcset")) {
			a.Context = contextOf(w.b, element, attrs, a)
		}
	}
	if w.m.Tag != nil {
		w.m.Tag(element, attrs)
	}
	switch {
	case w.b[end-2] == '/': // it is empty
		w.close(written)
	case element == "script" || element == "style":
		typ := strings.ToLower(attrText(w.b, attrs, "type"))
		raw := w.rawEnd(written)
		if w.m.Raw != nil && raw > end {
			w.m.Raw(element, typ, end, raw)
		}
		w.words, w.p = raw, raw
	}
}

// rawEnd returns where the content of an element ends that begins at p.
func (w *xmlWalk) rawEnd(written string) int {
	for p := w.p; ; {
		n := bytes.IndexByte(w.b[p:], '<')
		if n < 0 {
			return len(w.b)
		}
		p += n
		switch rest := w.b[p:]; {
		case bytes.HasPrefix(rest, []byte(cdata)):
			p = w.behind(p, cdataEnd)
		case bytes.HasPrefix(rest, []byte("<!--")):
			p = w.behind(p+4, "-->")
		case bytes.HasPrefix(rest, []byte("</"+written)):
			return p
		default:
			p++
		}
	}
}

// endTag reads the end tag at open.
func (w *xmlWalk) endTag(open int) {
	written := string(w.b[open+2 : tagName(w.b, open+2)])
	end := w.angle(open)
	w.words, w.p = end, end
	w.close(written)
}

// close ends the element that was opened last under that name.
func (w *xmlWalk) close(written string) {
	element, _ := w.element(written)
	for n := len(w.open) - 1; n >= 0 && n >= len(w.open)-maxUnclosed; n-- {
		if w.open[n].name == written {
			w.open = w.open[:n]
			break
		}
	}
	if w.m.End != nil {
		w.m.End(element)
	}
}

// declared returns the namespaces that a tag declares.
func (w *xmlWalk) declared(attrs []Attr) (known map[string]string) {
	for _, a := range attrs {
		prefix, ok := strings.CutPrefix(a.Name, "xmlns")
		if !ok || prefix != "" && prefix[0] != ':' {
			continue
		}
		if known == nil {
			known = map[string]string{}
		}
		known[strings.TrimPrefix(prefix, ":")] = string(AttrValue(w.b[a.Start:a.End]))
	}
	return known
}

// element returns the local name of a tag as the tables know it, where its namespace is one
// of theirs, or "".
func (w *xmlWalk) element(written string) (name string, svg bool) {
	prefix, local, ok := strings.Cut(written, ":")
	if !ok {
		prefix, local = "", written
	}
	n := w.space(len(w.open) - 1)
	for range maxDeclared {
		if n < 0 {
			break
		}
		space, ok := w.open[n].known[prefix]
		switch {
		case !ok:
			n = w.space(n - 1)
		case space == NamespaceHTML:
			return local, false
		case space == NamespaceSVG && !onlyHTML[local]:
			if local == "feImage" {
				local = "feimage" // as the table has it
			}
			return local, true
		default:
			return "", false
		}
	}
	return "", false
}

// space returns the innermost element that declares namespaces, of the first n+1 that are open.
func (w *xmlWalk) space(n int) int {
	if n < 0 {
		return -1
	}
	return w.open[n].space
}

// onlyHTML are the elements of the table of contexts that mean nothing in SVG.
var onlyHTML = func() map[string]bool {
	m := map[string]bool{"link": true, "meta": true}
	for _, c := range contexts {
		m[c.Element] = true
	}
	for _, svg := range []string{"*", "a", "feimage", "image", "script", "use"} {
		delete(m, svg)
	}
	return m
}()

// xmlNameOf is nameOf where letter case counts.
func xmlNameOf(b []byte) (string, *attrName) {
	if n, ok := attrNames[string(b)]; ok && n.known {
		return n.text, n
	}
	if bytes.HasPrefix(b, []byte("xmlns:")) {
		return string(b), attrNames["xmlns"]
	}
	return string(b), nil
}

// XMLText returns the text content of an XML element: CDATA sections as they are, character
// references decoded elsewhere, comments removed. at is the offset of that text in b, or -1 if it
// had to be decoded.
func XMLText(b []byte) (plain []byte, at int) {
	if bytes.IndexByte(b, '&') < 0 && bytes.IndexByte(b, '<') < 0 {
		return b, 0
	}
	trimmed := bytes.TrimSpace(b)
	if bytes.HasPrefix(trimmed, []byte(cdata)) && bytes.HasSuffix(trimmed, []byte(cdataEnd)) && bytes.Count(trimmed, []byte(cdataEnd)) == 1 {
		at = bytes.Index(b, []byte(cdata)) + len(cdata)
		return b[at : at+len(trimmed)-len(cdata)-len(cdataEnd)], at
	}
	WalkXML(b, Markup{Other: func(tok html.TokenType, start, end int) {
		if tok != html.TextToken {
			return
		}
		if start >= len(cdata) && bytes.HasSuffix(b[:start], []byte(cdata)) {
			plain = append(plain, b[start:end]...)
		} else {
			plain = append(plain, text.Decode(b[start:end], text.HTML)...)
		}
	}})
	return plain, -1
}
