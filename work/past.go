package work

import (
	"encoding/json"
	"net/url"
	"slices"
	"strings"
	"time"

	"trimlantern/core/change"
	"trimlantern/report/words"
)

// Fresh is how long evidence counts: certificates run out, servers are set up anew, editors paste http://.
const Fresh = 30 * 24 * time.Hour

// Runs returns what every apply of this site came to, the oldest first.
func (j *Job) Runs() (runs []*JournalState, err error) {
	ids, err := j.Book.Journals()
	if err != nil {
		return nil, BookFault(err)
	}
	for _, id := range ids {
		st, err := j.ReadState(id, nil)
		if err != nil {
			return nil, BookFault(err)
		}
		if st.Blocks > 0 && st.Header.Sheet != "" && (st.Header.Site == "" || st.Header.Site == j.Site.String()) {
			runs = append(runs, st)
		}
	}
	return runs, nil
}

// LastOf returns when the last of the runs changed something; the zero time where none did.
func LastOf(runs []*JournalState) (last time.Time) {
	for _, r := range runs {
		if when, err := time.Parse(time.RFC3339, max(r.Time, r.Header.Time)); err == nil && when.After(last) {
			last = when
		}
	}
	return last
}

// LastChange returns when the site's content was changed last, as far as the logbook knows.
func (j *Job) LastChange() (time.Time, error) {
	runs, err := j.Runs()
	last := LastOf(runs)
	if err == nil && j.IsDump() {
		made := struct { // of the newest dump or patch that was written
			Time string `json:"time"`
		}{}
		if err := j.Book.ReadJSON(DumpRecord, &made); err != nil {
			return last, BookFault(err)
		}
		if when, err := time.Parse(time.RFC3339, made.Time); err == nil && when.After(last) {
			last = when
		}
	}
	return last, err
}

// Days writes a duration in whole days.
func Days(d time.Duration) string { return words.Count(int(d.Hours()/24), "day") }

// RulesChanged returns when redirect install, remove or undo changed a file last.
func (j *Job) RulesChanged() (last time.Time, err error) {
	ids, err := j.Book.Journals()
	if err != nil {
		return last, BookFault(err)
	}
	for _, id := range ids {
		st, err := j.ReadState(id, nil)
		if err != nil {
			return last, BookFault(err)
		}
		if when, err := time.Parse(time.RFC3339, max(st.Time, st.Header.Time)); err == nil && st.Header.Sheet == "" && len(st.Files) > 0 && when.After(last) {
			last = when
		}
	}
	return last, nil
}

// LastSheet reads header and summary of the newest sheet; end is nil where it is
// broken.
func (j *Job) LastSheet() (id string, h change.Header, end *change.Summary, err error) {
	ids, err := j.Book.Sheets()
	if err != nil {
		return "", h, nil, BookFault(err)
	}
	if len(ids) == 0 {
		return "", h, nil, nil
	}
	id = ids[len(ids)-1]
	h, end, err = j.ReadSheet(id)
	return id, h, end, err
}

// LastSheetOf is lastSheet for sheets of one kind; broken ones do not count.
func (j *Job) LastSheetOf(kind string) (id string, h change.Header, end *change.Summary, err error) {
	ids, err := j.Book.Sheets()
	if err != nil {
		return "", h, nil, BookFault(err)
	}
	for _, id := range slices.Backward(ids) {
		h, end, err := j.ReadSheet(id)
		if err != nil {
			return "", h, nil, err
		}
		if end != nil && h.Kind == kind {
			return id, h, end, nil
		}
	}
	return "", h, nil, nil
}

// ReadSheet reads header and summary of a sheet; end is nil where it is broken.
func (j *Job) ReadSheet(id string) (h change.Header, end *change.Summary, err error) {
	f, err := j.Book.OpenSheet(id)
	if err != nil {
		return h, nil, BookFault(err)
	}
	defer f.Close()
	r, err := change.NewReader(f)
	if err != nil {
		return h, nil, nil // broken: the caller says so
	}
	defer r.Close()
	if r.Each(change.Visit{}) != nil {
		return r.Header, nil, nil
	}
	return r.Header, r.End, nil
}

// PastEntry is one run that left something behind.
type PastEntry struct {
	ID     string   `json:"id"`
	Run    string   `json:"run"` // "preview", "mend", "apply", "redirect", "scan"; "write" and "patch" of a dump; "backup", "certificate" or "revoke"
	State  string   `json:"state"`
	Cells  int      `json:"cells"`
	Of     string   `json:"of,omitempty"`     // apply: the sheet that was carried out
	Tables []string `json:"tables,omitempty"` // apply: whose cells changed
}

// Note keeps a run in the logbook that leaves nothing else there.
func (j *Job) Note(run, state string, cells int) error {
	if j.Book == nil {
		return nil
	}
	if err := j.Book.Note(PastEntry{ID: j.RunID(), Run: run, State: state, Cells: cells}); err != nil {
		return Failed(err, "it is done, but cannot be recorded in the logbook", "make the folder of the site file writable")
	}
	return nil
}

// CertificateChanged returns when a certificate of the site was last obtained or revoked by this program; zero: never.
// What was seen of certificates before that is no evidence any more.
func (j *Job) CertificateChanged() (last time.Time, err error) {
	if j.Book == nil {
		return last, nil
	}
	err = j.Book.Notes(func(line []byte) {
		var e PastEntry
		if json.Unmarshal(line, &e) != nil || e.Run != "certificate" && e.Run != "revoke" {
			return
		}
		if k := strings.LastIndexByte(e.ID, '-'); k > 0 {
			if t, err := time.Parse(runForm, e.ID[:k]+"."+e.ID[k+1:]); err == nil && t.After(last) {
				last = t
			}
		}
	})
	if err != nil {
		return last, BookFault(err)
	}
	return last, nil
}

// DumpRecord is where the logbook keeps what was last made of a dump.
const DumpRecord = "dump.json"

// HostOf returns the host of a URL, with its port; "" where it is none.
func HostOf(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return ""
	}
	return u.Host
}
