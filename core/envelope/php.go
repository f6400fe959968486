// Package envelope opens what wraps text and must be exact when the text inside
// changes: PHP-serialized values and JSON strings. It tells where the strings
// stand and how to write an edit inside one of them into the whole.
package envelope

import (
	"bytes"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync"

	"trimlantern/core/text"
)

// MaxDepth is how deep serialized values may nest; PHP's own limit when it
// reads them (unserialize_max_depth).
const MaxDepth = 4096

// Text is one string inside an envelope. Offsets count bytes of the whole. A large
// value has many of them, so that they are kept small.
type Text struct {
	LenStart, LenEnd int32 // the digits of its length; equal where it has none
	Start, End       int32 // the string's bytes between the quotes
	Up               int32 // index of the container in Serialized.Containers; -1 at the top
	NameStart        int32 // the key that leads here, as it is written
	NameEnd          int32
	Key              bool // an array key or property name
	Escaped          bool // written with escapes (PHP's S:), whose bytes count decoded
	Opaque           bool // the payload of C:, in whatever form its class writes
}

// Container is an array or object on the way to a Text.
type Container struct {
	Up                 int
	NameStart, NameEnd int
	Object             bool
}

// Serialized is an opened PHP-serialized value.
type Serialized struct {
	b          []byte
	Texts      []Text
	Containers []Container
	Numbers    []Number // the integers of two digits or more among the values
	End        int      // after the value; what is after it is not PHP’s
}

// Number is an integer inside an envelope.
type Number struct {
	Start, End         int32 // its digits, with the sign
	Up                 int32 // index of its container
	NameStart, NameEnd int32 // the key that leads here
	Next               int32 // index in Texts of the first string after it
}

// NotSound says why a value that looks serialized cannot be read, and where.
type NotSound struct {
	Offset int
	Path   string
	Why    string
	Cut    bool // the text ends where the value does not
	Need   int  // Cut: how long the text would have to be, at the least
}

// Error gives place and reason.
func (e *NotSound) Error() string {
	if e.Path == "" {
		return fmt.Sprintf("byte %d: %s", e.Offset, e.Why)
	}
	return fmt.Sprintf("byte %d, at %s: %s", e.Offset, e.Path, e.Why)
}

// LooksSerialized reports whether b begins as a PHP-serialized string, array or
// object does. It need not be sound.
func LooksSerialized(b []byte) bool {
	if len(b) < 4 || b[1] != ':' || bytes.IndexByte([]byte("sSaOCE"), b[0]) < 0 {
		return false
	}
	p := 2
	for p < len(b) && b[p] >= '0' && b[p] <= '9' {
		p++
	}
	if p == 2 || p+1 >= len(b) || b[p] != ':' {
		return false
	}
	if b[0] == 'a' {
		return b[p+1] == '{'
	}
	return b[p+1] == '"'
}

// spare is the memory of values that were done with.
var spare = sync.Pool{New: func() any { return &Serialized{Texts: make([]Text, 0, 16), Containers: make([]Container, 0, 4)} }}

// maxSpare bounds how many texts the memory of a spare value holds.
const maxSpare = 1 << 12

// Done gives the memory of s to values to come. s must not be used again.
func (s *Serialized) Done() {
	if cap(s.Texts) <= maxSpare && cap(s.Containers) <= maxSpare {
		*s = Serialized{Texts: s.Texts[:0], Containers: s.Containers[:0], Numbers: s.Numbers[:0]}
		spare.Put(s)
	}
}

// OpenPHP reads a value in the format of PHP's serialize, every type of it, and
// tells where its strings stand. It returns a *NotSound where PHP could not read
// it either. Call Done on each value to reuse its memory.
func OpenPHP(b []byte) (*Serialized, error) {
	p := phpParser{b: b, out: spare.Get().(*Serialized)}
	p.out.b = b
	var err error
	if int64(len(b)) > math.MaxInt32 {
		err = p.fail(-1, "longer than 2 GB")
	} else {
		err = p.value(name{}, -1, 0, false)
	}
	if err != nil {
		p.out.Done()
		return nil, err
	}
	p.out.End = p.p
	return p.out, nil
}

// phpTypes is the one table of serialized types: the letter and what reads the
// rest behind "letter:".
var phpTypes [256]func(p *phpParser, n name, up, depth int) error

