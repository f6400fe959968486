package dump

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"

	"trimlantern/core/rewrite"
	"trimlantern/core/seek"
	"trimlantern/core/text"
)

// Row is one row, or the values that one statement sets, as a handler sees it.
type Row struct {
	Table   *Table
	Columns []Column // in the order of the values; nil where the dump does not say
	Assigns bool     // the values that a statement sets in rows that are there: UPDATE
	More    bool     // no row of its own: what a statement sets where the row is there already
	b       []byte
	begin   int   // where it begins in b
	offset  int64 // of b in the dump
	syntax  *syntax
	fields  []field
	may     []bool // which values can hold a reference
	values  []value
	edits   [][]rewrite.Edit
}

// value is one value, in one of the ways in which it can be read.
type value struct {
	decoded bool
	bytes   text.Decoded // as the dump has them
	memory  text.Decoded // of values of earlier rows, to use again
	reading reading
	read    text.Decoded      // bytes, in another charset; only where reading says so
	charset encoding.Encoding // of that
}

// reading is how the bytes of a value are read.
type reading uint8

const (
	asBytes   reading = iota // as they are
	asUTF8                   // a dump of another charset, as UTF-8
	asCharset                // a dump in UTF-8, as a column of another charset holds it
	asUnits                  // a dump that is not converted, of a column in UTF-16 or UTF-32, as UTF-8
)

// Len returns how many values the row has.
func (r *Row) Len() int { return len(r.fields) }

// Offset returns where the row begins in the dump.
func (r *Row) Offset() int64 { return r.offset + int64(r.begin) }

// May reports whether a value can hold a reference: a first look, without
// decoding it.
func (r *Row) May(i int) bool { return r.may[i] }

// Size returns how long a value is as the dump writes it.
func (r *Row) Size(i int) int { return r.fields[i].end - r.fields[i].start }

// Bare returns a number or a word, NULL for one, as it stands there; ok is false where the value is none.
func (r *Row) Bare(i int) (v []byte, ok bool) {
	f := r.fields[i]
	return r.b[f.start:f.end], f.form == bare
}

// Value returns a value as the site's software would see it; ok is false where it is no
// text, or NULL. It is gone when the next row comes.
func (r *Row) Value(i int) (v []byte, ok bool) {
	if f := r.fields[i].form; f == bare || f == computed {
		return nil, false
	}
	u := &r.values[i]
	if !u.decoded {
		d, err := r.fields[i].decode(r.b, r.syntax.wide, u.memory)
		if err != nil {
			return nil, false
		}
		if d.HasMemory() && len(d.Text) <= largeField {
			u.memory = d
		}
		u.decoded, u.bytes, u.reading = true, d, asBytes
		if r.Columns != nil && r.syntax.hides(r.Columns[i]) {
			units := unitsOf[r.Columns[i].Charset]
			if read, ok := fromUnits(d.Text, units); ok {
				u.reading, u.read, u.charset = asUnits, read, units.encoding
			}
			return u.text(), true
		}
		if r.syntax.charset != "" && !r.isBytes(i) && !ascii(d.Text) {
			if e := r.syntax.encoding(r.syntax.charset); e != nil {
				if read, ok := toUTF8(d.Text, r.syntax.charset, e); ok {
					u.reading, u.read, u.charset = asUTF8, read, e
				}
			}
		}
	}
	return u.text(), true
}

func (u *value) text() []byte {
	if u.reading == asBytes {
		return u.bytes.Text
	}
	return u.read.Text
}

// Again returns a value read in another way, for one whose lengths do not fit what Value returned; ok is
// false where there is none. Edits belong to what was returned last.
func (r *Row) Again(i int) (v []byte, ok bool) {
	u := &r.values[i]
	if !u.decoded || r.isBytes(i) || ascii(u.bytes.Text) || u.reading == asUnits {
		return nil, false
	}
	if u.reading == asUTF8 && r.syntax.charset == "sjis" && bytes.Contains(u.bytes.Text, []byte(sjisBackslash)) {
		return nil, false // whose length in bytes nobody counts
	}
	if u.reading == asUTF8 {
		u.reading = asBytes
		return u.bytes.Text, true
	}
	if u.reading == asCharset || r.syntax.charset != "" || r.syntax.dialect != MySQL {
		return nil, false
	}
	charset := "latin1"
	if r.Columns != nil && r.Columns[i].Charset != "" {
		charset = r.Columns[i].Charset
	}
	if e := charsets[charset]; e != nil {
		if read, ok := fromUTF8(u.bytes.Text, e); ok {
			u.reading, u.read, u.charset = asCharset, read, e
			return u.read.Text, true
		}
	}
	return nil, false
}

