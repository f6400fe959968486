//go:build unix

package database

import (
	"os/exec"
	"syscall"

	"trimlantern/outside/disk"
)

// runAs has a program run with a user's rights, in no other group.
func runAs(c *exec.Cmd, o disk.Owner) {
	c.Dir = "/"
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(o.UID), Gid: uint32(o.GID)}}
}
