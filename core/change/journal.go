package change

import (
	"bytes"
	"io"
	"slices"
	"sync"

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

	SheetSum string `json:"sheet_sum,omitempty"` // Summary.SHA256 of that sheet
	Folder   string `json:"folder,omitempty"`    // of the site; absolute
	Repairs  string `json:"repairs,omitempty"`   // the ID of the damaged journal whose readable blocks are in this one
	Lost     int64  `json:"lost,omitempty"`      // of that journal: bytes that could not be read
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
	Reload  string `json:"reload,omitempty"`  // the command that makes a server read it, after each change
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

// Counts says what a run put into its journal. With Finished, it is the journal's own sum: a journal in which
// something else is found is damaged.
type Counts struct {
	Cells   int `json:"cells"` // entries, without those that the database refused
	Skips   int `json:"skips"` // cells that were not changed, and those refused
	Dropped int `json:"dropped"`
	Files   int `json:"files"`
	Moved   int `json:"moved"`
}

// Add counts records.
func (c *Counts) Add(records []Record) {
	for i := range records {
		switch r := &records[i]; {
		case r.Entry != nil:
			c.Cells++
		case r.Skip != nil:
			c.Skips++
		case r.Refused != nil:
			c.Cells--
			c.Skips++
		case r.Dropped != nil:
			c.Dropped++
		case r.File != nil:
			c.Files++
		case r.Moved != nil:
			c.Moved++
		}
	}
}

// Torn is the start of a block that an interrupted run did not write to its end. Nothing was changed under it.
// It is kept when the journal goes on, so that no byte of a journal is ever dropped.
type Torn struct {
	Bytes Value `json:"bytes"`
}

// Record is one line of a journal. One of the first fields, up to Mark, is set; those after it go with marks.
type Record struct {
	Header  *JournalHeader `json:"journal,omitempty"`
	Entry   *Entry         `json:"entry,omitempty"`
	Skip    *Skip          `json:"skip,omitempty"`
	Refused *Skip          `json:"refused,omitempty"` // an entry of the block before that the database did not take
	Dropped *Dropped       `json:"dropped,omitempty"`
	File    *File          `json:"file,omitempty"`
	Moved   *Moved         `json:"moved,omitempty"`
	Torn    *Torn          `json:"torn,omitempty"`
	Mark    Mark           `json:"mark,omitempty"`
	Time    string         `json:"time,omitempty"`
	Left    int            `json:"left,omitempty"`   // with Undone and Partly: cells left as others changed them
	Tables  []string       `json:"tables,omitempty"` // with Partly
	Counts  *Counts        `json:"counts,omitempty"` // with Finished
}

// EncodeBlock returns the records as one block, whose guard is still empty: Chain.Seal fills it in when the block is
// appended to a journal.
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
	return blockEncoder.EncodeAll(plain, make([]byte, guardSize, guardSize+len(plain)/2+512)), nil
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
	return out.Bytes(), nil
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

// NewJournalHeader fills in format and version.
func NewJournalHeader(h JournalHeader) *JournalHeader {
	h.Format, h.Version = journalFormat, JournalVersion
	return &h
}
