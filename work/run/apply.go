// Package run carries out change sheets and takes them back: journal first, then the change, then the proof.
package run

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/database"
	"trimlantern/outside/logbook"
	"trimlantern/work"
	"trimlantern/work/backup"
	"trimlantern/work/preview"
)

// Applied is what apply did.
type Applied struct {
	Site      string             `json:"site"`
	Sheet     string             `json:"sheet"`
	Journal   string             `json:"journal"`
	Resumed   bool               `json:"resumed"` // went on with an interrupted run
	Planned   int                `json:"planned"` // cells of the sheet
	Sources   int                `json:"planned_files,omitempty"`
	Proven    int                `json:"proven"`  // cells of which the database's own hash says that they hold what was written, in this run
	Changed   int                `json:"changed"` // cells changed, earlier parts of the run included
	Refs      int                `json:"references"`
	Tables    map[string]int     `json:"tables"`
	Skipped   []change.Skip      `json:"skipped"`                    // cells that are not as the preview saw them
	Dropped   int                `json:"dropped"`                    // cached rows removed
	Emptied   []work.CacheFolder `json:"emptied,omitempty"`          // folders of cached files
	Files     []string           `json:"files,omitempty"`            // files changed, earlier parts of the run included
	Copies    []string           `json:"copies,omitempty"`           // files put into the site's folder
	Unserved  bool               `json:"copies_unchecked,omitempty"` // nobody asked the web server for them (--offline)
	Addresses bool               `json:"addresses"`                  // the site's own addresses changed: logins end
	After     []string           `json:"run_after"`                  // what the system needs when its content has changed: shown, never run
	OneNode   bool               `json:"lock_on_one_node"`           // the lock kept other runs off one node of the cluster alone
	Backup    string             `json:"last_backup"`                // when trimlantern backup was last run; "": never
	Unknown   string             `json:"unknown,omitempty"`          // what was not known of the site before it was changed
	Remain    *preview.Result    `json:"second_preview"`
}

// Code is the exit code that the apply comes to: a planned change that was not made counts, and what the caller
// is strict about.
func (a *Applied) Code() int {
	if len(a.Skipped) > 0 || a.Remain.Code() != work.Clean {
		return work.Remain
	}
	return work.Clean
}

// batchCells and batchBytes bound one transaction.
const (
	batchCells = 1500
	batchBytes = 6 << 20
)

// Apply carries out a sheet: the one called id, or the newest. drops says that the
// cached rows of the sheet, which the system description calls safe to lose, are removed too.
func Apply(ctx context.Context, j *work.Job, o Options) (*Applied, error) {
	defer j.Progress.End()
	if j.IsDump() {
		return nil, j.ErrDumpOnly()
	}
	if !j.Offline { // the second preview asks: better refused now than after the change
		if _, err := j.Web(); err != nil {
			return nil, err
		}
	}
	release, err := j.Book.Lock("apply")
	if err != nil {
		return nil, work.LockFault(err)
	}
	defer release()
	id, err := ChooseSheet(j, o.Sheet)
	if err != nil {
		return nil, err
	}
	db, tables, err := j.Open(ctx, false)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	var copies []*change.Copy
	header, end, err := CheckSheet(j, id, db, change.Visit{Copy: func(c *change.Copy) error {
		copies = append(copies, c)
		return nil
	}})
	if err != nil {
		return nil, err
	}
	if err := checkCopies(j, copies); err != nil {
		return nil, err
	}
	unknown, err := o.Passes(ctx, header)
	if err != nil {
		return nil, err
	}
	unlock, err := lock(ctx, j, db, "apply")
	if err != nil {
		return nil, err
	}
	defer unlock()
	a := &applying{job: j, ctx: ctx, db: db, tables: tables, drops: o.Drops, files: j.DeclaredFiles(),
		out: &Applied{Site: j.Site.String(), Sheet: id, Planned: end.Cells, Sources: end.Files, Tables: map[string]int{}, Unknown: unknown}}
	a.out.OneNode = db.OneNode()
	if last, err := backup.Last(j); err == nil && last != nil {
		a.out.Backup = last.Time.Format(time.RFC3339)
	}
	if err := a.openJournal(header, end); err != nil {
		return nil, err
	}
	defer a.journal.Close()
	if err := a.run(); err != nil {
		return nil, err
	}
	if err := a.agrees(end); err != nil {
		return nil, err
	}
	if err := a.db.Refresh(ctx, slices.Collect(maps.Keys(a.out.Tables))); err != nil {
		return nil, a.dbFailed(err)
	}
	if err := a.mark(change.Finished); err != nil {
		return nil, err
	}
	if err := a.journal.Seal(); err != nil {
		return nil, work.Failed(err, "everything is changed, but the logbook cannot be written", "free some disk space; trimlantern history --check looks at the logbook")
	}
	if a.out.Changed+len(a.out.Files) > 0 {
		a.out.After = j.System.After
	}
	if a.out.Remain, err = a.remain(header); err != nil {
		return nil, err
	}
	return a.out, nil
}

