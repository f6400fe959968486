package mixed

import (
	"slices"
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

// base is what the policies of a page say of its <base> (Content Security Policy Level 3 §6.3.1).
type basePolicy uint8

const (
	anyBase basePolicy = iota
	ownBase            // of the page's own origin
	noBase
)

// policy takes in a content security policy of the page itself.
func (r *reader) policy(text string) {
	r.page.Upgrades = r.page.Upgrades || upgrades(text)
	for _, policy := range strings.Split(text, ",") {
		for directive := range strings.SplitSeq(policy, ";") {
			words := strings.Fields(strings.ToLower(directive))
			switch {
			case len(words) == 0:
			case words[0] == "base-uri":
				allowed := noBase
				for _, w := range words[1:] {
					switch {
					case w == "*" || strings.HasPrefix(w, "http:"):
						allowed = anyBase
					case w != "'none'" && allowed == noBase:
						allowed = ownBase
					}
				}
				r.bases = max(r.bases, allowed)
			case strings.HasSuffix(words[0], "-src") && !slices.Contains(words, "*") && !slices.Contains(words, "http:"):
				r.strict = true
			}
		}
	}
}

// headers reads what an answer's headers load, name or order.
func (r *reader) headers(h map[string][]string) {
	for _, policy := range h["Content-Security-Policy"] {
		if !r.part { // those of what a page loads do not count
			r.policy(policy)
		}
	}
	for _, line := range h["Link"] {
		for _, l := range links(line) {
			c := markup.LinkContext(l.rel, l.as)
			u := use{by: "Link header " + l.rel, use: c.Use, kind: c.Kind, offset: -1}
			switch {
			case c.Use == markup.Ident:
				continue
			case l.anchor:
				u.use = markup.Names // of another document than this
			case l.media:
				u.certainty = Likely
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

type link struct {
	url, rel, as, tongue string
	anchor, media        bool
}

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
			case "anchor":
				l.anchor = value != ""
			case "media":
				l.media = true
			case "hreflang":
				l.tongue = value
			}
		}
		out = append(out, l)
	}
}
