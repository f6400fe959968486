package seek

import (
	"math/bits"

	"golang.org/x/sys/cpu"
)

// widest says whether 32 bytes can be looked at together; wide, whether they are.
// Tests turn it off.
var (
	widest = cpu.X86.HasAVX2
	wide   = widest
)

// nextWide returns where the next triple may stand, or the place from where nobody
// looked.
func (t *Triples) nextWide(b []byte, from int) int {
	if blocks := (len(b) - from - 2) / 32; wide && blocks > 0 {
		return from + tripleBlocks(&b[from], blocks, &t.wide)
	}
	return from
}

// runWide returns where the next run begins, or -1 and the place from where
// nobody looked: up to there no run begins that does not reach beyond.
func runWide(b []byte, from int) (start, next int) {
	blocks := (len(b) - from) / 32
	if !wide || blocks == 0 {
		return -1, from
	}
	at, runs := runBlocks(&b[from], blocks)
	if runs != 0 { // a bit for each place where one begins, from 32 before
		return from + at - 32 + bits.TrailingZeros64(runs), 0
	}
	return -1, from + at - (MinRun - 1)
}

// eitherWide returns the place of the next c or d, or the place from where nobody
// looked.
func eitherWide(b []byte, from int, c, d byte) int {
	if blocks := (len(b) - from) / 32; wide && blocks > 0 {
		return from + eitherBlocks(&b[from], blocks, c, d)
	}
	return from
}

// quoteWide returns the place of the next quote, or the place from where nobody
// looked, which is not behind a backslash.
func quoteWide(b []byte, from int, q byte) int {
	if len(b)-from >= 32 && wide {
		return from + quoteBytes(&b[from], len(b)-from, q)
	}
	return from
}

// plainWide returns the place from where nobody looked: all before is plain.
func plainWide(b []byte) int {
	if blocks := len(b) / 128; wide && blocks > 0 {
		return plainBlocks(&b[0], blocks)
	}
	return 0
}

// tripleBlocks looks at blocks of 32 bytes and two bytes behind them for triples, as
// the halves of their bytes tell. It returns where the first begins, or how many bytes
// it looked at.
//
//go:noescape
func tripleBlocks(b *byte, blocks int, t *tables) int

// runBlocks looks at blocks of 32 bytes for MinRun bytes of base64's alphabet in
// a row. runs has a bit for each place where they begin, from 32 bytes before at;
// it is zero at the end of the last block.
//
//go:noescape
func runBlocks(b *byte, blocks int) (at int, runs uint64)

// eitherBlocks looks at blocks of 32 bytes for c or d. It returns the place of the
// first, or how many bytes it looked at.
//
//go:noescape
func eitherBlocks(b *byte, blocks int, c, d byte) int

// quoteBytes looks at n bytes, as far as 32 can be looked at together, for a q
// that no backslash stands before. It returns its place, or where it stopped.
//
//go:noescape
func quoteBytes(b *byte, n int, q byte) int

// plainBlocks looks at blocks of 128 bytes. It returns how many bytes those have that
// are plain, up to the first that is not.
//
//go:noescape
func plainBlocks(b *byte, blocks int) int
