//go:build unix

package browser

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

// Unprotected reports whether the browser runs without its sandbox, which does not work as root.
// name is the user that it is to run as; "": the caller.
func Unprotected(name string) bool { return os.Geteuid() == 0 && (name == "" || name == "root") }

// Nobody returns the user without rights of this machine; "" where it has none.
func Nobody() string {
	if _, err := user.Lookup("nobody"); err != nil {
		return ""
	}
	return "nobody"
}

// command runs the browser below a shell that clears up behind it, in a process group of its own.
func command(profile, path string, args []string) *exec.Cmd {
	c := exec.Command("/bin/sh", append([]string{"-c", runAndClear, "sh", profile, path}, args...)...)
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	return c
}

// runAs has a command run as a user, to whom the profile goes.
func runAs(c *exec.Cmd, profile, name string) error {
	if name == "" {
		return nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return fmt.Errorf("there is no user %s on this machine", name)
	}
	uid, err := strconv.ParseUint(u.Uid, 10, 32)
	if err != nil {
		return err
	}
	gid, err := strconv.ParseUint(u.Gid, 10, 32)
	if err != nil {
		return err
	}
	if int(uid) == os.Geteuid() {
		return nil
	}
	if err := os.Chown(profile, int(uid), int(gid)); err != nil {
		return err
	}
	c.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	c.Env = append(os.Environ(), "HOME="+profile, "TMPDIR="+profile, "XDG_CONFIG_HOME="+profile, "XDG_CACHE_HOME="+profile, "XDG_RUNTIME_DIR=", "DBUS_SESSION_BUS_ADDRESS=")
	c.Dir = "/"
	return nil
}

// kill ends the browser with all its processes.
func kill(c *exec.Cmd) { _ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL) } // gone already: all the better
