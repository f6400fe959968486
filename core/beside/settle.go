package beside

import (
	"bytes"
	"errors"
	"slices"
	"sort"
	"strings"

	"trimlantern/core/text"
)

// ErrUnsettled says that something next to a value would have to change with it, and cannot.
var ErrUnsettled = errors.New("a length or a digest next to it cannot be made to fit")

// Settle returns the further edits that a text needs so that the lengths and digests in it still fit after edits, which
// are in order. What is written through escapes is read through them: in
//
//	a=1&list=31%3Ahttp%3A%2F%2Fternrock.example%2Fvisit%2C
//
// 31 is the length of the address after decoding. closed are the stretches of envelopes, in order, which are sealed by
// themselves: nothing in them is changed. It costs a few steps for each byte.
func Settle(b []byte, edits []text.Edit, closed []Span) (extra []text.Edit, err error) {
	if len(edits) == 0 {
		return nil, nil
	}
	return settle(b, edits, closed, 0)
}

// Span is a stretch of a text, from a byte up to another.
type Span struct{ From, To int }

// maxViews is how deep layers are read in layers to look for lengths and digests.
const maxViews = 4

func settle(b []byte, edits []text.Edit, closed []Span, depth int) (extra []text.Edit, err error) {
	s := settler{b: b, edits: edits, closed: closed, budget: 4*len(b) + 1<<12}
	s.lengths()
	if err := s.digests(); err != nil {
		return nil, err
	}
	if depth < maxViews {
		for _, v := range views {
			if err := s.view(v, depth); err != nil {
				return nil, err
			}
		}
	}
	slices.Reverse(s.extra)
	return s.extra, nil
}

// Merge returns edits and more in one, in order.
func Merge(edits, more []text.Edit) []text.Edit {
	if len(more) == 0 {
		return edits
	}
	all := append(slices.Clone(edits), more...)
	slices.SortStableFunc(all, func(a, b text.Edit) int { return a.Offset - b.Offset })
	return all
}

// settler is the state of one Settle.
type settler struct {
	b      []byte
	edits  []text.Edit
	closed []Span
	extra  []text.Edit // the last of the text first: lengths are settled from the end
	budget int         // bytes of which digests may still be computed
}

// added returns the edits that were added in b[from:to], as a range of indexes.
func (s *settler) added(from, to int) (first, last int) {
	first = sort.Search(len(s.extra), func(i int) bool { return s.extra[i].Offset < to })
	last = first + sort.Search(len(s.extra)-first, func(i int) bool { return s.extra[first+i].Offset < from })
	return first, last
}

// add adds an edit.
func (s *settler) add(e text.Edit) {
	i, _ := s.added(e.Offset, e.Offset+1)
	s.extra = slices.Insert(s.extra, i, e)
}

// within returns the edits that begin in b[from:to], as a range of indexes.
func (s *settler) within(from, to int) (first, last int) {
	first = sort.Search(len(s.edits), func(i int) bool { return s.edits[i].Offset >= from })
	last = first + sort.Search(len(s.edits)-first, func(i int) bool { return s.edits[first+i].Offset >= to })
	return first, last
}

// touched reports whether an edit is in b[from:to] and none crosses its ends.
func (s *settler) touched(from, to int) bool {
	if from < 0 || to > len(s.b) || from >= to {
		return false
	}
	first, last := s.within(from, to)
	if first == last || first > 0 && end(s.edits[first-1]) > from {
		return false
	}
	return end(s.edits[last-1]) <= to
}

func end(e text.Edit) int { return e.Offset + len(e.Removed) }

// maxWritten is the longest text that an added edit removes: SHA-512 in hexadecimal digits, each of them written as an
// escape of an escape.
const maxWritten = 128 * 12

// free reports whether b[from:to] may be changed: no edit is there or at its ends, and no envelope.
func (s *settler) free(from, to int) bool {
	i := sort.Search(len(s.closed), func(i int) bool { return s.closed[i].To > from })
	if i < len(s.closed) && s.closed[i].From < to {
		return false
	}
	first, last := s.within(from, to+1)
	if first != last || first > 0 && end(s.edits[first-1]) > from {
		return false
	}
	first, last = s.added(from-maxWritten, to)
	for _, e := range s.extra[first:last] {
		if end(e) > from {
			return false
		}
	}
	return true
}

// grown is by how many bytes the edits, and those that were added, lengthen b[from:to].
func (s *settler) grown(from, to int) (n int) {
	first, last := s.within(from, to)
	for _, e := range s.edits[first:last] {
		n += len(e.Inserted) - len(e.Removed)
	}
	first, last = s.added(from, to)
	for _, e := range s.extra[first:last] {
		n += len(e.Inserted) - len(e.Removed)
	}
	return n
}

