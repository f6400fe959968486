package envelope

import (
	"bytes"
	"errors"
	"slices"
	"strconv"
	"unicode/utf8"

	"trimlantern/core/text"
)

// Why a value could not be mended.
var (
	ErrNoReading   = errors.New("no lengths make it sound")
	ErrTwoReadings = errors.New("more than one reading makes it sound")
	ErrTooHard     = errors.New("too many readings to try")
)

// mendSteps bounds the work of one way of mending: steps for each byte of the value.
const mendSteps = 16

// Cause is what broke lengths: a replacement of one text by another that took no care of
// them. The zero Cause is one that nobody knows.
type Cause struct {
	Was string `json:"was"`
	Now string `json:"now"`
}

// Reading is a way in which a value becomes sound.
type Reading struct {
	Edits []text.Edit // in order
	End   int         // of the value, before the edits
}

// damage is a way in which texts were changed everywhere without their lengths, so that each old length tells where its
// text ends. unit reads one piece of a text at p: how long it is now, and how long it was.
type damage struct {
	name string
	unit func(b []byte, p int) (now, was int)
}

// damages is the table of them. To add one, add a row.
var damages = []damage{
	{"line ends became CRLF", pair("\r\n", 1)},
	{"line ends became LF", pair("\n", 2)},
	{"UTF-8 was taken for Latin-1", func(b []byte, p int) (now, was int) {
		_, n := utf8.DecodeRune(b[p:])
		return n, 1
	}},
	{"UTF-8 was converted to Windows-1252", func(b []byte, p int) (now, was int) {
		switch c := b[p]; {
		case c < 0x80:
			return 1, 1
		case c < 0xa0 && c != 0x83 && c != 0x8a && c != 0x8c && c != 0x8e && c != 0x9a && c != 0x9c && c != 0x9e && c != 0x9f && c != 0x88 && c != 0x98:
			return 1, 3 // quotes, dashes, a euro
		}
		return 1, 2
	}},
	{"ampersands became entities", pair("&amp;", 1)},
	{"ampersands were entities", pair("&", 5)},
	{"single quotes got backslashes", pair(`\'`, 1)},
	{"single quotes lost backslashes", pair("'", 2)},
	{"double quotes got backslashes", pair(`\"`, 1)},
	{"backslashes were halved", pair(`\`, 2)},
	{"tabs became four blanks", pair("    ", 1)},
}

// in reports whether the damage can be in b at all.
func (d *damage) in(b []byte) bool {
	for p := 0; p < len(b); {
		now, was := d.unit(b, p)
		if now != was {
			return true
		}
		p += now
	}
	return false
}

// pair is the unit of a text that was replaced; was is how long it was.
func pair(is string, was int) func([]byte, int) (int, int) {
	return func(b []byte, p int) (int, int) {
		if len(b)-p >= len(is) && string(b[p:p+len(is)]) == is {
			return len(is), was
		}
		return 1, 1
	}
}

// Mend finds what makes a serialized value sound to its last byte. It tries what is most certain first, and the answer
// counts only where exactly one reading of that kind does:
//
//   - each length follows from the one that is there and from the cause, if that is known;
//   - one damage of a table explains all lengths;
//   - the lengths that do not fit are those of what their quotes enclose;
//   - nothing but counts is wrong.
//
// Lengths of names of classes, and NULs that the names of properties lost, are restored in all of them.
func Mend(b []byte, cause Cause) ([]text.Edit, error) {
	var err error
	for _, readings := range []func() ([]Reading, error){
		func() ([]Reading, error) { return mendCause(b, cause, false, 2) },
		func() ([]Reading, error) { return mendDamage(b) },
		func() ([]Reading, error) { return newMender(b).run(&mendFrame{left: 1, value: true}) },
		func() ([]Reading, error) {
			m := newMender(b)
			m.exact, m.loose = true, true
			return m.run(&mendFrame{left: 1, value: true})
		},
	} {
		found, ferr := readings()
		if len(found) == 1 {
			return found[0].Edits, nil
		}
		if len(found) > 1 {
			ferr = ErrTwoReadings
		}
		if err == nil || errors.Is(err, ErrNoReading) {
			err = ferr
		}
	}
	return nil, err
}

// MaxReadings is how many readings MendPrefix returns at the most.
const MaxReadings = 8

// MendPrefix returns the ways to mend a value that other text follows, of which the cause is known. cut says that the
// reading came to the end of b: more of the text may tell more.
func MendPrefix(b []byte, cause Cause) (found []Reading, cut bool, err error) {
	if len(cause.Now) == len(cause.Was) {
		return nil, false, ErrNoReading
	}
	m := newMender(b)
	m.prefix, m.most = true, MaxReadings
	found, err = m.caused(cause)
	return found, m.cut, err
}

func mendCause(b []byte, cause Cause, prefix bool, most int) ([]Reading, error) {
	if len(cause.Now) == len(cause.Was) {
		return nil, ErrNoReading
	}
	m := newMender(b)
	m.prefix, m.most = prefix, most
	return m.caused(cause)
}

// caused reads with the lengths that a cause allows: as a rule every place was replaced.
func (m *mender) caused(cause Cause) ([]Reading, error) {
	m.step, m.now = len(cause.Now)-len(cause.Was), len(cause.Now)
	for p := 0; ; {
		n := bytes.Index(m.b[p:], []byte(cause.Now))
		if n < 0 {
			break
		}
		m.marks = append(m.marks, p+n)
		p += n + len(cause.Now)
	}
	m.all = true
	found, err := m.run(&mendFrame{left: 1, value: true})
	if len(found) > 0 || len(m.marks) == 0 {
		return found, err
	}
	m.all = false
	return m.run(&mendFrame{left: 1, value: true})
}

// mendDamage returns the readings of all damages that explain every length.
func mendDamage(b []byte) (found []Reading, err error) {
	err = ErrNoReading
	for i := range damages {
		if !damages[i].in(b) {
			continue
		}
		m := newMender(b)
		m.damage = &damages[i]
		more, merr := m.run(&mendFrame{left: 1, value: true})
		if errors.Is(merr, ErrTooHard) {
			err = merr
		}
		for _, r := range more {
			if !slices.ContainsFunc(found, func(x Reading) bool { return slices.Equal(x.Edits, r.Edits) }) {
				found = append(found, r)
			}
		}
	}
	return found, err
}

// mendFrame is what is still to be read: so many items of a container, and then
// what encloses it.
type mendFrame struct {
	left     int    // keys and values; where counts may be wrong: how many were read
	value    bool   // no container but the one value that is the whole
	from, to int    // where the count is written
	class    []byte // of an object
	up       *mendFrame
}

// mendFix is a list of edits, the last first.
type mendFix struct {
	text.Edit
	up *mendFix
}

type mender struct {
	b      []byte
	prefix bool    // other text may follow
	damage *damage // explains all lengths
	exact  bool    // no length is wrong
	loose  bool    // counts may be wrong
	step   int     // how much each place where the new text is adds; 0: unknown
	now    int     // how long that is
	marks  []int   // these places
	all    bool    // each of them was replaced
	budget int
	chosen int  // how many ends were passed over for a later one
	cut    bool // the text ended
	depth  int  // of serialized texts in each other
	most   int  // so many readings are enough
	found  []Reading
}

func newMender(b []byte) *mender { return &mender{b: b, most: 2} }

// run reads the whole and returns the readings that come to a sound end.
func (m *mender) run(f *mendFrame) ([]Reading, error) {
	m.found, m.budget = nil, 4096+mendSteps*len(m.b)
	m.read(0, f, nil)
	switch {
	case len(m.found) == 0 && m.budget <= 0:
		return nil, ErrTooHard
	case len(m.found) == 0:
		return nil, ErrNoReading
	}
	return m.found, nil
}

// read goes on at p and counts the readings that come to a sound end.
func (m *mender) read(p int, f *mendFrame, fixes *mendFix) {
	for m.wants() {
		m.budget--
		if f.value && f.left == 0 {
			m.end(p, fixes)
			return
		}
		if !f.value && (f.left == 0 && !m.loose || m.loose && p < len(m.b) && m.b[p] == '}') {
			if p >= len(m.b) || m.b[p] != '}' {
				m.cut = m.cut || p >= len(m.b)
				return
			}
			if m.loose {
				if f.left%2 != 0 {
					return
				}
				if count := strconv.Itoa(f.left / 2); count != string(m.b[f.from:f.to]) {
					fixes = m.fix(f.from, f.to, count, fixes)
				}
			}
			p, f = p+1, f.up
			continue
		}
		key := !f.value && f.left%2 == 0
		up := f
		step := -1
		if m.loose && !f.value {
			step = 1
		}
		f = &mendFrame{left: f.left + step, value: f.value, from: f.from, to: f.to, class: f.class, up: f.up}
		if p+1 >= len(m.b) {
			m.cut = true
			return
		}
		c := m.b[p]
		switch {
		case c == 's':
			class := up.class
			if !key {
				class = nil
			}
			if p = m.text(p, f, class, fixes); p < 0 {
				return
			}
		case c == 'C' && !key && m.step != 0:
			if p = m.payload(p, f, fixes); p < 0 {
				return
			}
		case c == 'i' || !key && (c == 'b' || c == 'd' || c == 'N' || c == 'r' || c == 'R' || c == 'E' || c == 'C' || c == 'S'):
			one := &phpParser{b: m.b, p: p, out: &Serialized{b: m.b}}
			if c == 'r' || c == 'R' {
				one.p += 2
				if _, err := one.number(-1); err != nil {
					return
				}
			} else if one.value(name{}, -1, 0, true) != nil {
				return
			}
			p = one.p
		case !key && (c == 'a' || c == 'O'):
			var ok bool
			if p, f, fixes, ok = m.container(p, f, fixes); !ok {
				return
			}
		default:
			return
		}
	}
}

// container reads the beginning of the array or object at p. It returns where its first item is, and what is to be read from
// there.
func (m *mender) container(p int, up *mendFrame, fixes *mendFix) (int, *mendFrame, *mendFix, bool) {
	head := &phpParser{b: m.b, p: p + 2, out: &Serialized{b: m.b}}
	if m.b[p+1] != ':' {
		return 0, nil, nil, false
	}
	var class []byte
	if m.b[p] == 'O' {
		var ok bool
		if class, fixes, ok = m.class(head, fixes); !ok {
			return 0, nil, nil, false
		}
	}
	n, from, to, err := head.length(-1)
	if err != nil || head.want('{', -1) != nil || n > len(m.b) {
		return 0, nil, nil, false
	}
	f := &mendFrame{left: 2 * n, from: from, to: to, class: class, up: up}
	if m.loose {
		f.left = 0
	}
	return head.p, f, fixes, true
}

func (m *mender) fix(from, to int, inserted string, fixes *mendFix) *mendFix {
	return &mendFix{text.Edit{Offset: from, Removed: string(m.b[from:to]), Inserted: inserted}, fixes}
}

// class reads the length and the name of a class, and the colon after it. The length may be that of an old name:
//
//	O:4:"Lantern":1:{
func (m *mender) class(head *phpParser, fixes *mendFix) ([]byte, *mendFix, bool) {
	_, from, to, err := head.length(-1)
	if err != nil || head.want('"', -1) != nil {
		return nil, nil, false
	}
	start := head.p
	for head.p < len(m.b) && (isWord(m.b[head.p]) || m.b[head.p] == '\\' || m.b[head.p] >= 0x80 || m.b[head.p] == ':' || m.b[head.p] == '@' || m.b[head.p] == 0) {
		head.p++
	}
	class := m.b[start:head.p]
	if len(class) == 0 || head.want('"', -1) != nil || head.want(':', -1) != nil {
		return nil, nil, false
	}
	if size := strconv.Itoa(len(class)); size != string(m.b[from:to]) {
		fixes = m.fix(from, to, size, fixes)
	}
	return class, fixes, true
}

// text reads the string at p. Where its length fits it returns the place after
// it; else it goes on itself with every length that can, and returns -1. class is that of the object whose property the
// string names, or nil.
func (m *mender) text(p int, f *mendFrame, class []byte, fixes *mendFix) int {
	head := &phpParser{b: m.b, p: p + 2, out: &Serialized{b: m.b}}
	if m.b[p+1] != ':' {
		return -1
	}
	n, start, end, err := head.length(-1)
	if err != nil || head.want('"', -1) != nil {
		return -1
	}
	body := head.p
	fits := n < len(m.b)-body-1 && m.b[body+n] == '"' && m.b[body+n+1] == ';'
	if class != nil && !fits {
		if to, name, known := m.property(body, n, class); known {
			if name != "" {
				m.read(to+2, f, m.fix(body, to, name, fixes))
			}
			return -1
		}
	}
	switch {
	case m.step != 0:
		return m.grown(n, start, end, body, `";`, f, fixes)
	case m.damage != nil:
		if at := m.damaged(n, body); at >= 0 && (at != body+n || !fits) {
			m.read(at+2, f, m.fix(start, end, strconv.Itoa(at-body), fixes))
			return -1
		}
		if fits {
			return body + n + 2
		}
		return -1
	case fits && m.canFollow(body+n+2):
		return body + n + 2
	case m.exact:
		return -1
	}
	if ends := m.nested(body); len(ends) > 0 {
		for _, at := range ends {
			m.read(at+2, f, m.fix(start, end, strconv.Itoa(at-body), fixes))
		}
		return -1
	}
	for at := body; m.wants(); {
		i := bytes.Index(m.b[at:], []byte(`";`))
		if i < 0 {
			m.budget -= (len(m.b) - at) / 8
			return -1
		}
		m.budget -= i/8 + 1
		at += i + 2
		if m.canFollow(at) {
			m.read(at, f, m.fix(start, end, strconv.Itoa(at-2-body), fixes))
			m.chosen++
		}
	}
	return -1
}

// nested returns where a text can end that begins, at body, as a serialized value does: where that ends, mended.
func (m *mender) nested(body int) (ends []int) {
	b := m.b[body:]
	if h, ok := NextHead(b, 0); !ok || h.Start > 0 || !LooksSerialized(b) || h.Brace && !h.Members(b) {
		return nil
	}
	in := &mender{b: b, prefix: true, most: 2, budget: m.budget, depth: m.depth + 1}
	if in.depth < maxNested {
		in.read(0, &mendFrame{left: 1, value: true}, nil)
		m.budget = in.budget
	}
	for _, r := range in.found {
		if at := body + r.End; at+1 < len(m.b) && m.b[at] == '"' && m.b[at+1] == ';' && m.canFollow(at+2) {
			ends = append(ends, at)
		}
	}
	return ends
}

// maxNested bounds how deep serialized texts are mended in each other at once.
const maxNested = 16

// property restores the NULs in the name of a property that begins at body and was n bytes long: they are left out, or
// written as two characters, or as the one that is put in place of what a converter cannot read. known says that NULs are what is
// wrong with it; "": it is uncertain where they were.
//
//	s:8:"*title"   s:10:"Lampbeam"   s:8:"\0*\0title"
func (m *mender) property(body, n int, class []byte) (end int, name string, known bool) {
	i := bytes.Index(m.b[body:min(len(m.b), body+n+16)], []byte(`";`))
	if i < 0 {
		return 0, "", false
	}
	is := m.b[body : body+i]
	for _, nul := range []string{`\0`, "\uFFFD", "%00", "&#0;"} {
		if was := bytes.ReplaceAll(is, []byte(nul), []byte{0}); bytes.HasPrefix(is, []byte(nul)) && len(was) == n {
			return body + i, string(was), true
		}
	}
	if i != n-2 || bytes.IndexByte(is, 0) >= 0 {
		return 0, "", false
	}
	for _, owner := range []string{"*", string(class)} {
		if len(is) > len(owner) && string(is[:len(owner)]) == owner {
			return body + i, "\x00" + owner + "\x00" + string(is[len(owner):]), true
		}
	}
	return 0, "", true // private to a class that this one extends
}

// damaged returns where a text ends that begins at body and was n bytes long before the damage, or -1.
func (m *mender) damaged(n, body int) int {
	p, was := body, 0
	for p < len(m.b) && was < n {
		now, before := m.damage.unit(m.b, p)
		p, was = p+now, was+before
	}
	m.budget -= (p - body) / 8
	if was == n && p+1 < len(m.b) && m.b[p] == '"' && m.b[p+1] == ';' && m.canFollow(p+2) {
		return p
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
			m.cut = m.cut || at >= body
			return -1
		}
		places, _ := slices.BinarySearch(m.marks[first:], at-m.now+1) // that end before
		m.cut = m.cut || at+len(closing) > len(m.b)
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
			m.read(behind, f, m.fix(start, end, strconv.Itoa(at-body), fixes))
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
	var edits []text.Edit
	for ; fixes != nil; fixes = fixes.up {
		edits = append(edits, fixes.Edit)
	}
	slices.SortFunc(edits, func(a, b text.Edit) int { return a.Offset - b.Offset })
	m.found = append(m.found, Reading{edits, p})
	if m.chosen == 0 && m.step == 0 {
		m.budget = min(m.budget, 1024+2*len(m.b)) // every string ends at its first quote that fits: little speaks against it
	}
}

// wants reports whether another reading is to be looked for.
func (m *mender) wants() bool {
	most := m.most
	if m.all {
		most = 1
	}
	return len(m.found) < most && m.budget > 0
}
