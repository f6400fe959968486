package redirect

import (
	"bytes"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
	"trimlantern/outside/logbook"
	"trimlantern/work"
)

// filePlace is a file in its folder.
type filePlace struct {
	path string // absolute, links followed
	tree *disk.Tree
	name string // in tree
}

// placeOf opens the folder of a file that the user names. A link stays a link: what it leads to is
// the file.
func placeOf(file string) (*filePlace, error) {
	path, err := filepath.Abs(file)
	if err != nil {
		return nil, work.Failed(err, "cannot determine the current folder", "change to a folder that exists")
	}
	if path, err = disk.Followed(path); err != nil {
		return nil, work.Failed(err, "the file cannot be used", "name the file itself, not a link to it")
	}
	tree, err := disk.OpenTree(filepath.Dir(path))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, work.BadUse(nil, "there is no folder "+filepath.Dir(file), "name the file that the server reads")
	}
	if err != nil {
		return nil, work.Failed(err, "the folder of the file cannot be opened", "make the folder; nothing was changed")
	}
	return &filePlace{path, tree, filepath.Base(path)}, nil
}

// ruleChange is a change of one file with its journal. Until the journal is ended the change is not confirmed: whoever
// comes after a run that was killed puts it back.
type ruleChange struct {
	job     *work.Job
	file    *ruleFile
	entry   *change.File
	after   []byte
	id      string // of the journal
	journal *logbook.Journal
}

// planChange writes the old content of a file into a journal of its own. reload is the command that makes the server read
// the file. Where nothing is left in a file that a run of ours made, it is to go.
func planChange(j *work.Job, f *ruleFile, after []byte, reload string) (*ruleChange, error) {
	entry := &change.File{Path: f.path, Before: f.before, Missing: f.info == nil, After: change.Hash(after), Mode: 0o644, Reload: reload}
	if len(after) == 0 && made(j, f.path) {
		entry.After = ""
	}
	if f.info != nil {
		entry.Mode, entry.Time = uint32(f.info.Mode().Perm()), f.info.ModTime().UTC().Format(time.RFC3339Nano)
	}
	id := j.RunID()
	journal, err := j.Book.CreateJournal(change.JournalHeader{Tool: work.Tool, ID: id, Time: j.Now().UTC().Format(time.RFC3339), Site: j.Site.String(), Folder: j.File.Dir})
	if err != nil {
		return nil, work.Failed(err, "the journal cannot be written", "free some disk space and make the logbook writable; nothing was changed")
	}
	c := &ruleChange{j, f, entry, after, id, journal}
	if err := journal.Append(change.Record{File: entry}); err != nil {
		c.close()
		return nil, work.Failed(err, "the journal cannot be written", "free some disk space; nothing was changed")
	}
	return c, nil
}

func (c *ruleChange) close() { c.journal.Close() }

// write changes the file, unless somebody else did meanwhile.
func (c *ruleChange) write() (err error) {
	same := func(now []byte) bool { return bytes.Equal(now, c.file.before) }
	if c.entry.After == "" {
		err = c.file.tree.RemoveIf(c.file.name, same)
	} else {
		err = c.file.tree.Write(c.file.name, c.after, disk.Looks{Mode: fs.FileMode(c.entry.Mode), Was: same})
	}
	if err != nil {
		_ = c.journal.Append(change.Record{Mark: change.Undone, Time: c.job.Now().UTC().Format(time.RFC3339)}) // the file says it too
	}
	if errors.Is(err, disk.ErrMeanwhile) {
		return work.Failed(err, "somebody changed "+c.file.path+" meanwhile; it is left as it is now", "look at it, then run the same command again")
	}
	if err != nil {
		return work.Failed(err, "the file cannot be written", "make its folder writable, or run the command as the file's owner; it was not changed")
	}
	return nil
}

// confirm ends the journal: the change stays.
func (c *ruleChange) confirm() error {
	err := c.journal.Append(change.Record{Mark: change.Finished, Time: c.job.Now().UTC().Format(time.RFC3339)})
	if err == nil {
		err = c.journal.Seal()
	}
	if err != nil {
		return work.Failed(err, "the file is changed, but the journal cannot be ended", "free some disk space; trimlantern undo takes the change back")
	}
	return nil
}

// undone notes in the journal that the file is as it was.
func (c *ruleChange) undone() error {
	err := c.journal.Append(change.Record{Mark: change.Undone, Time: c.job.Now().UTC().Format(time.RFC3339)})
	if err != nil {
		return work.Failed(err, "the file is put back, but the journal cannot be written", "free some disk space")
	}
	return nil
}

// changeFile changes a file at once. It returns the journal's name.
func changeFile(j *work.Job, f *ruleFile, after []byte, reload string) (string, error) {
	c, err := planChange(j, f, after, reload)
	if err != nil {
		return "", err
	}
	defer c.close()
	if err := c.write(); err != nil {
		return "", err
	}
	return c.id, c.confirm()
}

// made reports whether a file was made by a run of ours: the newest journal that names it says that there was
// none before.
func made(j *work.Job, path string) bool {
	ids, err := j.Book.Journals()
	if err != nil {
		return false // it stays, empty
	}
	for _, id := range slices.Backward(ids) {
		named, missing := false, false
		_, err := j.Book.ReadJournal(id, func(b change.Block) error {
			for _, r := range b.Records {
				if r.File != nil && r.File.Path == path {
					named, missing = true, r.File.Missing
				}
			}
			return nil
		})
		if err == nil && named {
			return missing
		}
	}
	return false
}
