package change

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"

	"github.com/go-json-experiment/json"
	"github.com/klauspost/compress/zstd"
)

// A journal is a sequence of blocks. Each is a Zstandard frame with a guard before it: a skippable frame (RFC 8878
// §3.1.2), so that `zstd -d` reads the file as it is. A guard holds, little-endian:
//
//	 8  the length of the frame
//	 8  the number of the block, from 0
//	32  the chain: SHA-256 of the chain of the block before (32 zeros for the first), length, number and frame
//	 4  CRC-32C of the frame, by which Salvage knows a sound block whose neighbours are damaged
//	 4  CRC-32C of the guard up to here
//
// The chain proves that no block was changed, left out or moved. The guard's own checksum tells a damaged length from
// a block that ends early: with a length of 500 damaged to 66036, a block in the middle of a file looks like one
// that a crash cut off.
//
// In version 1 a guard held the length and the CRC-32C of the frame. Such journals are read, and blocks of
// version 2 may follow in them: the chain is computed over the older blocks as well.
const (
	guardMagic  = 0x184D2A5D
	guardSize   = 8 + 8 + 8 + sha256.Size + 4 + 4
	guardMagic1 = 0x184D2A5E // of version 1
	guardSize1  = 8 + 12
	maxBlock    = 1 << 30
)

var blockDecoder = func() *zstd.Decoder {
	z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(4*maxBlock))
	if err != nil {
		panic(err) // only wrong options do that
	}
	return z
}()

var crcTable = crc32.MakeTable(crc32.Castagnoli)

// ErrTorn says that a journal ends in a block that an interrupted run did not write to its end. The blocks before
// it are verified, and nothing was changed under the torn one.
var ErrTorn = errors.New("the journal's last block is torn")

// Damaged says that a journal is not as it was written. What is before Offset is verified.
type Damaged struct {
	Offset int64  // in bytes, of the first block that does not verify
	Block  uint64 // its number
	Why    string
}

func (d *Damaged) Error() string {
	return fmt.Sprintf("is damaged at byte %d (block %d): %s", d.Offset, d.Block, d.Why)
}

// Chain is how far a journal is verified, or written: the number of its blocks, their size and the chain of the
// last. The zero Chain is that of an empty journal.
type Chain struct {
	Blocks uint64
	Size   int64 // in bytes
	Sum    [sha256.Size]byte
}

// Hex is the chain of the last block in hexadecimal.
func (c Chain) Hex() string { return hex.EncodeToString(c.Sum[:]) }

// next returns the chain with one more block, whose guard has the given size.
func (c Chain) next(guard int, frame []byte) Chain {
	h := sha256.New()
	h.Write(c.Sum[:])
	var n [16]byte
	binary.LittleEndian.PutUint64(n[:], uint64(len(frame)))
	binary.LittleEndian.PutUint64(n[8:], c.Blocks)
	h.Write(n[:])
	h.Write(frame)
	out := Chain{Blocks: c.Blocks + 1, Size: c.Size + int64(guard) + int64(len(frame))}
	h.Sum(out.Sum[:0])
	return out
}

// Seal fills in the guard of a block of EncodeBlock, which comes next, and moves on to the block after it.
func (c *Chain) Seal(block []byte) {
	after := c.next(guardSize, block[guardSize:])
	binary.LittleEndian.PutUint32(block[0:], guardMagic)
	binary.LittleEndian.PutUint32(block[4:], guardSize-8)
	binary.LittleEndian.PutUint64(block[8:], uint64(len(block)-guardSize))
	binary.LittleEndian.PutUint64(block[16:], c.Blocks)
	copy(block[24:], after.Sum[:])
	binary.LittleEndian.PutUint32(block[56:], crc32.Checksum(block[guardSize:], crcTable))
	binary.LittleEndian.PutUint32(block[60:], crc32.Checksum(block[:60], crcTable))
	*c = after
}

// Block is one verified block of a journal.
type Block struct {
	Offset, Size int64
	Records      []Record

	before, after Chain // without this block, and with it
}

