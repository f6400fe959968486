package envelope

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"slices"
	"strings"

	"trimlantern/core/seek"
	"trimlantern/core/text"
)

// packedPercent finds where gzip or zlib may begin that is percent-encoded, at any depth: the
// 1F of gzip's first byte, the x of zlib's, and what follows. Other layers write bytes as
// they are, or with a backslash before.
var packedPercent = seek.NewTriples([]seek.Class{{First: "1", Second: "fF"}, {First: "x", Second: "%"}}, "%0259dD")

// NextPacked returns the offset of the next percent-encoded value at or after from that begins
// like gzip or zlib, or -1. OpenInside tells whether it is one.
func NextPacked(b []byte, from int) int {
	n := bytes.IndexByte(b[from:], '%')
	if n < 0 {
		return -1
	}
	for p := max(from, from+n-1); ; {
		end := packedPercent.Next(b, p)
		if end < 0 {
			return -1
		}
		p = end - 1
		if b[end-1] == '%' { // zlib
			if _, ok := packedAt(b, end-2); ok {
				return end - 2
			}
			continue
		}
		for q := end - 3; q >= from && q >= end-2*text.MaxSteps-3; q-- {
			if b[q] == '%' {
				if _, ok := packedAt(b, q); ok {
					return q
				}
				break
			}
		}
	}
}

// NextRawPacked is NextPacked for values that are not percent-encoded.
func NextRawPacked(b []byte, from int) int {
	for p := from; p+6 < len(b); p++ {
		n := bytes.IndexAny(b[p:len(b)-6], "x\x1f")
		if n < 0 {
			return -1
		}
		if p += n; b[p] == 0x1f && b[p+1] == 0x8b && b[p+2] == 8 || isZlib(b[p:]) {
			return p
		}
	}
	return -1
}

// percented reads one percent-encoded byte. depth is how many times it is encoded; 0: it is not.
func percented(b []byte, p int) (c byte, end, depth int) {
	if p >= len(b) || b[p] != '%' {
		return 0, p, 0
	}
	for p, depth = p+1, 1; bytes.HasPrefix(b[p:], []byte("25")) && depth < text.MaxSteps; p += 2 {
		if p+4 > len(b) || hexValue(b[p+2]) < 0 || hexValue(b[p+3]) < 0 {
			break // a percent sign that is encoded
		}
		depth++
	}
	if p+2 > len(b) || hexValue(b[p]) < 0 || hexValue(b[p+1]) < 0 {
		return 0, p, 0
	}
	return byte(hexValue(b[p])<<4 | hexValue(b[p+1])), p + 2, depth
}

func hexValue(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c|0x20 >= 'a' && c|0x20 <= 'f':
		return int(c|0x20-'a') + 10
	}
	return -1
}

// packedAt reports whether the percent-encoded text at p begins like a compressed value, and
// how many times it is encoded.
func packedAt(b []byte, p int) (depth int, ok bool) {
	first, end, depth := percented(b, p)
	if b[p] == 'x' {
		first, end = 'x', p+1
	} else if first != 0x1f || depth == 0 {
		return 0, false
	}
	second, _, n := percented(b, end)
	if depth = max(depth, n); n != depth {
		return 0, false
	}
	return depth, first == 0x1f && second == 0x8b || first == 'x' && (0x7800|int(second))%31 == 0 && second&0x20 == 0
}

// Inside is a compressed value inside of a text.
type Inside struct {
	Packed
	Start, End int // in the text
	size       int // of the compressed value, as it is read
	region     text.Region
	behind     bool     // preceded by what looks like a length that does not match
	quote      byte     // the quote directly before it; 0: none
	others     []Inside // other ways to read the same bytes
}

// unescapedLayers escape only a few bytes and leave the rest as they are. PHP's double-quoted strings
// are left out: no program writes binary data into them.
var unescapedLayers = []text.Layer{text.SQL, text.Slashes, text.Single, text.Doubled}

// packedStacks returns the layers through which the compressed value at mark may be written, with
// backslashes or doubled quotes applied the given number of times.
func packedStacks(b []byte, mark, times int) (all []text.Stack) {
	outer := [][]text.Step{nil}
	if depth, ok := packedAt(b, mark); ok {
		percent := slices.Repeat([]text.Step{{Layer: text.Percent}}, depth)
		form := slices.Clone(percent)
		form[depth-1].Layer = text.Form
		outer = [][]text.Step{percent, form}
	}
	for _, o := range outer {
		for _, l := range unescapedLayers {
			if s, ok := text.Of(append(slices.Clone(o), slices.Repeat([]text.Step{{Layer: l}}, times)...)...); ok {
				all = append(all, s)
			}
		}
		if s, ok := text.Of(o...); ok && times == 1 {
			all = append(all, s)
		}
	}
	return all
}

// maxUnescaped bounds how often unescapedLayers may be nested in each other.
const maxUnescaped = 3

// OpenInside opens the compressed value at mark, an offset returned by NextPacked or NextRawPacked,
// through the layers in which it is written. cost is how many bytes were read. It returns
// ErrNotPacked unless a checksum confirms the value, and ErrTooLarge past 64 MB.
func OpenInside(b []byte, mark int) (x Inside, cost int, err error) {
	var all []Inside
	settled := false // found, and any length before it understood
	for times := 1; times <= maxUnescaped && !settled; times++ {
		for _, s := range packedStacks(b, mark, times) {
			x, n, serr := openInside(b, mark, s)
			cost += n
			if errors.Is(serr, ErrTooLarge) {
				return x, cost, serr
			}
			if serr == nil {
				all = append(all, x) // the checksum says that it is read rightly
				settled = settled || !x.behind || x.Kind != "zlib"
			}
		}
	}
	if len(all) == 0 {
		return Inside{}, cost, ErrNotPacked
	}
	// A matching length is no coincidence, so COMPRESS comes first.
	slices.SortStableFunc(all, func(a, b Inside) int { return strings.Compare(a.Kind, b.Kind) }) // COMPRESS, gzip, zlib
	quote := byte(0)
	if c, _, ok := text.Before(b, all[0].Start); ok && (c == '"' || c == '\'') {
		quote = byte(c)
	} else if bare := slices.IndexFunc(all, func(x Inside) bool { return !x.unescaped() }); bare >= 0 {
		all = all[bare : bare+1] // outside quotes nothing is escaped for them
	}
	x = all[0]
	x.quote, x.others = quote, all[1:]
	return x, cost, nil
}

