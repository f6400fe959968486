package rewrite

import (
	"bytes"
	"errors"
	"slices"
	"strconv"

	"trimlantern/core/envelope"
	"trimlantern/core/text"
)

// ErrDeeper says that a value could be mended, and something in it could not.
var ErrDeeper = errors.New("something inside it cannot be mended")

// Mend works out the edits that correct the lengths of serialized values that are
// not sound: of the value itself, and of those inside it, in whatever layers. broken is
// false where there is nothing to mend; the error says why there is, and it cannot be done: what it
// proposes makes the value sound all the way down, or it proposes nothing.
func Mend(b []byte, cause envelope.Cause) (edits []Edit, broken bool, err error) {
	m := &mending{cause: cause, budget: 16*len(b) + 1<<16}
	edits = m.text(b, 0)
	switch {
	case m.err != nil:
		return nil, true, m.err
	case len(edits) == 0:
		return nil, false, nil
	}
	after, err := Apply(b, edits)
	if err != nil {
		return nil, true, err
	}
	again := &mending{cause: cause, budget: 16*len(after) + 1<<16}
	if more := again.text(after, 0); len(more) > 0 || again.err != nil {
		return nil, true, ErrDeeper
	}
	return edits, true, nil
}

// mending is the way through one value.
type mending struct {
	cause  envelope.Cause
	budget int
	err    error // the first that tells why something cannot be mended
}

// try returns a way that may be given up, or joined.
func (m *mending) try() *mending { return &mending{cause: m.cause, budget: m.budget} }

func (m *mending) join(try *mending) {
	m.budget = try.budget
	if try.err != nil {
		m.failed(try.err)
	}
}

func (m *mending) failed(err error) {
	if m.err == nil {
		m.err = err
	}
}

// text mends what a text holds.
func (m *mending) text(b []byte, depth int) []Edit {
	if depth > maxDepth {
		return nil
	}
	if h, ok := envelope.NextHead(b, 0); ok && h.Start == 0 && h.Type != 0 && (!h.Brace || h.Members(b)) {
		if stacks := h.Stacks(b); len(stacks) > 0 && !stacks[0].Plain() {
			if edits, ok := m.written(b, h, stacks, depth); ok {
				return edits
			}
		} else if envelope.LooksSerialized(b) {
			if edits, end, ok := m.value(b, depth); ok {
				return append(edits, text.Shift(m.inside(b[end:], depth), end)...)
			}
			return nil
		}
	}
	if envelope.LooksJSON(b) {
		d := document{}
		if envelope.OpenJSON(b, d.add) {
			return m.json(b, d.texts, depth)
		}
	}
	return m.inside(b, depth)
}

// written mends a text that is one serialized value, as a whole, written in layers.
func (m *mending) written(b []byte, h envelope.Head, stacks []text.Stack, depth int) (edits []Edit, ok bool) {
	for _, s := range slices.Clone(stacks) {
		stacks = append(stacks, s.Variants(b[:min(len(b), 1<<14)])...)
	}
	for _, s := range stacks {
		r := text.Open(b, 0, s, len(b))
		if m.budget -= len(r.Text); m.budget < 0 {
			return nil, false
		}
		if r.Raw(len(r.Text)) != len(b) {
			continue
		}
		try := m.try()
		inner, end, ok := try.value(r.Text, depth+1)
		if !ok || try.err != nil || len(bytes.TrimSpace(r.Text[end:])) > 0 {
			continue
		}
		if raw, ok := r.Carry(inner); ok {
			return raw, true
		}
	}
	return nil, false
}

