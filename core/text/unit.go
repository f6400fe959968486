package text

import (
	"html"
	"strings"
	"unicode/utf8"

	"trimlantern/core/seek"
)

// Spelling is the set of ways in which a character is written. Zero is plain.
type Spelling uint8

// The spellings. They combine: `http%3A\/\/` is Percented|Backslash.
const (
	Backslash Spelling = 1 << iota // JSON and JavaScript: \/ \\\/ \u002f \x2f, and CSS: \: \3a
	Percented                      // %3A %253A …
	Entity                         // &#58; &#x3a; &colon; &amp;#58; …
)

// String names the spelling, "plain" or a combination like "percent+backslash".
func (s Spelling) String() string {
	if s == 0 {
		return "plain"
	}
	var names []string
	for _, row := range spellings {
		if s&row.bit != 0 {
			names = append(names, row.name)
		}
	}
	return strings.Join(names, "+")
}

// spelling is one way of writing a character: the byte that opens an escape, and
// what reads the rest of it. A reader gets the position behind the opening byte and
// returns the character that the escape stands for and the position behind it, or
// ok == false where the opening byte stands for itself.
type spelling struct {
	name   string
	bit    Spelling
	opener byte
	read   func(b []byte, p, limit int) (c rune, end int, ok bool)
}

// spellings is the one table of spellings. What looks for references, in the plain and in
// base64, is made from it by spell: a row is all that a new one needs.
var spellings []spelling

// What is made from the table of spellings.
var (
	escapes [256]*spelling
	// Ends finds where a scheme may end: the last two letters of one, or the last two digits of
	// its last letter, and what can begin a colon or end that letter.
	Ends *seek.Triples
	// EndTriples are the same three bytes, each of them.
	EndTriples []string
)

func init() { // not an initializer: the readers use the table themselves
	spell([]spelling{
		{"percent", Percented, '%', readPercent},
		{"entity", Entity, '&', readEntity},
		{"backslash", Backslash, '\\', readBackslash},
	})
}

// AddSpelling adds a spelling for the whole program, until the function that it returns is called:
// what opens an escape, and what reads the rest of it, from behind the opening byte up to limit. It must not
// be called while a text is read.
func AddSpelling(name string, opener byte, read func(b []byte, p, limit int) (c rune, end int, ok bool)) (remove func()) {
	old := spellings
	spell(append(append([]spelling(nil), old...), spelling{name, 1 << len(old), opener, read}))
	return func() { spell(old) }
}

// spell takes a table of spellings.
func spell(table []spelling) {
	spellings, escapes = table, [256]*spelling{}
	third := ":"
	for i := range table {
		escapes[table[i].opener] = &table[i]
		third += string(table[i].opener)
	}
	// p and s, and what their numbers end on: 70 73 50 53 in hexadecimal digits, 112 115 80
	// 83 in decimal ones.
	classes := []seek.Class{{First: "tT", Second: "pP"}, {First: "wW", Second: "sS"}, {First: "57", Second: "03"}, {First: "1", Second: "25"}, {First: "8", Second: "03"}}
	third += "; }"
	Ends = seek.NewTriples(classes, third)
	EndTriples = nil
	for i, c := range classes {
		follow := third
		if i < 2 {
			follow = third[:len(third)-3]
		}
		for _, x := range []byte(c.First) {
			for _, y := range []byte(c.Second) {
				for _, z := range []byte(follow) {
					EndTriples = append(EndTriples, string([]byte{x, y, z}))
				}
			}
		}
	}
}

// Opens reports whether an escape can begin with c.
func Opens(c byte) bool { return escapes[c] != nil }

// unitMax bounds how many bytes one character may take in all its layers of
// escaping, so that hostile input costs no more than its length.
const unitMax = 96

// Unit reads the one character at b[p], through any depth of escaping. It
// returns the character, the position behind it and the spellings it was
// written in. p must be inside b.
func Unit(b []byte, p int) (c rune, end int, how Spelling) {
	if c := b[p]; c < utf8.RuneSelf && escapes[c] == nil {
		return rune(c), p + 1, 0
	}
	c, end, how = unitWithin(b, p, min(len(b), p+unitMax))
	if how&Percented != 0 && c >= 0xc2 && c <= 0xf4 { // a byte of UTF-8, and the others follow
		return utf8Unit(b, c, end, how)
	}
	return c, end, how
}

// utf8Unit reads the other bytes of a character in UTF-8, each percent-encoded.
func utf8Unit(b []byte, c rune, end int, how Spelling) (rune, int, Spelling) {
	var buf [4]byte
	buf[0] = byte(c)
	n, p := 1, end
	for n < 4 && p < len(b) && !utf8.FullRune(buf[:n]) {
		next, q, h := unitWithin(b, p, min(len(b), p+unitMax))
		if h&Percented == 0 || next < 0x80 || next > 0xbf {
			break
		}
		buf[n] = byte(next)
		n, p = n+1, q
	}
	if r, size := utf8.DecodeRune(buf[:n]); r != utf8.RuneError && size == n {
		return r, p, how
	}
	return c, end, how
}

func unitWithin(b []byte, p, limit int) (c rune, end int, how Spelling) {
	if b[p] < utf8.RuneSelf {
		c, end = rune(b[p]), p+1
	} else {
		var n int
		c, n = utf8.DecodeRune(b[p:])
		return c, p + n, 0
	}
	// What one layer gives may open the next: %2525 → %25 → %.
	for c < utf8.RuneSelf && escapes[c] != nil && end < limit {
		row := escapes[c]
		c2, end2, ok := row.read(b, end, limit)
		if !ok {
			break
		}
		how |= row.bit
		c, end = c2, end2
	}
	return c, end, how
}

