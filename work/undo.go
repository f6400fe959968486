package work

import (
	"context"
	"fmt"
	"os"
	"time"

	"trimlantern/core/sheet"
	"trimlantern/site/database"
)

// Undone is what undo did.
type Undone struct {
	Site    string         `json:"site"`
	Journal string         `json:"journal"`
	Sheet   string         `json:"sheet"`
	Back    int            `json:"back"`    // cells put back
	Already int            `json:"already"` // cells that were as before
	Tables  map[string]int `json:"tables"`
	Left    []sheet.Skip   `json:"left"` // cells that others changed since
}

// Code is the exit code that the undo comes to.
func (u *Undone) Code() int {
	if len(u.Left) > 0 {
		return Remain
	}
	return Clean
}

// Undo puts back what a journal says: the one called id, or the newest that is
// not undone.
func (j *Job) Undo(ctx context.Context, id string) (*Undone, error) {
	defer j.Progress.End()
	release, err := j.Book.Lock()
	if err != nil {
		return nil, lockFault(err)
	}
	defer release()
	var blocks []sheet.Block // without their records: places alone
	st, err := j.chooseJournal(id, &blocks)
	if err != nil {
		return nil, err
	}
	db, tables, err := j.open(ctx, false)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	if st.Header.Database != db.Identity() {
		return nil, misuse(nil, fmt.Sprintf("the journal %s is of another database (%s, not %s)", st.ID, st.Header.Database, db.Identity()),
			"check database in the site file")
	}
	unlock, err := db.Lock(ctx)
	if err != nil {
		return nil, world(err, "the database is in use by this tool already", "wait until the other run has ended")
	}
	defer unlock()
	u := &undoing{job: j, ctx: ctx, db: db, tables: tables, total: st.Cells,
		out: &Undone{Site: j.Site.String(), Journal: st.ID, Sheet: st.Header.Sheet, Tables: map[string]int{}}}
	f, err := os.Open(j.Book.JournalPath(st.ID))
	if err != nil {
		return nil, world(err, "the journal cannot be read", "check the folder "+j.Book.Path())
	}
	defer f.Close()
	for i := len(blocks) - 1; i >= 0; i-- {
		records, err := blocks[i].ReadAt(f)
		if err != nil {
			return nil, world(err, "the journal cannot be read", "keep the file; put the database back from your backup if in doubt")
		}
		if err := u.block(records); err != nil {
			return nil, err
		}
	}
	journal, err := j.Book.ReopenJournal(st.ID, st.End)
	if err == nil {
		defer journal.Close()
		err = journal.Append(sheet.Record{Mark: sheet.Undone, Time: j.Now().UTC().Format(time.RFC3339), Left: len(u.out.Left)})
	}
	if err != nil {
		return nil, world(err, "everything is put back, but the journal cannot be written", "make room on the disk; then run the same command again")
	}
	return u.out, nil
}

// chooseJournal finds the journal to undo and collects where its blocks stand.
func (j *Job) chooseJournal(id string, blocks *[]sheet.Block) (*journalState, error) {
	ids, err := j.Book.Journals()
	if err != nil {
		return nil, world(err, "the logbook cannot be read", "check the folder "+j.Book.Path())
	}
	for i := len(ids) - 1; i >= 0; i-- {
		if id != "" && ids[i] != id {
			continue
		}
		*blocks = nil
		st, err := j.readState(ids[i], func(b sheet.Block) error {
			b.Records = nil
			*blocks = append(*blocks, b)
			return nil
		})
		switch {
		case err != nil:
			return nil, misuse(err, "the logbook", "keep the file, and name another journal: trimlantern undo JOURNAL")
		case st.Blocks == 0 && id == "":
			continue
		case st.Mark != sheet.Undone:
			return st, nil
		case id != "":
			return nil, misuse(nil, fmt.Sprintf("the journal %s was undone already, at %s", id, st.Time), "nothing is to be done")
		}
	}
	if id != "" {
		return nil, misuse(nil, "no journal is called "+id, "trimlantern status names the last one")
	}
	return nil, misuse(nil, "there is nothing to undo: no run has changed this site, or all of it was put back", "trimlantern status shows where you are")
}

type undoing struct {
	job    *Job
	ctx    context.Context
	db     database.Database
	tables []database.Table
	total  int
	out    *Undone
}

// block puts back the entries of one block, the last first, in one transaction.
func (u *undoing) block(records []sheet.Record) error {
	if countCells(records) == 0 {
		return nil
	}
	if u.ctx.Err() != nil {
		return world(nil, fmt.Sprintf("interrupted: %d of %d cells are put back", u.out.Back, u.total), "go on with the same command: trimlantern undo")
	}
	u.job.Progress.At("putting back", int64(u.out.Back+u.out.Already+len(u.out.Left)), int64(u.total))
	ctx := context.WithoutCancel(u.ctx)
	failed := func(err error) error {
		return world(err, fmt.Sprintf("the database failed after %d of %d cells were put back", u.out.Back, u.total),
			"when it is back, go on with the same command: trimlantern undo")
	}
	tx, err := u.db.Begin(ctx)
	if err != nil {
		return failed(err)
	}
	defer func() { _ = tx.Rollback() }() // after a commit this does nothing
	back, already := map[string]int{}, 0
	var left []sheet.Skip
	for i := len(records) - 1; i >= 0; i-- {
		e := records[i].Entry
		if e == nil {
			continue
		}
		leave := func(why string) {
			left = append(left, sheet.Skip{Table: e.Table, Key: e.Key, Column: e.Column, Why: why})
		}
		t, ok := database.Find(u.tables, e.Table)
		if !ok {
			leave("the table is gone")
			continue
		}
		values, found, err := tx.Read(ctx, t, keys(e.Key), []string{e.Column})
		if err != nil {
			return failed(err)
		}
		switch now := ""; {
		case !found:
			leave("the row is gone")
			continue
		default:
			now = sheet.Hash(values[0].Bytes)
			if now == sheet.Hash(e.Before) {
				already++
				continue
			}
			if now != e.After {
				leave("changed by somebody since")
				continue
			}
		}
		values[0].Bytes = e.Before
		if err := tx.Write(ctx, t, keys(e.Key), []string{e.Column}, values); err != nil {
			return failed(err)
		}
		back[e.Table]++
	}
	if err := tx.Commit(); err != nil {
		return failed(err)
	}
	for t, n := range back {
		u.out.Tables[t] += n
		u.out.Back += n
	}
	u.out.Already += already
	u.out.Left = append(u.out.Left, left...)
	return nil
}
