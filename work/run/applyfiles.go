package run

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
	"trimlantern/outside/files"
	"trimlantern/work"
	"trimlantern/work/preview"
)

// source carries out the change of one file. The same file met twice, after a crash, is told by its hash.
func (a *applying) source(s *change.Source) error {
	file := a.job.File.Abs(filepath.FromSlash(s.Path))
	skip := func(why string) error {
		a.out.Skipped = append(a.out.Skipped, change.Skip{Table: s.Path, Why: why})
		return nil
	}
	if a.ctx.Err() != nil {
		return work.Failed(nil, "interrupted: each file that was changed is in the journal", "continue with the same command: trimlantern apply; or take it back: trimlantern undo")
	}
	a.job.Progress.At("changing files", int64(len(a.out.Files)), 0)
	t := fileTask{path: file, from: change.State{Hash: s.Before}, to: change.State{Hash: s.After}, most: files.MaxSize, content: s.Apply,
		// Its time is that of the change: caches of code and of pages go by it.
		looks: func(info fs.FileInfo) disk.Looks { return disk.Looks{Mode: info.Mode()} },
		ahead: func(now []byte, info fs.FileInfo) error {
			if info.Mode()&0o222 == 0 {
				return errReadOnly
			}
			return a.aheadOfFile(&change.File{Path: file, Before: now, After: s.After, Mode: uint32(info.Mode().Perm()), Time: info.ModTime().UTC().Format(time.RFC3339Nano)})
		}}
	fate, is, fault := t.carryOut(a.files)
	switch {
	case fault == nil && fate == change.Other && is.Missing:
		return skip("the file is gone")
	case fault == nil && (fate == change.Other || fate == change.Done && !a.changed[file]):
		return skip(changedSince)
	case fault == nil:
		a.out.Files = append(a.out.Files, s.Path)
		a.out.Refs += s.References
		return nil
	case fault.at == findingFile && errors.Is(fault.err, work.ErrUndeclared):
		return work.BadUse(nil, "the change sheet names "+s.Path+", which is in none of the folders under files in the site file", "make a new one: trimlantern preview")
	case fault.at == findingFile && errors.Is(fault.err, fs.ErrNotExist):
		return skip("the file is gone")
	case fault.at == findingFile:
		return work.Failed(fault.err, "the folder of "+s.Path+" cannot be opened", "make it readable, then run the same command again")
	case fault.at == editingFile:
		return work.BadUse(fault.err, "the change sheet "+a.out.Sheet, "make a new one: trimlantern preview")
	case fault.at == readingFile || fault.isFiles():
		return skip(fault.why())
	case fault.at == journallingFile:
		return fault.err
	}
	return work.Failed(fault.err, "the file "+s.Path+" cannot be written", "make its folder writable, then run the same command again; or leave files out: trimlantern preview --except 'file:*'")
}

// aheadOfFile puts what a file holds into the journal.
func (a *applying) aheadOfFile(entry *change.File) error {
	if err := a.journal.Append(append(slices.Clone(a.carry), change.Record{File: entry})...); err != nil {
		return journalFault(err, "apply")
	}
	a.carry = nil
	return nil
}

// checkCopies looks at the targets of all copies before anything is changed.
func checkCopies(j *work.Job, copies []*change.Copy) error {
	in := j.DeclaredFiles()
	defer in.Close()
	for _, c := range copies {
		file := j.File.Abs(filepath.FromSlash(c.Path))
		if _, ok := disk.Inside(in.Copies, file); !ok || in.Copies == "" {
			return work.BadUse(nil, "the change sheet names "+c.Path+", which is not below copies.folder in the site file", "make a new one: trimlantern preview")
		}
		if b, err := j.Book.Copy(c.Hash); err != nil || b == nil {
			return work.BadUse(err, "the logbook no longer holds the copy of "+c.From, "fetch it again: trimlantern decide forget "+c.From+"; trimlantern decide adopt "+c.From)
		}
		tree, name, err := in.Of(file)
		if err != nil {
			return work.BadUse(err, "the folder for copies cannot be opened", "make it readable, then run the same command again")
		}
		b, _, err := tree.Read(name, preview.MaxCopy)
		if errors.Is(err, fs.ErrNotExist) || err == nil && change.Hash(b) == c.Hash { // an interrupted run put it there
			continue
		}
		return work.BadUse(nil, "the file "+c.Path+" has appeared since the preview", "move it away, then make a new preview: trimlantern preview")
	}
	return nil
}