// backMax is how far back the writing of one character may begin.
const backMax = 32

// Before returns the character whose writing ends at p, and where that begins. ok
// == false: nothing stands before p.
func Before(b []byte, p int) (c rune, start int, ok bool) {
	if p == 0 {
		return 0, 0, false
	}
	if last := b[p-1]; isAlnum(last) || last == ';' || last == '}' || last == ' ' {
		found := -1
		for q := p - 2; q >= 0 && q >= p-backMax; q-- {
			if escapes[b[q]] != nil {
				if r, end, how := unitWithin(b, q, p); end == p && how != 0 {
					found, c = q, r
				}
			} else if x := b[q]; !isAlnum(x) && x != ';' && x != '#' && x != '{' {
				break
			}
		}
		if found >= 0 {
			return c, found, true
		}
	}
	c, n := utf8.DecodeLastRune(b[:p])
	return c, p - n, true
}

// readPercent reads two hexadecimal digits: RFC 3986 §2.1.
func readPercent(b []byte, p, limit int) (rune, int, bool) {
	return readHex(b, p, limit, 2)
}

// readHex reads exactly n hexadecimal digits.
func readHex(b []byte, p, limit, n int) (rune, int, bool) {
	if p+n > limit {
		return 0, 0, false
	}
	v, ok := hexes(b, p, n)
	return v, p + n, ok
}

func hexDigit(c byte) (rune, bool) {
	switch {
	case c >= '0' && c <= '9':
		return rune(c - '0'), true
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return rune(c|0x20-'a') + 10, true
	}
	return 0, false
}

// readBackslash reads what JSON, JavaScript, PHP, SQL and CSS put behind a
// backslash. Any run of backslashes before one character is one escape: encoders
// on top of each other write 2ⁿ−1 of them, and those that do not escape the
// slash itself any other number.
func readBackslash(b []byte, p, limit int) (rune, int, bool) {
	for p < limit && b[p] == '\\' {
		p++
	}
	if p >= limit {
		return 0, 0, false
	}
	switch c := b[p]; c {
	case 'u':
		if v, end, ok := readHex(b, p+1, limit, 4); ok {
			return v, end, true
		}
		if p+2 < limit && b[p+1] == '{' {
			if v, n := codePoint(b[p-1 : limit]); n > 0 {
				return v, p - 1 + n, true
			}
		}
	case 'x':
		if v, end, ok := readHex(b, p+1, limit, 2); ok {
			return v, end, true
		}
	case 'n', 'r', 't', 'v':
		return '\n', p + 1, true
	}
	if v, end, ok := readCSSHex(b, p, limit); ok {
		return v, end, true
	}
	if c := b[p]; c == 'b' || c == 'f' || c == '0' {
		return '\n', p + 1, true
	}
	c, end, _ := unitWithin(b, p, limit)
	return c, end, true
}

// readCSSHex reads a CSS escape of two to six hexadecimal digits and the one
// white space that may end it (CSS Syntax §4.3.7). Single digits are left to
// JSON, where \b and \f are control characters.
func readCSSHex(b []byte, p, limit int) (rune, int, bool) {
	var v rune
	n := 0
	for p < limit && n < 6 {
		d, ok := hexDigit(b[p])
		if !ok {
			break
		}
		v = v<<4 | d
		p++
		n++
	}
	if n < 2 || v >= 0x7f && v < 0xa0 { // no control character is written like this: \087 is a NUL and 87
		return 0, 0, false
	}
	if p < limit && (b[p] == ' ' || b[p] == '\t' || b[p] == '\n') {
		p++
	}
	return v, p, true
}

// readEntity reads an HTML character reference, whose own ampersand may have
// been escaped any number of times: &colon; &#58; &amp;#x3a;
func readEntity(b []byte, p, limit int) (rune, int, bool) {
	number := p < limit && b[p] == '#'
	if p < limit && escapes[b[p]] != nil { // &%2358; where all is encoded again
		if c, q, _ := unitWithin(b, p, limit); c == '#' {
			number, p = true, q-1
		}
	}
	end := p + 1
	if !number {
		end = p
	}
	for end < limit && end-p < 10 && (isAlnum(b[end]) || b[end] == '#') {
		end++
	}
	if end == p || end > limit {
		return 0, 0, false
	}
	closed := end // behind the semicolon, which may be written as an escape itself
	if end < limit {
		if c, q, _ := unitWithin(b, end, limit); c == ';' {
			closed = q
		}
	}
	if number {
		// "&#58x" stands for a colon and an x: the digits end it.
		text, n := numeric(append([]byte("&#"), b[p+1:end]...), end-p+1)
		if n == 0 {
			return 0, 0, false
		}
		c, _ := utf8.DecodeRune(text)
		if p+n-1 == end {
			return c, closed, true
		}
		return c, p + n - 1, true
	}
	if closed == end {
		return 0, 0, false
	}
	text := html.UnescapeString("&" + string(b[p:end]) + ";")
	if strings.HasPrefix(text, "&") && len(text) > 1 {
		return 0, 0, false
	}
	c, n := utf8.DecodeRuneInString(text)
	if n != len(text) {
		return 0, 0, false
	}
	return c, closed, true
}

func isAlnum(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}
