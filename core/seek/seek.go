// Package seek looks for a few bytes in many: where a scheme may end, where a run
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

// colons tells the bytes that a colon can begin with, in some spelling.
var colons = [256]bool{':': true, '\\': true, '%': true, '&': true}

// Scheme returns the place behind the next "tp" or "ws", in any letter case, at or
// after from that a colon in some spelling can follow, or -1.
func Scheme(b []byte, from int) int {
	p := schemeWide(b, from)
	for ; p+10 <= len(b); p += 8 {
		x, y := binary.LittleEndian.Uint64(b[p:])|ones*0x20, binary.LittleEndian.Uint64(b[p+1:])|ones*0x20
		tp, ws := (x^ones*'t')|(y^ones*'p'), (x^ones*'w')|(y^ones*'s') // zero where the pair stands
		// The high bit of each pair, and falsely of some above one: looked at again.
		for m := ((tp-ones)&^tp | (ws-ones)&^ws) & highs; m != 0; m &= m - 1 {
			if end := p + bits.TrailingZeros64(m)/8 + 2; isPair(b, end) {
				return end
			}
		}
	}
	for ; p+2 < len(b); p++ {
		if isPair(b, p+2) {
			return p + 2
		}
	}
	return -1
}

func isPair(b []byte, end int) bool {
	x, y := b[end-2]|0x20, b[end-1]|0x20
	return colons[b[end]] && (x == 't' && y == 'p' || x == 'w' && y == 's')
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
