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

// changeFile replaces one file, or removes it where nothing is left in it; its old content goes
// into a journal of its own first. It returns the journal's name. info is nil where there is no file.
func changeFile(j *work.Job, at *filePlace, before []byte, info fs.FileInfo, after []byte) (string, error) {
	entry := &change.File{Path: at.path, Before: before, Missing: info == nil, After: change.Hash(after), Mode: 0o644}
	gone := len(after) == 0 && made(j, at.path)
	if gone {
		entry.After = ""
	}
	if info != nil {
		entry.Mode, entry.Time = uint32(info.Mode().Perm()), info.ModTime().UTC().Format(time.RFC3339Nano)
	}
	id := j.RunID()
	journal, err := j.Book.CreateJournal(change.JournalHeader{Tool: work.Tool, ID: id, Time: j.Now().UTC().Format(time.RFC3339), Site: j.Site.String(), Folder: j.File.Dir})
	if err != nil {
		return "", work.Failed(err, "the journal cannot be written", "free some disk space and make the logbook writable; nothing was changed")
	}
	defer journal.Close()
	if err := journal.Append(change.Record{File: entry}); err != nil {
		return "", work.Failed(err, "the journal cannot be written", "free some disk space; nothing was changed")
	}
	same := func(now []byte) bool { return bytes.Equal(now, before) }
	if gone {
		err = at.tree.RemoveIf(at.name, same)
	} else {
		err = at.tree.Write(at.name, after, disk.Looks{Mode: fs.FileMode(entry.Mode), Was: same})
	}
	if errors.Is(err, disk.ErrMeanwhile) {
		return "", work.Failed(err, "somebody changed "+at.path+" meanwhile; it is left as it is now", "look at it, then run the same command again")
	}
	if err != nil {
		return "", work.Failed(err, "the file cannot be written", "make its folder writable, or run the command as the file's owner; it was not changed")
	}
	err = journal.Append(change.Record{Mark: change.Finished, Time: j.Now().UTC().Format(time.RFC3339)})
	if err == nil {
		err = journal.Seal()
	}
	if err != nil {
		return "", work.Failed(err, "the file is changed, but the journal cannot be ended", "free some disk space; trimlantern undo takes the change back")
	}
	return id, nil
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
