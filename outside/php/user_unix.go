//go:build unix

package php

import (
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// leave gives up root's rights where there is a user for that.
func leave(c *exec.Cmd) {
	if os.Geteuid() != 0 {
		return
	}
	u, err := user.Lookup("nobody")
	if err != nil {
		return
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil {
		return
	}
	c.Dir = "/"
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
}
