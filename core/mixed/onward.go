package mixed

import (
	"net/url"
	"regexp"
	"strings"

	"trimlantern/core/markup"
	"trimlantern/core/text"
)

// Onward is a way on which a page sends its visitors without a redirect: they are here only for a moment.
type Onward struct {
	To   string // absolute; never the page itself
	By   string // "refresh" or "script"
	Sure bool   // each visitor with a browser goes there; else a script decides by what it finds
}

// maxOnward is how many ways of a page are kept.
const maxOnward = 8

// onward notes where the page sends its visitors.
func (r *reader) onward(to *url.URL, by string, sure bool) {
	if r.here == nil || r.part || len(r.page.Onward) >= maxOnward || to.Scheme != "http" && to.Scheme != "https" {
		return
	}
	here, there := *r.here, *to
	here.Fragment, there.Fragment = "", ""
	if here.String() != there.String() {
		r.page.Onward = append(r.page.Onward, Onward{there.String(), by, sure})
	}
}

// steering is where a script sets the address of its window:
//
//	location = "http://ternrock.example/"
//	window.location.href = 'http:' + window.location.href.substring(6)
//	location.protocol = "https:"
//	top.location.replace("http://" + location.host + location.pathname)
//
// The groups are the property, or the method; then the value follows.
var steering = regexp.MustCompile(`(?:^|[^\w$."'-])(?:(?:window|self|top|parent|document|globalThis)\s*\.\s*)*location\s*(?:(?:\.\s*(href|protocol))?\s*=(?:[^=]|$)|\.\s*(replace|assign)\s*\()`)

// steers notes where a script that runs at once sends visitors. What it says in comments does not count.
func (r *reader) steers(script []byte) {
	if r.here == nil || len(script) > maxSteering {
		return
	}
	b := []byte(string(script))
	literals := map[int]int{} // where each begins, and ends
	markup.WalkScript(script, false, func(part markup.ScriptPart, start, end int) {
		switch part {
		case markup.ScriptComment:
			for i := start; i < end && i < len(b); i++ {
				b[i] = ' '
			}
		case markup.ScriptString:
			literals[start] = end
		}
	})
	for _, m := range steering.FindAllSubmatchIndex(b, maxOnward) {
		at := m[1]
		if m[4] < 0 {
			at-- // the first byte of the value was looked at
		}
		end := at
		for end < len(b) && end-at < 300 && b[end] != ';' && b[end] != '\n' && b[end] != '}' {
			if n, ok := literals[end]; ok {
				end = max(n, end+1)
				continue
			}
			end++
		}
		last := "" // the last text that can begin an address: of "https:" and "http:" in a replace, the new one
		for p := at; p < end; p++ {
			n, ok := literals[p]
			if !ok {
				continue
			}
			said := string(text.Decode(b[p:min(n, len(b))], text.Script))
			if low := strings.ToLower(said); strings.HasPrefix(low, "http") || strings.HasPrefix(said, "//") || strings.HasPrefix(said, "/") && last == "" {
				last = said
			}
			p = max(p, n-1)
		}
		to, ok := r.steered(last)
		if !ok {
			continue
		}
		r.onward(to, "script", unconditional(b[:m[0]]))
	}
}

// maxSteering is how long a script may be: one that sends on and nothing else is short.
const maxSteering = 16 << 10

// steered makes an address of what a script begins one with: all of it, or only the scheme.
func (r *reader) steered(said string) (*url.URL, bool) {
	switch strings.ToLower(said) {
	case "":
		return nil, false
	case "http", "http:", "http://", "https", "https:", "https://":
		to := *r.here
		to.Scheme, _, _ = strings.Cut(strings.ToLower(said), ":")
		return &to, true
	}
	to, err := r.base.Parse(said)
	return to, err == nil && to.Host != ""
}

// conditions are how a script does something only sometimes, or later.
var conditions = regexp.MustCompile(`\bif\b|\bfunction\b|=>|\?|&&|\|\||\bswitch\b|\bcatch\b|addEventListener|\bon\w+\s*=`)

// byScheme is a question for the scheme alone: each visitor over it gets the same answer. Where the answer is the other
// one, the script leads to the page itself.
var byScheme = regexp.MustCompile(`(?i)\bif\s*\([^{};]{0,80}(?:protocol|https?:?["'])[^{};]{0,40}\)\s*\{?[^{};]{0,120}$`)

// unconditional reports whether what comes next in a script is done for each visitor.
func unconditional(before []byte) bool {
	if !conditions.Match(before) {
		return true
	}
	m := byScheme.FindIndex(before)
	return m != nil && !conditions.Match(before[:m[0]])
}
