package dump

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"regexp"
	"runtime"
	"slices"
	"sync"

	"trimlantern/core/rewrite"
	"trimlantern/core/seek"
)

// Bounds of memory.
const (
	chunkSize = 256 << 10 // small enough to stay near the processor until it is written
	sniffSize = 64 << 10
)

// Options are how a dump is read.
type Options struct {
	Dialect Dialect     // Unknown: told from its beginning
	Charset string      // of its text, lower case, where it does not say; "": UTF-8
	MaxUnit int         // the largest row or statement that is held in memory, in bytes; 0: MaxUnit
	Known   *Schema     // tables that are defined elsewhere; nil: none
	Read    func(int64) // is told how many bytes were read; nil: nobody
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

// ErrChanged says that a dump is not what it was when it was surveyed.
var ErrChanged = errors.New("the dump was changed while it was read")

// Broken says where a dump cannot be read.
type Broken struct {
	Offset int64
	Err    error
}

// Error gives place and reason.
func (e *Broken) Error() string { return fmt.Sprintf("byte %d: %v", e.Offset, e.Err) }

// Unwrap returns the reason.
func (e *Broken) Unwrap() error { return e.Err }

// Survey is what reading a dump once tells: its schema, and where it can be cut into pieces.
type Survey struct {
	Schema *Schema
	Bytes  int64
	CutOff bool // a program wrote it that says at its end that it is complete, and that is missing
	pieces []piece
}

// piece is a part of a dump that begins and ends between units.
type piece struct {
	size  int
	state state // at its beginning
}

// Look surveys a dump. All of it is read, so that what is broken or too large is known before anything
// is written.
func Look(ctx context.Context, r io.Reader, o Options) (*Survey, error) {
	coming := readAhead(r)
	defer coming.stop()
	first := coming.next(part{})
	if first.err != nil && !errors.Is(first.err, io.EOF) {
		return nil, first.err
	}
	head := bytes.Clone(first.text()[:min(first.n, sniffSize)])
	if len(bytes.TrimSpace(head)) == 0 {
		return nil, fmt.Errorf("it is empty: %w", ErrDialect)
	}
	if o.Dialect == Unknown {
		o.Dialect = Sniff(head)
	}
	if o.Dialect == Unknown {
		return nil, ErrDialect
	}
	s := &Survey{Schema: &Schema{Dialect: o.Dialect, named: map[[2]string]*Table{}, byName: map[string]*Table{}, lists: map[string]bool{}}}
	if o.Known != nil {
		for _, t := range o.Known.Tables {
			mine := s.Schema.table(t.Schema, t.Name)
			mine.Columns, mine.Unique = t.Columns, t.Unique
		}
	}
	st := state{session: session{syntax: syntaxOf(o.Dialect)}, model: s.Schema, lines: ownProgram.Match(head), learns: true}
	st.speak(o.Charset)
	end, err := s.split(ctx, coming, first, st, o)
	if o.Dialect == SQLite {
		s.Schema.markShadows()
	}
	for begins, ends := range complete {
		if bytes.Contains(head, []byte(begins)) && !bytes.Contains(end, []byte(ends)) {
			s.CutOff = true
		}
	}
	return s, err
}

// complete is how dump programs begin, with what they write at the end.
var complete = map[string]string{"-- MariaDB dump ": "-- Dump completed", "-- MySQL dump ": "-- Dump completed", "\n-- PostgreSQL database dump\n": "\n-- PostgreSQL database dump complete\n"}

// ownProgram is how the dump programs of MariaDB and MySQL begin. They write a line
// break inside a string as \n.
var ownProgram = regexp.MustCompile(`^(/\*M?!\d+\\- [^\n]*\n)?-- (MariaDB|MySQL) dump `)

// endSize is how much of a dump's end tells whether it is complete.
const endSize = 4 << 10

// split reads units and notes where pieces of some size begin. It returns the end of the text.
func (s *Survey) split(ctx context.Context, coming *ahead, now part, st state, o Options) (last []byte, err error) {
	limit := max(cmp.Or(o.MaxUnit, MaxUnit), 2*chunkSize)
	scratch := make([]field, 0, 64)
	var carry []byte // of the unit in the middle of which the part before ended
	take := func() {
		if o.Read != nil {
			o.Read(int64(now.n))
		}
		text := now.text()
		last = append(last, text[max(0, len(text)-endSize):]...)
		last = last[:copy(last, last[max(0, len(last)-endSize):])]
	}
	take()
	for {
		if ctx.Err() != nil {
			return last, context.Cause(ctx)
		}
		var buf []byte
		if len(carry) <= headroom {
			buf = now.behind(carry)
		} else { // a large unit: as much again, so that it is not gone through too often
			buf = append(carry, now.text()...)
			for now.err == nil && len(buf) < min(2*len(carry), limit) {
				now = coming.next(now)
				take()
				buf = append(buf, now.text()...)
			}
		}
		if now.err != nil && !errors.Is(now.err, io.EOF) {
			return last, now.err
		}
		window := buf[:min(len(buf), limit)]
		eof := now.err != nil && len(window) == len(buf)
		end, err := s.units(window, &st, scratch, eof)
		if err != nil || eof {
			return last, err
		}
		if end == 0 && len(window) == limit {
			return last, &TooLarge{s.Bytes, limit}
		}
		rest := buf[end:]
		if cap(carry) > 4*chunkSize && len(rest) < chunkSize {
			carry = nil // its memory is not needed any more
		}
		carry = append(carry[:0], rest...)
		if now.err == nil {
			now = coming.next(now)
			take()
		} else {
			now.n = 0 // what is left of the text is in carry
		}
	}
}

// units reads the units of a part and notes a piece. It returns where the last whole one ends.
func (s *Survey) units(buf []byte, st *state, scratch []field, eof bool) (end int, err error) {
	begin := *st
	for end < len(buf) {
		if to := st.skipRows(buf, end, s.measure(st)); to > end {
			end = to
			continue
		}
		was := *st
		u, err := st.next(buf, end, scratch[:0])
		if errors.Is(err, errMore) {
			*st = was
			break
		}
		if err != nil {
			return 0, &Broken{s.Bytes + int64(end), err}
		}
		end = u.end
	}
	rest := buf[end:]
	if eof && len(bytes.TrimSpace(rest)) > 0 {
		if err := st.ending(rest); err != nil {
			return 0, &Broken{s.Bytes + int64(end), err}
		}
		end = len(buf)
	} else if eof && st.mode != between {
		return 0, &Broken{s.Bytes + int64(len(buf)), errors.New("the dump is cut off between two rows")}
	}
	if end == 0 && !eof {
		return 0, nil // a unit larger than the part
	}
	begin.learns = false
	s.pieces = append(s.pieces, piece{end, begin})
	s.Bytes += int64(end)
	return end, nil
}

// measure asks for the first row of a table whose statements do not name its columns.
func (s *Survey) measure(st *state) func(start, end int) bool {
	if st.table == nil || st.columns != nil || st.table.Width > 0 {
		return nil
	}
	return func(int, int) bool { return true }
}

// Output is how a dump is written.
type Output struct {
	Cuts []int64      // where its further parts begin, as places of the dump that is read
	Next func() error // is called before each of these parts is written
	Read func(int64)  // is told how many bytes were read; nil: nobody
}

// Rewrite copies a surveyed dump from r to w and lets a handler edit it. What it
// does not edit is copied byte for byte.
func (s *Survey) Rewrite(ctx context.Context, r io.Reader, w io.Writer, h Handler, o Output) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	workers := runtime.GOMAXPROCS(0)
	todo, order := make(chan *chunk, workers), make(chan *chunk, workers+1)
	var running sync.WaitGroup
	for n := range workers {
		running.Go(func() {
			for c := range todo {
				if c.from != nil {
					if _, err := c.from.read(c.b, c.offset); err != nil {
						c.err = readFault(err)
					}
				}
				if c.err == nil {
					c.rewrite(n, h)
				}
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
				failed = c.writeTo(out, &o)
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
	err := s.hand(ctx, r, free, h, o.Read, func(c *chunk) {
		order <- c
		todo <- c
	})
	close(todo)
	running.Wait()
	close(order)
	if werr := <-written; werr != nil && (err == nil || errors.Is(err, context.Canceled)) {
		err = werr
	}
	return err
}

// hand reads the pieces and hands them on.
func (s *Survey) hand(ctx context.Context, in io.Reader, free chunks, h Handler, read func(int64), emit func(*chunk)) error {
	var offset int64
	file := placedIn(in)
	for i, p := range s.pieces {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if h.Only != nil && s.within(i) && !h.Only(p.state.table) {
			offset += int64(p.size)
			if file == nil {
				if _, err := io.CopyN(io.Discard, in, int64(p.size)); err != nil {
					return readFault(err)
				}
			}
			continue
		}
		c := free.get(p.size)
		if c.from = file; file == nil { // else whoever works on it reads it
			if _, err := io.ReadFull(in, c.b); err != nil {
				return readFault(err)
			}
		}
		if read != nil {
			read(int64(p.size))
		}
		c.state, c.offset, c.last, c.done = p.state, offset, i == len(s.pieces)-1, make(chan struct{})
		offset += int64(p.size)
		emit(c)
	}
	more := 0
	if file != nil {
		more, _ = file.read(make([]byte, 1), offset)
	} else {
		more, _ = in.Read(make([]byte, 1))
	}
	if more > 0 {
		return ErrChanged
	}
	return nil
}

// readFault is why a piece could not be read.
func readFault(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return ErrChanged
	}
	return err
}

// within reports whether a piece holds rows of one table and nothing else: no statement begins in it, or one more
// for the same table.
func (s *Survey) within(i int) bool {
	if i+1 >= len(s.pieces) {
		return false
	}
	this, next := &s.pieces[i].state, &s.pieces[i+1].state
	return this.mode != between && next.mode == this.mode && next.before == this.before && next.begun <= this.begun+1
}

// chunk is a piece of a dump while it is worked on.
type chunk struct {
	b       []byte
	from    *placed        // b is to be read from there; nil: it was read
	state   state          // at its beginning
	offset  int64          // in the dump
	last    bool           // of the dump
	changes []rewrite.Edit // of b, in order
	err     error
	done    chan struct{}
}

// writeTo writes the chunk as it is with its changes.
func (c *chunk) writeTo(w *bufio.Writer, o *Output) error {
	p := 0
	for _, e := range c.changes {
		if err := c.copy(w, p, e.Offset, o); err != nil {
			return err
		}
		// An error stays with the writer and comes back later.
		_, _ = w.WriteString(e.Inserted)
		p = e.Offset + len(e.Removed)
	}
	return c.copy(w, p, len(c.b), o)
}

// copy writes what stays between two places, with the ends of parts that are there.
func (c *chunk) copy(w *bufio.Writer, from, to int, o *Output) error {
	for len(o.Cuts) > 0 && o.Cuts[0] < c.offset+int64(to) {
		at := max(from, int(o.Cuts[0]-c.offset))
		_, _ = w.Write(c.b[from:at])
		if err := w.Flush(); err != nil {
			return err
		}
		if err := o.Next(); err != nil {
			return err
		}
		o.Cuts, from = o.Cuts[1:], at
	}
	_, err := w.Write(c.b[from:to])
	return err
}

// chunks keeps the memory of chunks for those to come.
type chunks chan *chunk

func (f chunks) get(size int) *chunk {
	if size > chunkSize {
		return &chunk{b: make([]byte, size)}
	}
	select {
	case c := <-f:
		return &chunk{b: c.b[:size], changes: c.changes[:0]}
	default:
		return &chunk{b: make([]byte, size, chunkSize)}
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

// ending looks at what stands behind the last whole unit of a dump: a comment or
// statement that the end of the file ends, or a dump that was cut off.
func (s *state) ending(rest []byte) error {
	switch s.mode {
	case inValues:
		return errors.New("the dump is cut off inside a row of table " + s.table.Name)
	case inCopy:
		if string(bytes.TrimSpace(rest)) == `\.` {
			return nil
		}
		return errors.New("the dump is cut off inside the rows of table " + s.table.Name)
	}
	first, err := s.syntax.next(append(bytes.Clone(rest), "   \n"...), 0)
	switch {
	case err == nil && first.is(rest, "INSERT", "REPLACE", "COPY", "UPDATE"):
		return errors.New("the dump is cut off inside a statement")
	case err == nil && first.end < len(rest) && first.kind != noToken && !s.begins(rest, first):
		return ErrStatement
	}
	for _, end := range []string{"\n", s.delimiter + "\n"} { // a comment, or a statement without its semicolon
		closed := append(bytes.Clone(rest), end...)
		probe := *s
		probe.learns = false
		for p := 0; p < len(closed); {
			u, err := probe.next(closed, p, nil)
			if err != nil || probe.mode != between {
				break
			}
			if p = u.end; p >= len(closed)-1 {
				return nil
			}
		}
	}
	return errors.New("the dump is cut off inside a statement")
}

// rewrite goes through the chunk with the handler.
func (c *chunk) rewrite(worker int, h Handler) {
	st := c.state
	w := &walk{chunk: c, h: h, worker: worker, candidates: rewrite.NewCandidates(c.b)}
	digits := holdsDigits(c.b)
	var asked *Table // whether rows hide text is asked once for each table
	hides := false
	// A line that can hold no reference is a row of which only the count matters.
	wanted := func(start, end int) bool {
		switch {
		case h.Only != nil:
			return h.Only(st.table)
		case h.Want != nil && h.Want(c.offset+int64(start)):
			return true
		case w.candidates.In(start, end) || digits && holdsDigits(c.b[start:end]):
			return true
		}
		if st.table != asked {
			asked, hides = st.table, slices.ContainsFunc(st.columns, st.hides)
		}
		if hides {
			return true
		}
		w.r.Table, w.r.Columns, w.r.fields, w.r.More, w.r.Assigns = st.table, st.columns, nil, false, false
		h.Row(worker, &w.r)
		return false
	}
	fields := make([]field, 0, 64)
	for p := 0; p < len(c.b) && c.err == nil; {
		if end := st.skipRows(c.b, p, wanted); end > p {
			p = end
			continue
		}
		u, err := st.next(c.b, p, fields[:0])
		if err != nil && st.mode == inValues && len(bytes.TrimLeft(c.b[p:], ", \t\r\n")) == 0 {
			break // what stands between the rows of two pieces
		}
		if err != nil { // the survey saw what follows the piece, and that its last unit ends in it
			u, err = st.next(append(bytes.Clone(c.b), "  \n"...), p, fields[:0])
			u.end = min(u.end, len(c.b))
		}
		if err != nil && c.last { // the end of the file ends it
			u, err = unit{kind: code, end: len(c.b)}, nil
		}
		if err != nil {
			c.err = ErrChanged
			return
		}
		if u.kind == row {
			fields = u.fields
			w.row(&st, u, p)
		} else {
			w.beside(&st, span{p, u.end}, u.kind)
		}
		p = u.end
	}
	if w.rests != nil {
		slices.SortStableFunc(c.changes, func(a, b rewrite.Edit) int { return cmp.Compare(a.Offset, b.Offset) })
	}
}

// skipBlank returns the first place at or behind p where something stands.
func skipBlank(b []byte, p int) int {
	for p < len(b) && (b[p] <= ' ' || b[p] == ',') {
		p++
	}
	return p
}

// digitsBegin finds how bytes in hexadecimal digits begin: 0x68, x'68, UNHEX('68.
var digitsBegin = seek.NewTriples([]seek.Class{{First: "0", Second: "xX"}, {First: "xX", Second: "'("}}, "0123456789abcdefABCDEF'\" ")

// holdsDigits reports whether a text may hold bytes in hexadecimal digits, as MariaDB and MySQL read them.
func holdsDigits(b []byte) bool { return digitsBegin.Next(b, 0) >= 0 }

// walk is one way through a chunk.
type walk struct {
	chunk      *chunk
	h          Handler
	worker     int
	candidates rewrite.Candidates
	rests      *rewrite.Candidates // for what stands between values
	r          Row
}

// row hands over one row and takes its edits.
func (w *walk) row(st *state, u unit, begin int) {
	c, r := w.chunk, &w.r
	if w.h.Only != nil && !w.h.Only(st.table) {
		return
	}
	r.Table, r.Columns, r.b, r.fields, r.begin, r.offset, r.syntax = st.table, st.columns, c.b, u.fields, skipBlank(c.b[:u.end], begin), c.offset, &st.syntax
	r.More, r.Assigns = u.more, u.assigns
	if u.own {
		r.Columns = u.columns
	}
	if len(r.Columns) != len(r.fields) {
		r.Columns = nil
	}
	r.reset(len(r.fields))
	for i, f := range r.fields {
		if f.form == hexText || f.form == copyHex || st.wide != narrow || r.Columns != nil && st.hides(r.Columns[i]) {
			v, ok := r.Value(i)
			r.may[i] = ok && rewrite.MayHold(v)
			continue
		}
		r.may[i] = f.form != bare && f.form != computed && w.candidates.In(f.start, f.end)
	}
	w.h.Row(w.worker, r)
	grew := 0
	for i, edits := range r.edits {
		if len(edits) == 0 {
			continue
		}
		if c.err = r.place(i); c.err != nil {
			return
		}
		for _, e := range edits {
			grew += len(e.Inserted) - len(e.Removed)
		}
		if len(c.changes) == 0 && len(edits) > 1000 {
			c.changes = edits
		} else {
			c.changes = append(c.changes, edits...)
		}
	}
	if grew != 0 && w.h.Grew != nil {
		w.h.Grew(r.Offset(), grew)
	}
	if len(u.rest) > 0 && w.h.Beside != nil {
		if w.rests == nil {
			all := rewrite.NewCandidates(c.b)
			w.rests = &all
		}
		for _, s := range u.rest {
			w.passage(st, s, beside, w.rests)
		}
	}
}

// beside hands over what is no row.
func (w *walk) beside(st *state, s span, kind unitKind) {
	if w.h.Beside != nil {
		w.passage(st, s, kind, &w.candidates)
	}
}

func (w *walk) passage(st *state, s span, kind unitKind, candidates *rewrite.Candidates) {
	s.start = skipBlank(w.chunk.b[:s.end], s.start)
	b := w.chunk.b[s.start:s.end]
	p := Passage{Code: kind == code, Remark: kind == remark}
	if st.mode != between {
		p.Table = st.table
	}
	if candidates.In(s.start, s.end) {
		p.Text, p.Offset = b, w.chunk.offset+int64(s.start)
		w.h.Beside(w.worker, &p)
		for _, e := range p.Edits {
			e.Offset += s.start
			w.chunk.changes = append(w.chunk.changes, e)
		}
	}
	if !holdsDigits(b) && !bytes.Contains(b, []byte("0X")) && !bytes.Contains(b, []byte(`\x`)) && !bytes.Contains(b, []byte("'hex'")) {
		return
	}
	r := reader{x: &st.syntax, b: b}
	for t := r.token(); t.kind != noToken; t = r.token() {
		digits := bytes.Trim(b[t.start:t.end], "'\"")
		if d, ok := bytes.CutPrefix(digits, []byte(`\x`)); ok {
			digits = d
		} else if len(digits) > 2 && digits[0] == '0' && digits[1]|0x20 == 'x' {
			digits = digits[2:]
		}
		if len(digits) < 10 || !isHex(digits) {
			continue
		}
		plain := make([]byte, len(digits)/2)
		if _, err := hex.Decode(plain, digits[:len(digits)/2*2]); err == nil && rewrite.MayHold(plain) {
			w.h.Beside(w.worker, &Passage{Digits: true, Text: plain, Offset: w.chunk.offset + int64(s.start+t.start), Table: p.Table, Code: p.Code, Remark: p.Remark})
		}
	}
}

// Lines returns the numbers of the lines, from 1, that places of a text are in.
func Lines(r io.Reader, places []int64) ([]int, error) {
	order := make([]int, len(places))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(places[a], places[b]) })
	lines := make([]int, len(places))
	buf := make([]byte, chunkSize)
	at, line := int64(0), 1
	for len(order) > 0 {
		n, err := io.ReadFull(r, buf)
		b := buf[:n]
		for len(order) > 0 && places[order[0]] < at+int64(len(b)) {
			upto := max(int(places[order[0]]-at), 0)
			line += bytes.Count(b[:upto], []byte("\n"))
			at, b = at+int64(upto), b[upto:]
			lines[order[0]] = line
			order = order[1:]
		}
		line += bytes.Count(b, []byte("\n"))
		at += int64(len(b))
		switch {
		case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
			for _, i := range order {
				lines[i] = line // at its end
			}
			return lines, nil
		case err != nil:
			return lines, err
		}
	}
	return lines, nil
}
