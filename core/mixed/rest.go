package mixed

import (
	"bytes"
	"net/url"
	"regexp"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/markup"
	"trimlantern/core/rewrite"
	"trimlantern/core/text"
)

// anywhere reads a text as rewriting does, for whichever site.
var anywhere = &rewrite.Rules{Site: address.Site{Host: "invalid."}}

// identifier is the path of a permanent identifier in data: {"guid": {"rendered": "http://…"}}.
var identifier = regexp.MustCompile(`\.(guid|@?id)([.\[]|$)`)

// rest reports each insecure address that can be read in a text, in whatever spelling and at any depth, and that is not
// among the findings from the nth on: what no table of attributes and no lexer knows is still named. Stretches of skip are
// no part of the text.
func (r *reader) rest(b []byte, by string, what markup.Use, shift, n int, skip []stretch) {
	if !rewrite.MayHold(b) {
		return
	}
	known := map[string]bool{}
	for _, f := range r.page.Findings[n:] {
		known[f.URL] = true
	}
	visit := func(f rewrite.Finding) {
		if f.Host == "" || f.URL == "" || f.Use == markup.Ident || f.Reason == rewrite.Standard || f.Reason == rewrite.Pieces || f.Reason == rewrite.Rule ||
			identifier.MatchString(f.Path) {
			return
		}
		for _, s := range skip {
			if s.start <= f.Offset && f.Offset < s.end {
				return
			}
		}
		u := r.remembered(f.URL)
		if u == nil || known[u.text] {
			return
		}
		known[u.text] = true
		r.add(f.URL, use{by: by, use: what, offset: shift + f.Offset})
	}
	for _, f := range anywhere.Value(b).Left {
		visit(f)
	}
}

// remarks are the comments of a style sheet (CSS Syntax §4.3.2).
func remarks(b []byte) (out []stretch) {
	for p := 0; p < len(b); {
		switch c := b[p]; {
		case c == '"' || c == '\'':
			for p++; p < len(b) && b[p] != c && b[p] != '\n'; p++ {
				if b[p] == '\\' {
					p++
				}
			}
			p++
		case c == '/' && bytes.HasPrefix(b[p:], []byte("/*")):
			end := len(b)
			if i := bytes.Index(b[p+2:], []byte("*/")); i >= 0 {
				end = p + 2 + i + 2
			}
			out = append(out, stretch{p, end})
			p = end
		default:
			p++
		}
	}
	return out
}

// maxHints is how many addresses of a document are kept that it only names.
const maxHints = 2000

// hint notes an address that a document names in a text, as written there: a path like /tours/, or an address of the
// page's own host. What is neither, like a word, a type or a pattern, is none.
func (r *reader) hint(raw string) {
	if len(raw) < 2 || len(raw) > 500 {
		return
	}
	switch {
	case raw[0] == '/' && raw[1] != '/' && raw[1] != '*', strings.HasPrefix(raw, "http"), strings.HasPrefix(raw, "//"):
	case shownEndings[strings.ToLower(raw[strings.LastIndexByte(raw, '.')+1:])] && strings.IndexByte(raw, '.') >= 0:
	default:
		return
	}
	if strings.ContainsAny(raw, " \t\n\r\"'<>{}()[]|\\^`*$") || strings.Contains(raw, "/:") {
		return
	}
	u, ok := r.resolve(raw)
	if !ok || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() != r.base.Hostname() {
		return
	}
	if len(r.page.Hints) >= maxHints {
		r.page.Crowded = true
		return
	}
	u.Scheme, u.Fragment, u.User = r.base.Scheme, "", nil
	r.page.Hints = append(r.page.Hints, u.String())
}

// shownEndings are endings of what a browser shows, or a script fetches to show it: "news.html" in a script is an address.
var shownEndings = map[string]bool{"html": true, "htm": true, "xhtml": true, "php": true, "asp": true, "aspx": true, "jsp": true, "json": true, "xml": true, "js": true, "css": true}

// hints notes the addresses in the strings of a text that is JSON or a script.
func (r *reader) hints(b []byte) {
	markup.WalkScript(b, false, func(part markup.ScriptPart, start, end int) {
		if part == markup.ScriptString {
			r.hintString(b[start:end])
		}
	})
}

// hintString is hint for the text of a script's string.
func (r *reader) hintString(b []byte) {
	if len(b) < 2 || len(b) > 500 {
		return
	}
	if bytes.IndexByte(b, '\\') >= 0 {
		b = text.Decode(b, text.Script)
	}
	r.hint(string(b))
}

// handler reads a script in an attribute.
func (r *reader) handler(b []byte, by string, offset int) {
	r.page.Scripts++
	n := len(r.page.Findings)
	r.inner(b, by, offset, func(in *reader) { in.script(b, "script", 0, false) })
	for i := range r.page.Findings[n:] {
		r.page.Findings[n+i].By = by
	}
}

// run returns the script of a javascript: URL; ok == false: it is none.
func run(raw string) (script []byte, ok bool) {
	raw = strings.TrimLeft(raw, "\x00\x01\x02\x03\x04\x05\x06\x07\x08\t\n\v\f\r\x0e\x0f\x10\x11\x12\x13\x14\x15\x16\x17\x18\x19\x1a\x1b\x1c\x1d\x1e\x1f ")
	if len(raw) < len("javascript:") || !strings.EqualFold(raw[:len("javascript:")], "javascript:") {
		return nil, false
	}
	code := raw[len("javascript:"):]
	if plain, err := url.PathUnescape(code); err == nil {
		code = plain
	}
	return []byte(code), true
}
