package work

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"trimlantern/core/sheet"
)

// CacheFolder is a folder of cached files as it stands.
type CacheFolder struct {
	Path  string `json:"path"`
	Files int    `json:"files"`
	Bytes int64  `json:"bytes"`
	Safe  bool   `json:"safe"` // apply --drop-caches empties it
}

// cacheFolders finds the folders of cached files that the layout names, where they
// hold anything.
func (j *Job) cacheFolders() ([]CacheFolder, error) {
	root := j.File.Dir
	if c := j.File.Database.Config; c != "" {
		root = filepath.Dir(j.File.Path(c))
	}
	var out []CacheFolder
	for _, d := range j.Layout.CacheFiles {
		f := CacheFolder{Path: filepath.Join(root, filepath.FromSlash(d.Path)), Safe: d.Safe}
		if info, err := os.Lstat(f.Path); err != nil || !info.IsDir() {
			continue // not there, or a link that leads who knows where
		}
		err := filepath.WalkDir(f.Path, func(_ string, e fs.DirEntry, err error) error {
			if err != nil || !e.Type().IsRegular() {
				return err
			}
			info, err := e.Info()
			if err != nil {
				return err
			}
			f.Files++
			f.Bytes += info.Size()
			return nil
		})
		if err != nil && !errors.Is(err, fs.ErrNotExist) { // it is in use, files come and go
			return nil, world(err, "the cached files cannot be looked at", "make "+f.Path+" readable")
		}
		if f.Files > 0 {
			out = append(out, f)
		}
	}
	return out, nil
}

// emptyCaches moves the files of safe folders into the logbook, each move into the
// journal first.
func (a *applying) emptyCaches() error {
	folders, err := a.job.cacheFolders()
	if err != nil {
		return err
	}
	for i, f := range folders {
		if !f.Safe {
			continue
		}
		m := &sheet.Moved{From: f.Path, To: filepath.Join(a.job.Book.Path(), fmt.Sprintf("%s.kept-%d", a.out.Journal, i))}
		for n := 1; ; n++ { // an interrupted run may have begun one
			if _, err := os.Lstat(m.To); errors.Is(err, fs.ErrNotExist) {
				break
			}
			m.To = filepath.Join(a.job.Book.Path(), fmt.Sprintf("%s.kept-%d-%d", a.out.Journal, i, n))
		}
		if err := a.journal.Append(sheet.Record{Moved: m}); err != nil {
			return journalFault(err, "apply")
		}
		if err := moveEntries(m.From, m.To); err != nil {
			return world(err, "the cached files cannot be moved away", "empty "+f.Path+" by hand, or run the command without --drop-caches; what was moved is in the journal")
		}
		a.out.Emptied = append(a.out.Emptied, f)
	}
	return nil
}

// moveEntries moves what a folder holds into another, which is made.
func moveEntries(from, to string) error {
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o700); err != nil {
		return err
	}
	for _, e := range entries {
		if err := os.Rename(filepath.Join(from, e.Name()), filepath.Join(to, e.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// moveBack puts back the files of a folder that was emptied; where the system has
// filled it again, its files stay.
func (u *undoing) moveBack(m *sheet.Moved) error {
	kept, err := os.ReadDir(m.To)
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(kept) == 0 {
		return nil // put back already, or thrown away
	}
	if err != nil {
		return world(err, "the cached files cannot be put back", "look at "+m.To)
	}
	if now, err := os.ReadDir(m.From); err == nil && len(now) > 0 {
		u.out.Left = append(u.out.Left, sheet.Skip{Table: m.From, Why: "the system has filled it anew"})
		return nil
	}
	if err := os.MkdirAll(m.From, 0o755); err != nil {
		return world(err, "the cached files cannot be put back", "make the folder above "+m.From+" writable")
	}
	for _, e := range kept {
		if err := os.Rename(filepath.Join(m.To, e.Name()), filepath.Join(m.From, e.Name())); err != nil {
			return world(err, "the cached files cannot be put back", "move them by hand from "+m.To)
		}
	}
	u.out.Folders = append(u.out.Folders, m.From)
	return nil
}
