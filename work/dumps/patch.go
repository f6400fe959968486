package dumps

import (
	"bufio"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
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
	rows        []patchedRow
	sql         patchSQL
	memory      sync.Pool // of *patchedMemory
}

// patchedRow is where the statements of a row stand in the spools.
type patchedRow struct {
	place       int64 // of the row, in the dump
	address     bool  // it holds one of the site's own addresses
	there, back stretch
}

// patchedMemory is used again for the next row.
type patchedMemory struct {
	cells       []patchedCell
	there, back []byte
	undo        []rewrite.Edit
}

// spool keeps statements in a file without a name.
type spool struct {
	f *os.File
	w *bufio.Writer
	n int64

	window []byte // what was read of it last
	from   int64  // where that begins
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
	return &spool{f: f, w: bufio.NewWriterSize(f, 1<<20)}, os.Remove(f.Name())
}

func (s *spool) add(text []byte) (stretch, error) {
	at := stretch{s.n, len(text)}
	n, err := s.w.Write(text)
	s.n += int64(n)
	return at, err
}

// around is how much is read on both sides of a statement: its neighbours are asked for next, in either direction.
const around = 512 << 10

// text returns a statement.
func (s *spool) text(at stretch) ([]byte, error) {
	if at.from < s.from || at.from+int64(at.size) > s.from+int64(len(s.window)) {
		s.from = max(0, at.from-around)
		size := int(min(at.from+int64(at.size)+around, s.n) - s.from)
		s.window = slices.Grow(s.window[:0], size)[:size]
		if _, err := s.f.ReadAt(s.window, s.from); err != nil {
			s.window = nil
			return nil, err
		}
	}
	return s.window[at.from-s.from:][:at.size], nil
}

// largeCell is how large a value is whose memory is not kept.
const largeCell = 1 << 20

// maxSplices is how many edits of a value are written as edits; more are written as the whole value.
const maxSplices = 24

func newPatch(d *dumpApplying) (*patching, error) {
	there, err := newSpool()
	if err != nil {
		return nil, err
	}
	back, err := newSpool()
	p := &patching{d: d, there: there, back: back, sql: patchSQLs[d.store.About.Dialect]}
	p.memory.New = func() any { return new(patchedMemory) }
	return p, err
}

func (p *patching) close() {
	_, _ = p.there.f.Close(), p.back.f.Close() // nobody reads them again
}

// patchedCell is a cell of a row that a patch changes.
type patchedCell struct {
	*planCell
	found
	name   string
	binary bool
	typ    string // of its column
}

// row writes the statements for one row.
func (p *patching) row(row int32, r *dump.Row) (finish func() error, err error) {
	table := p.d.plan.table(row)
	t := p.d.tables[table]
	var primary []string
	for _, u := range t.Unique {
		if u.Primary {
			primary = u.Columns
		}
	}
	if len(primary) == 0 {
		return func() error { p.leave(p.d.out.Keyless, row); return nil }, nil
	}
	m := p.memory.Get().(*patchedMemory)
	cells := m.cells[:0]
	own, other := false, false
	p.d.plan.each(row, func(c *planCell) {
		if err != nil {
			return
		}
		var f found
		if len(cells) < cap(cells) {
			f = cells[:len(cells)+1][len(cells)].found // its memory
		}
		if f, err = p.d.plan.find(r, c, f); err != nil {
			return
		}
		one := patchedCell{c, f, p.d.plan.column(c), r.Blob(f.column), r.Columns[f.column].Type}
		// The database converts to UTF-8 what the software reads in another charset.
		other = other || f.again || !one.binary && !r.Unicode(f.column)
		cells, own = append(cells, one), own || c.address
	})
	m.cells = cells
	if err != nil {
		return nil, err
	}
	if other {
		return func() error { p.leave(p.d.out.Charset, row); return nil }, nil
	}
	m.there = p.statement(m.there[:0], t, r, primary, m, true)
	m.back = p.statement(m.back[:0], t, r, primary, m, false)
	place := r.Offset()
	return func() error {
		p.d.count(row)
		there, err := p.there.add(m.there)
		back, other := p.back.add(m.back)
		p.rows = append(p.rows, patchedRow{place, own, there, back})
		for k := range m.cells {
			if cap(m.cells[k].is) > largeCell {
				m.cells[k].is = nil // few are as large
			}
		}
		p.memory.Put(m)
		return errors.Join(err, other)
	}, nil
}

// leave counts the cells of a row that a patch does not change.
func (p *patching) leave(count map[string]int, row int32) {
	p.d.plan.each(row, func(*planCell) { count[p.d.plan.table(row)]++ })
}

// statement adds the statement that changes a row, or changes it back.
func (p *patching) statement(b []byte, t dump.Table, r *dump.Row, primary []string, m *patchedMemory, forth bool) []byte {
	cells := m.cells
	b = append(append(b, p.sql.before...), "UPDATE "...)
	if t.Schema != "" && t.Others {
		b = append(p.sql.name(b, t.Schema), '.')
	}
	b = append(p.sql.name(b, t.Name), " SET "...)
	for k := range cells {
		c := &cells[k]
		from, to, edits := c.was, c.is, c.found.edits
		if !forth {
			m.undo = rewrite.AppendInverted(m.undo[:0], edits)
			from, to, edits = c.is, c.was, m.undo
		}
		if k > 0 {
			b = append(b, ", "...)
		}
		b = append(p.sql.name(b, c.name), " = "...)
		if p.sql.casts(c) {
			b = append(p.value(append(b, "CAST("...), c, from, to, edits), " AS "...)
			b = append(append(b, c.typ...), ')')
		} else {
			b = p.value(b, c, from, to, edits)
		}
	}
	for _, c := range t.Columns {
		if c.Stamp {
			b = append(p.sql.name(append(b, ", "...), c.Name), " = "...)
			b = p.sql.name(b, c.Name)
		}
	}
	b = append(b, " WHERE "...)
	for _, name := range primary {
		i := indexOf(r.Columns, name)
		if i < 0 {
			continue
		}
		b = append(p.sql.name(b, name), " = "...)
		if v, ok := r.Bare(i); ok {
			b = append(b, v...)
		} else {
			v, _ := r.Value(i)
			for k := range cells { // a key that changes is found by what it is now
				if cells[k].name == name && !forth {
					v = cells[k].is
				}
			}
			b = p.sql.literal(b, v, r.Columns[i].Bytes)
		}
		b = append(b, " AND "...)
	}
	for k := range cells {
		c := &cells[k]
		from, sum := c.was, c.before
		if !forth {
			from, sum = c.is, c.after
		}
		if k > 0 {
			b = append(b, " AND "...)
		}
		b = p.sql.is(b, c.name, from, sum, c.binary)
	}
	return append(b, p.sql.after...)
}

