package program

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// folder returns what a folder holds: mode and text of each file, by its path.
func folder(t *testing.T, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := os.Lstat(path)
		require.NoError(t, err)
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		out[strings.TrimPrefix(path, dir)] = info.Mode().String() + "\x00" + string(b)
		return nil
	}))
	return out
}

// Files are a place like the database: shown, changed, put back; and what is no text,
// may not be written or is made by a program stays.
func TestFiles(t *testing.T) {
	dir, initArgs := museum(t)
	theme := filepath.Join(dir, "theme")
	write := func(name, text string, mode os.FileMode) {
		path := filepath.Join(theme, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		require.NoError(t, os.Chmod(path, mode))
	}
	write("dos.php", "<?php\r\n$a = 'http://ternrock.example/a';\r\n$b = \"http:\\/\\/ternrock.example:80\\/b\";\r\n", 0o640)
	write("latin.css", "/* caf\xe9 */ p { background: url(http://ternrock.example/caf\xe9.png) }", 0o644)
	write("locked.js", "go('http://ternrock.example/locked')", 0o444)
	write("made.css", "/* Automatically generated */ p { background: url(http://ternrock.example/m.png) }", 0o644)
	write("bin.js", "\x00http://ternrock.example/bin", 0o644)
	write("words.txt", "http://ternrock.example/words", 0o644)
	write("edited.html", "<img src='http://ternrock.example/e.png'>", 0o644)
	write("gone.html", "<img src='http://ternrock.example/g.png'>", 0o644)
	write("left.html", "<img src='http://ternrock.example/l.png'>", 0o644)
	require.NoError(t, os.Symlink(filepath.Join(theme, "dos.php"), filepath.Join(theme, "link.php")))
	before := folder(t, theme)
	want(t, 0, dir, initArgs...)
	var preview struct {
		Files []struct {
			Path       string
			References int
		}
		Findings []struct{ Reason, File string }
		Skipped  []struct{ Path, Why string } `json:"skipped_files"`
	}
	decode(t, want(t, 0, dir, "preview", "--offline", "--except", "file:theme/left.html", "--format", "json"), &preview)
	var paths []string
	for _, f := range preview.Files {
		paths = append(paths, strings.TrimPrefix(f.Path, "theme/"))
	}
	assert.Equal(t, []string{"dos.php", "edited.html", "footer.html", "gone.html", "latin.css"}, paths)
	reasons := map[string]string{}
	for _, f := range preview.Findings {
		if f.File != "" {
			reasons[strings.TrimPrefix(f.File, "theme/")] = f.Reason
		}
	}
	assert.Equal(t, map[string]string{"locked.js": "read-only", "made.css": "generated", "left.html": "not-chosen", "header.html": "no-verdict"}, reasons)
	require.Len(t, preview.Skipped, 1)
	assert.Contains(t, preview.Skipped[0].Why, "symbolic link")
	assert.Equal(t, before, folder(t, theme), "preview changes nothing")
	text := want(t, 0, dir, "preview", "--offline", "--except", "file:theme/left.html").out
	assert.Contains(t, text, "theme/footer.html:2\n    - <img src=\"http://www")
	assert.Contains(t, text, "    + <img src=\"https://www")
	assert.Regexp(t, `not read: theme/link\.php\n    a symbolic link`, want(t, 1, dir, "trace", "http://ternrock.example/a").out)

	write("edited.html", "<img src='http://ternrock.example/e.png'> edited", 0o644)
	require.NoError(t, os.Remove(filepath.Join(theme, "gone.html")))
	var applied struct {
		Planned int `json:"planned_files"`
		Files   []string
		Skipped []struct{ Table, Why string }
	}
	decode(t, want(t, 1, dir, "apply", "--offline", "--format", "json"), &applied)
	assert.Equal(t, applied.Planned, len(applied.Files)+len(applied.Skipped))
	assert.Equal(t, []string{"theme/dos.php", "theme/footer.html", "theme/latin.css"}, applied.Files)
	require.Len(t, applied.Skipped, 2)
	assert.Equal(t, "theme/edited.html: changed since the preview, theme/gone.html: the file is gone", applied.Skipped[0].Table+": "+applied.Skipped[0].Why+", "+applied.Skipped[1].Table+": "+applied.Skipped[1].Why)
	now := folder(t, theme)
	assert.Equal(t, "-rw-r-----\x00<?php\r\n$a = 'https://ternrock.example/a';\r\n$b = \"https:\\/\\/ternrock.example\\/b\";\r\n", now["/dos.php"])
	assert.Equal(t, "-rw-r--r--\x00/* caf\xe9 */ p { background: url(https://ternrock.example/caf\xe9.png) }", now["/latin.css"])
	assert.True(t, strings.HasPrefix(now["/link.php"], "L"), "a link stays a link")

	write("latin.css", "somebody else's", 0o644)
	var undone struct {
		Files []string
		Left  []struct{ Table, Why string }
	}
	decode(t, want(t, 1, dir, "undo", "--format", "json"), &undone)
	assert.Len(t, undone.Files, 2)
	require.Len(t, undone.Left, 1)
	assert.Contains(t, undone.Left[0].Table, "latin.css")
	now = folder(t, theme)
	for _, name := range []string{"/dos.php", "/footer.html", "/header.html"} {
		assert.Equal(t, before[name], now[name], name)
	}
}

// A run that is killed while it changes files goes on, and ends as if nothing had been.
func TestFilesKilled(t *testing.T) {
	dir, initArgs := museum(t)
	for i := range 300 {
		path := filepath.Join(dir, "theme", "many", strings.Repeat("x", i%7)+string(rune('a'+i%26)), "f"+strings.Repeat("y", i/26)+".html")
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(strings.Repeat("<a href='http://ternrock.example/'>x</a>\n", 50)), 0o644))
	}
	before := folder(t, filepath.Join(dir, "theme"))
	want(t, 0, dir, initArgs...)
	want(t, 0, dir, "preview", "--offline")
	kills := 0
	for wait := 2 * time.Millisecond; ; wait += 5 * time.Millisecond {
		if !killed(t, dir, wait, "apply", "--offline", "--quiet") {
			break
		}
		kills++
	}
	assert.Greater(t, kills, 3)
	for path, text := range folder(t, filepath.Join(dir, "theme")) {
		if strings.HasPrefix(path, "/many/") {
			assert.NotContains(t, text, "http:", path)
		}
	}
	for wait := 2 * time.Millisecond; killed(t, dir, wait, "undo", "--quiet"); wait += 5 * time.Millisecond {
	}
	assert.Equal(t, before, folder(t, filepath.Join(dir, "theme")))
}

// killed runs the program and kills it after a while; it reports whether that was
// before its end.
func killed(t *testing.T, dir string, after time.Duration, args ...string) bool {
	c := exec.Command(program, args...)
	c.Dir, c.Env = dir, environment(dir)
	require.NoError(t, c.Start())
	timer := time.AfterFunc(after, func() { _ = c.Process.Kill() }) // gone already: that is the end
	err := c.Wait()
	timer.Stop()
	if c.ProcessState.ExitCode() >= 0 {
		require.LessOrEqual(t, c.ProcessState.ExitCode(), 2, "%v", err) // 2: it was killed behind its last change
		return false
	}
	return true
}