// compressBack is how many bytes of the text stand before the database's COMPRESS at the most:
// its length, in four bytes, each of them percent-encoded.
const compressBack = 4 * (3 + 2*text.MaxSteps)

// openInside opens it through one stack.
func openInside(b []byte, mark int, s text.Stack) (x Inside, cost int, err error) {
	for size := 1 << 12; ; size *= 4 {
		x.region = text.Open(b, mark, s, size)
		t := x.region.Text
		cost += len(t)
		x.Packed, x.size, err = packedPrefix(t)
		if errors.Is(err, io.ErrUnexpectedEOF) && mark+size < len(b) {
			continue
		}
		break
	}
	if err != nil {
		return x, cost, err
	}
	x.Start, x.End = mark, x.region.Raw(x.size)
	if x.Kind != "zlib" {
		return x, cost, nil
	}
	// The database's COMPRESS writes the length of the text before it, which ends in a NUL nearly always.
	for _, nul := range []string{`\0`, "00"} {
		x.behind = x.behind || bytes.HasSuffix(b[:mark], []byte(nul))
	}
	for start := mark - 4; start >= max(0, mark-compressBack); start-- {
		length := text.Open(b[:mark], start, s, mark-start).Text
		if len(length) != 4 {
			continue
		}
		if int(binary.LittleEndian.Uint32(length)&0x3fffffff) != len(x.Text) {
			x.behind = x.behind || length[2] == 0 && length[3] == 0
			continue
		}
		if start > 0 && b[start-1] == '\\' && string(text.Open(b[:mark], start-1, s, mark-start+1).Text) == string(length) {
			start-- // the first byte is escaped
		}
		end := x.End
		if x.size > 0 && x.region.Text[x.size-1] == ' ' && end < len(b) && b[end] == '.' {
			end++ // see Packed.Seal
		}
		r := text.Open(b[:end], start, s, end-start)
		x.Start, x.End, x.region, x.size = start, end, r, len(r.Text)
		x.Kind, x.head = "COMPRESS", r.Text[:6]
		cost += len(r.Text)
		break
	}
	return x, cost, nil
}

// packedPrefix opens the gzip or zlib that b begins with; size is how long it is.
// io.ErrUnexpectedEOF: b does not hold all of it.
func packedPrefix(b []byte) (p Packed, size int, err error) {
	head := 2
	gzip := len(b) > 2 && b[0] == 0x1f
	if gzip {
		if head, err = gzipHead(b); err != nil {
			return p, 0, err
		}
	} else if !isZlib(b) {
		return p, 0, ErrNotPacked
	}
	t, n, err := inflate(b[head:])
	if err != nil {
		if head+n >= len(b) {
			err = io.ErrUnexpectedEOF
		}
		return p, 0, err
	}
	p = Packed{Kind: "zlib", Text: t, head: b[:head]}
	sum := head + n
	switch {
	case gzip && sum+8 > len(b), sum+4 > len(b):
		return p, 0, io.ErrUnexpectedEOF
	case gzip && sums(b[sum:], t):
		p.Kind = "gzip"
		return p, sum + 8, nil
	case !gzip && adler(b[sum:], t):
		return p, sum + 4, nil
	}
	return p, 0, ErrNotPacked
}

// Seal returns the edits that replace the value's text with t, compressed and written as before.
// ok is false if that is not possible, or if the value could be written in two ways.
func (x Inside) Seal(t []byte) (edits []text.Edit, ok bool) {
	sealed, ok := x.Packed.Seal(t)
	if !ok || x.behind && x.Kind == "zlib" {
		return nil, false
	}
	all := append([]Inside{x}, x.others...)
	for _, one := range all { // which all others read too
		edits, ok := one.region.Carry([]text.Edit{one.edit(sealed)})
		for _, other := range all {
			ok = ok && other.region.Confirms(edits, []text.Edit{other.edit(sealed)})
		}
		if ok && (x.quote == 0 || one.keeps(sealed)) {
			return edits, true
		}
	}
	return nil, false
}

// unescaped reports whether it is written in one of unescapedLayers.
func (x Inside) unescaped() bool {
	steps := x.region.Stack.Steps()
	return len(steps) > 0 && slices.Contains(unescapedLayers, steps[len(steps)-1].Layer)
}

func (x Inside) edit(sealed []byte) text.Edit {
	return text.Edit{Removed: string(x.region.Text[:x.size]), Inserted: string(sealed)}
}

// keeps reports whether the new value does not end the quoted string that holds it.
func (x Inside) keeps(sealed []byte) bool {
	if !x.unescaped() {
		return bytes.IndexByte(sealed, x.quote) < 0
	}
	steps := x.region.Stack.Steps()
	l := steps[len(steps)-1].Layer
	in := text.Encode(sealed, l)
	if l == text.Doubled {
		return bytes.IndexByte(bytes.ReplaceAll(in, []byte("''"), nil), x.quote) < 0
	}
	return seek.Quote(in, 0, x.quote) < 0
}