func init() {
	phpTypes = [256]func(p *phpParser, n name, up, depth int) error{
		'b': (*phpParser).boolean,
		'i': (*phpParser).integer,
		'd': (*phpParser).double,
		's': (*phpParser).text,
		'S': (*phpParser).escapedText,
		'a': (*phpParser).array,
		'O': (*phpParser).object,
		'C': (*phpParser).custom,
		'E': (*phpParser).enum,
		'r': (*phpParser).toObject,
		'R': (*phpParser).toAny,
	}
}

// name is where the key stands that leads to a value.
type name struct{ start, end int }

type phpParser struct {
	b   []byte
	p   int
	out *Serialized
	// Values are numbered as references to them count, from 1; keys and R: are not.
	values  int
	objects []int // the numbers of those that are objects
}

func (p *phpParser) fail(up int, why string, args ...any) error {
	return &NotSound{Offset: p.p, Path: p.out.path(up), Why: fmt.Sprintf(why, args...)}
}

// cut is fail where the text ends before need bytes.
func (p *phpParser) cut(need, up int, why string, args ...any) error {
	return &NotSound{Offset: p.p, Path: p.out.path(up), Why: fmt.Sprintf(why, args...), Cut: true, Need: need}
}

// want steps over one byte that must be there.
func (p *phpParser) want(c byte, up int) error {
	if p.p >= len(p.b) {
		return p.cut(0, up, "cut off where %q should stand", c)
	}
	if p.b[p.p] != c {
		return p.fail(up, "%q should stand where %q stands", c, p.b[p.p])
	}
	p.p++
	return nil
}

func (p *phpParser) value(n name, up, depth int, key bool) error {
	if depth > MaxDepth {
		return p.fail(up, "nested deeper than %d", MaxDepth)
	}
	if p.p+1 >= len(p.b) {
		return p.cut(0, up, "cut off where a value should begin")
	}
	c := p.b[p.p]
	if !key && c != 'R' {
		p.values++
		if c == 'O' || c == 'C' || c == 'E' {
			p.objects = append(p.objects, p.values)
		}
	}
	if c == 'N' {
		p.p++
		return p.want(';', up)
	}
	read := phpTypes[c]
	if read == nil {
		return p.fail(up, "%q begins no value", c)
	}
	p.p++
	if err := p.want(':', up); err != nil {
		return err
	}
	return read(p, n, up, depth)
}

// numberMax is how long a number may be: one of floating point has up to some hundreds
// of digits.
const numberMax = 1200

// until returns the bytes before the next end and steps over it.
func (p *phpParser) until(end byte, up int) ([]byte, error) {
	n := bytes.IndexByte(p.b[p.p:min(len(p.b), p.p+numberMax)], end)
	if n < 0 {
		if len(p.b) < p.p+numberMax {
			return nil, p.cut(0, up, "no %q follows", end)
		}
		return nil, p.fail(up, "no %q follows", end)
	}
	t := p.b[p.p : p.p+n]
	p.p += n + 1
	return t, nil
}

func (p *phpParser) boolean(_ name, up, _ int) error {
	t, err := p.until(';', up)
	if err == nil && string(t) != "0" && string(t) != "1" {
		err = p.fail(up, "%q is no boolean", t)
	}
	return err
}

func (p *phpParser) integer(n name, up, _ int) error {
	start := p.p
	t, err := p.until(';', up)
	if err != nil {
		return err
	}
	if n.end > 0 && len(t) > 1 {
		p.out.Numbers = append(p.out.Numbers, Number{int32(start), int32(start + len(t)), int32(up), int32(n.start), int32(n.end), int32(len(p.out.Texts))})
	}
	if len(t) > 0 && (t[0] == '-' || t[0] == '+') {
		t = t[1:]
	}
	if !digits(t) {
		return p.fail(up, "%q is no number", t)
	}
	return nil
}

// toAny reads R:N;, a reference to a value before.
func (p *phpParser) toAny(_ name, up, _ int) error {
	n, err := p.number(up)
	if err == nil && (n < 1 || n > p.values) {
		err = p.fail(up, "there is no value %d to refer to", n)
	}
	return err
}

// toObject reads r:N;, which stands for an object before.
func (p *phpParser) toObject(_ name, up, _ int) error {
	n, err := p.number(up)
	if err != nil {
		return err
	}
	if _, ok := slices.BinarySearch(p.objects, n); !ok {
		return p.fail(up, "value %d is no object to refer to", n)
	}
	return nil
}