// agrees compares what was visited with what the preview promised.
func (a *applying) agrees(end *change.Summary) error {
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
		return work.Failed(nil, fmt.Sprintf("the counts do not agree: the preview promised %d files, %d were visited", end.Files, sources),
			"put everything back with trimlantern undo, and make a new preview")
	}
	if got != end.Cells || a.out.Refs > end.References+end.FileRefs {
		return work.Failed(nil, fmt.Sprintf("the counts do not agree: the preview promised %d cells, %d were visited", end.Cells, got),
			"put everything back with trimlantern undo, and make a new preview")
	}
	if len(a.out.Copies) != end.Copies {
		return work.Failed(nil, fmt.Sprintf("the counts do not agree: the preview promised %d copies, %d are in place", end.Copies, len(a.out.Copies)),
			"put everything back with trimlantern undo, and make a new preview")
	}
	return nil
}

// remain reads everything once more and returns what is left.
func (a *applying) remain(header change.Header) (*preview.Result, error) {
	j := a.job
	asked, err := j.Verdicts(a.ctx)
	if err != nil {
		return nil, err
	}
	tables, err := j.Chosen(header.Choice, a.tables)
	if err != nil {
		return nil, err
	}
	s := preview.NewSurvey(j, a.db, asked, nil, header.Kind, header.Choice)
	s.Cause = header.Cause
	if err := s.Run(a.ctx, a.db, tables); err != nil {
		return nil, err
	}
	if err := s.Files(); err != nil {
		return nil, err
	}
	return s.Out, nil
}

// lock takes the lock on the database.
func lock(ctx context.Context, j *work.Job, db database.Database, command string) (unlock func(), err error) {
	for p := (patience{}); ; {
		if unlock, err = db.Lock(ctx); err == nil {
			return unlock, nil
		}
		if !p.wait(ctx, err) {
			return nil, dbLockFault(err, command)
		}
		j.Progress.At("waiting for the database", 0, 0)
	}
}

// dbLockFault says why the lock on the database was not to be had.
func dbLockFault(err error, command string) error {
	if errors.Is(err, database.ErrLocked) {
		return work.Failed(err, "the database is in use by this tool already", "wait until the other run has ended")
	}
	return work.Failed(err, "the database failed before anything was changed now", "when it is back, continue with the same command: trimlantern "+command)
}

// Options say which sheet is carried out, and how.
type Options struct {
	Sheet string // "": the newest
	Drops bool   // cached rows that are safe to lose are removed too
	Gate         // asked before the first change
}

// Gate is what refuses to change a site; nil: nothing does. It says what it cannot know, and lets pass then. A sheet that only mends lengths is not asked for.
type Gate func(context.Context) (unknown string, err error)

// Passes asks the gate about a sheet.
func (g Gate) Passes(ctx context.Context, sheet change.Header) (unknown string, err error) {
	if g == nil || sheet.Kind == preview.Lengths {
		return "", nil
	}
	return g(ctx)
}

// ChooseSheet returns the newest sheet, or refuses a name that no sheet has.
func ChooseSheet(j *work.Job, id string) (string, error) {
	all, err := j.Book.Sheets()
	if err != nil {
		return "", work.BookFault(err)
	}
	if id == "" && len(all) > 0 {
		return all[len(all)-1], nil
	}
	if slices.Contains(all, id) {
		return id, nil
	}
	if id == "" {
		return "", work.BadUse(nil, "there is no change sheet yet", "make one: trimlantern preview")
	}
	return "", work.BadUse(nil, "no change sheet is called "+id, "trimlantern status lists them; or make a new one: trimlantern preview")
}

