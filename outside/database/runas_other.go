//go:build !unix

package database

import (
	"os/exec"

	"trimlantern/outside/disk"
)

// runAs does nothing here: a program always runs with the caller's rights.
func runAs(*exec.Cmd, disk.Owner) {}
