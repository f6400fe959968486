//go:build unix && !linux

package disk

import (
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// actor does file work with the caller's rights.
type actor struct{}

// actAs refuses root where a folder is another user's: here a thread cannot have that user's rights.
func actAs(folder fs.FileInfo) (*actor, error) {
	if uid, _ := owner(folder); os.Geteuid() == 0 && uid != 0 {
		return nil, &Untrusted{folder.Name(), "belongs to the user " + userName(uid), "run the same command as that user (sudo -u " + userName(uid) + ")"}
	}
	return &actor{}, nil
}

func (*actor) do(work func() error) error { return work() }

func (*actor) end() {}

const through = unix.O_RDONLY
