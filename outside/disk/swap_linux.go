package disk

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// exchange puts each of two files of a folder in the place of the other, in one step. It returns errors.ErrUnsupported where
// the file system cannot.
func exchange(folder *os.File, a, b string) error {
	return renamed(unix.Renameat2(int(folder.Fd()), a, int(folder.Fd()), b, unix.RENAME_EXCHANGE))
}

// place gives a file another name in its folder, unless something has that name: fs.ErrExist.
func place(folder *os.File, from, to string) error {
	return renamed(unix.Renameat2(int(folder.Fd()), from, int(folder.Fd()), to, unix.RENAME_NOREPLACE))
}

func renamed(err error) error {
	if errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOTSUP) {
		return errors.ErrUnsupported
	}
	return err
}

// isWritten reports whether somebody has a file open for writing; known is false where the system does not say. The system
// gives a lease for reading only on a file that has no writers.
func isWritten(f *os.File) (is, known bool) {
	_, err := unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_RDLCK)
	switch {
	case err == nil:
		_, _ = unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_UNLCK) // closing gives it back too
		return false, true
	case errors.Is(err, unix.EAGAIN):
		return true, true
	}
	return false, false
}
