//go:build !unix

package cli

import (
	"os/exec"
	"time"

	"trimlantern/work"
)

// calm does nothing where such things are errors anyway.
func calm() {}

// deaf, apart and stopRun do nothing where there are no such signals and sessions.
func deaf()                             {}
func apart(*exec.Cmd)                   {}
func stopRun(*work.Job, int, time.Time) {}
