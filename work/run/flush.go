package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/database"
	"trimlantern/work"
)

// flush carries out the cells that were gathered.
func (a *applying) flush() error {
	cells := a.batch
	a.batch, a.bytes = nil, 0
	return a.through(cells, a.open)
}

// attempt carries out one batch: read the rows and hold them, check each value,
// write the journal through to the disk, then the database. While disk and database
// write, the next batch is read and checked already; its block goes into the
// journal only when the batch before is committed. It returns the batch where it was begun to be
// written. The error may be of the batch before: then that one is lost.
func (a *applying) attempt(cells []*change.Cell) (*flushing, error) {
	if a.ctx.Err() != nil {
		if err := a.settle(); err != nil {
			return nil, err
		}
		return nil, work.Failed(nil, fmt.Sprintf("interrupted: %d of %d cells are changed, each of them is in the journal", a.out.Changed, a.out.Planned),
			"continue with the same command: trimlantern apply; or take it back: trimlantern undo")
	}
	a.job.Progress.At("changing "+cells[0].Table, int64(a.out.Changed), int64(a.out.Planned))
	together := a.overlaps(cells)
	if !together {
		if err := a.settle(); err != nil {
			return nil, err
		}
	}
	began := time.Now()
	// A batch that has begun is finished, also when somebody presses Ctrl-C.
	ctx := context.WithoutCancel(a.ctx)
	tx, err := a.db.Begin(ctx)
	if err != nil {
		if before := a.settle(); before != nil {
			return nil, before
		}
		return nil, a.dbFailed(err)
	}
	f := &flushing{a: a, ctx: ctx, tx: tx, cells: cells, again: a.open != nil, ahead: map[string]*change.Entry{}, passed: map[string]string{}, tables: map[string]int{}}
	f.blocks, err = a.checked(f)
	if err != nil {
		_ = tx.Rollback() // what failed before counts
		return nil, err
	}
	a.start(f)
	if !together {
		if err := a.settle(); err != nil {
			return f, err
		}
	}
	rest(a.ctx, a.job, len(cells), began)
	return f, nil
}

// overlaps reports whether a batch may be read while the one before is written:
// not where rows of the two can stand in each other's way.
func (a *applying) overlaps(batch []*change.Cell) bool {
	size := 0
	for _, c := range batch {
		size += c.Size
	}
	if a.open != nil || a.job.Rate > 0 || !a.db.Concurrent() || size > batchBytes {
		return false
	}
	for cells := range sameTable(batch) {
		if t, ok := database.Find(a.tables, cells[0].Table); !ok || len(t.Unique) > 0 || len(t.Triggers) > 0 {
			return false
		}
	}
	return true
}

// checked checks a batch and returns the blocks that go into the journal before it
// is written; the batch before is committed then.
func (a *applying) checked(f *flushing) ([][]byte, error) {
	for _, r := range a.open {
		if r.Entry != nil {
			f.ahead[change.CellID(r.Entry.Table, change.Bytes(r.Entry.Key), r.Entry.Column)] = r.Entry
		}
		if r.Skip != nil {
			f.passed[change.CellID(r.Skip.Table, change.Bytes(r.Skip.Key), r.Skip.Column)] = r.Skip.Why
		}
	}
	var block []byte
	err := func() error {
		for cells := range sameTable(f.cells) {
			if err := f.check(cells); err != nil {
				return err
			}
		}
		if len(f.records) == 0 {
			return nil
		}
		var err error
		if block, err = change.EncodeBlock(f.records...); err != nil {
			return journalFault(err, "apply")
		}
		return nil
	}()
	f.written, f.records = f.records, nil
	if before := a.settle(); before != nil { // the batch before failed: this one is not begun
		return nil, before
	}
	if err != nil || block == nil {
		return nil, err
	}
	blocks := [][]byte{block}
	if len(a.carry) > 0 {
		mark, err := change.EncodeBlock(a.carry...)
		if err != nil {
			return nil, journalFault(err, "apply")
		}
		blocks = [][]byte{mark, block}
	}
	f.carried, a.carry = a.carry, nil
	return blocks, nil
}

