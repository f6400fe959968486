package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"trimlantern/core/sheet"
	"trimlantern/site/database"
	"trimlantern/site/logbook"
)

// Applied is what apply did.
type Applied struct {
	Site      string         `json:"site"`
	Sheet     string         `json:"sheet"`
	Journal   string         `json:"journal"`
	Resumed   bool           `json:"resumed"` // went on with an interrupted run
	Planned   int            `json:"planned"` // cells of the sheet
	Sources   int            `json:"planned_files,omitempty"`
	Changed   int            `json:"changed"` // cells changed, earlier parts of the run included
	Refs      int            `json:"references"`
	Tables    map[string]int `json:"tables"`
	Skipped   []sheet.Skip   `json:"skipped"`           // cells that are not as the preview saw them
	Dropped   int            `json:"dropped"`           // cached rows removed
	Emptied   []CacheFolder  `json:"emptied,omitempty"` // folders of cached files
	Files     []string       `json:"files,omitempty"`   // files changed, earlier parts of the run included
	Addresses bool           `json:"addresses"`         // the site's own addresses changed: logins end
	Remain    *Preview       `json:"second_preview"`
}

// Code is the exit code that the apply comes to.
func (a *Applied) Code() int {
	if len(a.Skipped) > 0 || a.Remain.Code() != Clean {
		return Remain
	}
	return Clean
}

// batchCells and batchBytes bound one transaction.
const (
	batchCells = 1500
	batchBytes = 6 << 20
)

// Apply carries out a sheet: the one called id, or the newest. drops says that the
// cached rows of the sheet, which the layout calls safe to lose, are removed too.
func (j *Job) Apply(ctx context.Context, id string, drops bool) (*Applied, error) {
	defer j.Progress.End()
	if !j.Offline { // the second preview asks: better refused now than after the change
		if _, err := j.web(); err != nil {
			return nil, err
		}
	}
	release, err := j.Book.Lock()
	if err != nil {
		return nil, lockFault(err)
	}
	defer release()
	id, err = j.chooseSheet(id)
	if err != nil {
		return nil, err
	}
	db, tables, err := j.open(ctx, false)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	header, end, err := j.checkSheet(id, db)
	if err != nil {
		return nil, err
	}
	unlock, err := db.Lock(ctx)
	if err != nil {
		return nil, dbLockFault(err, "apply")
	}
	defer unlock()
	a := &applying{job: j, ctx: ctx, db: db, tables: tables, drops: drops,
		out: &Applied{Site: j.Site.String(), Sheet: id, Planned: end.Cells, Sources: end.Files, Tables: map[string]int{}}}
	if err := a.openJournal(header); err != nil {
		return nil, err
	}
	defer a.journal.Close()
	if err := a.run(); err != nil {
		return nil, err
	}
	got, sources := a.out.Changed, len(a.out.Files)
	for _, s := range a.out.Skipped {
		switch {
		case s.Column != "": // a cell
			got++
		case len(s.Key) == 0: // a file; a cached row has a key
			sources++
		}
	}
	if sources != end.Files {
		return nil, world(nil, fmt.Sprintf("the counts do not agree: the preview promised %d files, %d were visited", end.Files, sources),
			"put everything back with trimlantern undo, and make a new preview")
	}
	if got != end.Cells || a.out.Refs > end.References+end.FileRefs {
		return nil, world(nil, fmt.Sprintf("the counts do not agree: the preview promised %d cells, %d were visited", end.Cells, got),
			"put everything back with trimlantern undo, and make a new preview")
	}
	if err := a.mark(sheet.Finished); err != nil {
		return nil, err
	}
	asked, err := j.verdicts(ctx)
	if err != nil {
		return nil, err
	}
	if tables, err = j.chosen(header.Choice, tables); err != nil {
		return nil, err
	}
	s := j.survey(db, asked, nil, header.Kind, header.Choice)
	if err := s.run(ctx, db, tables); err != nil {
		return nil, err
	}
	if err := s.files(); err != nil {
		return nil, err
	}
	a.out.Remain = s.out
	return a.out, nil
}

