// Package settle ends what a run left in the middle: a change that visitors see and that was not found good.
package settle

import (
	"context"
	"errors"
	"strings"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/logbook"
	"trimlantern/work"
	"trimlantern/work/cert"
	"trimlantern/work/run"
)

// Settled is a trial that ended now.
type Settled struct {
	work.Trial
	Back bool   // it was put back; else the run had confirmed it, or put it back itself
	Left string // why a file stays as it is; "": it does not
}

// reloadTime bounds the command that makes a server read its files.
const reloadTime = 2 * time.Minute

// Trial ends the trial of a site whose run died. It returns nil where there is none, or where the run is still at work.
func Trial(ctx context.Context, j *work.Job) (*Settled, error) {
	if t, err := j.Trial(); t == nil || err != nil {
		return nil, err
	}
	release, err := j.Book.Lock("settle")
	if errors.Is(err, logbook.ErrBusy) {
		return nil, nil
	}
	if err != nil {
		return nil, work.LockFault(err)
	}
	t, err := j.Trial() // which may have ended meanwhile
	release()
	if t == nil || err != nil {
		return nil, err
	}
	ctx, stop := context.WithTimeout(ctx, reloadTime)
	defer stop()
	out := &Settled{Trial: *t}
	switch {
	case t.Host != "":
		release, err := j.Book.Lock("settle")
		if err != nil {
			return nil, work.LockFault(err)
		}
		defer release()
		if out.Back, err = cert.PutBack(ctx, t); err != nil {
			return nil, err
		}
	case t.Journal != "":
		st, err := j.ReadState(t.Journal, nil)
		if err != nil {
			return nil, work.JournalFault(t.Journal, err)
		}
		if st.Mark == change.Finished || st.Mark == change.Undone || len(st.Files) == 0 {
			break
		}
		undone, err := run.Undo(ctx, j, run.UndoOptions{Journal: t.Journal, Files: []string{t.File}})
		if err != nil {
			return nil, err
		}
		out.Back = len(undone.Left) == 0
		var why []string
		for _, l := range undone.Left {
			why = append(why, l.Why)
		}
		out.Left = strings.Join(why, "; ")
	}
	return out, j.ForgetTrial()
}
