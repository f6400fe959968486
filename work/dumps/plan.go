package dumps

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"hash/maphash"
	"strconv"

	"trimlantern/core/change"
	"trimlantern/core/rewrite"
)

// plan is what a sheet changes in a dump: for millions of rows, so it holds no pointers for the collector to follow.
type plan struct {
	seeds [2]maphash.Seed
	rows  map[[2]uint64]int32 // by table and key: the first cell
	cells []planCell
	edits []byte           // of all cells
	names []string         // of tables and columns
	known map[string]int32 // where a name stands in names
	id    []byte           // of the row that was asked for last
}

// planCell is a cell of the sheet.
type planCell struct {
	table, column int32 // names
	next          int32 // cell of the same row; 0: none
	references    int32
	edits         int64 // where they begin
	before, after [sha256.Size]byte
	address       bool
}

func newPlan() *plan {
	return &plan{seeds: [2]maphash.Seed{maphash.MakeSeed(), maphash.MakeSeed()}, rows: map[[2]uint64]int32{}, cells: make([]planCell, 1), known: map[string]int32{}}
}

// row names a row: two of them never have the same name, as far as 128 bits tell.
func (p *plan) row(b []byte, table string, key []change.Value) (name [2]uint64, id []byte) {
	b = append(append(b[:0], table...), 0)
	for _, v := range key {
		b = strconv.AppendInt(b, int64(len(v)), 10)
		b = append(append(b, ':'), v...)
	}
	return [2]uint64{maphash.Bytes(p.seeds[0], b), maphash.Bytes(p.seeds[1], b)}, b
}

// add takes one cell of the sheet. It returns an error where the cell is none that a preview writes.
func (p *plan) add(c *change.Cell) error {
	cell := planCell{table: p.name(c.Table), column: p.name(c.Column), references: int32(c.References), address: c.Address, edits: int64(len(p.edits))}
	for _, sum := range []struct {
		to   *[sha256.Size]byte
		text string
	}{{&cell.before, c.Before}, {&cell.after, c.After}} {
		if len(sum.text) != 2*sha256.Size {
			return errBroken
		}
		if _, err := hex.Decode(sum.to[:], []byte(sum.text)); err != nil {
			return errBroken
		}
	}
	p.edits = binary.AppendUvarint(p.edits, uint64(len(c.Edits)))
	for _, e := range c.Edits {
		p.edits = binary.AppendUvarint(p.edits, uint64(e.At))
		for _, text := range [...]change.Value{e.Out, e.In} {
			p.edits = append(binary.AppendUvarint(p.edits, uint64(len(text))), text...)
		}
	}
	var name [2]uint64
	name, p.id = p.row(p.id, c.Table, c.Key)
	at := int32(len(p.cells))
	p.cells = append(p.cells, cell)
	if last, ok := p.rows[name]; ok {
		for p.cells[last].next != 0 {
			last = p.cells[last].next
		}
		p.cells[last].next = at
	} else {
		p.rows[name] = at
	}
	return nil
}

func (p *plan) name(n string) int32 {
	at, ok := p.known[n]
	if !ok {
		at = int32(len(p.names))
		p.names, p.known[n] = append(p.names, n), at
	}
	return at
}

// of returns the edits of a cell, in the memory of to.
func (p *plan) of(c *planCell, to []rewrite.Edit) []rewrite.Edit {
	b := p.edits[c.edits:]
	number := func() int {
		n, size := binary.Uvarint(b)
		b = b[size:]
		return int(n)
	}
	text := func() string {
		n := number()
		s := string(b[:n])
		b = b[n:]
		return s
	}
	to = to[:0]
	for range number() {
		to = append(to, rewrite.Edit{Offset: number(), Removed: text(), Inserted: text()})
	}
	return to
}

// each calls visit with the cells of the row that begins with a cell.
func (p *plan) each(first int32, visit func(c *planCell)) {
	for at := first; at != 0; at = p.cells[at].next {
		visit(&p.cells[at])
	}
}

func (p *plan) table(first int32) string { return p.names[p.cells[first].table] }

func (p *plan) column(c *planCell) string { return p.names[c.column] }
