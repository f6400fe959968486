package envelope

import (
	"bytes"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// maxJSONDepth is how deep JSON may nest before it is left as text.
const maxJSONDepth = 1000

// JSONText is one string of a JSON document.
type JSONText struct {
	Start, End int // between the quotes
	Path       func() string
	Key        bool
}

// LooksJSON reports whether b begins like a JSON object, array or string.
func LooksJSON(b []byte) bool {
	for _, c := range b {
		switch c {
		case ' ', '\t', '\n', '\r':
			continue
		case '{', '[', '"':
			return true
		}
		return false
	}
	return false
}

// OpenJSON reads a whole JSON document (RFC 8259) and calls visit for each of
// its strings, keys too. It reports whether b is one; where it is not, what was
// visited must be thrown away.
func OpenJSON(b []byte, visit func(JSONText)) bool {
	j := jsonParser{b: b, visit: visit}
	j.space()
	if !j.value(nil, 0) {
		return false
	}
	j.space()
	return j.p == len(b)
}

type jsonParser struct {
	b     []byte
	p     int
	visit func(JSONText)
}

// jsonStep is a list of steps from the inside out: paths are built only when
// somebody asks for one.
type jsonStep struct {
	up         *jsonStep
	b          []byte
	start, end int // the key's bytes; start < 0: an index
	index      int
}

func (s *jsonStep) String() string {
	if s == nil {
		return ""
	}
	if s.start < 0 {
		return s.up.String() + "[" + strconv.Itoa(s.index) + "]"
	}
	return s.up.String() + "." + string(s.b[s.start:s.end])
}

func (j *jsonParser) space() {
	for j.p < len(j.b) {
		switch j.b[j.p] {
		case ' ', '\t', '\n', '\r':
			j.p++
		default:
			return
		}
	}
}

func (j *jsonParser) eat(c byte) bool {
	if j.p < len(j.b) && j.b[j.p] == c {
		j.p++
		return true
	}
	return false
}

func (j *jsonParser) value(step *jsonStep, depth int) bool {
	if j.p >= len(j.b) || depth > maxJSONDepth {
		return false
	}
	switch c := j.b[j.p]; {
	case c == '"':
		start, end, ok := j.text()
		if ok {
			j.visit(JSONText{Start: start, End: end, Path: step.String})
		}
		return ok
	case c == '{':
		j.p++
		if j.space(); j.eat('}') {
			return true
		}
		for {
			j.space()
			start, end, ok := j.text()
			if !ok {
				return false
			}
			inner := &jsonStep{up: step, b: j.b, start: start, end: end}
			j.visit(JSONText{Start: start, End: end, Path: inner.String, Key: true})
			if j.space(); !j.eat(':') {
				return false
			}
			if j.space(); !j.value(inner, depth+1) {
				return false
			}
			if j.space(); j.eat('}') {
				return true
			}
			if !j.eat(',') {
				return false
			}
		}
	case c == '[':
		j.p++
		if j.space(); j.eat(']') {
			return true
		}
		for i := 0; ; i++ {
			j.space()
			if !j.value(&jsonStep{up: step, start: -1, index: i}, depth+1) {
				return false
			}
			if j.space(); j.eat(']') {
				return true
			}
			if !j.eat(',') {
				return false
			}
		}
	case c == '-' || c >= '0' && c <= '9':
		return j.number()
	}
	for _, word := range []string{"true", "false", "null"} {
		if len(j.b)-j.p >= len(word) && string(j.b[j.p:j.p+len(word)]) == word {
			j.p += len(word)
			return true
		}
	}
	return false
}

func (j *jsonParser) number() bool {
	j.eat('-')
	digits := func() bool {
		start := j.p
		for j.p < len(j.b) && j.b[j.p] >= '0' && j.b[j.p] <= '9' {
			j.p++
		}
		return j.p > start
	}
	if !j.eat('0') && !digits() {
		return false
	}
	if j.eat('.') && !digits() {
		return false
	}
	if j.eat('e') || j.eat('E') {
		if !j.eat('+') {
			j.eat('-')
		}
		return digits()
	}
	return true
}

func (j *jsonParser) text() (start, end int, ok bool) {
	if !j.eat('"') {
		return 0, 0, false
	}
	start = j.p
	for j.p < len(j.b) {
		switch c := j.b[j.p]; {
		case c == '"':
			j.p++
			return start, j.p - 1, true
		case c == '\\':
			j.p++
			if j.p >= len(j.b) {
				return 0, 0, false
			}
			switch j.b[j.p] {
			case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
			case 'u':
				if j.p+4 >= len(j.b) {
					return 0, 0, false
				}
				for i := 1; i <= 4; i++ {
					if !isHex(j.b[j.p+i]) {
						return 0, 0, false
					}
				}
				j.p += 4
			default:
				return 0, 0, false
			}
			j.p++
		case c < ' ':
			return 0, 0, false
		default:
			j.p++
		}
	}
	return 0, 0, false
}

// Unescaped is a text that was decoded, with where its bytes came from.
type Unescaped struct {
	Text   []byte
	points []point // nil: the text stands at base as it is
	base   int
}

// point says that from here on the text runs along with the raw bytes. Texts are
// shorter than 4 GB.
type point struct{ text, raw uint32 }

// Unescaper builds an Unescaped: what stands there as it is by Copy, each escape
// by Escape.
type Unescaper struct{ u Unescaped }

// NewUnescaper begins a text that stands at raw offset base; size is how long it
// becomes at the most.
func NewUnescaper(base, size int) Unescaper {
	return Unescaper{Unescaped{Text: make([]byte, 0, size), points: []point{{0, uint32(base)}}}}
}

// Again begins another text in the memory of one that is no longer needed.
func (u Unescaped) Again(base int) Unescaper {
	return Unescaper{Unescaped{Text: u.Text[:0], points: append(u.points[:0], point{0, uint32(base)})}}
}

// Room makes room for a text of size bytes with some escapes.
func (x *Unescaper) Room(size, escapes int) {
	x.u.Text = slices.Grow(x.u.Text, size)
	x.u.points = slices.Grow(x.u.points, escapes)
}

// Copy adds bytes that stand for themselves.
func (x *Unescaper) Copy(b []byte) { x.u.Text = append(x.u.Text, b...) }

// Escape adds what an escape stands for; end is the raw offset behind it.
func (x *Unescaper) Escape(end int, text ...byte) {
	x.u.Text = append(x.u.Text, text...)
	x.u.points = append(x.u.points, point{uint32(len(x.u.Text)), uint32(end)})
}

// Done returns the text.
func (x *Unescaper) Done() Unescaped { return x.u }

// Verbatim returns a text that stands at raw offset base as it is.
func Verbatim(text []byte, base int) Unescaped { return Unescaped{Text: text, base: base} }

// Decoded reports whether the text has memory of its own.
func (u Unescaped) Decoded() bool { return u.points != nil }

// Raw returns the raw offset of a byte of the text, or of its end. Inside of what
// one escape stands for it means nothing.
func (u Unescaped) Raw(p int) int {
	if u.points == nil {
		return u.base + p
	}
	i := sort.Search(len(u.points), func(i int) bool { return int(u.points[i].text) > p }) - 1
	return int(u.points[i].raw) + p - int(u.points[i].text)
}

// UnescapeJSON decodes the string that stands between the quotes at
// b[start:end]. The text shares b's memory where nothing is escaped.
func UnescapeJSON(b []byte, start, end int) Unescaped {
	raw := b[start:end]
	if bytes.IndexByte(raw, '\\') < 0 {
		return Verbatim(raw, start)
	}
	x := NewUnescaper(start, len(raw))
	for p := 0; p < len(raw); {
		n := bytes.IndexByte(raw[p:], '\\')
		if n < 0 {
			n = len(raw) - p
		}
		x.Copy(raw[p : p+n])
		if p += n; p == len(raw) {
			break
		}
		switch c := raw[p+1]; c {
		case 'u':
			r := rune(hex4(raw[p+2:]))
			p += 6
			if utf16.IsSurrogate(r) && p+5 < len(raw) && raw[p] == '\\' && raw[p+1] == 'u' {
				if pair := utf16.DecodeRune(r, rune(hex4(raw[p+2:]))); pair != utf8.RuneError {
					r = pair
					p += 6
				}
			}
			x.Escape(start+p, utf8.AppendRune(nil, r)...)
		default:
			if i := strings.IndexByte("bfnrt", c); i >= 0 {
				c = "\b\f\n\r\t"[i]
			}
			p += 2
			x.Escape(start+p, c)
		}
	}
	return x.Done()
}

func hex4(b []byte) uint16 {
	v, err := strconv.ParseUint(string(b[:4]), 16, 16)
	if err != nil {
		return utf8.RuneError
	}
	return uint16(v)
}

// EscapeJSON writes text as it may stand in a JSON string, ASCII letters and
// digits as they are; slashes are escaped where the document does so.
func EscapeJSON(s string, slashes bool) string {
	out := make([]byte, 0, len(s))
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == '"' || c == '\\' || c == '/' && slashes:
			out = append(out, '\\', c)
		case c < ' ':
			out = append(out, `\u00`...)
			out = append(out, strconv.FormatUint(uint64(c)>>4, 16)...)
			out = append(out, strconv.FormatUint(uint64(c)&15, 16)...)
		default:
			out = append(out, c)
		}
	}
	return string(out)
}
