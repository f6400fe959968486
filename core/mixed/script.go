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

// script reads a script: what a module imports is loaded, everything else that its strings
// spell out may be. Comments load nothing.
func (r *reader) script(b []byte, by string, shift int, module bool) {
	var done []stretch // what is no text of the script, or is dealt with
	valid := utf8.Valid(b)
	n := len(r.page.Findings)
	var comments []stretch
	stops := false // a name leads nowhere: then the module as a whole is not loaded
	defer func() {
		for i := range r.page.Findings[n:] {
			if f := &r.page.Findings[n+i]; stops && f.By == "import" {
				f.Certainty = Likely
			}
		}
	}()
	markup.WalkScript(b, module, func(part markup.ScriptPart, start, end int) {
		switch part {
		case markup.ScriptComment:
			if !valid {
				return // its end is uncertain in an unknown charset
			}
			done = append(done, stretch{start, end})
			comments = append(comments, stretch{start, end})
			for _, mark := range []string{"//# sourceMappingURL=", "//@ sourceMappingURL="} {
				if to, ok := bytes.CutPrefix(b[start:end], []byte(mark)); ok {
					r.add(string(to), use{by: "sourceMappingURL", use: markup.Names, offset: shift + start + len(mark)})
				}
			}
		case markup.ScriptString:
			r.hintString(b[start:end])
		case markup.ScriptSpecifier, markup.ScriptDynamic:
			spec := string(text.Decode(b[start:end], text.Script))
			to, ok := r.maps.resolve(spec, r.base.String(), r.absolute)
			if !ok {
				stops = stops || part == markup.ScriptSpecifier
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
		if inside {
			return true
		}
		if tail := ref.Tail(b); !markup.IsStandard(ref.Host, tail) {
			u := use{by: by, use: markup.Maybe, offset: shift + ref.Start}
			if !begins(b, ref.Start) || documentation[strings.TrimPrefix(strings.ToLower(ref.Host), "www.")] {
				u.use = markup.Names
			}
			r.add(ref.Plain()+tail, u)
		}
		return true
	})
	r.rest(b, by, markup.Maybe, shift, n, comments)
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
