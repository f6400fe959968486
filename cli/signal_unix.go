//go:build unix

package cli

import (
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"

	"trimlantern/work"
)

// calm makes a reader that went away, and a file that may not grow, errors like others.
func calm() { signal.Ignore(syscall.SIGPIPE, syscall.SIGXFSZ) }

// deaf makes a guard outlive what ends the run that it guards.
func deaf() { signal.Ignore(syscall.SIGHUP, syscall.SIGINT, syscall.SIGTERM, syscall.SIGQUIT) }

// apart puts a process into a session of its own: a terminal that goes away does not end it.
func apart(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

// stopRun kills a run whose trial takes longer than it may. Another process may have its number by now: only the one that
// started this guard is killed.
func stopRun(j *work.Job, process int, until time.Time) {
	t, err := j.Trial()
	if err == nil && t != nil && !t.Until.Truncate(time.Second).After(until) && os.Getppid() == process {
		_ = syscall.Kill(process, syscall.SIGKILL) // it may have ended by itself
	}
}
