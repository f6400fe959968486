package run

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/database"
	"trimlantern/work"
)

// Undone is what undo did.
type Undone struct {
	Site    string         `json:"site"`
	Journal string         `json:"journal"`
	Sheet   string         `json:"sheet"`
	Back    int            `json:"back"`              // cells put back
	Proven  int            `json:"proven"`            // of them, those of which the database's own hash says that they hold the bytes of before
	Rows    int            `json:"rows"`              // cached rows put back
	Already int            `json:"already"`           // cells that were as before
	Only    []string       `json:"only,omitempty"`    // the tables asked for
	Files   []string       `json:"files,omitempty"`   // files put back
	Folders []string       `json:"folders,omitempty"` // folders of cached files filled again
	Script  string         `json:"script,omitempty"`  // where the SQL went
	SQL     bool           `json:"sql"`               // written as SQL: nothing was changed
	Tables  map[string]int `json:"tables"`
	Left    []change.Skip  `json:"left"`           // cells that others changed since
	Whole   bool           `json:"whole"`          // all that the journal holds, and so all that the run changed, is as before: by number and by hash
	Lost    int64          `json:"lost,omitempty"` // bytes of a damaged journal that are not in its repaired copy

	Ran     []string     `json:"ran,omitempty"` // commands that made the server read files that were put back
	tally   change.Tally // of what is as before
	OneNode bool         `json:"lock_on_one_node"` // the lock kept other runs off one node of the cluster alone
	After   []string     `json:"run_after"`        // what the system needs when its content has changed: shown, never run
}

// Code is the exit code that the undo comes to.
func (u *Undone) Code() int {
	if len(u.Left) > 0 || !u.Whole && !u.SQL && len(u.Only) == 0 {
		return work.Remain
	}
	return work.Clean
}

// finish compares what is as before with what the journal holds.
func (u *Undone) finish(st *work.JournalState, all change.Tally) {
	u.Lost = st.Header.Lost
	u.Whole = len(u.Left) == 0 && len(u.Only) == 0 && st.Header.Repairs == "" && u.tally == all
}

// UndoOptions say what of a journal is put back, and how.
type UndoOptions struct {
	Journal string    // its ID; "": the newest that is not undone
	Tables  []string  // these alone; patterns
	Files   []string  // that may be put back though they lie in no folder of the site file
	SQL     io.Writer // where set, SQL is written here and nothing is changed
}

// Undo puts back what a journal says.
func Undo(ctx context.Context, j *work.Job, o UndoOptions) (*Undone, error) {
	errDump := work.BadUse(nil, "an exported database is never changed in place: there is nothing to undo here", "load the patch that takes the other one back (its name ends in .back.sql), or the dump that was exported")
	defer j.Progress.End()
	release, err := j.Book.Lock("undo")
	if err != nil {
		return nil, work.LockFault(err)
	}
	defer release()
	var blocks []change.Block // without their records: places alone
	var all change.Tally
	st, err := chooseJournal(j, o.Journal, &blocks, &all)
	if j.IsDump() && (err != nil || st.Header.Sheet != "") {
		return nil, errDump
	}
	if err != nil {
		return nil, err
	}
	if st.Header.Sheet == "" {
		if o.SQL != nil || len(o.Tables) > 0 {
			return nil, work.BadUse(nil, "the journal "+st.ID+" is of a file, not of the database", "name another journal; trimlantern history lists them")
		}
		in, err := ownFolders(j, o.Files)
		if err != nil {
			return nil, err
		}
		defer in.Close()
		return undoFiles(ctx, j, st, blocks, all, in)
	}
	consent := j.Effects
	j.Effects = true // the triggers of what is put back run as they did
	db, tables, err := j.Open(ctx, o.SQL != nil)
	j.Effects = consent // which was given, or not, for apply
	if err != nil {
		return nil, err
	}
	defer db.Close()
	if lost := st.Header.Repairs != "" && st.Header.Database == ""; st.Header.Database != db.Identity() && !lost { // each cell says itself whether it is ours
		return nil, work.BadUse(nil, fmt.Sprintf("the journal %s is of another database (%s, not %s)", st.ID, st.Header.Database, db.Identity()),
			"check database in the site file; if it is the same one on another server now, write there: identity: '"+st.Header.Database+"'")
	}
	u := &undoing{job: j, ctx: ctx, db: db, tables: tables, total: st.Cells, files: len(st.Files), step: step{batchCells, batchCells},
		journal: cmp.Or(st.Header.Repairs, st.ID),
		out:     &Undone{Site: j.Site.String(), Journal: st.ID, Sheet: st.Header.Sheet, Only: o.Tables, Tables: map[string]int{}, After: j.System.After}}
	u.only = func(table string) bool {
		return len(o.Tables) == 0 || slices.ContainsFunc(o.Tables, func(p string) bool { return j.Fits(p, table) })
	}
	for _, p := range o.Tables {
		if !slices.ContainsFunc(slices.Collect(maps.Keys(st.Tables)), func(t string) bool { return j.Fits(p, t) }) {
			return nil, work.BadUse(nil, fmt.Sprintf("the journal %s holds nothing of a table %q", st.ID, p), "trimlantern history --format json names its tables")
		}
	}
	f, err := j.Book.OpenJournal(st.ID)
	if err != nil {
		return nil, work.Failed(err, "the journal cannot be read", "check the folder "+j.Book.Path())
	}
	defer f.Close()
	if o.SQL != nil {
		u.out.SQL = true
		return u.out, u.script(blocks, f, o.SQL)
	}
	in := j.DeclaredFiles() // apply changes files nowhere else
	defer in.Close()
	unlock, err := lock(ctx, j, db, "undo")
	if err != nil {
		return nil, err
	}
	defer unlock()
	u.out.OneNode = db.OneNode()
	if err := u.all(blocks, f, in); err != nil {
		return nil, err
	}
	if err := db.Refresh(ctx, slices.Collect(maps.Keys(st.Tables))); err != nil {
		return nil, u.failed(err)
	}
	u.out.finish(st, all)
	return u.out, u.mark(st, len(o.Tables) > 0)
}

