package disk

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"trimlantern/outside/verbose"
)

// Pending is a file that appears under its name only when Commit is called.
type Pending struct {
	*os.File
	folder         *os.Root // nil: no regular file, written directly
	part, name     string   // in folder
	committed, end bool
}

// Create begins a new file, or one in the place of an old one, whose owner and mode it takes
// over; mode is that of a new one. Until Commit, the old one stays. A symbolic link stays
// a link: what it leads to is replaced, under the same rule as in Open. A pipe or a device is
// written to directly.
func Create(path string, mode fs.FileMode) (*Pending, error) {
	path, err := Followed(path)
	if err != nil {
		return nil, err
	}
	folder, err := openFolder(filepath.Dir(path))
	if err != nil {
		return nil, err
	}
	p := &Pending{folder: folder, name: filepath.Base(path)}
	old, err := folder.Lstat(p.name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		old = nil
	case err != nil:
	case old.IsDir():
		err = &fs.PathError{Op: "create", Path: path, Err: errors.New("is a folder")}
	case old.Mode()&fs.ModeSymlink != 0:
		err = &fs.PathError{Op: "create", Path: path, Err: errReplaced}
	case !old.Mode().IsRegular():
		folder.Close()
		return writeTo(path, old)
	}
	if err == nil || old == nil {
		clearParts(folder, ".", p.name)
		p.File, p.part, err = newPart(folder, ".", p.name)
	}
	if err != nil {
		folder.Close()
		return nil, err
	}
	if old != nil {
		mode = old.Mode().Perm()
		err = giveTo(p.File, old)
	}
	if err = errors.Join(err, p.Chmod(mode)); err != nil { // behind the change of owner, which clears bits
		p.Discard()
		return nil, err
	}
	return p, nil
}

// errReplaced says that somebody replaces a file while it is worked on.
var errReplaced = errors.New("is being replaced by somebody else")

// writeTo opens a pipe or a device that was looked at.
func writeTo(path string, looked fs.FileInfo) (*Pending, error) {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return nil, err
	}
	now, err := f.Stat()
	if err == nil && !os.SameFile(now, looked) {
		err = &fs.PathError{Op: "create", Path: path, Err: errReplaced}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return &Pending{File: f}, nil
}

// Unnamed returns where the file can be read before it has its name; "": nowhere, since it is no regular file.
func (p *Pending) Unnamed() string {
	if p.folder == nil {
		return ""
	}
	return filepath.Join(p.folder.Name(), p.part)
}

// Commit writes the file through to the disk and gives it its name.
func (p *Pending) Commit() error {
	if p.folder == nil {
		p.end = true
		return p.Close()
	}
	err := p.Sync()
	if err == nil { // while it is locked, so that it is not taken for a killed run's
		err = p.folder.Rename(p.part, p.name)
	}
	if err = errors.Join(err, p.Close()); err != nil {
		return err
	}
	p.committed = true
	err = syncFolder(p.folder, ".")
	verbose.Took(context.Background(), time.Now(), "file made", err, "file", filepath.Join(p.folder.Name(), p.name))
	return err
}

// Discard removes a file that was not committed, and lets go of what a committed one held.
func (p *Pending) Discard() {
	if p.end {
		return
	}
	p.end = true
	if !p.committed {
		_ = p.Close() // closed already where renaming failed
		if p.folder != nil {
			_ = p.folder.Remove(p.part) // what failed before counts
		}
	}
	if p.folder != nil {
		p.folder.Close()
	}
}

// openFolder opens a folder under the rule of Open.
func openFolder(dir string) (*os.Root, error) {
	looked, err := openFollowing(dir)
	if err != nil {
		return nil, err
	}
	defer looked.Close()
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	a, err := looked.Stat()
	if err == nil {
		var b fs.FileInfo
		if b, err = root.Stat("."); err == nil && !os.SameFile(a, b) {
			err = &fs.PathError{Op: "open", Path: dir, Err: errReplaced}
		}
	}
	if err != nil {
		root.Close()
		return nil, err
	}
	return root, nil
}

// syncFolder writes the names in a folder through to the disk.
func syncFolder(root *os.Root, name string) error {
	d, err := root.Open(name)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
