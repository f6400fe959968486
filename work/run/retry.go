package run

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/database"
)

// How long a batch that the database took back is tried again: others write to the same rows, on
// this server or on another node of its cluster.
const (
	firstPause   = 20 * time.Millisecond
	longestPause = 2 * time.Second
	patienceTime = 5 * time.Minute // without any batch that got through
)

// patience waits between attempts, a little longer each time.
type patience struct {
	pause time.Duration
	since time.Time // of the first failure in a row
}

// wait waits, and reports whether to try again. err is what the last attempt came to.
func (p *patience) wait(ctx context.Context, err error) bool {
	if !errors.Is(err, database.ErrAgain) || ctx.Err() != nil {
		return false
	}
	if p.since.IsZero() {
		p.pause, p.since = firstPause, time.Now()
	}
	if time.Since(p.since) > patienceTime {
		return false
	}
	select {
	case <-time.After(p.pause/2 + rand.N(p.pause)): // so that two that got in each other's way do not meet again
	case <-ctx.Done():
		return false
	}
	p.pause = min(2*p.pause, longestPause)
	return true
}

// step is how many cells a batch has at the most. It shrinks where a batch is taken back, and
// grows again where batches get through.
type step struct{ now, most int }

func (s *step) shrink(tried int) { s.now = max(1, tried/2) }
func (s *step) grow()            { s.now = min(s.most, 2*s.now) }

// until returns how many of n things make the next batch, so that it does not end between two that
// belong together.
func (s *step) until(n int, together func(i int) bool) int {
	end := min(n, s.now)
	for end < n && together(end) {
		end++
	}
	return end
}

// through carries out cells of the sheet. Where the database takes a batch back because of what
// others write, it is tried again, in smaller parts. open is the block of the journal that holds the
// cells already, or nil.
func (a *applying) through(cells []*change.Cell, open []change.Record) error {
	var p patience
	for len(cells) > 0 {
		a.open = open
		n := a.step.until(len(cells), func(i int) bool {
			return cells[i].Table == cells[i-1].Table && change.RowID(cells[i].Key) == change.RowID(cells[i-1].Key)
		})
		tried, err := a.attempt(cells[:n])
		lost := a.took()
		if err == nil {
			cells, p = cells[n:], patience{}
			a.step.grow()
			continue
		}
		failed := cells[:n]
		if lost != nil {
			failed = lost.cells
		}
		if a.narrowed(err, failed) {
			p = patience{}
		} else if !p.wait(a.ctx, err) {
			return err
		} else {
			a.job.Progress.At("waiting for others who write to the same rows", int64(a.out.Changed), int64(a.out.Planned))
		}
		a.step.shrink(len(failed))
		if lost == nil {
			continue // nothing of it is in the journal, or all of it is in an open block
		}
		if err := a.through(lost.cells, lost.written); err != nil {
			return err
		}
		if lost == tried {
			cells = cells[n:]
		}
	}
	a.open = nil
	return nil
}

// narrowed reports whether a batch was lost because of one of its rows. Smaller batches tell which; where it is one row, its
// cells are left from now on.
func (a *applying) narrowed(err error, cells []*change.Cell) bool {
	if !errors.Is(err, database.ErrWhole) || a.ctx.Err() != nil {
		return false
	}
	for _, c := range cells[1:] {
		if c.Table != cells[0].Table || change.RowID(c.Key) != change.RowID(cells[0].Key) {
			return true
		}
	}
	for _, c := range cells {
		a.doubts.add(c.Table, change.Bytes(c.Key), c.Column, refusal(err))
	}
	return true
}

// refusal is what the database said, without our own words around it.
func refusal(err error) string {
	words := err.Error()
	if at := strings.Index(words, database.ErrRefused.Error()); at >= 0 {
		return words[at:]
	}
	return words
}

// took returns the batch that the database took back last; nil where its block is in the journal as that of an
// earlier attempt, whose cells are tried again as they are.
func (a *applying) took() *flushing {
	if f, _ := a.taken().(*flushing); f != nil && !f.again {
		return f
	}
	return nil
}

// settled waits for the batch that is being written, and sees to it that it gets through.
func (a *applying) settled() error {
	for p := (patience{}); ; {
		err := a.settle()
		lost := a.took()
		if lost == nil || !a.narrowed(err, lost.cells) && !p.wait(a.ctx, err) {
			return err
		}
		a.step.shrink(len(lost.cells))
		if err := a.through(lost.cells, lost.written); err != nil {
			return err
		}
	}
}

// through puts back records of one block, the last first; as in applying.
func (u *undoing) through(records []change.Record) error {
	var p patience
	for len(records) > 0 {
		k := len(records)
		n := u.step.until(k, func(i int) bool {
			x, y := records[k-i].Entry, records[k-i-1].Entry
			return x != nil && y != nil && x.Table == y.Table && change.RowID(x.Key) == change.RowID(y.Key)
		})
		tried, err := u.attempt(records[k-n:])
		lost, _ := u.taken().(*puttingBack)
		if err == nil {
			records, p = records[:k-n], patience{}
			u.step.grow()
			continue
		}
		failed := records[k-n:]
		if lost != nil {
			failed = lost.records
		}
		if u.narrowed(err, failed) {
			p = patience{}
		} else if !p.wait(u.ctx, err) {
			return err
		} else {
			u.job.Progress.At("waiting for others who write to the same rows", int64(u.out.Back), int64(u.total))
		}
		u.step.shrink(len(failed))
		if lost == nil {
			continue
		}
		if lost == tried { // it was written by itself: the same once more, smaller
			continue
		}
		if err := u.through(slices.Clone(lost.records)); err != nil {
			return err
		}
	}
	return nil
}

// narrowed is as in applying.
func (u *undoing) narrowed(err error, records []change.Record) bool {
	if !errors.Is(err, database.ErrWhole) || u.ctx.Err() != nil || records[0].Entry == nil {
		return false
	}
	one := records[0].Entry
	for _, r := range records {
		if e := r.Entry; e == nil || e.Table != one.Table || change.RowID(e.Key) != change.RowID(one.Key) {
			return len(records) > 1
		}
	}
	for _, r := range records {
		u.doubts.add(one.Table, change.Bytes(one.Key), r.Entry.Column, refusal(err))
	}
	return true
}

// settled is as in applying.
func (u *undoing) settled() error {
	for p := (patience{}); ; {
		err := u.settle()
		lost, _ := u.taken().(*puttingBack)
		if lost == nil || !u.narrowed(err, lost.records) && !p.wait(u.ctx, err) {
			return err
		}
		u.step.shrink(len(lost.records))
		if err := u.through(slices.Clone(lost.records)); err != nil {
			return err
		}
	}
}