func (p *phpParser) number(up int) (int, error) {
	t, err := p.until(';', up)
	if err != nil {
		return 0, err
	}
	n, aerr := strconv.Atoi(string(t))
	if aerr != nil || !digits(t) {
		return 0, p.fail(up, "%q is no number", t)
	}
	return n, nil
}

func digits(t []byte) bool {
	for _, c := range t {
		if c < '0' || c > '9' {
			return false
		}
	}
	return len(t) > 0
}

func (p *phpParser) double(_ name, up, _ int) error {
	t, err := p.until(';', up)
	if err != nil {
		return err
	}
	switch string(t) {
	case "INF", "-INF", "NAN":
		return nil
	}
	if _, err := strconv.ParseFloat(string(t), 64); err != nil && !isRange(err) || len(t) == 0 || bytes.ContainsAny(t, "xXpPnN_") {
		return p.fail(up, "%q is no number", t)
	}
	return nil
}

func isRange(err error) bool {
	e, ok := err.(*strconv.NumError)
	return ok && e.Err == strconv.ErrRange
}

// length reads "N:" and bounds N by what is left.
func (p *phpParser) length(up int) (n, start, end int, err error) {
	start = p.p
	t, err := p.until(':', up)
	if err != nil {
		return 0, 0, 0, err
	}
	n, aerr := strconv.Atoi(string(t))
	if aerr != nil || !digits(t) {
		return 0, 0, 0, p.fail(up, "%q is no length", t)
	}
	return n, start, start + len(t), nil
}

// quoted reads N:"…" with a length in bytes.
func (p *phpParser) quoted(up int) (Text, error) {
	n, ls, le, err := p.length(up)
	if err != nil {
		return Text{}, err
	}
	if err := p.want('"', up); err != nil {
		return Text{}, err
	}
	t := Text{LenStart: int32(ls), LenEnd: int32(le), Start: int32(p.p), Up: int32(up)}
	if n > len(p.b)-p.p {
		return t, p.cut(p.p+n+2, up, "a string of %d bytes is cut off", n)
	}
	p.p += n
	t.End = int32(p.p)
	if p.p >= len(p.b) || p.b[p.p] != '"' {
		at := p.p
		if p.p = int(t.Start); at >= len(p.b) {
			return t, p.cut(at+1, up, "a string of %d bytes is cut off", n)
		}
		return t, p.fail(up, "the length %d does not fit the string", n)
	}
	p.p++
	return t, nil
}

func (p *phpParser) text(n name, up, _ int) error {
	t, err := p.quoted(up)
	if err != nil {
		return err
	}
	return p.add(t, n, up)
}

func (p *phpParser) add(t Text, n name, up int) error {
	t.NameStart, t.NameEnd = int32(n.start), int32(n.end)
	p.out.Texts = append(p.out.Texts, t)
	if p.p < len(p.b) && p.b[p.p] == ';' {
		p.p++
		return nil
	}
	if p.p >= len(p.b) {
		return p.cut(0, up, "no %q follows the string", ';')
	}
	return p.fail(up, "no %q follows the string", ';')
}

// escapedText reads S:N:"…", in which \xx stands for one byte.
func (p *phpParser) escapedText(key name, up, _ int) error {
	n, ls, le, err := p.length(up)
	if err != nil {
		return err
	}
	if err := p.want('"', up); err != nil {
		return err
	}
	t := Text{LenStart: int32(ls), LenEnd: int32(le), Start: int32(p.p), Up: int32(up), Escaped: true}
	for ; n > 0; n-- {
		if p.p >= len(p.b) {
			return p.cut(p.p+n, up, "an escaped string is cut off")
		}
		if p.b[p.p] == '\\' {
			if p.p+2 >= len(p.b) {
				return p.cut(p.p+n, up, "an escaped string is cut off")
			}
			if !isHex(p.b[p.p+1]) || !isHex(p.b[p.p+2]) {
				return p.fail(up, "no two digits follow the backslash")
			}
			p.p += 2
		}
		p.p++
	}
	t.End = int32(p.p)
	if err := p.want('"', up); err != nil {
		return err
	}
	return p.add(t, key, up)
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'f'
}

