package beside

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// leastLength is the least number that counts as the length of a text with an address in it.
const leastLength = 8

// number is a number in a text, written in decimal or hexadecimal digits.
type number struct {
	from, to int
	value    int
	base     int
	glued    bool // a letter is directly before it, as in bencode: 3:url31:http://…
}

// measure is a way in which a number says how long the text after it is. fits returns where that text begins, or -1.
// To add one, add a row.
type measure struct {
	name  string
	base  int
	glued bool // a letter may be directly before it
	fits  func(b []byte, n number) (start int)
}

// measures is the one table of them. Each demands what is around the number as well as the length itself.
var measures = []measure{
	{"netstring, bencode: 31:http://…,", 10, true, func(b []byte, n number) int {
		if n.to+1 >= len(b) || b[n.to] != ':' || b[n.to+1] <= ' ' || n.from > 0 && strings.IndexByte(":.-#", b[n.from-1]) >= 0 || n.glued && !afterString(b, n.from) {
			return -1
		}
		end := n.to + 1 + n.value
		if end < len(b) && strings.IndexByte(",;\r\n", b[end]) < 0 && (!n.glued || strings.IndexByte("eild0123456789", b[end]) < 0) {
			return -1
		}
		return n.to + 1
	}},
	{"in four digits: 001f:http://…;", 16, false, func(b []byte, n number) int {
		if n.to-n.from < 4 || n.to+1 >= len(b) || b[n.to] != ':' || b[n.to+1] <= ' ' || n.from > 0 && b[n.from-1] == '#' {
			return -1
		}
		end := n.to + 1 + n.value
		if end < len(b) && strings.IndexByte(",;\r\n", b[end]) < 0 {
			return -1
		}
		return n.to + 1
	}},
	{"chunk (RFC 9112 §7.1): a line with the length, the text, a line break", 16, false, func(b []byte, n number) int {
		if !beginsLine(b, n.from) {
			return -1
		}
		head := n.to
		if head < len(b) && b[head] == ';' { // an extension
			if i := bytes.IndexByte(b[head:min(len(b), head+200)], '\n'); i > 0 {
				head += i
				if b[head-1] == '\r' {
					head--
				}
			}
		}
		start := afterBreak(b, head)
		if start < 0 || start+n.value > len(b) {
			return -1
		}
		if next := afterBreak(b, start+n.value); next < 0 || !chunksAt(b, next) {
			return -1
		}
		return start
	}},
	{"$31 or {31} at the end of a line: the text in the next ones", 10, false, func(b []byte, n number) int {
		end := n.to
		switch {
		case n.from > 0 && b[n.from-1] == '$' && beginsLine(b, n.from-1):
		case n.from > 0 && b[n.from-1] == '{' && end < len(b) && b[end] == '}':
			end++
		case storeLine(b, n):
		default:
			return -1
		}
		start := afterBreak(b, end)
		if start < 0 || start+n.value > len(b) {
			return -1
		}
		if b[end] != '}' && b[n.to] != '}' && afterBreak(b, start+n.value) < 0 && start+n.value != len(b) {
			return -1
		}
		return start
	}},
	{"length=31 http://…", 10, false, func(b []byte, n number) int {
		if !saysLength(wordBefore(b, n.from)) {
			return -1
		}
		start := n.to
		for start < len(b) && strings.IndexByte(" ,;\t|", b[start]) >= 0 {
			start++
		}
		end := start + n.value
		if start == n.to || end > len(b) || end < len(b) && strings.IndexByte(" ,;\t\r\n|\"'<>)&", b[end]) < 0 {
			return -1
		}
		return start
	}},
	{"Content-Length: 31 among headers, and the text after an empty line (RFC 9110 §8.6)", 10, false, func(b []byte, n number) int {
		if !strings.HasSuffix(wordBefore(b, n.from), "length") {
			return -1
		}
		line := afterBreak(b, n.to)
		for limit := line + headersMax; line >= 0 && line < min(len(b), limit); {
			if start := afterBreak(b, line); start >= 0 {
				if end := start + n.value; end == len(b) || end < len(b) && (afterBreak(b, end) >= 0 || bytes.HasPrefix(b[end:], []byte("--"))) {
					return start
				}
				return -1
			}
			i := bytes.IndexByte(b[line:], '\n')
			if i < 0 {
				return -1
			}
			line += i + 1
		}
		return -1
	}},
}