// copy puts a copy into the site's folder: journal first, then the file.
func (a *applying) copy(c *change.Copy) error {
	j := a.job
	file := j.File.Abs(filepath.FromSlash(c.Path))
	if _, ok := disk.Inside(a.files.Copies, file); !ok || a.files.Copies == "" {
		return work.BadUse(nil, "the change sheet names "+c.Path+", which is not below copies.folder in the site file", "make a new one: trimlantern preview")
	}
	a.job.Progress.At("putting copies in place", int64(len(a.out.Copies)), 0)
	t := fileTask{path: file, from: change.Gone, to: change.State{Hash: c.Hash}, most: preview.MaxCopy,
		content: func([]byte) ([]byte, error) {
			b, err := j.Book.Copy(c.Hash)
			if err == nil && b == nil {
				err = fs.ErrNotExist
			}
			return b, err
		},
		looks: func(fs.FileInfo) disk.Looks { return disk.Looks{Mode: 0o644} },
		ahead: func([]byte, fs.FileInfo) error {
			return a.aheadOfFile(&change.File{Path: file, Missing: true, After: c.Hash, Mode: 0o644})
		}}
	fate, _, fault := t.carryOut(a.files)
	switch {
	case fault == nil && fate != change.Other: // done: an interrupted run put it there
		a.out.Copies = append(a.out.Copies, c.Path)
		return nil
	case fault == nil || fault.at == readingFile:
		return work.Failed(nil, "the file "+c.Path+" has just appeared", "move it away, then run the same command again; or take it back: trimlantern undo")
	case fault.at == findingFile:
		return work.Failed(fault.err, "the folder for copies cannot be opened", "make it readable, then run the same command again")
	case fault.at == editingFile:
		return work.Failed(fault.err, "the logbook no longer holds the copy of "+c.From, "take it back: trimlantern undo")
	case fault.at == journallingFile:
		return fault.err
	}
	return work.Failed(fault.err, "the file "+c.Path+" cannot be written", "make its folder writable, then run the same command again; or take it back: trimlantern undo")
}

// served asks the web server for each copy, before anything points to it. One that is not served as it is takes
// all of them away again.
func (a *applying) served(copies []*change.Copy) error {
	if a.job.Offline {
		a.out.Unserved = true
		return nil
	}
	if a.done > 0 || work.CountCells(a.open) > 0 {
		return nil // the run that was interrupted has asked, and things point to them by now
	}
	client, err := a.job.Web()
	if err != nil {
		return err
	}
	for _, c := range copies {
		a.job.Progress.At("checking copies", 0, 0)
		why := ""
		for _, scheme := range []string{"https", "http"} { // before the switch, HTTPS may not be there
			u := scheme + strings.TrimPrefix(c.URL, "https")
			r, err := client.Get(a.ctx, u, nil)
			switch {
			case err != nil:
				why += "; " + u + ": " + err.Error()
			case r.Status != 200:
				why += fmt.Sprintf("; %s: answered %d", u, r.Status)
			case r.Cut || change.Hash(r.Body) != c.Hash:
				why += "; " + u + ": something else is served there"
			default:
				why = ""
			}
			if err == nil {
				r.Done()
			}
			if why == "" {
				break
			}
		}
		if a.ctx.Err() != nil {
			return work.Failed(nil, "interrupted: the copies are in place, and nothing points to them yet", "continue with the same command: trimlantern apply; or take it back: trimlantern undo")
		}
		if why != "" {
			return a.unserved(c, strings.TrimPrefix(why, "; "))
		}
	}
	return nil
}

// unserved takes all copies of this run away again.
func (a *applying) unserved(c *change.Copy, why string) error {
	for _, p := range a.out.Copies {
		file := a.job.File.Abs(filepath.FromSlash(p))
		if tree, name, err := a.files.Of(file); err == nil && tree.Remove(name) == nil {
			a.files.Prune(tree, file, name)
		}
	}
	if err := a.mark(change.Undone); err != nil {
		return err
	}
	return work.Failed(nil, "the copy "+c.Path+" is not served as it is, so nothing was changed and the copies were taken away again: "+why,
		"name the folder and the address at which it is served: trimlantern decide forget "+c.From+"; trimlantern decide adopt "+c.From+" --into FOLDER --at URL")
}

// emptyCaches moves the files of safe folders aside, each move into the journal first: into a
// folder of ours in the same one, where moving costs nothing and the rights are the same.
func (a *applying) emptyCaches() error {
	folders, err := a.job.CacheFolders()
	if err != nil {
		return err
	}
	for _, f := range folders {
		if !f.Safe {
			continue
		}
		m := &change.Moved{From: f.Path, To: filepath.Join(f.Path, keptIn(a.out.Journal))}
		if err := a.journal.Append(change.Record{Moved: m}); err != nil {
			return journalFault(err, "apply")
		}
		if err := setAside(f.Path, keptIn(a.out.Journal)); err != nil {
			return work.Failed(err, "the cached files cannot be moved away", "empty "+f.Path+" by hand, or run the command without --drop-caches; what was moved is in the journal")
		}
		a.out.Emptied = append(a.out.Emptied, f)
	}
	return nil
}

// moveBack puts back the files of a folder that was emptied; where the system has
// filled it again, its files stay.
func (u *undoing) moveBack(m *change.Moved, journal string) error {
	known := false
	for _, f := range u.job.CachePaths() {
		known = known || f.Path == m.From
	}
	if !known || m.To != filepath.Join(m.From, keptIn(journal)) {
		u.out.Left = append(u.out.Left, change.Skip{Table: m.From, Why: "no folder of cached files of this site"})
		return nil
	}
	done, filled, err := bringBack(m.From, keptIn(journal))
	if err != nil {
		return work.Failed(err, "the cached files cannot be put back", "move them by hand from "+m.To)
	}
	if filled {
		u.out.Left = append(u.out.Left, change.Skip{Table: m.From, Why: "the system has filled it again"})
		return nil
	}
	if u.out.tally.Moved(m); done {
		u.out.Folders = append(u.out.Folders, m.From)
	}
	return nil
}