// dbLockFault says why the lock on the database was not to be had.
func dbLockFault(err error, command string) error {
	if errors.Is(err, database.ErrLocked) {
		return world(err, "the database is in use by this tool already", "wait until the other run has ended")
	}
	return world(err, "the database failed before anything was changed now", "when it is back, go on with the same command: trimlantern "+command)
}

func lockFault(err error) error {
	if errors.Is(err, logbook.ErrBusy) {
		return world(err, "the logbook is locked", "wait until the other run has ended")
	}
	return world(err, "the logbook cannot be written", "make the folder of the site file writable; nothing was changed")
}

// chooseSheet returns the newest sheet, or refuses a name that no sheet has.
func (j *Job) chooseSheet(id string) (string, error) {
	all, err := j.Book.Sheets()
	if err != nil {
		return "", world(err, "the logbook cannot be read", "check the folder "+j.Book.Path())
	}
	if id == "" && len(all) > 0 {
		return all[len(all)-1], nil
	}
	if slices.Contains(all, id) {
		return id, nil
	}
	if id == "" {
		return "", misuse(nil, "there is no change sheet yet", "make one: trimlantern preview")
	}
	return "", misuse(nil, "no change sheet is called "+id, "trimlantern status lists them; or make a new one: trimlantern preview")
}

// checkSheet reads a sheet to its end before anything is changed, and refuses
// one that is broken or of something else.
func (j *Job) checkSheet(id string, db database.Database) (sheet.Header, *sheet.Summary, error) {
	what, again := "the change sheet "+id, "make a new one: trimlantern preview"
	f, err := os.Open(j.Book.SheetPath(id))
	if err != nil {
		return sheet.Header{}, nil, misuse(err, what, again)
	}
	defer f.Close()
	r, err := sheet.NewReader(f)
	if err != nil {
		return sheet.Header{}, nil, misuse(err, what, again)
	}
	defer r.Close()
	h := r.Header
	switch {
	case h.Kind != References && h.Kind != Lengths:
		err = fmt.Errorf("is of a kind that is not known: %q", h.Kind)
	case h.Site != j.Site.String():
		err = fmt.Errorf("is of the site %s, not of %s", h.Site, j.Site)
	case h.Database != db.Identity():
		err = fmt.Errorf("is of another database (%s, not %s)", h.Database, db.Identity())
	case h.Prefix != j.File.Database.Prefix:
		err = fmt.Errorf("is of tables with the prefix %q, not %q", h.Prefix, j.File.Database.Prefix)
	default:
		err = r.Each(nil, nil, nil)
	}
	if err != nil {
		return h, nil, misuse(err, what, again)
	}
	return h, r.End, nil
}

type applying struct {
	job     *Job
	ctx     context.Context
	db      database.Database
	tables  []database.Table
	journal *logbook.Journal
	out     *Applied
	carry   []sheet.Record  // goes into the next block: the mark of the batch before
	done    int             // cells of the sheet that earlier runs have settled
	open    []sheet.Record  // the last block of an interrupted run: written ahead, maybe not carried out
	drops   bool            // cached rows are removed too
	changed map[string]bool // files that an interrupted run had in its journal
	behind  *flushing       // the batch that is being written, and how it ended
	ended   chan error
	batch   []*sheet.Cell
	bytes   int
}

// journalState is what a journal says of its run.
type journalState struct {
	ID      string
	Header  sheet.JournalHeader
	End     int64 // where the last whole block ends
	Blocks  int
	Cells   int // entries
	Skips   int
	Tables  map[string]int
	Partly  []string        // tables that were put back by themselves
	Dropped int             // cached rows removed
	Files   map[string]bool // changed, by their absolute paths
	Mark    sheet.Mark      // the last milestone but Committed, or ""
	Time    string          // of the mark
	Left    int
}