// EachBlock reads a journal block by block and returns how much of it is verified. A torn tail gives ErrTorn, anything
// else that does not verify a *Damaged. Other errors are those of r and of visit.
func EachBlock(r io.Reader, visit func(Block) error) (Chain, error) {
	return eachBlock(r, Chain{}, visit)
}

// ReadAt reads the records of a block again, and verifies it again.
func (b Block) ReadAt(r io.ReaderAt) (records []Record, err error) {
	read := false
	_, err = eachBlock(io.NewSectionReader(r, b.Offset, b.Size), b.before, func(b Block) error {
		records, read = b.Records, true
		return nil
	})
	if err == nil && !read || errors.Is(err, ErrTorn) {
		err = &Damaged{b.Offset, b.before.Blocks, "it was cut while it was read"}
	}
	return records, err
}

// eachBlock is EachBlock for what comes after the blocks of a chain.
func eachBlock(r io.Reader, from Chain, visit func(Block) error) (Chain, error) {
	in := bufio.NewReaderSize(r, 1<<16)
	for {
		frame, after, err := from.readFrame(in)
		switch {
		case errors.Is(err, io.EOF):
			return from, nil
		case err != nil:
			return from, err
		}
		damaged := func(err error) (Chain, error) {
			return from, &Damaged{from.Size, from.Blocks, err.Error()}
		}
		plain, err := blockDecoder.DecodeAll(frame, nil)
		if err != nil {
			return damaged(err)
		}
		records, err := readRecords(plain)
		if err != nil {
			return damaged(err)
		}
		if from.Blocks == 0 {
			if err := headed(records); err != nil {
				return from, err
			}
		}
		if err := visit(Block{Offset: from.Size, Size: after.Size - from.Size, Records: records, before: from, after: after}); err != nil {
			return from, err
		}
		from = after
	}
}

// readFrame reads and verifies the next block. io.EOF is the end of the journal.
func (c Chain) readFrame(in *bufio.Reader) (frame []byte, after Chain, err error) {
	guard, err := in.Peek(guardSize)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, c, err
	}
	if len(guard) == 0 {
		return nil, c, io.EOF
	}
	if len(guard) >= 4 && binary.LittleEndian.Uint32(guard) == guardMagic1 {
		return c.readFrame1(in)
	}
	if len(guard) < guardSize {
		return nil, c, c.short(guard)
	}
	why := ""
	size := binary.LittleEndian.Uint64(guard[8:])
	switch {
	case binary.LittleEndian.Uint32(guard) != guardMagic || binary.LittleEndian.Uint32(guard[60:]) != crc32.Checksum(guard[:60], crcTable):
		why = "its guard does not verify"
		if c.Blocks == 0 && binary.LittleEndian.Uint32(guard) != guardMagic {
			return nil, c, errors.New("is not a journal")
		}
	case binary.LittleEndian.Uint64(guard[16:]) != c.Blocks:
		why = fmt.Sprintf("it is number %d: blocks are missing or moved", binary.LittleEndian.Uint64(guard[16:]))
	case size > maxBlock:
		why = "it is too large"
	}
	if why != "" {
		return nil, c, c.bad(in, why)
	}
	want := [sha256.Size]byte(guard[24:])
	if _, err := in.Discard(guardSize); err != nil {
		return nil, c, err
	}
	frame, err = io.ReadAll(io.LimitReader(in, int64(size)))
	if err != nil {
		return nil, c, err
	}
	if uint64(len(frame)) < size {
		return nil, c, ErrTorn
	}
	if after = c.next(guardSize, frame); after.Sum != want {
		return nil, c, c.bad(io.MultiReader(bytes.NewReader(frame), in), "its content does not verify")
	}
	return frame, after, nil
}

