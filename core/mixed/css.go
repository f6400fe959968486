package mixed

import (
	"bytes"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"

	"trimlantern/core/markup"
)

// css reads a style sheet, or the value of a style attribute, at offset shift.
func (r *reader) css(b []byte, shift int) {
	lexer := css.NewLexer(parse.NewInputBytes(bytes.Clone(b)))
	rule := ""  // the at-rule whose prelude is read
	block := "" // the at-rule whose block is read
	depth := 0
	late := false  // behind the first rule, where @import means nothing
	inURL := false // behind url( when the address is a string of its own
	imported := false
	for p := 0; ; {
		tok, text := lexer.Next()
		at := shift + p
		p += len(text)
		switch tok {
		case css.ErrorToken:
			return // the end, or what no browser could read either
		case css.AtKeywordToken:
			rule, imported = strings.ToLower(string(text)), false
			late = late || rule != "@import" && rule != "@charset" && rule != "@layer"
		case css.SemicolonToken:
			rule = ""
		case css.LeftBraceToken:
			if depth++; rule != "" && depth == 1 || rule == "@font-face" {
				block = rule
			}
			rule, late = "", true
		case css.RightBraceToken:
			if depth--; depth <= 0 {
				depth, block = 0, ""
			} else if block == "@font-face" {
				block = ""
			}
		case css.FunctionToken:
			name := strings.ToLower(strings.TrimSuffix(string(text), "("))
			inURL = name == "url" || name == "src" || strings.HasSuffix(name, "image-set")
		case css.RightParenthesisToken:
			inURL = false
		case css.StringToken, css.URLToken:
			inner := string(text)
			if tok == css.URLToken {
				inner = strings.TrimSpace(strings.TrimSuffix(inner[4:], ")"))
			} else if rule != "@import" && !inURL {
				continue
			}
			if rule == "@import" && (late || imported) {
				continue
			}
			imported = rule == "@import"
			r.cssURL(unquote(inner), rule, block, at)
		}
	}
}

func (r *reader) cssURL(raw, rule, block string, at int) {
	raw = unescapeCSS(raw)
	u := use{by: "CSS url()", use: markup.Loads, kind: markup.Image, certainty: Likely, offset: at}
	switch {
	case rule == "@namespace":
		return
	case rule == "@import":
		u.by, u.kind, u.certainty = "@import", markup.Style, Certain
	case block == "@font-face":
		u.by, u.kind = "@font-face url()", markup.Font
	}
	if !strings.HasPrefix(raw, "#") {
		r.add(raw, u)
	}
}

func unquote(s string) string {
	if len(s) >= 2 && (s[0] == '"' || s[0] == '\'') && s[len(s)-1] == s[0] {
		return s[1 : len(s)-1]
	}
	return s
}

// unescapeCSS decodes CSS escapes (CSS Syntax §4.3.7).
func unescapeCSS(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var out strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 >= len(s) {
			out.WriteByte(s[i])
			continue
		}
		v, n := rune(0), 0
		for i+1+n < len(s) && n < 6 {
			d := strings.IndexByte("0123456789abcdef", s[i+1+n]|0x20)
			if s[i+1+n] >= '0' && s[i+1+n] <= '9' {
				d = int(s[i+1+n] - '0')
			}
			if d < 0 {
				break
			}
			v, n = v<<4|rune(d), n+1
		}
		if n == 0 {
			i++
			out.WriteByte(s[i])
			continue
		}
		i += n
		if i+1 < len(s) && (s[i+1] == ' ' || s[i+1] == '\n' || s[i+1] == '\t') {
			i++
		}
		out.WriteRune(v)
	}
	return out.String()
}
