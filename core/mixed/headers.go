package mixed

import (
	"strings"

	"trimlantern/core/markup"
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
			r.leads(l.rel, l.url, l.tongue)
		}
	}
	for _, line := range h["Speculation-Rules"] {
		for _, address := range strings.Split(line, `"`) {
			r.add(address, use{by: "Speculation-Rules header", use: markup.Maybe, offset: -1})
		}
	}
	for _, line := range h["Refresh"] {
		if seconds, to, ok := refresh(line); ok {
			r.again(seconds, to)
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

type link struct{ url, rel, as, tongue string }

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
			case "hreflang":
				l.tongue = value
			}
		}
		out = append(out, l)
	}
}
