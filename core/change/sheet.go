// Package change knows what can be changed, a cell, a row, a file or a folder: what becomes of it, by what it holds, in
// both directions; and the two formats that a change leaves on disk: the change sheet, which says exactly what is
// to be changed, and the journal, which holds what stood there before. Both are JSON Lines inside Zstandard (RFC 8878), so
// that `zstd -d` and `jq` read them.
package change

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/klauspost/compress/zstd"

	"trimlantern/core/envelope"
	"trimlantern/core/rewrite"
)

// The versions of the two formats. Journals of version 1, whose blocks are not chained, are still read.
const (
	Version        = 1 // of sheets
	JournalVersion = 2
)

// maxLine bounds one line: a cell of MariaDB's largest column, escaped.
const maxLine = 256 << 20

// Header is the first line of a change sheet.
type Header struct {
	Format   string   `json:"format"` // "trimlantern change sheet"
	Version  int      `json:"version"`
	Tool     string   `json:"tool"`
	ID       string   `json:"id"` // names the sheet; journals refer to it
	Time     string   `json:"time"`
	Site     string   `json:"site"`
	Also     []string `json:"also,omitempty"`
	Sisters  []string `json:"sisters,omitempty"` // addresses of the other sites of its network
	Kind     string   `json:"kind"`              // "references" or "lengths"
	System   string   `json:"system"`
	Database string   `json:"database"` // identity, without secrets
	Prefix   string   `json:"prefix"`
	Choice   Choice   `json:"choice"`

	Cause envelope.Cause `json:"cause,omitzero"` // of a sheet of lengths: the replacement that broke them
}

// Choice is what of the site a sheet is of; empty lists choose everything.
// Patterns may hold * and ?.
type Choice struct {
	Tables  []string `json:"tables,omitempty" yaml:"tables,omitempty"`   // read these alone
	Except  []string `json:"except,omitempty" yaml:"except,omitempty"`   // but not these: TABLE, TABLE.COLUMN or file:PATTERN
	Sites   []int    `json:"sites,omitempty" yaml:"sites,omitempty"`     // of several sites in one database
	Address string   `json:"address,omitempty" yaml:"address,omitempty"` // of the site's own addresses only this one changes
}

// All reports whether the choice is everything.
func (c Choice) All() bool {
	return len(c.Tables)+len(c.Except)+len(c.Sites) == 0 && c.Address == ""
}

const (
	sheetFormat   = "trimlantern change sheet"
	journalFormat = "trimlantern journal"
)

// ExceptTables, ExceptColumns and ExceptFiles are the parts of Except: patterns without a dot,
// with one, and those behind file:.
func (c Choice) ExceptTables() []string {
	return c.except(func(p string) bool { return !strings.Contains(p, ".") })
}
func (c Choice) ExceptColumns() []string {
	return c.except(func(p string) bool { return strings.Contains(p, ".") })
}

func (c Choice) except(is func(string) bool) (list []string) {
	for _, p := range c.Except {
		if !strings.HasPrefix(p, exceptFile) && is(p) {
			list = append(list, p)
		}
	}
	return list
}

// ExceptFiles returns the patterns of files, without file:.
func (c Choice) ExceptFiles() (list []string) {
	for _, p := range c.Except {
		if file, ok := strings.CutPrefix(p, exceptFile); ok {
			list = append(list, file)
		}
	}
	return list
}

const exceptFile = "file:"

// Value is bytes that may be any: in JSON a string where they are UTF-8, else
// {"base64": …}.
type Value []byte

// MarshalJSONTo writes the value.
func (v Value) MarshalJSONTo(e *jsontext.Encoder) error {
	if utf8.Valid(v) {
		return e.WriteToken(jsontext.String(string(v)))
	}
	return json.MarshalEncode(e, coded{v})
}

// UnmarshalJSONFrom reads the value.
func (v *Value) UnmarshalJSONFrom(d *jsontext.Decoder) error {
	if d.PeekKind() == '"' {
		t, err := d.ReadToken()
		*v = Value(t.String())
		return err
	}
	var w coded
	err := json.UnmarshalDecode(d, &w)
	*v = w.B
	return err
}

// coded is how bytes stand that are no UTF-8.
type coded struct {
	B []byte `json:"base64"`
}

// MarshalJSON and UnmarshalJSON are for the JSON of the standard library.
func (v Value) MarshalJSON() ([]byte, error)  { return json.Marshal(v) }
func (v *Value) UnmarshalJSON(b []byte) error { return json.Unmarshal(b, v) }

