package mixed

import (
	"bytes"
	"encoding/json"
	"strings"

	"trimlantern/core/markup"
	"trimlantern/core/reference"
)

// upgrades reports whether a content security policy has browsers upgrade what is
// insecure (Upgrade Insecure Requests §3.1).
func upgrades(policy string) bool {
	for directive := range strings.FieldsFuncSeq(policy, func(c rune) bool { return c == ';' || c == ',' }) {
		if words := strings.Fields(directive); len(words) > 0 && strings.EqualFold(words[0], "upgrade-insecure-requests") {
			return true
		}
	}
	return false
}

// headers reads what an answer's headers load, name or order.
func (r *reader) headers(h map[string][]string) {
	for _, policy := range h["Content-Security-Policy"] {
		if upgrades(policy) {
			r.page.Upgrades = true
		}
	}
	for _, line := range h["Link"] {
		for _, l := range links(line) {
			c := markup.LinkContext(l.rel, l.as)
			u := use{by: "Link header " + l.rel, use: c.Use, kind: c.Kind, offset: -1}
			switch {
			case c.Use == markup.Ident:
				continue
			case c.Kind == markup.Style && l.rel != "preload":
				u.certainty = Likely // not every browser heeds it
			case c.Kind == markup.Prefetch && l.rel == "preload", c.Kind == markup.Icon, c.Kind == markup.Manifest, c.Kind == markup.Touch:
				u.use = markup.Names
			}
			r.add(l.url, u)
		}
	}
	for _, line := range h["Refresh"] {
		if to, ok := refresh(line); ok {
			r.add(to, use{by: "Refresh header", use: markup.Opens, offset: -1})
		}
	}
	for _, name := range []string{"Content-Location", "Sourcemap"} {
		for _, v := range h[name] {
			r.add(v, use{by: name + " header", use: markup.Names, offset: -1})
		}
	}
}

type link struct{ url, rel, as string }

// links reads a Link header (RFC 8288 §3).
func links(s string) (out []link) {
	for {
		start := strings.IndexByte(s, '<')
		if start < 0 {
			return out
		}
		end := strings.IndexByte(s[start:], '>')
		if end < 0 {
			return out
		}
		l := link{url: s[start+1 : start+end]}
		s = s[start+end+1:]
		// Parameters go on to a comma outside of quotes.
		params, quoted, i := "", false, 0
		for ; i < len(s); i++ {
			if s[i] == '"' {
				quoted = !quoted
			}
			if s[i] == ',' && !quoted {
				break
			}
		}
		params, s = s[:i], s[i:]
		for p := range strings.SplitSeq(params, ";") {
			name, value, _ := strings.Cut(p, "=")
			value = strings.ToLower(strings.Trim(strings.TrimSpace(value), `"`))
			switch strings.ToLower(strings.TrimSpace(name)) {
			case "rel":
				l.rel = value
			case "as":
				l.as = value
			}
		}
		out = append(out, l)
	}
}

// literals looks for insecure addresses written out in a text.
func (r *reader) literals(b []byte, by string, what markup.Use, shift int) {
	reference.Find(b, func(ref reference.Reference) bool {
		if tail := ref.Tail(b); !markup.IsStandard(ref.Host, tail) {
			r.add(ref.Text(b), use{by: by, use: what, offset: shift + ref.Start})
		}
		return true
	})
}

// script reads a script: what a module imports is loaded, everything else that is
// written out may be.
func (r *reader) script(b []byte, by string, shift int, module bool) {
	imported := map[int]bool{}
	if module && bytes.Contains(b, []byte("import")) || module && bytes.Contains(b, []byte("export")) {
		for _, s := range imports(b) {
			spec := string(b[s.start:s.end])
			if to := r.maps[spec]; to != "" {
				spec = to
			} else if !strings.HasPrefix(spec, "/") && !strings.HasPrefix(spec, ".") && !strings.Contains(spec, "://") {
				continue // a bare name
			}
			imported[s.start] = true
			r.add(spec, use{by: "import", use: markup.Loads, kind: markup.Script, offset: shift + s.start})
		}
	}
	reference.Find(b, func(ref reference.Reference) bool {
		if tail := ref.Tail(b); !imported[ref.Start] && !markup.IsStandard(ref.Host, tail) {
			r.add(ref.Text(b), use{by: by, use: markup.Maybe, offset: shift + ref.Start})
		}
		return true
	})
}

type stretch struct{ start, end int }

// imports finds the module specifiers of a script: the strings behind import and
// from. A comment that looks like one is taken for one.
func imports(b []byte) (out []stretch) {
	for _, word := range []string{"import", "from"} {
		for p := 0; ; {
			i := bytes.Index(b[p:], []byte(word))
			if i < 0 {
				break
			}
			at := p + i
			p = at + len(word)
			if at > 0 && isName(b[at-1]) {
				continue
			}
			q := p
			for q < len(b) && (b[q] == ' ' || b[q] == '\t' || b[q] == '\n' || b[q] == '\r') {
				q++
			}
			if q >= len(b) || b[q] != '"' && b[q] != '\'' {
				continue
			}
			if n := bytes.IndexByte(b[q+1:min(len(b), q+4096)], b[q]); n > 0 {
				out = append(out, stretch{q + 1, q + 1 + n})
			}
		}
	}
	return out
}

func isName(c byte) bool {
	return c == '_' || c == '$' || c == '.' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// importMap reads the names that an import map gives to addresses.
func (r *reader) importMap(b []byte) {
	var m struct {
		Imports map[string]string `json:"imports"`
	}
	if json.Unmarshal(b, &m) == nil && r.maps == nil {
		r.maps = m.Imports
	}
}

// feed reads a feed, a site map or another XML document: all that they do is name.
// Permanent identifiers are no addresses.
func (r *reader) feed(b []byte) {
	reference.Find(b, func(ref reference.Reference) bool {
		name := elementAt(b, ref.Start)
		if name == "guid" || name == "id" || name == "?xml" || strings.HasPrefix(name, "!") || markup.IsStandard(ref.Host, ref.Tail(b)) || namespace(b, ref.Start) {
			return true
		}
		r.add(ref.Text(b), use{by: strings.TrimSpace("XML " + name), use: markup.Names, offset: ref.Start})
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
