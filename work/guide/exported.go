package guide

import (
	"path/filepath"
	"strings"
	"time"

	"trimlantern/work"
	"trimlantern/work/dumps"
	"trimlantern/work/findings"
	"trimlantern/work/preview"
)

// Exported says that a site is known by an exported database, which is its backup.
type Exported struct {
	File string `json:"file"`
}

// Loaded says that the pages are clean since a dump or a patch was written, as they are once it is loaded.
type Loaded struct{ Made *dumps.Applied }

// largestPatch is the largest file of a patch: what the forms of most panels take.
const largestPatch = 2 << 20

// written asks whether what an earlier run wrote is loaded by now. done: the walk goes on behind the change.
func (w *walk) written() (done bool, err error) {
	last, err := dumps.Last(w.job)
	if err != nil || last == nil {
		return false, err
	}
	scan, err := findings.Weightiest(w.job)
	if err != nil {
		return false, err
	}
	if made, err := time.Parse(time.RFC3339, last.Time); err == nil && scan != nil && scan.Proven() && scan.Time.After(made) {
		w.loaded = true
		w.person.Tell(Loaded{last})
		return true, nil
	}
	answer, err := w.ask(Question{ID: "loaded", About: last, Choices: []string{"yes", "no", "again"}, Default: "no"})
	if err != nil {
		return false, err
	}
	switch answer {
	case "yes":
		w.loaded = true
		return true, nil
	case "no":
		w.person.Tell(last)
		return false, ErrStop
	}
	return false, nil
}

// write makes a new dump or a patch, which the person then loads into the database.
func (w *walk) write(p *preview.Result) error {
	how, err := w.ask(Question{ID: "write", About: p, Choices: []string{"patch", "dump", "stop"}, Default: "patch"})
	if err != nil {
		return err
	}
	if how == "stop" {
		return ErrStop
	}
	usual := besideExport(w.job, how)
	file, err := w.ask(Question{ID: "write-to", About: usual, Key: how})
	if err != nil {
		return err
	}
	if file == "" {
		file = usual
	}
	o := dumps.ApplyOptions{Largest: largestPatch}
	if how == "patch" {
		o.Patch = file
	} else {
		o.Write = file
	}
	made, err := dumps.Apply(w.ctx, w.job, o)
	if err != nil {
		return err
	}
	w.person.Tell(made)
	_, err = w.written()
	return err
}

// besideExport names what is made of an export, beside it: museum.sql.gz becomes museum-https.sql.gz, and its patch
// museum-https-patch.sql.
func besideExport(j *work.Job, how string) string {
	dir, name := filepath.Split(j.File.Abs(j.File.Database.File))
	base, ending, _ := strings.Cut(name, ".")
	if how == "patch" {
		return dir + base + "-https-patch.sql"
	}
	return dir + base + "-https." + ending
}
