package markup

import (
	"bytes"
	"slices"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"

	"trimlantern/core/text"
)

// StyleURL is one URL of a style sheet that a browser loads.
type StyleURL struct {
	Start, End  int    // of what stands between the quotes or parentheses, escapes and all
	By          string // "@import", "@font-face url()" or "CSS url()"
	Kind        Kind
	Conditional bool // it is loaded only where a rule matches, a font is used, or a test holds
}

// WalkCSS reports, in order, each URL that a style sheet or a style attribute loads (CSS Syntax;
// CSS Cascade §6.4.4 for @import; CSS Images §2.4 for image-set). It does not report other
// strings, comments, namespaces, or an @import in a place where CSS ignores it. Offsets count
// bytes of b.
func WalkCSS(b []byte, report func(StyleURL)) {
	source := masked(b)
	w := sheet{b: source, lexer: css.NewLexer(parse.NewInputBytes(source)), report: report}
	for w.next() {
	}
	w.flush()
}

// sheet is a way through a style sheet.
type sheet struct {
	b      []byte
	lexer  *css.Lexer
	report func(StyleURL)

	p         int
	rule      string     // the at-rule whose prelude is read
	blocks    []string   // the at-rules, or "", whose blocks are open
	functions []string   // the open functions and parentheses
	late      bool       // behind the first rule, where @import means nothing
	imports   []StyleURL // of the @import that is read: none or one
}

// next reads one token; false: there are no more.
func (w *sheet) next() bool {
	tok, raw := w.lexer.Next()
	start := w.p
	w.p += len(raw)
	switch tok {
	case css.ErrorToken:
		return false
	case css.AtKeywordToken:
		w.flush()
		w.rule = plainCSS(raw[1:])
		w.late = w.late || w.rule != "import" && w.rule != "charset" && w.rule != "layer"
	case css.SemicolonToken:
		w.flush()
		w.rule, w.functions = "", nil
	case css.LeftBraceToken:
		w.imports = nil // an @import with a block is invalid
		w.blocks = append(w.blocks, w.rule)
		w.rule, w.functions, w.late = "", nil, true
	case css.RightBraceToken:
		w.rule, w.functions = "", nil
		if n := len(w.blocks); n > 0 {
			w.blocks = w.blocks[:n-1]
		}
	case css.FunctionToken:
		name := plainCSS(bytes.TrimSuffix(raw, []byte("(")))
		if name == "supports" && len(w.imports) > 0 {
			w.imports[0].Conditional = true
		}
		w.functions = append(w.functions, name)
		if name == "url" { // with escapes in its name, which the lexer does not recognise
			w.escapedURL()
		}
	case css.LeftParenthesisToken:
		w.functions = append(w.functions, "")
	case css.RightParenthesisToken:
		if n := len(w.functions); n > 0 {
			w.functions = w.functions[:n-1]
		}
	case css.StringToken:
		if n := len(raw); n > 1 && raw[n-1] == raw[0] {
			w.url(start+1, start+n-1, false)
		}
	case css.URLToken:
		open := bytes.IndexByte(raw, '(') + 1
		inner := bytes.TrimSuffix(raw[open:], []byte(")"))
		from := start + open + len(inner) - len(bytes.TrimLeft(inner, " \t\r\n\f"))
		inner = bytes.Trim(inner, " \t\r\n\f")
		if n := len(inner); n > 1 && (inner[0] == '"' || inner[0] == '\'') && inner[n-1] == inner[0] {
			from, inner = from+1, inner[1:n-1]
		}
		w.url(from, from+len(inner), true)
	}
	return true
}

// escapedURL reads what stands behind a url( whose name has escapes, unless it is a string.
func (w *sheet) escapedURL() {
	rest := w.b[w.p:]
	n := bytes.IndexByte(rest, ')')
	inner := bytes.TrimLeft(rest[:max(n, 0)], " \t\r\n\f")
	if len(inner) == 0 || inner[0] == '"' || inner[0] == '\'' {
		return
	}
	from := w.p + n - len(inner)
	w.url(from, from+len(bytes.TrimRight(inner, " \t\r\n\f")), true)
	w.p += n
	w.lexer = css.NewLexer(parse.NewInputBytes(w.b[w.p:]))
}

// url looks at a string, or at what stands in url().
func (w *sheet) url(start, end int, function bool) {
	inside := ""
	if n := len(w.functions); n > 0 {
		inside = w.functions[n-1]
	}
	switch {
	case w.rule == "import":
		if !w.late && len(w.imports) == 0 && inside == "" && len(w.blocks) == 0 {
			w.imports = append(w.imports, StyleURL{Start: start, End: end, By: "@import", Kind: Style})
		}
	case w.rule == "namespace" || w.rule == "charset":
	case !function && inside != "url" && inside != "src" && !strings.HasSuffix(inside, "image-set"):
	case slices.Contains(w.blocks, "font-face"):
		w.report(StyleURL{start, end, "@font-face url()", Font, true})
	default:
		w.report(StyleURL{start, end, "CSS url()", Image, true})
	}
}

// flush reports the @import that was read.
func (w *sheet) flush() {
	for _, u := range w.imports {
		w.report(u)
	}
	w.imports = nil
}

// plainCSS returns a name of a style sheet without escapes, in lower case.
func plainCSS(b []byte) string {
	if bytes.IndexByte(b, '\\') >= 0 {
		b = text.Decode(b, text.Sheet)
	}
	return strings.ToLower(string(b))
}
