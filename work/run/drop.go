package run

import (
	"context"
	"fmt"
	"slices"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/database"
	"trimlantern/work"
)

// dropRows is how many cached rows are removed in one transaction.
const dropRows = 200

// drop removes cached rows, the whole row into the journal first. n is how many
// cells of the sheet come before them.
func (a *applying) drop(drops []*change.Drop, n int) error {
	a.done = max(0, a.done-n) // of the rows
	for a.done < len(drops) {
		count := min(dropRows, len(drops)-a.done)
		if a.open != nil {
			count = work.CountCells(a.open)
		}
		var p patience
		for {
			skipped := len(a.out.Skipped)
			err := a.dropSome(drops[a.done : a.done+min(count, len(drops)-a.done)])
			if err == nil {
				break
			}
			if !p.wait(a.ctx, err) {
				return err
			}
			a.out.Skipped = a.out.Skipped[:skipped]
		}
		a.done += count
	}
	return nil
}

func (a *applying) dropSome(drops []*change.Drop) error {
	if a.ctx.Err() != nil {
		return work.Failed(nil, fmt.Sprintf("interrupted: %d cached rows are removed, each of them is in the journal", a.out.Dropped),
			"continue with the same command: trimlantern apply; or take it back: trimlantern undo")
	}
	a.job.Progress.At("removing cached copies", int64(a.out.Dropped), 0)
	began := time.Now()
	ctx := context.WithoutCancel(a.ctx)
	tx, err := a.db.Begin(ctx)
	if err != nil {
		return a.dbFailed(err)
	}
	defer func() { _ = tx.Rollback() }() // after a commit this does nothing
	records := append([]change.Record(nil), a.carry...)
	ahead := map[string]bool{}
	for _, r := range a.open {
		if r.Dropped != nil {
			ahead[change.CellID(r.Dropped.Table, change.Bytes(r.Dropped.Key), "")] = true
		}
	}
	var gone []*change.Drop
	dropped := 0
	for _, d := range drops {
		t, ok := database.Find(a.tables, d.Table)
		var image []database.Value
		if ok {
			if image, err = tx.Image(ctx, t, change.Bytes(d.Key)); err != nil {
				return a.dbFailed(err)
			}
		}
		written := ahead[change.CellID(d.Table, change.Bytes(d.Key), "")]
		switch {
		case image == nil && written:
			dropped++
			continue
		case image == nil: // made anew, or gone with its time: nothing to do, but its place counts
			if a.open == nil {
				records = append(records, change.Record{Skip: &change.Skip{Table: d.Table, Key: d.Key, Why: "the row is gone"}})
			}
			continue
		case !a.stillCached(t, image), slices.ContainsFunc(image, isLossy):
			s := change.Skip{Table: d.Table, Key: d.Key, Why: "no cached copy any more"}
			if slices.ContainsFunc(image, isLossy) { // it could not be put back
				s.Why = lossy
			}
			a.out.Skipped = append(a.out.Skipped, s)
			if a.open == nil {
				records = append(records, change.Record{Skip: &s})
			}
			continue
		}
		if a.open == nil {
			records = append(records, change.Record{Dropped: keptRow(d, t, image)})
		}
		gone = append(gone, d)
	}
	if len(records) > len(a.carry) {
		if err := a.journal.Append(records...); err != nil {
			return journalFault(err, "apply")
		}
		a.open, a.carry = records[len(a.carry):], nil // for another attempt
	}
	for _, d := range gone {
		t, _ := database.Find(a.tables, d.Table)
		if err := tx.Delete(ctx, t, change.Bytes(d.Key)); err != nil {
			return a.dbFailed(err)
		}
	}
	if err := tx.Commit(); err != nil {
		return a.dbFailed(err)
	}
	a.carry = []change.Record{{Mark: change.Committed}}
	a.out.Dropped += len(gone) + dropped
	a.open = nil
	rest(a.ctx, a.job, len(drops), began)
	return nil
}

func isLossy(v database.Value) bool { return v.Lossy }

// keptRow is a whole row as the journal keeps it.
func keptRow(d *change.Drop, t database.Table, image []database.Value) *change.Dropped {
	row := &change.Dropped{Table: d.Table, Key: d.Key}
	for i, c := range t.All {
		f := change.Field{Column: c.Name, Value: image[i].Bytes, Null: image[i].Null}
		if image[i].As != 0 {
			f.As = string(rune(image[i].As))
		}
		row.Row = append(row.Row, f)
	}
	return row
}

// stillCached asks the system description once more whether a row is safe to lose.
func (a *applying) stillCached(t database.Table, image []database.Value) bool {
	_, safe := a.job.System.IsCache(a.job.Short(t.Name), func(column string) string {
		for i, c := range t.All {
			if c.Name == column {
				return string(image[i].Bytes)
			}
		}
		return ""
	})
	return safe
}