// afterString reports whether a string of bencode ends at p, or a dictionary or list begins before it: so that we do not take
// "140x266:http://…" for a length.
func afterString(b []byte, p int) bool {
	if c := b[p-1]; (c == 'd' || c == 'l') && (p == 1 || strings.IndexByte("del", b[p-2]) >= 0) {
		return true
	}
	for q := p - 1; q > 0 && p-q < 60; q-- {
		if b[q] != ':' {
			continue
		}
		digits := q
		for digits > 0 && q-digits < 3 && b[digits-1] >= '0' && b[digits-1] <= '9' {
			digits--
		}
		if n, err := strconv.Atoi(string(b[digits:q])); err == nil && n == p-q-1 {
			return true
		}
	}
	return false
}

// headersMax is how far after the length of a body that body may begin.
const headersMax = 4 << 10

// lengthWords are what the last word of a name is if it means a length.
var lengthWords = []string{"length", "len", "size", "bytes", "strlen", "chars", "characters"}

// saysLength reports whether a name, in small letters, means a length: "len", "url_length", "urllength".
func saysLength(name string) bool {
	for _, w := range lengthWords {
		if strings.HasSuffix(name, w) {
			return true
		}
	}
	return false
}

// SaysLength reports whether the name of a field means a length.
func SaysLength(name []byte) bool {
	return len(name) <= 40 && saysLength(strings.ToLower(string(name)))
}

// wordBefore returns the word before a number, in small letters, that "=", ":" or blanks divide from it.
func wordBefore(b []byte, p int) string {
	end := p
	for end > 0 && p-end < 4 && strings.IndexByte("=: \"'", b[end-1]) >= 0 {
		end--
	}
	from := end
	for from > 0 && end-from < 40 && (byteKinds[b[from-1]]&isLetter != 0 || b[from-1] == '-' || b[from-1] == '_') {
		from--
	}
	if end == p {
		return ""
	}
	return strings.ToLower(string(b[from:end]))
}

func beginsLine(b []byte, p int) bool { return p == 0 || b[p-1] == '\n' }

// afterBreak returns where the next line begins if a line break is at p, otherwise -1.
func afterBreak(b []byte, p int) int {
	switch {
	case p < len(b) && b[p] == '\n':
		return p + 1
	case p+1 < len(b) && b[p] == '\r' && b[p+1] == '\n':
		return p + 2
	}
	return -1
}

// chainMax is how many chunks are followed.
const chainMax = 64

// chunksAt reports whether chunks follow at p, up to the last one, which is empty: a number alone in a line is not evidence.
func chunksAt(b []byte, p int) bool {
	for range chainMax {
		from := p
		for p < len(b) && p-from < 9 && byteKinds[b[p]]&isHex != 0 {
			p++
		}
		size, err := strconv.ParseInt(string(b[from:p]), 16, 64)
		if err != nil {
			return false
		}
		if size == 0 {
			return p == len(b) || afterBreak(b, p) >= 0
		}
		if start := afterBreak(b, p); start < 0 || size > int64(len(b)-start) {
			return false
		} else if p = afterBreak(b, start+int(size)); p < 0 {
			return false
		}
	}
	return true
}

// storeLineMax is how long such a line is at most: a key has 250 bytes.
const storeLineMax = 300

// storeWords begin the lines before the values of a memory cache.
var storeWords = []string{"VALUE", "set", "add", "replace", "append", "prepend", "cas"}

