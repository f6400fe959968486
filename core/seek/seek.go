// Package seek looks for a few bytes in many: where one of some triples stands, where a run
// of base64 stands, where a string ends. On processors with AVX2 it looks at 32
// bytes at a time, elsewhere at eight.
//
// It only finds places; what stands there is for the callers to judge.
package seek

import (
	"encoding/binary"
	"math/bits"
)

const (
	ones  = 0x0101010101010101
	highs = 0x8080808080808080
)

// MinRun is how many bytes of base64's alphabet in a row make a run.
const MinRun = 16

// Triples is a set of three bytes in a row: two of one of some classes, and one
// that may stand behind any of them.
type Triples struct {
	first, second [256]uint8 // a bit for each class
	third         [256]bool
	wide          tables
}

// tables are the same by halves of a byte, for 32 bytes at a time: what the low and
// the high half of the first, second and third byte may be.
type tables [6][16]uint8

// Class is a set of pairs: one of the bytes of First, one of those of Second.
type Class struct{ First, Second string }

// NewTriples returns the set of up to eight classes with the bytes that may follow.
func NewTriples(classes []Class, third string) *Triples {
	t := &Triples{}
	for i, c := range classes {
		bit := uint8(1) << i
		for _, b := range []byte(c.First) {
			t.first[b] |= bit
			t.wide[0][b&15] |= bit
			t.wide[1][b>>4] |= bit
		}
		for _, b := range []byte(c.Second) {
			t.second[b] |= bit
			t.wide[2][b&15] |= bit
			t.wide[3][b>>4] |= bit
		}
	}
	highs := map[byte]uint8{} // a bit for each high half
	for _, b := range []byte(third) {
		bit, ok := highs[b>>4]
		if !ok {
			bit = 1 << len(highs)
			highs[b>>4] = bit
		}
		t.third[b] = true
		t.wide[4][b&15] |= bit
		t.wide[5][b>>4] |= bit
	}
	return t
}

// Next returns the place behind the first two bytes of the next triple at or after
// from, or -1.
func (t *Triples) Next(b []byte, from int) int {
	for p := from; ; {
		p = t.nextWide(b, p)
		if p+2 < len(b) && t.at(b, p) {
			return p + 2
		}
		// Where the wide look stopped short of a block, or was told a falsehood by halves.
		for end := min(len(b)-2, p+32); p < end; p++ {
			if t.at(b, p) {
				return p + 2
			}
		}
		if p+2 >= len(b) {
			return -1
		}
	}
}

func (t *Triples) at(b []byte, p int) bool {
	return t.first[b[p]]&t.second[b[p+1]] != 0 && t.third[b[p+2]]
}

// alphabet tells the characters of base64 (RFC 4648), both alphabets of it.
var alphabet = func() (is [256]bool) {
	for _, c := range []byte("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_") {
		is[c] = true
	}
	return is
}()

// IsBase64 reports whether c is of one of the two alphabets of base64.
func IsBase64(c byte) bool { return alphabet[c] }

// Run returns the next run of at least MinRun bytes of base64's alphabet at or
// after from, which begins at start and ends before end; or start == -1. A run
// that began before from is one that begins at from.
func Run(b []byte, from int) (start, end int) {
	start, next := runWide(b, from)
	if start < 0 {
		if start = run(b, next); start < 0 {
			return -1, -1
		}
	}
	for end = start + MinRun; end < len(b) && alphabet[b[end]]; end++ {
	}
	return start, end
}

// run returns where the next run begins, or -1. A whole one has a byte at every
// sixteenth place; from there it looks back and forth.
func run(b []byte, from int) int {
	for p := from + MinRun - 1; p < len(b); {
		if !alphabet[b[p]] {
			p += MinRun
			continue
		}
		start := p
		for start > from && start > p-MinRun+1 && alphabet[b[start-1]] {
			start--
		}
		end := p + 1
		for end < len(b) && end < start+MinRun && alphabet[b[end]] {
			end++
		}
		if end-start >= MinRun {
			return start
		}
		from = end // the byte there ends what came before
		p = end + MinRun
	}
	return -1
}

// Either returns the place of the next c or d at or after from, or -1.
func Either(b []byte, from int, c, d byte) int {
	p := eitherWide(b, from, c, d)
	cs, ds := ones*uint64(c), ones*uint64(d)
	for ; p+8 <= len(b); p += 8 {
		x := binary.LittleEndian.Uint64(b[p:])
		y, z := x^cs, x^ds
		if m := ((y-ones)&^y | (z-ones)&^z) & highs; m != 0 {
			return p + bits.TrailingZeros64(m)/8 // the lowest one is always true
		}
	}
	for ; p < len(b); p++ {
		if b[p] == c || b[p] == d {
			return p
		}
	}
	return -1
}

// Plain returns the place of the first byte that is not plain: 0, or one of 0x80 and above; len(b)
// where all are.
func Plain(b []byte) int {
	p := plainWide(b)
	for ; p+8 <= len(b); p += 8 {
		x := binary.LittleEndian.Uint64(b[p:])
		if m := ((x-ones)&^x | x) & highs; m != 0 {
			return p + bits.TrailingZeros64(m)/8 // the lowest one is always true
		}
	}
	for ; p < len(b) && b[p] != 0 && b[p] < 0x80; p++ {
	}
	return p
}

// Quote returns the place of the next quote q at or after from, or -1. A backslash
// and the byte behind it are stepped over.
func Quote(b []byte, from int, q byte) int {
	p := quoteWide(b, from, q)
	for {
		if p = Either(b, p, q, '\\'); p < 0 || b[p] == q {
			return p
		}
		if p += 2; p > len(b) {
			return -1
		}
	}
}
