package status

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"trimlantern/core/change"
	"trimlantern/work"
	"trimlantern/work/findings"
	"trimlantern/work/preview"
)

// History is what the logbook holds, the oldest first.
type History struct {
	Site    string           `json:"site"`
	Path    string           `json:"path"` // of the logbook
	Entries []work.PastEntry `json:"entries"`
}

// Code is the exit code that history comes to.
func (*History) Code() int { return work.Clean }

// Past lists the logbook. What cannot be read is listed as broken.
func Past(j *work.Job) (*History, error) {
	h := &History{Site: j.Site.String(), Path: j.Book.Path()}
	sheets, err := j.Book.Sheets()
	if err != nil {
		return nil, work.BookFault(err)
	}
	for _, id := range sheets {
		header, end, err := j.ReadSheet(id)
		e := work.PastEntry{ID: id, Run: "preview", State: "sheet written"}
		switch {
		case err != nil:
			return nil, err
		case end == nil:
			e.State = "broken: make a new one"
		default:
			e.Cells = end.Cells
		}
		if header.Kind == preview.Lengths {
			e.Run = "mend"
		}
		h.Entries = append(h.Entries, e)
	}
	if err := pastRuns(j, h); err != nil {
		return nil, work.BookFault(err)
	}
	// Names begin with the time; a run that left two things behind keeps their order.
	slices.SortStableFunc(h.Entries, func(a, b work.PastEntry) int { return strings.Compare(a.ID, b.ID) })
	return h, nil
}

// pastRuns adds what stands in journals, scans and the diary.
func pastRuns(j *work.Job, h *History) error {
	journals, err := j.Book.Journals()
	if err != nil {
		return err
	}
	for _, id := range journals {
		st, err := j.ReadState(id, nil)
		e := work.PastEntry{ID: id, Run: "apply", Of: st.Header.Sheet, Cells: st.Cells, Tables: slices.Sorted(maps.Keys(st.Tables))}
		if st.Header.Sheet == "" && err == nil {
			e.Run = "redirect"
		}
		switch {
		case err != nil:
			e.State = "broken: keep the file"
		case st.Mark == change.Finished && len(st.Partly) > 0:
			e.State = "finished; partly undone"
		case st.Mark == change.Finished:
			e.State = "finished"
		case st.Mark == change.Undone && st.Left > 0:
			e.State = fmt.Sprintf("undone, %d cells left", st.Left)
		case st.Mark == change.Undone:
			e.State = "undone"
		default:
			e.State = "interrupted"
		}
		h.Entries = append(h.Entries, e)
	}
	scans, err := j.Book.Scans()
	if err != nil {
		return err
	}
	for _, id := range scans {
		s, err := findings.Read(j, id)
		e := work.PastEntry{ID: id, Run: "scan"}
		switch {
		case err != nil:
			e.State = "broken: remove the file"
		case s.Code() == work.Clean:
			e.State = "clean"
		default:
			found := 0
			for _, n := range s.Classes {
				found += n
			}
			e.State = fmt.Sprintf("%d findings, %d not read", found, len(s.Unread))
		}
		h.Entries = append(h.Entries, e)
	}
	return j.Book.Notes(func(line []byte) {
		var e work.PastEntry
		if json.Unmarshal(line, &e) == nil && e.ID != "" {
			h.Entries = append(h.Entries, e)
		}
	})
}