// value mends the serialized value that b begins with; end is behind it. ok == false: it
// cannot be done.
func (m *mending) value(b []byte, depth int) (edits []Edit, end int, ok bool) {
	s, err := envelope.OpenPHP(b)
	if err == nil {
		// Sound as it stands; but a length that is too short may end at a quote or a brace inside.
		whole := len(bytes.TrimSpace(b[s.End:])) == 0
		try := m.try()
		edits = try.strings(b, s, nil, depth)
		if whole && try.err == nil || m.cause == (envelope.Cause{}) || len(edits) == 0 && try.err == nil && whole {
			m.join(try)
			end = s.End
			s.Done()
			return edits, end, true
		}
		if lengths, merr := envelope.Mend(b, m.cause); merr == nil && len(lengths) > 0 {
			s.Done()
			err, edits = envelope.ErrNoReading, nil
		} else {
			m.join(try)
			end = s.End
			s.Done()
			return edits, end, true
		}
	}
	if err != nil {
		lengths, merr := envelope.Mend(b, m.cause)
		last := len(b)
		if merr != nil && m.cause != (envelope.Cause{}) {
			var all []envelope.Reading
			if all, merr = envelope.MendPrefix(b, m.cause); len(all) > 1 {
				merr = envelope.ErrTwoReadings
			}
			if merr == nil {
				lengths, last = all[0].Lengths, all[0].End
			}
		}
		if merr == nil && len(lengths) == 0 {
			merr = err
		}
		if merr != nil {
			if lengths, merr = envelope.Mend(b, envelope.Cause{}); merr != nil {
				m.failed(merr)
				return nil, 0, false
			}
			last = len(b)
		}
		for _, l := range lengths {
			edits = append(edits, Edit{Offset: l.Start, Removed: string(b[l.Start:l.End]), Inserted: l.Digits()})
		}
		after, err := Apply(b[:last], edits)
		if err == nil {
			s, err = envelope.OpenPHP(after)
		}
		if err != nil {
			m.failed(err)
			return nil, 0, false
		}
		end = last
	}
	defer s.Done()
	return m.strings(b, s, edits, depth), end, true
}

// strings mends inside the strings of a value, which was read with the corrected lengths
// that fixed gives it, and returns all edits.
func (m *mending) strings(b []byte, s *envelope.Serialized, fixed []Edit, depth int) []Edit {
	was := func(p int32) int { // where something stands before it is fixed
		at, moved := int(p), 0
		for _, e := range fixed {
			if e.Offset+moved >= at {
				break
			}
			moved += len(e.Inserted) - len(e.Removed)
		}
		return at - moved
	}
	var edits []Edit
	next := 0
	for _, t := range s.Texts {
		if t.Escaped {
			continue
		}
		start, end := was(t.Start), was(t.End)
		digits := was(t.LenStart)
		inner := m.text(b[start:end], depth+1)
		size := strconv.Itoa(end - start + grown(inner, false))
		for next < len(fixed) && fixed[next].Offset < digits {
			edits, next = append(edits, fixed[next]), next+1
		}
		old := digits
		for old < len(b) && b[old] >= '0' && b[old] <= '9' {
			old++
		}
		if next < len(fixed) && fixed[next].Offset == digits {
			next++
		}
		if n, err := strconv.Atoi(string(b[digits:old])); err == nil && start > 0 && b[start-1] == '{' && !m.explains(b[start:end], inner, end-start+grown(inner, false)-n) {
			m.failed(envelope.ErrNoReading) // a payload, of which only what is inside can tell how much it grew
		}
		if string(b[digits:old]) != size {
			edits = append(edits, Edit{Offset: digits, Removed: string(b[digits:old]), Inserted: size})
		}
		edits = append(edits, text.Shift(inner, start)...)
	}
	return append(edits, fixed[next:]...)
}

// explains reports whether the cause can have made a text longer by some bytes, corrected lengths included: by as much as
// the strings in it that are corrected say, and at most by the replacements between them.
func (m *mending) explains(b []byte, inner []Edit, longer int) bool {
	per := len(m.cause.Now) - len(m.cause.Was)
	if per <= 0 || len(inner) == 0 {
		return true
	}
	now, between, covered := []byte(m.cause.Now), 0, 0
	for _, e := range inner {
		was, err := strconv.Atoi(e.Removed)
		is, err2 := strconv.Atoi(e.Inserted)
		if err != nil || err2 != nil {
			return true // written in another layer
		}
		if e.Offset < covered {
			continue // inside of the one before
		}
		between += bytes.Count(b[covered:e.Offset], now)
		longer -= is - was + len(e.Inserted) - len(e.Removed)
		covered = min(e.Offset+len(e.Removed)+is, len(b))
	}
	between += bytes.Count(b[covered:], now)
	return longer >= 0 && longer <= between*per && longer%per == 0
}

