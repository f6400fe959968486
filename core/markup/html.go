package markup

import (
	"bytes"
	"io"
	"slices"
	"strings"

	"golang.org/x/net/html"

	"trimlantern/core/text"
)

func isAlnum(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}

// Attr is one attribute of a start tag, with where its value stands.
type Attr struct {
	Element string // lower case
	Name    string // lower case
	Start   int    // the value's first byte, behind the quote
	End     int    // behind the value
	Context Context

	rules *attrName // nil where none speaks of it
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
//
// It goes the way of the tokenizer of package html, which is the measure of all that
// is done here (see FuzzWalk) and reads scripts that hide markup; but in one pass,
// with the offsets, and without a look at each byte of the words.
func WalkHTML(b []byte, m Markup) {
	w := walk{b: b, m: m}
	for w.p < len(b) {
		w.next()
	}
	w.text(len(b))
}

// walk is a way through markup.
type walk struct {
	b     []byte
	m     Markup
	words int    // where the text before p begins
	p     int    // where to look next
	attrs []Attr // of one tag; its memory is used for the next
}

// other reports b[start:end] and goes on behind it.
func (w *walk) other(tok html.TokenType, start, end int) {
	if w.m.Other != nil && start < end {
		w.m.Other(tok, start, end)
	}
	w.words, w.p = end, end
}

// text reports the text up to end.
func (w *walk) text(end int) { w.other(html.TextToken, w.words, end) }

// next looks at what the next < is (HTML §13.2.5.6).
func (w *walk) next() {
	open := w.bracket()
	if open < 0 {
		return
	}
	switch c := w.b[open+1]; {
	case isLetter(c):
		w.text(open)
		w.start(open)
	case c == '/':
		w.text(open)
		w.end(open)
	case c == '!' && bytes.HasPrefix(w.b[open:], []byte("<!--")):
		w.text(open)
		w.other(html.CommentToken, open, commentEnd(w.b, open+4))
	case c == '!' || c == '?': // a declaration, or a comment by mistake
		w.text(open)
		tok := html.CommentToken
		if behind := open + 2 + len("doctype"); behind <= len(w.b) && c == '!' && lowerEqual(w.b[open+2:behind], "doctype") {
			tok = html.DoctypeToken
		}
		w.other(tok, open, w.angle(open+2))
	default:
		w.p = open + 1
	}
}

// bracket returns the place of the next < that something stands behind; -1: there is none, and
// the walk is at its end.
func (w *walk) bracket() int {
	n := bytes.IndexByte(w.b[w.p:], '<')
	if n < 0 || w.p+n+1 == len(w.b) {
		w.p = len(w.b)
		return -1
	}
	return w.p + n
}

// angle returns the place behind the next > at or after p.
func (w *walk) angle(p int) int {
	if n := bytes.IndexByte(w.b[p:], '>'); n >= 0 {
		return p + n + 1
	}
	return len(w.b)
}

// start reads the start tag at open, and the text that only its end tag ends.
func (w *walk) start(open int) {
	name := tagName(w.b, open+1)
	element := intern(w.b[open+1 : name])
	attrs, end, ok := readAttrs(w.b, name, element, w.attrs[:0], nameOf)
	w.attrs = attrs
	if !ok {
		w.other(html.TextToken, open, len(w.b)) // a tag that was cut off
		return
	}
	w.words, w.p = end, end
	if w.m.Tag != nil {
		w.m.Tag(element, attrs)
	}
	if !rawElements[element] {
		return
	}
	typ := ""
	if element == "script" || element == "style" {
		typ = strings.ToLower(attrText(w.b, attrs, "type"))
	}
	end = w.rawEnd(element)
	if element != "script" && element != "style" {
		w.text(end)
		return
	}
	if w.m.Raw != nil && end > w.p {
		w.m.Raw(element, typ, w.p, end)
	}
	w.words, w.p = end, end
}

// rawElements hold text that no tag ends but their own.
var rawElements = map[string]bool{"iframe": true, "noembed": true, "noframes": true, "noscript": true, "plaintext": true, "script": true, "style": true, "textarea": true, "title": true, "xmp": true}

// rawEnd returns where the text of a raw element ends that begins at p.
func (w *walk) rawEnd(element string) int {
	if element == "plaintext" {
		return len(w.b)
	}
	end := len(w.b)
	for p := w.p; ; p += 2 {
		n := bytes.Index(w.b[p:], []byte("</"))
		if n < 0 {
			break
		}
		p += n
		if behind := p + 2 + len(element); behind < len(w.b) && lowerEqual(w.b[p+2:behind], element) && tagBytes[w.b[behind]] {
			end = p
			break
		}
	}
	if element == "script" && bytes.Contains(w.b[w.p:end], []byte("<!--")) { // may hide an end tag
		z := html.NewTokenizer(io.MultiReader(strings.NewReader("<script>"), bytes.NewReader(w.b[w.p:])))
		z.Next()
		z.Next() // some text, since there is a comment in it
		return w.p + len(z.Raw())
	}
	return end
}

// end reads the end tag at open.
func (w *walk) end(open int) {
	if open+2 == len(w.b) {
		w.other(html.TextToken, open, len(w.b))
		return
	}
	if c := w.b[open+2]; !isLetter(c) {
		w.other(html.CommentToken, open, w.angle(open+2))
		return
	}
	name := tagName(w.b, open+2)
	attrs, end, ok := readAttrs(w.b, name, "", w.attrs[:0], nameOf)
	w.attrs = attrs
	if !ok {
		w.other(html.TextToken, open, len(w.b))
		return
	}
	w.words, w.p = end, end
	if w.m.End != nil {
		w.m.End(intern(w.b[open+2 : name]))
	}
}

// commentEnd returns where the comment ends whose text begins at p (HTML
// §13.2.5.43 ff.).
func commentEnd(b []byte, p int) int {
	for _, short := range []string{">", "->"} {
		if bytes.HasPrefix(b[p:], []byte(short)) {
			return p + len(short)
		}
	}
	for ; ; p++ {
		n := bytes.Index(b[p:], []byte("--"))
		if n < 0 {
			return len(b)
		}
		p += n
		for _, end := range []string{"-->", "--!>"} {
			if bytes.HasPrefix(b[p:], []byte(end)) {
				return p + len(end)
			}
		}
	}
}

// tagBytes end a name in a tag.
var tagBytes = [256]bool{' ': true, '\t': true, '\n': true, '\r': true, '\f': true, '/': true, '>': true}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' }

func isLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

// tagName returns where the name of a tag ends that begins at p.
func tagName(b []byte, p int) int {
	for p < len(b) && !tagBytes[b[p]] {
		p++
	}
	return p
}

// lowerEqual reports whether b is the lower-case word s in any letter case.
func lowerEqual(b []byte, s string) bool {
	for i := range s {
		if b[i]|0x20 != s[i] {
			return false
		}
	}
	return true
}

// common are names of elements that pages are full of: their strings are made once.
var common = func() map[string]string {
	m := map[string]string{}
	for _, n := range strings.Fields(`a abbr article aside b body br button div em figure figcaption footer form g h1 h2 h3 h4 h5 h6 head header hr html i iframe img input
		label li link main meta nav noscript ol option p path picture script section select small source span strong style svg table tbody td th title tr u ul use video`) {
		m[n] = n
	}
	return m
}()

// intern returns an element's name as a string, in lower case.
func intern(b []byte) string {
	if s, ok := common[string(b)]; ok {
		return s
	}
	return strings.ToLower(string(b))
}

// attrName is an attribute's name with what the table of contexts says of it.
type attrName struct {
	text  string
	any   Context   // for any element; Text where there is none
	rules []Context // for some elements
	known bool      // a rule speaks of it
}

// attrNames are the names that rules speak of, and those that pages are full of.
var attrNames = func() map[string]*attrName {
	m := map[string]*attrName{}
	add := func(n string, known bool) *attrName {
		if m[n] == nil {
			m[n] = &attrName{text: n}
		}
		m[n].known = m[n].known || known
		return m[n]
	}
	for _, n := range strings.Fields(`alt aria-hidden aria-label async charset class crossorigin d data-id decoding defer dir for height hreflang id integrity lang loading media
		method name rel role sizes tabindex target type value viewbox width`) {
		add(n, false)
	}
	for _, n := range []string{"xmlns", "imagesrcset", "content"} {
		add(n, true)
	}
	for _, c := range contexts {
		if n := add(c.Attr, true); c.Element == "*" {
			n.any = c
		} else {
			n.rules = append(n.rules, c)
		}
	}
	return m
}()

// nameOf returns the name of an attribute, in lower case, and its rules or nil.
func nameOf(b []byte) (string, *attrName) {
	n, ok := attrNames[string(b)]
	if !ok {
		lower := strings.ToLower(string(b))
		if n = attrNames[lower]; n == nil {
			if strings.HasPrefix(lower, "xmlns:") {
				return lower, attrNames["xmlns"]
			}
			return lower, nil
		}
	}
	if !n.known {
		return n.text, nil
	}
	return n.text, n
}

// readAttrs reads the attributes of a tag whose name ends at p, as HTML §13.2.5.32 ff.
// does, behind those of attrs; nameOf tells their names. end is behind the tag; ok ==
// false: it has no end.
func readAttrs(b []byte, p int, element string, attrs []Attr, nameOf func([]byte) (string, *attrName)) (_ []Attr, end int, ok bool) {
	known := false
	for {
		for p < len(b) && (isSpace(b[p]) || b[p] == '/') {
			p++
		}
		if p >= len(b) {
			return attrs, p, false
		}
		if b[p] == '>' {
			break
		}
		nameStart := p
		p++ // a leading = belongs to the name
		for p < len(b) && !tagBytes[b[p]] && b[p] != '=' {
			p++
		}
		a := Attr{Element: element}
		a.Name, a.rules = nameOf(b[nameStart:p])
		known = known || a.rules != nil
		for p < len(b) && isSpace(b[p]) {
			p++
		}
		if p < len(b) && b[p] == '=' {
			p++
			for p < len(b) && isSpace(b[p]) {
				p++
			}
			switch {
			case p >= len(b):
				return attrs, p, false
			case b[p] == '"' || b[p] == '\'':
				n := bytes.IndexByte(b[p+1:], b[p])
				if n < 0 {
					return attrs, len(b), false
				}
				a.Start, a.End = p+1, p+1+n
				p = a.End + 1
			default:
				a.Start = p
				for p < len(b) && !isSpace(b[p]) && b[p] != '>' {
					p++
				}
				a.End = p
			}
		}
		attrs = append(attrs, a)
	}
	if known {
		for i := range attrs {
			if a := &attrs[i]; a.rules != nil {
				a.Context = contextOf(b, element, attrs, a)
			}
		}
	}
	return attrs, p + 1, true
}

// AttrText returns the decoded value of the attribute called name, or "".
func AttrText(b []byte, attrs []Attr, name string) string { return attrText(b, attrs, name) }

func attrText(b []byte, attrs []Attr, name string) string {
	for _, a := range attrs {
		if a.Name == name && a.End > a.Start {
			return string(AttrValue(b[a.Start:a.End]))
		}
	}
	return ""
}

// AttrValue decodes an attribute's value: a character reference without a semicolon
// counts only where neither a letter nor a digit nor = follows (HTML §13.2.5.73), so that
// ?a=1&copy=2 stays what it is. It may return b itself.
func AttrValue(b []byte) []byte {
	if bytes.IndexByte(b, '&') < 0 {
		return b
	}
	return text.Decode(b, text.HTML)
}

// contextOf finds the rule for one attribute.
func contextOf(b []byte, element string, attrs []Attr, a *Attr) Context {
	get := func(n string) string { return strings.ToLower(attrText(b, attrs, n)) }
	name := a.Name
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
	c := a.rules.any
	for _, r := range a.rules.rules {
		if r.Element == element {
			c = r
		}
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
