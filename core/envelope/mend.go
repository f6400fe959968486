package envelope

import (
	"bytes"
	"errors"
	"slices"
	"strconv"
)

// Length is a corrected length of a string in a serialized value.
type Length struct {
	Start, End int // the digits that stand there
	N          int // what they should say
}

// Why a value could not be mended.
var (
	ErrNoReading   = errors.New("no lengths make it sound")
	ErrTwoReadings = errors.New("more than one reading makes it sound")
	ErrTooHard     = errors.New("too many readings to try")
)

// maxMisfits bounds how deep the readings branch.
const maxMisfits = 100_000

// mendSteps bounds the work of Mend: steps for each byte of the value.
const mendSteps = 64

// Cause is what broke lengths: a replacement of one text by another that took no care of
// them. The zero Cause is one that nobody knows.
type Cause struct {
	Was string `json:"was"`
	Now string `json:"now"`
}

// Mend finds the lengths that make a serialized value sound which an earlier
// careless replacement broke. Lengths that fit are kept; the answer counts only
// where exactly one reading makes the value sound to its end. Where the cause is known, each
// length follows from the one that stands there: it grew by as much with each place
// where Now stands.
func Mend(b []byte, cause Cause) ([]Length, error) {
	readings, err := mend(b, cause, false, 2)
	switch {
	case err != nil:
		return nil, err
	case len(readings) > 1:
		return nil, ErrTwoReadings
	}
	return readings[0].Lengths, nil
}

// Reading is a way in which corrected lengths make a value sound.
type Reading struct {
	Lengths []Length
	End     int // behind the value
}

// MaxReadings is how many readings MendPrefix returns at the most.
const MaxReadings = 8

// MendPrefix returns the ways to mend a value that other text follows.
func MendPrefix(b []byte, cause Cause) ([]Reading, error) { return mend(b, cause, true, MaxReadings) }

func mend(b []byte, cause Cause, prefix bool, most int) ([]Reading, error) {
	m := &mender{b: b, prefix: prefix, most: most, budget: 4096 + mendSteps*len(b), step: len(cause.Now) - len(cause.Was), now: len(cause.Now)}
	if m.step != 0 {
		for p := 0; ; {
			n := bytes.Index(b[p:], []byte(cause.Now))
			if n < 0 {
				break
			}
			m.marks = append(m.marks, p+n)
			p += n + len(cause.Now)
		}
		m.all = true // as a rule every place was replaced
		m.read(0, &mendFrame{left: 1, value: true}, nil)
		if len(m.found) > 0 {
			return m.found, nil
		}
		m.all, m.budget = false, 4096+mendSteps*len(b)
	}
	m.read(0, &mendFrame{left: 1, value: true}, nil)
	switch {
	case m.budget <= 0:
		return nil, ErrTooHard
	case len(m.found) == 0:
		return nil, ErrNoReading
	}
	return m.found, nil
}

// mendFrame is what is still to be read: so many items of a container, and then
// what encloses it.
type mendFrame struct {
	left  int  // keys and values
	value bool // no container but the one value that is the whole
	up    *mendFrame
}

// mendFix is a list of corrected lengths, the last first.
type mendFix struct {
	Length
	up *mendFix
}

type mender struct {
	b       []byte
	prefix  bool  // other text may follow
	step    int   // how much each place where the new text stands adds; 0: nobody knows
	now     int   // how long that is
	marks   []int // these places
	all     bool  // each of them was replaced
	budget  int
	misfits int // strings that were tried with other lengths
	most    int // so many readings are enough
	found   []Reading
}

// read goes on at p and counts the readings that come to a sound end.
func (m *mender) read(p int, f *mendFrame, fixes *mendFix) {
	for m.wants() {
		m.budget--
		if f.left == 0 {
			if f.value {
				m.end(p, fixes)
				return
			}
			if p >= len(m.b) || m.b[p] != '}' {
				return
			}
			p, f = p+1, f.up
			continue
		}
		key := !f.value && f.left%2 == 0
		f = &mendFrame{left: f.left - 1, value: f.value, up: f.up}
		if p+1 >= len(m.b) {
			return
		}
		c := m.b[p]
		switch {
		case c == 's':
			if p = m.text(p, f, fixes); p < 0 {
				return
			}
		case c == 'C' && !key && m.step != 0:
			if p = m.payload(p, f, fixes); p < 0 {
				return
			}
		case c == 'i' || !key && (c == 'b' || c == 'd' || c == 'N' || c == 'r' || c == 'R' || c == 'E' || c == 'C' || c == 'S'):
			one := &phpParser{b: m.b, p: p, out: &Serialized{b: m.b}}
			if one.value(name{}, -1, 0, true) != nil {
				return
			}
			p = one.p
		case !key && (c == 'a' || c == 'O'):
			head := &phpParser{b: m.b, p: p + 2, out: &Serialized{b: m.b}}
			if m.b[p+1] != ':' {
				return
			}
			if c == 'O' {
				if _, err := head.quoted(-1); err != nil || head.want(':', -1) != nil {
					return
				}
			}
			n, _, _, err := head.length(-1)
			if err != nil || head.want('{', -1) != nil || n > len(m.b) {
				return
			}
			p, f = head.p, &mendFrame{left: 2 * n, up: f}
		default:
			return
		}
	}
}

