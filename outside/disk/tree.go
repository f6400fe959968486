package disk

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"trimlantern/outside/verbose"
)

// ErrLink says that a name is a symbolic link, or that one on the way leads out of the tree.
var ErrLink = errors.New("a symbolic link")

// Tree is a folder of the site with all below it. Nothing that is done through it leaves it,
// whatever links are in it. Names are relative to it, with slashes. Where the caller is root and
// the folder another user's, the work is done with that user's rights.
type Tree struct {
	root *os.Root
	act  *actor
}

// OpenTree opens a folder under the rule of Open.
func OpenTree(dir string) (*Tree, error) {
	root, err := openFolder(dir)
	if err != nil {
		return nil, err
	}
	info, err := root.Stat(".")
	if err == nil {
		var act *actor
		if act, err = actAs(info); err == nil {
			return &Tree{root, act}, nil
		}
	}
	root.Close()
	return nil, err
}

// do works with the tree's rights. It says ErrLink where the way leads out of the tree.
func (t *Tree) do(work func() error) error {
	err := t.act.do(work)
	var pe *fs.PathError
	if errors.As(err, &pe) && strings.Contains(pe.Err.Error(), "path escapes from parent") { // of os.Root
		return &fs.PathError{Op: pe.Op, Path: pe.Path, Err: ErrLink}
	}
	return err
}

// Close lets go of the tree.
func (t *Tree) Close() {
	t.act.end()
	t.root.Close()
}

// Inside returns the name that a path has in a tree at dir; ok is false where it lies elsewhere,
// or is dir itself. Both are absolute. Links are not looked at: the tree does that.
func Inside(dir, file string) (name string, ok bool) {
	rel, err := filepath.Rel(dir, file)
	if err != nil || !filepath.IsLocal(rel) || rel == "." {
		return "", false
	}
	return filepath.ToSlash(rel), true
}

// Lstat looks at a name, and at a link itself.
func (t *Tree) Lstat(name string) (info fs.FileInfo, err error) {
	err = t.do(func() error {
		info, err = t.root.Lstat(filepath.FromSlash(name))
		return err
	})
	return info, err
}

// Read reads a regular file of at most most bytes that is no link. It fails with ErrLink,
// ErrNotRegular or ErrTooLarge.
func (t *Tree) Read(name string, most int64) (b []byte, info fs.FileInfo, err error) {
	err = t.do(func() error {
		b, info, err = t.read(filepath.FromSlash(name), most)
		return err
	})
	return b, info, err
}

// Open opens a regular file that is no link. It fails with ErrLink or ErrNotRegular.
func (t *Tree) Open(name string) (f *os.File, info fs.FileInfo, err error) {
	err = t.do(func() error {
		f, info, err = t.open(filepath.FromSlash(name))
		return err
	})
	return f, info, err
}

func (t *Tree) open(name string) (*os.File, fs.FileInfo, error) {
	looked, err := t.root.Lstat(name)
	if err == nil {
		err = plain(looked)
	}
	if err != nil {
		return nil, nil, err
	}
	f, err := t.root.OpenFile(name, os.O_RDONLY|nonblock, 0)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && !os.SameFile(looked, info) {
		err = &fs.PathError{Op: "open", Path: name, Err: errReplaced}
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, info, nil
}

func (t *Tree) read(name string, most int64) ([]byte, fs.FileInfo, error) {
	f, info, err := t.open(name)
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	if info.Size() > most {
		return nil, nil, &fs.PathError{Op: "read", Path: name, Err: ErrTooLarge}
	}
	b, err := readAll(f, name, most)
	return b, info, err
}

// plain reports as an error that something is no regular file.
func plain(info fs.FileInfo) error {
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		return ErrLink
	case !info.Mode().IsRegular():
		return ErrNotRegular
	}
	return nil
}

// Looks are how a file is to look that Write makes.
type Looks struct {
	Mode fs.FileMode // permission bits; all others are ignored
	Time time.Time   // of its last change; zero: now
	// Was, where set, accepts what the file holds at the moment when it is replaced, or Write fails with ErrMeanwhile;
	// where there was no file there must be none.
	Was func(now []byte) bool
}

