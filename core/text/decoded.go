package text

import (
	"bytes"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"
)

// Decoded is a text that was read through one layer, with where its bytes came from.
type Decoded struct {
	Text   []byte
	points []point // nil: the text stands at base as it is
	base   int
}

// point says that from here on the text runs along with the raw bytes. Texts are
// shorter than 4 GB.
type point struct{ text, raw uint32 }

// Builder builds a Decoded: what stands there as it is by Copy, each escape by
// Escape.
type Builder struct{ d Decoded }

// NewBuilder begins a text that stands at raw offset base; size is how long it
// becomes at the most.
func NewBuilder(base, size int) Builder {
	return Builder{Decoded{Text: make([]byte, 0, size), points: []point{{0, uint32(base)}}}}
}

// Again begins another text in the memory of one that is no longer needed.
func (d Decoded) Again(base int) Builder {
	return Builder{Decoded{Text: d.Text[:0], points: append(d.points[:0], point{0, uint32(base)})}}
}

// Room makes room for a text of size bytes with some escapes.
func (x *Builder) Room(size, escapes int) {
	x.d.Text = slices.Grow(x.d.Text, size)
	x.d.points = slices.Grow(x.d.points, escapes)
}

// Copy adds bytes that stand for themselves.
func (x *Builder) Copy(b []byte) { x.d.Text = append(x.d.Text, b...) }

// Escape adds what an escape stands for; end is the raw offset behind it.
func (x *Builder) Escape(end int, text ...byte) {
	x.d.Text = append(x.d.Text, text...)
	x.d.points = append(x.d.points, point{uint32(len(x.d.Text)), uint32(end)})
}

// Done returns the text.
func (x *Builder) Done() Decoded { return x.d }

// Verbatim returns a text that stands at raw offset base as it is.
func Verbatim(text []byte, base int) Decoded { return Decoded{Text: text, base: base} }

// HasMemory reports whether the text has memory of its own.
func (d Decoded) HasMemory() bool { return d.points != nil }

// Raw returns the raw offset of a byte of the text, or of its end. Inside of what
// one escape stands for it means nothing.
func (d Decoded) Raw(p int) int {
	if d.points == nil {
		return d.base + p
	}
	i := sort.Search(len(d.points), func(i int) bool { return int(d.points[i].text) > p }) - 1
	return int(d.points[i].raw) + p - int(d.points[i].text)
}

// decode reads b through a layer. It stops before the byte that ends the step, where that
// stands unescaped, and then also before what the layer does not hold; and, unless all is there,
// before an escape that may be cut off. ended reports whether nothing more can follow.
func decode(b []byte, step Step, all bool) (d Decoded, ended bool) {
	l := &layers[step.Layer]
	special := &specials[step.Layer]
	if step.Stop == 0 {
		special = &openers[step.Layer]
	}
	first := 0
	for first < len(b) && special[b[first]] == 0 && (step.Stop == 0 || b[first] != step.Stop) {
		first++
	}
	switch {
	case first == len(b):
		return Verbatim(b, 0), all
	case b[first] == step.Stop && step.Stop != 0 || special[b[first]] == isEnd:
		return Verbatim(b[:first], 0), true
	}
	x := NewBuilder(0, len(b))
	x.Copy(b[:first])
	for p := first; p < len(b); {
		c := b[p]
		switch {
		case step.Stop != 0 && c == step.Stop:
			return x.Done(), true
		case special[c] == 0:
			q := p + 1
			for q < len(b) && special[b[q]] == 0 && (step.Stop == 0 || b[q] != step.Stop) {
				q++
			}
			x.Copy(b[p:q])
			p = q
			continue
		case special[c] == isEnd:
			return x.Done(), true
		}
		if !all && len(b)-p < EscapeMax {
			return x.Done(), false
		}
		text, n := l.escape(b[p:])
		if n == 0 {
			x.Copy(b[p : p+1])
			p++
			continue
		}
		p += n
		x.Escape(p, text...)
	}
	return x.Done(), all
}

// EscapeMax is how many bytes one escape of one layer takes at the most.
const EscapeMax = 40

// What a byte can be to a layer.
const (
	opensEscape = 1
	isEnd       = 2
)

// specials tells, for each layer, the bytes that begin an escape or end the text; openers
// only the former.
var specials, openers [layerCount][256]uint8

// tellSpecials fills specials from the table of layers.
func tellSpecials() {
	for l := range layers {
		for _, c := range []byte(layers[l].opens) {
			specials[l][c], openers[l][c] = opensEscape, opensEscape
		}
		for _, c := range []byte(layers[l].ends) {
			specials[l][c] = isEnd
		}
	}
}