// readState reads a journal; visit, where not nil, sees each block.
func (j *Job) readState(id string, visit func(sheet.Block) error) (*journalState, error) {
	st := &journalState{ID: id, Tables: map[string]int{}}
	end, err := j.Book.ReadJournal(id, func(b sheet.Block) error {
		st.Blocks++
		for _, r := range b.Records {
			switch {
			case r.Header != nil:
				st.Header = *r.Header
			case r.Entry != nil:
				st.Cells++
				st.Tables[r.Entry.Table]++
			case r.Skip != nil:
				st.Skips++
			case r.Refused != nil:
				st.Cells--
				st.Skips++
				st.Tables[r.Refused.Table]--
			case r.Dropped != nil:
				st.Dropped++
			case r.File != nil:
				if st.Files == nil {
					st.Files = map[string]bool{}
				}
				st.Files[r.File.Path] = true
			case r.Mark == sheet.Finished || r.Mark == sheet.Undone:
				st.Mark, st.Time, st.Left = r.Mark, r.Time, r.Left
			case r.Mark == sheet.Partly:
				st.Partly, st.Left = append(st.Partly, r.Tables...), r.Left
			}
		}
		if visit != nil {
			return visit(b)
		}
		return nil
	})
	st.End = end
	if err != nil && !errors.Is(err, sheet.ErrTorn) {
		return st, fmt.Errorf("journal %s: %w", id, err)
	}
	return st, nil
}

// glance reads of a journal only its header and what stands behind its last
// cells, so that old runs cost nothing. It returns nil where that does not tell.
func (j *Job) glance(id string) *journalState {
	f, err := os.Open(j.Book.JournalPath(id))
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil
	}
	blocks, whole := sheet.Outline(f, info.Size())
	if !whole || len(blocks) == 0 {
		return nil
	}
	first, err := blocks[0].ReadAt(f)
	if err != nil || len(first) == 0 || first[0].Header == nil {
		return nil
	}
	st := &journalState{ID: id, Header: *first[0].Header, End: info.Size(), Blocks: len(blocks)}
	for i := len(blocks) - 1; i >= 0 && st.Mark == ""; i-- {
		records, err := blocks[i].ReadAt(f)
		if err != nil || countCells(records) > 0 {
			return nil
		}
		for _, r := range records {
			if r.Mark == sheet.Finished || r.Mark == sheet.Undone {
				st.Mark, st.Time = r.Mark, r.Time
			}
		}
	}
	return st
}

// openJournal begins a journal for the sheet, or goes on with the one of a run
// that was interrupted; a sheet that is carried out already is refused.
func (a *applying) openJournal(h sheet.Header) error {
	j := a.job
	ids, err := j.Book.Journals()
	if err != nil {
		return world(err, "the logbook cannot be read", "check the folder "+j.Book.Path())
	}
	for _, id := range ids {
		if st := j.glance(id); st != nil && (st.Header.Sheet == "" || st.Mark == sheet.Undone || st.Mark == sheet.Finished && st.Header.Sheet != h.ID) {
			continue
		}
		var last []sheet.Record
		settled := 0
		st, err := j.readState(id, func(b sheet.Block) error {
			settled += countCells(last)
			last = b.Records
			return nil
		})
		if st.Blocks == 0 {
			continue // a crash before its first block: nothing was changed under it
		}
		if err != nil {
			return world(err, "the logbook holds a journal that cannot be read", "keep the file, and move it out of the logbook if its run is settled")
		}
		switch {
		case st.Mark == sheet.Undone || st.Header.Sheet == "":
			continue
		case st.Mark == "" && st.Header.Sheet != h.ID:
			return misuse(nil, fmt.Sprintf("the run of sheet %s was interrupted and is not finished", st.Header.Sheet),
				fmt.Sprintf("finish it: trimlantern apply %s, or take it back: trimlantern undo", st.Header.Sheet))
		case st.Header.Sheet != h.ID:
			continue
		case st.Mark == sheet.Finished:
			return misuse(nil, fmt.Sprintf("the sheet %s was applied already, at %s; nothing was changed now", h.ID, st.Time),
				"for what came since, make a new one: trimlantern preview; to take it back: trimlantern undo")
		}
		a.out.Journal, a.out.Resumed = id, true
		a.done, a.open, a.drops, a.changed = settled, last, st.Header.Drops, st.Files
		for t, n := range st.Tables {
			a.out.Tables[t] = n
		}
		a.journal, err = j.Book.ReopenJournal(id, st.End)
		if err != nil {
			return world(err, "the journal cannot be written", "make the logbook writable; then run the same command again")
		}
		return a.recount(id, settled)
	}
	if sheets, err := j.Book.Sheets(); err != nil || len(sheets) > 0 && sheets[len(sheets)-1] != h.ID {
		return misuse(err, fmt.Sprintf("the sheet %s is not the newest: what it saw is older than the preview %s", h.ID, sheets[len(sheets)-1]),
			"apply the newest: trimlantern apply; or make a new one: trimlantern preview")
	}
	a.out.Journal = j.runID()
	a.journal, err = j.Book.CreateJournal(sheet.JournalHeader{Tool: Tool, ID: a.out.Journal, Time: j.Now().UTC().Format(time.RFC3339),
		Sheet: h.ID, Site: h.Site, Database: h.Database, Drops: a.drops})
	if err != nil {
		return world(err, "the journal cannot be written", "make room on the disk and the logbook writable; nothing was changed")
	}
	return nil
}