// all puts back what the blocks of a journal say, the last first, files in the given folders.
func (u *undoing) all(blocks []change.Block, f io.ReaderAt, in *work.SiteFiles) error {
	err := backwards(blocks, f, func(records []change.Record) error {
		for _, r := range records {
			var err error
			switch {
			case len(u.out.Only) > 0: // tables alone
			case r.Moved != nil:
				err = u.moveBack(r.Moved, u.journal)
			case r.File != nil:
				err = undoFile(u.job, r.File, in, u.out)
			}
			if err != nil {
				return err
			}
		}
		return u.block(records)
	})
	if last := u.settled(); err == nil {
		err = last
	}
	if err == nil {
		err = u.onceMore()
	}
	return err
}

// onceMore tries again what the database refused: what stood in its way may be put back by now, as
// the row that a foreign key refers to, with which the database may have put it back itself.
func (u *undoing) onceMore() error {
	u.second = true
	records := make([]change.Record, len(u.refused))
	for i, e := range u.refused {
		records[len(records)-1-i].Entry = e // the last first
	}
	if len(records) == 0 {
		return nil
	}
	if err := u.through(records); err != nil {
		return err
	}
	return u.settled()
}

// mark writes into the journal that it is undone, or some tables of it.
func (u *undoing) mark(st *work.JournalState, partly bool) error {
	journal, err := u.job.Book.ReopenJournal(st.ID, st.Read)
	if err == nil {
		defer journal.Close()
		mark := change.Record{Mark: change.Undone, Time: u.job.Now().UTC().Format(time.RFC3339), Left: len(u.out.Left)}
		if partly {
			mark.Mark, mark.Tables = change.Partly, slices.Sorted(maps.Keys(u.out.Tables))
		}
		err = journal.Append(mark)
	}
	if err != nil {
		return work.Failed(err, "everything is put back, but the journal cannot be written", "free some disk space; then run the same command again")
	}
	return nil
}

// sizeOf returns how many bytes the values of before have.
func sizeOf(records []change.Record) (n int) {
	for _, r := range records {
		if r.Entry != nil {
			n += len(r.Entry.Before)
		}
	}
	return n
}

// backwards reads the blocks of a journal, the last first, each while the one behind
// it is worked on, if that is not a large one.
func backwards(blocks []change.Block, f io.ReaderAt, visit func([]change.Record) error) error {
	type block struct {
		records []change.Record
		err     error
	}
	read, next, stop := make(chan block), make(chan struct{}, 1), make(chan struct{})
	defer close(stop)
	go func() {
		for _, b := range slices.Backward(blocks) {
			records, err := b.ReadAt(f)
			large := sizeOf(records) > batchBytes
			select {
			case read <- block{records, err}:
			case <-stop:
				return
			}
			records = nil // they are the other's now
			if !large {
				continue
			}
			select {
			case <-next:
			case <-stop:
				return
			}
		}
	}()
	for range blocks {
		b := <-read
		if b.err != nil {
			return work.Failed(b.err, "the journal cannot be read", "keep the file; put the database back from your backup if in doubt")
		}
		large := sizeOf(b.records) > batchBytes
		if err := visit(b.records); err != nil {
			return err
		}
		if b.records = nil; large {
			next <- struct{}{}
		}
	}
	return nil
}

