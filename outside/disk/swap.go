package disk

import (
	"errors"
	"io/fs"
	"path/filepath"
	"time"
)

// ErrMeanwhile says that a file does not hold any more what it held when it was read.
var ErrMeanwhile = errors.New("somebody changed it in between")

// How long those are waited for who had opened a file before it was replaced, and still write to the old one: as long as the
// system reports them, up to a limit; a fixed time where it does not report them.
const (
	longestWriter = 2 * time.Second
	lateWriter    = 20 * time.Millisecond
	lookAgain     = 5 * time.Millisecond
)

// takePlace gives a part the name of a file, if the file holds at that moment what was accepts; nil accepts anything. there
// says that there is a file. Where the system can exchange two names, no moment is left between looking and replacing: the
// old file is looked at once it has no name any more, and gets it back if it is another one.
//
// An editor that opened the file before the exchange, and writes to it after, is waited for.
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
	if !t.outwait(part) || !t.holds(part, was) {
		if err := exchange(folder, partBase, base); err != nil {
			return err
		}
		return ErrMeanwhile
	}
	return t.root.Remove(part)
}

// outwait waits for those who still write to a file that has lost its name. No more of them can come. It
// reports whether all have closed it.
func (t *Tree) outwait(part string) bool {
	f, _, err := t.open(part)
	if err != nil {
		return false // a link, for instance
	}
	defer f.Close()
	for began := time.Now(); ; time.Sleep(lookAgain) {
		switch is, known := isWritten(f); {
		case !known:
			time.Sleep(lateWriter)
			return true
		case !is:
			return true
		case time.Since(began) > longestWriter:
			return false
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
