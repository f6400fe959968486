package rewrite

import (
	"bytes"
	"slices"
	"strconv"

	"trimlantern/core/beside"
	"trimlantern/core/envelope"
)

// kin are the members of a document with what is computed from what among them.
type kin struct {
	members []beside.Member
	strings []int // for each member: its number among the document's strings, or -1
	from    []int // for each number: where its digits are
	links   []beside.Link
}

// addString adds a string; the members of a document are added in their order.
func (k *kin) addString(i int, m beside.Member) {
	k.members, k.strings, k.from = append(k.members, m), append(k.strings, i), append(k.from, -1)
}

// addNumber adds a number at a place.
func (k *kin) addNumber(from int, m beside.Member) {
	m.Lead = -1
	k.members, k.strings, k.from = append(k.members, m), append(k.strings, -1), append(k.from, from)
}

// lead notes the number directly before the last member, in the same list.
func (k *kin) lead(owner int) int {
	last := len(k.members) - 1
	if last >= 0 && k.strings[last] < 0 && k.members[last].Owner == owner {
		return last
	}
	return -1
}

// explained reports whether string i is a digest or a length of another one.
func (k *kin) explained(i int) bool {
	return k != nil && slices.ContainsFunc(k.links, func(l beside.Link) bool { return k.strings[l.Member] == i })
}

// phpKin returns what is computed from what in a serialized value; nil if nothing is.
func phpKin(b []byte, s *envelope.Serialized) *kin {
	may := beside.MayHold(b[:s.End])
	for i := 0; i < len(s.Texts) && !may; i++ {
		t := &s.Texts[i]
		may = t.Key && beside.SaysLength(b[t.Start:t.End])
	}
	for i := 0; i < len(s.Numbers) && !may; i++ {
		n := &s.Numbers[i]
		may = int(n.Next) < len(s.Texts) && s.Texts[n.Next].Up == n.Up && isNumber(b[n.Start:n.End], int(s.Texts[n.Next].End-s.Texts[n.Next].Start))
	}
	if !may {
		return nil
	}
	k := &kin{}
	up := func(owner int32) int {
		if owner < 0 {
			return -2
		}
		return s.Containers[owner].Up
	}
	numbers := s.Numbers
	add := func(next int) {
		for len(numbers) > 0 && int(numbers[0].Next) <= next {
			n := numbers[0]
			numbers = numbers[1:]
			k.addNumber(int(n.Start), beside.Member{Text: b[n.Start:n.End], Owner: int(n.Up), Up: up(n.Up), Name: b[n.NameStart:n.NameEnd]})
		}
	}
	for i, t := range s.Texts {
		add(i)
		m := beside.Member{Text: b[t.Start:t.End], Owner: int(t.Up), Up: up(t.Up), Key: t.Key, Lead: -1}
		if !t.Key {
			m.Name, m.Lead = b[t.NameStart:t.NameEnd], k.lead(int(t.Up))
		}
		m.Whole = !t.Escaped && !t.Opaque && mayHold(m.Text)
		k.addString(i, m)
	}
	add(len(s.Texts))
	return k.linked()
}

// isNumber reports whether digits are those of n.
func isNumber(digits []byte, n int) bool {
	var buf [20]byte
	return string(strconv.AppendInt(buf[:0], int64(n), 10)) == string(digits)
}

// linked finds the links; nil if there are none.
func (k *kin) linked() *kin {
	if k.links = beside.Links(k.members); len(k.links) == 0 {
		return nil
	}
	return k
}

// jsonKin does the same for a JSON document, of which numbers are given too.
func jsonKin(b []byte, texts []envelope.JSONText, numbers []envelope.JSONText) *kin {
	may := len(numbers) > 0 || beside.MayHold(b) || bytes.Contains(b, []byte(`\/`)) && beside.MayHold(bytes.ReplaceAll(b, []byte(`\/`), []byte("/")))
	for i := 0; i < len(texts) && !may; i++ {
		t := &texts[i]
		may = t.Key && beside.SaysLength(b[t.Start:t.End])
	}
	if !may {
		return nil
	}
	k := &kin{}
	add := func(before int) {
		for len(numbers) > 0 && numbers[0].Start < before {
			n := numbers[0]
			numbers = numbers[1:]
			k.addNumber(n.Start, beside.Member{Text: b[n.Start:n.End], Owner: n.Box, Up: n.Around, Name: n.Name})
		}
	}
	for i, t := range texts {
		add(t.Start)
		r := readString(b, t)
		m := beside.Member{Text: r.Text, Owner: t.Box, Up: t.Around, Key: t.Key, Name: t.Name, Lead: -1, Whole: mayHold(r.Text)}
		if !t.Key {
			m.Lead = k.lead(t.Box)
		}
		k.addString(i, m)
	}
	add(len(b) + 1)
	return k.linked()
}

// inner are the edits of each edited string of a document, in the order of their numbers.
type inner []innerEdits

type innerEdits struct {
	string int
	edits  []Edit
}

// of returns the edits of a string.
func (in inner) of(i int) []Edit {
	if k, ok := in.find(i); ok {
		return in[k].edits
	}
	return nil
}

func (in inner) find(i int) (at int, ok bool) {
	return slices.BinarySearchFunc(in, i, func(e innerEdits, i int) int { return e.string - i })
}

// set sets the edits of a string.
func (in *inner) set(i int, edits []Edit) {
	if k, ok := in.find(i); ok {
		(*in)[k].edits = edits
	} else {
		*in = slices.Insert(*in, k, innerEdits{i, edits})
	}
}

// settle adds the edits of what is computed from edited strings. It returns those of numbers, which have no edits of
// their own; offsets are the document's. ok == false: it is uncertain what they become.
func (k *kin) settle(edits *inner) (raw []Edit, ok bool) {
	if k == nil || len(*edits) == 0 {
		return nil, true
	}
	after := func(m int) []byte {
		if i := k.strings[m]; i >= 0 && len(edits.of(i)) > 0 {
			if out, err := Apply(k.members[m].Text, edits.of(i)); err == nil {
				return out
			}
		}
		return k.members[m].Text
	}
	for _, l := range k.links {
		if !slices.ContainsFunc(l.Parts(), func(m int) bool { return k.strings[m] >= 0 && len(edits.of(k.strings[m])) > 0 }) {
			continue
		}
		was := string(k.members[l.Member].Text[l.Token.Start:l.Token.End])
		e := Edit{Offset: l.Token.Start, Removed: was, Inserted: l.Write(k.members, after)}
		if e.Inserted == was {
			continue
		} else if e.Inserted == "" {
			return nil, false
		}
		if i := k.strings[l.Member]; i < 0 {
			e.Offset += k.from[l.Member]
			raw = append(raw, e)
		} else if !slices.ContainsFunc(edits.of(i), func(x Edit) bool {
			return x.Offset < l.Token.End && x.Offset+len(x.Removed) >= l.Token.Start
		}) {
			edits.set(i, sorted(append(slices.Clone(edits.of(i)), e)))
		}
	}
	return raw, true
}

// sorted puts edits in order.
func sorted(edits []Edit) []Edit {
	slices.SortStableFunc(edits, func(a, b Edit) int { return a.Offset - b.Offset })
	return edits
}