// Region is a stretch of a text read through a stack.
type Region struct {
	Stack Stack
	Text  []byte // plain
	// Whole reports whether nothing more follows: the region ended, or its source did.
	Whole bool

	src    []byte
	start  int
	levels []Decoded // the outermost first
}

// Open reads b from start through a stack, at the most size bytes of it.
func Open(b []byte, start int, s Stack, size int) Region {
	r := Region{Stack: s, src: b, start: start}
	text := b[start:min(len(b), start+size)]
	all := start+size >= len(b)
	if s.Plain() {
		r.Text, r.Whole = text, all
		return r
	}
	r.levels = make([]Decoded, s.n)
	for i, step := range s.Steps() {
		r.levels[i], all = decode(text, step, all)
		text = r.levels[i].Text
	}
	r.Text, r.Whole = text, all
	return r
}

// Raw returns where a byte of the plain text, or its end, stands in the source.
func (r *Region) Raw(p int) int {
	for i := len(r.levels) - 1; i >= 0; i-- {
		p = r.levels[i].Raw(p)
	}
	return r.start + p
}

// At returns which byte of the plain text is written at raw offset p of the source, or the next.
func (r *Region) At(p int) int {
	return sort.Search(len(r.Text), func(i int) bool { return r.Raw(i) >= p })
}

// AsForm returns the region's stack with form encoding in place of percent-encoding if the region
// holds a literal plus sign, which stands for a space in form data and is written %2B everywhere
// else. ok is false if it holds none.
func (r *Region) AsForm() (s Stack, ok bool) {
	s = r.Stack
	for i := int(s.n) - 1; i >= 0; i-- {
		if s.steps[i].Layer != Percent {
			continue
		}
		for p := 0; ; p++ {
			n := bytes.IndexByte(r.Text[p:], '+')
			if n < 0 {
				return s, false
			}
			if p += n; !r.Escaped(p, Percent) {
				s.steps[i].Layer = Form
				return s, true
			}
		}
	}
	return s, false
}

// Escaped reports whether a byte of the plain text is written as an escape in the innermost layer
// of that kind.
func (r *Region) Escaped(p int, l Layer) bool {
	for i := len(r.levels) - 1; i >= 0; i-- {
		from := r.levels[i].Raw(p)
		if r.Stack.steps[i].Layer == l {
			return r.levels[i].Raw(p+1)-from > 1
		}
		p = from
	}
	return false
}

// Carry carries edits of the plain text back to the source, in the style in
// which the region is written. ok == false: reading what came of it would not
// give the edited text, so that none of the edits may be made.
func (r *Region) Carry(edits []Edit) (raw []Edit, ok bool) {
	if r.Stack.Plain() {
		return Shift(edits, r.start), true
	}
	if len(edits) == 0 {
		return nil, true
	}
	want, err := Apply(r.Text, edits)
	if err != nil {
		return nil, false
	}
	like := make([]style, r.Stack.n)
	source := r.src[r.start:r.Raw(len(r.Text))]
	for i := range r.levels {
		if like[i] = styleOf(source, r.Stack.steps[i].Layer); i < len(r.levels) {
			source = r.levels[i].Text
		}
	}
	through := func(in string) []byte {
		out := []byte(in)
		for i := int(r.Stack.n) - 1; i >= 0; i-- {
			out = encode(out, r.Stack.steps[i].Layer, &like[i])
		}
		return out
	}
	raw = make([]Edit, 0, len(edits))
	same := make([]Edit, 0, len(edits))
	differs := false
	for _, e := range edits {
		from, to := r.Raw(e.Offset), r.Raw(e.Offset+len(e.Removed))
		if from > to {
			return nil, false
		}
		removed, here := string(r.src[from:to]), map[string][]byte{}
		raw = append(raw, Edit{from, removed, string(through(e.Inserted))})
		var in []byte
		done := 0
		for p := 0; p < len(e.Inserted); {
			unit := unitAt(e.Inserted, p)
			if w := r.spelling(e, unit, here); len(w) > 0 {
				in = append(append(in, through(e.Inserted[done:p])...), w...)
				done = p + len(unit)
			}
			p += max(1, len(unit))
		}
		in = append(in, through(e.Inserted[done:])...)
		same = append(same, Edit{from, removed, string(in)})
		differs = differs || same[len(same)-1].Inserted != raw[len(raw)-1].Inserted
	}
	if differs && r.reads(same, want) {
		return same, true
	}
	return raw, r.reads(raw, want)
}

// unitAt returns what at a place of a text is written in one way: a character that may be an
// escape, with the backslashes before it, which may be a part of that; "" for a letter.
func unitAt(s string, p int) string {
	n := 0
	for p+n < len(s) && s[p+n] == '\\' {
		n++
	}
	if p+n < len(s) && punctuation(s[p+n]) {
		n++
	}
	return s[p : p+n]
}

