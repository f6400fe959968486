package envelope

import (
	"bytes"
	"errors"
	"slices"
	"sync/atomic"

	"trimlantern/core/seek"
	"trimlantern/core/text"
)

// Head is the beginning of a serialized value in a text, in whatever spelling: its
// type, a colon, a number, a colon, a quote or a brace.
type Head struct {
	Start int  // the letter of its type
	Type  byte // one of aOsSCE; 0: another letter or none, where only a length and a quote stand
	N     int  // the length, or the number of members
	Body  int  // where the quote or the brace is written
	Brace bool // a brace stands there
	Word  bool // a letter or digit stands before it: perhaps the end of a word
	// Inner says that what stands before it stands inside of serialized values: a brace or
	// a semicolon.
	Inner bool
}

// searches finds where heads and objects may begin. They are made from the table of spellings.
type searches struct {
	of *seek.Triples // that they were made from
	// colons ends behind a colon, in some spelling, before a digit; braces behind a brace
	// before a quote or a blank.
	colons, braces *seek.Triples
}

var madeSearches atomic.Pointer[searches]

func search() *searches {
	s := madeSearches.Load()
	if s != nil && s.of == text.Ends {
		return s
	}
	var every, openers []byte
	for c := range 256 {
		every = append(every, byte(c))
		if text.Opens(byte(c)) {
			openers = append(openers, byte(c))
		}
	}
	// What the writing of the character ends on, in hexadecimal digits, decimal ones, by name.
	s = &searches{of: text.Ends,
		colons: seek.NewTriples([]seek.Class{{First: string(every), Second: ":"}, {First: "3", Second: "aA"}, {First: "8aAn", Second: ";"}, {First: "aA", Second: " }"}}, "0123456789"+string(openers)),
		braces: seek.NewTriples([]seek.Class{{First: string(every), Second: "{"}, {First: "7", Second: "bB"}, {First: "3bBe", Second: ";"}, {First: "bB", Second: " }"}}, "\" \t\r\n"+string(openers))}
	madeSearches.Store(s)
	return s
}

// spelled returns where the writing of the character c begins that ends at end, or -1. No
// writing begins before floor.
func spelled(b []byte, end int, c rune, floor int) int {
	if b[end-1] == byte(c) {
		return end - 1
	}
	found := -1
	for p := end - 2; p >= floor && p > end-spelledMax; p-- {
		if text.Opens(b[p]) {
			if is, q, _ := text.Unit(b[:end], p); q == end && is == c {
				found = p
			}
		}
	}
	return found
}

// eachSpelled calls found with the start and end of each spelling of c until found returns true.
// ends finds where a spelling may end; see search.
func eachSpelled(b []byte, from int, c rune, ends *seek.Triples, found func(start, end int) bool) {
	for p := from; ; {
		end := from + 1 // which no byte stands before
		if p > from || end >= len(b) || b[from] != byte(c) {
			if end = ends.Next(b, p); end < 0 {
				return
			}
		}
		p = max(end-1, p+1)
		if start := spelled(b, end, c, from); start >= 0 && found(start, end) {
			return
		}
	}
}

// spelledMax bounds how long the writing of one character is.
const spelledMax = 24

// headTypes are the types of serialized values that have a length or members.
var headTypes = [256]bool{'a': true, 'O': true, 's': true, 'S': true, 'C': true, 'E': true}

// NextHead returns the first head at or after from.
func NextHead(b []byte, from int) (h Head, ok bool) {
	eachSpelled(b, from, ':', search().colons, func(start, _ int) bool {
		h, ok = headAt(b, start, from)
		return ok
	})
	if !ok {
		return Head{}, false
	}
	return h, true
}

