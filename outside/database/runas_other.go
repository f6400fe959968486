//go:build !unix

package database

import (
	"os/exec"

	"trimlantern/outside/disk"
)

// runAs does nothing here: there is no other user's rights to be had.
func runAs(*exec.Cmd, disk.Owner) {}