// Unicode reports whether a value, as it was returned last, is UTF-8: not text of a charset that nobody here reads.
func (r *Row) Unicode(i int) bool {
	u := &r.values[i]
	v := u.text()
	return ascii(v) || utf8.Valid(v) && (u.reading != asBytes || r.syntax.charset == "")
}

// First returns to what Value returned.
func (r *Row) First(i int) {
	r.values[i].decoded = false
	r.Value(i)
}

// Blob reports whether a value is bytes and not text. SQLite tells that of each value, others of the column.
func (r *Row) Blob(i int) bool {
	if r.syntax.dialect == SQLite {
		return r.fields[i].form == hexText && !r.fields[i].cast
	}
	return r.Columns != nil && r.Columns[i].Bytes
}

// isBytes reports whether a value is of no charset, or of one of its own.
func (r *Row) isBytes(i int) bool {
	return r.fields[i].raw || r.fields[i].form == copyHex || r.Columns != nil && r.Columns[i].Bytes
}

func ascii(b []byte) bool {
	for _, c := range b[seek.Plain(b):] { // from the first zero, if there is one
		if c >= 0x80 {
			return false
		}
	}
	return true
}

// Edit makes edits to a value. They are the row's from now on.
func (r *Row) Edit(i int, edits []rewrite.Edit) { r.edits[i] = edits }

// place turns the edits of a value into edits of the dump.
func (r *Row) place(i int) error {
	u, f := &r.values[i], r.fields[i]
	at := u.bytes.Raw
	if u.reading != asBytes {
		at = func(p int) int { return u.bytes.Raw(u.read.Raw(p)) }
	}
	for k, e := range r.edits[i] {
		in := e.Inserted
		if u.reading == asUTF8 && r.syntax.charset == "sjis" && strings.Contains(in, `\`) {
			return fmt.Errorf("a value of table %s cannot be written in the charset of the dump", r.Table)
		}
		if u.reading == asUnits || u.reading != asBytes && !ascii([]byte(in)) {
			var err error
			if u.reading != asCharset {
				in, err = u.charset.NewEncoder().String(in)
			} else {
				in, err = u.charset.NewDecoder().String(in)
			}
			if err != nil {
				return fmt.Errorf("a value of table %s cannot be written in the charset of the dump", r.Table)
			}
		}
		from, to := at(e.Offset), at(e.Offset+len(e.Removed))
		r.edits[i][k] = rewrite.Edit{Offset: from, Removed: string(r.b[from:to]), Inserted: f.encode(r.b, in)}
	}
	return nil
}

// reset makes the row one of n values, of which nothing is known yet.
func (r *Row) reset(n int) {
	if cap(r.may) < n {
		r.may, r.values, r.edits = make([]bool, n), make([]value, n), make([][]rewrite.Edit, n)
	}
	r.may, r.values, r.edits = r.may[:n], r.values[:n], r.edits[:n]
	clear(r.may)
	for i := range r.values {
		r.values[i].decoded = false
	}
	clear(r.edits)
}

// Passage is text of a dump that is no value: a comment, a statement, code, an expression.
type Passage struct {
	Code   bool           // the database keeps or runs it: a definition, a view, a trigger, a function
	Remark bool           // a comment
	Digits bool           // Text stands there in hexadecimal digits
	Text   []byte         // as it stands there, or what the digits stand for
	Offset int64          // in the dump
	Table  *Table         // whose rows it stands between; nil: of none
	Edits  []rewrite.Edit // what the handler makes of it; never of digits
}

// Handler is called for what a dump holds. Calls come from several goroutines, each with
// a worker number of its own, below runtime.GOMAXPROCS(0).
type Handler struct {
	Row    func(worker int, r *Row)
	Beside func(worker int, p *Passage) // what may hold a reference and is no value; nil: nobody asks
	Want   func(place int64) bool       // rows, by their place, that are asked for whatever they hold; nil: none
	Grew   func(place int64, bytes int) // is told by how many bytes the edits of a row make it longer; nil: nobody
	Only   func(t *Table) bool          // of which tables rows are asked for, all of them, also those that can hold no reference; nil: of all, and only their number matters where they can hold none
}