// chooseJournal finds the journal to undo and collects where its blocks stand.
// and the tally of all that is in it.
func chooseJournal(j *work.Job, id string, blocks *[]change.Block, all *change.Tally) (*work.JournalState, error) {
	ids, err := j.Book.Journals()
	if err != nil {
		return nil, work.BookFault(err)
	}
	for i := len(ids) - 1; i >= 0; i-- {
		if id != "" && ids[i] != id {
			continue
		}
		if st := j.Glance(ids[i]); id == "" && st != nil && st.Mark == change.Undone {
			continue
		}
		*blocks, *all = nil, change.Tally{}
		st, err := j.ReadState(ids[i], func(b change.Block) error {
			all.Add(b.Records)
			b.Records = nil
			*blocks = append(*blocks, b)
			return nil
		})
		switch {
		case err != nil:
			return nil, work.JournalFault(ids[i], err)
		case st.Blocks == 0 && id == "":
			continue
		case st.Mark != change.Undone:
			return st, j.Bound(st)
		case id != "":
			return nil, work.BadUse(nil, fmt.Sprintf("the journal %s was undone already, at %s", id, st.Time), "there is nothing to do")
		}
	}
	if id != "" {
		return nil, work.BadUse(nil, "no journal is called "+id, "trimlantern status names the last one")
	}
	return nil, work.BadUse(nil, "there is nothing to undo: no run has changed this site, or all of it was put back", "trimlantern status shows where you are")
}

type undoing struct {
	job     *work.Job
	ctx     context.Context
	db      database.Database
	tables  []database.Table
	journal string                  // that the run wrote: the damaged one, if this is its repaired copy
	only    func(table string) bool // which tables to put back
	total   int
	files   int // that the run changed
	out     *Undone
	step    step
	relay
	doubts doubts

	refused []*change.Entry
	second  bool // those that were refused are tried once more
}

// block puts back the entries of one block, in one transaction. Where the rows of two
// blocks cannot stand in each other's way, the block is still being written when it
// returns, and the next is read and checked meanwhile.
func (u *undoing) block(records []change.Record) error {
	records = slices.DeleteFunc(records, func(r change.Record) bool {
		return (r.Entry == nil || !u.only(r.Entry.Table)) && (r.Dropped == nil || !u.only(r.Dropped.Table))
	})
	if len(records) == 0 {
		return nil
	}
	return u.through(records)
}

// attempt puts back records in one transaction. It returns it where it was begun to be written. The
// error may be of the one before: then that one is lost.
func (u *undoing) attempt(records []change.Record) (*puttingBack, error) {
	together := u.overlaps(records)
	if u.ctx.Err() != nil || !together {
		if err := u.settle(); err != nil {
			return nil, err
		}
	}
	if u.ctx.Err() != nil {
		return nil, work.Failed(nil, fmt.Sprintf("interrupted: %d of %d cells are put back", u.out.Back, u.total), "continue with the same command: trimlantern undo")
	}
	u.job.Progress.At("putting back", int64(u.out.Back+u.out.Already+len(u.out.Left)), int64(u.total))
	count, began := len(records), time.Now()
	ctx := context.WithoutCancel(u.ctx)
	tx, err := u.db.Begin(ctx)
	if err != nil {
		if before := u.settle(); before != nil {
			return nil, before
		}
		return nil, u.failed(err)
	}
	part := &puttingBack{u: u, ctx: ctx, tx: tx, records: records, back: map[string]int{}}
	if together {
		err = part.check(entriesOf(records))
	} else {
		err = part.inOrder(records)
	}
	if before := u.settle(); before != nil {
		err = before
	}
	if err != nil {
		_ = tx.Rollback() // what failed before counts
		return nil, err
	}
	u.start(part)
	if !together {
		err = u.settle()
	}
	rest(u.ctx, u.job, count, began)
	return part, err
}