// storeLine reports whether a number ends a line as key-value stores write it before a value: a word, a key, the flags,
// perhaps when it expires, the length: "VALUE page_7 0 31".
func storeLine(b []byte, n number) bool {
	if afterBreak(b, n.to) < 0 {
		return false
	}
	back := max(0, n.from-storeLineMax)
	from := back + bytes.LastIndexByte(b[back:n.from], '\n') + 1
	if from == back && back > 0 {
		return false
	}
	words := strings.Fields(string(b[from:n.to]))
	if len(words) < 4 || len(words) > 5 || !slices.Contains(storeWords, words[0]) {
		return false
	}
	for _, w := range words[2:] {
		if _, err := strconv.Atoi(w); err != nil {
			return false
		}
	}
	return true
}

// numbers calls visit for each number of up to eight digits, the last first: what is inside of another measured text is
// settled before it.
func numbers(b []byte, visit func(n number)) {
	for p := len(b); p > 0; {
		if byteKinds[b[p-1]]&isHex == 0 {
			p--
			continue
		}
		to := p
		for p > 0 && byteKinds[b[p-1]]&isHex != 0 {
			p--
		}
		if to < len(b) && byteKinds[b[to]]&isLetter != 0 {
			continue
		}
		digits := to
		for digits > p && b[digits-1] <= '9' {
			digits--
		}
		for _, n := range []number{{from: digits, to: to, base: 10}, {from: p, to: to, base: 16}} {
			if n.glued = n.from > 0 && byteKinds[b[n.from-1]]&isLetter != 0; n.to-n.from > 8 || n.glued && (n.base == 16 || to-p >= leastDigits) {
				continue
			}
			if v, err := strconv.ParseInt(string(b[n.from:n.to]), n.base, 64); err == nil && v >= leastLength && int(v) <= len(b)-to {
				n.value = int(v)
				visit(n)
			}
		}
	}
}

// lengths makes the numbers fit that say how long an edited text is.
func (s *settler) lengths() {
	numbers(s.b, func(n number) {
		for _, m := range measures {
			if m.base != n.base || n.glued && !m.glued {
				continue
			}
			start := m.fits(s.b, n)
			if start < 0 || start+n.value > len(s.b) || !s.touched(start, start+n.value) || !s.free(n.from, n.to) {
				continue
			}
			s.resize(n, s.grown(start, start+n.value))
			return
		}
	})
	s.lines()
}

// resize writes a number that has grown, with as many digits as before if it had zeros in front.
func (s *settler) resize(n number, by int) {
	was := string(s.b[n.from:n.to])
	now := strconv.FormatInt(int64(n.value+by), n.base)
	if was != strings.ToLower(was) {
		now = strings.ToUpper(now)
	}
	if was[0] == '0' {
		now = fmt.Sprintf("%0*s", len(was), now)
	}
	s.replace(n.from, n.to, now)
}

// lines makes the numbers fit at the beginnings of lines, each of which is followed by a blank and as many bytes up to the
// end of its line. One such line may be an entry of a numbered list; two or more of them, without an exception, are not.
func (s *settler) lines() {
	type numbered struct {
		number
		start, end int
	}
	var found []numbered
	for p := 0; p < len(s.b); {
		end := len(s.b)
		if i := bytes.IndexByte(s.b[p:], '\n'); i >= 0 {
			end = p + i
		}
		next := end + 1
		if end > p && s.b[end-1] == '\r' {
			end--
		}
		if end > p {
			to := p
			for to < end && to-p < 8 && s.b[to] >= '0' && s.b[to] <= '9' {
				to++
			}
			n, err := strconv.Atoi(string(s.b[p:to]))
			if err != nil || to == end || strings.IndexByte(" \t", s.b[to]) < 0 || n != end-to-1 {
				return
			}
			found = append(found, numbered{number{from: p, to: to, value: n, base: 10}, to + 1, end})
		}
		p = next
	}
	if len(found) < 2 {
		return
	}
	for _, l := range slices.Backward(found) {
		if s.touched(l.start, l.end) && s.free(l.from, l.to) {
			s.resize(l.number, s.grown(l.start, l.end))
		}
	}
}
