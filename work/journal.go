package work

import (
	"errors"
	"fmt"
	"os"

	"trimlantern/core/change"
	"trimlantern/outside/logbook"
)

// JournalState is what a journal says of its run.
type JournalState struct {
	ID      string
	Header  change.JournalHeader
	Read    logbook.Read // how far it is verified, and what is in it
	Blocks  int
	Cells   int // entries
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
	read, err := j.Book.ReadJournal(id, func(b change.Block) error {
		st.Blocks++
		for _, r := range b.Records {
			switch {
			case r.Header != nil:
				st.Header = *r.Header
			case r.Entry != nil:
				st.Cells++
				st.Tables[r.Entry.Table]++
			case r.Refused != nil:
				st.Cells--
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
	st.Read = read
	if err != nil && !errors.Is(err, change.ErrTorn) {
		return st, fmt.Errorf("journal %s: %w", id, err)
	}
	return st, nil
}

// JournalFault says in a user's words why a journal cannot be used.
func JournalFault(id string, err error) error {
	if damaged := (*change.Damaged)(nil); errors.As(err, &damaged) || errors.Is(err, logbook.ErrDamaged) {
		return BadUse(err, "nothing was changed", "put the logbook back from a backup; or make a copy of all that can be read: trimlantern history --repair "+id)
	}
	return BadUse(err, "nothing was changed", "keep the file; move it out of the logbook if its run is settled")
}

// Bound refuses a journal of a site in another folder that is still there: then this one is a copy, whose logbook says
// what was done to the original.
func (j *Job) Bound(st *JournalState) error {
	of := st.Header.Folder
	if of == "" || of == j.File.Dir {
		return nil
	}
	was, err := os.Stat(of)
	if err != nil {
		return nil // it was moved here
	}
	if here, err := os.Stat(j.File.Dir); err == nil && os.SameFile(was, here) {
		return nil
	}
	return BadUse(nil, fmt.Sprintf("the journal %s is of the site in %s; this folder, %s, is a copy", st.ID, of, j.File.Dir),
		"run the command there: cd "+of+"; if the site was moved here, give that folder another name first")
}

// Glance reads of a journal only its header and what comes after its last
// cells, so that old runs cost nothing. It returns nil where that does not tell.
func (j *Job) Glance(id string) *JournalState {
	f, blocks, ok := j.Book.Glance(id)
	if !ok {
		return nil
	}
	defer f.Close()
	first, err := blocks[0].ReadAt(f)
	if err != nil || len(first) == 0 || first[0].Header == nil {
		return nil
	}
	st := &JournalState{ID: id, Header: *first[0].Header, Blocks: len(blocks)}
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
