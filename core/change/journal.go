package change

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"sync"

	"github.com/go-json-experiment/json"
	"github.com/klauspost/compress/zstd"
)

// JournalHeader is the first line of a journal.
type JournalHeader struct {
	Format   string `json:"format"`
	Version  int    `json:"version"`
	Tool     string `json:"tool"`
	ID       string `json:"id"`
	Time     string `json:"time"`
	Sheet    string `json:"sheet"` // the ID of the sheet that is carried out; "" where a file was changed by itself
	Site     string `json:"site"`
	Database string `json:"database"`
	Drops    bool   `json:"drops,omitempty"` // cached rows are removed too
}

// Entry is the full value of one cell before its change.
type Entry struct {
	Table  string  `json:"table"`
	Key    []Value `json:"key"`
	Column string  `json:"column"`
	Before Value   `json:"before"`
	After  string  `json:"after"` // Hash of the value after
	Edits  []Edit  `json:"edits"`
	Raw    string  `json:"raw,omitempty"`  // where the connection has another charset: Hash of the column's own bytes before, by the database
	As     string  `json:"as,omitempty"`   // SQLite: b where the value is a blob
	With   string  `json:"with,omitempty"` // as in Cell: put back all, or none
}

// Rewritten returns the value after.
func (e *Entry) Rewritten() ([]byte, error) { return applied(e.Before, e.Edits) }

// Dropped is a whole row that was removed.
type Dropped struct {
	Table string  `json:"table"`
	Key   []Value `json:"key"`
	Row   []Field `json:"row"`
}

// File is a whole file before its change.
type File struct {
	Path    string `json:"path"` // absolute
	Before  Value  `json:"before"`
	Missing bool   `json:"missing,omitempty"` // it was not there
	After   string `json:"after"`             // Hash of the file after; "" where it went
	Mode    uint32 `json:"mode"`              // its permission bits
	Time    string `json:"time,omitempty"`    // of its last change before; RFC 3339
}

// Moved is a folder whose files were moved away.
type Moved struct {
	From string `json:"from"` // absolute; the folder itself stays, empty
	To   string `json:"to"`   // in the logbook
}

// Field is one column of a row that was removed.
type Field struct {
	Column string `json:"column"`
	Value  Value  `json:"value"`
	Null   bool   `json:"null,omitempty"`
	As     string `json:"as,omitempty"` // SQLite: b blob, i integer, r real
}

// Skip names a cell that was not changed, and why.
type Skip struct {
	Table  string  `json:"table"`
	Key    []Value `json:"key"`
	Column string  `json:"column"`
	Why    string  `json:"why"`
}

// Mark is a milestone of a journal.
type Mark string

// The marks.
const (
	Committed Mark = "committed" // the batch before is in the database
	Finished  Mark = "finished"  // the whole sheet is carried out
	Undone    Mark = "undone"    // everything was put back
	Partly    Mark = "partly"    // some tables were put back
)

// Record is one line of a journal. One of the first eight fields is set; the last
// three go with marks.
type Record struct {
	Header  *JournalHeader `json:"journal,omitempty"`
	Entry   *Entry         `json:"entry,omitempty"`
	Skip    *Skip          `json:"skip,omitempty"`
	Refused *Skip          `json:"refused,omitempty"` // an entry of the block before that the database did not take
	Dropped *Dropped       `json:"dropped,omitempty"`
	File    *File          `json:"file,omitempty"`
	Moved   *Moved         `json:"moved,omitempty"`
	Mark    Mark           `json:"mark,omitempty"`
	Time    string         `json:"time,omitempty"`
	Left    int            `json:"left,omitempty"`   // with Undone and Partly: cells left as others changed them
	Tables  []string       `json:"tables,omitempty"` // with Partly
}

