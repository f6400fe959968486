package markup

import (
	"bytes"
	"strings"
)

// ScriptPart is what a stretch of a script is.
type ScriptPart uint8

// The parts that WalkScript reports. Code between them is not reported.
const (
	ScriptComment   ScriptPart = iota
	ScriptString               // the text of a string, or of a template between its substitutions
	ScriptRegexp               // a regular expression, with its slashes
	ScriptSpecifier            // the string that a static import or export loads a module by
	ScriptDynamic              // the string in import("…")
)

// WalkScript goes through a script (ECMAScript §12) and reports its parts from the
// first to the last. Offsets count bytes of b; the quotes are outside of them.
// A module has no HTML-like comments; only a module has static imports.
//
// It never fails: after a syntax error it continues with the next token. A lexer cannot be
// sure whether a slash is a division or starts a regular expression; this one decides by the
// token before it and by what the preceding parenthesis or brace belongs to.
func WalkScript(b []byte, module bool, report func(part ScriptPart, start, end int)) {
	s := script{b: b, module: module, report: report, regexp: true, lineStart: true, legacy: isLegacy(b)}
	for s.p < len(b) {
		s.next()
	}
}

// script is a way through a script.
type script struct {
	b      []byte
	module bool
	report func(part ScriptPart, start, end int)
	legacy bool // in a charset in which a letter may end in a byte like a backslash

	p         int
	regexp    bool   // a slash would begin a regular expression here
	lineStart bool   // nothing but blanks and comments stands before p in its line
	word      string // the token before p, where it is a word
	dot       bool   // a dot stands before p
	open      []bracket
	clause    clause
	endless   []byte // for each place whether a regular expression goes on from there without an end: 1 outside of a class, 2 in one
}

// bracket is an open parenthesis, bracket or brace.
type bracket struct {
	kind   byte // ( [ { or ` for the brace of a template's substitution
	regexp bool // behind its end a slash begins a regular expression
}

// clause is how far an import or export has been read that may name a module.
type clause uint8

const (
	noClause  clause = iota
	afterWord        // behind import: a string is the specifier
	inClause         // behind what is imported or exported
	afterFrom        // behind from: a string is the specifier
	inCall           // behind import(
)

// beforeRegexp are the words after which a slash starts a regular expression; after any other word it divides.
var beforeRegexp = map[string]bool{"return": true, "typeof": true, "instanceof": true, "in": true, "of": true, "new": true, "delete": true,
	"void": true, "throw": true, "case": true, "do": true, "else": true, "yield": true, "await": true, "extends": true, "default": true}

// conditions are the words whose parenthesis is followed by a statement.
var conditions = map[string]bool{"if": true, "while": true, "for": true, "with": true}

// next reads one token at p.
func (s *script) next() {
	c := s.b[s.p]
	rest := s.b[s.p:]
	switch {
	case c == '\n' || c == '\r':
		s.p++
		s.lineStart = true
		return
	case isSpace(c) || c == '\v':
		s.p++
		return
	case c == '/' && bytes.HasPrefix(rest, []byte("//")):
		s.comment(s.lineEnd(s.p))
		return
	case c == '/' && bytes.HasPrefix(rest, []byte("/*")):
		end := len(s.b)
		if n := bytes.Index(rest[2:], []byte("*/")); n >= 0 {
			end = s.p + 2 + n + 2
		}
		s.lineStart = s.lineStart || bytes.IndexByte(s.b[s.p:end], '\n') >= 0
		s.comment(end)
		return
	case !s.module && (c == '<' && bytes.HasPrefix(rest, []byte("<!--")) || c == '-' && s.lineStart && bytes.HasPrefix(rest, []byte("-->"))):
		s.comment(s.lineEnd(s.p))
		return
	case c == '#' && s.p == 0 && bytes.HasPrefix(rest, []byte("#!")):
		s.comment(s.lineEnd(s.p))
		return
	}
	s.lineStart = false
	switch {
	case c == '"' || c == '\'':
		s.quoted(c)
	case c == '`':
		s.p++
		s.template()
	case c == '/' && s.regexp && s.regularExpression():
	case isName(c) && c != '.' || c >= 0x80 || c == '\\':
		s.name()
	default:
		s.punctuator(c)
	}
}

func (s *script) comment(end int) {
	s.report(ScriptComment, s.p, end)
	s.p = end
}

// lineEnd returns where the line ends that p stands in.
func (s *script) lineEnd(p int) int {
	if n := bytes.IndexAny(s.b[p:], "\n\r"); n >= 0 {
		return p + n
	}
	return len(s.b)
}

