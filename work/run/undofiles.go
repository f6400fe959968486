package run

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
	"trimlantern/outside/files"
	"trimlantern/work"
)

// MaxRuleFile bounds a file that rules are put into.
const MaxRuleFile = 8 << 20

// undoFiles puts back the files of a journal; one that somebody changed since is
// left and named.
func undoFiles(ctx context.Context, j *work.Job, st *work.JournalState, blocks []change.Block, all change.Tally, in *work.SiteFiles) (*Undone, error) {
	out := &Undone{Site: j.Site.String(), Journal: st.ID, Tables: map[string]int{}}
	f, err := j.Book.OpenJournal(st.ID)
	if err != nil {
		return nil, work.Failed(err, "the journal cannot be read", "check the folder "+j.Book.Path())
	}
	defer f.Close()
	var back []*change.File
	for i := len(blocks) - 1; i >= 0; i-- {
		records, err := blocks[i].ReadAt(f)
		if err != nil {
			return nil, work.Failed(err, "the journal cannot be read", "keep the file")
		}
		for _, r := range records {
			if r.File == nil {
				continue
			}
			if err := undoFile(j, r.File, in, out); err != nil {
				return nil, err
			}
			back = append(back, r.File)
		}
	}
	out.finish(st, all)
	var reload []string
	for _, f := range back {
		if f.Reload != "" && !slices.Contains(reload, f.Reload) {
			reload = append(reload, f.Reload)
		}
	}
	journal, err := j.Book.ReopenJournal(st.ID, st.Read)
	if err == nil {
		defer journal.Close()
		err = journal.Append(change.Record{Mark: change.Undone, Time: j.Now().UTC().Format(time.RFC3339), Left: len(out.Left)})
	}
	if err != nil {
		return nil, work.Failed(err, "everything is put back, but the journal cannot be written", "free some disk space; then run the same command again")
	}
	for _, command := range reload {
		if err := work.Reload(ctx, command); err != nil {
			return nil, fmt.Errorf("the file is put back: %w", err)
		}
		out.Ran = append(out.Ran, command)
	}
	return out, nil
}

// undoFile puts back one file, in one of the given folders.
func undoFile(j *work.Job, e *change.File, in *work.SiteFiles, out *Undone) error {
	left := func(why string) error {
		out.Left = append(out.Left, change.Skip{Table: e.Path, Why: why})
		return nil
	}
	stateAs := func(missing bool, hash string) change.State {
		if missing {
			return change.Gone
		}
		return change.State{Hash: hash}
	}
	t := fileTask{path: e.Path, from: stateAs(e.After == "", e.After), to: stateAs(e.Missing, change.Hash(e.Before)), most: max(files.MaxSize, MaxRuleFile),
		content: func([]byte) ([]byte, error) { return e.Before, nil },
		looks: func(fs.FileInfo) disk.Looks {
			when, _ := time.Parse(time.RFC3339Nano, e.Time) // none: now
			return disk.Looks{Mode: fs.FileMode(e.Mode), Time: when}
		}}
	fate, _, fault := t.carryOut(in)
	switch {
	case fault == nil && fate == change.Done:
		out.Already++
		out.tally.File(e)
		return nil
	case fault == nil && fate == change.Other:
		return left("changed by somebody since")
	case fault == nil:
		out.Files = append(out.Files, e.Path)
		out.tally.File(e)
		return nil
	case fault.at == findingFile && errors.Is(fault.err, work.ErrUndeclared):
		return left("the site file names no folder that holds it; if it is the site's, run undo with --file " + e.Path)
	case fault.at == findingFile && errors.Is(fault.err, fs.ErrNotExist):
		return left("its folder is gone")
	case fault.at == findingFile:
		return work.Failed(fault.err, "the folder of "+e.Path+" cannot be opened", "make it readable; then run the same command again")
	case fault.at == readingFile && fault.isFiles():
		return left("changed by somebody since: " + fault.why())
	case fault.at == readingFile:
		return work.Failed(fault.err, "the file cannot be read", "make it readable; then run the same command again")
	case fault.isFiles():
		return left(fault.why())
	}
	return work.Failed(fault.err, "the file cannot be put back", "make its folder writable; then run the same command again")
}

// ownFolders are the folders in which undo may put back files: those of the site, of its
// configuration, and those of the files that the user names.
func ownFolders(j *work.Job, named []string) (*work.SiteFiles, error) {
	s := j.DeclaredFiles()
	s.Folders = append(s.Folders, filepath.Clean(j.File.Dir))
	if c := j.File.Configuration(); c != "" {
		s.Folders = append(s.Folders, filepath.Dir(c))
	}
	for _, file := range named {
		path, err := filepath.Abs(file)
		if err != nil {
			return nil, work.Failed(err, "cannot determine the current folder", "change to a folder that exists")
		}
		s.Single = append(s.Single, path)
	}
	return s, nil
}