func indexOf(columns []dump.Column, name string) int {
	for i, c := range columns {
		if strings.EqualFold(c.Name, name) {
			return i
		}
	}
	return -1
}

// value adds what a column is set to: itself with the edits, or the whole value.
func (p *patching) value(b []byte, c *patchedCell, from, to []byte, edits []rewrite.Edit) []byte {
	if p.sql.splice == nil || len(edits) > maxSplices {
		return p.sql.literal(b, to, c.binary)
	}
	if n := len(edits); n > 0 && edits[n-1].Offset == len(from) || !c.binary && !utf8.Valid(from) { // behind the end nothing can be put in
		return p.sql.literal(b, to, c.binary)
	}
	var places [maxSplices]int // in letters, or in bytes
	letters, read, length := 0, 0, len(b)
	for k, e := range edits {
		places[k] = e.Offset
		if !c.binary {
			if !utf8.RuneStart(startOf(from, e.Offset)) || !utf8.ValidString(e.Removed) {
				return p.sql.literal(b, to, c.binary)
			}
			letters, read = letters+lettersOf(from[read:e.Offset]), e.Offset
			places[k] = letters
		}
		b = append(b, p.sql.spliced...)
	}
	b = p.sql.name(b, c.name)
	if p.sql.dialect == dump.Postgres && !c.binary {
		b = append(b, "::text"...)
	}
	for k, e := range slices.Backward(edits) { // from the end, so that places stay
		count := len(e.Removed)
		if !c.binary {
			count = utf8.RuneCountInString(e.Removed)
		}
		b = p.sql.splice(b, places[k], count, e.Inserted, c.binary)
	}
	if len(b)-length > 2*len(to)+40 {
		return p.sql.literal(b[:length], to, c.binary)
	}
	return b
}

// lettersOf counts the letters of a text that is UTF-8.
func lettersOf(b []byte) int {
	const high = 0x8080808080808080
	n := len(b)
	for ; len(b) >= 8; b = b[8:] { // bytes within a letter are 10xxxxxx
		if x := binary.LittleEndian.Uint64(b); x&high != 0 {
			n -= bits.OnesCount64(x & high &^ (x << 1))
		}
	}
	for _, c := range b {
		if c&0xc0 == 0x80 {
			n--
		}
	}
	return n
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
	slices.SortFunc(p.rows, func(x, y patchedRow) int { // the site's own addresses last
		switch {
		case x.address == y.address:
			return cmp.Compare(x.place, y.place)
		case x.address:
			return 1
		}
		return -1
	})
	order, backwards := make([]stretch, len(p.rows)), make([]stretch, len(p.rows))
	for i, r := range p.rows {
		order[i], backwards[len(p.rows)-1-i] = r.there, r.back
	}
	name := p.d.o.Patch
	end := filepath.Ext(name)
	base := strings.TrimSuffix(name, end)
	there, back := p.parts(order, base, end), p.parts(backwards, base+".back", end)
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

// patchFile is one file of a patch, with where its statements stand.
type patchFile struct {
	name       string
	statements []stretch
}

// parts shares rows out to as many files as their length asks for.
func (p *patching) parts(order []stretch, base, end string) (parts []patchFile) {
	size := int64(0)
	for _, at := range order {
		if len(parts) == 0 || size+int64(at.size) > p.d.o.Largest-1024 {
			parts, size = append(parts, patchFile{}), 0
		}
		last := &parts[len(parts)-1]
		last.statements = append(last.statements, at)
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
		head := fmt.Sprintf("-- Trim Lantern: %s. File %d of %d, %d rows.\n-- Rows that were edited since the export are left as they are; the last statement counts them.\n", what, i+1, len(parts), len(f.statements))
		if err == nil {
			err = p.file(f.name, head, f.statements, from)
		}
		names = append(names, f.name)
	}
	if err != nil {
		return nil, work.Failed(err, "the patch cannot be written", "free some disk space")
	}
	return names, nil
}

// file writes one file of a patch.
func (p *patching) file(name, head string, statements []stretch, from *spool) error {
	f, err := disk.Create(name, 0o600)
	if err != nil {
		return err
	}
	defer f.Discard()
	w := bufio.NewWriterSize(f, 1<<18)
	_, err = w.WriteString(head + p.sql.begin)
	for _, at := range statements {
		if err != nil {
			break
		}
		var text []byte
		if text, err = from.text(at); err == nil {
			_, err = w.Write(text)
		}
	}
	if err == nil {
		_, err = w.WriteString(fmt.Sprintf(p.sql.end, len(statements)))
	}
	if err == nil {
		err = w.Flush()
	}
	if err != nil {
		return err
	}
	return f.Commit()
}
