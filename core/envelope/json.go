package envelope

import (
	"strconv"

	"trimlantern/core/text"
)

// maxJSONDepth is how deep JSON may nest before it is left as text.
const maxJSONDepth = 1000

// JSONText is one string of a JSON document.
type JSONText struct {
	Start, End int // between the quotes
	Path       func() string
	Key        bool
	// Object tells the objects of a document apart: that of a key, or that of which the
	// text is a value; 0: it is none's.
	Object int
	Parent int // the object that Object stands in
	// Number says that it is a number and not a string.
	Number bool
	// Box is the array or object that it is in, or of which it is a key; Around is the one that Box is in. 0: none.
	Box, Around int
	Name        []byte // the key that leads to it, as it is written; nil in an array
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
	end, ok := ReadJSON(b, visit)
	for ok && end < len(b) && (b[end] == ' ' || b[end] == '\t' || b[end] == '\n' || b[end] == '\r') {
		end++
	}
	return ok && end == len(b)
}

// ReadJSON is OpenJSON for a document that other text follows; end is behind it.
func ReadJSON(b []byte, visit func(JSONText)) (end int, ok bool) {
	j := jsonParser{b: b, visit: visit}
	j.space()
	ok = j.value(nil, 0, 0, 0, box{})
	return j.p, ok
}

type jsonParser struct {
	b     []byte
	p     int
	visit func(JSONText)

	objects int
	boxes   int // so many were seen
}

// jsonStep is a list of steps from the inside out: paths are built only when
// somebody asks for one.
type jsonStep struct {
	up         *jsonStep
	b          []byte
	start, end int // the key's bytes; start < 0: an index
	index      int
}

// name returns the key of the step, as it is written; nil in an array.
func (s *jsonStep) name() []byte {
	if s == nil || s.start < 0 {
		return nil
	}
	return s.b[s.start:s.end]
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

// box is an array or object, and the one around it.
type box struct{ me, around int }

func (j *jsonParser) box(around box) box {
	j.boxes++
	return box{j.boxes, around.me}
}

func (j *jsonParser) value(step *jsonStep, depth, in, parent int, at box) bool {
	if j.p >= len(j.b) || depth > maxJSONDepth {
		return false
	}
	switch c := j.b[j.p]; {
	case c == '"':
		start, end, ok := j.text()
		if ok {
			j.visit(JSONText{Start: start, End: end, Path: step.String, Object: in, Parent: parent, Box: at.me, Around: at.around, Name: step.name()})
		}
		return ok
	case c == '{':
		j.p++
		j.objects++
		me, my := j.objects, j.box(at)
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
			j.visit(JSONText{Start: start, End: end, Path: inner.String, Key: true, Object: me, Parent: in, Box: my.me, Around: my.around})
			if j.space(); !j.eat(':') {
				return false
			}
			if j.space(); !j.value(inner, depth+1, me, in, my) {
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
		my := j.box(at)
		j.p++
		if j.space(); j.eat(']') {
			return true
		}
		for i := 0; ; i++ {
			j.space()
			if !j.value(&jsonStep{up: step, start: -1, index: i}, depth+1, in, parent, my) {
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
		start := j.p
		ok := j.number()
		if ok && j.p-start > 1 {
			j.visit(JSONText{Start: start, End: j.p, Path: step.String, Object: in, Parent: parent, Number: true, Box: at.me, Around: at.around, Name: step.name()})
		}
		return ok
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

// NextObject returns where the next object of JSON may begin at or after from, in whatever
// spelling, and where the quote of its first key is written; or -1.
func NextObject(b []byte, from int) (start, quote, end int) {
	start = -1
	eachSpelled(b, from, '{', search().braces, func(brace, q int) bool {
		for q < len(b) {
			c, next, _ := text.Unit(b, q)
			if c == '"' {
				start, quote, end = brace, q, next
				return true
			}
			if c != ' ' && c != '\t' && c != '\r' && c != '\n' {
				break
			}
			q = next
		}
		return false
	})
	return start, quote, end
}
