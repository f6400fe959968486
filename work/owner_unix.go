//go:build unix

package work

import (
	"os"
	"syscall"
)

// keepOwner gives a new file the owner of the old one, where that is allowed.
func keepOwner(old, file string) {
	if info, err := os.Stat(old); err == nil {
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			_ = os.Chown(file, int(st.Uid), int(st.Gid)) // only the owner of both may, or root
		}
	}
}