// json mends inside the strings of a document.
func (m *mending) json(b []byte, texts []envelope.JSONText, depth int) (edits []Edit) {
	for _, t := range texts {
		r := text.Open(b[:t.End], t.Start, jsonString, t.End-t.Start)
		inner := m.text(r.Text, depth+1)
		if len(inner) == 0 {
			continue
		}
		raw, ok := r.Carry(inner)
		if !ok {
			m.failed(envelope.ErrNoReading)
			return nil
		}
		edits = append(edits, raw...)
	}
	return edits
}

// object mends inside the JSON object at start, whose first quote is written at
// b[quote:end]; 0: it is none.
func (m *mending) object(b []byte, start, quote, end, depth int) (edits []Edit, behind int) {
	for _, s := range text.Stacks(b, quote, end, '"') {
		r := text.Open(b, start, s.Unstopped(), len(b))
		d := document{}
		n, ok := envelope.ReadJSON(r.Text, d.add)
		if m.budget -= n; !ok {
			continue
		}
		if raw, ok := r.Carry(m.json(r.Text, d.texts, depth+1)); ok {
			return raw, r.Raw(n)
		}
	}
	return nil, 0
}

// inside mends the serialized values that stand in a text, and in the JSON that stands there.
func (m *mending) inside(b []byte, depth int) (edits []Edit) {
	object, quote, quoteEnd := envelope.NextObject(b, 0)
	held := 0 // so far a string reaches at least whose length fits in no reading
	defer func() {
		if held < 0 {
			m.failed(envelope.ErrNoReading)
		}
	}()
	add := func(more []Edit) {
		if len(more) > 0 && more[0].Offset < held {
			held = -1
		}
		edits = append(edits, more...)
	}
	for p := 0; m.budget > 0 && held >= 0; {
		h, ok := envelope.NextHead(b, p)
		if !ok {
			break
		}
		if object >= 0 && object < p {
			object, quote, quoteEnd = envelope.NextObject(b, p)
		}
		if object >= 0 && object < h.Start {
			more, end := m.object(b, object, quote, quoteEnd, depth)
			if end > 0 {
				add(more)
				p = end
			}
			object, quote, quoteEnd = envelope.NextObject(b, max(p, object+1))
			continue
		}
		p = h.Body + 1
		if h.Type == 0 || h.Word && !h.Brace {
			continue
		}
		found, cost, err := h.Open(b)
		m.budget -= cost
		if err == nil {
			more, end := m.sound(b, h, found, depth)
			add(more)
			p = end
			continue
		}
		fixed, end, _ := m.spelled(b, h, depth)
		if end == 0 {
			if h.Brace && h.Members(b) || h.Type == 'O' || h.Type == 'C' {
				m.failed(err)
			}
			if !h.Brace && !h.Word && (h.Type == 's' || h.Type == 'S') {
				held = max(held, min(h.Body+h.N, len(b)))
				if m.outgrown(b, h) {
					m.failed(envelope.ErrNoReading)
				}
			}
			continue
		}
		add(fixed)
		p = end
	}
	return edits
}

// sound mends inside a value that is sound as it stands, or the value itself where that is so by chance; end is behind it.
func (m *mending) sound(b []byte, h envelope.Head, found envelope.Found, depth int) (edits []Edit, end int) {
	try := m.try()
	inner := try.strings(found.Region.Text, found.Value, nil, depth+1)
	raw, ok := found.Region.Carry(inner)
	cut := cutsJSON(found.Region.Text, found.Value)
	found.Value.Done()
	if !ok {
		try.failed(envelope.ErrNoReading)
	}
	// Where what is inside is wrong, or what follows looks like its own end, perhaps its own length is what is wrong.
	if len(inner) > 0 || try.err != nil || cut || closes(b, found.End) {
		fixed, end, err := m.spelled(b, h, depth)
		if end > 0 {
			return fixed, end
		}
		if errors.Is(err, envelope.ErrTwoReadings) {
			try.failed(err)
		}
	} else if likeliest := h.Stacks(b)[:1]; found.Region.Stack != likeliest[0] {
		if _, end, _ := m.spelledAs(b, h, likeliest, depth); end > 0 { // sound in another way than the usual one alone
			try.failed(envelope.ErrTwoReadings)
		}
	}
	m.join(try)
	return raw, found.End
}