// Edit is one edit of a cell, in bytes of the value before.
type Edit struct {
	At  int   `json:"at"`
	Out Value `json:"out,omitempty"`
	In  Value `json:"in,omitempty"`
}

// Edits converts the edits of a rewriting for a sheet.
func Edits(edits []rewrite.Edit) []Edit {
	out := make([]Edit, len(edits))
	for i, e := range edits {
		out[i] = Edit{At: e.Offset, Out: Value(e.Removed), In: Value(e.Inserted)}
	}
	return out
}

// Cell is the proposed change of one cell.
type Cell struct {
	Table      string              `json:"table"`
	Key        []Value             `json:"key"` // in the order of the table's key columns
	Column     string              `json:"column"`
	Size       int                 `json:"size"`   // of the value before, in bytes
	Before     string              `json:"before"` // Hash of the value before
	After      string              `json:"after"`  // and after
	Edits      []Edit              `json:"edits"`
	References int                 `json:"references"`
	Hosts      []rewrite.HostCount `json:"hosts"`
	Address    bool                `json:"address,omitempty"` // one of the site's own addresses: applied last
	With       string              `json:"with,omitempty"`    // the column whose value it goes with; cells of one row that name the same column are changed all, or none
}

// Apply makes the cell's edits and checks both hashes.
func (c *Cell) Apply(before []byte) ([]byte, error) {
	if Hash(before) != c.Before {
		return nil, ErrChanged
	}
	after, err := applied(before, c.Edits)
	if err != nil {
		return nil, err
	}
	if Hash(after) != c.After {
		return nil, fmt.Errorf("the edits of %s.%s do not give the value that the sheet promises", c.Table, c.Column)
	}
	return after, nil
}

// Rewrites returns the cell's edits.
func (c *Cell) Rewrites() []rewrite.Edit { return rewrites(c.Edits) }

func rewrites(edits []Edit) []rewrite.Edit {
	list := make([]rewrite.Edit, len(edits))
	for i, e := range edits {
		list[i] = rewrite.Edit{Offset: e.At, Removed: string(e.Out), Inserted: string(e.In)}
	}
	return list
}

// applied makes edits.
func applied(before []byte, edits []Edit) ([]byte, error) {
	return rewrite.Apply(before, rewrites(edits))
}

// ErrChanged says that a value is not the one that was seen before.
var ErrChanged = errors.New("changed since")

// Left is something that was left alone.
type Left struct {
	Reason rewrite.Reason `json:"reason"`
	Table  string         `json:"table,omitempty"`
	Key    []Value        `json:"key,omitempty"`
	Column string         `json:"column,omitempty"`
	Label  string         `json:"label,omitempty"` // the row in words: a setting's name, a page's title
	File   string         `json:"file,omitempty"`
	Line   int            `json:"line,omitempty"`
	Path   string         `json:"path,omitempty"`
	Host   string         `json:"host,omitempty"`
	URL    string         `json:"url,omitempty"`
	Use    string         `json:"use,omitempty"`
	Note   string         `json:"note,omitempty"`
	Count  int            `json:"count"`
}

// Source is a file to be changed.
type Source struct {
	Path       string              `json:"path"`   // from the folder of the site file, with slashes
	Before     string              `json:"before"` // Hash of the file before
	After      string              `json:"after"`
	Size       int                 `json:"size"`
	Edits      []Edit              `json:"edits"`
	References int                 `json:"references"`
	Hosts      []rewrite.HostCount `json:"hosts,omitempty"`
}

// Apply makes the edits of a file that is as the preview saw it, or fails with
// ErrChanged.
func (s *Source) Apply(before []byte) ([]byte, error) {
	c := Cell{Before: s.Before, After: s.After, Edits: s.Edits}
	return c.Apply(before)
}

// Copy is a file to be put into the site's own folders: what another host serves. Its content lies in the
// logbook. It comes before all that points at it.
type Copy struct {
	Path string `json:"path"` // from the folder of the site file, with slashes
	From string `json:"from"` // the URL that it is a copy of
	URL  string `json:"url"`  // the one that will serve it
	Hash string `json:"hash"` // of the content
	Size int    `json:"size"`
}

// Drop is a row that the system makes anew, which may be removed.
type Drop struct {
	Table      string  `json:"table"`
	Key        []Value `json:"key"`
	Label      string  `json:"label,omitempty"`
	References int     `json:"references"`
}

