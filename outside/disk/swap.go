package disk

import (
	"errors"
	"io/fs"
	"path/filepath"
	"time"
)

// ErrMeanwhile says that a file does not hold any more what it held when it was read.
var ErrMeanwhile = errors.New("somebody changed it in between")

// How long after a file was replaced somebody who had opened it before may still write to the old one: as long as the
// system says so, and at the most; where it says nothing.
const (
	longestWriter = 2 * time.Second
	lateWriter    = 20 * time.Millisecond
	lookAgain     = 5 * time.Millisecond
)

// takePlace gives a part the name of a file, if the file holds at that moment what was accepts; nil accepts anything. there
// says that there is a file. Where the system can exchange two names, no moment is left between looking and replacing: the
// old file is looked at once it has no name any more, and gets it back if it is another one.
//
// An editor that has opened the file before, and writes to it after, is noticed for a moment too.
func (t *Tree) takePlace(part, name string, there bool, was func(now []byte) bool) error {
	if was == nil {
		return t.root.Rename(part, name)
	}
	folder, err := t.root.Open(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer folder.Close()
	base, partBase := filepath.Base(name), filepath.Base(part)
	if !there {
		err := place(folder, partBase, base)
		if errors.Is(err, fs.ErrExist) {
			return ErrMeanwhile
		}
		if !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
		if _, err := t.root.Lstat(name); !errors.Is(err, fs.ErrNotExist) {
			return ErrMeanwhile
		}
		return t.root.Rename(part, name)
	}
	switch err := exchange(folder, partBase, base); {
	case errors.Is(err, fs.ErrNotExist):
		return ErrMeanwhile
	case errors.Is(err, errors.ErrUnsupported):
		if !t.holds(name, was) {
			return ErrMeanwhile
		}
		return t.root.Rename(part, name)
	case err != nil:
		return err
	}
	same := t.holds(part, was)
	if same && t.outwait(part) {
		same = t.holds(part, was)
	}
	if !same {
		if err := exchange(folder, partBase, base); err != nil {
			return err
		}
		return ErrMeanwhile
	}
	return t.root.Remove(part)
}

// outwait waits until nobody writes to a file any more that has lost its name; it reports whether anybody may have.
func (t *Tree) outwait(part string) bool {
	f, _, err := t.open(part)
	if err != nil {
		return true
	}
	defer f.Close()
	for began := time.Now(); ; time.Sleep(lookAgain) {
		switch is, known := isWritten(f); {
		case !known:
			time.Sleep(lateWriter)
			return true
		case !is:
			return began.Before(time.Now().Add(-lookAgain))
		case time.Since(began) > longestWriter:
			return true
		}
	}
}

// holds reports whether a file's content is accepted.
func (t *Tree) holds(name string, was func([]byte) bool) bool {
	info, err := t.root.Lstat(name)
	if err != nil || !info.Mode().IsRegular() {
		return false
	}
	b, _, err := t.read(name, info.Size()+1<<20)
	return err == nil && was(b)
}

// RemoveIf removes a file if it holds what was accepts, or fails with ErrMeanwhile.
func (t *Tree) RemoveIf(name string, was func(now []byte) bool) error {
	name = filepath.FromSlash(name)
	return t.do(func() error {
		f, part, err := newPart(t.root, filepath.Dir(name), filepath.Base(name))
		if err != nil {
			return err
		}
		defer f.Close()
		folder, err := t.root.Open(filepath.Dir(name))
		if err == nil {
			defer folder.Close()
			err = exchange(folder, filepath.Base(part), filepath.Base(name))
		}
		switch {
		case errors.Is(err, errors.ErrUnsupported):
			if !t.holds(name, was) {
				return errors.Join(ErrMeanwhile, t.root.Remove(part))
			}
			return errors.Join(t.root.Remove(name), t.root.Remove(part))
		case err != nil:
			return errors.Join(err, t.root.Remove(part))
		}
		if !t.holds(part, was) { // it comes back under its name
			return errors.Join(ErrMeanwhile, exchange(folder, filepath.Base(part), filepath.Base(name)), t.root.Remove(part))
		}
		return errors.Join(t.root.Remove(name), t.root.Remove(part))
	})
}
