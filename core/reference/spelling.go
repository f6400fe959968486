package reference

import (
	"html"
	"strings"
	"unicode/utf8"
)

// Spelling is the set of ways in which the characters after the scheme of a
// reference are written. Zero is plain.
type Spelling uint8

// The spellings. They combine: `http%3A\/\/` is Percent|Backslash.
const (
	Backslash Spelling = 1 << iota // JSON and JavaScript: \/ \\\/ \u002f \x2f, and CSS: \: \3a
	Percent                        // %3A %253A …
	Entity                         // &#58; &#x3a; &colon; &amp;#58; …
)

// String names the spelling, "plain" or a combination like "percent+backslash".
func (s Spelling) String() string {
	if s == 0 {
		return "plain"
	}
	var names []string
	for _, n := range []struct {
		bit  Spelling
		name string
	}{{Percent, "percent"}, {Entity, "entity"}, {Backslash, "backslash"}} {
		if s&n.bit != 0 {
			names = append(names, n.name)
		}
	}
	return strings.Join(names, "+")
}

// escapes is the one table of spellings: the byte that opens an escape and the
// function that reads the rest. To add a spelling, add a row and its reader. A
// reader gets the position behind the opening byte and returns the character
// that the escape stands for and the position behind it, or ok == false where
// the opening byte stands for itself.
var escapes [256]struct {
	read func(b []byte, p, limit int) (c rune, end int, ok bool)
	bit  Spelling
}

func init() { // not an initializer: the readers use the table themselves
	escapes['%'].read, escapes['%'].bit = readPercent, Percent
	escapes['&'].read, escapes['&'].bit = readEntity, Entity
	escapes['\\'].read, escapes['\\'].bit = readBackslash, Backslash
}

// unitMax bounds how many bytes one character may take in all its layers of
// escaping, so that hostile input costs no more than its length.
const unitMax = 96

// unit reads the one character at b[p], through any depth of escaping. It
// returns the character, the position behind it and the spellings it was
// written in. p must be inside b.
func unit(b []byte, p int) (c rune, end int, how Spelling) {
	return unitWithin(b, p, min(len(b), p+unitMax))
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
	for c < utf8.RuneSelf && escapes[c].bit != 0 && end < limit {
		c2, end2, ok := escapes[c].read(b, end, limit)
		if !ok {
			break
		}
		how |= escapes[c].bit
		c, end = c2, end2
	}
	return c, end, how
}

// readPercent reads two hexadecimal digits: RFC 3986 §2.1.
func readPercent(b []byte, p, limit int) (rune, int, bool) {
	return readHex(b, p, limit, 2)
}

// readHex reads exactly n hexadecimal digits, each in any spelling.
func readHex(b []byte, p, limit, n int) (rune, int, bool) {
	var v rune
	for ; n > 0; n-- {
		if p >= limit {
			return 0, 0, false
		}
		d, ok := hexDigit(b[p])
		if !ok {
			return 0, 0, false
		}
		v = v<<4 | d
		p++
	}
	return v, p, true
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
	if n < 2 {
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
	end := p
	for end < limit && end-p < 10 && (isAlnum(b[end]) || b[end] == '#') {
		end++
	}
	if end == p || end >= limit {
		return 0, 0, false
	}
	numeric := b[p] == '#'
	if b[end] == ';' {
		end++
	} else if !numeric {
		return 0, 0, false
	}
	text := "&" + string(b[p:end])
	if text = html.UnescapeString(text); strings.HasPrefix(text, "&") && len(text) > 1 {
		return 0, 0, false
	}
	c, n := utf8.DecodeRuneInString(text)
	if n != len(text) { // "&#58x": html takes the digits and leaves the rest
		return 0, 0, false
	}
	return c, end, true
}

func isAlnum(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}