// overlaps reports whether a block may be read while the one behind it is written.
func (u *undoing) overlaps(records []change.Record) bool {
	if u.job.Rate > 0 || !u.db.Concurrent() || records[0].Entry == nil {
		return false
	}
	t, ok := database.Find(u.tables, records[0].Entry.Table)
	if !ok || len(t.Unique) > 0 || len(t.Triggers) > 0 {
		return false
	}
	return sizeOf(records) <= batchBytes && !slices.ContainsFunc(records, func(r change.Record) bool {
		return r.Entry == nil || r.Entry.Table != t.Name || t.InKey(r.Entry.Column)
	})
}

// count adds the block to what was done.
func (p *puttingBack) count() {
	u := p.u
	for t, n := range p.back {
		u.out.Tables[t] += n
		u.out.Back += n
	}
	u.out.Rows += p.rows
	u.out.Already += p.already
	u.out.Proven += p.proven
	u.out.tally.Join(p.tally)
	u.out.Left = append(u.out.Left, p.left...)
	u.refused = append(u.refused, p.refused...)
}

// inOrder puts back the records of a block, one table after the other, the last
// first.
func (p *puttingBack) inOrder(records []change.Record) error {
	for len(records) > 0 {
		end := len(records)
		start := end - 1
		if records[start].Dropped != nil {
			if err := p.insert(records[start].Dropped); err != nil {
				return err
			}
			records = records[:start]
			continue
		}
		for start > 0 && records[start-1].Entry != nil && records[start-1].Entry.Table == records[end-1].Entry.Table {
			start--
		}
		if err := p.check(entriesOf(records[start:end])); err != nil {
			return err
		}
		if err := p.write(); err != nil {
			return err
		}
		records = records[:start]
	}
	return nil
}

func entriesOf(records []change.Record) []*change.Entry {
	entries := make([]*change.Entry, len(records))
	for i, r := range records {
		entries[i] = r.Entry
	}
	return entries
}

// finish writes what was checked and ends the transaction.
func (p *puttingBack) finish() error {
	if err := p.write(); err != nil {
		_ = p.tx.Rollback() // what failed before counts
		return err
	}
	if err := p.tx.Commit(); err != nil {
		return p.u.failed(err)
	}
	return nil
}

func (u *undoing) failed(err error) error {
	if errors.Is(err, database.ErrFrozen) {
		return work.Failed(err, fmt.Sprintf("%d of %d cells are put back", u.out.Back, u.total), "name the server that takes changes under database in the site file, or have it made writable; then run the same command again")
	}
	return work.Failed(err, fmt.Sprintf("the database failed after %d of %d cells were put back", u.out.Back, u.total),
		"when it is back, continue with the same command: trimlantern undo")
}

// puttingBack is one block at work.
type puttingBack struct {
	u       *undoing
	ctx     context.Context
	tx      database.Batch
	records []change.Record
	changes []*rowTask // what is still to be written, of one table
	back    map[string]int
	rows    int
	already int
	tally   change.Tally // of what is as before
	left    []change.Skip
	proven  int
	refused []*change.Entry // to be tried once more, when all else is put back
}

func (p *puttingBack) leave(table string, key []change.Value, column, why string) {
	p.left = append(p.left, change.Skip{Table: table, Key: key, Column: column, Why: why})
}

// check reads the rows of one table's cells, holds them, and works out what is to be
// put back.
func (p *puttingBack) check(entries []*change.Entry) error {
	t, ok := database.Find(p.u.tables, entries[0].Table)
	if !ok {
		for _, e := range entries {
			p.leave(e.Table, e.Key, e.Column, "the table is gone")
		}
		return nil
	}
	var rows [][][]byte // where the rows are now
	var columns []string
	at, byCell := map[string]int{}, map[string]*change.Entry{}
	for _, e := range entries {
		byCell[change.CellID(t.Name, change.Bytes(e.Key), e.Column)] = e
		if _, ok := t.Column(e.Column); ok && !slices.Contains(columns, e.Column) {
			columns = append(columns, e.Column)
		}
	}
	if len(columns) == 0 {
		columns = append(columns, t.Columns[0].Name)
	}
	for _, e := range entries {
		if id := change.RowID(e.Key); !hasKey(at, id) {
			at[id] = len(rows)
			to, err := whereNow(t, e, byCell)
			if err != nil {
				return err
			}
			rows = append(rows, to)
		}
	}
	now, err := p.tx.Read(p.ctx, t, rows, columns)
	if err != nil {
		return p.u.failed(err)
	}
	tasks := make([]task, len(entries))
	for k, e := range entries {
		id := change.RowID(e.Key)
		row := at[id]
		if now[row] == nil { // put back already where its key was a part of it
			old, err := p.tx.Read(p.ctx, t, [][][]byte{change.Bytes(e.Key)}, columns)
			if err != nil {
				return p.u.failed(err)
			}
			now[row], rows[row] = old[0], change.Bytes(e.Key)
		}
		d := &tasks[k]
		d.entry, d.column, d.with, d.row, d.key, d.to, d.raw = e, e.Column, e.With, id, rows[row], e.Before, e.Raw
		switch i := slices.Index(columns, e.Column); {
		case now[row] == nil:
			d.why = "the row is gone"
		case i < 0:
			d.why = "the column is gone"
		default:
			d.now = now[row][i]
			p.decide(d)
		}
	}
	bind(tasks)
	for i := range tasks {
		switch d := &tasks[i]; {
		case d.held:
			p.already++
			p.tally.Entry(d.entry)
		case d.why != "":
			p.leave(d.entry.Table, d.entry.Key, d.column, d.why)
		}
	}
	p.changes = append(p.changes, gather(t, tasks)...)
	return nil
}