// text reads the string at p. Where its length fits it returns the place behind
// it; else it goes on itself with every length that can, and returns -1.
func (m *mender) text(p int, f *mendFrame, fixes *mendFix) int {
	head := &phpParser{b: m.b, p: p + 2, out: &Serialized{b: m.b}}
	if m.b[p+1] != ':' {
		return -1
	}
	n, start, end, err := head.length(-1)
	if err != nil || head.want('"', -1) != nil {
		return -1
	}
	body := head.p
	if m.step != 0 {
		return m.grown(n, start, end, body, `";`, f, fixes)
	}
	if n < len(m.b)-body-1 && m.b[body+n] == '"' && m.b[body+n+1] == ';' {
		return body + n + 2
	}
	if m.misfits++; m.misfits > maxMisfits {
		m.budget = 0
	}
	for at := body; m.wants(); {
		i := bytes.Index(m.b[at:], []byte(`";`))
		if i < 0 {
			return -1
		}
		m.budget -= i/8 + 1
		at += i + 2
		if m.canFollow(at) {
			m.read(at, f, &mendFix{Length{start, end, at - 2 - body}, fixes})
		}
	}
	return -1
}

// grown goes on behind a text of length n that begins at body and ends before closing: with
// each length that the cause allows, or, where that is the only one, by returning the place.
func (m *mender) grown(n, start, end, body int, closing string, f *mendFrame, fixes *mendFix) int {
	first, _ := slices.BinarySearch(m.marks, body)
	for k := 0; k <= len(m.marks)-first; k++ {
		at := body + n + m.step*k
		if at < body || m.step > 0 && at+len(closing) > len(m.b) {
			return -1
		}
		places, _ := slices.BinarySearch(m.marks[first:], at-m.now+1) // that end before
		if k > places {
			if m.step > 0 && m.now >= m.step {
				return -1 // there are never as many again
			}
			continue
		}
		if m.budget -= 2; !m.wants() {
			return -1
		}
		if at+len(closing) > len(m.b) || string(m.b[at:at+len(closing)]) != closing || m.all && k != places {
			continue
		}
		behind := at + len(closing)
		if !m.canFollow(behind) && !m.prefix || !m.whole(body, at) {
			continue
		}
		if k == 0 {
			m.read(behind, f, fixes)
		} else {
			m.read(behind, f, &mendFix{Length{start, end, at - body}, fixes})
		}
	}
	return -1
}

// whole reports whether a text that begins like a serialized value can be one to its last byte.
func (m *mender) whole(from, to int) bool {
	b := m.b[from:to]
	for {
		value := behindName(b) // of a session: names and values
		if len(value) == len(b) {
			break
		}
		end := m.part(from+len(m.b[from:to])-len(value), to, true)
		if end == 0 {
			return len(b) == to-from // nothing before was one either
		}
		if b = m.b[end:to]; len(b) == 0 {
			return true
		}
	}
	if len(b) < to-from {
		return false
	}
	if !LooksSerialized(b) {
		return true
	}
	if h, ok := NextHead(b, 0); ok && (h.Brace && !h.Members(b) || len(h.Stacks(b)) == 0 || !h.Stacks(b)[0].Plain()) {
		return true // it only begins like one, or is written as something else
	}
	return m.part(from, to, false) == to
}

// part returns where the value ends that begins at from, mended where that is needed; 0: it
// does not. Where other text may not follow it ends at to.
func (m *mender) part(from, to int, prefix bool) (end int) {
	b := m.b[from:to]
	if s, err := OpenPHP(b); err == nil {
		end := s.End
		s.Done()
		if prefix || end == len(b) {
			return from + end
		}
	}
	first, _ := slices.BinarySearch(m.marks, from)
	last, _ := slices.BinarySearch(m.marks, to-m.now+1)
	in := &mender{b: b, prefix: prefix, most: 2, step: m.step, now: m.now, budget: min(m.budget, 4096+mendSteps*len(b))}
	for _, p := range m.marks[first:max(first, last)] {
		in.marks = append(in.marks, p-from)
	}
	before := in.budget
	in.read(0, &mendFrame{left: 1, value: true}, nil)
	if m.budget -= before - in.budget; len(in.found) == 0 {
		return 0
	}
	return from + in.found[len(in.found)-1].End
}

// payload reads the C: at p, whose payload has a length too.
func (m *mender) payload(p int, f *mendFrame, fixes *mendFix) int {
	head := &phpParser{b: m.b, p: p + 2, out: &Serialized{b: m.b}}
	if m.b[p+1] != ':' {
		return -1
	}
	if _, err := head.quoted(-1); err != nil || head.want(':', -1) != nil {
		return -1
	}
	n, start, end, err := head.length(-1)
	if err != nil || head.want('{', -1) != nil {
		return -1
	}
	return m.grown(n, start, end, head.p, "}", f, fixes)
}

// canFollow reports whether a value, a key or the end of a container can begin at p.
func (m *mender) canFollow(p int) bool {
	if p >= len(m.b) || m.b[p] == '}' {
		return true
	}
	return p+1 < len(m.b) && (m.b[p+1] == ':' && bytes.IndexByte([]byte("sSaOCEbidrR"), m.b[p]) >= 0 || m.b[p] == 'N' && m.b[p+1] == ';')
}

func (m *mender) end(p int, fixes *mendFix) {
	if !m.prefix && len(bytes.TrimSpace(m.b[p:])) > 0 {
		return
	}
	var lengths []Length
	for ; fixes != nil; fixes = fixes.up {
		lengths = append([]Length{fixes.Length}, lengths...)
	}
	m.found = append(m.found, Reading{lengths, p})
}

// wants reports whether another reading is to be looked for.
func (m *mender) wants() bool {
	most := m.most
	if m.all {
		most = 1
	}
	return len(m.found) < most && m.budget > 0
}

// Digits returns the corrected length as it is written.
func (l Length) Digits() string { return strconv.Itoa(l.N) }
