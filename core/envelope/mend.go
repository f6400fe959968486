package envelope

import (
	"bytes"
	"errors"
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

// Mend finds the lengths that make a serialized value sound which an earlier
// careless replacement broke. Lengths that fit are kept; the answer counts only
// where exactly one reading makes the value sound to its end.
func Mend(b []byte) ([]Length, error) {
	m := &mender{b: b, budget: 4096 + mendSteps*len(b)}
	m.read(0, &mendFrame{left: 1, value: true}, nil)
	switch {
	case m.budget <= 0:
		return nil, ErrTooHard
	case m.found == 0:
		return nil, ErrNoReading
	case m.found > 1:
		return nil, ErrTwoReadings
	}
	return m.lengths, nil
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
	budget  int
	misfits int // strings that were tried with other lengths
	found   int
	lengths []Length
}

// read goes on at p and counts the readings that come to a sound end.
func (m *mender) read(p int, f *mendFrame, fixes *mendFix) {
	for m.found < 2 && m.budget > 0 {
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
	if n < len(m.b)-body-1 && m.b[body+n] == '"' && m.b[body+n+1] == ';' {
		return body + n + 2
	}
	if m.misfits++; m.misfits > maxMisfits {
		m.budget = 0
	}
	for at := body; m.found < 2 && m.budget > 0; {
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

// canFollow reports whether a value, a key or the end of a container can begin at p.
func (m *mender) canFollow(p int) bool {
	if p >= len(m.b) || m.b[p] == '}' {
		return true
	}
	return p+1 < len(m.b) && (m.b[p+1] == ':' && bytes.IndexByte([]byte("sSaOCEbidrR"), m.b[p]) >= 0 || m.b[p] == 'N' && m.b[p+1] == ';')
}

func (m *mender) end(p int, fixes *mendFix) {
	if len(bytes.TrimSpace(m.b[p:])) > 0 {
		return
	}
	m.found++
	m.lengths = nil
	for ; fixes != nil; fixes = fixes.up {
		m.lengths = append([]Length{fixes.Length}, m.lengths...)
	}
}

// Digits returns the corrected length as it is written.
func (l Length) Digits() string { return strconv.Itoa(l.N) }