// finish writes a batch: the blocks into the journal, through to the disk, then
// the database.
func (f *flushing) finish() error {
	if f.blocks != nil {
		f.a.journal.Count(f.carried)
		f.a.journal.Count(f.written)
		if err := f.a.journal.AppendBlocks(f.blocks...); err != nil {
			_ = f.tx.Rollback() // what failed before counts
			return journalFault(err, "apply")
		}
		f.journaled()
	}
	f.blocks = nil
	if err := f.write(); err != nil {
		_ = f.tx.Rollback() // what failed before counts
		return err
	}
	if err := f.tx.Commit(); err != nil {
		return f.a.dbFailed(err)
	}
	return nil
}

// journaled gives back the memory of large values that the journal has now. Those of keys, by which a row is found
// again, are never large.
func (f *flushing) journaled() {
	for _, r := range f.written {
		if r.Entry != nil && len(r.Entry.Before) > batchBytes {
			r.Entry.Before = nil
		}
	}
}

// count adds the batch to what the run did; what comes next into the journal says that it is committed.
func (f *flushing) count() {
	a := f.a
	if len(a.carry) == 0 {
		a.carry = []change.Record{{Mark: change.Committed}}
	}
	for _, s := range f.refused {
		a.carry = append(a.carry, change.Record{Refused: &s})
	}
	a.out.Changed += f.changed
	a.out.Proven += f.proven
	a.out.Refs += f.references
	for t, n := range f.tables {
		a.out.Tables[t] += n
	}
	a.out.Skipped = append(a.out.Skipped, slices.Concat(f.skips, f.refused)...)
}

func journalFault(err error, command string) error {
	return work.Failed(err, "the journal cannot be written", "free some disk space; then continue with the same command: trimlantern "+command)
}

// rest waits so that no more cells change in a second than were asked for.
func rest(ctx context.Context, j *work.Job, cells int, began time.Time) {
	if j.Rate <= 0 {
		return
	}
	select {
	case <-time.After(time.Duration(cells)*time.Second/time.Duration(j.Rate) - time.Since(began)):
	case <-ctx.Done():
	}
}

// sameTable cuts cells into stretches of one table.
func sameTable(cells []*change.Cell) func(yield func([]*change.Cell) bool) {
	return func(yield func([]*change.Cell) bool) {
		for start := 0; start < len(cells); {
			end := start + 1
			for end < len(cells) && cells[end].Table == cells[start].Table {
				end++
			}
			if !yield(cells[start:end]) {
				return
			}
			start = end
		}
	}
}

// flushing is one batch at work.
type flushing struct {
	a          *applying
	ctx        context.Context
	tx         database.Batch
	cells      []*change.Cell
	again      bool                     // its block is in the journal already, as that of an earlier attempt
	written    []change.Record          // its block
	ahead      map[string]*change.Entry // written ahead by an interrupted run
	passed     map[string]string        // and what that run skipped, with why
	records    []change.Record
	carried    []change.Record // what is in the first of blocks, if there are two
	blocks     [][]byte        // of the journal, to be written before the database
	changes    []*rowTask
	changed    int // cells
	proven     int // of them, by the database's own hash
	references int
	tables     map[string]int
	skips      []change.Skip
	refused    []change.Skip
}

func (f *flushing) skip(c *change.Cell, why string) {
	s := change.Skip{Table: c.Table, Key: c.Key, Column: c.Column, Why: why}
	f.skips = append(f.skips, s)
	f.record(change.Record{Skip: &s})
}

// refuse notes a cell of the journal that the database does not take.
func (f *flushing) refuse(c *change.Cell, why string) {
	f.refused = append(f.refused, change.Skip{Table: c.Table, Key: c.Key, Column: c.Column, Why: why})
	f.a.refused = append(f.a.refused, c)
}

// record adds a record; the open block has one of each of its cells already.
func (f *flushing) record(r change.Record) {
	if !f.again {
		f.records = append(f.records, r)
	}
}