// after is b[from:to] with all edits made.
func (s *settler) after(from, to int) ([]byte, bool) {
	first, last := s.within(from, to)
	in := slices.Clone(s.edits[first:last])
	first, last = s.added(from, to)
	in = append(in, s.extra[first:last]...)
	slices.SortStableFunc(in, func(a, b text.Edit) int { return a.Offset - b.Offset })
	out, err := text.Apply(s.b[from:to], text.Shift(in, -from))
	return out, err == nil
}

// replace adds an edit, if it changes anything.
func (s *settler) replace(from, to int, by string) {
	if was := string(s.b[from:to]); was != by {
		s.add(text.Edit{Offset: from, Removed: was, Inserted: by})
	}
}

// view is how a stretch of text that is written through a layer is recognised around an edit.
type view struct {
	layer text.Layer
	ends  string // bytes that no such stretch holds
	opens string // what an escape begins with
}

// views is the table of them.
var views = []view{
	{text.Percent, "\"'<> \t\r\n`\\&#=?", "%"},
	{text.HTML, "\"<>", "&"},
	{text.Script, "\"\n", `\`},
}

// view settles what is written through a layer, by its decoded text.
func (s *settler) view(v view, depth int) error {
	if v.layer != text.HTML && bytes.IndexByte(s.b, v.opens[0]) < 0 {
		return nil
	}
	done := 0
	for _, e := range s.edits {
		if e.Offset < done {
			continue
		}
		from, to := e.Offset, e.Offset
		for from > done && !v.stops(s.b, from-1) {
			from--
		}
		for to < len(s.b) && !v.stops(s.b, to) {
			to++
		}
		done = to + 1
		stretch := s.b[from:to]
		if bytes.IndexByte(stretch, v.opens[0]) < 0 {
			if v.layer == text.HTML && (from > 0 || to < len(s.b)) && bytes.ContainsAny(stretch, "0123456789") {
				if err := s.part(from, to, depth); err != nil {
					return err
				}
			}
			continue
		}
		layer := v.layer
		if layer == text.Percent && bytes.IndexByte(stretch, '+') >= 0 {
			layer = text.Form
		}
		if err := s.through(from, to, layer, depth); err != nil {
			return err
		}
	}
	return nil
}

// part settles b[from:to] as a text of its own, such as an attribute or what is between two tags.
func (s *settler) part(from, to, depth int) error {
	first, last := s.within(from, to)
	more, err := settle(s.b[from:to], text.Shift(slices.Clone(s.edits[first:last]), -from), s.closedIn(from, to, func(p int) int { return p - from }), depth+1)
	if err != nil {
		return err
	}
	s.take(text.Shift(more, from))
	return nil
}

// closedIn returns the envelopes in b[from:to], by where they are in that part.
func (s *settler) closedIn(from, to int, at func(p int) int) (in []Span) {
	for i := sort.Search(len(s.closed), func(i int) bool { return s.closed[i].To > from }); i < len(s.closed) && s.closed[i].From < to; i++ {
		in = append(in, Span{at(max(from, s.closed[i].From)), at(min(to, s.closed[i].To))})
	}
	return in
}

// take adds the edits of a part, except what was settled already.
func (s *settler) take(more []text.Edit) {
	for _, e := range slices.Backward(more) {
		if s.free(e.Offset, end(e)) {
			s.add(e)
		}
	}
}

// stops reports whether the byte at p ends a stretch. A quote after a backslash does not.
func (v *view) stops(b []byte, p int) bool {
	if strings.IndexByte(v.ends, b[p]) < 0 {
		return false
	}
	if v.layer != text.Script || b[p] != '"' {
		return true
	}
	n := 0
	for p-n > 0 && b[p-n-1] == '\\' {
		n++
	}
	return n%2 == 0
}

// through settles b[from:to], read through a layer.
func (s *settler) through(from, to int, layer text.Layer, depth int) error {
	stack, ok := text.Of(text.Step{Layer: layer})
	if !ok {
		return nil
	}
	r := text.Open(s.b[:to], from, stack, to-from)
	if r.Raw(len(r.Text)) != to || len(r.Text) == to-from {
		return nil // it has no escapes, or is not written so
	}
	first, last := s.within(from, to)
	decoded := make([]text.Edit, 0, last-first)
	for _, e := range s.edits[first:last] {
		p, q := r.At(e.Offset), r.At(end(e))
		if r.Raw(p) != e.Offset || r.Raw(q) != end(e) {
			return nil // in the middle of an escape
		}
		decoded = append(decoded, text.Edit{Offset: p, Removed: string(r.Text[p:q]), Inserted: string(text.Decode([]byte(e.Inserted), layer))})
	}
	more, err := settle(r.Text, decoded, s.closedIn(from, to, r.At), depth+1)
	if err != nil || len(more) == 0 {
		return err
	}
	raw, ok := r.Carry(more)
	if !ok {
		return ErrUnsettled
	}
	s.take(raw)
	return nil
}
