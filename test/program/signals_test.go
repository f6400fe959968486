package program

import (
	"bytes"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var moments = flag.Int("moments", 3, "at how many moments each command is interrupted and killed")

// everyCommand are commands that read or change the bare site, in an order in which each has something to do.
func everyCommand() [][]string {
	return [][]string{
		{"status", "--offline"}, {"preview", "--offline"}, {"show"}, {"show", "changes"}, {"decide", "leave", "charts.tideoffice.example"},
		{"backup"}, {"mend", "--offline"}, {"preview", "--offline"}, {"apply", "--offline"}, {"history"}, {"history", "--check"}, {"undo"},
		{"trace", "http://ternrock.example/1"}, {"redirect", "show", "apache"}, {"systems"}, {"init", "--force", "--here", "--site", "https://ternrock.example", "--database", "sqlite:site.db"},
	}
}

// ends runs a command, sends it a signal after a while, and returns how long it went on then, and how it ended.
func ends(t *testing.T, dir string, args []string, after time.Duration, signal os.Signal) (took time.Duration, code int, said string) {
	c := exec.Command(program, args...)
	c.Dir, c.Env = dir, environment(dir)
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	require.NoError(t, c.Start())
	time.Sleep(after)
	_ = c.Process.Signal(signal) // it may have ended
	began := time.Now()
	_ = c.Wait() // its code is looked at
	return time.Since(began), c.ProcessState.ExitCode(), out.String()
}

// Interrupted at any moment, each command ends within three seconds; killed at any moment, it leaves nothing that the next
// run does not settle, and nothing in the folders that grows.
func TestSignals(t *testing.T) {
	dir := bare(t, 3000)
	r := rand.New(rand.NewPCG(rand.Uint64(), 1))
	before := dump(t, filepath.Join(dir, "site.db"))
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	for range *moments {
		for _, args := range everyCommand() {
			for _, s := range []os.Signal{os.Interrupt, syscall.SIGTERM, syscall.SIGHUP, os.Kill} {
				took, code, said := ends(t, dir, args, time.Duration(r.IntN(150))*time.Millisecond, s)
				require.Less(t, took, 3*time.Second, "%v %v\n%s", args, s, said)
				if s == os.Kill {
					continue
				}
				require.Contains(t, []int{0, 1, 2, 3, -1}, code, "%v %v\n%s", args, s, said) // -1: before the program had begun
			}
		}
		// What an interrupted apply began is finished, and undone.
		run(t, dir, "apply", "--offline")
		if r := run(t, dir, "undo"); r.code != 0 {
			require.Contains(t, r.errs, "nothing to undo", r.out)
		}
		require.Equal(t, before, dump(t, filepath.Join(dir, "site.db")))
		check := run(t, dir, "history", "--check")
		require.Equal(t, 0, check.code, check.out+check.errs)
	}
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "decide", "leave", "seabirdcount.example")
	for _, folder := range []string{dir, logbookOf(dir), filepath.Dir(logbookOf(dir)), temp} {
		left, err := filepath.Glob(filepath.Join(folder, ".trimlantern-*.part"))
		require.NoError(t, err)
		assert.LessOrEqual(t, len(left), 1, folder) // of the last, for another file
	}
	halves, err := filepath.Glob(filepath.Join(filepath.Dir(logbookOf(dir)), "backups", "*.part"))
	require.NoError(t, err)
	want(t, 0, dir, "backup")
	now, err := filepath.Glob(filepath.Join(filepath.Dir(logbookOf(dir)), "backups", "*.part"))
	require.NoError(t, err)
	assert.Empty(t, now, "%d before", len(halves))
}

// A pipe without a writer does not keep a command from ending.
func TestSignalAtPipe(t *testing.T) {
	dir := bare(t, 3)
	pipe := filepath.Join(dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	for _, args := range [][]string{
		{"decide", "edit", "1", "--text", "pipe"}, {"filter", "--site", "https://ternrock.example", "--offline", "pipe"}, {"scan", "--site", "https://ternrock.example", "--list", "pipe"},
	} {
		took, code, said := ends(t, dir, args, 300*time.Millisecond, os.Interrupt)
		assert.Less(t, took, 3*time.Second, "%v %s", args, said)
		assert.Contains(t, []int{1, 2, 3, -1}, code, fmt.Sprintf("%v %s", args, said))
		assert.True(t, strings.HasPrefix(said, "trimlantern: ") || said == "", said)
	}
	// A second signal ends it at once.
	c := exec.Command(program, "filter", "--site", "https://ternrock.example", "--offline")
	c.Dir, c.Env = dir, environment(dir)
	in, err := c.StdinPipe()
	require.NoError(t, err)
	defer in.Close()
	require.NoError(t, c.Start())
	time.Sleep(300 * time.Millisecond)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	time.Sleep(50 * time.Millisecond)
	_ = c.Process.Signal(os.Interrupt) // it may have ended
	began := time.Now()
	_ = c.Wait()
	assert.Less(t, time.Since(began), time.Second)
}
