package program

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type backedUp struct {
	Folder, File, Archive string
	Tables, Rows, Files   int
	Left                  []string
}

// The made-up site: all of it comes back, what cannot be packed is named, and apply and status know of it.
func TestBackup(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	before, theme := dump(t, filepath.Join(dir, "site.db")), folder(t, filepath.Join(dir, "theme"))
	r := want(t, 0, dir, "backup")
	assert.Contains(t, r.out, "Read back: every row is counted, every file compared.")
	want(t, 0, dir, "preview", "--offline", "--quiet")
	assert.Contains(t, want(t, 0, dir, "apply", "--offline", "--quiet").out, "last backup: 20")
	status := strings.Join(strings.Fields(want(t, 1, dir, "status").out), " ")
	assert.Contains(t, status, "5 tables with 60 rows, 4 files")

	backups := filepath.Join(filepath.Dir(siteFile(dir)), "backups")
	made, err := os.ReadDir(backups)
	require.NoError(t, err)
	require.Len(t, made, 1)
	at := filepath.Join(backups, made[0].Name())
	info, err := os.Stat(at)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
	require.NotEqual(t, before, dump(t, filepath.Join(dir, "site.db")))
	assert.Equal(t, before, dump(t, filepath.Join(at, "database.sqlite")), "as it was before apply")
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "theme")))
	out, err := exec.Command("tar", "--zstd", "-xpf", filepath.Join(at, "files.tar.zst"), "-C", "/").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, theme, folder(t, filepath.Join(dir, "theme")))

	// A link is not followed, and said.
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "theme", "passwd")))
	var b backedUp
	require.NoError(t, json.Unmarshal([]byte(want(t, 1, dir, "backup", "--quiet", "--format", "json", filepath.Join(homeOf(dir), "elsewhere")).out), &b))
	require.Len(t, b.Left, 1)
	assert.Contains(t, b.Left[0], "passwd: ")
	assert.Equal(t, 4, b.Files)
	assert.Contains(t, strings.Join(strings.Fields(want(t, 1, dir, "status").out), " "), "not all of it: trimlantern backup")

	// What a backup leaves out by its nature is said.
	other := bare(t, 3)
	out2 := want(t, 0, other, "backup").out
	assert.Contains(t, out2, "not in it: files: the site file declares no folders")
	assert.NotContains(t, out2, "every file")

	// Never where a web server could hand it out.
	r = want(t, 2, dir, "backup", filepath.Join(dir, "public_html"))
	assert.Contains(t, r.errs, "is served by a web server")
}

// Killed at any moment, or with the disk full: half a backup is none.
func TestBackupKilled(t *testing.T) {
	t.Parallel()
	dir := bare(t, 20000)
	began := time.Now()
	want(t, 0, dir, "backup", "--quiet")
	took := time.Since(began)
	backups := filepath.Join(filepath.Dir(siteFile(dir)), "backups")
	whole := func() (n int) {
		entries, err := os.ReadDir(backups)
		require.NoError(t, err)
		for _, e := range entries {
			if !strings.HasSuffix(e.Name(), ".part") {
				assert.FileExists(t, filepath.Join(backups, e.Name(), "database.sqlite"))
				n++
			}
		}
		return n
	}
	for i := range 10 {
		c := exec.Command(program, "backup", "--quiet")
		c.Dir, c.Env = dir, environment(dir)
		require.NoError(t, c.Start())
		time.Sleep(took * time.Duration(i) / 10)
		_ = c.Process.Kill() // it may have ended
		_ = c.Wait()         // the same
		whole()
	}
	before := whole()
	c := exec.Command("bash", "-c", `ulimit -f 16; exec "$0" backup --quiet`, program)
	c.Dir, c.Env = dir, environment(dir)
	out, _ := c.CombinedOutput() // its exit code is looked at
	assert.Equal(t, 3, c.ProcessState.ExitCode(), string(out))
	assert.Equal(t, before, whole())
	parts, err := filepath.Glob(filepath.Join(backups, "*.part"))
	require.NoError(t, err)
	assert.Empty(t, parts)
}

// The command of the page on backups is run; restoring by the databases' own clients is tried with the real ones.
func TestBackupPage(t *testing.T) {
	b, err := os.ReadFile("../../docs/backup.md")
	require.NoError(t, err)
	dir := bare(t, 3)
	ran := 0
	for _, block := range strings.Split(string(b), "```sh\n")[1:] {
		block, _, _ = strings.Cut(block, "```")
		for line := range strings.Lines(block) {
			want(t, 0, dir, strings.Fields(line)[1:]...)
			ran++
		}
	}
	assert.Equal(t, 1, ran)
}

// What leaves nothing else in the logbook has its line in history: backups, certificates, dumps that were written.
func TestHistoryOfAll(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	want(t, 0, dir, "backup", "--quiet")
	want(t, 0, dir, "cert", "renew", "--again", "--quiet")
	var h struct {
		Entries []struct{ ID, Run, State string }
	}
	decode(t, want(t, 0, dir, "history", "--format", "json"), &h)
	var runs []string
	for _, e := range h.Entries {
		runs = append(runs, e.Run+" "+e.State)
	}
	require.Len(t, runs, 3)
	assert.Contains(t, runs[0], "certificate until 20")
	assert.Equal(t, "backup 60 rows, 4 files", runs[1])
	assert.Contains(t, runs[2], "certificate until 20")
	assert.Contains(t, want(t, 0, dir, "history").out, "60 rows, 4 files")

	// A line that a crash cut off spoils nothing.
	diary := filepath.Join(logbookOf(dir), "diary.jsonl")
	f, err := os.OpenFile(diary, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"id":"2026`)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	want(t, 0, dir, "cert", "renew", "--again", "--quiet")
	decode(t, want(t, 0, dir, "history", "--format", "json"), &h)
	assert.Len(t, h.Entries, 4)
}