// TableCount is what preview counted in one table.
type TableCount struct {
	Table      string `json:"table"`
	Rows       int64  `json:"rows"`  // rows of the table
	Read       int64  `json:"read"`  // rows that the database handed over to be looked at
	Cells      int    `json:"cells"` // cells to change
	References int    `json:"references"`
}

// Summary is the last line of a sheet: without it the sheet was cut off.
type Summary struct {
	Tables     []TableCount           `json:"tables"`
	Rows       int64                  `json:"rows"`
	Cells      int                    `json:"cells"`
	References int                    `json:"references"`
	Drops      int                    `json:"drops"` // rows that may be removed
	Files      int                    `json:"files"` // files to change
	FileRefs   int                    `json:"file_references"`
	Copies     int                    `json:"copies,omitempty"` // files to put into the site's folders
	Hosts      map[string]int         `json:"hosts"`
	Left       map[rewrite.Reason]int `json:"left"`
	SHA256     string                 `json:"sha256"` // of all lines before this one
}

// Changes returns how many cells and files the sheet changes.
func (s *Summary) Changes() int { return s.Cells + s.Files + s.Copies }

// Hash names a value: SHA-256, in hexadecimal.
func Hash(b []byte) string {
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:])
}

// line is one line of a sheet; exactly one field is set.
type line struct {
	Header *Header  `json:"sheet,omitempty"`
	Cell   *Cell    `json:"cell,omitempty"`
	Drop   *Drop    `json:"drop,omitempty"`
	Source *Source  `json:"file,omitempty"`
	Copy   *Copy    `json:"copy,omitempty"`
	Left   *Left    `json:"left,omitempty"`
	End    *Summary `json:"end,omitempty"`
}

// Writer writes a change sheet.
type Writer struct {
	z    *zstd.Encoder
	sum  hash.Hash
	line []byte // its memory is used for the next
}

// NewWriter begins a sheet with its header.
func NewWriter(w io.Writer, h Header) (*Writer, error) {
	z, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(1<<20), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return nil, err
	}
	h.Format, h.Version = sheetFormat, Version
	s := &Writer{z: z, sum: sha256.New()}
	return s, s.put(line{Header: &h})
}

func (s *Writer) put(l line) error { return s.add(appendLine(s.line[:0], &l)) }

// add adds a line, unless it could not be made.
func (s *Writer) add(line []byte, err error) error {
	if err != nil {
		return err
	}
	if s.line = line; cap(line) > maxKept {
		s.line = nil
	}
	s.sum.Write(line)
	_, err = s.z.Write(line)
	return err
}

// Cell adds a change.
func (s *Writer) Cell(c Cell) error { return s.add(appendCell(s.line[:0], &c)) }

// Drop adds a row that may be removed.
func (s *Writer) Drop(d Drop) error { return s.put(line{Drop: &d}) }

// Source adds a file to be changed.
func (s *Writer) Source(f Source) error { return s.put(line{Source: &f}) }

// Copy adds a file to be put into the site's folders.
func (s *Writer) Copy(c Copy) error { return s.put(line{Copy: &c}) }

// Left adds something left alone.
func (s *Writer) Left(l Left) error { return s.put(line{Left: &l}) }

// Close ends the sheet with its summary, to which it adds the checksum.
func (s *Writer) Close(sum Summary) error {
	sum.SHA256 = hex.EncodeToString(s.sum.Sum(nil))
	if err := s.put(line{End: &sum}); err != nil {
		return err
	}
	return s.z.Close()
}

// maxKept bounds how much memory of a line is kept for the next.
const maxKept = 4 << 20

// Reader reads a change sheet from the first line to the last.
type Reader struct {
	Header Header
	End    *Summary // set when the end was reached and its checksum fits
	ahead  *ahead
	n      int   // lines that were read
	cell   *Cell // the last
	blind  bool  // no line is visited: the checksum alone counts
	left   bool  // what was left is visited too
	lent   bool  // see Visit
}

// How the last line begins, and those of what was left.
var (
	endBegins  = []byte(`{"end":`)
	leftBegins = []byte(`{"left":`)
)

// NewReader reads the header. The error says what is wrong with the sheet.
func NewReader(r io.Reader) (*Reader, error) {
	z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(1<<30))
	if err != nil {
		return nil, err
	}
	s := &Reader{cell: &Cell{}, ahead: readAhead(z)}
	l, err := s.next()
	switch {
	case errors.Is(err, io.EOF):
		err = errors.New("is empty")
	case err == nil && (l.Header == nil || l.Header.Format != sheetFormat):
		err = errors.New("is not a change sheet")
	case err == nil && l.Header.Version != Version:
		err = fmt.Errorf("is a change sheet of version %d; this program reads version %d: make a new preview", l.Header.Version, Version)
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	s.Header = *l.Header
	return s, nil
}