// Write gives a file its content: it is written beside, through to the disk, and takes the
// place of the old one in one step. The old one's owner and group are kept, or nothing is done. A
// link, or what is no regular file, is not replaced.
func (t *Tree) Write(name string, b []byte, l Looks) (err error) {
	began := time.Now()
	defer func() {
		verbose.Took(context.Background(), began, "file written", err, "file", filepath.Join(t.root.Name(), name), "bytes", len(b))
	}()
	name = filepath.FromSlash(name)
	var old fs.FileInfo
	var f *os.File
	var part string
	err = t.do(func() (err error) {
		if old, err = t.root.Lstat(name); err == nil {
			err = plain(old)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		clearParts(t.root, filepath.Dir(name), filepath.Base(name))
		f, part, err = newPart(t.root, filepath.Dir(name), filepath.Base(name))
		return err
	})
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err == nil && old != nil {
		err = giveTo(f, old)
	}
	if err == nil {
		err = f.Chmod(l.Mode.Perm()) // behind the change of owner, which clears bits
	}
	if err == nil && !l.Time.IsZero() {
		err = setTime(f, l.Time)
	}
	err = errors.Join(err, f.Sync())
	defer f.Close()
	return t.do(func() error {
		if err == nil {
			err = t.takePlace(part, name, old != nil, l.Was)
		}
		if err != nil {
			_ = t.root.Remove(part) // what failed before counts
			return err
		}
		return syncFolder(t.root, filepath.Dir(name))
	})
}

// ClearPart removes what a run that was killed left beside a file.
func (t *Tree) ClearPart(name string) {
	_ = t.do(func() error { // it never fails
		clearParts(t.root, filepath.Dir(filepath.FromSlash(name)), filepath.Base(name))
		return nil
	})
}

// Remove removes a file, or an empty folder; of a link, the link.
func (t *Tree) Remove(name string) error {
	began := time.Now()
	err := t.do(func() error { return t.root.Remove(filepath.FromSlash(name)) })
	verbose.Took(context.Background(), began, "file removed", err, "file", filepath.Join(t.root.Name(), name))
	return err
}

// Mkdir makes a folder.
func (t *Tree) Mkdir(name string, mode fs.FileMode) error {
	return t.do(func() error { return t.root.Mkdir(filepath.FromSlash(name), mode) })
}

// Rename gives something another name in the tree.
func (t *Tree) Rename(from, to string) error {
	return t.do(func() error { return t.root.Rename(filepath.FromSlash(from), filepath.FromSlash(to)) })
}

// List returns what a folder holds, in order of name; "." is the tree itself. The folder must be
// none that a link leads to.
func (t *Tree) List(name string) (entries []fs.DirEntry, err error) {
	err = t.do(func() error {
		info, err := t.root.Lstat(filepath.FromSlash(name))
		if err != nil {
			return err
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			return ErrLink
		}
		d, err := t.root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|nonblock, 0)
		if err != nil {
			return err
		}
		defer d.Close()
		if now, err := d.Stat(); err != nil || !os.SameFile(now, info) {
			return errors.Join(err, &fs.PathError{Op: "open", Path: name, Err: errReplaced})
		}
		entries, err = d.ReadDir(-1)
		return err
	})
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return entries, err
}

// Walk calls visit for everything below a folder, a folder before what is in it, in order
// of name; links are not followed. An error of a folder that cannot be read goes to visit as well.
// It honours fs.SkipDir.
func (t *Tree) Walk(name string, visit func(name string, e fs.DirEntry, err error) error) error {
	entries, err := t.List(name)
	if err != nil {
		if err = visit(name, nil, err); errors.Is(err, fs.SkipDir) {
			return nil
		}
		return err
	}
	for _, e := range entries {
		below := path.Join(name, e.Name())
		err := visit(below, e, nil)
		if err == nil && e.IsDir() {
			err = t.Walk(below, visit)
		}
		switch {
		case errors.Is(err, fs.SkipDir) && e.IsDir():
		case errors.Is(err, fs.SkipDir):
			return nil
		case err != nil:
			return err
		}
	}
	return nil
}