// readFrame1 is readFrame for a block of version 1. It has no checksum of its length, so a frame that ends early is
// torn only if its checksum does not already fit what is there and no further block is in it.
func (c Chain) readFrame1(in *bufio.Reader) (frame []byte, after Chain, err error) {
	var guard [guardSize1]byte
	if _, err := io.ReadFull(in, guard[:]); errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, c, ErrTorn
	} else if err != nil {
		return nil, c, err
	}
	size, sum := binary.LittleEndian.Uint64(guard[8:]), binary.LittleEndian.Uint32(guard[16:])
	if binary.LittleEndian.Uint32(guard[4:]) != guardSize1-8 || size == 0 || size > maxBlock {
		return nil, c, c.bad(in, "its guard does not verify")
	}
	frame, err = io.ReadAll(io.LimitReader(in, int64(size)))
	if err != nil {
		return nil, c, err
	}
	fits := crc32.Checksum(frame, crcTable) == sum
	if uint64(len(frame)) < size {
		if fits || holdsBlock(frame) {
			return nil, c, &Damaged{c.Size, c.Blocks, "its length does not verify"}
		}
		return nil, c, ErrTorn
	}
	if !fits {
		return nil, c, c.bad(io.MultiReader(bytes.NewReader(frame), in), "its content does not verify")
	}
	return frame, c.next(guardSize1, frame), nil
}

// holdsBlock reports whether the guard of a block is inside b, in either version.
func holdsBlock(b []byte) bool {
	for _, magic := range []uint32{guardMagic1, guardMagic} {
		if bytes.Contains(b, binary.LittleEndian.AppendUint32(nil, magic)) {
			return true
		}
	}
	return false
}

// short says what a tail is that is shorter than a guard: torn if it is the beginning of the guard that comes
// next, or of zeros.
func (c Chain) short(b []byte) error {
	var want [24]byte // as far as it can be foretold; the length is not
	binary.LittleEndian.PutUint32(want[0:], guardMagic)
	binary.LittleEndian.PutUint32(want[4:], guardSize-8)
	binary.LittleEndian.PutUint64(want[16:], c.Blocks)
	if older := [8]byte{0x5E, 0x2A, 0x4D, 0x18, guardSize1 - 8}; bytes.HasPrefix(older[:], b[:min(len(b), 8)]) {
		return ErrTorn
	}
	for i := range min(len(b), len(want)) {
		if (i < 8 || i >= 16) && b[i] != want[i] && !zeros(b[i:]) {
			return &Damaged{c.Size, c.Blocks, "something else is after the last block"}
		}
	}
	return ErrTorn
}

// zeroTail is how many zeros at the end of a file show that a power cut left space there that was never written. A
// Zstandard frame that was written to its end does not end like this.
const zeroTail = 16

// bad says what the rest of a journal is that does not verify: damaged, but if it ends in zeros, a block
// that a power cut kept from being written.
func (c Chain) bad(rest io.Reader, why string) error {
	last := make([]byte, 0, 2*zeroTail)
	b := make([]byte, 32<<10)
	for {
		n, err := rest.Read(b)
		last = append(last, b[:n]...)
		last = append(last[:0], last[max(0, len(last)-zeroTail):]...)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
	}
	if c.Blocks > 0 && len(last) == zeroTail && zeros(last) {
		return ErrTorn
	}
	return &Damaged{c.Size, c.Blocks, why}
}

func zeros(b []byte) bool { return len(bytes.Trim(b, "\x00")) == 0 }

// readRecords reads the lines of a block.
func readRecords(plain []byte) (records []Record, err error) {
	last := &Entry{}
	for line := range bytes.Lines(plain) {
		if e, ok := readEntry(line, last); ok {
			last = e
			records = append(records, Record{Entry: e})
			continue
		}
		var rec Record
		if err := json.Unmarshal(line, &rec, asBefore); err != nil {
			return nil, err
		}
		records = append(records, rec)
	}
	return records, nil
}

// headed says what is wrong with the first block of a journal.
func headed(records []Record) error {
	if len(records) == 0 || records[0].Header == nil || records[0].Header.Format != journalFormat {
		return errors.New("is not a journal")
	}
	if v := records[0].Header.Version; v < 1 || v > JournalVersion {
		return fmt.Errorf("is a journal of version %d; this program reads versions 1 to %d", v, JournalVersion)
	}
	return nil
}

