package status

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/logbook"
	"trimlantern/work"
	"trimlantern/work/backup"
)

// Check is a verified logbook: what of it is as it was written.
type Check struct {
	Site    string      `json:"site"`
	Path    string      `json:"path"`    // of the logbook
	Sound   int         `json:"sound"`   // files whose every byte is as it was written
	Older   int         `json:"older"`   // files without checksums, of an earlier version: they can be read
	Torn    int         `json:"torn"`    // journals whose last block an interrupted run did not write to its end
	Skipped []string    `json:"skipped"` // files that have no checksum
	Damaged []BadRecord `json:"damaged"`
	Edited  []string    `json:"edited"` // lines of the site file that were changed outside of this program
}

// BadRecord is a file that is not as it was written.
type BadRecord struct {
	Name    string `json:"name"`
	Why     string `json:"why"`
	Journal string `json:"journal,omitempty"` // its ID, if it is a journal
}

// Code is the exit code of the check.
func (c *Check) Code() int {
	if len(c.Damaged) > 0 {
		return work.Remain
	}
	return work.Clean
}

// Checked verifies the whole logbook, the last backup and the site file.
func Checked(j *work.Job) (*Check, error) {
	out := &Check{Site: j.Site.String(), Path: j.Book.Path(), Skipped: []string{}, Damaged: []BadRecord{}, Edited: j.Edited}
	if out.Edited == nil {
		out.Edited = []string{}
	}
	defer j.Progress.End()
	bad := func(name string, err error) {
		id, isJournal := strings.CutSuffix(name, logbook.JournalName(""))
		record := BadRecord{Name: name, Why: shortly(err)}
		if isJournal {
			record.Journal = id
		}
		out.Damaged = append(out.Damaged, record)
	}
	err := j.Book.Check(func(c logbook.Checked) {
		j.Progress.At("checking "+c.Name, 0, 0)
		switch c.State {
		case logbook.Sound:
			out.Sound++
		case logbook.Older:
			out.Older++
		case logbook.Torn:
			out.Torn++
		case logbook.Unchecked:
			out.Skipped = append(out.Skipped, c.Name)
		default:
			bad(c.Name, c.Err)
		}
	})
	if err != nil {
		return nil, work.BookFault(err)
	}
	last, err := backup.Last(j)
	if err != nil || last == nil {
		return out, nil // a broken record is among the damaged
	}
	older, err := backup.Verify(last, func(name string) { j.Progress.At("checking "+name, 0, 0) })
	switch {
	case errors.Is(err, os.ErrNotExist):
		bad(last.Folder, errors.New("the last backup is not there any more"))
	case err != nil:
		bad(last.Folder, err)
	case older:
		out.Older++
	default:
		out.Sound++
	}
	return out, nil
}

// shortly is the cause of an error without the names around it.
func shortly(err error) string {
	var damaged *change.Damaged
	switch {
	case errors.As(err, &damaged):
		return strings.TrimPrefix(damaged.Error(), "is ")
	case errors.Is(err, logbook.ErrDamaged):
		return logbook.ErrDamaged.Error()
	}
	return err.Error()
}

// Repair is a new journal of all that can be read of a damaged one.
type Repair struct {
	Site    string `json:"site"`
	Damaged string `json:"damaged"` // the ID of the journal, which stays as it is
	Journal string `json:"journal"` // the new one
	Cells   int    `json:"cells"`   // in the new one
	Files   int    `json:"files"`
	Lost    int64  `json:"lost"` // bytes of the damaged one that could not be read
}

// Code is the exit code of the repair.
func (*Repair) Code() int { return work.Clean }

// Repaired makes a new journal of what can be read of the damaged one called id.
func Repaired(j *work.Job, id string) (*Repair, error) {
	release, err := j.Book.Lock("history --repair")
	if err != nil {
		return nil, work.LockFault(err)
	}
	defer release()
	_, err = os.Stat(j.Book.JournalPath(id))
	if err != nil {
		return nil, work.BadUse(nil, "no journal is called "+id, "trimlantern history lists them")
	}
	if _, err := j.ReadState(id, nil); err == nil {
		return nil, work.BadUse(nil, "the journal "+id+" is not damaged", "use it as it is: trimlantern undo "+id)
	}
	header := change.JournalHeader{Tool: work.Tool, ID: j.RunID(), Time: j.Now().UTC().Format(time.RFC3339), Site: j.Site.String(), Sheet: id, Folder: j.File.Dir}
	counts, lost, err := j.Book.Salvage(id, header)
	if err != nil {
		return nil, work.Failed(err, "nothing of the journal "+id+" can be read", "put the logbook back from a backup")
	}
	if err := j.Book.SetAside(id); err != nil {
		return nil, work.Failed(err, "the copy is made, but the damaged journal cannot be set aside", "move "+filepath.Join(j.Book.Path(), logbook.JournalName(id))+" to another folder")
	}
	return &Repair{Site: j.Site.String(), Damaged: id, Journal: header.ID, Cells: counts.Cells, Files: counts.Files, Lost: lost}, nil
}