// decide says what becomes of a cell.
func (p *puttingBack) decide(d *task) {
	switch fate := change.Check(change.Holds(d.now.Bytes), change.State{Hash: d.entry.After}, change.Holds(d.to)); {
	case fate == change.Done:
		d.held = true
	case d.now.Lossy:
		d.why = lossy
	case fate == change.Other:
		d.why = "changed by somebody since"
	case p.u.doubts.of(d.entry.Table, d.key, d.column) != "":
		d.why = p.u.doubts.of(d.entry.Table, d.key, d.column)
	default:
		d.write = true
	}
}

// whereNow returns the key under which the row of an entry is found now: another one where the
// run has changed the key itself.
func whereNow(t database.Table, e *change.Entry, byCell map[string]*change.Entry) ([][]byte, error) {
	to, err := movedKey(t, change.Bytes(e.Key), func(column string) *change.Entry { return byCell[change.CellID(t.Name, change.Bytes(e.Key), column)] })
	if err != nil {
		return nil, work.Failed(err, "the journal cannot be read", "keep the file; put the database back from your backup if in doubt")
	}
	if to == nil {
		return change.Bytes(e.Key), nil
	}
	return to, nil
}

// write puts back what was checked.
func (p *puttingBack) write() error {
	rows := p.changes
	if p.changes = nil; len(rows) == 0 {
		return nil
	}
	proven, refused, err := write(p.ctx, p.tx, rows, &p.u.doubts)
	if err != nil {
		return p.u.failed(err)
	}
	p.proven += proven
	for i, r := range rows {
		for _, t := range r.tasks {
			switch e := t.entry; {
			case refused[i] == nil:
				p.back[e.Table]++
				p.tally.Entry(e)
			case p.u.second:
				p.leave(e.Table, e.Key, e.Column, refused[i].Error())
			default:
				p.refused = append(p.refused, e)
			}
		}
	}
	return nil
}

// insert puts back a cached row that was removed.
func (p *puttingBack) insert(d *change.Dropped) error {
	t, ok := database.Find(p.u.tables, d.Table)
	if !ok {
		p.leave(d.Table, d.Key, "", "the table is gone")
		return nil
	}
	there, err := p.tx.Image(p.ctx, t, change.Bytes(d.Key))
	if err != nil {
		return p.u.failed(err)
	}
	columns, image := droppedRow(d)
	if there != nil {
		same := len(there) == len(image)
		for i := range there {
			same = same && there[i].Null == image[i].Null && bytes.Equal(there[i].Bytes, image[i].Bytes)
		}
		if same {
			p.already++
			p.tally.Dropped(d)
		} else {
			p.leave(d.Table, d.Key, "", "the system has made the row anew")
		}
		return nil
	}
	err = p.tx.Insert(p.ctx, t, columns, image)
	if errors.Is(err, database.ErrRefused) { // under another key, as a rule
		p.leave(d.Table, d.Key, "", "the system has made the row anew")
		return nil
	}
	if err != nil {
		return p.u.failed(err)
	}
	p.rows++
	p.tally.Dropped(d)
	return nil
}

