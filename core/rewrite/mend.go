package rewrite

import (
	"bytes"
	"errors"
	"slices"
	"strconv"
	"strings"

	"trimlantern/core/envelope"
	"trimlantern/core/seek"
	"trimlantern/core/text"
)

// ErrDeeper says that a value could be mended, and something in it could not.
var ErrDeeper = errors.New("something inside it cannot be mended")

// Mend works out the edits that correct serialized values that are not sound: the value itself, and those inside it, in
// whatever layers and envelopes. It takes the same way through the value as Value does; references stay. broken is
// false where there is nothing to mend; the error says why there is, and it cannot be done: what it
// proposes makes the value sound all the way down, or it proposes nothing. Where Value reports something unsound, broken is
// true.
func (r *Rules) Mend(b []byte, cause envelope.Cause) (edits []Edit, broken bool, err error) {
	if !mayBreak(b) {
		return nil, false, nil
	}
	if edits, err = r.mended(b, cause); err != nil {
		return nil, true, err
	}
	after := b
	if len(edits) > 0 {
		if after, err = Apply(b, edits); err != nil {
			return nil, true, err
		}
		if more, err := r.mended(after, cause); len(more) > 0 || err != nil {
			return nil, true, ErrDeeper
		}
	}
	quiet := *r
	quiet.Rewritten, quiet.Edit = nil, nil
	if mayHold(after) {
		for _, f := range quiet.Value(after).Left {
			if f.Reason == Unsound {
				return nil, true, fault(f.Note)
			}
		}
	}
	return edits, len(edits) > 0, nil
}

func (r *Rules) mended(b []byte, cause envelope.Cause) ([]Edit, error) {
	w := newWorker(r, b)
	w.mend = &repair{cause: cause}
	edits := w.open(b, nil, 0)
	return edits, w.mend.err
}

// mayBreak reports whether a value can hold something serialized, in whatever envelope: a first look.
func mayBreak(b []byte) bool {
	_, ok := envelope.NextHead(b, 0)
	return ok || codedHeads.Next(b, 0) >= 0 || envelope.NextBase64(b, 0) >= 0 || envelope.NextPacked(b, 0) >= 0 || hidden(b)
}

// isCoded reports whether a value begins as base64 of something serialized or compressed does: YTo is a:.
func isCoded(b []byte) bool { return len(b) > 2 && codedHeads.Next(b[:3], 0) >= 0 }

// codedHeads finds the beginnings of a:, O:, s:, C:, E:, S:, gzip and zlib in base64.
var codedHeads = seek.NewTriples([]seek.Class{{First: "Y", Second: "T"}, {First: "TQcU", Second: "z"}, {First: "R", Second: "T"}, {First: "H", Second: "4"}, {First: "e", Second: "JNFA"}}, base64Bytes)

const base64Bytes = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_"

// openCoded mends what is in base64 as a whole; where nothing is to be rewritten the base64 has no other mark.
func (w *worker) openCoded(b []byte, at *place, depth int) ([]Edit, bool) {
	t := &reading{worker: w, b: b, at: at, depth: depth, spelled: -1, raw: -1}
	return t.edits, t.base64(0) == len(b)
}

// may reports whether a text can hold what the worker looks for.
func (w *worker) may(b []byte) bool {
	if w.mend != nil {
		return mayBreak(b)
	}
	return mayHold(b)
}

// repair is what a worker knows that mends.
type repair struct {
	cause envelope.Cause
	err   error // the first that tells why something cannot be mended
}

func (m *repair) failed(err error) {
	if m.err == nil { // the first tells most
		m.err = err
	}
}

// try does something that may be given up, and returns what failed.
func (m *repair) try(do func()) error {
	before := m.err
	m.err = nil
	do()
	err := m.err
	m.err = before
	return err
}

// mendPHP mends a text that begins as a serialized value does.
func (w *worker) mendPHP(b []byte, at *place, depth int) ([]Edit, bool) {
	h, ok := envelope.NextHead(b, 0)
	if !ok || h.Start != 0 || h.Type == 0 || h.Brace && !h.Members(b) {
		return nil, false
	}
	if stacks := h.Stacks(b); len(stacks) > 0 && !stacks[0].Plain() {
		return w.mendWritten(b, stacks, at, depth)
	}
	edits, end, ok := w.mendValue(b, at, depth)
	if !ok {
		return nil, true
	}
	return append(edits, text.Shift(w.inside(b[end:], at, depth), end)...), true
}

