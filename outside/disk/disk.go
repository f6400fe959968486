// Package disk does all work on files that somebody else may have written, or may be
// replacing at this moment. It opens regular files only, never waits for one, leaves no
// declared folder through a symbolic link, keeps owner and mode, and refuses to take
// settings from files that others can write.
package disk

import (
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
)

// ErrNotRegular says that something is no regular file: a folder, a pipe, a device.
var ErrNotRegular = errors.New("not a regular file")

// ErrTooLarge says that a file is larger than what is read of its kind.
var ErrTooLarge = errors.New("too large")

// ErrOwner says that a new file cannot have the owner and group of the one it is to replace.
var ErrOwner = errors.New("its owner cannot be kept")

// Untrusted says that a file or folder that decides what the tool does could have been
// written by somebody else.
type Untrusted struct {
	Path string
	Why  string // "belongs to the user keeper", "can be written by other users"
	Do   string // what the user can do about it
}

func (u *Untrusted) Error() string { return u.Path + " " + u.Why }

// Open opens a regular file for reading. It follows symbolic links only where whoever made
// the link may have: the caller, root, or the owner of what it leads to.
func Open(path string) (*os.File, error) {
	f, err := openFollowing(path)
	if err != nil {
		return nil, err
	}
	if err := regular(f); err != nil {
		f.Close()
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return f, nil
}

// Read reads a regular file of at most most bytes; see Open.
func Read(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return readAll(f, path, most)
}

// ReadTrusted reads a file that decides what the tool does: it must belong to the caller or
// root, and nobody else may be able to write it. Else the error is an *Untrusted.
func ReadTrusted(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if err := trusted(path, info); err != nil {
		return nil, err
	}
	return readAll(f, path, most)
}

// ReadSecret reads a file that holds a secret: beyond what ReadTrusted asks, others may not read it. Its group may, as name
// servers and mail servers have it.
func ReadSecret(path string, most int64) ([]byte, error) {
	b, err := ReadTrusted(path, most)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(path); err == nil && open(info) {
		return nil, &Untrusted{path, fmt.Sprintf("can be read by every user (its mode is %04o), and is to be kept secret", info.Mode().Perm()), "run: chmod o-r " + path + "; whoever has read it could use it: a new one is safer"}
	}
	return b, nil
}

func readAll(f *os.File, path string, most int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(b)) > most {
		err = &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("%w: more than %d bytes", ErrTooLarge, most)}
	}
	if err != nil {
		return nil, err
	}
	return b, nil
}

// Checksum is the CRC-32C of bytes: enough to notice damage, not to keep anybody out.
func Checksum(b []byte) uint32 { return crc32.Checksum(b, castagnoli) }

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func regular(f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() {
		return ErrNotRegular
	}
	return nil
}

// PrivateFolder makes a folder that only the caller can enter, with those above it, or checks
// one that is there: it must be a folder and no link, belong to the caller or root, and not be
// writable by others. Its mode becomes 0700.
func PrivateFolder(path string) error {
	if err := os.MkdirAll(path, 0o700); err != nil {
		return err
	}
	if err := TrustedFolder(path); err != nil {
		return err
	}
	return os.Chmod(path, 0o700)
}

// TrustedFolder checks a folder that is there, as PrivateFolder does, without changing it. A
// folder that is not there is an error of fs.ErrNotExist.
func TrustedFolder(path string) error {
	info, err := os.Lstat(path)
	switch {
	case err != nil:
		return err
	case info.Mode()&fs.ModeSymlink != 0:
		return &Untrusted{path, "is a symbolic link", "remove the link, or name the folder itself"}
	case !info.IsDir():
		return &Untrusted{path, "is no folder", "move it away"}
	}
	return trusted(path, info)
}

// CreateNew makes a file that must not be there yet.
func CreateNew(path string, b []byte, mode fs.FileMode) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(b)
	if err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close()); err != nil {
		_ = os.Remove(path) // it is ours and not all there
	}
	return err
}