// punctuation reports whether c may be written as an escape where letters are not.
func punctuation(c byte) bool { return c < utf8.RuneSelf && !isAlnum(c) }

// spelling returns how the source writes a unit that an edit removes; nil where it removes none like it.
// What an edit moves is best written as it was: that reads the same through any other stack that fits
// the source as well as this one. known keeps what was found.
func (r *Region) spelling(e Edit, unit string, known map[string][]byte) []byte {
	if unit == "" {
		return nil
	}
	w, ok := known[unit]
	if !ok {
		w = r.find(unit, e.Offset, e.Offset+len(e.Removed))
		known[unit] = w
	}
	return w
}

// find returns how the source writes a unit between two places of the plain text; nil: it does not stand
// there, as far as a few tries tell.
func (r *Region) find(unit string, from, to int) []byte {
	for tries := 64; tries > 0 && from < to; tries-- {
		n := bytes.Index(r.Text[from:to], []byte(unit))
		if n < 0 {
			return nil
		}
		at := from + n
		from = at + 1
		if unit[0] == '\\' && at > 0 && r.Text[at-1] == '\\' {
			continue // a part of another
		}
		if begin, end := r.Raw(at), r.Raw(at+len(unit)); begin < end {
			return r.src[begin:end]
		}
	}
	return nil
}

// knownEscapes are what stands behind a backslash where somebody wrote it there for a reason.
var knownEscapes = [layerCount]string{Script: `\'bfnrtvux0` + "\n", SQL: `\'bnrtZ0%_`, PHP: `\'$enrtvfux0`}

// Faithful reports whether the first n bytes of the plain text are written as the region's
// layers write them, where a layer has but one way: another reading of them is likelier then.
func (r *Region) Faithful(n int) bool {
	for i := len(r.levels) - 1; i >= 0; i-- {
		to := r.levels[i].Raw(n)
		switch l := r.Stack.steps[i].Layer; l {
		case Slashes, Single, Doubled:
			source := r.src[r.start:]
			if i > 0 {
				source = r.levels[i-1].Text
			}
			if again := encode(r.levels[i].Text[:n], l, &style{}); string(again) != string(source[:to]) {
				return false
			}
		case Script, SQL, PHP:
			source := r.src[r.start:]
			if i > 0 {
				source = r.levels[i-1].Text
			}
			if l == Script && hasBytes(source[:to]) {
				return false
			}
			known := knownEscapes[l]
			if r.Stack.steps[i].Stop != 0 { // else quotes and slashes need no backslash, and get none
				known += `"/`
			}
			for p := 0; p+1 < to; p += 2 {
				next := bytes.IndexByte(source[p:to], '\\')
				if next < 0 || p+next+1 >= to {
					break
				}
				if p += next; strings.IndexByte(known, source[p+1]) < 0 {
					return false
				}
			}
		}
		n = to
	}
	return true
}

// Confirms reports whether the source with the raw edits decodes to the text with the plain edits.
func (r *Region) Confirms(raw, plain []Edit) bool {
	want, err := Apply(r.Text, plain)
	return err == nil && r.reads(raw, want)
}

// reads reports whether the region, with edits made, reads as want.
func (r *Region) reads(raw []Edit, want []byte) bool {
	end := r.Raw(len(r.Text))
	source := r.src[r.start:end]
	shifted := make([]Edit, len(raw))
	for i, e := range raw {
		shifted[i] = Edit{e.Offset - r.start, e.Removed, e.Inserted}
	}
	after, err := Apply(source, shifted)
	if err != nil {
		return false
	}
	// What follows the region may be taken for a part of its last escape.
	tail := r.src[end:min(len(r.src), end+EscapeMax)]
	again := Open(append(after, tail...), 0, r.Stack, len(after)+len(tail))
	return len(again.Text) >= len(want) && string(again.Text[:len(want)]) == string(want) && again.Raw(len(want)) == len(after)
}

// encode writes plain text as it stands in a layer.
func encode(b []byte, l Layer, like *style) []byte {
	out := make([]byte, 0, len(b)+8)
	for _, c := range b {
		out = layers[l].write(out, c, like)
	}
	return out
}

// Encode writes plain text as it stands in a layer, where nothing says how; decoding
// it gives the text.
func Encode(b []byte, l Layer) []byte { return encode(b, l, &style{}) }

// Decode reads a whole text through one layer.
func Decode(b []byte, l Layer) []byte {
	d, _ := decode(b, Step{Layer: l}, true)
	return d.Text
}