// A journal is a row of blocks. Each is a Zstandard frame, and before it stands
// a skippable frame (RFC 8878 §3.1.2) of 12 bytes: the length of the frame and
// its CRC-32. So a block that was cut off by a crash is told from a whole one,
// and `zstd -d` reads the file as it is.
const (
	guardMagic = 0x184D2A5E
	guardSize  = 8 + 12
	maxBlock   = 1 << 30
)

var crcTable = crc32.MakeTable(crc32.Castagnoli)

// EncodeBlock returns the records as one block to be appended to a journal.
func EncodeBlock(records ...Record) ([]byte, error) {
	if size := plainSize(records); size > maxPlain {
		return encodeLarge(records)
	}
	kept := plains.Get().(*[]byte)
	plain := slices.Grow((*kept)[:0], plainSize(records))
	defer func() {
		if cap(plain) <= maxPlain {
			*kept = plain
			plains.Put(kept)
		}
	}()
	for i := range records {
		var err error
		if e := records[i].Entry; e != nil {
			plain, err = appendEntry(plain, e)
		} else {
			plain, err = appendLine(plain, &records[i])
		}
		if err != nil {
			return nil, err
		}
	}
	return guarded(blockEncoder.EncodeAll(plain, make([]byte, guardSize, guardSize+len(plain)/2+512))), nil
}

// encodeLarge is EncodeBlock for records that are not to be in memory once more: they go into the frame piece by piece.
func encodeLarge(records []Record) ([]byte, error) {
	var size counter
	if err := writeRecords(&size, records); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.Write(make([]byte, guardSize))
	z, err := zstd.NewWriter(nil, append(blockOptions, zstd.WithEncoderConcurrency(1))...)
	if err != nil {
		return nil, err
	}
	z.ResetContentSize(&out, int64(size))
	if err := writeRecords(z, records); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return guarded(out.Bytes()), nil
}

// counter counts what is written.
type counter int64

func (c *counter) Write(b []byte) (int, error) {
	*c += counter(len(b))
	return len(b), nil
}

