package mixed

import (
	"bytes"
	"encoding/xml"
	"io"
	"strings"

	"trimlantern/core/markup"
	"trimlantern/core/reference"
	"trimlantern/core/text"
)

// feed reads a feed, a site map or another XML document: all that they do is name.
// Permanent identifiers are no addresses.
func (r *reader) feed(b []byte, sitemap bool) {
	if !sitemap {
		r.entries(b)
	}
	reference.Find(b, func(ref reference.Reference) bool {
		name := elementAt(b, ref.Start)
		if name == "guid" || name == "id" || name == "?xml" || strings.HasPrefix(name, "!") || namespace(b, ref.Start) {
			return true
		}
		tail := ref.Tail(b)
		if markup.IsStandard(ref.Host, tail) {
			return true
		}
		r.add(ref.Plain()+tail, use{by: strings.TrimSpace("XML " + name), use: markup.Names, offset: ref.Start})
		return true
	})
}

// elementAt returns the name of the tag that stands last before p, without its
// prefix.
func elementAt(b []byte, p int) string {
	from := max(0, p-4096)
	i := bytes.LastIndexByte(b[from:p], '<')
	if i < 0 {
		return ""
	}
	rest := b[from+i+1 : p]
	n := bytes.IndexAny(rest, " \t\r\n>/")
	if n < 0 {
		n = len(rest)
	}
	name := strings.ToLower(string(rest[:min(n, 40)]))
	if i := strings.LastIndexByte(name, ':'); i >= 0 {
		name = name[i+1:]
	}
	return name
}

// namespace reports whether p stands in the value of an xmlns attribute.
func namespace(b []byte, p int) bool {
	head := bytes.TrimRight(b[max(0, p-80):p], `"'`)
	i := bytes.LastIndexAny(head, " \t\r\n<")
	return bytes.HasPrefix(head[i+1:], []byte("xmlns")) || bytes.HasSuffix(head, []byte("schemaLocation="))
}

// wellFormed reports whether XML is read to its end (XML 1.0 §2.1).
func wellFormed(b []byte) bool {
	d := xml.NewDecoder(bytes.NewReader(b))
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	d.Entity = xml.HTMLEntity
	for {
		if _, err := d.Token(); err != nil {
			return err == io.EOF
		}
	}
}

// entries notes where the entries of a feed lead (RSS, Atom, RDF), and what their texts link to.
func (r *reader) entries(b []byte) {
	leads := func(raw string) {
		if u := r.remembered(strings.TrimSpace(raw)); u != nil && u.web && len(raw) < 2000 {
			r.page.Links = append(r.page.Links, u.text)
		}
	}
	d := xml.NewDecoder(bytes.NewReader(b))
	d.Strict = false
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it is UTF-8 by now
	for {
		tok, err := d.Token()
		if err != nil {
			return // what comes after a fault is not read by readers of feeds either; the addresses in it are, above
		}
		switch t := tok.(type) {
		case xml.StartElement:
			for _, a := range t.Attr {
				if n := a.Name.Local; n == "href" || n == "about" || n == "url" {
					leads(a.Value)
				}
			}
		case xml.CharData:
			s := strings.TrimSpace(string(t))
			switch {
			case strings.HasPrefix(s, "http"):
				leads(s)
			case strings.IndexByte(s, '<') >= 0:
				in := &reader{b: []byte(s), base: r.base, page: &Page{}, maps: &importMap{}, depth: r.depth + 1}
				in.html(in.b, 0)
				r.page.Links = append(r.page.Links, in.page.Links...)
			}
		}
	}
}

// listed notes the addresses in JSON; leads says that a visitor goes there, as from a feed.
func (r *reader) listed(b []byte, leads bool) {
	if !leads {
		return // of data it is only known that a script reads it
	}
	n := len(r.page.Hints)
	markup.WalkScript(b, false, func(part markup.ScriptPart, start, end int) {
		if part != markup.ScriptString {
			return
		}
		s := text.Decode(b[start:end], text.Script)
		if bytes.IndexByte(s, '<') >= 0 {
			in := &reader{b: s, base: r.base, page: &Page{}, maps: &importMap{}, depth: r.depth + 1}
			in.html(in.b, 0)
			r.page.Links = append(r.page.Links, in.page.Links...)
			return
		}
		r.hint(string(s))
	})
	r.page.Links = append(r.page.Links, r.page.Hints[n:]...)
	r.page.Hints = r.page.Hints[:n]
}