func (p *phpParser) array(key name, up, depth int) error {
	n, _, _, err := p.length(up)
	if err != nil {
		return err
	}
	return p.members(n, key, up, depth, false)
}

func (p *phpParser) object(key name, up, depth int) error {
	name, err := p.quoted(up)
	if err != nil {
		return err
	}
	if !className(p.b[name.Start:name.End]) {
		return p.fail(up, "%q is no name of a class", p.b[name.Start:name.End])
	}
	if err := p.want(':', up); err != nil {
		return err
	}
	n, _, _, err := p.length(up)
	if err != nil {
		return err
	}
	return p.members(n, key, up, depth, true)
}

// className reports whether PHP takes a name for that of a class.
func className(b []byte) bool {
	if len(b) > 0 && b[0] == '\\' {
		return false
	}
	for _, c := range b {
		if !isWord(c) && c < 127 && c != '\\' {
			return false
		}
	}
	return true
}

// propertyName reports whether PHP takes a name for that of a property: one that begins with
// NUL names its class, or *, and ends that with NUL.
func propertyName(b []byte) bool {
	if len(b) == 0 || b[0] != 0 {
		return true
	}
	return len(b) > 2 && b[1] != 0 && bytes.IndexByte(b[1:len(b)-1], 0) > 0
}

// members reads {key value …} with n pairs.
func (p *phpParser) members(n int, key name, up, depth int, object bool) error {
	if err := p.want('{', up); err != nil {
		return err
	}
	me := len(p.out.Containers)
	p.out.Containers = append(p.out.Containers, Container{Up: up, NameStart: key.start, NameEnd: key.end, Object: object})
	if n > 1000 { // make room once, for no more than can follow
		p.out.Texts = slices.Grow(p.out.Texts, min(n, (len(p.b)-p.p)/16))
	}
	for ; n > 0; n-- {
		if p.p >= len(p.b) {
			return p.cut(0, me, "cut off where a key should begin")
		}
		start := p.p
		switch p.b[p.p] {
		case 'i':
			if err := p.value(name{}, me, depth+1, true); err != nil {
				return err
			}
			if err := p.value(name{start + 2, p.p - 1}, me, depth+1, false); err != nil {
				return err
			}
		case 's', 'S':
			at := len(p.out.Texts)
			if err := p.value(name{}, me, depth+1, true); err != nil {
				return err
			}
			k := &p.out.Texts[at]
			if object && !propertyName(p.b[k.Start:k.End]) {
				return p.fail(me, "%q is no name of a property", p.b[k.Start:k.End])
			}
			k.Key, k.NameStart, k.NameEnd = true, k.Start, k.End
			if err := p.value(name{int(k.Start), int(k.End)}, me, depth+1, false); err != nil {
				return err
			}
		default:
			return p.fail(me, "%q begins no key", p.b[p.p])
		}
	}
	return p.want('}', me)
}

// custom reads C:N:"class":M:{payload}.
func (p *phpParser) custom(key name, up, _ int) error {
	if _, err := p.quoted(up); err != nil {
		return err
	}
	if err := p.want(':', up); err != nil {
		return err
	}
	n, ls, le, err := p.length(up)
	if err != nil {
		return err
	}
	if err := p.want('{', up); err != nil {
		return err
	}
	if n > len(p.b)-p.p {
		return p.cut(p.p+n+1, up, "a payload of %d bytes is cut off", n)
	}
	p.out.Texts = append(p.out.Texts, Text{LenStart: int32(ls), LenEnd: int32(le), Start: int32(p.p), End: int32(p.p + n), NameStart: int32(key.start), NameEnd: int32(key.end), Up: int32(up), Opaque: true})
	p.p += n
	return p.want('}', up)
}

func (p *phpParser) enum(_ name, up, _ int) error {
	if _, err := p.quoted(up); err != nil {
		return err
	}
	return p.want(';', up)
}

// path joins the steps down to a container.
func (s *Serialized) path(up int) string {
	var steps []string
	for ; up >= 0 && len(steps) < pathSteps; up = s.Containers[up].Up {
		c := s.Containers[up]
		steps = append(steps, s.step(c.Up, c.NameStart, c.NameEnd))
	}
	if up >= 0 {
		steps = append(steps, "…")
	}
	slices.Reverse(steps)
	return strings.Join(steps, "")
}

