//go:build unix

package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// owner returns who a file belongs to.
func owner(info fs.FileInfo) (uid, gid int) {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(st.Uid), int(st.Gid)
	}
	return 0, 0
}

// trusted says why a file or folder is not to be trusted, or nil.
func trusted(path string, info fs.FileInfo) error {
	uid, _ := owner(info)
	switch me := os.Geteuid(); {
	case uid != me && uid != 0 && me == 0:
		return &Untrusted{path, "belongs to the user " + userName(uid), "run the same command as that user (sudo -u " + userName(uid) + "), or give the file to root"}
	case uid != me && uid != 0:
		return &Untrusted{path, "belongs to the user " + userName(uid), "run the same command as that user, or make a file of your own"}
	case info.Mode().Perm()&0o022 != 0:
		return &Untrusted{path, fmt.Sprintf("can be written by other users (its mode is %04o)", info.Mode().Perm()), "run: chmod go-w " + path}
	}
	return nil
}

// open reports whether every user may read a file.
func open(info fs.FileInfo) bool { return info.Mode().Perm()&0o004 != 0 }

// isCallers reports whether a file belongs to the caller.
func isCallers(info fs.FileInfo) bool {
	uid, _ := owner(info)
	return uid == os.Geteuid()
}

// trustedAbove refuses a folder if another user could put something else in its place: if one above it can be
// written by others. In a folder with the sticky bit, like /tmp, users cannot move what belongs to others.
func trustedAbove(path string) error {
	abs, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	for at := filepath.Dir(abs); ; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		if err != nil {
			return err
		}
		uid, gid := owner(info)
		mode := info.Mode()
		switch {
		case mode&fs.ModeSymlink != 0 && (uid == 0 || uid == os.Geteuid()): // a link of ours: what it leads to is looked at
			to, err := filepath.EvalSymlinks(at)
			if err != nil {
				return err
			}
			return trustedAbove(filepath.Join(to, "x"))
		case mode&fs.ModeSticky != 0:
		case mode.Perm()&0o002 != 0, mode.Perm()&0o020 != 0 && gid != 0 && !privateGroup(uid, gid):
			return &Untrusted{at, fmt.Sprintf("can be written by other users (its mode is %04o), who could put another folder in the place of %s", mode.Perm(), abs), "run: chmod go-w " + at}
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// privateGroup reports whether a group is its owner's own, as many systems make one for each user: then what the group
// can write, only that user can. Example: the folder belongs to keeper:keeper with mode 0775.
func privateGroup(uid, gid int) bool {
	u, err := user.LookupId(strconv.Itoa(uid))
	if err != nil || u.Gid != strconv.Itoa(gid) {
		return false
	}
	g, err := user.LookupGroupId(u.Gid)
	return err == nil && g.Name == u.Username
}

// holdLock waits for a lock on an open file and keeps it until the file is closed; tryLock reports whether it could be had
// at once. File systems without locks have the lock, and the files of killed runs stay there.
func holdLock(f *os.File) { _ = unix.Flock(int(f.Fd()), unix.LOCK_EX) }

func tryLock(f *os.File) bool { return unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil }

// userName names a user for people.
func userName(uid int) string {
	if u, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		return u.Username
	}
	return strconv.Itoa(uid)
}

// maxLinks bounds how many symbolic links a path is followed through.
const maxLinks = 40

// openFollowing opens a path step by step. A symbolic link on the way is followed if it belongs
// to the caller, to root, or to the owner of what it leads to.
func openFollowing(path string) (*os.File, error) {
	fd, err := walkTo(path)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return os.NewFile(uintptr(fd), path), nil
}

// Followed returns the path of what a path leads to. If it is a symbolic link, the rule of Open
// holds for it; if nothing is there, or no link, it is the path itself.
func Followed(path string) (string, error) {
	if info, err := os.Lstat(path); err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return path, nil // whoever opens it says what is wrong
	}
	fd, err := walkTo(path)
	if err != nil {
		return "", &fs.PathError{Op: "open", Path: path, Err: err}
	}
	_ = unix.Close(fd)
	return filepath.EvalSymlinks(path)
}

// errForeignLink says that a link belongs to somebody who need not have had access to what
// it leads to.
var errForeignLink = errors.New("leads through a symbolic link of another user")

func walkTo(path string) (fd int, err error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return -1, err
	}
	const folder = through | unix.O_DIRECTORY | unix.O_CLOEXEC
	at, err := unix.Open("/", folder, 0)
	if err != nil {
		return -1, err
	}
	defer func() { _ = unix.Close(at) }()
	rest := strings.Split(strings.Trim(abs, "/"), "/")
	var foreign []uint32 // owners of the links of the way that are neither the caller's nor root's
	for links := 0; len(rest) > 0; {
		name := rest[0]
		rest = rest[1:]
		if name == "" || name == "." {
			continue
		}
		var st unix.Stat_t
		if err := unix.Fstatat(at, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return -1, err
		}
		if st.Mode&unix.S_IFMT == unix.S_IFLNK {
			if links++; links > maxLinks {
				return -1, unix.ELOOP
			}
			to := make([]byte, 4096)
			n, err := unix.Readlinkat(at, name, to)
			if err != nil {
				return -1, err
			}
			if st.Uid != 0 && int(st.Uid) != os.Geteuid() {
				foreign = append(foreign, st.Uid)
			}
			target := string(to[:n])
			if strings.HasPrefix(target, "/") {
				next, err := unix.Open("/", folder, 0)
				if err != nil {
					return -1, err
				}
				_ = unix.Close(at)
				at = next
			}
			rest = append(strings.Split(strings.Trim(target, "/"), "/"), rest...)
			continue
		}
		how := unix.O_RDONLY | unix.O_NOFOLLOW | unix.O_NONBLOCK | unix.O_CLOEXEC | unix.O_NOCTTY
		if len(rest) > 0 {
			how = folder | unix.O_NOFOLLOW
		} else if t := st.Mode & unix.S_IFMT; t != unix.S_IFREG && t != unix.S_IFDIR {
			return -1, ErrNotRegular // opening a device may do something
		}
		next, err := unix.Openat(at, name, how, 0)
		if err != nil {
			return -1, err
		}
		_ = unix.Close(at)
		at = next
	}
	var st unix.Stat_t
	if err := unix.Fstat(at, &st); err != nil {
		return -1, err
	}
	for _, uid := range foreign {
		if uid != st.Uid {
			return -1, errForeignLink
		}
	}
	fd = at
	at = -1
	return fd, nil
}

// giveTo gives a new file the owner and the group of another.
func giveTo(f *os.File, like fs.FileInfo) error {
	uid, gid := owner(like)
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if u, g := owner(info); u == uid && g == gid {
		return nil
	}
	if err := f.Chown(uid, gid); err != nil {
		return &fs.PathError{Op: "chown", Path: like.Name(), Err: fmt.Errorf("%w: %w", ErrOwner, err)}
	}
	return nil
}

// nonblock keeps the opening of a pipe from waiting for the other side.
const nonblock = unix.O_NONBLOCK | unix.O_NOCTTY

// setTime sets the time of a file's last change.
func setTime(f *os.File, t time.Time) error {
	tv := unix.NsecToTimeval(t.UnixNano())
	return unix.Futimes(int(f.Fd()), []unix.Timeval{tv, tv})
}