// headAt reads the head whose first colon is written at p.
func headAt(b []byte, p, floor int) (h Head, ok bool) {
	c, end, _ := text.Unit(b, p)
	if c != ':' {
		return h, false
	}
	q, digits := end, 0
	for q < len(b) && digits < 11 {
		d, e, _ := text.Unit(b, q)
		if d < '0' || d > '9' {
			break
		}
		h.N = h.N*10 + int(d-'0')
		digits, q = digits+1, e
	}
	if digits == 0 || digits > 10 || q >= len(b) {
		return h, false
	}
	if c, q, _ = text.Unit(b, q); c != ':' || q >= len(b) {
		return h, false
	}
	h.Body = q
	switch c, _, _ := text.Unit(b, q); c {
	case '"':
	case '{':
		h.Brace = true
	default:
		return h, false
	}
	h.Start = p
	if p > floor {
		letter, start := rune(b[p-1]), p-1
		if !headTypes[b[p-1]] {
			letter, start, _ = text.Before(b, p)
		}
		if start >= floor && letter < 128 && headTypes[letter] && (letter == 'a') == h.Brace {
			h.Type, h.Start = byte(letter), start
		}
	}
	if h.Type == 0 && h.Brace {
		return h, false
	}
	if h.Start > 0 {
		before, _, _ := text.Before(b, h.Start)
		h.Word = before < 128 && isWord(byte(before))
		h.Inner = before == '{' || before == ';' || before == '}'
	}
	return h, true
}

func isWord(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z' || c == '_'
}

// Stacks returns how the value at a head may be written, as its first quote tells.
func (h Head) Stacks(b []byte) []text.Stack {
	p := h.Body
	for p < len(b) {
		c, end, _ := text.Unit(b, p)
		if c == '"' {
			return text.Stacks(b, p, end, '"')
		}
		if c >= 128 || !isWord(byte(c)) && c != ':' && c != ';' && c != '{' && c != '}' && c != '.' && c != '-' && c != '+' || p > h.Body+1<<12 {
			break
		}
		p = end
	}
	_, end, _ := text.Unit(b, h.Body) // no string in it, or none that can be read
	c, _, _ := text.Unit(b, h.Body)
	return text.Stacks(b, h.Body, end, byte(c))
}

// Found is a sound serialized value inside a text.
type Found struct {
	Value  *Serialized // of Region.Text
	Region text.Region
	End    int  // behind it, in the text
	sure   bool // what stands around it says how it is read
}

// Members reports whether what stands behind the brace of a head begins a key, or ends the
// array.
func (h Head) Members(b []byte) bool {
	_, p, _ := text.Unit(b, h.Body)
	if p >= len(b) {
		return false
	}
	c, p, _ := text.Unit(b, p)
	if c == '}' {
		return true
	}
	if c != 'i' && c != 's' && c != 'S' || p >= len(b) {
		return false
	}
	c, _, _ = text.Unit(b, p)
	return c == ':'
}

// firstLook is how much of a region is read first.
const firstLook = 1 << 10

// Open reads the value at the head, through the layers in which it is written. If it is not
// sound in any way of reading, it returns what is wrong in the likeliest one. cost is how many
// bytes were looked at.
func (h Head) Open(b []byte) (f Found, cost int, err error) {
	if h.Type == 0 {
		err = &NotSound{Offset: h.Start, Why: "a length without a type"}
	}
	for i, s := range h.Stacks(b) {
		if h.Type != 0 {
			found, n, ferr := h.openIn(b, s)
			cost += n
			if ferr == nil {
				found, n = h.likelier(b, s, found)
				return found, cost + n, nil
			}
			if i == 0 {
				err = ferr
			}
			for _, v := range s.Variants(b[h.Start:min(len(b), h.Start+h.sample())]) {
				found, n, ferr := h.openIn(b, v)
				cost += n
				if ferr == nil {
					found, n = h.likelier(b, s, found)
					return found, cost + n, nil
				}
			}
		}
	}
	if err == nil {
		err = &NotSound{Offset: h.Start, Why: "its quotes cannot be read"}
	}
	return f, cost, err
}

// sample is how much of a value shows how it is written.
func (h Head) sample() int {
	if h.Brace {
		return max(h.N, 1<<14)
	}
	return max(h.N, min(8*h.N+256, 1<<14)) // of a short string all, as long as it can be written
}

// likelier returns the reading of a value directly behind a single quote in which single quotes are doubled, where they
// are and that reading is sound too: a length can fit both, where backslashes are letters in the one.
func (h Head) likelier(b []byte, s text.Stack, found Found) (_ Found, cost int) {
	if h.Start == 0 || s.Has(text.Doubled) {
		return found, 0
	}
	if before, _, ok := text.Before(b, h.Start); !ok && b[h.Start-1] != '\'' || ok && before != '\'' {
		return found, 0
	}
	if !bytes.Contains(found.Region.Text[:found.Value.End], []byte("''")) {
		return found, 0
	}
	for _, v := range s.Doubled() {
		other, n, err := h.openIn(b, v)
		cost += n
		if err == nil {
			found.Value.Done()
			other.sure = true
			return other, cost
		}
	}
	return found, cost
}