func countCells(records []sheet.Record) int {
	n := 0
	for _, r := range records {
		if r.Entry != nil || r.Skip != nil || r.Dropped != nil {
			n++
		}
	}
	return n
}

// recount takes over what the settled part of an interrupted run did.
func (a *applying) recount(id string, settled int) error {
	a.out.Tables = map[string]int{}
	seen := 0
	_, err := a.job.readState(id, func(b sheet.Block) error {
		for _, r := range b.Records {
			if r.Refused != nil { // of a block that is settled
				a.out.Changed--
				a.out.Tables[r.Refused.Table]--
				a.out.Skipped = append(a.out.Skipped, *r.Refused)
			}
			if seen == settled {
				continue
			}
			switch {
			case r.Entry != nil:
				a.out.Changed++
				a.out.Tables[r.Entry.Table]++
				seen++
			case r.Skip != nil:
				if r.Skip.Column != "" {
					a.out.Skipped = append(a.out.Skipped, *r.Skip)
				}
				seen++
			case r.Dropped != nil:
				a.out.Dropped++
				seen++
			}
		}
		return nil
	})
	if err != nil {
		return world(err, "the journal cannot be read", "keep the file; put the database back from your backup if in doubt")
	}
	return nil
}

// run goes through the sheet: all cells but the site's own addresses, then those,
// then the rows to remove. The order is the same in every run, so that the
// journal's length says where an interrupted one stopped.
func (a *applying) run() error {
	var addresses []*sheet.Cell
	n := 0
	most := batchCells
	if r := a.job.Rate; r > 0 {
		most = max(1, min(most, r/2)) // small steps, so that the pauses are short too
	}
	cell := func(c *sheet.Cell) error {
		if n++; n <= a.done {
			a.out.Refs += c.References
			return nil
		}
		// The cells of a row stay together: one of them may be a part of its key.
		if k := len(a.batch); k > 0 {
			last := a.batch[k-1]
			full := a.open == nil && (k >= most || a.bytes > batchBytes) && (last.Table != c.Table || rowID(last.Key) != rowID(c.Key))
			if full || len(a.open) > 0 && k == countCells(a.open) {
				if err := a.flush(); err != nil {
					return err
				}
			}
		}
		a.batch = append(a.batch, c)
		a.bytes += c.Size
		return nil
	}
	f, err := os.Open(a.job.Book.SheetPath(a.out.Sheet))
	if err != nil {
		return misuse(err, "the change sheet", "make a new one: trimlantern preview")
	}
	defer f.Close()
	r, err := sheet.NewReader(f)
	if err != nil {
		return misuse(err, "the change sheet", "make a new one: trimlantern preview")
	}
	defer r.Close()
	if countCells(a.open) == 0 {
		a.open = nil // nothing but the header or a mark
	}
	var drops []*sheet.Drop
	var sources []*sheet.Source
	err = ahead(r, func(l sheetLine) error {
		switch {
		case l.drop != nil && a.drops:
			drops = append(drops, l.drop)
		case l.source != nil:
			sources = append(sources, l.source)
		case l.cell != nil && l.cell.Address:
			addresses = append(addresses, l.cell)
		case l.cell != nil:
			return cell(l.cell)
		}
		return nil
	})
	for _, c := range addresses {
		if err == nil {
			a.out.Addresses = true
			err = cell(c)
		}
	}
	if err == nil {
		err = a.flush()
	}
	if last := a.settle(); err == nil {
		err = last
	}
	if err == nil {
		err = a.drop(drops, n)
	}
	for _, s := range sources {
		if err == nil {
			err = a.source(s)
		}
	}
	if err == nil && a.drops {
		err = a.emptyCaches()
	}
	return err
}