// mendWritten mends a text that is one serialized value, as a whole, written in layers.
func (w *worker) mendWritten(b []byte, stacks []text.Stack, at *place, depth int) (edits []Edit, ok bool) {
	for _, s := range slices.Clone(stacks) {
		stacks = append(stacks, s.Variants(b[:min(len(b), 1<<14)])...)
	}
	first, fewer := -1, false
	for _, s := range stacks {
		r := text.Open(b, 0, s, len(b))
		if w.budget -= len(r.Text); w.budget < 0 {
			return nil, false
		}
		if r.Raw(len(r.Text)) != len(b) {
			continue
		}
		var raw []Edit
		count := -1
		err := w.mend.try(func() {
			inner, end, ok := w.mendValue(r.Text, &place{up: at, label: s.String()}, depth+1)
			if ok && len(bytes.TrimSpace(r.Text[end:])) == 0 && !writesNUL(inner) {
				if raw, ok = r.Carry(inner); ok {
					count = len(inner)
				}
			}
		})
		switch {
		case first < 0 && (errors.Is(err, envelope.ErrTwoReadings) || errors.Is(err, envelope.ErrTooHard)):
			w.mend.failed(err) // the next one would be less likely
			return nil, true
		case err != nil || count < 0:
		case first < 0:
			edits, first = raw, count
		default: // read as it is written, most lengths fit
			fewer = fewer || count <= first && !slices.Equal(raw, edits)
		}
	}
	if fewer {
		w.mend.failed(envelope.ErrTwoReadings)
	}
	return edits, first >= 0
}

// mendValue mends the serialized value that b begins with; end is after it. ok == false: it
// cannot be done.
func (w *worker) mendValue(b []byte, at *place, depth int) (edits []Edit, end int, ok bool) {
	known := w.mend.cause != (envelope.Cause{})
	if s, err := envelope.OpenPHP(b); err == nil {
		// Sound as it is; but a length that is too short may end at a quote or a brace inside.
		end = s.End
		whole := len(bytes.TrimSpace(b[end:])) == 0
		terr := w.mend.try(func() { edits = w.mendMembers(b, s, nil, at, depth) })
		s.Done()
		if !known && (whole || !closes(b, end)) || whole && terr == nil {
			w.mend.failed(terr)
			return edits, end, true
		}
		fixes, merr := envelope.Mend(b, w.mend.cause)
		if merr != nil || len(fixes) == 0 {
			w.mend.failed(terr)
			return edits, end, true
		}
		return w.mendBy(b, fixes, at, depth)
	}
	fixes, err := envelope.Mend(b, w.mend.cause)
	end = len(b)
	if err != nil && known {
		var all []envelope.Reading
		if all, _, err = envelope.MendPrefix(b, w.mend.cause); len(all) > 1 {
			err = envelope.ErrTwoReadings
		} else if err == nil {
			fixes, end = all[0].Edits, all[0].End
		}
		if err != nil {
			fixes, err = envelope.Mend(b, envelope.Cause{})
		}
	}
	if err == nil && len(fixes) == 0 {
		err = envelope.ErrNoReading
	}
	if err != nil {
		w.mend.failed(err)
		return nil, 0, false
	}
	return w.mendBy(b[:end], fixes, at, depth)
}

// mendBy mends a serialized value that fixes make sound, and what is in it.
func (w *worker) mendBy(b []byte, fixes []Edit, at *place, depth int) (edits []Edit, end int, ok bool) {
	after, err := Apply(b, fixes)
	if err == nil {
		var s *envelope.Serialized
		if s, err = envelope.OpenPHP(after); err == nil {
			defer s.Done()
			return text.Compose(b, after, fixes, w.mendMembers(after, s, fixes, at, depth)), len(b), true
		}
	}
	w.mend.failed(err)
	return nil, 0, false
}