// done counts a cell that is changed.
func (f *flushing) done(c *change.Cell) {
	f.changed++
	f.references += c.References
	f.tables[c.Table]++
}

// check reads the rows of one table's cells, holds them, and works out what is to
// be written.
func (f *flushing) check(cells []*change.Cell) error {
	t, ok := database.Find(f.a.tables, cells[0].Table)
	if !ok {
		for _, c := range cells {
			f.skip(c, "the table is gone")
		}
		return nil
	}
	var rows [][][]byte
	at := map[string]int{}
	var columns, converted []string
	for _, c := range cells {
		if _, ok := t.Column(c.Column); !ok {
			continue
		}
		if id := change.RowID(c.Key); !hasKey(at, id) {
			at[id] = len(rows)
			rows = append(rows, change.Bytes(c.Key))
		}
		if !slices.Contains(columns, c.Column) {
			columns = append(columns, c.Column)
			if column, _ := t.Column(c.Column); f.tx.Converts(column) {
				converted = append(converted, c.Column)
			}
		}
	}
	var now [][]database.Value
	var err error
	if len(rows) > 0 {
		if now, err = f.tx.Read(f.ctx, t, rows, columns); err != nil {
			return f.a.dbFailed(err)
		}
	}
	if err := f.moved(t, rows, columns, now); err != nil {
		return err
	}
	var own [][]database.Digest
	if len(converted) > 0 {
		if own, err = f.tx.Digests(f.ctx, t, rows, converted); err != nil {
			return f.a.dbFailed(err)
		}
	}
	tasks := make([]task, len(cells))
	for i, c := range cells {
		d := &tasks[i]
		d.cell, d.column, d.with, d.row, d.key = c, c.Column, c.With, change.RowID(c.Key), change.Bytes(c.Key)
		column, ok := t.Column(c.Column)
		switch row := at[d.row]; {
		case !ok:
			d.why = "the column is gone"
		case now[row] == nil:
			d.why = "the row is gone"
		case t.Empties(c.Column) != "":
			d.why = t.Empties(c.Column)
		default:
			raw := ""
			if k := slices.Index(converted, c.Column); k >= 0 && own[row] != nil {
				raw = own[row][k].Raw
			}
			if err := f.decide(d, column, now[row][slices.Index(columns, c.Column)], raw); err != nil {
				return err
			}
		}
	}
	bind(tasks)
	for i := range tasks {
		switch d := &tasks[i]; {
		case d.why != "" && f.again && f.ahead[change.CellID(t.Name, d.key, d.column)] != nil: // the journal says that it is changed
			f.refuse(d.cell, d.why)
		case d.why != "":
			f.skip(d.cell, d.why)
		case d.held:
			f.done(d.cell)
		default:
			f.record(change.Record{Entry: d.entry})
		}
	}
	f.changes = append(f.changes, gather(t, tasks)...)
	return nil
}

// lossy is why a cell is left whose text the connection would change.
const lossy = "the charset of the connection cannot carry its text"

// changedSince is why a cell is left that holds something else by now.
const changedSince = "changed since the preview"

func hasKey(m map[string]int, k string) bool { _, ok := m[k]; return ok }

// moved finds rows whose key itself an interrupted run has rewritten.
func (f *flushing) moved(t database.Table, rows [][][]byte, columns []string, now [][]database.Value) error {
	if !f.again {
		return nil
	}
	for i, key := range rows {
		if now[i] != nil {
			continue
		}
		to, err := movedKey(t, key, func(column string) *change.Entry { return f.ahead[change.CellID(t.Name, key, column)] })
		if err != nil {
			return work.Failed(err, "the journal is broken", "keep the file; put the database back from your backup if in doubt")
		}
		if to == nil {
			continue
		}
		found, err := f.tx.Read(f.ctx, t, [][][]byte{to}, columns)
		if err != nil {
			return f.a.dbFailed(err)
		}
		now[i] = found[0]
	}
	return nil
}

