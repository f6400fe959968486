package dumps

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"trimlantern/core/rewrite"
	"trimlantern/outside/disk"
	"trimlantern/outside/dump"
	"trimlantern/work"
)

// patching makes of the rows that change two scripts: one that changes them, and one that takes that back. Each
// statement finds its row by the key and changes it only where all of its values are what they were.
type patching struct {
	d           *dumpApplying
	there, back *spool
	sql         patchSQL
}

// spool keeps statements in a file without a name, by the place of their rows.
type spool struct {
	f  *os.File
	w  *bufio.Writer
	at map[int64]stretch
	n  int64

	text []byte // memory for the next statement
}

type stretch struct {
	from int64
	size int
}

func newSpool() (*spool, error) {
	f, err := os.CreateTemp("", "trimlantern-*")
	if err != nil {
		return nil, work.Failed(err, "the patch cannot be written", "free some space in the folder for temporary files")
	}
	return &spool{f: f, w: bufio.NewWriterSize(f, 1<<20), at: map[int64]stretch{}}, os.Remove(f.Name())
}

func (s *spool) add(place int64, text string) error {
	s.at[place] = stretch{s.n, len(text)}
	n, err := s.w.WriteString(text)
	s.n += int64(n)
	return err
}

// writeTo writes the statement of a row.
func (s *spool) writeTo(w io.Writer, place int64) error {
	at := s.at[place]
	s.text = slices.Grow(s.text[:0], at.size)[:at.size]
	if _, err := s.f.ReadAt(s.text, at.from); err != nil {
		return err
	}
	_, err := w.Write(s.text)
	return err
}

// patchSQL is how a dialect writes a patch.
type patchSQL struct {
	dialect dump.Dialect
	begin   string // before the statements
	after   string // behind each
	end     string // counts those that took
	quote   func(name string) string
	literal func(v []byte, binary bool) string
	is      func(column string, value []byte, sum [sha256.Size]byte, binary bool) string // the condition that a column holds a value
	splice  func(expr string, at, length int, in string) string                          // puts a literal in the place of length letters, from 0
}

// text returns a column as text, where its type is another.
func (s *patchSQL) text(column string, c patchedCell) string {
	if s.dialect == dump.Postgres && !c.binary {
		return column + "::text"
	}
	return column
}

// typed returns text as a value of the column's type. Of a type with a length it stays text, since that would cut it.
func (s *patchSQL) typed(value string, c patchedCell) string {
	if s.dialect != dump.Postgres || c.binary || c.typ == "" || strings.HasPrefix(c.typ, "text") || strings.HasPrefix(c.typ, "char") || strings.HasPrefix(c.typ, "varchar") {
		return value
	}
	return "CAST(" + value + " AS " + c.typ + ")"
}

// maxSplices is how many edits of a value are written as edits; more are written as the whole value.
const maxSplices = 24

func newPatch(d *dumpApplying) (*patching, error) {
	there, err := newSpool()
	if err != nil {
		return nil, err
	}
	back, err := newSpool()
	return &patching{d: d, there: there, back: back, sql: patchSQLs[d.store.About.Dialect]}, err
}

func (p *patching) close() {
	_, _ = p.there.f.Close(), p.back.f.Close() // nobody reads them again
}

// plain reports whether a text can stand between single quotes in any mode and charset.
func plain(v []byte) bool {
	for _, c := range v {
		if c < ' ' || c > '~' || c == '\'' || c == '\\' {
			return false
		}
	}
	return true
}