// outgrown reports whether a string ends as far behind its length as the cause can have made it longer.
func (m *mending) outgrown(b []byte, h envelope.Head) bool {
	per := len(m.cause.Now) - len(m.cause.Was)
	for _, s := range h.Stacks(b) {
		r := text.Open(b, h.Start, s, 8*min(h.N, len(b))+1<<10) // as far as it can reach, or the budget is soon spent on prose
		if m.budget -= len(r.Text); per <= 0 || m.budget < 0 {
			return false
		}
		body := bytes.IndexByte(r.Text, '"') + 1
		end := body + h.N
		if body == 0 || end > len(r.Text) {
			continue
		}
		for times := bytes.Count(r.Text[body:], []byte(m.cause.Now)); times > 0; times-- {
			if at := end + times*per; at+1 < len(r.Text) && r.Text[at] == '"' && r.Text[at+1] == ';' && bytes.Count(r.Text[body:at], []byte(m.cause.Now)) >= times {
				return true
			}
		}
	}
	return false
}

// cutsJSON reports whether a string of a value begins as a JSON object does, and is none to its end.
func cutsJSON(b []byte, s *envelope.Serialized) bool {
	for _, t := range s.Texts {
		if in := b[t.Start:t.End]; bytes.HasPrefix(in, []byte(`{"`)) && !envelope.OpenJSON(in, func(envelope.JSONText) {}) {
			return true
		}
	}
	return false
}

// closes reports whether the end of a string or a payload is written at p.
func closes(b []byte, p int) bool {
	if p >= len(b) {
		return false
	}
	c, q, _ := text.Unit(b, p)
	if c == '"' && q < len(b) {
		c, _, _ = text.Unit(b, q)
		return c == ';'
	}
	return c == '}'
}

// spelled mends the value at a head, in whatever layers it is written; end == 0: it cannot be
// done, as err says.
func (m *mending) spelled(b []byte, h envelope.Head, depth int) (edits []Edit, end int, err error) {
	stacks := h.Stacks(b)
	for _, s := range slices.Clone(stacks) {
		stacks = append(stacks, s.Variants(b[h.Start:min(len(b), h.Start+1<<14)])...)
	}
	return m.spelledAs(b, h, stacks, depth)
}

// spelledAs mends the value at a head where it is written as one of the stacks.
func (m *mending) spelledAs(b []byte, h envelope.Head, stacks []text.Stack, depth int) (edits []Edit, end int, err error) {
	if m.cause == (envelope.Cause{}) {
		return nil, 0, envelope.ErrNoReading
	}
	for _, s := range stacks {
		r := text.Open(b, h.Start, s, len(b))
		if m.budget -= len(r.Text); m.budget < 0 {
			return nil, 0, envelope.ErrTooHard
		}
		all, merr := envelope.MendPrefix(r.Text, m.cause)
		fits := 0
		for _, reading := range all {
			if len(reading.Lengths) == 0 {
				continue
			}
			try := m.try()
			inner, _, ok := try.value(r.Text[:reading.End], depth+1)
			if m.budget = try.budget; !ok || try.err != nil {
				continue
			}
			if raw, ok := r.Carry(inner); ok {
				edits, end, fits = raw, r.Raw(reading.End), fits+1
			}
		}
		switch {
		case fits == 1:
			return edits, end, nil
		case fits > 1:
			err = envelope.ErrTwoReadings
		case err == nil:
			err = merr
		}
	}
	return nil, 0, err
}
