package work

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
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
	Changed   int            `json:"changed"` // cells changed, earlier parts of the run included
	Refs      int            `json:"references"`
	Tables    map[string]int `json:"tables"`
	Skipped   []sheet.Skip   `json:"skipped"`   // cells that are not as the preview saw them
	Addresses bool           `json:"addresses"` // the site's own addresses changed: logins end
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
	batchCells = 200
	batchBytes = 4 << 20
)

// Apply carries out a sheet: the one called id, or the newest.
func (j *Job) Apply(ctx context.Context, id string) (*Applied, error) {
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
		return nil, world(err, "the database is in use by this tool already", "wait until the other run has ended")
	}
	defer unlock()
	a := &applying{job: j, ctx: ctx, db: db, tables: tables,
		out: &Applied{Site: j.Site.String(), Sheet: id, Planned: end.Cells, Tables: map[string]int{}}}
	if err := a.openJournal(header); err != nil {
		return nil, err
	}
	defer a.journal.Close()
	if err := a.run(); err != nil {
		return nil, err
	}
	if got := a.out.Changed + len(a.out.Skipped); got != end.Cells || a.out.Refs > end.References {
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
	s := j.survey(db, asked, nil, header.Kind)
	if err := s.run(ctx, db, tables); err != nil {
		return nil, err
	}
	if err := s.files(); err != nil {
		return nil, err
	}
	a.out.Remain = s.out
	return a.out, nil
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
	for _, s := range all {
		if s == id {
			return id, nil
		}
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
		err = r.Each(nil, nil)
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
	carry   []sheet.Record // goes into the next block: the mark of the batch before
	done    int            // cells of the sheet that earlier runs have settled
	open    []sheet.Record // the last block of an interrupted run: written ahead, maybe not carried out
	batch   []*sheet.Cell
	bytes   int
}

// journalState is what a journal says of its run.
type journalState struct {
	ID     string
	Header sheet.JournalHeader
	End    int64 // where the last whole block ends
	Blocks int
	Cells  int // entries
	Skips  int
	Tables map[string]int
	Mark   sheet.Mark // the last milestone but Committed, or ""
	Time   string     // of the mark
	Left   int
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
			case r.Mark == sheet.Finished || r.Mark == sheet.Undone:
				st.Mark, st.Time, st.Left = r.Mark, r.Time, r.Left
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

// openJournal begins a journal for the sheet, or goes on with the one of a run
// that was interrupted; a sheet that is carried out already is refused.
func (a *applying) openJournal(h sheet.Header) error {
	j := a.job
	ids, err := j.Book.Journals()
	if err != nil {
		return world(err, "the logbook cannot be read", "check the folder "+j.Book.Path())
	}
	for _, id := range ids {
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
		case st.Mark == sheet.Undone:
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
		a.done, a.open = settled, last
		for t, n := range st.Tables {
			a.out.Tables[t] = n
		}
		a.journal, err = j.Book.ReopenJournal(id, st.End)
		if err != nil {
			return world(err, "the journal cannot be written", "make the logbook writable; then run the same command again")
		}
		return a.recount(id, settled)
	}
	a.out.Journal = j.runID()
	a.journal, err = j.Book.CreateJournal(sheet.JournalHeader{Tool: Tool, ID: a.out.Journal, Time: j.Now().UTC().Format(time.RFC3339),
		Sheet: h.ID, Site: h.Site, Database: h.Database})
	if err != nil {
		return world(err, "the journal cannot be written", "make room on the disk and the logbook writable; nothing was changed")
	}
	return nil
}

func countCells(records []sheet.Record) int {
	n := 0
	for _, r := range records {
		if r.Entry != nil || r.Skip != nil {
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
			if seen == settled {
				return nil
			}
			switch {
			case r.Entry != nil:
				a.out.Changed++
				a.out.Tables[r.Entry.Table]++
				seen++
			case r.Skip != nil:
				a.out.Skipped = append(a.out.Skipped, *r.Skip)
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

// run goes through the sheet: all cells but the site's own addresses, then
// those. The order is the same in every run, so that the journal's length says
// where an interrupted one stopped.
func (a *applying) run() error {
	var addresses []*sheet.Cell
	n := 0
	cell := func(c *sheet.Cell) error {
		if n++; n <= a.done {
			a.out.Refs += c.References
			return nil
		}
		a.batch = append(a.batch, c)
		a.bytes += c.Size
		if len(a.batch) == batchCells || len(a.open) > 0 && len(a.batch) == countCells(a.open) || a.bytes > batchBytes {
			return a.flush()
		}
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
	err = r.Each(func(c *sheet.Cell) error {
		if c.Address {
			addresses = append(addresses, c)
			return nil
		}
		return cell(c)
	}, nil)
	for _, c := range addresses {
		if err == nil {
			a.out.Addresses = true
			err = cell(c)
		}
	}
	if err == nil {
		err = a.flush()
	}
	return err
}

// flush carries out one batch: read the rows and hold them, check each value,
// write the journal through to the disk, then the database.
func (a *applying) flush() error {
	if len(a.batch) == 0 {
		return nil
	}
	if a.ctx.Err() != nil {
		return world(nil, fmt.Sprintf("interrupted: %d of %d cells are changed, each of them is in the journal", a.out.Changed, a.out.Planned),
			"go on with the same command: trimlantern apply; or take it back: trimlantern undo")
	}
	a.job.Progress.At("changing "+a.batch[0].Table, int64(a.out.Changed), int64(a.out.Planned))
	// A batch that has begun is finished, also when somebody presses Ctrl-C.
	ctx := context.WithoutCancel(a.ctx)
	tx, err := a.db.Begin(ctx)
	if err != nil {
		return a.dbFailed(err)
	}
	defer func() { _ = tx.Rollback() }() // after a commit this does nothing

	type change struct {
		table database.Table
		cell  *sheet.Cell
		value database.Value
		after []byte
	}
	var changes []change
	records := slices.Clone(a.carry)
	refs, already := 0, 0
	ahead := map[string]*sheet.Entry{} // written ahead by an interrupted run
	passed := map[string]string{}      // and what that run skipped, with why
	for _, r := range a.open {
		if r.Entry != nil {
			ahead[cellID(r.Entry.Table, keys(r.Entry.Key), r.Entry.Column)] = r.Entry
		}
		if r.Skip != nil {
			passed[cellID(r.Skip.Table, keys(r.Skip.Key), r.Skip.Column)] = r.Skip.Why
		}
	}
	record := func(r sheet.Record) { // the open block has a record of each of its cells
		if a.open == nil {
			records = append(records, r)
		}
	}
	tables := map[string]int{}
	var skips []sheet.Skip
	for _, c := range a.batch {
		skip := func(why string) {
			s := sheet.Skip{Table: c.Table, Key: c.Key, Column: c.Column, Why: why}
			skips = append(skips, s)
			record(sheet.Record{Skip: &s})
		}
		t, ok := database.Find(a.tables, c.Table)
		if !ok {
			skip("the table is gone")
			continue
		}
		values, found, err := tx.Read(ctx, t, keys(c.Key), []string{c.Column})
		if err != nil {
			return a.dbFailed(err)
		}
		if !found {
			skip("the row is gone")
			continue
		}
		entry := ahead[cellID(c.Table, keys(c.Key), c.Column)]
		if entry != nil && sheet.Hash(values[0].Bytes) == entry.After {
			already++
			refs += c.References
			tables[c.Table]++
			continue
		}
		after, err := c.Apply(values[0].Bytes)
		if errors.Is(err, sheet.ErrChanged) {
			skip("changed since the preview")
			continue
		}
		if err != nil {
			return misuse(err, "the change sheet "+a.out.Sheet, "make a new one: trimlantern preview")
		}
		if a.open != nil && entry == nil {
			skip(passed[cellID(c.Table, keys(c.Key), c.Column)])
			continue
		}
		record(sheet.Record{Entry: &sheet.Entry{Table: c.Table, Key: c.Key, Column: c.Column, Before: values[0].Bytes, After: c.After}})
		changes = append(changes, change{t, c, values[0], after})
		refs += c.References
		tables[c.Table]++
	}
	if len(records) > len(a.carry) {
		if err := a.journal.Append(records...); err != nil {
			return world(err, "the journal cannot be written", "make room on the disk; then go on with the same command: trimlantern apply")
		}
	}
	for _, c := range changes {
		c.value.Bytes = c.after
		if err := tx.Write(ctx, c.table, keys(c.cell.Key), []string{c.cell.Column}, []database.Value{c.value}); err != nil {
			return a.dbFailed(err)
		}
	}
	if err := tx.Commit(); err != nil {
		return a.dbFailed(err)
	}
	a.carry = []sheet.Record{{Mark: sheet.Committed}}
	a.out.Changed += len(changes) + already
	a.out.Refs += refs
	for t, n := range tables {
		a.out.Tables[t] += n
	}
	a.out.Skipped = append(a.out.Skipped, skips...)
	a.batch, a.bytes, a.open = nil, 0, nil
	return nil
}

func (a *applying) dbFailed(err error) error {
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
