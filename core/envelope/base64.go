package envelope

import (
	"bytes"
	"encoding/base64"
	"slices"
	"strings"
	"sync/atomic"
	"unicode/utf8"

	"trimlantern/core/seek"
	"trimlantern/core/text"
)

// base64Values are the values of base64's characters (RFC 4648), both alphabets.
var base64Values = func() (v [256]uint8) {
	for i := range v {
		v[i] = 0xff
	}
	for _, set := range []string{"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/", "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"} {
		for i, c := range []byte(set) {
			v[c] = uint8(i)
		}
	}
	return v
}()

// base64Marks tells which three characters of base64 can stand where the end of a
// scheme was encoded, or was encoded twice: those that depend on nothing else, at each of the
// three places in a group. They come from the triples that are looked for in plain text.
var base64Marks atomic.Pointer[markTable]

type markTable struct {
	of *seek.Triples // that it was made from
	is [1 << 12]uint64
}

// has reports whether three characters, of six bits each, are a mark.
func (t *markTable) has(v uint32) bool { return t.is[v>>6]>>(v&63)&1 != 0 }

// marks returns the table of marks, made anew where the table of spellings was.
func marks() *markTable {
	t := base64Marks.Load()
	if t == nil || t.of != text.Ends {
		t = marksOf(text.EndTriples)
		t.of = text.Ends
		base64Marks.Store(t)
	}
	return t
}

func marksOf(texts []string) *markTable {
	t := &markTable{}
	coded := func(texts []string) (marks []string) {
		seen := map[string]bool{}
		for _, t := range texts {
			for before := range 3 {
				s := base64.RawStdEncoding.EncodeToString(append(make([]byte, before), t...))
				m := s[(8*before+5)/6:][:3]
				if !seen[m] {
					seen[m] = true
					marks = append(marks, m)
				}
			}
		}
		return marks
	}
	once := coded(texts)
	for _, m := range append(once, coded(once)...) {
		v := uint32(base64Values[m[0]])<<12 | uint32(base64Values[m[1]])<<6 | uint32(base64Values[m[2]])
		t.is[v>>6] |= 1 << (v & 63)
	}
	return t
}

// packedStarts are the beginnings of base64 that holds compressed text: gzip, zlib, bzip2.
var packedStarts = []string{"H4sI", "eNo", "eJw", "eJx", "eJy", "eJz", "eAE", "eF4", "QlpoO"}

// NextBase64 returns the place of the first run of base64 at or after from that can
// hold a reference, or what holds one, or -1: of its first mark, or of its beginning.
func NextBase64(b []byte, from int) int {
	mark, end := nextMark(b, from), len(b)
	if mark >= 0 {
		end = mark
	}
	if cut := nextCut(b, from, end); cut >= 0 {
		return cut
	}
	return mark
}

// nextMark is NextBase64 for what holds a run.
func nextMark(b []byte, from int) int {
	for {
		start, end := seek.Run(b, from)
		if start < 0 {
			return -1
		}
		if mark := markIn(b, start, end); mark >= 0 {
			return mark
		}
		from = end
	}
}

