package work

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"
)

// Trial is a change that visitors see and that was not found good yet. It is kept in the logbook while it lasts, so that
// whoever comes after a run that died knows what to put back: the run's guard within a moment, or else the next command
// of any kind.
type Trial struct {
	Journal string    `json:"journal,omitempty"` // of a change of a server's file
	File    string    `json:"file,omitempty"`    // that file; absolute
	Host    string    `json:"host,omitempty"`    // whose certificate is replaced
	Folder  string    `json:"folder,omitempty"`  // where its certificates are kept; absolute
	After   string    `json:"after,omitempty"`   // the command that makes the server read them
	Begun   time.Time `json:"begun"`
	Until   time.Time `json:"until"` // then it is put back, whatever the run does
}

// TrialTime is how long a run may take to find a change good.
const TrialTime = 10 * time.Minute

const trialFile = "unconfirmed.json"

// Trying is a trial that is going on.
type Trying struct {
	Note    string // why nothing guards it; "": something does
	job     *Job
	dismiss func()
}

// Begin keeps a trial in the logbook, through to the disk, and starts what guards it.
func (j *Job) Begin(ctx context.Context, t Trial) (*Trying, error) {
	t.Begun = j.Now().UTC()
	t.Until = t.Begun.Add(TrialTime)
	if err := j.Book.WriteJSON(trialFile, t); err != nil {
		return nil, Failed(err, "the logbook cannot be written", "free some disk space; nothing was changed")
	}
	out := &Trying{job: j, dismiss: func() {}}
	if j.Guard == nil {
		return out, nil
	}
	dismiss, err := j.Guard(ctx, t.Until)
	if err != nil {
		out.Note = fmt.Sprintf("no process of its own guards this (%v): if this one dies, the next command puts the change back", err)
		return out, nil
	}
	out.dismiss = dismiss
	return out, nil
}

// End ends a trial, kept or put back: its journal says which.
func (t *Trying) End() error {
	defer t.dismiss()
	if err := t.job.ForgetTrial(); err != nil {
		return Failed(err, "the logbook cannot be written", "make the folder "+t.job.Book.Path()+" writable")
	}
	return nil
}

// Leave ends the guard alone: whoever comes next puts the change back.
func (t *Trying) Leave() { t.dismiss() }

// Trial returns the trial that the logbook keeps; nil where there is none.
func (j *Job) Trial() (*Trial, error) {
	if j.Book == nil {
		return nil, nil
	}
	if _, err := os.Lstat(filepath.Join(j.Book.Path(), trialFile)); err != nil {
		return nil, nil // the usual case
	}
	var t Trial
	if err := j.Book.ReadJSON(trialFile, &t); err != nil || t.Begun.IsZero() {
		return nil, err
	}
	return &t, nil
}

// ForgetTrial removes it from the logbook.
func (j *Job) ForgetTrial() error {
	err := os.Remove(filepath.Join(j.Book.Path(), trialFile))
	if os.IsNotExist(err) {
		return nil
	}
	return err
}