func droppedRow(d *change.Dropped) (columns []string, image []database.Value) {
	for _, f := range d.Row {
		v := database.Value{Bytes: f.Value, Null: f.Null}
		if f.As != "" {
			v.As = f.As[0]
		}
		columns, image = append(columns, f.Column), append(image, v)
	}
	return columns, image
}

// script writes what undo would do as SQL, and names at its end what it leaves.
func (u *undoing) script(blocks []change.Block, f io.ReaderAt, w io.Writer) error {
	s := u.db.Script()
	var failed error
	put := func(text string) {
		if failed == nil {
			_, failed = io.WriteString(w, text)
		}
	}
	if u.files > 0 {
		put(fmt.Sprintf("-- %d files that the run changed are not in it: trimlantern undo puts them back.\n", u.files))
	}
	put("-- Takes back the run " + u.out.Journal + " of " + u.out.Site + ". A value that somebody changed since stays\n" +
		"-- as it is and is named at the end. Run it once, with the database's own client.\n" + s.Begin)
	for pass := range 2 { // first put back, then name what was left
		err := backwards(blocks, f, func(records []change.Record) error {
			for k := len(records) - 1; k >= 0; k-- {
				text, err := u.statement(s, records, k, pass)
				if err != nil {
					return err
				}
				put(text)
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	put(s.End)
	if failed != nil {
		return work.Failed(failed, "the script cannot be written", "free some disk space and run the command again; the database was not changed")
	}
	return nil
}

// statement returns what puts back the k-th record, or in the second pass what
// names it where it was left.
func (u *undoing) statement(s database.Script, records []change.Record, k, pass int) (string, error) {
	if d := records[k].Dropped; d != nil && u.only(d.Table) && pass == 0 {
		t, ok := database.Find(u.tables, d.Table)
		if !ok {
			return "", nil
		}
		columns, image := droppedRow(d)
		u.out.Rows++
		text, err := s.Insert(t, change.Bytes(d.Key), columns, image)
		if err != nil {
			return "", work.Failed(err, "the journal does not fit the table "+d.Table, "use trimlantern undo")
		}
		return text, nil
	}
	e := records[k].Entry
	if e == nil || !u.only(e.Table) {
		return "", nil
	}
	t, ok := database.Find(u.tables, e.Table)
	if !ok {
		return "", nil
	}
	c, ok := t.Column(e.Column)
	if !ok {
		return "", nil
	}
	key := change.Bytes(e.Key)
	if pass == 1 {
		return s.Left(t, key, c, change.Hash(e.Before), e.Before), nil
	}
	restore, last, err := u.restores(t, records, k)
	if err != nil || !last {
		return "", err
	}
	// Put back in reverse order, so a key that was rewritten counts until its own turn.
	to, err := movedKey(t, key, func(column string) *change.Entry {
		for _, r := range records[:k+1] {
			if o := r.Entry; o != nil && o.Table == e.Table && o.Column == column && change.RowID(o.Key) == change.RowID(e.Key) {
				return o
			}
		}
		return nil
	})
	if err != nil {
		return "", work.Failed(err, "the journal is broken", "keep the file")
	}
	if to != nil {
		key = to
	}
	u.out.Back += len(restore)
	u.out.Tables[e.Table] += len(restore)
	return s.Update(t, key, restore), nil
}

// restores returns the columns that are put back with the k-th record, at once; last is false where a record
// behind it has done it already.
func (u *undoing) restores(t database.Table, records []change.Record, k int) (list []database.Restore, last bool, err error) {
	e := records[k].Entry
	together := func(o *change.Entry) bool {
		return o != nil && o.With == e.With && o.Table == e.Table && change.RowID(o.Key) == change.RowID(e.Key)
	}
	entries := []*change.Entry{e}
	if e.With != "" {
		if slices.ContainsFunc(records[k+1:], func(r change.Record) bool { return together(r.Entry) }) {
			return nil, false, nil
		}
		for _, r := range records[:k] {
			if together(r.Entry) {
				entries = append(entries, r.Entry)
			}
		}
	}
	for _, e := range entries {
		after, err := e.Rewritten()
		if err != nil {
			return nil, false, work.Failed(err, "the journal is broken", "keep the file")
		}
		c, ok := t.Column(e.Column)
		if !ok {
			return nil, false, nil // its column is gone: what goes with it stays, and is named
		}
		before := database.Value{Bytes: e.Before}
		if e.As != "" {
			before.As = e.As[0]
		}
		list = append(list, database.Restore{Column: c, Before: before, Hash: e.After, After: after})
	}
	return list, true, nil
}
