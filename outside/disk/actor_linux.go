package disk

import (
	"io/fs"
	"os"
	"runtime"
	"syscall"

	"golang.org/x/sys/unix"
)

// actor does file work on a thread of its own that has, where the caller is root and the
// folder another user's, that user's rights: then nothing can be read or written that the
// user could not have read or written.
type actor struct {
	work chan func() // nil: the caller's own rights
}

// actAs returns an actor with the rights of the owner of a folder.
func actAs(folder fs.FileInfo) (*actor, error) {
	uid, gid := owner(folder)
	if os.Geteuid() != 0 || uid == 0 {
		return &actor{}, nil
	}
	a := &actor{work: make(chan func())}
	ready := make(chan error)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with its rights
		// The kernel keeps these for each thread; only the library of C spreads them.
		if _, _, e := syscall.RawSyscall(unix.SYS_SETGROUPS, 0, 0, 0); e != 0 {
			ready <- e
			return
		}
		// Neither tells whether it worked; what it answers to an impossible number is the one
		// that is set.
		_, _ = unix.SetfsgidRetGid(gid)
		_, _ = unix.SetfsuidRetUid(uid)
		if g, _ := unix.SetfsgidRetGid(-1); g != gid {
			ready <- unix.EPERM
			return
		}
		if u, _ := unix.SetfsuidRetUid(-1); u != uid {
			ready <- unix.EPERM
			return
		}
		ready <- nil
		for f := range a.work {
			f()
		}
	}()
	if err := <-ready; err != nil {
		return nil, err
	}
	return a, nil
}

// do works with the actor's rights.
func (a *actor) do(work func() error) error {
	if a.work == nil {
		return work()
	}
	done := make(chan error)
	a.work <- func() { done <- work() }
	return <-done
}

// end ends the actor.
func (a *actor) end() {
	if a.work != nil {
		close(a.work)
	}
}

// through opens a folder only to go on through it, which needs no right to read it.
const through = unix.O_PATH
