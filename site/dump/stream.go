package dump

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"runtime"
	"sync"

	"trimlantern/core/rewrite"
	"trimlantern/core/text"
)

// Row is one row, as a Rewriter sees it.
type Row struct {
	Table   *Table
	Columns []Column // in the order of the values; nil where the dump does not say
	b       []byte
	fields  []field
	may     []bool // which values can hold a reference
	values  []text.Decoded
	memory  []text.Decoded // of values of earlier rows, to use again
	decoded []bool
	edits   [][]rewrite.Edit
}

// Len returns how many values the row has.
func (r *Row) Len() int { return len(r.fields) }

// May reports whether a value can hold a reference: a first look, without
// decoding it.
func (r *Row) May(i int) bool { return r.may[i] }

// Value returns a value as the database would hold it; ok is false where it is no
// text, or NULL. It is gone when the next row comes.
func (r *Row) Value(i int) (v []byte, ok bool) {
	u, ok := r.value(i)
	return u.Text, ok
}

func (r *Row) value(i int) (text.Decoded, bool) {
	if r.fields[i].form == bare {
		return text.Decoded{}, false
	}
	if !r.decoded[i] {
		u, err := r.fields[i].decode(r.b, r.memory[i])
		if err != nil {
			return u, false
		}
		if u.HasMemory() && len(u.Text) <= largeField {
			r.memory[i] = u
		}
		r.values[i], r.decoded[i] = u, true
	}
	return r.values[i], true
}

// Edit makes edits to a value. They are the row's from now on.
func (r *Row) Edit(i int, edits []rewrite.Edit) { r.edits[i] = edits }

// reset makes the row one of n values, of which nothing is known yet.
func (r *Row) reset(n int) {
	if cap(r.may) < n {
		r.may, r.values, r.memory = make([]bool, n), make([]text.Decoded, n), make([]text.Decoded, n)
		r.decoded, r.edits = make([]bool, n), make([][]rewrite.Edit, n)
	}
	r.may, r.values, r.memory, r.decoded, r.edits = r.may[:n], r.values[:n], r.memory[:n], r.decoded[:n], r.edits[:n]
	clear(r.may)
	clear(r.decoded)
	clear(r.edits)
}

// Rewriter is called for each row. Calls come from several goroutines, each with
// a worker number of its own, below runtime.GOMAXPROCS(0).
type Rewriter func(worker int, r *Row)

// Bounds of memory.
const (
	chunkSize = 256 << 10 // small enough to stay near the processor until it is written
	sniffSize = 64 << 10
)

// Options are how a dump is read.
type Options struct {
	MaxUnit int         // the largest row or statement that is held in memory, in bytes; 0: MaxUnit
	Read    func(int64) // is told how many bytes were read; nil: nobody

	// Whole says of which tables every row is handed over, also one that can hold no reference; nil: of none.
	Whole func(table string) bool
}

// MaxUnit is the largest row or statement where nobody says otherwise: what MariaDB
// and MySQL take at once by default (max_allowed_packet).
const MaxUnit = 16 << 20

// TooLarge says that a row or statement is larger than was allowed, and where.
type TooLarge struct {
	Offset int64
	Limit  int // in bytes
}

// Error gives place and limit.
func (e *TooLarge) Error() string {
	return fmt.Sprintf("byte %d: a row or statement of more than %d MB begins here", e.Offset, e.Limit>>20)
}

// ErrDialect says that a text is no dump that can be read.
var ErrDialect = errors.New("this is no SQL dump of MariaDB, MySQL, PostgreSQL or SQLite")

// Broken says where a dump cannot be read.
type Broken struct {
	Offset int64
	Why    string
}

// Error gives place and reason.
func (e *Broken) Error() string { return fmt.Sprintf("byte %d: %s", e.Offset, e.Why) }

