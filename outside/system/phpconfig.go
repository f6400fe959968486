package system

import (
	"errors"
	"io/fs"
	"path/filepath"
	"strings"

	"trimlantern/outside/disk"
)

// maxConfig bounds a system's configuration file, maxIncluded how many files it is read from.
const (
	maxConfig   = 4 << 20
	maxIncluded = 16
)

// How says in which way a configuration sets something. Only what it sets literally is known without
// running it.
type How uint8

// The ways.
const (
	Literally     How = iota
	Computed          // by an expression
	Conditionally     // only sometimes, or to different values
	Possibly          // by code whose effect only running it would tell
)

// Words returns the way as the end of a sentence.
func (h How) Words() string {
	return [...]string{"set", "set by an expression", "set conditionally", "perhaps set by code whose effect only running it would tell"}[h]
}

// Setting is one constant or variable that a configuration sets.
type Setting struct {
	Value string // of an expression what is known of its beginning; of several values the first
	How   How
	File  string
	Line  int
}

// dark is the name under which a place is kept that may set anything:
//
//	require getenv('MORE');
//	foreach ($all as $name => $value) define($name, $value);
//	call_user_func('define', …), eval(…)
const dark = "anything"

// ReadPHP reads what a PHP configuration sets, by reading its tokens and never by running it:
// define('NAME', 'value'), const and $name = 'value', also from parts, and in the files that it includes by
// a name that can be told. Names of variables keep their dollar sign. The first setting of a name counts
// for constants, as in PHP, and the last for variables. Reading ends where the file named end is included:
// there the system begins.
func ReadPHP(file, end string) (map[string]Setting, error) {
	b, err := disk.Read(file, maxConfig)
	if err != nil {
		return nil, err
	}
	abs, err := filepath.Abs(file)
	if err != nil {
		return nil, err
	}
	p := &phpReader{set: map[string]Setting{}, end: end, names: map[string]string{abs: file}}
	p.file(abs, string(b), false)
	return p.set, nil
}

// phpReader reads the files of one configuration.
type phpReader struct {
	set   map[string]Setting
	end   string
	names map[string]string // the files that were read: as they are named in results
	done  bool              // the system begins, or PHP ends
}

// phpFrame is one surrounding of a statement.
type phpFrame struct {
	kind  byte   // '{' a block, ':' one that ends with a word, ';' a single statement
	cond  bool   // it runs only sometimes
	guard string // or only where this constant is not set yet
}

// phpFile is one file while it is read.
type phpFile struct {
	*phpReader
	abs    string
	tokens []phpToken
	frames []phpFrame
	below  bool // it is itself included conditionally
	at     int  // the token that is read

	closes map[int]int // where brackets are closed that open at a token
	depth  int         // of the expression that is read
}

func (p *phpReader) file(abs, src string, below bool) {
	f := &phpFile{phpReader: p, abs: abs, tokens: phpTokens(src), below: below}
	for f.at = 0; f.at < len(f.tokens) && !p.done; f.at++ {
		f.token()
	}
}

func (f *phpFile) get(i int) phpToken {
	if i >= 0 && i < len(f.tokens) {
		return f.tokens[i]
	}
	return phpToken{kind: phpMark}
}

func (f *phpFile) isMark(i int, c string) bool {
	return f.get(i).kind == phpMark && f.get(i).text == c
}