// sheetLine is a line of a sheet; one field is set.
type sheetLine struct {
	cell *sheet.Cell
	drop *sheet.Drop

	source *sheet.Source
}

// aheadLines is how many lines are read ahead.
const aheadLines = 256

// ahead reads a sheet while the lines before are worked on.
func ahead(r *sheet.Reader, visit func(sheetLine) error) error {
	lines, failed, stop := make(chan sheetLine, aheadLines), make(chan error, 1), make(chan struct{})
	errStopped := errors.New("stopped")
	give := func(l sheetLine) error {
		select {
		case lines <- l:
			return nil
		case <-stop:
			return errStopped
		}
	}
	go func() {
		defer close(lines)
		failed <- r.Each(func(c *sheet.Cell) error { return give(sheetLine{cell: c}) }, func(d *sheet.Drop) error { return give(sheetLine{drop: d}) },
			func(s *sheet.Source) error { return give(sheetLine{source: s}) })
	}()
	for l := range lines {
		if err := visit(l); err != nil {
			close(stop)
			<-failed
			return err
		}
	}
	return <-failed
}

// flush carries out one batch: read the rows and hold them, check each value,
// write the journal through to the disk, then the database. While disk and database
// write, the next batch is read and checked already; its block goes into the
// journal only when the batch before is committed.
func (a *applying) flush() error {
	if len(a.batch) == 0 {
		return nil
	}
	if a.ctx.Err() != nil {
		if err := a.settle(); err != nil {
			return err
		}
		return world(nil, fmt.Sprintf("interrupted: %d of %d cells are changed, each of them is in the journal", a.out.Changed, a.out.Planned),
			"go on with the same command: trimlantern apply; or take it back: trimlantern undo")
	}
	a.job.Progress.At("changing "+a.batch[0].Table, int64(a.out.Changed), int64(a.out.Planned))
	together := a.overlaps()
	if !together {
		if err := a.settle(); err != nil {
			return err
		}
	}
	began := time.Now()
	// A batch that has begun is finished, also when somebody presses Ctrl-C.
	ctx := context.WithoutCancel(a.ctx)
	tx, err := a.db.Begin(ctx)
	if err != nil {
		return errors.Join(a.settle(), a.dbFailed(err))
	}
	f := &flushing{a: a, ctx: ctx, tx: tx, ahead: map[string]*sheet.Entry{}, passed: map[string]string{}, tables: map[string]int{}}
	blocks, err := a.checked(f)
	if err != nil {
		_ = tx.Rollback() // what failed before counts
		return err
	}
	n := len(a.batch)
	a.batch, a.bytes, a.open = nil, 0, nil
	a.behind, a.ended = f, make(chan error, 1)
	go func() { a.ended <- f.carryOut(blocks) }()
	if !together {
		if err := a.settle(); err != nil {
			return err
		}
	}
	a.job.rest(a.ctx, n, began)
	return nil
}