// cuts finds + and / that are percent-encoded, by what stands behind the percent sign, and / behind a backslash.
var cuts = seek.NewTriples([]seek.Class{{First: "2", Second: "bBfF"}, {First: `\`, Second: "/"}}, `ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_%\`)

// nextCut is NextBase64 for what is cut by escapes, before end, into pieces shorter than a run.
func nextCut(b []byte, from, end int) int {
	near := b[:min(len(b), end+2)]
	for p := from; p < len(near); {
		if p = cuts.Next(near, p); p < 0 {
			return -1
		}
		start := p - 3
		if b[p-1] == '/' {
			for start = p - 2; start > from && b[start-1] == '\\'; start-- {
			}
		} else {
			for start > from && start > p-2*text.MaxSteps-3 && b[start] == '5' && b[start-1] == '2' {
				start -= 2
			}
			if start < from || b[start] != '%' {
				continue
			}
		}
		chars, cases := 0, byte(0)
		for q := start - 1; q >= from && base64Values[b[q]] != 0xff; q-- {
			chars, cases = chars+1, cases|letterCases[b[q]]
		}
		mark := p
		for p < len(b) {
			c, q, how := text.Unit(b, p)
			if c >= 128 || base64Values[c] == 0xff {
				break
			}
			if how == 0 {
				cases |= letterCases[byte(c)]
			}
			chars, p = chars+1, q
		}
		if chars < seek.MinRun || cases != bothCases {
			continue
		}
		x, ok := OpenBase64(b, mark, max(0, start-queryBack))
		if ok && (packed(x.Text) || opens(x.Text) || isText(x.Text) && NextBase64(x.Text, 0) >= 0) {
			return mark
		}
	}
	return -1
}

// letterCases tells small letters from capitals.
var letterCases = func() (t [256]byte) {
	for c := byte('a'); c <= 'z'; c++ {
		t[c], t[c-'a'+'A'] = 1, 2
	}
	return t
}()

const bothCases = 3

// longRun is how long a run must be to be decoded where no mark is in it.
const longRun = 2 * seek.MinRun

// markIn returns the place of the first mark in the run b[start:end], or -1. A long run
// without one is decoded, since what is in it may be an envelope again.
func markIn(b []byte, start, end int) int {
	run := start
	if start > 0 && text.Opens(b[start-1]) { // what an escape is written with is of the alphabet too
		if _, p, how := text.Unit(b, start-1); how != 0 && p > start {
			if start = p; start >= end {
				return -1
			}
		}
	}
	is, v, cases := marks(), uint32(0), byte(0)
	for i, c := range b[start:end] {
		v = (v<<6 | uint32(base64Values[c])) & (1<<18 - 1)
		if is.has(v) && i >= 2 {
			return start + i - 2
		}
		cases |= letterCases[c]
	}
	// A mark may be cut by a line break, hold a character that is written as an escape, or
	// stand between two of them that leave no room for a run.
	for p, plain := end, 0; p < len(b) && p < end+maxPieces*seek.MinRun && plain < seek.MinRun; {
		c, next, how := text.Unit(b, p)
		p, plain = next, plain+1
		if how != 0 {
			plain = 0
		}
		if c == '\n' || c == '\r' {
			continue
		}
		if c >= 128 || base64Values[c] == 0xff {
			break
		}
		v = (v<<6 | uint32(base64Values[c])) & (1<<18 - 1)
		if is.has(v) {
			return end - 1
		}
		cases |= letterCases[byte(c)]
	}
	if cases != bothCases {
		return -1 // words or digits: base64 of that length has letters of both cases
	}
	for p := start; p >= 0 && p < end; {
		switch b[p] {
		case 'H', 'e', 'Q':
			for _, s := range packedStarts {
				if bytes.HasPrefix(b[p:end], []byte(s)) {
					return p
				}
			}
		}
		next := bytes.IndexAny(b[p:end], "/+")
		if next < 0 {
			break
		}
		p += next + 1
	}
	x, ok := Base64{}, false
	switch {
	case start > run || b[start] == '+' || goesOn(b, end, end) || wraps(b, end):
		if first(b, run) { // the others are looked at with it
			at := start
			if b[at] == '+' { // a blank of a form
				at++
			}
			x, ok = OpenBase64(b, at, max(0, start-queryBack))
		}
	case end-start >= longRun:
		if x, ok = plainBase64(b, start, end); !ok {
			from, to := segment(b[start:end], 0) // of a path
			x, ok = plainBase64(b, start+from, start+to)
		}
	}
	if start < end-1 && b[start] == '+' {
		start++ // a mark that is base64 whatever the plus sign is
	}
	if ok && (NextBase64(x.Text, 0) >= 0 || !isText(x.Text) || bytes.IndexByte(x.Text, 0) >= 0 || text.Ends.Next(x.Text, 0) >= 0 || NextPacked(x.Text, 0) >= 0 || mayBePieces(x.Text)) {
		return start
	}
	return -1
}

// mayBePieces reports whether a text may hold an address in pieces: a scheme alone, backwards or in numbers.
func mayBePieces(b []byte) bool {
	return bytes.Contains(b, []byte("http")) || bytes.Contains(b, []byte("ptth")) || bytes.Contains(b, []byte("104"))
}

// wraps reports whether a run of base64 that ends at end goes on in the next line.
func wraps(b []byte, end int) bool {
	if end < len(b) && b[end] == '\r' {
		end++
	}
	return end+2 < len(b) && b[end] == '\n' && base64Values[b[end+1]] != 0xff && base64Values[b[end+2]] != 0xff
}

// first reports whether the run at start is not the rest of one that goes on behind a character
// that is written as an escape.
func first(b []byte, start int) bool {
	if start > 0 && newlineBefore(b, start) {
		return false
	}
	for p, pieces := start, 0; pieces < maxPieces; pieces++ {
		c, escape, ok := escapeAt(b, p)
		if !ok || c >= 128 || c != '=' && c != '\n' && c != '\r' && base64Values[c] == 0xff {
			return true
		}
		p = escape
		for p > 0 && base64Values[b[p-1]] != 0xff && escape-p < seek.MinRun {
			p--
		}
		if escape-p >= seek.MinRun {
			return false
		}
	}
	return true
}

// maxPieces bounds how many short pieces of a run are looked at.
const maxPieces = 8

// escapeAt returns the character that is written as an escape directly before p, or whose
// opening byte stands there, and where that writing begins.
func escapeAt(b []byte, p int) (c rune, start int, ok bool) {
	if p == 0 {
		return 0, 0, false
	}
	if text.Opens(b[p-1]) {
		c, _, how := text.Unit(b, p-1)
		return c, p - 1, how != 0
	}
	c, start, ok = text.Before(b, p)
	return c, start, ok && start < p-1
}

// Base64 is a stretch of base64 inside a text: how it was written, and what it
// holds.
type Base64 struct {
	Start, End int    // in the source
	Text       []byte // decoded

	region   text.Region // how the base64 is written
	from, to int         // where it stands in Region.Text
	alphabet *base64.Encoding
	padded   bool   // where = signs are wanted
	wrap     int    // characters in a line; 0: one line
	newline  string // what ends a line
	query    bool   // it stands in a URL's query as it is
	untold   bool   // nothing tells how + / = are to be written
}

// OpenBase64 finds the base64 that the mark or run at offset mark belongs to, begins
// looking no further left than floor, and decodes it. It reports ok == false
// where what stands there cannot be written again exactly as it was; End is then
// where to look on, and Text, where not nil, what it seems to hold.
func OpenBase64(b []byte, mark, floor int) (Base64, bool) {
	for around := firstAround; ; around *= 8 {
		x, ok, cut := openWithin(b, mark, floor, around)
		if !cut || around >= tokenMax {
			return x, ok
		}
	}
}

// firstAround is how far around a mark base64 is looked for first: what goes on further is read again, so that the cost is
// that of the base64 and not of all that stands around it.
const firstAround = 4 << 10

// openWithin is OpenBase64 for what stands so near around the mark. cut says that it may go on.
func openWithin(b []byte, mark, floor, around int) (x Base64, ok, cut bool) {
	start, end := mark, mark
	for start > floor && tokenBytes[b[start-1]] && mark-start < around {
		if b[start-1] == '-' && start-1 > floor && b[start-2] == '-' && endsRun(b, start-2) {
			break
		}
		start--
	}
	spelled := false
	for end < len(b) && tokenBytes[b[end]] && end-mark < around {
		if b[end] == '-' && endsRun(b, end) {
			break
		}
		spelled = spelled || text.Opens(b[end])
		end++
	}
	more := start > floor && tokenBytes[b[start-1]]
	further := end < len(b) && tokenBytes[b[end]] && !(b[end] == '-' && endsRun(b, end))
	for p := start; p < mark && !spelled; p++ {
		spelled = text.Opens(b[p])
	}
	before := byte(0)
	if start > floor {
		before = b[start-1]
	}
	var s text.Stack
	clean := false
	stacks := []text.Stack{{}}
	if spelled {
		stacks = base64Stacks(b, start, end, mark)
	}
	for i, stack := range stacks {
		r := text.Open(b[:end], start, stack, end-start)
		low, high := runAround(&r, r.At(mark))
		if more && low < spelledMax || further && high > len(r.Text)-spelledMax {
			return x, false, true
		}
		y, found := inRegion(&r, r.At(mark), low, high, before)
		y.region = r
		y.Start, y.End = r.Raw(y.from), r.Raw(y.to)
		// A text, or something compressed that is there to its last byte, is surely read rightly; what only
		// begins like something compressed may be cut where another reading goes on.
		sure := found && (isText(y.Text) || len(stacks) > 1 && opens(y.Text))
		likely := found && packed(y.Text)
		if i == 0 || sure || likely && !clean || found && !ok {
			x, s, ok = y, stack, found
			clean = likely
			if sure {
				break
			}
		}
	}
	if !ok {
		x.End = max(x.End, mark+1)
		return x, false, false
	}
	// What stands around it tells how it is written where it does not tell itself.
	by, from, to, low := x.region.Text, x.from, x.to, 0
	if s.Plain() {
		by, from, to, low = b, x.Start, x.End, floor
	}
	x.query = x.End-x.Start == x.to-x.from && inQuery(by, from, low)
	if x.alphabet == nil {
		x.alphabet = base64.RawStdEncoding
		x.untold = !x.query && (from > low && by[from-1] == '=' || deeper(stacks, s)) && x.End-x.Start == x.to-x.from
		if !x.query && inPath(by, from, to, low) {
			x.alphabet, x.padded = base64.RawURLEncoding, false
		}
	}
	return x, true, false
}

// endsRun reports whether two dashes at p end a run of base64 although dashes are of its alphabet: they begin a line, as the
// boundary of a mail's parts does, or a digest follows them, as in a cookie: eyJ1c2VyIjo3fQ--3a66c4e5….
func endsRun(b []byte, p int) bool {
	if p+1 >= len(b) || b[p+1] != '-' || p == 0 {
		return false
	}
	if b[p-1] == '\n' {
		return true
	}
	q := p + 2
	for q < len(b) && q-p < 140 && (b[q] >= '0' && b[q] <= '9' || b[q] >= 'a' && b[q] <= 'f') {
		q++
	}
	switch q - p - 2 {
	case 32, 40, 56, 64, 96, 128:
		return q == len(b) || base64Values[b[q]] == 0xff
	}
	return false
}

// deeper reports whether the surrounding text is percent-encoded to different depths, so that
// it is unclear how a new plus sign must be written.
func deeper(stacks []text.Stack, s text.Stack) bool {
	return s.Has(text.Percent) && slices.ContainsFunc(stacks, func(other text.Stack) bool {
		return other != s && other.Has(text.Percent) && len(other.Steps()) != len(s.Steps())
	})
}

// tokenBytes can stand in base64, in the writing of its characters, or in a path before it.
var tokenBytes = func() (t [256]bool) {
	for c := range 256 {
		t[c] = seek.IsBase64(byte(c)) || text.Opens(byte(c)) || strings.IndexByte("=\n\r#;", byte(c)) >= 0
	}
	return t
}()

// tokenMax bounds how far left of a mark base64 may begin.
const tokenMax = 1 << 26

// maxBase64Stacks bounds in how many ways one run is read.
const maxBase64Stacks = 8

// nearEscapes bounds how many escapes before and after a mark tell how the base64 between them is written: in
// d%3DaHR0cDov…%26d%3DaHR0cDov…%26 all are the same.
const nearEscapes = 32

// base64Stacks tells how the base64 in b[start:end] may be written, from the characters around
// the mark that are written as escapes, the nearest first; at last, as it stands.
func base64Stacks(b []byte, start, end, mark int) []text.Stack {
	type written struct{ distance, from, to int }
	near := make([]written, 0, 2*nearEscapes+1)
	after := 0
	for p := start; p < end && p < mark+largeRun; {
		if !text.Opens(b[p]) {
			p++
			continue
		}
		_, q, how := text.Unit(b[:end], p)
		if how != 0 {
			distance := p - mark
			if p < mark {
				distance = mark - q
			}
			near = append(near, written{distance, p, q})
			if len(near) > nearEscapes && p < mark {
				near = near[1:]
			}
			if after++; p < mark {
				after = 0
			} else if after == nearEscapes {
				break
			}
		}
		p = max(q, p+1)
	}
	slices.SortStableFunc(near, func(a, b written) int { return a.distance - b.distance })
	var all []text.Stack
	for _, w := range near {
		c, _, _ := text.Unit(b[:end], w.from)
		var found text.Stack
		if c == '\n' || c == '\r' {
			found = newlineStack(b[w.from:w.to])
		} else if s := text.Stacks(b, w.from, w.to, byte(c)); c < 128 && len(s) > 0 {
			found = s[0].Unstopped()
		}
		if !found.Plain() && !slices.Contains(all, found) {
			if all = append(all, found); len(all) == maxBase64Stacks/2 {
				break
			}
		}
	}
	for _, outer := range slices.Clone(all) { // several characters, each written in another way
		for _, inner := range all[:min(len(all), 2)] {
			if last := outer.Steps()[len(outer.Steps())-1]; last.Layer == inner.Steps()[0].Layer {
				continue // the written characters already show how often one layer repeats
			}
			if both, ok := inner.Within(outer); ok && inner != outer && len(all) < maxBase64Stacks {
				all = append(all, both)
			}
		}
	}
	return append(all, text.Stack{})
}

// newlineStack reads \n, \r, %0A, &#10; and the like.
func newlineStack(written []byte) text.Stack {
	for _, c := range []byte("\n\r") {
		if found := text.Stacks(written, 0, len(written), c); len(found) > 0 {
			return found[0].Unstopped()
		}
	}
	return text.Stack{}
}

// What stands around a run of base64.
const (
	queryBack = 80
	pathBack  = 2048
)

// inQuery reports whether what begins at start is the value of a URL's query.
func inQuery(b []byte, start, floor int) bool {
	p := start - 1
	if p < floor || b[p] != '=' {
		return false
	}
	for p--; p >= floor && start-p < queryBack; p-- {
		switch c := b[p]; {
		case c == '?' || c == '&':
			return true
		case c == ';': // &amp;
			return bytes.HasSuffix(b[floor:p], []byte("&amp")) || bytes.HasSuffix(b[floor:p], []byte("&#038"))
		case !isWord(c) && c != '-' && c != '.' && c != '[' && c != ']' && c != '%':
			return false
		}
	}
	return false
}

// inPath reports whether b[start:end] is a segment of a URL's path.
func inPath(b []byte, start, end, floor int) bool {
	if start <= floor || b[start-1] != '/' {
		return false
	}
	head := b[max(floor, start-pathBack):start]
	if i := bytes.LastIndexAny(head, " \t\r\n\"'<>()="); i >= 0 {
		if head = head[i+1:]; len(head) > 0 && head[0] == '/' {
			return true
		}
	}
	return bytes.Contains(head, []byte("//")) || len(head) > 0 && head[0] == '/'
}

// Bounds of trying where base64 begins and ends.
const (
	maxStarts = 24
	maxEnds   = 6
	largeRun  = 1 << 16 // longer ones are tried as they stand
)

// runAround returns where the characters of the alphabet around a place begin and end.
func runAround(r *text.Region, at int) (low, high int) {
	t := r.Text
	low, high = at, at
	form := r.Stack.Has(text.Percent) // where a plus sign that is not encoded is a blank
	blank := func(p int) bool { return form && t[p] == '+' && !r.Escaped(p, text.Percent) }
	for low > 0 && (base64Values[t[low-1]] != 0xff && !blank(low-1) || newlineBefore(t, low)) {
		low--
	}
	for high < len(t) && (base64Values[t[high]] != 0xff && !blank(high) || t[high] == '\n' || t[high] == '\r') {
		high++
	}
	for high > at && (t[high-1] == '\n' || t[high-1] == '\r') {
		high--
	}
	return low, high
}

// inRegion decodes the base64 around offset at of a region's text, which stands behind before.
func inRegion(r *text.Region, at, low, high int, before byte) (Base64, bool) {
	t := r.Text
	bare := high
	for high < len(t) && t[high] == '=' {
		high++
	}
	// What stands between other things is base64 from its first character to its last, where
	// that can be decoded at all. In a path its slashes are of the alphabet too.
	whole, decodes := plainBase64(t, low, high)
	if low > 0 {
		before = t[low-1]
	}
	if goesOn(t, bare, high) {
		return Base64{from: low, to: high}, false
	}
	path := bytes.IndexByte(t[low:bare], '/') >= 0 && (t[low] == '/' || before == '.' || before == '/')
	// A leading plus sign may be a space in form data that was percent-decoded only.
	plus := low < bare && t[low] == '+'
	if decodes && (!path && !plus || isText(whole.Text)) {
		return whole, true
	}
	if path {
		from, to := segment(t[low:bare], at-low)
		if low+to == bare {
			to = high - low
		}
		host := before == '.' || before == '/'
		if x, ok := plainBase64(t, low+from, low+to); ok && (host || !decodes || isText(x.Text)) {
			return x, true
		}
	}
	ends := []int{high}
	if high-low <= largeRun {
		for p := at + 3; p < bare && len(ends) < maxEnds; p++ {
			if t[p] == '/' || t[p] == '\n' || t[p] == '\r' {
				ends = append(ends, p)
			}
		}
	}
	for s, tries := low, 0; tries < maxStarts; tries++ {
		for _, e := range ends {
			if x, ok := plainBase64(t, s, e); ok && (isText(x.Text) || packed(x.Text)) {
				return x, true
			}
		}
		next := bytes.IndexAny(t[s:at], "/-_+=\n")
		if next < 0 || high-low > largeRun && tries > 2 {
			break
		}
		s += next + 1
	}
	if decodes {
		return whole, true
	}
	x := Base64{from: low, to: high}
	x.Text = roughly(t[low:high], at-low)
	return x, false
}

// goesOn reports whether base64 that seems to end at bare, its padding at high, goes on with a
// character that is written as an escape.
func goesOn(t []byte, bare, high int) bool {
	if high > bare || high >= len(t) || !text.Opens(t[high]) {
		return false
	}
	c, p, how := text.Unit(t, high)
	if how == 0 || c >= 128 {
		return false
	}
	if c == '\n' || c == '\r' {
		for p < len(t) && text.Opens(t[p]) {
			if c, p, _ = text.Unit(t, p); c != '\n' {
				return false
			}
		}
		run := p
		for run < len(t) && base64Values[t[run]] != 0xff {
			run++
		}
		return run-p >= 2
	}
	return c == '=' || base64Values[c] != 0xff
}

// segment returns the segment of a path that offset at stands in; of one that begins there,
// the longest.
func segment(path []byte, at int) (from, to int) {
	if at > 0 {
		from = bytes.LastIndexByte(path[:at], '/') + 1
		if to = bytes.IndexByte(path[at:], '/'); to < 0 {
			return from, len(path)
		}
		return from, at + to
	}
	for p := 0; p < len(path); {
		end := len(path)
		if n := bytes.IndexByte(path[p:], '/'); n >= 0 {
			end = p + n
		}
		if end-p > to-from {
			from, to = p, end
		}
		p = end + 1
	}
	return from, to
}

// newlineBefore reports whether a line break before p stands inside of wrapped base64.
func newlineBefore(t []byte, p int) bool {
	if t[p-1] != '\n' && t[p-1] != '\r' {
		return false
	}
	q := p - 1
	if q > 0 && t[q] == '\n' && t[q-1] == '\r' {
		q--
	}
	return q >= seek.MinRun && base64Values[t[q-1]] != 0xff && base64Values[t[q-seek.MinRun]] != 0xff
}

// isText reports whether b is what people write: no control characters, in UTF-8.
func isText(b []byte) bool {
	for _, c := range b {
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' && c != 0 {
			return false
		}
	}
	return utf8.Valid(b)
}

// roughMax bounds how much roughly decodes.
const roughMax = 4096

// roughly decodes base64 of which nobody knows where it begins: the group that the mark at
// offset at stands in, and what follows.
func roughly(b []byte, at int) []byte {
	flat := bytes.Map(func(c rune) rune {
		if c == '\n' || c == '\r' || c == '=' {
			return -1
		}
		return rune("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"[base64Values[c]])
	}, b[max(0, at-4):min(len(b), at+roughMax)])
	for skip := range min(4, len(flat)) {
		n := len(flat[skip:]) / 4 * 4
		text := make([]byte, base64.RawStdEncoding.DecodedLen(n))
		if m, err := base64.RawStdEncoding.Decode(text, flat[skip:skip+n]); err == nil && bytes.Contains(bytes.ToLower(text[:m]), []byte("tp:")) {
			return text[:m]
		}
	}
	return nil
}

// plainBase64 decodes b[start:end] where writing it again gives the same.
func plainBase64(b []byte, start, end int) (Base64, bool) {
	raw := b[start:end]
	if len(raw) < seek.MinRun {
		return Base64{}, false
	}
	x := Base64{Start: start, End: end, from: start, to: end}
	flat := raw
	if i := bytes.IndexByte(raw, '\n'); i >= 0 {
		x.newline, x.wrap = "\n", i
		if i > 0 && raw[i-1] == '\r' {
			x.newline, x.wrap = "\r\n", i-1
		}
		if x.wrap < seek.MinRun {
			return Base64{}, false
		}
		flat = bytes.ReplaceAll(raw, []byte(x.newline), nil)
	}
	bare := bytes.TrimRight(flat, "=")
	padding := len(flat) - len(bare)
	if padding > 2 || padding > 0 && len(flat)%4 != 0 {
		return Base64{}, false
	}
	reads := base64.RawStdEncoding
	url, std := bytes.ContainsAny(flat, "-_"), bytes.ContainsAny(flat, "+/")
	switch {
	case url && std:
		return Base64{}, false
	case url:
		reads, x.alphabet = base64.RawURLEncoding, base64.RawURLEncoding
		x.padded = padding > 0
	case std:
		x.alphabet = base64.RawStdEncoding
	}
	if !url { // where nothing tells, the standard alphabet is padded
		x.padded = padding > 0 || len(bare)%4 == 0
	}
	x.Text = make([]byte, reads.DecodedLen(len(bare)))
	if _, err := reads.Strict().Decode(x.Text, bare); err != nil {
		return Base64{}, false
	}
	again := x
	if again.alphabet == nil {
		again.alphabet = reads
	}
	again.padded = padding > 0
	return x, again.write(x.Text) == string(raw)
}

// write encodes a text: the alphabet, padding and lines of x.
func (x Base64) write(t []byte) string {
	s := x.alphabet.EncodeToString(t)
	if x.padded {
		s += strings.Repeat("=", (4-len(s)%4)%4)
	}
	if x.wrap == 0 {
		return s
	}
	var out strings.Builder
	for len(s) > x.wrap {
		out.WriteString(s[:x.wrap] + x.newline)
		s = s[x.wrap:]
	}
	return out.String() + s
}

// Seal returns the edit of the source that makes the base64 hold another text, written as it
// was: same alphabet, padding, lines and escapes. ok == false: it cannot be written so.
func (x Base64) Seal(t []byte) (e []text.Edit, ok bool) {
	raw, sealed := string(x.region.Text[x.from:x.to]), x.write(t)
	same := 0
	for same < len(raw) && same < len(sealed) && raw[same] == sealed[same] {
		same++
	}
	if x.untold && strings.ContainsAny(sealed, "+/=") && !strings.HasSuffix(raw, "=") {
		return nil, false
	}
	if x.query {
		var safe strings.Builder
		for _, c := range []byte(sealed[same:]) {
			if strings.IndexByte("+/=", c) >= 0 && strings.IndexByte(raw, c) < 0 {
				safe.Write(text.Encode([]byte{c}, text.Percent))
			} else {
				safe.WriteByte(c)
			}
		}
		sealed = sealed[:same] + safe.String()
	}
	return x.region.Carry([]text.Edit{{Offset: x.from + same, Removed: raw[same:], Inserted: sealed[same:]}})
}
