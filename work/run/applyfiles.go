package run

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
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

// source carries out the change of one file: journal, temporary file, fsync, rename.
// The same file met twice, after a crash, is told by its hash.
func (a *applying) source(s *change.Source) error {
	j := a.job
	file := j.File.Abs(filepath.FromSlash(s.Path))
	skip := func(why string) error {
		a.out.Skipped = append(a.out.Skipped, change.Skip{Table: s.Path, Why: why})
		return nil
	}
	tree, name, err := a.files.Of(file)
	switch {
	case errors.Is(err, work.ErrUndeclared):
		return work.BadUse(nil, "the change sheet names "+s.Path+", which is in none of the folders under files in the site file", "make a new one: trimlantern preview")
	case errors.Is(err, fs.ErrNotExist):
		return skip("the file is gone")
	case err != nil:
		return work.Failed(err, "the folder of "+s.Path+" cannot be opened", "make it readable, then run the same command again")
	}
	if a.ctx.Err() != nil {
		return work.Failed(nil, "interrupted: each file that was changed is in the journal", "continue with the same command: trimlantern apply; or take it back: trimlantern undo")
	}
	tree.ClearPart(name)
	a.job.Progress.At("changing files", int64(len(a.out.Files)), 0)
	before, info, err := tree.Read(name, files.MaxSize)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return skip("the file is gone")
	case err != nil:
		return skip(work.WhyNot(err))
	}
	if change.Hash(before) == s.After && a.changed[file] {
		a.out.Files = append(a.out.Files, s.Path)
		a.out.Refs += s.References
		return nil
	}
	after, err := s.Apply(before)
	if err != nil {
		return skip("changed since the preview")
	}
	if info.Mode()&0o222 == 0 {
		return skip("the file may not be written")
	}
	entry := &change.File{Path: file, Before: before, After: s.After, Mode: uint32(info.Mode().Perm()), Time: info.ModTime().UTC().Format(time.RFC3339Nano)}
	records := append(slices.Clone(a.carry), change.Record{File: entry})
	if err := a.journal.Append(records...); err != nil {
		return journalFault(err, "apply")
	}
	a.carry = nil
	if now, _, err := tree.Read(name, files.MaxSize); err != nil || !bytes.Equal(now, before) {
		return skip("changed since the preview")
	}
	// Its time is that of the change: caches of code and of pages go by it.
	err = tree.Write(name, after, disk.Looks{Mode: info.Mode()})
	if errors.Is(err, disk.ErrOwner) || errors.Is(err, disk.ErrLink) || errors.Is(err, disk.ErrNotRegular) {
		return skip(work.WhyNot(err))
	}
	if err != nil {
		return work.Failed(err, "the file "+s.Path+" cannot be written", "make its folder writable, then run the same command again; or leave files out: trimlantern preview --except 'file:*'")
	}
	a.out.Files = append(a.out.Files, s.Path)
	a.out.Refs += s.References
	return nil
}

// copy puts a copy into the site's folder: journal first, then the file.
func (a *applying) copy(c *change.Copy) error {
	j := a.job
	file := j.File.Abs(filepath.FromSlash(c.Path))
	if _, ok := disk.Inside(a.files.Copies, file); !ok || a.files.Copies == "" {
		return work.BadUse(nil, "the change sheet names "+c.Path+", which is not below copies.folder in the site file", "make a new one: trimlantern preview")
	}
	tree, name, err := a.files.Of(file)
	if err != nil {
		return work.Failed(err, "the folder for copies cannot be opened", "make it readable, then run the same command again")
	}
	a.job.Progress.At("putting copies in place", int64(len(a.out.Copies)), 0)
	tree.ClearPart(name)
	now, _, err := tree.Read(name, preview.MaxCopy)
	switch {
	case err == nil && change.Hash(now) == c.Hash:
		a.out.Copies = append(a.out.Copies, c.Path) // an interrupted run put it there
		return nil
	case err == nil || !errors.Is(err, fs.ErrNotExist):
		return work.BadUse(nil, "the file "+c.Path+" has appeared since the preview", "move it away, then make a new preview: trimlantern preview")
	}
	b, err := j.Book.Copy(c.Hash)
	if err != nil || b == nil {
		return work.BadUse(err, "the logbook no longer holds the copy of "+c.From, "fetch it again: trimlantern decide forget "+c.From+"; trimlantern decide adopt "+c.From)
	}
	records := append(a.carry, change.Record{File: &change.File{Path: file, Missing: true, After: c.Hash, Mode: 0o644}})
	if err := a.journal.Append(records...); err != nil {
		return journalFault(err, "apply")
	}
	a.carry = nil
	if err = makeFolders(tree, path.Dir(name)); err == nil {
		err = tree.Write(name, b, disk.Looks{Mode: 0o644})
	}
	if err == nil && !written(tree, name, b) {
		err = errors.New("it does not hold what was written")
	}
	if err != nil {
		return work.Failed(err, "the file "+c.Path+" cannot be written", "make its folder writable, then run the same command again; or take it back: trimlantern undo")
	}
	a.out.Copies = append(a.out.Copies, c.Path)
	return nil
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
	switch {
	case err != nil:
		return work.Failed(err, "the cached files cannot be put back", "move them by hand from "+m.To)
	case filled:
		u.out.Left = append(u.out.Left, change.Skip{Table: m.From, Why: "the system has filled it anew"})
	case done:
		u.out.Folders = append(u.out.Folders, m.From)
	}
	return nil
}

// written reads a file back.
func written(tree *disk.Tree, name string, b []byte) bool {
	now, _, err := tree.Read(name, preview.MaxCopy)
	return err == nil && bytes.Equal(now, b)
}

// makeFolders makes a folder in a tree, with those above it, as a web server can read them.
func makeFolders(tree *disk.Tree, name string) error {
	if name == "." {
		return nil
	}
	if info, err := tree.Lstat(name); err == nil {
		if !info.IsDir() {
			return &fs.PathError{Op: "mkdir", Path: name, Err: disk.ErrNotRegular}
		}
		return nil
	}
	if err := makeFolders(tree, path.Dir(name)); err != nil {
		return err
	}
	return tree.Mkdir(name, 0o755)
}
