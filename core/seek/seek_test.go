package seek

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The plain ways, a byte at a time.

var triples = NewTriples([]Class{{"tT", "pP"}, {"wW", "sS"}, {"57", "03"}, {"1", "25"}}, `:\%&; `)

func plainTriple(b []byte, from int) int {
	for end := from + 2; end < len(b); end++ {
		switch pair := strings.ToLower(string(b[end-2 : end])); pair {
		case "tp", "ws", "50", "53", "70", "73", "12", "15":
			if strings.IndexByte(`:\%&; `, b[end]) >= 0 {
				return end
			}
		}
	}
	return -1
}

func plainRun(b []byte, from int) (int, int) {
	const letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_"
	for p := from; p < len(b); p++ {
		end := p
		for end < len(b) && strings.IndexByte(letters, b[end]) >= 0 {
			end++
		}
		if end-p >= MinRun {
			return p, end
		}
		p = end
	}
	return -1, -1
}

func plainEither(b []byte, from int, c, d byte) int {
	for p := from; p < len(b); p++ {
		if b[p] == c || b[p] == d {
			return p
		}
	}
	return -1
}

func plainQuote(b []byte, from int, q byte) int {
	for p := from; p < len(b); p++ {
		switch b[p] {
		case q:
			return p
		case '\\':
			p++
		}
	}
	return -1
}

func plainPlain(b []byte) int {
	for p, c := range b {
		if c == 0 || c >= 0x80 {
			return p
		}
	}
	return len(b)
}

// agree compares each function with its plain way, with wide registers and without.
func agree(t *testing.T, b []byte, from int) {
	t.Helper()
	for range 2 {
		require.Equal(t, plainTriple(b, from), triples.Next(b, from), "triple in %q from %d", b, from)
		start, end := Run(b, from)
		wantStart, wantEnd := plainRun(b, from)
		require.Equal(t, []int{wantStart, wantEnd}, []int{start, end}, "run in %q from %d", b, from)
		require.Equal(t, plainEither(b, from, '\'', '\\'), Either(b, from, '\'', '\\'), "either in %q from %d", b, from)
		require.Equal(t, plainQuote(b, from, '\''), Quote(b, from, '\''), "quote in %q from %d", b, from)
		require.Equal(t, plainPlain(b[from:]), Plain(b[from:]), "plain in %q from %d", b, from)
		wide = widest && !wide
	}
}

func TestAgainstPlain(t *testing.T) {
	const seed = 1929
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, seed))
	for _, letters := range []string{"tpTP:ws%", `ab'\`, "AZaz09+/-_@[`{*,.:G ", "aaaaaaaaaaaaaaaaaaaaaaaaaaaa ", "xyz \xc3\xa9\x80\xff\x00"} {
		for range 4000 {
			b := make([]byte, random.IntN(400))
			for i := range b {
				b[i] = letters[random.IntN(len(letters))]
			}
			agree(t, b, random.IntN(len(b)+1))
		}
	}
}

// One thing at every place of a text, so that each border between blocks is met.
func TestEveryPlace(t *testing.T) {
	for _, thing := range []string{"tp:", "WS%", "'", `\'`, `\\'`, strings.Repeat("A", MinRun), strings.Repeat("9", MinRun-1), strings.Repeat("_", 70), "\x00", "\x80", "\x7f\x01\xff"} {
		for at := range 300 {
			agree(t, []byte(strings.Repeat(".", at)+thing+strings.Repeat(".", 300-at)), 0)
			agree(t, []byte(strings.Repeat(".", at)+thing), at/2)
		}
	}
}

func TestEveryByte(t *testing.T) {
	for c := range 256 {
		assert.Equal(t, strings.IndexByte("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_", byte(c)) >= 0, IsBase64(byte(c)))
		agree(t, bytes.Repeat([]byte{byte(c)}, 80), 0)
	}
}

func FuzzSeek(f *testing.F) {
	f.Add([]byte("http://x it\\'s 'aHR0cDovL3gueHh4' ws:"), 0)
	f.Fuzz(func(t *testing.T, b []byte, from int) {
		if from >= 0 && from <= len(b) {
			agree(t, b, from)
		}
	})
}

// BenchmarkSeek says how many bytes a second each way of looking covers where
// nothing is found, and in prose with escapes.
func BenchmarkSeek(b *testing.B) {
	text := []byte(strings.Repeat("the tower and its lamp, over the ledge.\\nIt shows windows ", 4096))
	for _, way := range []struct {
		name string
		look func()
	}{
		{"Triples", func() { triples.Next(text, 0) }},
		{"Run", func() { Run(text, 0) }},
		{"Either", func() { Either(text, 0, '\'', '"') }},
		{"Quote", func() { Quote(text, 0, '\'') }},
	} {
		for _, w := range []string{"wide", "narrow"} {
			b.Run(way.name+"/"+w, func(b *testing.B) {
				wide = widest && w == "wide"
				defer func() { wide = widest }()
				b.SetBytes(int64(len(text)))
				for b.Loop() {
					way.look()
				}
			})
		}
	}
}