// step returns the offset after the character at p; in a legacy text it may have two bytes. p may
// be behind the end, after a backslash that is the last character.
func (s *script) step(p int) int {
	if s.legacy && p < len(s.b) && s.b[p] >= 0x81 && p+1 < len(s.b) && isTrail(s.b[p+1]) {
		return p + 2
	}
	return p + 1
}

// quoted reads a string. An unterminated one ends with its line.
func (s *script) quoted(quote byte) {
	start := s.p + 1
	p := start
	for p < len(s.b) && s.b[p] != quote && s.b[p] != '\n' {
		if s.b[p] == '\\' {
			if p++; p < len(s.b) && s.b[p] == '\r' && p+1 < len(s.b) && s.b[p+1] == '\n' {
				p++
			}
			p++
			continue
		}
		p = s.step(p)
	}
	p = min(p, len(s.b))
	part := ScriptString
	switch {
	case s.module && (s.clause == afterWord || s.clause == afterFrom):
		part = ScriptSpecifier
	case s.clause == inCall:
		part = ScriptDynamic
	}
	if s.clause != inClause { // which may name what it imports by strings
		s.clause = noClause
	}
	s.report(part, start, p)
	s.p = min(p+1, len(s.b))
	s.value()
}

// value notes that a value ends before p.
func (s *script) value() { s.regexp, s.word, s.dot = false, "", false }

// template reads the text of a template from p on, to its end or its next substitution.
func (s *script) template() {
	start := s.p
	p := start
	for p < len(s.b) && s.b[p] != '`' && (s.b[p] != '$' || p+1 == len(s.b) || s.b[p+1] != '{') {
		if s.b[p] == '\\' {
			p += 2
			continue
		}
		p = s.step(p)
	}
	p = min(p, len(s.b))
	s.report(ScriptString, start, p)
	s.clause = noClause
	if p < len(s.b) && s.b[p] == '$' {
		s.open = append(s.open, bracket{kind: '`'})
		s.p = p + 2
		s.regexp, s.word, s.dot = true, "", false
		return
	}
	s.p = min(p+1, len(s.b))
	s.value()
}

// regularExpression reads a regular expression; false: it does not end in its line, so it is a division.
func (s *script) regularExpression() bool {
	end := s.regexpEnd(false)
	if end < 0 {
		// Many slashes in one long line that begin none, as in if(a)/[if(a)/[if(a)/[…, must not each be followed to
		// its end: from the same place, in the same state, none will end.
		s.regexpEnd(true)
		return false
	}
	s.report(ScriptRegexp, s.p, end)
	for end < len(s.b) && isName(s.b[end]) && s.b[end] != '.' { // its flags
		end++
	}
	s.p = end
	s.clause = noClause
	s.value()
	return true
}

// regexpEnd returns where a regular expression at p ends, or -1. mark notes all places on the way as ones from which it does
// not end.
func (s *script) regexpEnd(mark bool) int {
	class := false
	for p := s.p + 1; p < len(s.b); p = s.step(p) {
		state := byte(1)
		if class {
			state = 2
		}
		if s.endless != nil && s.endless[p]&state != 0 {
			return -1
		}
		if mark {
			if s.endless == nil {
				s.endless = make([]byte, len(s.b))
			}
			s.endless[p] |= state
		}
		switch c := s.b[p]; {
		case c == '\n' || c == '\r':
			return -1
		case c == '\\':
			p++
		case c == '[':
			class = true
		case c == ']':
			class = false
		case c == '/' && !class:
			return p + 1
		}
	}
	return -1
}

// name reads a word or a number.
func (s *script) name() {
	start := s.p
	for s.p < len(s.b) && (isName(s.b[s.p]) && s.b[s.p] != '.' || s.b[s.p] >= 0x80 || s.b[s.p] == '\\') {
		s.p = s.step(s.p)
	}
	s.p = min(s.p, len(s.b))
	word := string(s.b[start:min(s.p, start+16)])
	if s.p-start > 16 {
		word = "long"
	}
	property := s.dot
	s.word, s.dot = word, false
	s.regexp = !property && beforeRegexp[word]
	if property {
		s.word = ""
		s.clause = noClause
		return
	}
	switch {
	case word == "import":
		s.clause = afterWord
	case word == "export":
		s.clause = inClause
	case s.clause == afterWord && s.module, s.clause == inClause, s.clause == afterFrom:
		switch s.clause = inClause; word {
		case "from":
			s.clause = afterFrom
		case "default", "function", "class", "const", "let", "var", "async":
			s.clause = noClause
		}
	default:
		s.clause = noClause
	}
	if s.clause != noClause && s.clause != afterWord && !s.module {
		s.clause = noClause
	}
}