// pathSteps bounds how many steps of a path are shown, the innermost ones: a:1:{i:0;a:1:{i:0;… may nest thousands deep.
const pathSteps = 64

// step is how to get from a container to what a key leads to: [key] or ->name.
func (s *Serialized) step(up, start, end int) string {
	if up < 0 {
		return ""
	}
	key := string(s.b[start:end])
	if !s.Containers[up].Object {
		return "[" + key + "]"
	}
	return "->" + key[1+strings.LastIndexByte(key, 0):] // "\0Class\0name", "\0*\0name"
}

// Path returns how to get to a text from the whole: [widgets][2]->text.
func (s *Serialized) Path(t Text) string {
	return s.path(int(t.Up)) + s.step(int(t.Up), int(t.NameStart), int(t.NameEnd))
}

// WasSerialized reports whether a value that is not serialized was so before some of its
// first bytes were damaged: it ends like one, and its beginning is of the form of one, but for a
// byte or two that are others, missing or too many.
func WasSerialized(b []byte) bool {
	t := bytes.TrimLeft(b, " \t\r\n\xef\xbb\xbf")
	t = behindName(t)
	if len(t) < 8 || LooksSerialized(t) {
		return false
	}
	most := 1 // where its end was damaged too
	end := bytes.TrimRight(t, " \t\r\n")
	for _, closing := range []string{`";`, ";}", "}}", "{}"} {
		if bytes.HasSuffix(end, []byte(closing)) {
			most = 2
		}
	}
	if !damagedHead(t, most) {
		return false
	}
	h, ok := NextHead(t[:min(len(t), 64)], 0)
	written := ok && h.Type != 0 && len(bytes.Trim(t[:h.Start], "\\\"' \t")) == 0
	return !written // an intact head in another spelling is not damage
}

// behindName returns what stands behind a session's name and bar, or all.
func behindName(t []byte) []byte {
	name := 0
	for name < len(t) && name < 64 && (isWord(t[name]) || t[name] == '-') {
		name++
	}
	if name > 0 && name+1 < len(t) && t[name] == '|' {
		return t[name+1:]
	}
	return t
}

// What the beginning of a value is made of: a type, a colon, a digit, a colon, a quote or a
// brace. More digits may follow the first.
const headParts = 5

// headPart tells, for each byte, which parts it can be: a bit for each.
var headPart = func() (t [256]uint8) {
	for c := range 256 {
		if headTypes[c] {
			t[c] |= 1
		}
	}
	t[':'] |= 2 | 8
	for c := '0'; c <= '9'; c++ {
		t[c] |= 4
	}
	t['"'], t['{'] = t['"']|16, t['{']|16
	return t
}()

// headMax is how many characters of a beginning are looked at.
const headMax = 24

// damagedHead reports whether b begins, in whatever spelling, like a value, but for some
// characters, at the most, that are others, missing or too many.
func damagedHead(b []byte, most int) bool {
	seen := uint8(0)
	for _, c := range b[:min(len(b), headMax/2)] {
		seen |= headPart[c]
		if text.Opens(c) {
			seen = 4
			break
		}
	}
	if seen&(4|16) == 0 {
		return false // neither a digit nor a quote: most texts
	}
	far := most + 1
	// cost[i] is how many characters are wrong where i parts have been read.
	cost := [headParts + 1]int{0, 1, 2, 3, 4, 5}
	for p, n := 0, 0; p < len(b) && n < headMax; n++ {
		c, end, _ := text.Unit(b, p)
		if p = end; c > 127 {
			c = '?'
		}
		is := headPart[c]
		var next [headParts + 1]int
		next[0] = cost[0] + 1
		least := next[0]
		for i := 1; i <= headParts; i++ {
			wrong := 1 - int(is>>(i-1)&1)
			next[i] = min(cost[i]+1, cost[i-1]+wrong, next[i-1]+1)
			if i == 3 && wrong == 0 { // one digit more
				next[i] = min(next[i], cost[i])
			}
			least = min(least, next[i])
		}
		cost = next
		if cost[headParts] < far {
			return true
		}
		if least >= far {
			return false
		}
	}
	return false
}

// IsDamaged reports whether a text begins, in whatever spelling, like a serialized value, but
// for a character that is another, missing or too many.
func IsDamaged(b []byte) bool { return damagedHead(behindName(b), 1) }
