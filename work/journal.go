package work

import (
	"errors"
	"fmt"

	"trimlantern/core/change"
)

// JournalState is what a journal says of its run.
type JournalState struct {
	ID      string
	Header  change.JournalHeader
	End     int64 // where the last whole block ends
	Blocks  int
	Cells   int // entries
	Skips   int
	Tables  map[string]int
	Partly  []string        // tables that were put back by themselves
	Dropped int             // cached rows removed
	Files   map[string]bool // changed, by their absolute paths
	Mark    change.Mark     // the last milestone but Committed, or ""
	Time    string          // of the mark
	Left    int
}

// ReadState reads a journal; visit, where not nil, sees each block.
func (j *Job) ReadState(id string, visit func(change.Block) error) (*JournalState, error) {
	st := &JournalState{ID: id, Tables: map[string]int{}}
	end, err := j.Book.ReadJournal(id, func(b change.Block) error {
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
			case r.Mark == change.Finished || r.Mark == change.Undone:
				st.Mark, st.Time, st.Left = r.Mark, r.Time, r.Left
			case r.Mark == change.Partly:
				st.Partly, st.Left = append(st.Partly, r.Tables...), r.Left
			}
		}
		if visit != nil {
			return visit(b)
		}
		return nil
	})
	st.End = end
	if err != nil && !errors.Is(err, change.ErrTorn) {
		return st, fmt.Errorf("journal %s: %w", id, err)
	}
	return st, nil
}

// Glance reads of a journal only its header and what stands behind its last
// cells, so that old runs cost nothing. It returns nil where that does not tell.
func (j *Job) Glance(id string) *JournalState {
	f, err := j.Book.OpenJournal(id)
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil
	}
	blocks, whole := change.Outline(f, info.Size())
	if !whole || len(blocks) == 0 {
		return nil
	}
	first, err := blocks[0].ReadAt(f)
	if err != nil || len(first) == 0 || first[0].Header == nil {
		return nil
	}
	st := &JournalState{ID: id, Header: *first[0].Header, End: info.Size(), Blocks: len(blocks)}
	for i := len(blocks) - 1; i >= 0 && st.Mark == ""; i-- {
		records, err := blocks[i].ReadAt(f)
		if err != nil || CountCells(records) > 0 {
			return nil
		}
		for _, r := range records {
			if r.Mark == change.Finished || r.Mark == change.Undone {
				st.Mark, st.Time = r.Mark, r.Time
			}
		}
	}
	return st
}

// CountCells returns how many of the records are about cells.
func CountCells(records []change.Record) int {
	n := 0
	for _, r := range records {
		if r.Entry != nil || r.Skip != nil || r.Dropped != nil {
			n++
		}
	}
	return n
}