// movedKey returns the key that a row has once the entries of its key columns are
// carried out, or nil where its key stays.
func movedKey(t database.Table, key [][]byte, entry func(column string) *change.Entry) ([][]byte, error) {
	var to [][]byte
	for i, k := range t.Key {
		if e := entry(k.Name); e != nil {
			after, err := e.Rewritten()
			if err != nil {
				return nil, err
			}
			if to == nil {
				to = slices.Clone(key)
			}
			to[i] = after
		}
	}
	return to, nil
}

// decide says what becomes of a cell that holds v; raw is the database's hash of its bytes where the
// connection converts them.
func (f *flushing) decide(d *task, column database.Column, v database.Value, raw string) error {
	c, id := d.cell, ""
	if f.again {
		id = change.CellID(c.Table, change.Bytes(c.Key), c.Column)
	}
	entry := f.ahead[id]
	if entry != nil && change.Hash(v.Bytes) == entry.After {
		d.held = true
		return nil
	}
	after, err := c.Apply(v.Bytes)
	switch {
	case v.Lossy:
		d.why = lossy
	case errors.Is(err, change.ErrChanged):
		d.why = changedSince
		if change.Check(change.Holds(v.Bytes), change.State{Hash: c.Before}, change.State{Hash: c.After}) == change.Done {
			d.held, d.why = true, "changed already, by the database itself or by somebody else"
		}
	case f.a.doubts.of(c.Table, d.key, d.column) != "":
		d.why = f.a.doubts.of(c.Table, d.key, d.column)
	case err != nil:
		return work.BadUse(err, "the change sheet "+f.a.out.Sheet, "make a new one: trimlantern preview")
	case f.again && entry == nil:
		d.why = cmp.Or(f.passed[id], "left by the run that was interrupted")
	}
	if d.why != "" {
		return nil
	}
	hash := c.After
	if column.Kind == database.Form {
		normal, err := f.tx.Normal(f.ctx, column, database.Value{Bytes: after})
		if err != nil {
			return f.a.dbFailed(err)
		}
		hash = change.Hash(normal.Bytes)
	}
	d.now, d.to, d.write = v, after, true
	d.entry = &change.Entry{Table: c.Table, Key: c.Key, Column: c.Column, Before: v.Bytes, After: hash, Edits: c.Edits, Raw: raw, With: c.With}
	if v.As != 0 {
		d.entry.As = string(rune(v.As))
	}
	return nil
}

// write changes the rows, those of one table together.
func (f *flushing) write() error {
	for len(f.changes) > 0 {
		n := 1
		for n < len(f.changes) && f.changes[n].table.Name == f.changes[0].table.Name {
			n++
		}
		proven, refused, err := write(f.ctx, f.tx, f.changes[:n], &f.a.doubts)
		if err != nil {
			return f.a.dbFailed(err)
		}
		f.proven += proven
		for i, r := range f.changes[:n] {
			if refused[i] == nil {
				f.wrote(r)
			} else if err := f.singly(r, refused[i]); err != nil {
				return err
			}
		}
		f.changes = f.changes[n:]
	}
	return nil
}

// wrote counts the cells of a row.
func (f *flushing) wrote(r *rowTask) {
	for _, t := range r.tasks {
		f.done(t.cell)
	}
}

// singly writes the cells of a row that was refused one by one, those that go together
// at once, so that only those at fault stay.
func (f *flushing) singly(row *rowTask, why error) error {
	parts := row.parts()
	for _, part := range parts {
		if len(parts) > 1 {
			proven, refused, err := write(f.ctx, f.tx, []*rowTask{part}, &f.a.doubts)
			if err != nil {
				return f.a.dbFailed(err)
			}
			if why = refused[0]; why == nil {
				f.proven += proven
				f.wrote(part)
				continue
			}
		}
		words := why.Error()
		if errors.Is(why, database.ErrChanged) {
			words = changedSince
		}
		for _, t := range part.tasks {
			f.refuse(t.cell, words)
		}
	}
	return nil
}