// StaysSound reports whether the value at the head, which is sound as f and in other ways of reading its escapes too, is
// so in all of them with the edits: whichever of them its own software knows. Edits count in b, within the value. It looks
// at a few times as much as the value is long.
func (h Head) StaysSound(b []byte, f Found, edits []text.Edit) bool {
	if f.Region.Stack.Plain() || f.sure {
		return true
	}
	sample := b[h.Start:min(len(b), f.End+spelledMax)]
	b = b[:min(len(b), f.End+len(sample)+firstLook)] // another reading may be longer
	var tried []text.Stack
	for _, s := range h.Stacks(b) {
		for _, v := range append([]text.Stack{s}, s.Variants(sample)...) {
			if v == f.Region.Stack || slices.Contains(tried, v) {
				continue
			}
			tried = append(tried, v)
			other, _, err := h.openIn(b, v)
			if err != nil {
				continue
			}
			other.Value.Done()
			from, to := h.Start, min(len(b), max(f.End, other.End)+spelledMax)
			after, err := text.Apply(b[from:to], text.Shift(slices.Clone(edits), -from))
			if err != nil {
				return false
			}
			now, ok := NextHead(after, 0)
			if !ok || now.Start != 0 {
				return false
			}
			if other, _, err = now.openIn(after, v); err != nil {
				return false
			}
			other.Value.Done()
		}
	}
	return true
}

// openIn reads the value at the head through one stack.
func (h Head) openIn(b []byte, s text.Stack) (f Found, cost int, err error) {
	if !h.Brace && h.N > len(b)-h.Body {
		return f, 0, &NotSound{Offset: h.Start, Why: "a string is cut off"}
	}
	size := firstLook
	if s.Plain() {
		size = len(b)
	}
	for {
		r := text.Open(b, h.Start, s, size)
		cost += len(r.Text)
		v, err := OpenPHP(r.Text)
		if form, ok := r.AsForm(); ok && err == nil { // + is a space: same length, other bytes
			v.Done()
			r = text.Open(b, h.Start, form, size)
			v, err = OpenPHP(r.Text)
		}
		if err == nil && !r.Faithful(v.End) {
			err = &NotSound{Offset: h.Start, Why: "its escapes are not those of " + s.String()}
			v.Done()
		}
		if err == nil {
			if s.Plain() { // nothing behind the value was looked at
				cost += v.End - len(r.Text)
			}
			return Found{Value: v, Region: r, End: r.Raw(v.End)}, cost, nil
		}
		var bad *NotSound
		if errors.As(err, &bad) {
			if bad.Cut && !r.Whole {
				size = max(4*size, bad.Need)
				continue
			}
			cost += bad.Offset - len(r.Text)
			bad.Offset = r.Raw(min(bad.Offset, len(r.Text)))
		}
		return f, cost, err
	}
}

// Extent returns where an unsound value may end at the latest: a string that is written plainly
// at the end of the last string, or at the quote after its length; anything else where what it is written in
// surely ends, or the text. lastEnd returns the place of the last `";` in b, or -1: it is the same for all heads of b. cost is
// how many bytes were looked at.
func (h Head) Extent(b []byte, lastEnd func() int) (end, cost int) {
	stacks := h.Stacks(b)
	if len(stacks) == 0 {
		return len(b), 0
	}
	s := stacks[0]
	if s.Plain() {
		if h.Brace || h.Type == 'O' || h.Type == 'C' || h.N > len(b)-h.Body-1 {
			return len(b), 0
		}
		claimed := h.Body + 1 + h.N
		if last := lastEnd(); last >= claimed {
			return last + 2, last - claimed
		}
		if n := bytes.IndexByte(b[claimed:], '"'); n >= 0 {
			return claimed + n + 1, n
		}
		return len(b), len(b) - claimed
	}
	if only := s.Steps(); len(only) > 1 || only[0].Layer != text.HTML && only[0].Layer != text.Percent {
		return len(b), 0
	}
	r := text.Open(b, h.Start, s, len(b))
	return r.Raw(len(r.Text)), len(r.Text)
}
