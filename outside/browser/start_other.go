//go:build !unix

package browser

import (
	"errors"
	"os/exec"
)

// Unprotected reports whether the browser runs without its sandbox: never, here.
func Unprotected(string) bool { return false }

// Nobody returns "": other systems have no such user.
func Nobody() string { return "" }

func command(_, path string, args []string) *exec.Cmd { return exec.Command(path, args...) }

func runAs(_ *exec.Cmd, _, name string) error {
	if name != "" {
		return errors.New("the browser cannot run as another user on this system")
	}
	return nil
}

func kill(c *exec.Cmd) { _ = c.Process.Kill() } // gone already: all the better
