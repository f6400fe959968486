//go:build unix

package cli

import (
	"os/signal"
	"syscall"
)

// calm makes a reader that went away, and a file that may not grow, errors like others.
func calm() { signal.Ignore(syscall.SIGPIPE, syscall.SIGXFSZ) }