// overlaps reports whether a batch may be read while the one before is written:
// not where rows of the two can stand in each other's way.
func (a *applying) overlaps() bool {
	if a.open != nil || a.job.Rate > 0 || !a.db.Concurrent() {
		return false
	}
	for cells := range sameTable(a.batch) {
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
			f.ahead[cellID(r.Entry.Table, keys(r.Entry.Key), r.Entry.Column)] = r.Entry
		}
		if r.Skip != nil {
			f.passed[cellID(r.Skip.Table, keys(r.Skip.Key), r.Skip.Column)] = r.Skip.Why
		}
	}
	var block []byte
	err := func() error {
		for cells := range sameTable(a.batch) {
			if err := f.check(cells); err != nil {
				return err
			}
		}
		if len(f.records) == 0 {
			return nil
		}
		var err error
		if block, err = sheet.EncodeBlock(f.records...); err != nil {
			return journalFault(err, "apply")
		}
		return nil
	}()
	f.records = nil
	if before := a.settle(); before != nil { // the batch before failed: this one is not begun
		return nil, before
	}
	if err != nil || block == nil {
		return nil, err
	}
	blocks := [][]byte{block}
	if len(a.carry) > 0 {
		mark, err := sheet.EncodeBlock(a.carry...)
		if err != nil {
			return nil, journalFault(err, "apply")
		}
		blocks = [][]byte{mark, block}
	}
	a.carry = nil
	return blocks, nil
}

// carryOut writes a batch: the blocks into the journal, through to the disk, then
// the database.
func (f *flushing) carryOut(blocks [][]byte) error {
	if blocks != nil {
		if err := f.a.journal.AppendBlocks(blocks...); err != nil {
			_ = f.tx.Rollback() // what failed before counts
			return journalFault(err, "apply")
		}
	}
	if err := f.write(); err != nil {
		_ = f.tx.Rollback() // what failed before counts
		return err
	}
	if err := f.tx.Commit(); err != nil {
		return f.a.dbFailed(err)
	}
	return nil
}

// settle waits for the batch that is being written, and counts it.
func (a *applying) settle() error {
	f := a.behind
	if f == nil {
		return nil
	}
	a.behind = nil
	if err := <-a.ended; err != nil {
		return err
	}
	a.carry = []sheet.Record{{Mark: sheet.Committed}}
	for _, s := range f.refused {
		a.carry = append(a.carry, sheet.Record{Refused: &s})
	}
	a.out.Changed += f.changed
	a.out.Refs += f.references
	for t, n := range f.tables {
		a.out.Tables[t] += n
	}
	a.out.Skipped = append(a.out.Skipped, slices.Concat(f.skips, f.refused)...)
	return nil
}

func journalFault(err error, command string) error {
	return world(err, "the journal cannot be written", "make room on the disk; then go on with the same command: trimlantern "+command)
}

// rest waits so that no more cells change in a second than were asked for.
func (j *Job) rest(ctx context.Context, cells int, began time.Time) {
	if j.Rate <= 0 {
		return
	}
	select {
	case <-time.After(time.Duration(cells)*time.Second/time.Duration(j.Rate) - time.Since(began)):
	case <-ctx.Done():
	}
}

