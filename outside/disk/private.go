package disk

import (
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
)

// Private is a folder of the caller alone, opened once: what is done in it afterwards is done there, even if
// somebody gives its path to another folder meanwhile.
type Private struct{ root *os.Root }

// OpenPrivate opens a folder under the rules of TrustedFolder. A folder above it that another user can write is
// refused too, since that user could put another folder in its place.
func OpenPrivate(path string) (*Private, error) {
	if err := TrustedFolder(path); err != nil {
		return nil, err
	}
	if err := trustedAbove(path); err != nil {
		return nil, err
	}
	root, err := openFolder(path)
	if err != nil {
		return nil, err
	}
	info, err := root.Stat(".")
	if err == nil {
		err = trusted(path, info)
	}
	if err != nil {
		root.Close()
		return nil, err
	}
	return &Private{root}, nil
}

// Path returns where the folder was when it was opened.
func (p *Private) Path() string { return p.root.Name() }

// Close lets go of the folder.
func (p *Private) Close() error { return p.root.Close() }

// Open opens a regular file for reading.
func (p *Private) Open(name string) (*os.File, error) { return p.OpenFile(name, os.O_RDONLY) }

// OpenFile opens a regular file, never through a link. With os.O_CREATE it is made, with mode 0600, if it is not there.
func (p *Private) OpenFile(name string, flag int) (*os.File, error) {
	looked, err := p.root.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist) && flag&os.O_CREATE != 0:
		f, err := p.root.OpenFile(name, flag|os.O_EXCL, 0o600)
		if errors.Is(err, fs.ErrExist) && flag&os.O_EXCL == 0 { // another run has made it in between
			return p.OpenFile(name, flag&^os.O_CREATE)
		}
		return f, err
	case err == nil && flag&os.O_EXCL != 0:
		err = &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
	case err == nil:
		err = plain(looked)
	}
	if err != nil {
		return nil, err
	}
	f, err := p.root.OpenFile(name, flag&^(os.O_CREATE)|nonblock, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !os.SameFile(looked, info) {
		err = &fs.PathError{Op: "open", Path: name, Err: errReplaced}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Create begins a file that appears under its name when Commit is called, in the place of an old one. Files that
// runs which were killed had begun are removed.
func (p *Private) Create(name string) (*Pending, error) {
	if old, err := p.root.Lstat(name); err == nil && plain(old) != nil {
		return nil, &fs.PathError{Op: "create", Path: name, Err: plain(old)}
	}
	folder, err := p.root.OpenRoot(".")
	if err != nil {
		return nil, err
	}
	clearParts(folder, ".", "")
	out := &Pending{folder: folder, name: name}
	if out.File, out.part, err = newPart(folder, ".", ""); err != nil {
		folder.Close()
		return nil, err
	}
	return out, nil
}

// Sync writes the names in the folder through to the disk.
func (p *Private) Sync() error { return syncFolder(p.root, ".") }

// Rename gives a file another name, which no other file has.
func (p *Private) Rename(from, to string) error {
	if _, err := p.root.Lstat(to); err == nil {
		return &fs.PathError{Op: "rename", Path: to, Err: fs.ErrExist}
	}
	return errors.Join(p.root.Rename(from, to), p.Sync())
}

// Remove removes a file.
func (p *Private) Remove(name string) error { return p.root.Remove(name) }

// Names lists what the folder holds, in order.
func (p *Private) Names() ([]string, error) {
	entries, err := fs.ReadDir(p.root.FS(), ".")
	names := make([]string, len(entries))
	for i, e := range entries {
		names[i] = e.Name()
	}
	return names, err
}

// A file is written beside the one whose place it takes, under a name of its own: two runs at once do not write into
// one. The run holds a lock on it, by which what a killed run left is distinguished from what another is writing.
const partStart, partEnd = ".trimlantern-", ".part"

// partName cuts a name so that what is added to it does not make it longer than the 255 bytes that file systems take.
func partName(name string) string { return name[:min(len(name), 200)] }

// newPart makes such a file for name in a folder.
func newPart(root *os.Root, dir, name string) (*os.File, string, error) {
	name = partName(name)
	for {
		part := filepath.Join(dir, partStart+name+"."+rand.Text()[:12]+partEnd)
		f, err := root.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return nil, "", err
		}
		holdLock(f)
		mine, err := f.Stat()
		if err != nil {
			f.Close()
			return nil, "", err
		}
		if there, err := root.Lstat(part); err == nil && os.SameFile(mine, there) {
			return f, part, nil
		}
		f.Close() // somebody took it for a killed run's before it was locked
	}
}

// clearParts removes the files that killed runs had begun for name, or for any in a folder if name is empty.
func clearParts(root *os.Root, dir, name string) {
	name = partName(name)
	d, err := root.Open(dir)
	if err != nil {
		return // what is left over does no harm
	}
	names, err := d.Readdirnames(-1)
	d.Close()
	if err != nil {
		return
	}
	for _, n := range names {
		if !strings.HasPrefix(n, partStart+name) || !strings.HasSuffix(n, partEnd) || name != "" && !isPartOf(n, name) {
			continue
		}
		part := filepath.Join(dir, n)
		if info, err := root.Lstat(part); err != nil || !info.Mode().IsRegular() {
			continue
		}
		f, err := root.OpenFile(part, os.O_RDWR|nonblock, 0)
		if err != nil {
			continue
		}
		if tryLock(f) {
			_ = root.Remove(part)
		}
		f.Close()
	}
}

// isPartOf reports whether a part belongs to name: also in the form of earlier versions, without letters of its own.
func isPartOf(part, name string) bool {
	middle := strings.TrimSuffix(strings.TrimPrefix(part, partStart+name), partEnd)
	return middle == "" || len(middle) == 13 && middle[0] == '.'
}

// TempFolder makes a folder for what is not to outlive the run, which only the caller can enter, and returns what removes
// it. kind is a word for what is in it. Folders of that kind that killed runs of the caller left are removed.
func TempFolder(kind string) (dir string, remove func(), err error) {
	start := "trimlantern-" + kind + "-"
	if old, err := filepath.Glob(filepath.Join(os.TempDir(), start+"*")); err == nil {
		for _, dir := range old {
			removeLeft(dir)
		}
	}
	if dir, err = os.MkdirTemp("", start); err != nil {
		return "", nil, err
	}
	lock, err := os.OpenFile(filepath.Join(dir, tempLock), os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		_ = os.RemoveAll(dir)
		return "", nil, err
	}
	holdLock(lock)
	tempLocks.Store(dir, lock) // until the process ends, also if the caller drops what removes it
	return dir, func() { RemoveTemp(dir) }, nil
}

const tempLock = ".in-use"

var tempLocks sync.Map // of *os.File, by folder

// RemoveTemp removes a folder of TempFolder, by its path. Others it leaves alone.
func RemoveTemp(dir string) {
	if lock, ok := tempLocks.LoadAndDelete(dir); ok {
		_ = os.RemoveAll(dir) // the next run tries again
		lock.(*os.File).Close()
	}
}

// removeLeft removes a folder of TempFolder, if it is the caller's and its run has ended.
func removeLeft(dir string) {
	info, err := os.Lstat(dir)
	if err != nil || !info.IsDir() {
		return
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return
	}
	defer root.Close()
	if now, err := root.Stat("."); err != nil || !os.SameFile(now, info) {
		return
	}
	f, err := root.OpenFile(tempLock, os.O_RDWR|nonblock, 0)
	if err != nil {
		return // just being made, or not ours
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !isCallers(info) { // the folder itself may have been given to another user
		return
	}
	if tryLock(f) {
		_ = os.RemoveAll(dir)
	}
}