// punctuator reads one byte that is none of the others.
func (s *script) punctuator(c byte) {
	wasClause, wasWord, wasRegexp := s.clause, s.word, s.regexp
	s.p++
	s.word, s.clause = "", noClause
	dotted := s.dot
	s.dot = c == '.'
	switch c {
	case '.':
		s.regexp = false
		if dotted { // a spread
			s.dot, s.regexp = false, true
		}
	case '(':
		s.open = append(s.open, bracket{'(', conditions[wasWord]})
		s.regexp = true
		if wasClause == afterWord && wasWord == "import" {
			s.clause = inCall
		}
	case '[':
		s.open = append(s.open, bracket{kind: '['})
		s.regexp = true
	case '{':
		// Where a value was to come it is an object, behind which a slash divides.
		object := wasRegexp && !s.statement()
		s.open = append(s.open, bracket{'{', !object})
		s.regexp = true
		s.clause = s.list(wasClause)
	case ')', ']':
		s.regexp = s.pop(c).regexp
	case '}':
		was := s.pop(c)
		if was.kind == '`' {
			s.template()
			return
		}
		s.regexp = was.regexp
		s.clause = s.list(wasClause)
	case '+', '-':
		// Behind a value ++ and -- end one too; before a value they change nothing.
		if s.p < len(s.b) && s.b[s.p] == c {
			s.p++
			s.regexp = wasRegexp
		} else {
			s.regexp = true
		}
	case ',', '*':
		s.regexp = true
		s.clause = s.list(wasClause)
	default:
		s.regexp = true
	}
}

// list is how a clause goes on behind a brace, a comma or an asterisk.
func (s *script) list(was clause) clause {
	if s.module && (was == afterWord || was == inClause || was == afterFrom) {
		return inClause
	}
	return noClause
}

// statement reports whether the brace before p begins a block, of those that stand where a
// value could: behind a semicolon, another block, a word like else, or an arrow.
func (s *script) statement() bool {
	p := s.p - 2
	for p >= 0 && (isSpace(s.b[p]) || s.b[p] == '\v') {
		p--
	}
	if p < 0 {
		return true
	}
	switch c := s.b[p]; c {
	case ';', '{', '}', ')':
		return true
	case '>':
		return p > 0 && s.b[p-1] == '='
	default:
		return isName(c) && (bytes.HasSuffix(s.b[:p+1], []byte("else")) || bytes.HasSuffix(s.b[:p+1], []byte("do")))
	}
}

// pop closes the innermost bracket that end matches. Unmatched brackets are syntax errors and ignored.
func (s *script) pop(end byte) bracket {
	start := map[byte]string{')': "(", ']': "[", '}': "{`"}[end]
	for n := len(s.open) - 1; n >= max(0, len(s.open)-maxUnclosed); n-- {
		if last := s.open[n]; strings.IndexByte(start, last.kind) >= 0 {
			s.open = s.open[:n]
			return last
		} else if last.kind == '`' {
			break // a template goes on only behind its own brace
		}
	}
	return bracket{regexp: end == '}'}
}

// isName reports whether c can stand in a word of a script, or is the dot before one.
func isName(c byte) bool { return c == '_' || c == '$' || c == '.' || isAlnum(c) }

// runs are the types of scripts that browsers run, without parameters (MIME Sniffing §4.6, HTML §4.12.1.1).
var runs = func() map[string]bool {
	m := map[string]bool{}
	for typ := range strings.FieldsSeq(`application/ecmascript application/javascript application/x-ecmascript application/x-javascript text/ecmascript text/javascript
		text/javascript1.0 text/javascript1.1 text/javascript1.2 text/javascript1.3 text/javascript1.4 text/javascript1.5 text/jscript text/livescript text/x-ecmascript text/x-javascript`) {
		m[typ] = true
	}
	return m
}()

// ScriptType tells from a script's attributes whether it is one that does not run, and
// whether it is a module (HTML §4.12.1). given: it has a type.
func ScriptType(typ, language string, given bool) (plain, module bool) {
	typ = strings.ToLower(strings.TrimSpace(typ))
	switch {
	case given && typ == "":
		return false, false
	case typ == "" && language != "":
		typ = "text/" + strings.ToLower(language)
	case typ == "":
		return false, false
	}
	switch {
	case typ == "module":
		return false, true
	case runs[typ]:
		return false, false
	}
	return true, false
}