func (f *phpFile) isWord(i int, words ...string) bool {
	if f.get(i).kind != phpWord {
		return false
	}
	for _, w := range words {
		if strings.EqualFold(strings.TrimPrefix(f.get(i).text, `\`), w) {
			return true
		}
	}
	return false
}

// token reads one token of a statement, and all that belongs to it.
func (f *phpFile) token() {
	i := f.at
	switch t := f.get(i); {
	case f.isMark(i, "{"):
		f.push(phpFrame{kind: '{'})
	case f.isMark(i, "}"):
		f.pop('{')
	case f.isMark(i, ";"):
		f.popSingles()
	case f.isWord(i, "if", "elseif", "while", "for", "foreach", "switch"):
		f.branch(i)
	case f.isWord(i, "else", "do", "try", "catch", "finally", "function", "class", "trait", "interface"):
		f.otherBranch(i)
	case f.isWord(i, "endif", "endwhile", "endfor", "endforeach", "endswitch"):
		f.pop(':')
	case f.defines(i):
	case f.isWord(i, "const") && f.get(i+1).kind == phpWord && f.isMark(i+2, "="):
		name := f.get(i + 1).text
		value, how, next := f.expression(i+3, ";,")
		f.constant(name, Setting{value, how, f.names[f.abs], t.line}, f.when(name))
		f.at = next - 1
	case t.kind == phpVariable && f.isMark(i+1, "=") && !f.isMark(i+2, "=") && !f.isMark(i+2, ">"):
		value, how, next := f.expression(i+2, ";),")
		f.variable(t.text, Setting{value, how, f.names[f.abs], t.line}, f.when(""))
		for f.at = i + 2; f.at < next; f.at++ { // what it is set to may set something too
			f.defines(f.at)
		}
		f.at = next - 1
	case t.kind == phpVariable && f.get(i+1).kind == phpMark && f.isMark(i+2, "=") && strings.Contains(".?+*-", f.get(i+1).text):
		f.variable(t.text, Setting{"", Computed, f.names[f.abs], t.line}, false)
	case f.isWord(i, "include", "include_once", "require", "require_once"):
		f.include(i)
	case f.isWord(i, "return", "exit", "die") && !f.when(""):
		f.at = len(f.tokens) // what follows does not run
		f.done = f.done || !f.isWord(i, "return")
	}
}

// defines reads a call at token i that sets a constant, to its value, and reports whether there is one. One whose name is
// computed, and code that is made when it runs, may set anything.
func (f *phpFile) defines(i int) bool {
	t := f.get(i)
	switch {
	case f.isWord(i, "define") && f.isMark(i+1, "("):
		name, known, comma := f.expression(i+2, ",")
		if known != Literally || !f.isMark(comma, ",") {
			f.set[dark] = Setting{"", Possibly, f.names[f.abs], t.line}
			return true
		}
		value, how, next := f.expression(comma+1, ",)")
		f.constant(name, Setting{value, how, f.names[f.abs], t.line}, f.when(name) || f.chained(i, name))
		f.at = next - 1
	case f.isWord(i, "eval"), t.kind == phpString && strings.EqualFold(strings.TrimPrefix(t.text, `\`), "define"):
		f.set[dark] = Setting{"", Possibly, f.names[f.abs], t.line}
	default:
		return false
	}
	return true
}

func (f *phpFile) push(one phpFrame) { f.frames = append(f.frames, one) }

// pop ends the innermost surrounding of a kind, and the single statements that it was.
func (f *phpFile) pop(kind byte) {
	for len(f.frames) > 0 {
		last := f.frames[len(f.frames)-1]
		f.frames = f.frames[:len(f.frames)-1]
		if last.kind == kind {
			break
		}
	}
	f.popSingles()
}

func (f *phpFile) popSingles() {
	for len(f.frames) > 0 && f.frames[len(f.frames)-1].kind == ';' {
		f.frames = f.frames[:len(f.frames)-1]
	}
}

// when reports whether a statement runs only sometimes. A condition that name is not set yet is none for
// setting it.
func (f *phpFile) when(name string) bool {
	for _, one := range f.frames {
		if one.cond && (name == "" || one.guard != name) {
			return true
		}
	}
	return f.below
}

// branch opens the surrounding of a condition or loop.
func (f *phpFile) branch(i int) {
	if !f.isMark(i+1, "(") {
		return
	}
	end := f.closing(i + 1)
	one := phpFrame{cond: true}
	if f.isMark(i+2, "!") && f.isWord(i+3, "defined") && f.isMark(i+4, "(") && f.get(i+5).kind == phpString && f.isMark(i+6, ")") && end == i+7 {
		one.guard = f.get(i + 5).text
	}
	f.scan(i+2, end)
	f.open(end+1, one)
}

// scan reads what stands in the brackets of a condition: it may set variables.
func (f *phpFile) scan(from, to int) {
	for k := from; k < to; k++ {
		if t := f.get(k); t.kind == phpVariable && f.isMark(k+1, "=") && !f.isMark(k+2, "=") && !f.isMark(k-1, "=") && !f.isMark(k-1, "!") {
			f.variable(t.text, Setting{"", Computed, f.names[f.abs], t.line}, false)
		}
	}
}

// otherBranch opens the surrounding of a branch without a condition of its own, or of what runs only when it
// is called.
func (f *phpFile) otherBranch(i int) {
	k := i + 1
	switch {
	case f.isWord(i, "else") && f.isMark(k, ":"):
		f.at = k // the surrounding that is open goes on to its end
		return
	case f.isMark(i-1, ":"): // Name::class
		return
	case !f.isWord(i, "else", "do", "try", "finally"):
		for k < len(f.tokens) && !f.isMark(k, "{") && !f.isMark(k, ";") {
			if f.isMark(k, "(") {
				k = f.closing(k)
			}
			k++
		}
	}
	f.open(k, phpFrame{cond: true})
}

// open opens a surrounding that begins at token k.
func (f *phpFile) open(k int, one phpFrame) {
	switch {
	case f.isMark(k, "{"):
		one.kind = '{'
		f.at = k
	case f.isMark(k, ":"):
		one.kind = ':'
		f.at = k
	default:
		one.kind = ';'
		f.at = k - 1
	}
	f.push(one)
}

// closing returns where the bracket that opens at token i is closed.
func (f *phpFile) closing(i int) int {
	if f.closes == nil {
		f.closes = map[int]int{}
		var open []int
		for k, t := range f.tokens {
			switch {
			case t.kind != phpMark:
			case t.text == "(" || t.text == "[" || t.text == "{":
				open = append(open, k)
			case len(open) > 0 && (t.text == ")" || t.text == "]" || t.text == "}"):
				f.closes[open[len(open)-1]] = k
				open = open[:len(open)-1]
			}
		}
	}
	if k, ok := f.closes[i]; ok {
		return k
	}
	return len(f.tokens)
}

// chained reports whether a define hangs on something that stands before it in the same statement, other than
// on whether it is set already: defined('A') || define('A', …).
func (f *phpFile) chained(i int, name string) bool {
	k := i - 1
	switch {
	case f.isWord(k, "or"):
		k--
	case f.isMark(k, "|") && f.isMark(k-1, "|"):
		k -= 2
	case f.isWord(k, "and", "xor"), f.isMark(k, "&"), f.isMark(k, "?"), f.isMark(k, ":") && !f.inAlternative():
		return true
	default:
		return false
	}
	return !(f.isMark(k, ")") && f.get(k-1).kind == phpString && f.get(k-1).text == name && f.isMark(k-2, "(") && f.isWord(k-3, "defined"))
}

// inAlternative reports whether the innermost surrounding was opened with a colon.
func (f *phpFile) inAlternative() bool {
	return len(f.frames) > 0 && f.frames[len(f.frames)-1].kind == ':'
}

// constant keeps the first setting of a constant.
func (f *phpFile) constant(name string, s Setting, cond bool) {
	if cond {
		s.How = Conditionally
	}
	before, ok := f.set[name]
	switch {
	case !ok:
		if _, hidden := f.set[dark]; hidden && f.guarded(name) {
			s.How = Conditionally // the file that cannot be told may have set it
		}
		f.set[name] = s
	case before.How == Conditionally && strings.HasPrefix(s.Value, "http:") && !strings.HasPrefix(before.Value, "http:"):
		before.Value = s.Value // the insecure one of several is what matters
		f.set[name] = before
	}
}

func (f *phpFile) guarded(name string) bool {
	for _, one := range f.frames {
		if one.guard == name {
			return true
		}
	}
	return false
}

// variable keeps the last setting of a variable.
func (f *phpFile) variable(name string, s Setting, cond bool) {
	if cond {
		s.How = Conditionally
	}
	f.set[name] = s
}

// include reads the file that is included at token i.
func (f *phpFile) include(i int) {
	path, how, next := f.expression(i+1, ";")
	line := f.get(i).line
	f.at = next - 1
	if how != Literally {
		if f.end != "" && f.mentions(i+1, next, f.end) {
			f.done = true
			return
		}
		f.set[dark] = Setting{"", how, f.names[f.abs], line}
		return
	}
	if f.end != "" && filepath.Base(path) == f.end {
		f.done = true
		return
	}
	whole := filepath.IsAbs(path)
	if !whole {
		path = filepath.Join(filepath.Dir(f.abs), path)
	}
	path = filepath.Clean(path)
	if _, twice := f.names[path]; twice || len(f.names) >= maxIncluded {
		return
	}
	b, err := disk.Read(path, maxConfig)
	if whole && errors.Is(err, fs.ErrNotExist) {
		return
	}
	if err != nil { // one that is not there, or not for us, may set anything
		f.set[dark] = Setting{"", Conditionally, f.names[f.abs], line}
		return
	}
	f.names[path] = path
	f.file(path, string(b), f.when(""))
}

func (f *phpFile) mentions(from, to int, name string) bool {
	for k := from; k < to; k++ {
		if t := f.get(k); t.kind == phpString && filepath.Base(t.text) == name {
			return true
		}
	}
	return false
}

// maxNested bounds how deep in brackets an expression is read: ((((…'http://'…)))) is computed, whatever is in it.
const maxNested = 50

// expression reads an expression from token i on, to one of the marks in stop that stands outside of
// brackets, and returns its value, or what is known of its beginning, and where it stops.
func (f *phpFile) expression(i int, stop string) (value string, how How, next int) {
	next = f.stop(i, stop)
	if f.depth >= maxNested {
		return "", Computed, next
	}
	f.depth++
	defer func() { f.depth-- }()
	value, how, k := f.term(i, next)
	for k < next && f.isMark(k, ".") {
		more, also, after := f.term(k+1, next)
		if how == Literally {
			value += more
			how = also
		}
		k = after
	}
	if k != next && how == Literally { // something else follows: a comparison, a fallback
		how = Computed
	}
	return value, how, next
}

func (f *phpFile) stop(i int, stop string) int {
	for k := i; k < len(f.tokens); k++ {
		t := f.get(k)
		if t.kind != phpMark {
			continue
		}
		switch {
		case strings.Contains(stop, t.text):
			return k
		case t.text == "(" || t.text == "[" || t.text == "{":
			k = f.closing(k)
		case t.text == ")" || t.text == ";":
			return k
		}
	}
	return len(f.tokens)
}

// term reads one part of an expression: a literal, a constant or variable that is known, the file's folder,
// something in brackets.
func (f *phpFile) term(i, end int) (value string, how How, next int) {
	t := f.get(i)
	switch {
	case i >= end:
		return "", Computed, end
	case t.kind == phpString:
		if t.open {
			return t.text, Computed, i + 1
		}
		return t.text, Literally, i + 1
	case t.kind == phpNumber:
		return t.text, Literally, i + 1
	case t.kind == phpVariable && (f.isMark(i+1, "[") || f.isMark(i+1, "-")):
		return "", Computed, end
	case t.kind == phpVariable:
		if s, ok := f.set[t.text]; ok {
			return s.Value, s.How, i + 1
		}
		return "", Computed, i + 1
	case f.isMark(i, "("):
		close := f.closing(i)
		value, how, _ = f.expression(i+1, ")")
		return value, how, close + 1
	case f.isWord(i, "dirname") && f.isMark(i+1, "("):
		close := f.closing(i + 1)
		inside, how, k := f.expression(i+2, ",)")
		up := 1
		if n := f.get(k + 1); f.isMark(k, ",") && n.kind == phpNumber && len(n.text) == 1 {
			up = int(n.text[0] - '0')
		}
		for range up {
			inside = filepath.Dir(inside)
		}
		return inside, how, close + 1
	case f.isWord(i, "__DIR__"):
		return filepath.Dir(f.abs), Literally, i + 1
	case f.isWord(i, "__FILE__"):
		return f.abs, Literally, i + 1
	case f.isWord(i, "true", "false", "null") && !f.isMark(i+1, "("):
		return t.text, Literally, i + 1
	case t.kind == phpWord && !f.isMark(i+1, "("):
		if s, ok := f.set[strings.TrimPrefix(t.text, `\`)]; ok {
			return s.Value, s.How, i + 1
		}
	}
	return "", Computed, end
}
