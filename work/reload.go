package work

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"trimlantern/outside/verbose"
)

// Reload runs the user's command that makes the server read its files; "": none.
func Reload(ctx context.Context, command string) error {
	if command == "" {
		return nil
	}
	c := exec.CommandContext(ctx, "sh", "-c", command)
	c.WaitDelay = 2 * time.Second // a server that it started may hold its output for good
	began := time.Now()
	said, err := c.CombinedOutput()
	verbose.Took(ctx, began, "command run", err, "command", command)
	if err == nil || errors.Is(err, exec.ErrWaitDelay) {
		return nil
	}
	text := strings.Join(strings.Fields(string(said[max(0, len(said)-500):])), " ")
	return Failed(err, fmt.Sprintf("the command %q failed: %s", command, text), "run it by hand and read what it says")
}
