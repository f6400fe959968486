package change

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func blocksOf() [][]Record {
	return [][]Record{
		{{Header: NewJournalHeader(JournalHeader{ID: "j"})}},
		{{Entry: &Entry{Table: "p", Before: Value("one")}}},
		{{Mark: Committed}, {Entry: &Entry{Table: "p", Before: Value{0xff}}}},
		{{Mark: Finished}},
	}
}

func journal(t testing.TB) (out []byte) {
	var c Chain
	for _, records := range blocksOf() {
		b, err := EncodeBlock(records...)
		require.NoError(t, err)
		c.Seal(b)
		out = append(out, b...)
	}
	require.Equal(t, int64(len(out)), c.Size)
	return out
}

// journal1 is a journal as version 1 wrote it.
func journal1(t testing.TB) (out []byte) {
	for i, records := range blocksOf() {
		if i == 0 {
			records[0].Header.Version = 1
		}
		b, err := EncodeBlock(records...)
		require.NoError(t, err)
		frame := b[guardSize:]
		out = binary.LittleEndian.AppendUint32(out, guardMagic1)
		out = binary.LittleEndian.AppendUint32(out, 12)
		out = binary.LittleEndian.AppendUint64(out, uint64(len(frame)))
		out = binary.LittleEndian.AppendUint32(out, crc32.Checksum(frame, crcTable))
		out = append(out, frame...)
	}
	return out
}

// mixed is a journal of version 1 that this version went on with.
func mixed(t testing.TB) []byte {
	b := journal1(t)
	c, err := EachBlock(bytes.NewReader(b), func(Block) error { return nil })
	require.NoError(t, err)
	mark, err := EncodeBlock(Record{Mark: Undone})
	require.NoError(t, err)
	c.Seal(mark)
	return append(b, mark...)
}

func readAll(b []byte) (blocks []Block, c Chain, err error) {
	c, err = EachBlock(bytes.NewReader(b), func(b Block) error { blocks = append(blocks, b); return nil })
	return blocks, c, err
}

func TestJournal(t *testing.T) {
	for name, b := range map[string][]byte{"2": journal(t), "1": journal1(t), "1 and 2": mixed(t)} {
		assert.GreaterOrEqual(t, strings.Count(plain(t, b), "\n"), 5, "zstd reads it as it is")
		blocks, c, err := readAll(b)
		require.NoError(t, err, name)
		assert.Equal(t, int64(len(b)), c.Size)
		again, err := blocks[2].ReadAt(bytes.NewReader(b))
		require.NoError(t, err)
		assert.Equal(t, blocks[2].Records, again)
		assert.Equal(t, Value{0xff}, again[1].Entry.Before)
		outline, whole := Outline(bytes.NewReader(b), int64(len(b)))
		assert.True(t, whole)
		assert.Len(t, outline, len(blocks))
		// Cut off anywhere, what comes before is whole and its end is known.
		for n := 1; n < len(b); n++ {
			cut, c, err := readAll(b[:n])
			whole := 0
			for _, block := range blocks {
				if block.Offset+block.Size <= int64(n) {
					whole++
				}
			}
			require.Len(t, cut, whole, "%s cut at %d", name, n)
			if c.Size != int64(n) {
				require.ErrorIs(t, err, ErrTorn, "%s cut at %d", name, n)
			}
			// A power cut may leave space at the end that was never written.
			_, c, err = readAll(append(bytes.Clone(b[:n]), make([]byte, 100)...))
			if whole > 0 {
				require.ErrorIs(t, err, ErrTorn, "%s cut at %d, with zeros", name, n)
				require.Equal(t, cut[len(cut)-1].Offset+cut[len(cut)-1].Size, c.Size)
			}
		}
	}
	_, _, err := readAll([]byte(strings.Repeat("this is not a journal at all, by far", 3)))
	assert.ErrorContains(t, err, "is not a journal")
	stop := errors.New("stop")
	_, err = EachBlock(bytes.NewReader(journal(t)), func(Block) error { return stop })
	assert.ErrorIs(t, err, stop)
}

// Every bit of a journal that is flipped is noticed: it is refused, or what is read is the same. It is never torn.
func TestFlippedJournal(t *testing.T) {
	for name, b := range map[string][]byte{"2": journal(t), "1": journal1(t), "1 and 2": mixed(t)} {
		good, _, err := readAll(b)
		require.NoError(t, err)
		for bit := range 8 * len(b) {
			flipped := bytes.Clone(b)
			flipped[bit/8] ^= 1 << (bit % 8)
			blocks, c, err := readAll(flipped)
			require.NotErrorIs(t, err, ErrTorn, "%s bit %d", name, bit)
			if err == nil { // of a guard of version 1, whose own bytes have no checksum
				require.Len(t, blocks, len(good), "%s bit %d", name, bit)
				for i := range good {
					require.Equal(t, good[i].Records, blocks[i].Records)
				}
				continue
			}
			require.LessOrEqual(t, c.Size, int64(bit/8), "%s bit %d: %v", name, bit, err)
			count := 0
			lost, err := Salvage(bytes.NewReader(flipped), int64(len(b)), func([]Record) error { count++; return nil })
			require.NoError(t, err)
			require.GreaterOrEqual(t, count, len(good)-1, "%s bit %d: all others can be read", name, bit)
			require.Less(t, lost, int64(len(b)/2))
		}
	}
}

// Blocks that are left out, moved, doubled or of another journal are noticed.
func TestMovedBlocks(t *testing.T) {
	b := journal(t)
	blocks, _, err := readAll(b)
	require.NoError(t, err)
	part := func(i int) []byte { return b[blocks[i].Offset : blocks[i].Offset+blocks[i].Size] }
	for name, list := range map[string][]int{"left out": {0, 1, 3}, "moved": {0, 2, 1, 3}, "doubled": {0, 1, 1, 2, 3}, "at the start": {1, 2, 3}} {
		var damaged *Damaged
		var out []byte
		for _, i := range list {
			out = append(out, part(i)...)
		}
		_, _, err := readAll(out)
		require.ErrorAs(t, err, &damaged, name)
		_, whole := Outline(bytes.NewReader(out), int64(len(out)))
		assert.False(t, whole, name)
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 { // pieces overwritten, cut out or put in
		out := bytes.Clone(b)
		at, n := r.IntN(int(blocks[3].Offset)-40), 1+r.IntN(40)
		switch r.IntN(3) {
		case 0:
			for i := at; i < min(at+n, len(out)-1); i++ {
				out[i] = byte(r.Uint32())
			}
		case 1:
			out = append(out[:at], out[min(at+n, len(out)-1):]...)
		default:
			out = append(out[:at], append(bytes.Repeat([]byte{7}, n), b[at:]...)...)
		}
		if bytes.Equal(out, b) {
			continue
		}
		_, _, err := readAll(out)
		require.Error(t, err)
		require.NotErrorIs(t, err, ErrTorn)
	}
}

func TestTally(t *testing.T) {
	a, b := &Entry{Table: "a", Key: []Value{Value("1")}}, &Entry{Table: "a", Key: []Value{Value("2")}}
	var x, y, z Tally
	x.Entry(a)
	x.Entry(b)
	y.Entry(b)
	z.Entry(a)
	y.Join(z)
	assert.Equal(t, x, y, "in any order")
	y = Tally{}
	y.Entry(a)
	y.Entry(a)
	assert.NotEqual(t, x, y)
	x, y = Tally{}, Tally{}
	x.File(&File{Path: "a", After: "bc"})
	y.File(&File{Path: "ab", After: "c"})
	assert.NotEqual(t, x, y)
}
