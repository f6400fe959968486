package change

import (
	"crypto/sha256"
	"encoding/binary"
	"math/bits"
)

// Tally is the number of things that a journal holds, and the sum of their hashes, in any order. What was put back is all
// that was changed if both have the same Tally. The zero Tally is that of nothing. Tallies are comparable with ==.
type Tally struct {
	Things int
	sum    [4]uint64 // of SHA-256 of each, modulo 2^256
}

// Join adds another tally.
func (t *Tally) Join(o Tally) {
	t.Things += o.Things
	var carry uint64
	for i := range t.sum {
		t.sum[i], carry = bits.Add64(t.sum[i], o.sum[i], carry)
	}
}

func (t *Tally) add(parts ...string) {
	h := sha256.New()
	var size [8]byte
	for _, p := range parts { // with their lengths, so that ("a", "bc") is not ("ab", "c")
		binary.LittleEndian.PutUint64(size[:], uint64(len(p)))
		h.Write(size[:])
		h.Write([]byte(p))
	}
	sum := h.Sum(nil)
	one := Tally{Things: 1}
	for i := range one.sum {
		one.sum[i] = binary.LittleEndian.Uint64(sum[8*i:])
	}
	t.Join(one)
}

// Entry, Dropped, File and Moved add one thing. A cell is named by its place and the hash of the value after its change: the
// value before is proven by the journal's own chain.
func (t *Tally) Entry(e *Entry) { t.add("cell", e.Table, e.Column, RowID(e.Key), e.After, e.Raw) }

// Dropped adds a row that was removed.
func (t *Tally) Dropped(d *Dropped) { t.add("row", d.Table, RowID(d.Key)) }

// File adds a file.
func (t *Tally) File(f *File) { t.add("file", f.Path, f.After) }

// Moved adds a folder.
func (t *Tally) Moved(m *Moved) { t.add("folder", m.From, m.To) }

// Add adds all things in records.
func (t *Tally) Add(records []Record) {
	for i := range records {
		switch r := &records[i]; {
		case r.Entry != nil:
			t.Entry(r.Entry)
		case r.Dropped != nil:
			t.Dropped(r.Dropped)
		case r.File != nil:
			t.File(r.File)
		case r.Moved != nil:
			t.Moved(r.Moved)
		}
	}
}