// writeRecords writes the lines of records.
func writeRecords(out io.Writer, records []Record) error {
	for i := range records {
		var err error
		var rest []byte
		if e := records[i].Entry; e != nil {
			w := writer{out: out}
			w.entry(e)
			rest, err = w.b, w.err
		} else {
			rest, err = appendLine(nil, &records[i])
		}
		if err == nil {
			_, err = out.Write(rest)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// guarded fills in what stands before the frame.
func guarded(block []byte) []byte {
	frame := block[guardSize:]
	binary.LittleEndian.PutUint32(block[0:], guardMagic)
	binary.LittleEndian.PutUint32(block[4:], 12)
	binary.LittleEndian.PutUint64(block[8:], uint64(len(frame)))
	binary.LittleEndian.PutUint32(block[16:], crc32.Checksum(frame, crcTable))
	return block
}

// plainSize says about how long the records are as lines: growing on the way would
// cost as much as writing them.
func plainSize(records []Record) int {
	size := 0
	for i := range records {
		if e := records[i].Entry; e != nil {
			size += len(e.Before) + len(e.Before)/8 + 64*len(e.Edits)
		}
		size += 256
	}
	return size
}

// plains is the memory of blocks before they are packed.
var plains = sync.Pool{New: func() any { return new([]byte) }}

// maxPlain bounds how much of it is kept.
const maxPlain = 16 << 20

var blockOptions = []zstd.EOption{zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithNoEntropyCompression(true), zstd.WithEncoderCRC(false)}

var blockEncoder = func() *zstd.Encoder {
	z, err := zstd.NewWriter(nil, blockOptions...)
	if err != nil {
		panic(err) // only wrong options do that
	}
	return z
}()

// ErrTorn says that a journal ends in a block that was not written to its end:
// what came before is whole.
var ErrTorn = errors.New("the journal's last block is torn")

// Block is one block of a journal and where it stands.
type Block struct {
	Offset, Size int64
	Records      []Record
}

// EachBlock reads a journal block by block and returns where the last whole one
// ends. A torn tail gives ErrTorn; the caller may cut it off there. Other errors
// say what is wrong with the journal.
func EachBlock(r io.Reader, visit func(Block) error) (end int64, err error) {
	return eachBlock(r, false, visit)
}

// eachBlock is EachBlock; inside says that r does not begin with the header.
func eachBlock(r io.Reader, inside bool, visit func(Block) error) (end int64, err error) {
	in := bufio.NewReaderSize(r, 1<<16)
	z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(4*maxBlock))
	if err != nil {
		return 0, err
	}
	defer z.Close()
	for first := !inside; ; first = false {
		var guard [guardSize]byte
		n, err := io.ReadFull(in, guard[:])
		switch {
		case errors.Is(err, io.EOF):
			return end, nil
		case errors.Is(err, io.ErrUnexpectedEOF):
			return end, ErrTorn
		case err != nil:
			return end, err
		}
		size := binary.LittleEndian.Uint64(guard[8:])
		if binary.LittleEndian.Uint32(guard[:]) != guardMagic || size > maxBlock {
			if first {
				return 0, errors.New("is not a journal")
			}
			return end, ErrTorn
		}
		frame, err := io.ReadAll(io.LimitReader(in, int64(size)))
		if err != nil {
			return end, err
		}
		if uint64(len(frame)) < size || crc32.Checksum(frame, crcTable) != binary.LittleEndian.Uint32(guard[16:]) {
			return end, ErrTorn
		}
		plain, err := z.DecodeAll(frame, nil)
		if err != nil {
			return end, fmt.Errorf("the block at byte %d: %w", end, err)
		}
		b := Block{Offset: end, Size: int64(n) + int64(size)}
		last := &Entry{}
		for line := range bytes.Lines(plain) {
			var rec Record
			if e, ok := readEntry(line, last); ok {
				last = e
				b.Records = append(b.Records, Record{Entry: e})
				continue
			}
			if err := json.Unmarshal(line, &rec, asBefore); err != nil {
				return end, fmt.Errorf("the block at byte %d: %w", end, err)
			}
			b.Records = append(b.Records, rec)
		}
		if first {
			if len(b.Records) == 0 || b.Records[0].Header == nil || b.Records[0].Header.Format != journalFormat {
				return 0, errors.New("is not a journal")
			}
			if v := b.Records[0].Header.Version; v != Version {
				return 0, fmt.Errorf("is a journal of version %d; this program reads version %d", v, Version)
			}
		}
		if err := visit(b); err != nil {
			return end, err
		}
		end += b.Size
	}
}

// Outline returns where the blocks of a journal stand, without reading what is in
// them; whole is false where it ends in something else. size is the journal's.
func Outline(r io.ReaderAt, size int64) (blocks []Block, whole bool) {
	var guard [guardSize]byte
	for at := int64(0); at < size; {
		if _, err := r.ReadAt(guard[:], at); err != nil || binary.LittleEndian.Uint32(guard[:]) != guardMagic {
			return blocks, false
		}
		length := binary.LittleEndian.Uint64(guard[8:])
		if length > maxBlock || at+guardSize+int64(length) > size {
			return blocks, false
		}
		blocks = append(blocks, Block{Offset: at, Size: guardSize + int64(length)})
		at += guardSize + int64(length)
	}
	return blocks, true
}

// NewJournalHeader fills in format and version.
func NewJournalHeader(h JournalHeader) *JournalHeader {
	h.Format, h.Version = journalFormat, Version
	return &h
}

// ReadAt reads the records of a block again.
func (b Block) ReadAt(r io.ReaderAt) ([]Record, error) {
	var records []Record
	_, err := eachBlock(io.NewSectionReader(r, b.Offset, b.Size), b.Offset > 0, func(b Block) error {
		records = b.Records
		return nil
	})
	return records, err
}