// Rewrite copies a dump from r to w and lets a Rewriter edit its rows. What it
// does not edit is copied byte for byte. It returns the dialect.
func Rewrite(ctx context.Context, r io.Reader, w io.Writer, rewriter Rewriter, o Options) (Dialect, error) {
	in := bufio.NewReaderSize(r, sniffSize)
	head, err := in.Peek(sniffSize)
	if err != nil && !errors.Is(err, io.EOF) {
		return Unknown, err
	}
	if len(bytes.TrimSpace(head)) == 0 {
		return Unknown, fmt.Errorf("it is empty: %w", ErrDialect)
	}
	st := state{dialect: Sniff(head), tables: map[string]*Table{}, lines: ownProgram.Match(head)}
	if st.dialect == Unknown {
		return Unknown, ErrDialect
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	workers := runtime.GOMAXPROCS(0)
	todo, order := make(chan *chunk, workers), make(chan *chunk, workers+1)
	var running sync.WaitGroup
	for n := range workers {
		running.Go(func() {
			for c := range todo {
				c.rewrite(n, rewriter, o.Whole)
				close(c.done)
			}
		})
	}
	free := make(chunks, 2*workers)
	written := make(chan error, 1)
	go func() { // in order
		out := bufio.NewWriterSize(w, chunkSize/2)
		var failed error
		for c := range order {
			<-c.done
			if failed == nil {
				failed = c.err
			}
			if failed == nil {
				failed = c.writeTo(out)
			}
			if failed != nil {
				cancel(failed)
			}
			free.put(c)
		}
		if failed == nil {
			failed = out.Flush()
		}
		written <- failed
	}()
	err = split(ctx, in, st, free, o, func(c *chunk) {
		order <- c
		todo <- c
	})
	close(todo)
	running.Wait()
	close(order)
	if werr := <-written; werr != nil && (err == nil || errors.Is(err, context.Canceled)) {
		err = werr
	}
	return st.dialect, err
}

// ownProgram is how the dump programs of MariaDB and MySQL begin. They write a line
// break inside a string as \n.
var ownProgram = regexp.MustCompile(`^(/\*M?!\d+\\- [^\n]*\n)?-- (MariaDB|MySQL) dump `)

// chunk is a piece of a dump that begins and ends between units.
type chunk struct {
	b       []byte
	state   state          // at its beginning
	changes []rewrite.Edit // of b, in order
	err     error
	done    chan struct{}
}

// writeTo writes the chunk as it is with its changes.
func (c *chunk) writeTo(w *bufio.Writer) error {
	p := 0
	for _, e := range c.changes {
		// An error stays with the writer and comes back below.
		_, _ = w.Write(c.b[p:e.Offset])
		_, _ = w.WriteString(e.Inserted)
		p = e.Offset + len(e.Removed)
	}
	_, err := w.Write(c.b[p:])
	return err
}

// chunks keeps the memory of chunks for those to come.
type chunks chan *chunk

func (f chunks) get() *chunk {
	select {
	case c := <-f:
		return &chunk{b: c.b[:0], changes: c.changes[:0]}
	default:
		return &chunk{b: make([]byte, 0, chunkSize)}
	}
}

func (f chunks) put(c *chunk) {
	if cap(c.b) != chunkSize {
		return // of one large unit
	}
	select {
	case f <- c:
	default:
	}
}

// split reads units and hands them on in chunks.
func split(ctx context.Context, in io.Reader, st state, free chunks, o Options, emit func(*chunk)) error {
	var offset int64
	limit := max(cmp.Or(o.MaxUnit, MaxUnit), 2*chunkSize)
	next := free.get()
	scratch := make([]field, 0, 64)
	for eof := false; !eof; {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		buf := next.b
		if len(buf) == cap(buf) {
			if len(buf) >= limit {
				return &TooLarge{offset, limit}
			}
			buf = append(make([]byte, 0, min(2*cap(buf), limit)), buf...)
		}
		n, err := io.ReadFull(in, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		switch {
		case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
			eof = true
		case err != nil:
			return err
		}
		if o.Read != nil {
			o.Read(int64(n))
		}
		begin := st
		end := 0
		for end < len(buf) {
			if to := st.skipRows(buf, end, nil); to > end {
				end = to
				continue
			}
			to, _, err := st.next(buf, end, scratch[:0])
			if errors.Is(err, errMore) {
				break
			}
			if err != nil {
				return err
			}
			end = to
		}
		rest := buf[end:]
		if eof && len(bytes.TrimSpace(rest)) > 0 {
			if err := st.ending(rest); err != nil {
				return &Broken{offset + int64(end), err.Error()}
			}
			end, rest = len(buf), nil
		} else if eof && st.mode != between {
			return &Broken{offset + int64(len(buf)), "the dump is cut off between two rows"}
		}
		next.b = buf
		if end == 0 && !eof {
			continue // a unit larger than the buffer
		}
		this := next
		this.b, this.state, this.done = buf[:end], begin, make(chan struct{})
		if len(rest) < chunkSize {
			next = free.get()
		} else {
			next = &chunk{b: make([]byte, 0, len(rest)+chunkSize)}
		}
		next.b = append(next.b, rest...)
		offset += int64(end)
		emit(this)
	}
	return nil
}

// ending looks at what stands behind the last whole unit of a dump: a comment or
// statement that the end of the file ends, or a dump that was cut off.
func (s *state) ending(rest []byte) error {
	closed := append(bytes.Clone(rest), '\n')
	switch s.mode {
	case inValues:
		return errors.New("the dump is cut off inside a row of table " + s.table.Name)
	case inCopy:
		if string(bytes.TrimSpace(rest)) == `\.` {
			return nil
		}
		return errors.New("the dump is cut off inside the rows of table " + s.table.Name)
	}
	for _, word := range []string{"INSERT", "REPLACE", "COPY"} {
		if hasWord(bytes.TrimSpace(closed), word) || hasWord(append(bytes.TrimSpace(closed), ' '), word) {
			return errors.New("the dump is cut off inside a statement")
		}
	}
	probe := *s
	for p := 0; p < len(closed); {
		end, _, err := probe.next(closed, p, nil)
		if err != nil && len(closed) < len(rest)+2 {
			closed = append(closed, ';') // a statement without its semicolon
			continue
		}
		if err != nil || probe.mode != between {
			return errors.New("the dump is cut off inside a statement")
		}
		p = end
	}
	return nil
}

// rewrite goes through the rows of the chunk again, with the rewriter.
func (c *chunk) rewrite(worker int, rewriter Rewriter, whole func(string) bool) {
	st := c.state
	fields := make([]field, 0, 64)
	var r Row
	candidates := rewrite.NewCandidates(c.b)
	// A line that can hold no reference is a row of which only the count matters.
	wanted := func(start, end int) bool {
		if candidates.In(start, end) || bytes.Contains(c.b[start:end], []byte(",0x")) || whole != nil && st.table != nil && whole(st.table.Name) {
			return true
		}
		r.Table, r.Columns, r.fields = st.table, st.columns, nil
		rewriter(worker, &r)
		return false
	}
	for p := 0; p < len(c.b); {
		if end := st.skipRows(c.b, p, wanted); end > p {
			p = end
			continue
		}
		end, found, err := st.next(c.b, p, fields[:0])
		if err != nil { // the end of the file ends it
			break
		}
		p = end
		if len(found) == 0 {
			continue
		}
		fields = found
		r.Table, r.Columns, r.b, r.fields = st.table, st.columns, c.b, found
		if len(r.Columns) != len(r.fields) {
			r.Columns = nil
		}
		r.reset(len(r.fields))
		for i, f := range r.fields {
			if f.form == hexText || f.form == copyHex {
				v, ok := r.Value(i)
				r.may[i] = ok && rewrite.MayHold(v)
				continue
			}
			r.may[i] = f.form != bare && candidates.In(f.start, f.end)
		}
		rewriter(worker, &r)
		for i, edits := range r.edits {
			if len(edits) == 0 {
				continue
			}
			f := r.fields[i]
			u, ok := r.value(i)
			if !ok {
				c.err = fmt.Errorf("a value of table %s that was read cannot be read again", r.Table.Name)
				return
			}
			for k, e := range edits {
				from, to := u.Raw(e.Offset), u.Raw(e.Offset+len(e.Removed))
				edits[k] = rewrite.Edit{Offset: from, Removed: string(c.b[from:to]), Inserted: f.encode(c.b, e.Inserted)}
			}
			if len(c.changes) == 0 && len(edits) > 1000 {
				c.changes = edits
			} else {
				c.changes = append(c.changes, edits...)
			}
		}
	}
}
