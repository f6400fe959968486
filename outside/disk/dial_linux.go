package disk

import (
	"io/fs"
	"net"
	"os"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// Owner is the user that a file of settings belongs to. What those settings say is done with that user's rights.
type Owner struct{ UID, GID int }

// OwnerOf returns the owner of a file, if the caller is root and the file another user's; other is false otherwise.
func OwnerOf(path string) (o Owner, other bool) {
	info, err := os.Stat(path)
	if err != nil || os.Geteuid() != 0 {
		return o, false
	}
	return ownerOf(info)
}

func ownerOf(info fs.FileInfo) (o Owner, other bool) {
	o.UID, o.GID = owner(info)
	return o, o.UID != 0
}

// Dial connects with the owner's rights: a server that asks the kernel who is at the other end of a socket, as MariaDB's
// unix_socket and PostgreSQL's peer do, is told the owner and not root.
func (o Owner) Dial(dial func() (net.Conn, error)) (conn net.Conn, err error) {
	done := make(chan struct{})
	go func() {
		defer close(done)
		runtime.LockOSThread() // never unlocked: the thread ends with its rights
		// The kernel keeps these for each thread; only the library of C spreads them.
		for _, call := range [][4]uintptr{{unix.SYS_SETGROUPS, 0, 0, 0}, {unix.SYS_SETRESGID, ^uintptr(0), uintptr(o.GID), ^uintptr(0)}, {unix.SYS_SETRESUID, ^uintptr(0), uintptr(o.UID), ^uintptr(0)}} {
			if _, _, e := syscall.RawSyscall(call[0], call[1], call[2], call[3]); e != 0 {
				err = e
				return
			}
		}
		conn, err = dial()
	}()
	<-done
	return conn, err
}
