package run

import (
	"bytes"
	"errors"
	"io/fs"
	"path"
	"slices"

	"trimlantern/core/change"
	"trimlantern/outside/disk"
	"trimlantern/work"
)

// fileTask is one file on the way that apply and undo go in their two directions: what it holds is read and checked, the
// change goes into the journal where it is not there yet, the file is replaced, and read back.
type fileTask struct {
	path     string       // absolute
	from, to change.State // what it holds before and after, in the direction of the run
	most     int64        // how long it may be

	// content returns what is to be written in the place of what it holds; where to is Gone it is not asked.
	content func(now []byte) ([]byte, error)
	// ahead, where not nil, journals what the file holds, before anything is written.
	ahead func(now []byte, info fs.FileInfo) error
	looks func(info fs.FileInfo) disk.Looks // info: nil where there was no file
}

// errUnwritten says that a file, read back, does not hold what was written.
var errUnwritten = errors.New("read back, it does not hold what was written")

// fileFault is an error of the file, of its folder, or of the journal.
type fileFault struct {
	at  fileStep
	err error
}

// fileStep is where on its way a file is.
type fileStep uint8

const (
	findingFile fileStep = iota
	readingFile
	editingFile
	journallingFile
	writingFile
)

// isFiles reports whether it is what stands there that is wrong, which leaves the file as it is and stops nothing.
func (f *fileFault) isFiles() bool {
	return slices.ContainsFunc([]error{disk.ErrOwner, disk.ErrLink, disk.ErrNotRegular, disk.ErrTooLarge, errReadOnly}, func(e error) bool { return errors.Is(f.err, e) })
}

// why says it.
func (f *fileFault) why() string {
	if errors.Is(f.err, errReadOnly) {
		return errReadOnly.Error()
	}
	return work.WhyNot(f.err)
}

// errReadOnly says that nobody may write a file.
var errReadOnly = errors.New("the file may not be written")

// carryOut brings a file from one state into the other, in one of the declared folders, and returns what became of it,
// and which state it was found in. What somebody else changed is left: change.Other.
func (t *fileTask) carryOut(in *work.SiteFiles) (change.Fate, change.State, *fileFault) {
	var is change.State
	failed := func(at fileStep, err error) (change.Fate, change.State, *fileFault) {
		return change.Other, is, &fileFault{at, err}
	}
	tree, name, err := in.Of(t.path)
	if err != nil {
		return failed(findingFile, err)
	}
	tree.ClearPart(name)
	var now []byte
	var info fs.FileInfo
	if now, info, is, err = stateOf(tree, name, t.most); err != nil {
		return failed(readingFile, err)
	}
	if fate := change.Check(is, t.from, t.to); fate != change.Due {
		return fate, is, nil
	}
	var to []byte
	if !t.to.Missing {
		if to, err = t.content(now); err != nil {
			return failed(editingFile, err)
		}
	}
	if t.ahead != nil {
		if err := t.ahead(now, info); err != nil {
			return failed(journallingFile, err)
		}
		if _, _, again, err := stateOf(tree, name, t.most); err != nil || again != is {
			return change.Other, again, nil // changed while the journal was written
		}
	}
	same := func(now []byte) bool { return change.Holds(now) == is }
	if t.to.Missing {
		if err = tree.RemoveIf(name, same); err == nil {
			in.Prune(tree, t.path, name)
		}
	} else if err = makeFolders(tree, path.Dir(name)); err == nil {
		looks := t.looks(info)
		looks.Was = same
		err = tree.Write(name, to, looks)
	}
	if errors.Is(err, disk.ErrMeanwhile) {
		_, _, again, _ := stateOf(tree, name, t.most) // that it is another one is known
		return change.Other, again, nil
	}
	if err != nil {
		return failed(writingFile, err)
	}
	if !t.to.Missing {
		if back, _, err := tree.Read(name, max(t.most, int64(len(to)))); err != nil || !bytes.Equal(back, to) {
			return failed(writingFile, errors.Join(errUnwritten, err))
		}
	}
	return change.Due, is, nil
}

// stateOf reads what a file holds; b and info are nil where there is none.
func stateOf(tree *disk.Tree, name string, most int64) (b []byte, info fs.FileInfo, is change.State, err error) {
	b, info, err = tree.Read(name, most)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil, change.Gone, nil
	case err != nil:
		return nil, nil, is, err
	}
	return b, info, change.Holds(b), nil
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
