package run

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"trimlantern/core/change"
	"trimlantern/outside/database"
)

// apply and undo go the same way in two directions: a batch of cells is read and held, it is decided what
// becomes of each, the rows are written, and the database says what it holds then. What is decided, and what
// goes into the journal, is their own.

// task is one cell on this way.
type task struct {
	cell  *change.Cell  // apply: what the sheet says of it
	entry *change.Entry // undo: what the journal says of it; apply: what it is to say

	column string
	with   string         // the column whose value it goes with: see change.Cell
	row    string         // names its row in the batch
	key    [][]byte       // under which the row is found
	now    database.Value // what it holds
	to     []byte         // what is to be written
	write  bool           // else nothing is
	held   bool           // it holds already what it is to hold
	why    string         // why it is left
	raw    string         // undo: the database's hash of the column's own bytes that is to come out; "": nobody knows it
}

// bind leaves all cells that go together where one of them is left.
func bind(tasks []task) {
	type group struct{ row, with string }
	left := map[group]*task{}
	for i := range tasks {
		if t := &tasks[i]; t.with != "" && t.why != "" && !t.held {
			left[group{t.row, t.with}] = t
		}
	}
	for i := range tasks {
		t := &tasks[i]
		if l := left[group{t.row, t.with}]; l != nil && t.write {
			t.write, t.why = false, "goes with column "+l.column+": "+l.why
		}
	}
}

// rowTask is what is to be written into one row.
type rowTask struct {
	table  database.Table
	update database.Update
	tasks  []*task
}

func (r *rowTask) add(t *task) {
	value := t.now
	value.Bytes = t.to
	r.tasks = append(r.tasks, t)
	r.update.Columns, r.update.Values = append(r.update.Columns, t.column), append(r.update.Values, value)
	if r.table.Loose() {
		r.update.Was = append(r.update.Was, t.now)
	} else {
		t.now.Bytes = nil // its memory is not needed any more
	}
}

// gather puts together what is to be written, row by row.
func gather(table database.Table, tasks []task) (rows []*rowTask) {
	at := map[string]*rowTask{}
	for i := range tasks {
		t := &tasks[i]
		if !t.write {
			continue
		}
		r := at[t.row]
		if r == nil {
			r = &rowTask{table: table, update: database.Update{Key: t.key}}
			at[t.row] = r
			rows = append(rows, r)
		}
		r.add(t)
	}
	return rows
}

// parts divides it into the least that can be written by itself.
func (r *rowTask) parts() (parts []*rowTask) {
	with := map[string]*rowTask{} // of the cells that go together
	for i, t := range r.tasks {
		p := with[t.with]
		if p == nil || t.with == "" {
			p = &rowTask{table: r.table, update: database.Update{Key: r.update.Key}}
			parts, with[t.with] = append(parts, p), p
		}
		p.tasks = append(p.tasks, t)
		p.update.Columns, p.update.Values = append(p.update.Columns, r.update.Columns[i]), append(p.update.Values, r.update.Values[i])
		if r.table.Loose() {
			p.update.Was = append(p.update.Was, r.update.Was[i])
		}
	}
	return parts
}

// doubts are the cells that the database would not hold as they were written, and those because of which it took back a
// batch.
type doubts struct {
	lock  sync.Mutex        // one batch is written while the next is read
	names map[string]string // why, by cell
}

func (d *doubts) add(table string, key [][]byte, column, why string) {
	d.lock.Lock()
	defer d.lock.Unlock()
	if d.names == nil {
		d.names = map[string]string{}
	}
	d.names[change.CellID(table, key, column)] = why
}

// of returns why a cell is one of them; "": it is not.
func (d *doubts) of(table string, key [][]byte, column string) string {
	d.lock.Lock()
	defer d.lock.Unlock()
	if len(d.names) == 0 {
		return ""
	}
	return d.names[change.CellID(table, key, column)]
}

// write writes rows of one table, and has the database say of each cell what it holds now. It returns how many
// cells were proven, and of each row why it was refused. A cell that does not hold what was written is one of the
// doubts from now on, and the batch is to be made again without it: ErrAgain.
func write(ctx context.Context, tx database.Batch, rows []*rowTask, doubtful *doubts) (proven int, refused []error, err error) {
	updates := make([]database.Update, len(rows))
	for i, r := range rows {
		updates[i] = r.update
	}
	table := rows[0].table
	if refused, err = tx.Write(ctx, table, updates); err != nil {
		return 0, nil, err
	}
	var written []database.Update
	var tasks []*task // of all columns of all these
	for i, r := range rows {
		if refused[i] == nil {
			written, tasks = append(written, r.update), append(tasks, r.tasks...)
		}
	}
	now, err := held(ctx, tx, table, written)
	if err != nil {
		return 0, nil, err
	}
	wrong := 0
	for n, d := range slices.Concat(now...) {
		switch t := tasks[n]; {
		case d == database.NoDigest:
		case d.Text == change.Hash(t.to) && (t.raw == "" || t.raw == d.Raw):
			proven++
		default:
			doubtful.add(table.Name, t.key, t.column, unproven)
			wrong++
		}
	}
	if wrong > 0 {
		return 0, nil, fmt.Errorf("%w: %s of %d cells", database.ErrAgain, unproven, wrong)
	}
	return proven, refused, nil
}

// batch is one transaction of a run, read and checked.
type batch interface {
	finish() error // writes it and ends the transaction
	count()        // adds it to what the run did
}

// relay writes a batch while the next one is read.
type relay struct {
	behind batch // what is being written, and how it ended
	ended  chan error
	lost   batch // what the database took back last
}

// start begins to write a batch.
func (r *relay) start(b batch) {
	ended := make(chan error, 1)
	r.behind, r.ended = b, ended
	go func() { ended <- b.finish() }()
}

// settle waits for the batch that is being written, and counts it.
func (r *relay) settle() error {
	b := r.behind
	if b == nil {
		return nil
	}
	r.behind = nil
	if err := <-r.ended; err != nil {
		r.lost = b
		return err
	}
	b.count()
	return nil
}

// taken returns what the database took back last.
func (r *relay) taken() batch {
	lost := r.lost
	r.lost = nil
	return lost
}