// CheckSheet reads a sheet to its end before anything is changed, and refuses
// one that is broken or of something else. What visit is shown counts only where it returns no error.
func CheckSheet(j *work.Job, id string, db database.Database, visit change.Visit) (change.Header, *change.Summary, error) {
	what, again := "the change sheet "+id, "make a new one: trimlantern preview"
	f, err := j.Book.OpenSheet(id)
	if err != nil {
		return change.Header{}, nil, work.BadUse(err, what, again)
	}
	defer f.Close()
	r, err := change.NewReader(f)
	if err != nil {
		return change.Header{}, nil, work.BadUse(err, what, again)
	}
	defer r.Close()
	h := r.Header
	switch {
	case h.Kind != preview.References && h.Kind != preview.Lengths:
		err = fmt.Errorf("is of a kind that is not known: %q", h.Kind)
	case h.Site != j.Site.String():
		err = fmt.Errorf("is of the site %s, not of %s", h.Site, j.Site)
	case h.Database != db.Identity():
		err = fmt.Errorf("is of another database (%s, not %s)", h.Database, db.Identity())
		again += "; if it is the same one on another server now, write under database in the site file: identity: '" + h.Database + "'"
	case h.Prefix != j.File.Database.Prefix:
		err = fmt.Errorf("is of tables with the prefix %q, not %q", h.Prefix, j.File.Database.Prefix)
	default:
		err = r.Each(visit)
	}
	var said *work.Fault
	switch {
	case errors.As(err, &said):
		return h, nil, err
	case err != nil:
		return h, nil, work.BadUse(err, what, again)
	}
	return h, r.End, nil
}

type applying struct {
	job     *work.Job
	ctx     context.Context
	db      database.Database
	tables  []database.Table
	journal *logbook.Journal
	out     *Applied
	carry   []change.Record // goes into the next block: the mark of the batch before
	done    int             // cells of the sheet that earlier runs have settled
	open    []change.Record // the last block of an interrupted run: written ahead, maybe not carried out
	drops   bool            // cached rows are removed too
	changed map[string]bool // files that an interrupted run had in its journal
	batch   []*change.Cell
	bytes   int
	step    step
	files   *work.SiteFiles
	refused []*change.Cell // by the database
	relay
	doubts doubts
}

// openJournal begins a journal for the sheet, or goes on with the one of a run
// that was interrupted; a sheet that is carried out already is refused.
func (a *applying) openJournal(h change.Header, end *change.Summary) error {
	j := a.job
	ids, err := j.Book.Journals()
	if err != nil {
		return work.BookFault(err)
	}
	for _, id := range ids {
		if st := j.Glance(id); st != nil && (st.Header.Sheet == "" || st.Mark == change.Undone || st.Mark == change.Finished && st.Header.Sheet != h.ID) {
			continue
		}
		var last []change.Record
		settled := 0
		st, err := j.ReadState(id, func(b change.Block) error {
			settled += work.CountCells(last)
			last = b.Records
			return nil
		})
		if err != nil {
			return work.JournalFault(id, err)
		}
		if st.Blocks == 0 {
			continue // a crash before its first block: nothing was changed under it
		}
		switch {
		case st.Mark == change.Undone || st.Header.Sheet == "":
			continue
		case st.Mark == "" && st.Header.Sheet != h.ID:
			return work.BadUse(nil, fmt.Sprintf("the run of sheet %s was interrupted and is not finished", st.Header.Sheet),
				fmt.Sprintf("finish it: trimlantern apply %s, or take it back: trimlantern undo", st.Header.Sheet))
		case st.Header.Sheet != h.ID:
			continue
		case st.Mark == change.Finished:
			return work.BadUse(nil, fmt.Sprintf("the sheet %s was applied already, at %s; nothing was changed now", h.ID, st.Time),
				"for what came since, make a new one: trimlantern preview; to take it back: trimlantern undo")
		}
		if sum := st.Header.SheetSum; sum != "" && sum != end.SHA256 {
			return work.BadUse(nil, fmt.Sprintf("the sheet %s is not the one that the interrupted run began with", h.ID), "take the run back: trimlantern undo; then make a new preview")
		}
		if err := j.Bound(st); err != nil {
			return err
		}
		a.out.Journal, a.out.Resumed = id, true
		a.done, a.open, a.drops, a.changed = settled, last, st.Header.Drops, st.Files
		for t, n := range st.Tables {
			a.out.Tables[t] = n
		}
		a.journal, err = j.Book.ReopenJournal(id, st.Read)
		if err != nil {
			return work.Failed(err, "the journal cannot be written", "make the logbook writable; then run the same command again")
		}
		return a.recount(id, settled)
	}
	if sheets, err := j.Book.Sheets(); err != nil || len(sheets) > 0 && sheets[len(sheets)-1] != h.ID {
		return work.BadUse(err, fmt.Sprintf("the sheet %s is not the newest: it is older than the preview %s", h.ID, sheets[len(sheets)-1]),
			"apply the newest: trimlantern apply; or make a new one: trimlantern preview")
	}
	a.out.Journal = j.RunID()
	a.journal, err = j.Book.CreateJournal(change.JournalHeader{Tool: work.Tool, ID: a.out.Journal, Time: j.Now().UTC().Format(time.RFC3339),
		Sheet: h.ID, SheetSum: end.SHA256, Site: h.Site, Folder: j.File.Dir, Database: h.Database, Drops: a.drops})
	if err != nil {
		return work.Failed(err, "the journal cannot be written", "free some disk space and make the logbook writable; nothing was changed")
	}
	return nil
}

