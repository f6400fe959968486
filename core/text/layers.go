package text

import (
	"bytes"
	"html"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// style is how a source writes what can be written in more than one way.
type style struct {
	slashes bool // JSON: \/
	lines   bool // line breaks stand as they are
	lower   bool // hexadecimal digits in lower case
}

// styleOf looks at how a source is written.
func styleOf(b []byte, l Layer) (s style) {
	if s.lines = bytes.IndexByte(b, '\n') >= 0; s.lines && layers[l].backslash {
		for p := 0; s.lines; p += 2 { // where both are, what is written anew is escaped
			i := bytes.IndexByte(b[p:], '\\')
			if i < 0 || p+i+1 >= len(b) {
				break
			}
			p += i
			s.lines = b[p+1] != 'n' && b[p+1] != 'r'
		}
	}
	switch l {
	case Script:
		for p := 0; ; p += 2 {
			i := bytes.IndexByte(b[p:], '\\')
			if i < 0 || p+i+1 >= len(b) {
				break
			}
			if p += i; b[p+1] == '/' {
				s.slashes = true
				return s
			}
		}
	case Percent, Form:
		for p := 0; ; {
			i := bytes.IndexByte(b[p:], '%')
			if i < 0 || p+i+2 >= len(b) {
				break
			}
			p += i + 1
			for _, c := range b[p : p+2] {
				if c >= 'a' && c <= 'f' {
					return style{lower: true}
				} else if c >= 'A' && c <= 'F' {
					return s
				}
			}
		}
	}
	return s
}

func isHex(c byte) bool {
	_, ok := hexDigit(c)
	return ok
}

// hexes reads n hexadecimal digits at b[at:].
func hexes(b []byte, at, n int) (v rune, ok bool) {
	if at+n > len(b) {
		return 0, false
	}
	for _, c := range b[at : at+n] {
		d, ok := hexDigit(c)
		if !ok {
			return 0, false
		}
		v = v<<4 | d
	}
	return v, true
}

func one(c byte) []byte { return []byte{c} }

// htmlEscape reads a character reference as it counts in an attribute: one without a
// semicolon does not, where a letter, a digit or = follows.
func htmlEscape(b []byte) ([]byte, int) {
	end := 1
	for end < len(b) && end < EscapeMax && (isAlnum(b[end]) || b[end] == '#' && end == 1) {
		end++
	}
	if end == 1 {
		return nil, 0
	}
	closed := end < len(b) && b[end] == ';'
	name := string(b[:end])
	if b[1] == '#' {
		return numeric(b, end)
	}
	if closed {
		if s := html.UnescapeString(name + ";"); s[0] != '&' || s == "&" {
			if !strings.HasSuffix(s, ";") || name == "&semi" {
				return []byte(s), end + 1
			}
		}
	}
	if closed || end < len(b) && b[end] == '=' {
		return nil, 0
	}
	if s := html.UnescapeString(name); (s[0] != '&' || s == "&") && utf8.RuneCountInString(s) == 1 {
		return []byte(s), end
	}
	return nil, 0
}

// numeric reads &#N or &#xN, with or without a semicolon.
func numeric(b []byte, end int) ([]byte, int) {
	p := 2
	is := func(c byte) bool { return c >= '0' && c <= '9' }
	if p < len(b) && b[p]|0x20 == 'x' {
		p, is = 3, isHex
	}
	digits := p
	for digits < end && is(b[digits]) {
		digits++
	}
	if digits == p {
		return nil, 0
	}
	s := html.UnescapeString("&" + string(b[1:digits]) + ";")
	if digits < len(b) && b[digits] == ';' {
		digits++
	}
	return []byte(s), digits
}

func htmlWrite(dst []byte, c byte, _ *style) []byte {
	switch c {
	case '&':
		return append(dst, "&amp;"...)
	case '<':
		return append(dst, "&lt;"...)
	case '>':
		return append(dst, "&gt;"...)
	case '"':
		return append(dst, "&quot;"...)
	case '\'':
		return append(dst, "&#039;"...)
	}
	return append(dst, c)
}

func percentEscape(b []byte) ([]byte, int) {
	v, ok := hexes(b, 1, 2)
	if !ok {
		return nil, 0
	}
	return one(byte(v)), 3
}

func percentWrite(dst []byte, c byte, like *style) []byte {
	if isAlnum(c) || c == '-' || c == '.' || c == '_' || c == '~' {
		return append(dst, c)
	}
	digits := "0123456789ABCDEF"
	if like.lower {
		digits = "0123456789abcdef"
	}
	return append(dst, '%', digits[c>>4], digits[c&15])
}

func formEscape(b []byte) ([]byte, int) {
	if b[0] == '+' {
		return one(' '), 1
	}
	return percentEscape(b)
}

func formWrite(dst []byte, c byte, like *style) []byte {
	if c == ' ' {
		return append(dst, '+')
	}
	return percentWrite(dst, c, like)
}

// controls are what JSON, JavaScript and PHP write as a letter.
var controls = map[byte]byte{'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t', 'v': '\v'}

func scriptEscape(b []byte) ([]byte, int) {
	if len(b) < 2 {
		return nil, 0
	}
	switch c := b[1]; c {
	case 'u':
		if v, n := codePoint(b); n > 0 {
			return utf8.AppendRune(nil, v), n
		}
	case 'x':
		if v, ok := hexes(b, 2, 2); ok {
			return utf8.AppendRune(nil, v), 4
		}
	case '0':
		return one(0), 2
	case '\n':
		return nil, 2 // a line that goes on
	default:
		if t, ok := controls[c]; ok {
			return one(t), 2
		}
	}
	return b[1:2], 2
}

// codePoint reads \uXXXX, a pair of surrogates, or \u{X}.
func codePoint(b []byte) (rune, int) {
	if len(b) > 2 && b[2] == '{' {
		p, v := 3, rune(0)
		for ; p < len(b) && p < 10 && isHex(b[p]); p++ {
			d, _ := hexDigit(b[p])
			v = v<<4 | d
		}
		if p == 3 || p >= len(b) || b[p] != '}' {
			return 0, 0
		}
		return v, p + 1
	}
	v, ok := hexes(b, 2, 4)
	if !ok {
		return 0, 0
	}
	if utf16.IsSurrogate(v) && len(b) >= 12 && b[6] == '\\' && b[7] == 'u' {
		if low, ok := hexes(b, 8, 4); ok {
			if pair := utf16.DecodeRune(v, low); pair != utf8.RuneError {
				return pair, 12
			}
		}
	}
	return v, 6
}

func scriptWrite(dst []byte, c byte, like *style) []byte {
	switch {
	case c == '"' || c == '\\' || c == '/' && like.slashes:
		return append(dst, '\\', c)
	case like.lines && (c == '\n' || c == '\r'):
	case c == '\n':
		return append(dst, `\n`...)
	case c == '\r':
		return append(dst, `\r`...)
	case c < ' ' || c == '\'':
		const digits = "0123456789abcdef"
		return append(dst, '\\', 'u', '0', '0', digits[c>>4], digits[c&15])
	}
	return append(dst, c)
}

// sqlEscape reads what MySQL does (its manual, "String Literals").
func sqlEscape(b []byte) ([]byte, int) {
	if len(b) < 2 {
		return nil, 0
	}
	switch c := b[1]; c {
	case '0':
		return one(0), 2
	case 'Z':
		return one(26), 2
	case 'b', 'n', 'r', 't':
		return one(controls[c]), 2
	case '%', '_':
		return nil, 0
	}
	return b[1:2], 2
}

func sqlWrite(dst []byte, c byte, like *style) []byte {
	if like.lines && (c == '\n' || c == '\r') {
		return append(dst, c)
	}
	switch c {
	case 0:
		return append(dst, `\0`...)
	case '\n':
		return append(dst, `\n`...)
	case '\r':
		return append(dst, `\r`...)
	case 26:
		return append(dst, `\Z`...)
	case '\'', '"', '\\':
		return append(dst, '\\', c)
	}
	return append(dst, c)
}

func slashesEscape(b []byte) ([]byte, int) {
	if len(b) < 2 {
		return nil, 0
	}
	if b[1] == '0' {
		return one(0), 2
	}
	return b[1:2], 2
}

func slashesWrite(dst []byte, c byte, _ *style) []byte {
	switch c {
	case 0:
		return append(dst, `\0`...)
	case '\'', '"', '\\':
		return append(dst, '\\', c)
	}
	return append(dst, c)
}

// phpEscape reads what PHP does in double quotes.
func phpEscape(b []byte) ([]byte, int) {
	if len(b) < 2 {
		return nil, 0
	}
	switch c := b[1]; {
	case c == '"' || c == '\\' || c == '$':
		return b[1:2], 2
	case c == 'e':
		return one(27), 2
	case c == 'n' || c == 'r' || c == 't' || c == 'v' || c == 'f':
		return one(controls[c]), 2
	case c == '0': // octal digits are for characters that nobody writes so
		return one(0), 2
	case c == 'x' && len(b) > 2 && isHex(b[2]):
		v, n := rune(0), 2
		for ; n < len(b) && n < 4 && isHex(b[n]); n++ {
			d, _ := hexDigit(b[n])
			v = v<<4 | d
		}
		return one(byte(v)), n
	case c == 'u' && len(b) > 2 && b[2] == '{':
		if v, n := codePoint(b); n > 0 {
			return utf8.AppendRune(nil, v), n
		}
	}
	return nil, 0
}

func phpWrite(dst []byte, c byte, like *style) []byte {
	switch {
	case c == '"' || c == '\\' || c == '$':
		return append(dst, '\\', c)
	case c == '\n' && !like.lines: // as JSON and SQL have it too
		return append(dst, `\n`...)
	case c == '\r' && !like.lines:
		return append(dst, `\r`...)
	case c == '\n' || c == '\r':
		return append(dst, c)
	case c < ' ':
		const digits = "0123456789abcdef"
		return append(dst, '\\', 'x', digits[c>>4], digits[c&15])
	}
	return append(dst, c)
}

func singleEscape(b []byte) ([]byte, int) {
	if len(b) < 2 || b[1] != '\'' && b[1] != '\\' {
		return nil, 0
	}
	return b[1:2], 2
}

func singleWrite(dst []byte, c byte, _ *style) []byte {
	if c == '\'' || c == '\\' {
		dst = append(dst, '\\')
	}
	return append(dst, c)
}

func doubledEscape(b []byte) ([]byte, int) {
	if len(b) < 2 || b[1] != '\'' {
		return nil, 0
	}
	return b[:1], 2
}

func doubledWrite(dst []byte, c byte, _ *style) []byte {
	if c == '\'' {
		dst = append(dst, c)
	}
	return append(dst, c)
}

// sheetEscape reads up to six hexadecimal digits and one white space, or the
// character itself.
func sheetEscape(b []byte) ([]byte, int) {
	v, n := rune(0), 1
	for ; n < len(b) && n < 7 && isHex(b[n]); n++ {
		d, _ := hexDigit(b[n])
		v = v<<4 | d
	}
	if n == 1 {
		if len(b) < 2 {
			return nil, 0
		}
		if b[1] == '\n' {
			return nil, 2
		}
		return b[1:2], 2
	}
	if n < len(b) && (b[n] == ' ' || b[n] == '\t' || b[n] == '\n') {
		n++
	}
	return utf8.AppendRune(nil, v), n
}

func sheetWrite(dst []byte, c byte, _ *style) []byte {
	if isAlnum(c) || c == '-' || c == '_' || c >= utf8.RuneSelf {
		return append(dst, c)
	}
	const digits = "0123456789abcdef"
	return append(dst, '\\', digits[c>>4], digits[c&15], ' ')
}

func cellEscape(b []byte) ([]byte, int) {
	if len(b) < 2 || b[1] != '"' {
		return nil, 0
	}
	return b[:1], 2
}

func cellWrite(dst []byte, c byte, _ *style) []byte {
	if c == '"' {
		dst = append(dst, c)
	}
	return append(dst, c)
}

// quotedEscape reads a byte as two hexadecimal digits, or a soft line break, which is dropped.
func quotedEscape(b []byte) ([]byte, int) {
	switch {
	case len(b) > 1 && b[1] == '\n':
		return nil, 2
	case len(b) > 2 && b[1] == '\r' && b[2] == '\n':
		return nil, 3
	case len(b) > 2 && isHex(b[1]) && isHex(b[2]):
		high, _ := hexDigit(b[1])
		low, _ := hexDigit(b[2])
		return []byte{byte(high<<4 | low)}, 3
	}
	return nil, 0
}

func quotedWrite(dst []byte, c byte, _ *style) []byte {
	if c == '=' || c >= 0x7f || c < ' ' && c != '\t' && c != '\r' && c != '\n' {
		const digits = "0123456789ABCDEF"
		return append(dst, '=', digits[c>>4], digits[c&15])
	}
	return append(dst, c)
}

// foldedEscape reads a line break and the blank after it, which are dropped.
func foldedEscape(b []byte) ([]byte, int) {
	n := 1
	if b[0] == '\r' {
		if len(b) < 2 || b[1] != '\n' {
			return nil, 0
		}
		n = 2
	}
	if n < len(b) && (b[n] == ' ' || b[n] == '\t') {
		return nil, n + 1
	}
	return nil, 0
}

func foldedWrite(dst []byte, c byte, _ *style) []byte { return append(dst, c) }
