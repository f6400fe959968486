package work

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"trimlantern/core/sheet"
	"trimlantern/outside/disk"
)

// maxCopy bounds a file that is a copy.
const maxCopy = 32 << 20

// copies adds the copies to the sheet that are not in their place.
func (s *survey) copies() error {
	j := s.job
	if s.out.Kind == Lengths {
		return nil
	}
	in := j.DeclaredFiles()
	defer in.Close()
	for _, r := range j.File.Replaced {
		if r.Copy == "" {
			continue
		}
		file := filepath.Join(j.File.Abs(j.File.Copies.Folder), filepath.FromSlash(r.File))
		if r.File == "" || !filepath.IsLocal(filepath.FromSlash(r.File)) || in.copies == "" {
			return BadUse(nil, "replaced in the site file: "+r.From+" has a copy without a file below copies.folder", "take it back and adopt it again: trimlantern decide forget "+r.From)
		}
		tree, name, err := in.Of(file)
		if err != nil {
			return Failed(err, "the folder for copies cannot be opened", "make "+in.copiesRoot+" readable")
		}
		now, _, err := tree.Read(name, maxCopy)
		switch {
		case err == nil && sheet.Hash(now) == r.Copy:
			continue // in place
		case err == nil:
			return BadUse(nil, "the file "+j.Relative(file)+" is there already, and is not the copy of "+r.From, "move it away, or choose another folder: trimlantern decide adopt --into FOLDER")
		case !errors.Is(err, fs.ErrNotExist):
			return BadUse(err, "the file "+j.Relative(file)+" cannot be looked at: "+whyNot(err), "move it away")
		}
		b, err := j.Book.Copy(r.Copy)
		if err != nil || b == nil {
			return BadUse(err, "the logbook does not hold the copy of "+r.From+" any more", "fetch it again: trimlantern decide forget "+r.From+"; trimlantern decide adopt "+r.From)
		}
		s.out.Copies = append(s.out.Copies, sheet.Copy{Path: j.Relative(file), From: r.From, URL: r.To, Hash: r.Copy, Size: len(b)})
		if s.sheet == nil {
			continue
		}
		if err := s.sheet.Copy(s.out.Copies[len(s.out.Copies)-1]); err != nil {
			return Failed(err, "the change sheet cannot be written", "make room on the disk")
		}
	}
	return nil
}

// copy puts a copy into the site's folder: journal first, then the file.
func (a *applying) copy(c *sheet.Copy) error {
	j := a.job
	file := j.File.Abs(filepath.FromSlash(c.Path))
	if _, ok := disk.Inside(a.files.copies, file); !ok || a.files.copies == "" {
		return BadUse(nil, "the change sheet names "+c.Path+", which is not below copies.folder in the site file", "make a new one: trimlantern preview")
	}
	tree, name, err := a.files.Of(file)
	if err != nil {
		return Failed(err, "the folder for copies cannot be opened", "make it readable, then run the same command again")
	}
	a.job.Progress.At("putting copies in place", int64(len(a.out.Copies)), 0)
	tree.ClearPart(name)
	now, _, err := tree.Read(name, maxCopy)
	switch {
	case err == nil && sheet.Hash(now) == c.Hash:
		a.out.Copies = append(a.out.Copies, c.Path) // an interrupted run put it there
		return nil
	case err == nil || !errors.Is(err, fs.ErrNotExist):
		return BadUse(nil, "the file "+c.Path+" came to be there since the preview", "move it away, then make a new preview: trimlantern preview")
	}
	b, err := j.Book.Copy(c.Hash)
	if err != nil || b == nil {
		return BadUse(err, "the logbook does not hold the copy of "+c.From+" any more", "fetch it again: trimlantern decide forget "+c.From+"; trimlantern decide adopt "+c.From)
	}
	records := append(a.carry, sheet.Record{File: &sheet.File{Path: file, Missing: true, After: c.Hash, Mode: 0o644}})
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
		return Failed(err, "the file "+c.Path+" cannot be written", "make its folder writable, then run the same command again; or take it back: trimlantern undo")
	}
	a.out.Copies = append(a.out.Copies, c.Path)
	return nil
}

// written reads a file back.
func written(tree *disk.Tree, name string, b []byte) bool {
	now, _, err := tree.Read(name, maxCopy)
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

// served asks the web server for each copy, before anything points to it. One that is not served as it is takes
// all of them away again.
func (a *applying) served(copies []*sheet.Copy) error {
	if a.job.Offline {
		a.out.Unserved = true
		return nil
	}
	if a.done > 0 || countCells(a.open) > 0 {
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
			case r.Cut || sheet.Hash(r.Body) != c.Hash:
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
			return Failed(nil, "interrupted: the copies are in place, and nothing points to them yet", "go on with the same command: trimlantern apply; or take it back: trimlantern undo")
		}
		if why != "" {
			return a.unserved(c, strings.TrimPrefix(why, "; "))
		}
	}
	return nil
}

// unserved takes all copies of this run away again.
func (a *applying) unserved(c *sheet.Copy, why string) error {
	for _, p := range a.out.Copies {
		file := a.job.File.Abs(filepath.FromSlash(p))
		if tree, name, err := a.files.Of(file); err == nil && tree.Remove(name) == nil {
			a.files.prune(tree, file, name)
		}
	}
	if err := a.mark(sheet.Undone); err != nil {
		return err
	}
	return Failed(nil, "the copy "+c.Path+" is not served as it is, so nothing was changed and the copies were taken away again: "+why,
		"name the folder and the address at which it is served: trimlantern decide forget "+c.From+"; trimlantern decide adopt "+c.From+" --into FOLDER --at URL")
}

// prune removes the folders of a copy that was removed, where nothing else is in them.
func (s *siteFiles) prune(tree *disk.Tree, file, name string) {
	for {
		file, name = filepath.Dir(file), path.Dir(name)
		_, below := disk.Inside(s.copies, file)
		if s.copies == "" || name == "." || !below && file != s.copies || tree.Remove(name) != nil {
			return
		}
	}
}