// recount takes over what the settled part of an interrupted run did.
func (a *applying) recount(id string, settled int) error {
	a.out.Tables = map[string]int{}
	seen := 0
	_, err := a.job.ReadState(id, func(b change.Block) error {
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
		return work.Failed(err, "the journal cannot be read", "keep the file; put the database back from your backup if in doubt")
	}
	return nil
}

// run goes through the sheet: all cells but the site's own addresses, then those,
// then the rows to remove. The order is the same in every run, so that the
// journal's length says where an interrupted one stopped.
func (a *applying) run() error {
	n := 0
	most := batchCells
	if r := a.job.Rate; r > 0 {
		most = max(1, min(most, r/2)) // small steps, so that the pauses are short too
	}
	a.step = step{most, most}
	cell := func(c *change.Cell) error {
		if n++; n <= a.done {
			a.out.Refs += c.References
			return nil
		}
		// The cells of a row stay together: one of them may be a part of its key.
		if k := len(a.batch); k > 0 {
			last := a.batch[k-1]
			full := a.open == nil && (k >= most || a.bytes > batchBytes) && (last.Table != c.Table || change.RowID(last.Key) != change.RowID(c.Key))
			if full || len(a.open) > 0 && k == work.CountCells(a.open) {
				if err := a.flush(); err != nil {
					return err
				}
			}
		}
		a.batch = append(a.batch, c)
		a.bytes += c.Size
		return nil
	}
	if work.CountCells(a.open) == 0 {
		a.open = nil // nothing but the header or a mark
	}
	later, err := a.read(cell)
	for _, c := range later.addresses {
		if err == nil {
			a.out.Addresses = true
			err = cell(c)
		}
	}
	if err == nil {
		err = a.flush()
	}
	if last := a.settled(); err == nil {
		err = last
	}
	if err == nil {
		err = a.recheck()
	}
	if err == nil {
		err = a.drop(later.drops, n)
	}
	for _, s := range later.sources {
		if err == nil {
			err = a.source(s)
		}
	}
	if err == nil && a.drops {
		err = a.emptyCaches()
	}
	return err
}

// laterLines are the lines of a sheet that are carried out after all other cells.
type laterLines struct {
	addresses []*change.Cell
	drops     []*change.Drop
	sources   []*change.Source
}

// read reads the sheet and hands on each cell, but for those of the site's own addresses.
func (a *applying) read(cell func(*change.Cell) error) (later laterLines, err error) {
	f, err := a.job.Book.OpenSheet(a.out.Sheet)
	if err != nil {
		return later, work.BadUse(err, "the change sheet", "make a new one: trimlantern preview")
	}
	defer f.Close()
	r, err := change.NewReader(f)
	if err != nil {
		return later, work.BadUse(err, "the change sheet", "make a new one: trimlantern preview")
	}
	defer r.Close()
	var copies []*change.Copy
	err = ahead(r, func(l sheetLine) error {
		if l.copy != nil {
			copies = append(copies, l.copy)
			return a.copy(l.copy)
		}
		if len(copies) > 0 { // nothing points to them before they are served
			if err := a.served(copies); err != nil {
				return err
			}
			copies = nil
		}
		switch {
		case l.drop != nil && a.drops:
			later.drops = append(later.drops, l.drop)
		case l.source != nil:
			later.sources = append(later.sources, l.source)
		case l.cell != nil && l.cell.Address:
			later.addresses = append(later.addresses, l.cell)
		case l.cell != nil:
			return cell(l.cell)
		}
		return nil
	})
	if err == nil && len(copies) > 0 {
		err = a.served(copies)
	}
	return later, err
}

// recheck looks at the cells that the database refused: with the row that a foreign key refers to,
// it may have changed them itself by now.
func (a *applying) recheck() error {
	if len(a.refused) == 0 {
		return nil
	}
	tx, err := a.db.Begin(context.WithoutCancel(a.ctx))
	if err != nil {
		return a.dbFailed(err)
	}
	defer func() { _ = tx.Rollback() }() // it only reads
	for _, c := range a.refused {
		t, ok := database.Find(a.tables, c.Table)
		if !ok {
			continue
		}
		now, err := tx.Read(a.ctx, t, [][][]byte{change.Bytes(c.Key)}, []string{c.Column})
		if err != nil {
			return a.dbFailed(err)
		}
		if now[0] == nil || change.Hash(now[0][0].Bytes) != c.After {
			continue
		}
		id := change.CellID(c.Table, change.Bytes(c.Key), c.Column)
		before := len(a.out.Skipped)
		a.out.Skipped = slices.DeleteFunc(a.out.Skipped, func(s change.Skip) bool {
			return s.Column != "" && change.CellID(s.Table, change.Bytes(s.Key), s.Column) == id
		})
		if len(a.out.Skipped) == before {
			continue
		}
		a.out.Changed++
		a.out.Refs += c.References
		a.out.Tables[c.Table]++
	}
	return nil
}

// sheetLine is a line of a sheet; one field is set.
type sheetLine struct {
	cell *change.Cell
	drop *change.Drop

	source *change.Source
	copy   *change.Copy
}

// aheadLines is how many lines are read ahead.
const aheadLines = 256

// ahead reads a sheet while the lines before are worked on.
func ahead(r *change.Reader, visit func(sheetLine) error) error {
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
		failed <- r.Each(change.Visit{Copy: func(c *change.Copy) error { return give(sheetLine{copy: c}) }, Cell: func(c *change.Cell) error { return give(sheetLine{cell: c}) },
			Drop: func(d *change.Drop) error { return give(sheetLine{drop: d}) }, Source: func(s *change.Source) error { return give(sheetLine{source: s}) }})
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

func (a *applying) dbFailed(err error) error {
	if errors.Is(err, database.ErrRights) {
		return work.Failed(err, fmt.Sprintf("%d of %d cells are changed", a.out.Changed, a.out.Planned), "give the user the right to change the site's tables, then run the same command again")
	}
	if errors.Is(err, database.ErrFrozen) {
		return work.Failed(err, fmt.Sprintf("%d of %d cells are changed", a.out.Changed, a.out.Planned), "name the server that takes changes under database in the site file, or have it made writable; then run the same command again")
	}
	return work.Failed(err, fmt.Sprintf("the database failed after %d of %d cells; what was done is in the journal", a.out.Changed, a.out.Planned),
		"when it is back, continue with the same command: trimlantern apply; or take it back: trimlantern undo")
}

// mark ends the journal with a milestone.
func (a *applying) mark(m change.Mark) error {
	records := append(a.carry, change.Record{Mark: m, Time: a.job.Now().UTC().Format(time.RFC3339)})
	if err := a.journal.Append(records...); err != nil {
		return work.Failed(err, "the journal cannot be written", "free some disk space; then run the same command again")
	}
	return nil
}