// patchSQLs are the dialects of patches. Text that is not plain is written in hexadecimal digits, which no charset
// and no mode changes.
var patchSQLs = map[dump.Dialect]patchSQL{
	dump.MySQL: {dialect: dump.MySQL,
		begin: "SET NAMES utf8mb4;\nSET @took = 0;\nSTART TRANSACTION;\n",
		after: "SET @took = @took + (ROW_COUNT() > 0);\n",
		end:   "COMMIT;\nSELECT @took AS `rows changed`, %d - @took AS `rows left, edited since the export`;\n",
		quote: func(n string) string { return "`" + strings.ReplaceAll(n, "`", "``") + "`" },
		literal: func(v []byte, binary bool) string {
			switch {
			case len(v) == 0:
				return "''"
			case binary:
				return "X'" + hex.EncodeToString(v) + "'"
			case plain(v):
				return "'" + string(v) + "'"
			}
			return "_utf8mb4 X'" + hex.EncodeToString(v) + "'"
		},
		is: func(c string, v []byte, sum [sha256.Size]byte, binary bool) string {
			if !binary {
				c = "CONVERT(" + c + " USING utf8mb4)"
			}
			return "SHA2(" + c + ", 256) = '" + hex.EncodeToString(sum[:]) + "'"
		},
		splice: func(expr string, at, length int, in string) string {
			return "INSERT(" + expr + ", " + strconv.Itoa(at+1) + ", " + strconv.Itoa(length) + ", " + in + ")"
		},
	},
	dump.Postgres: {dialect: dump.Postgres,
		begin: "SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nBEGIN;\nCREATE TEMPORARY TABLE trimlantern_took (n int) ON COMMIT PRESERVE ROWS;\n",
		end:   "COMMIT;\nSELECT coalesce(sum(n), 0) AS \"rows changed\", %d - coalesce(sum(n), 0) AS \"rows left, edited since the export\" FROM trimlantern_took;\nDROP TABLE trimlantern_took;\n",
		quote: func(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` },
		literal: func(v []byte, binary bool) string {
			switch {
			case binary:
				return `'\x` + hex.EncodeToString(v) + `'::bytea`
			case plain(v):
				return "'" + string(v) + "'"
			}
			return `convert_from('\x` + hex.EncodeToString(v) + `'::bytea, 'UTF8')`
		},
		is: func(c string, v []byte, sum [sha256.Size]byte, binary bool) string {
			if !binary {
				c = "convert_to(" + c + "::text, 'UTF8')"
			}
			return "encode(sha256(" + c + "), 'hex') = '" + hex.EncodeToString(sum[:]) + "'"
		},
		splice: func(expr string, at, length int, in string) string {
			return "overlay(" + expr + " placing " + in + " from " + strconv.Itoa(at+1) + " for " + strconv.Itoa(length) + ")"
		},
	},
	dump.SQLite: {dialect: dump.SQLite,
		begin: "BEGIN;\nCREATE TEMP TABLE trimlantern_took (n int);\n",
		after: "INSERT INTO trimlantern_took SELECT changes();\n",
		end:   "SELECT coalesce(sum(n), 0) AS \"rows changed\", %d - coalesce(sum(n), 0) AS \"rows left, edited since the export\" FROM trimlantern_took;\nDROP TABLE trimlantern_took;\nCOMMIT;\n",
		quote: func(n string) string { return `"` + strings.ReplaceAll(n, `"`, `""`) + `"` },
		literal: func(v []byte, binary bool) string {
			switch {
			case binary:
				return "X'" + hex.EncodeToString(v) + "'"
			case plain(v):
				return "'" + string(v) + "'"
			}
			return "CAST(X'" + hex.EncodeToString(v) + "' AS TEXT)"
		},
		is: func(c string, v []byte, sum [sha256.Size]byte, binary bool) string {
			return "CAST(" + c + " AS BLOB) = X'" + hex.EncodeToString(v) + "'"
		},
	},
}

// patchedCell is a cell of a row that a patch changes.
type patchedCell struct {
	*dumpCell
	was, is []byte
	binary  bool
	typ     string // of its column
}

// row writes the statements for one row.
func (p *patching) row(row *dumpRow, r *dump.Row) (finish func() error, err error) {
	t := p.d.tables[row.table]
	var primary []string
	for _, u := range t.Unique {
		if u.Primary {
			primary = u.Columns
		}
	}
	if len(primary) == 0 {
		return func() error { p.d.out.Keyless[row.table] += len(row.cells); return nil }, nil
	}
	var cells []patchedCell
	for k := range row.cells {
		c := &row.cells[k]
		i, before, after, err := cell(r, c)
		if err != nil {
			return nil, err
		}
		one := patchedCell{c, bytes.Clone(before), after, r.Blob(i), r.Columns[i].Type}
		if first, ok := firstReading(r, i); ok && !bytes.Equal(first, one.was) || !one.binary && !r.Unicode(i) {
			// The database converts to UTF-8 what the software reads in another charset.
			return func() error { p.d.out.Charset[row.table] += len(row.cells); return nil }, nil
		}
		cells = append(cells, one)
	}
	there, back, place := p.statement(t, r, primary, cells, true), p.statement(t, r, primary, cells, false), r.Offset()
	return func() error {
		p.d.count(row)
		return errors.Join(p.there.add(place, there), p.back.add(place, back))
	}, nil
}

// statement returns the statement that changes a row, or changes it back.
func (p *patching) statement(t dump.Table, r *dump.Row, primary []string, cells []patchedCell, forth bool) string {
	var sets, guards, where []string
	for _, c := range cells {
		column := p.sql.quote(c.column)
		from, to, edits, sum := c.was, c.is, c.edits, c.before
		if !forth {
			from, to, edits, sum = c.is, c.was, rewrite.Invert(c.edits), c.after
		}
		set := p.value(p.sql.text(column, c), from, to, edits, c.binary)
		sets = append(sets, column+" = "+p.sql.typed(set, c))
		guards = append(guards, p.sql.is(column, from, sum, c.binary))
	}
	for _, c := range t.Columns {
		if c.Stamp {
			sets = append(sets, p.sql.quote(c.Name)+" = "+p.sql.quote(c.Name))
		}
	}
	for _, name := range primary {
		i := indexOf(r.Columns, name)
		if i < 0 {
			continue
		}
		is := ""
		if v, ok := r.Bare(i); ok {
			is = string(v)
		} else {
			v, _ := r.Value(i)
			for _, c := range cells { // a key that changes is found by what it is now
				if c.column == name && !forth {
					v = c.is
				}
			}
			is = p.sql.literal(v, r.Columns[i].Bytes)
		}
		where = append(where, p.sql.quote(name)+" = "+is)
	}
	name := p.sql.quote(t.Name)
	if t.Schema != "" && t.Others {
		name = p.sql.quote(t.Schema) + "." + name
	}
	update := "UPDATE " + name + " SET " + strings.Join(sets, ", ") + " WHERE " + strings.Join(append(where, guards...), " AND ")
	if p.sql.dialect == dump.Postgres {
		return "WITH took AS (" + update + " RETURNING 1) INSERT INTO trimlantern_took SELECT count(*) FROM took;\n"
	}
	return update + ";\n" + p.sql.after
}

// firstReading returns a value as UTF-8.
func firstReading(r *dump.Row, i int) ([]byte, bool) {
	r.First(i)
	return r.Value(i)
}

func indexOf(columns []dump.Column, name string) int {
	for i, c := range columns {
		if strings.EqualFold(c.Name, name) {
			return i
		}
	}
	return -1
}

// value returns what a column is set to: itself with the edits, or the whole value.
func (p *patching) value(column string, from, to []byte, edits []rewrite.Edit, binary bool) string {
	if p.sql.splice == nil || len(edits) > maxSplices {
		return p.sql.literal(to, binary)
	}
	if n := len(edits); n > 0 && edits[n-1].Offset == len(from) || !binary && !utf8.Valid(from) { // behind the end nothing can be put in
		return p.sql.literal(to, binary)
	}
	places := make([]int, len(edits)) // in letters, or in bytes
	letters, read := 0, 0
	for k, e := range edits {
		places[k] = e.Offset
		if !binary {
			letters, read = letters+utf8.RuneCount(from[read:e.Offset]), e.Offset
			places[k] = letters
		}
	}
	expr := column
	for k := len(edits) - 1; k >= 0; k-- { // from the end, so that places stay
		e := edits[k]
		length := len(e.Removed)
		if !binary {
			if !utf8.RuneStart(startOf(from, e.Offset)) || !utf8.ValidString(e.Removed) {
				return p.sql.literal(to, binary)
			}
			length = utf8.RuneCountInString(e.Removed)
		}
		expr = p.sql.splice(expr, places[k], length, p.sql.literal([]byte(e.Inserted), binary))
	}
	if len(expr) > 2*len(to)+40 {
		return p.sql.literal(to, binary)
	}
	return expr
}

// startOf is the byte at a place of a text; behind its end, one that begins a letter.
func startOf(b []byte, at int) byte {
	if at < len(b) {
		return b[at]
	}
	return ' '
}

// write writes the files of both patches: first those that take it back, without which there is no patch. Files
// that are there already stay: an older one may be all that takes back what was loaded.
func (p *patching) write() (err error) {
	order := p.d.order()
	backwards := slices.Clone(order)
	slices.Reverse(backwards)
	name := p.d.o.Patch
	end := filepath.Ext(name)
	base := strings.TrimSuffix(name, end)
	there, back := p.parts(order, p.there, base, end), p.parts(backwards, p.back, base+".back", end)
	for _, f := range slices.Concat(there, back) {
		if _, err := os.Lstat(f.name); err == nil {
			return work.BadUse(nil, f.name+" already exists", "name another file: trimlantern apply --patch FILE")
		}
	}
	if p.d.out.Back, err = p.files(back, p.back, "takes back what "+filepath.Base(name)+" changed"); err != nil {
		return err
	}
	p.d.out.Wrote, err = p.files(there, p.there, "changes what sheet "+p.d.out.Sheet+" holds")
	return err
}

// patchFile is one file of a patch, with the places of its rows.
type patchFile struct {
	name   string
	places []int64
}

// parts shares rows out to as many files as their length asks for.
func (p *patching) parts(order []int64, from *spool, base, end string) (parts []patchFile) {
	size := int64(0)
	for _, place := range order {
		at, ok := from.at[place]
		if !ok {
			continue
		}
		if len(parts) == 0 || size+int64(at.size) > p.d.o.Largest-1024 {
			parts, size = append(parts, patchFile{}), 0
		}
		last := &parts[len(parts)-1]
		last.places = append(last.places, place)
		size += int64(at.size)
	}
	for i := range parts {
		if parts[i].name = base + end; len(parts) > 1 {
			parts[i].name = fmt.Sprintf("%s.%0*d-of-%d%s", base, len(fmt.Sprint(len(parts))), i+1, len(parts), end)
		}
	}
	return parts
}

// files writes the files of one patch.
func (p *patching) files(parts []patchFile, from *spool, what string) (names []string, err error) {
	err = from.w.Flush()
	for i, f := range parts {
		head := fmt.Sprintf("-- Trim Lantern: %s. File %d of %d, %d rows.\n-- Rows that were edited since the export are left as they are; the last statement counts them.\n", what, i+1, len(parts), len(f.places))
		if err == nil {
			err = p.file(f.name, head, f.places, from)
		}
		names = append(names, f.name)
	}
	if err != nil {
		return nil, work.Failed(err, "the patch cannot be written", "free some disk space")
	}
	return names, nil
}

// file writes one file of a patch.
func (p *patching) file(name, head string, places []int64, from *spool) error {
	f, err := disk.Create(name, 0o600)
	if err != nil {
		return err
	}
	defer f.Discard()
	w := bufio.NewWriterSize(f, 1<<18)
	_, err = w.WriteString(head + p.sql.begin)
	for _, place := range places {
		if err == nil {
			err = from.writeTo(w, place)
		}
	}
	if err == nil {
		_, err = w.WriteString(fmt.Sprintf(p.sql.end, len(places)))
	}
	if err == nil {
		err = w.Flush()
	}
	if err != nil {
		return err
	}
	return f.Commit()
}
