package mixed

import (
	"bytes"
	"strings"

	"trimlantern/core/markup"
	"trimlantern/core/reference"
)

// feed reads a feed, a site map or another XML document: all that they do is name.
// Permanent identifiers are no addresses.
func (r *reader) feed(b []byte) {
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