// Outline returns where the blocks of a journal are, from their guards alone; whole is false if something else is in
// it, or at its end. size is the journal's. The blocks can be read one by one, but do not prove what is before them.
func Outline(r io.ReaderAt, size int64) (blocks []Block, whole bool) {
	var at Chain
	var b [guardSize]byte
	for at.Size < size {
		guard := b[:min(guardSize, size-at.Size)]
		if _, err := r.ReadAt(guard, at.Size); err != nil || len(guard) < guardSize1 {
			return blocks, false
		}
		after := at
		length := binary.LittleEndian.Uint64(guard[8:])
		if length > maxBlock {
			return blocks, false
		}
		switch magic := binary.LittleEndian.Uint32(guard); {
		case magic == guardMagic1:
			after.Size += guardSize1
			after.Sum = [sha256.Size]byte{} // not known
		case magic == guardMagic && len(guard) == guardSize && binary.LittleEndian.Uint32(guard[60:]) == crc32.Checksum(guard[:60], crcTable) &&
			binary.LittleEndian.Uint64(guard[16:]) == at.Blocks:
			after.Size += guardSize
			after.Sum = [sha256.Size]byte(guard[24:])
		default:
			return blocks, false
		}
		after.Blocks++
		if after.Size += int64(length); after.Size > size {
			return blocks, false
		}
		blocks = append(blocks, Block{Offset: at.Size, Size: after.Size - at.Size, before: at, after: after})
		at = after
	}
	return blocks, true
}

// Salvage calls visit for every block of a damaged journal whose own checksum fits, in order, and returns how many
// bytes are in none.
func Salvage(r io.ReaderAt, size int64, visit func([]Record) error) (lost int64, err error) {
	for at := int64(0); at < size; {
		n, records := salvageAt(r, at, size)
		if n == 0 {
			lost++
			at++
			skip, err := nextGuard(r, at, size)
			if err != nil {
				return lost, err
			}
			lost += skip
			at += skip
			continue
		}
		if err := visit(records); err != nil {
			return lost, err
		}
		at += n
	}
	return lost, nil
}

// salvageAt reads the block at a place by itself; n is 0 if none verifies there.
func salvageAt(r io.ReaderAt, at, size int64) (n int64, records []Record) {
	var guard [guardSize]byte
	got, _ := r.ReadAt(guard[:], at) // less at the end
	if got < guardSize1 {
		return 0, nil
	}
	length, head, sum := binary.LittleEndian.Uint64(guard[8:]), int64(guardSize), binary.LittleEndian.Uint32(guard[56:])
	switch magic := binary.LittleEndian.Uint32(guard[:]); {
	case magic == guardMagic1:
		head, sum = guardSize1, binary.LittleEndian.Uint32(guard[16:])
	case magic != guardMagic || got < guardSize || binary.LittleEndian.Uint32(guard[60:]) != crc32.Checksum(guard[:60], crcTable):
		return 0, nil
	}
	if length > maxBlock || at+head+int64(length) > size {
		return 0, nil
	}
	frame := make([]byte, length)
	if _, err := r.ReadAt(frame, at+head); err != nil {
		return 0, nil
	}
	if crc32.Checksum(frame, crcTable) != sum {
		return 0, nil
	}
	plain, err := blockDecoder.DecodeAll(frame, nil)
	if err == nil {
		records, err = readRecords(plain)
	}
	if err != nil {
		return 0, nil
	}
	return head + int64(length), records
}

// nextGuard returns how far from a place the next guard begins, or the end is.
func nextGuard(r io.ReaderAt, at, size int64) (skip int64, err error) {
	const most = 64 << 10
	var b []byte
	for from, window := at, 256; from < size; window = min(2*window, most) {
		b = slices.Grow(b[:0], window)[:window]
		n, err := r.ReadAt(b, from)
		if n == 0 && err != nil {
			return 0, err
		}
		first := -1
		for _, magic := range []uint32{guardMagic, guardMagic1} {
			if i := bytes.Index(b[:n], binary.LittleEndian.AppendUint32(nil, magic)); i >= 0 && (first < 0 || i < first) {
				first = i
			}
		}
		if first >= 0 {
			return from + int64(first) - at, nil
		}
		if from+int64(n) >= size {
			break
		}
		from += int64(n) - 3
	}
	return size - at, nil
}

// Number is the number of the block in its journal, from 0.
func (b Block) Number() uint64 { return b.before.Blocks }

// Chain is how far the journal is verified with this block.
func (b Block) Chain() Chain { return b.after }