// sameTable cuts cells into stretches of one table.
func sameTable(cells []*sheet.Cell) func(yield func([]*sheet.Cell) bool) {
	return func(yield func([]*sheet.Cell) bool) {
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
	ahead      map[string]*sheet.Entry // written ahead by an interrupted run
	passed     map[string]string       // and what that run skipped, with why
	records    []sheet.Record
	changes    []rowChange
	changed    int // cells
	references int
	tables     map[string]int
	skips      []sheet.Skip
	refused    []sheet.Skip
}

// rowChange is what is to be written into one row.
type rowChange struct {
	table  database.Table
	update database.Update
	cells  []*sheet.Cell
}

func (f *flushing) skip(c *sheet.Cell, why string) {
	s := sheet.Skip{Table: c.Table, Key: c.Key, Column: c.Column, Why: why}
	f.skips = append(f.skips, s)
	f.record(sheet.Record{Skip: &s})
}

// record adds a record; the open block has one of each of its cells already.
func (f *flushing) record(r sheet.Record) {
	if f.a.open == nil {
		f.records = append(f.records, r)
	}
}

// done counts a cell that is changed.
func (f *flushing) done(c *sheet.Cell) {
	f.changed++
	f.references += c.References
	f.tables[c.Table]++
}

// check reads the rows of one table's cells, holds them, and works out what is to
// be written.
func (f *flushing) check(cells []*sheet.Cell) error {
	t, ok := database.Find(f.a.tables, cells[0].Table)
	if !ok {
		for _, c := range cells {
			f.skip(c, "the table is gone")
		}
		return nil
	}
	var rows [][][]byte
	at := map[string]int{}
	var columns []string
	for _, c := range cells {
		if _, ok := t.Column(c.Column); !ok {
			f.skip(c, "the column is gone")
			continue
		}
		if id := rowID(c.Key); !hasKey(at, id) {
			at[id] = len(rows)
			rows = append(rows, keys(c.Key))
		}
		if !slices.Contains(columns, c.Column) {
			columns = append(columns, c.Column)
		}
	}
	if len(rows) == 0 {
		return nil
	}
	now, err := f.tx.Read(f.ctx, t, rows, columns)
	if err != nil {
		return f.a.dbFailed(err)
	}
	if err := f.moved(t, rows, columns, now); err != nil {
		return err
	}
	change := map[string]int{} // row: its place in f.changes
	for _, c := range cells {
		if _, ok := t.Column(c.Column); !ok {
			continue
		}
		row := at[rowID(c.Key)]
		if now[row] == nil {
			f.skip(c, "the row is gone")
			continue
		}
		v := now[row][slices.Index(columns, c.Column)]
		after, err := f.cell(t, c, v)
		if err != nil || after == nil {
			if err != nil {
				return err
			}
			continue
		}
		was := v
		v.Bytes = after
		i, ok := change[rowID(c.Key)]
		if !ok {
			i = len(f.changes)
			change[rowID(c.Key)] = i
			f.changes = append(f.changes, rowChange{table: t, update: database.Update{Key: keys(c.Key)}})
		}
		u := &f.changes[i]
		u.update.Columns, u.update.Values, u.cells = append(u.update.Columns, c.Column), append(u.update.Values, v), append(u.cells, c)
		u.update.Was = append(u.update.Was, was)
	}
	return nil
}

func hasKey(m map[string]int, k string) bool { _, ok := m[k]; return ok }

// rowID makes a key something to look up by.
func rowID(key []sheet.Value) string {
	if len(key) == 1 { // within one table all keys have the same length
		return string(key[0])
	}
	var b strings.Builder
	for _, k := range key {
		fmt.Fprintf(&b, "%d:%s", len(k), k)
	}
	return b.String()
}

// moved finds rows whose key itself an interrupted run has rewritten.
func (f *flushing) moved(t database.Table, rows [][][]byte, columns []string, now [][]database.Value) error {
	if f.a.open == nil {
		return nil
	}
	for i, key := range rows {
		if now[i] != nil {
			continue
		}
		to, err := movedKey(t, key, func(column string) *sheet.Entry { return f.ahead[cellID(t.Name, key, column)] })
		if err != nil {
			return world(err, "the journal is broken", "keep the file; put the database back from your backup if in doubt")
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
func movedKey(t database.Table, key [][]byte, entry func(column string) *sheet.Entry) ([][]byte, error) {
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

// cell checks one cell and returns what is to be written; nil: nothing.
func (f *flushing) cell(t database.Table, c *sheet.Cell, v database.Value) ([]byte, error) {
	id := ""
	if f.a.open != nil {
		id = cellID(c.Table, keys(c.Key), c.Column)
	}
	entry := f.ahead[id]
	if entry != nil && sheet.Hash(v.Bytes) == entry.After {
		f.done(c)
		return nil, nil
	}
	after, err := c.Apply(v.Bytes)
	switch {
	case errors.Is(err, sheet.ErrChanged):
		f.skip(c, "changed since the preview")
		return nil, nil
	case err != nil:
		return nil, misuse(err, "the change sheet "+f.a.out.Sheet, "make a new one: trimlantern preview")
	case f.a.open != nil && entry == nil:
		f.skip(c, f.passed[id])
		return nil, nil
	}
	hash := c.After
	if column, _ := t.Column(c.Column); column.Kind == database.Form {
		normal, err := f.tx.Normal(f.ctx, column, database.Value{Bytes: after})
		if err != nil {
			return nil, f.a.dbFailed(err)
		}
		hash = sheet.Hash(normal.Bytes)
	}
	e := &sheet.Entry{Table: c.Table, Key: c.Key, Column: c.Column, Before: v.Bytes, After: hash, Edits: c.Edits}
	if v.As != 0 {
		e.As = string(rune(v.As))
	}
	f.record(sheet.Record{Entry: e})
	return after, nil
}

// write changes the rows, those of one table together.
func (f *flushing) write() error {
	for len(f.changes) > 0 {
		t, n := f.changes[0].table, 0
		var updates []database.Update
		for n < len(f.changes) && f.changes[n].table.Name == t.Name {
			updates = append(updates, f.changes[n].update)
			n++
		}
		refused, err := f.tx.Write(f.ctx, t, updates)
		if err != nil {
			return f.a.dbFailed(err)
		}
		for i, change := range f.changes[:n] {
			if refused[i] == nil {
				for _, c := range change.cells {
					f.done(c)
				}
				continue
			}
			if err := f.singly(change, refused[i]); err != nil {
				return err
			}
		}
		f.changes = f.changes[n:]
	}
	return nil
}

// singly writes the cells of a row that was refused one by one, so that only those
// at fault stay.
func (f *flushing) singly(change rowChange, why error) error {
	for i, c := range change.cells {
		if len(change.cells) > 1 {
			refused, err := f.tx.Write(f.ctx, change.table, []database.Update{{Key: change.update.Key, Columns: change.update.Columns[i : i+1], Values: change.update.Values[i : i+1], Was: change.update.Was[i : i+1]}})
			if err != nil {
				return f.a.dbFailed(err)
			}
			if why = refused[0]; why == nil {
				f.done(c)
				continue
			}
		}
		words := why.Error()
		if errors.Is(why, database.ErrChanged) {
			words = "changed since the preview"
		}
		f.refused = append(f.refused, sheet.Skip{Table: c.Table, Key: c.Key, Column: c.Column, Why: words})
	}
	return nil
}

func (a *applying) dbFailed(err error) error {
	if errors.Is(err, database.ErrRights) {
		return world(err, fmt.Sprintf("%d of %d cells are changed", a.out.Changed, a.out.Planned), "give the user the right to change the site's tables, then run the same command again")
	}
	return world(err, fmt.Sprintf("the database failed after %d of %d cells; what was done is in the journal", a.out.Changed, a.out.Planned),
		"when it is back, go on with the same command: trimlantern apply; or take it back: trimlantern undo")
}

// mark ends the journal with a milestone.
func (a *applying) mark(m sheet.Mark) error {
	records := append(a.carry, sheet.Record{Mark: m, Time: a.job.Now().UTC().Format(time.RFC3339)})
	if err := a.journal.Append(records...); err != nil {
		return world(err, "the journal cannot be written", "make room on the disk; then run the same command again")
	}
	return nil
}

func keys(k []sheet.Value) [][]byte {
	out := make([][]byte, len(k))
	for i := range k {
		out[i] = k[i]
	}
	return out
}