// Close gives back what the reader holds.
func (s *Reader) Close() { s.ahead.close() }

func (s *Reader) next() (line, error) {
	var l line
	b, err := s.ahead.line()
	if err != nil {
		if !errors.Is(err, io.EOF) {
			err = fmt.Errorf("cannot be read behind line %d: %w", s.n, err)
		}
		return l, err
	}
	s.n++
	if s.blind && !bytes.HasPrefix(b, endBegins) || !s.left && bytes.HasPrefix(b, leftBegins) {
		return l, nil // it is for people and for jq
	}
	c := &Cell{}
	if s.lent {
		c = s.cell
	}
	if readCell(b, c, s.cell, s.lent) {
		s.cell, l.Cell = c, c
		return l, nil
	}
	if err := json.Unmarshal(b, &l, asBefore); err != nil {
		return l, fmt.Errorf("line %d is broken: %w", s.n, err)
	}
	if l.End != nil && l.End.SHA256 != s.ahead.piece.sum {
		return l, errors.New("was changed by hand: its checksum does not fit; make a new preview")
	}
	return l, nil
}

// Visit is what Each calls for the lines of a sheet, in their order. What is nil is not called.
type Visit struct {
	Copy   func(*Copy) error
	Cell   func(*Cell) error
	Drop   func(*Drop) error
	Source func(*Source) error
	Left   func(*Left) error
	Lent   bool // a cell and all in it is gone when Cell returns
}

// Each visits the lines of a sheet, to its end. It returns an error where the sheet is cut off or was changed.
func (s *Reader) Each(v Visit) error {
	s.left = v.Left != nil
	s.blind = v.Copy == nil && v.Cell == nil && v.Drop == nil && v.Source == nil && !s.left
	s.lent = v.Lent
	for {
		l, err := s.next()
		switch {
		case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
			return fmt.Errorf("is cut off behind line %d; make a new preview", s.n)
		case err != nil:
			return err
		case l.End != nil:
			if b, err := s.ahead.line(); !errors.Is(err, io.EOF) { // the checksum of the file itself is at its end
				if err == nil {
					err = fmt.Errorf("something is after its end: %.20q", b)
				}
				return err
			}
			s.End = l.End
			return nil
		case l.Left != nil && v.Left != nil:
			err = v.Left(l.Left)
		case l.Copy != nil && v.Copy != nil:
			err = v.Copy(l.Copy)
		case l.Cell != nil && v.Cell != nil:
			err = v.Cell(l.Cell)
		case l.Drop != nil && v.Drop != nil:
			err = v.Drop(l.Drop)
		case l.Source != nil && v.Source != nil:
			err = v.Source(l.Source)
		}
		if err != nil {
			return err
		}
	}
}

// EachLeft calls visit for everything that a sheet says was left alone. What it finds counts only if it returns no error.
func EachLeft(r io.Reader, visit func(*Left)) error {
	s, err := NewReader(r)
	if err != nil {
		return err
	}
	defer s.Close()
	return s.Each(Visit{Left: func(l *Left) error {
		visit(l)
		return nil
	}})
}

// Values is the key of a row as sheets and journals hold it.
func Values(key [][]byte) []Value {
	out := make([]Value, len(key))
	for i := range key {
		out[i] = key[i]
	}
	return out
}

// Bytes is the key of a row as databases take it: what Values was given.
func Bytes(key []Value) [][]byte {
	out := make([][]byte, len(key))
	for i := range key {
		out[i] = key[i]
	}
	return out
}

// CellID names a cell in a map: its table, the key of its row, its column. Different cells have different names.
func CellID(table string, key [][]byte, column string) string {
	id := append([]byte(table+"\x00"+column+"\x00"), rowID(key)...)
	return string(id)
}

// RowID names a row of one table in a map, by its key.
func RowID(key []Value) string { return string(rowID(key)) }

func rowID[V ~[]byte](key []V) (id []byte) {
	if len(key) == 1 { // within one table all keys have the same number of columns
		return key[0]
	}
	for _, k := range key {
		id = strconv.AppendInt(id, int64(len(k)), 10)
		id = append(append(id, ':'), k...)
	}
	return id
}