// mendMembers mends inside the strings of a value that fixes made sound.
func (w *worker) mendMembers(b []byte, s *envelope.Serialized, fixes []Edit, at *place, depth int) []Edit {
	edits := w.seal(b, s, at, depth)
	for _, t := range s.Texts {
		if !t.Opaque {
			continue
		}
		// A payload, of which only what is inside can tell how much it grew.
		digits, moved := string(b[t.LenStart:t.LenEnd]), 0
		for _, e := range fixes {
			if e.Offset+moved == int(t.LenStart) {
				digits = e.Removed
			}
			moved += len(e.Inserted) - len(e.Removed)
		}
		was, err := strconv.Atoi(digits)
		var inner []Edit
		for _, e := range edits {
			if e.Offset >= int(t.Start) && e.Offset < int(t.End) {
				inner = append(inner, Edit{Offset: e.Offset - int(t.Start), Removed: e.Removed, Inserted: e.Inserted})
			}
		}
		if now := int(t.End-t.Start) + grown(inner, false); err == nil && !w.mend.explains(b[t.Start:t.End], inner, now-was) {
			w.mend.failed(envelope.ErrNoReading)
		}
	}
	return edits
}

// explains reports whether the cause can have made a text longer by some bytes, corrected lengths included: by as much as
// the strings in it that are corrected say, and at most by the replacements between them.
func (m *repair) explains(b []byte, inner []Edit, longer int) bool {
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

// mendHead mends the serialized value at a head. It returns where that ends, or 0 where there is nothing to be done.
func (t *reading) mendHead(h envelope.Head) (end int) {
	if h.Type == 0 || h.Word && !h.Brace || t.budget < 0 {
		return 0
	}
	found, cost, err := h.Open(t.b)
	t.budget -= cost
	var edits []Edit
	if err == nil {
		edits, end = t.mendSound(h, found)
	} else if edits, end, _ = t.mendSpelled(h); end == 0 {
		if h.Brace && h.Members(t.b) || h.Type == 'O' || h.Type == 'C' {
			t.mend.failed(err)
		}
		if !h.Brace && (h.Type == 's' || h.Type == 'S') {
			t.held = max(t.held, min(h.Body+h.N, len(t.b)))
			if t.outgrown(h) {
				t.mend.failed(envelope.ErrNoReading)
			}
		}
		return 0
	}
	t.add(edits)
	t.close(h.Start, end)
	return end
}

// mendSound mends inside a value that is sound as it is, or the value itself where that is so by chance.
func (t *reading) mendSound(h envelope.Head, found envelope.Found) (edits []Edit, end int) {
	at := &place{up: t.at, pos: h.Start}
	var inner, raw []Edit
	terr := t.mend.try(func() {
		var ok bool
		inner = t.mendMembers(found.Region.Text, found.Value, nil, at, t.depth+1)
		if raw, ok = found.Region.Carry(inner); !ok {
			t.mend.failed(envelope.ErrNoReading)
		}
	})
	cut := cutsJSON(found.Region.Text, found.Value)
	found.Value.Done()
	// Where what is inside is wrong, or what follows looks like its own end, perhaps its own length is what is wrong.
	if len(inner) > 0 || terr != nil || cut || closes(t.b, found.End) {
		fixed, end, err := t.mendSpelled(h)
		if end > 0 {
			return fixed, end
		}
		if terr == nil && errors.Is(err, envelope.ErrTwoReadings) {
			terr = err
		}
	} else if likeliest := h.Stacks(t.b)[:1]; found.Region.Stack != likeliest[0] {
		if _, end, _ := t.mendAs(h, likeliest); end > 0 { // sound in another way than the usual one alone
			terr = envelope.ErrTwoReadings
		}
	}
	if terr != nil {
		t.mend.failed(terr)
	}
	return raw, found.End
}

// outgrown reports whether a string ends as far behind its length as the cause can have made it longer.
func (t *reading) outgrown(h envelope.Head) bool {
	per := len(t.mend.cause.Now) - len(t.mend.cause.Was)
	for _, s := range h.Stacks(t.b) {
		r := text.Open(t.b, h.Start, s, 8*min(h.N, len(t.b))+1<<10) // as far as it can reach, or the budget is soon spent on prose
		if t.budget -= len(r.Text); per <= 0 || t.budget < 0 {
			return false
		}
		body := bytes.IndexByte(r.Text, '"') + 1
		end := body + h.N
		if body == 0 || end > len(r.Text) {
			continue
		}
		for times := bytes.Count(r.Text[body:], []byte(t.mend.cause.Now)); times > 0; times-- {
			if at := end + times*per; at+1 < len(r.Text) && r.Text[at] == '"' && r.Text[at+1] == ';' && bytes.Count(r.Text[body:at], []byte(t.mend.cause.Now)) >= times {
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

// mendSpelled mends the value at a head, in whatever layers it is written; end == 0: it cannot be
// done, as err says.
func (t *reading) mendSpelled(h envelope.Head) (edits []Edit, end int, err error) {
	stacks := h.Stacks(t.b)
	for _, s := range slices.Clone(stacks) {
		stacks = append(stacks, s.Variants(t.b[h.Start:min(len(t.b), h.Start+1<<14)])...)
	}
	if edits, end, err = t.mendAs(h, stacks); end > 0 || errors.Is(err, envelope.ErrTwoReadings) {
		return edits, end, err
	}
	if s := stacks[0]; !s.Plain() { // what is written between quotes is a value as a whole
		r := text.Open(t.b, h.Start, s, len(t.b))
		if t.budget -= len(r.Text); t.budget < 0 {
			return nil, 0, envelope.ErrTooHard
		}
		if r.Raw(len(r.Text)) == len(t.b) {
			return nil, 0, err
		}
		var inner []Edit
		var n int
		var ok bool
		terr := t.mend.try(func() { inner, n, ok = t.mendValue(r.Text, &place{up: t.at, pos: h.Start}, t.depth+1) })
		if ok && terr == nil && n == len(r.Text) && len(inner) > 0 && !writesNUL(inner) {
			if raw, ok := r.Carry(inner); ok {
				return raw, r.Raw(n), nil
			}
		}
	}
	return nil, 0, err
}

// mendAs mends the value at a head where it is written as one of the stacks.
func (t *reading) mendAs(h envelope.Head, stacks []text.Stack) (edits []Edit, end int, err error) {
	if t.mend.cause == (envelope.Cause{}) {
		return nil, 0, envelope.ErrNoReading
	}
	for _, s := range stacks {
		edits, end, serr := t.mendIn(h, s)
		if end > 0 {
			return edits, end, nil
		}
		if err == nil || errors.Is(serr, envelope.ErrTwoReadings) {
			err = serr
		}
	}
	return nil, 0, err
}

// writesNUL reports whether edits insert a NUL. How it is written in other text is uncertain: a backslash and a 0 may
// be one already.
func writesNUL(edits []Edit) bool {
	return slices.ContainsFunc(edits, func(e Edit) bool { return strings.Contains(e.Inserted, "\x00") })
}

// mendWindow is how much of a text is read first for a value that is to be mended.
const mendWindow = 1 << 12

// mendIn mends the value at a head where it is written as one stack.
func (t *reading) mendIn(h envelope.Head, s text.Stack) (edits []Edit, end int, err error) {
	for size := max(mendWindow, 2*min(h.N, len(t.b))); ; size *= 4 {
		r := text.Open(t.b, h.Start, s, size)
		if t.budget -= len(r.Text); t.budget < 0 {
			return nil, 0, envelope.ErrTooHard
		}
		all, cut, err := envelope.MendPrefix(r.Text, t.mend.cause)
		if cut && !r.Whole {
			continue
		}
		fits := 0
		for _, reading := range all {
			if len(reading.Edits) == 0 {
				continue
			}
			var inner []Edit
			var ok bool
			terr := t.mend.try(func() {
				inner, _, ok = t.mendValue(r.Text[:reading.End], &place{up: t.at, pos: h.Start}, t.depth+1)
			})
			if !ok || terr != nil || writesNUL(inner) {
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
			return nil, 0, envelope.ErrTwoReadings
		}
		return nil, 0, err
	}
}
