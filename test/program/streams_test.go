package program

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The log tells of requests, databases and files, and holds no secret, whatever the run does.
func TestVerbose(t *testing.T) {
	dir, args := museum(t)
	want(t, 0, dir, args...)
	const secret = "lamp room key 7"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secrets"), []byte("basic keeper:"+secret+"\nX-Stage: "+secret+"\n"), 0o600))
	for _, form := range []string{"--verbose", "--verbose=json"} {
		logged := ""
		for _, args := range [][]string{{"preview"}, {"scan", "--credentials", "secrets"}, {"apply"}, {"undo"}} {
			r := run(t, dir, append(args, form)...)
			require.Contains(t, []int{0, 1}, r.code, r.errs)
			assert.NotContains(t, r.out, "level", "the log has its own stream")
			logged += r.errs
		}
		for _, what := range []string{"begun", "database opened", "table read", "request", "journal begun", "batch committed", "file written", "ended"} {
			assert.Contains(t, logged, what)
		}
		assert.NotContains(t, logged, secret)
		assert.NotContains(t, logged, "a2VlcGVyOmxhbXAgcm9vbSBrZXkgNw", "nor in base64")
		if form == "--verbose=json" {
			for line := range strings.Lines(logged) {
				assert.True(t, json.Valid([]byte(line)), line)
			}
		}
	}
	assert.Contains(t, run(t, dir, "preview", "--verbose=loud").errs, "--verbose loud is not known; write text or json")
}

// In a pipe numbers have no blank in them, and a locale without other letters gets ASCII on a terminal.
func TestStreams(t *testing.T) {
	dir, args := museum(t)
	want(t, 0, dir, args...)
	want(t, 0, dir, "preview")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "wide.sql"), []byte("CREATE TABLE `o` (`id` int NOT NULL, `v` longtext, PRIMARY KEY (`id`)) CHARSET=utf8mb4;\nINSERT INTO `o` VALUES (1,'"+
		strings.Repeat("http://ternrock.example/ ", 12345)+"');\n"), 0o600))
	r := want(t, 0, dir, "filter", "--site", "https://ternrock.example", "wide.sql", "out.sql")
	assert.Contains(t, r.errs, "12345 references")

	page := run(t, dir, "scan", "--report", "-")
	assert.Contains(t, page.out, "<!DOCTYPE html>")
	assert.Contains(t, page.errs, "Scanned https://ternrock.example", "what is said leaves standard output to the report")
	assert.Contains(t, want(t, 2, dir, "scan", "--report", "-", "--format", "csv").errs, "both write to standard output")

	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	for _, args := range [][]string{{"status"}, {"show", "changes"}, {"show", "changes", "--format", "json"}, {"scan"}, {"history"}} {
		c := exec.Command(program, args...)
		c.Dir, c.Env, c.Stdout = dir, environment(dir), full
		var errs strings.Builder
		c.Stderr = &errs
		_ = c.Run() // its code is looked at
		assert.Equal(t, 3, c.ProcessState.ExitCode(), "%v: a result that could not be written is not there", args)
		assert.Contains(t, errs.String(), "cannot be written")

		c = exec.Command("sh", "-c", program+" "+strings.Join(args, " ")+" --quiet 2>errs | true")
		c.Dir, c.Env = dir, environment(dir)
		require.NoError(t, c.Run())
		b, err := os.ReadFile(filepath.Join(dir, "errs"))
		require.NoError(t, err)
		assert.Empty(t, string(b), "%v: a reader that has seen enough is no fault", args)
	}

	for locale, ascii := range map[string]bool{"C": true, "en_GB.ISO-8859-1": true, "C.UTF-8": false} {
		c := exec.Command("script", "-qec", "stty cols 80; "+program+" --color never --quiet scan --trace", "/dev/null")
		c.Dir, c.Env = dir, append(environment(dir), "LC_ALL="+locale, "TERM=xterm")
		out, _ := c.CombinedOutput() // the scan finds something
		require.Contains(t, string(out), "Scanned", "%s", out)
		assert.Equal(t, ascii, !regexp.MustCompile(`[^\x00-\x7f]`).Match(out), "%s: %s", locale, out)
	}
}
