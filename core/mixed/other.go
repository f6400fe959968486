package mixed

import (
	"bytes"
	"regexp"
	"strings"
	"unicode/utf8"

	"trimlantern/core/markup"
	"trimlantern/core/reference"
	"trimlantern/core/text"
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
			u := use{by: "Refresh header", use: markup.Opens, offset: -1}
			if r.frame {
				u.use, u.kind = markup.Loads, markup.Frame
			}
			r.add(to, u)
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

// script reads a script: what a module imports is loaded, everything else that its strings
// spell out may be. Comments load nothing.
func (r *reader) script(b []byte, by string, shift int, module bool) {
	var done []stretch // what is no text of the script, or is dealt with
	markup.WalkScript(b, module, func(part markup.ScriptPart, start, end int) {
		switch part {
		case markup.ScriptComment:
			if !utf8.Valid(b) {
				return // its end is uncertain in an unknown charset
			}
			done = append(done, stretch{start, end})
			for _, mark := range []string{"//# sourceMappingURL=", "//@ sourceMappingURL="} {
				if to, ok := bytes.CutPrefix(b[start:end], []byte(mark)); ok {
					r.add(string(to), use{by: "sourceMappingURL", use: markup.Names, offset: shift + start + len(mark)})
				}
			}
		case markup.ScriptSpecifier, markup.ScriptDynamic:
			spec := string(text.Decode(b[start:end], text.Script))
			to, ok := r.maps.resolve(spec, r.base.String(), r.absolute)
			if !ok {
				return // a bare name
			}
			u := use{by: "import", use: markup.Loads, kind: markup.Script, offset: shift + start}
			if part == markup.ScriptDynamic { // when the script comes to it
				u.by, u.use = "import()", markup.Maybe
			}
			done = append(done, stretch{start, end})
			r.add(to, u)
		}
	})
	reference.Find(b, func(ref reference.Reference) bool {
		for len(done) > 0 && done[0].end <= ref.Start {
			done = done[1:]
		}
		inside := len(done) > 0 && done[0].start < ref.HostEnd
		if !inside && !markup.IsStandard(ref.Host, ref.Tail(b)) {
			u := use{by: by, use: markup.Maybe, offset: shift + ref.Start}
			if !begins(b, ref.Start) || documentation[strings.TrimPrefix(strings.ToLower(ref.Host), "www.")] {
				u.use = markup.Names
			}
			r.add(ref.Text(b), u)
		}
		return true
	})
}

// documentation are names that stand for any (RFC 2606 §3): a script that has one shows how to fill in a
// field.
var documentation = map[string]bool{"example.com": true, "example.net": true, "example.org": true}

// linkBefore is the beginning of a link in markup that a script writes.
var linkBefore = regexp.MustCompile(`(?i)<a\s[^<>]*\bhref\s*=\s*\\*["']?$`)

// begins reports whether an address at p of a script is one that the script could load: it begins a
// string, or a value in markup or a style sheet that a string holds. In the middle of a sentence it is
// only named, like the page that explains a warning; and behind <a href= it is a link.
func begins(b []byte, p int) bool {
	q := p
	for q > 0 && b[q-1] == '\\' {
		q--
	}
	if q == 0 || !bytes.ContainsAny(b[q-1:q], "\"'`(=,;>") {
		return false
	}
	return !linkBefore.Match(b[max(0, p-300):p])
}

type stretch struct{ start, end int }

// absolute returns a URL as browsers make it absolute.
func (r *reader) absolute(raw string) (string, bool) {
	u, ok := r.resolve(raw)
	if !ok {
		return "", false
	}
	return u.String(), true
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
