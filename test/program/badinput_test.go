package program

import (
	"bytes"
	"fmt"
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

// Each kind of bad input: the exit code, and what is said.
func TestBadInput(t *testing.T) {
	dir := bare(t, 3)
	before := dump(t, filepath.Join(dir, "site.db"))
	empty := t.TempDir()
	broken := filepath.Join(t.TempDir(), "broken.yaml")
	require.NoError(t, os.WriteFile(broken, []byte("site: https://ternrock.example\nbase: {}\n"), 0o600))
	for _, c := range []struct {
		why  string
		dir  string
		args []string
		code int
		say  string
	}{
		{"no configuration", empty, []string{"preview"}, 2, "there is no trimlantern.yaml here, in a folder above, or in "},
		{"no configuration, scan", empty, []string{"scan"}, 2, "there is no trimlantern.yaml"},
		{"no configuration, no flags", empty, []string{"init"}, 2, "the site's address is empty"},
		{"a site file that is not there", empty, []string{"apply", "--config", "nothing.yaml"}, 2, "there is no site file nothing.yaml"},
		{"a broken site file", empty, []string{"preview", "--config", broken}, 2, "line 2: the key base is not known"},
		{"the insecure address", empty, []string{"init", "--site", "http://ternrock.example", "."}, 2, "give the HTTPS one: https://ternrock.example"},
		{"a misspelt scheme", empty, []string{"init", "--site", "htps://ternrock.example", "."}, 2, `the scheme "htps", which is not https`},
		{"an empty address", empty, []string{"init", "--site", "", "."}, 2, "is empty"},
		{"an empty folder", empty, []string{"init", "--site", "https://ternrock.example", "."}, 2, "no configuration of a known system"},
		{"no folder", empty, []string{"init", "--site", "https://ternrock.example", "nowhere"}, 2, "there is no folder nowhere"},
		{"database not there", empty, []string{"init", "--site", "https://ternrock.example", "--database", "sqlite:nothing.db"}, 3, "the database is not there"},
		{"no database file", empty, []string{"init", "--site", "https://ternrock.example", "--database", "sqlite:" + broken}, 3, "is not an SQLite file"},
		{"a database address that is none", empty, []string{"init", "--site", "https://ternrock.example", "--database", "cabinet"}, 2, "write sqlite:FILE, dump:FILE, mysql://"},
		{"a password in the open", empty, []string{"init", "--site", "https://ternrock.example", "--database", "mysql://keeper:lamp-oil@h/museum"}, 2, "must not hold the password"},
		{"no such prefix", dir, []string{"init", "--config", "x.yaml", "--site", "https://ternrock.example", "--database", "sqlite:site.db", "--prefix", "zz_"}, 2, `no tables of WordPress with the prefix "zz_"`},
		{"no such system description", dir, []string{"init", "--config", "x.yaml", "--site", "https://ternrock.example", "--database", "sqlite:site.db", "--system", "none"}, 2, "known are generic, wordpress"},
		{"a site file in the way", dir, []string{"init", "--here", "--site", "https://beacon.example", "."}, 2, "already exists, for another site"},
		{"no sheet yet", dir, []string{"apply"}, 2, "there is no change sheet yet"},
		{"no such sheet", dir, []string{"apply", "20200101-000000-000"}, 2, "no change sheet is called 20200101-000000-000"},
		{"nothing to undo", dir, []string{"undo"}, 2, "there is nothing to undo"},
		{"no such journal", dir, []string{"undo", "20200101-000000-000"}, 2, "no journal is called"},
		{"no such command", dir, []string{"rehearse"}, 2, `unknown command "rehearse"`},
		{"no such flag", dir, []string{"preview", "--fast"}, 2, "unknown flag: --fast"},
		{"a dry run asked for", dir, []string{"apply", "--dry-run"}, 2, "trimlantern preview is the dry run"},
		{"an argument too many", dir, []string{"preview", "twice"}, 2, `takes no "twice"`},
		{"no such format", dir, []string{"status", "--format", "xml"}, 2, "write text or json"},
		{"a page of another site", dir, []string{"scan", "https://other.example/"}, 2, "is not an address of https://ternrock.example"},
		{"a resolve that is none", dir, []string{"preview", "--resolve", "ternrock.example"}, 2, "write HOST:PORT:ADDR"},
		{"an authority that is none", dir, []string{"scan", "--ca", "site.db"}, 2, "holds no certificate in PEM form"},
		{"a server that is not there", dir, []string{"scan", "--resolve", "*:443:127.0.0.1:1"}, 3, "cannot be read"},
		{"a folder in the way of the demo", dir, []string{"demo", "--stay", dir}, 3, "is not empty"},
	} {
		t.Run(c.why, func(t *testing.T) {
			r := want(t, c.code, c.dir, c.args...)
			assert.Contains(t, r.errs, c.say)
			assert.Contains(t, r.errs, "What to do: ")
			assert.NotContains(t, r.out+r.errs, "lamp-oil", "a password is never repeated")
			assert.NoFileExists(t, filepath.Join(c.dir, "x.yaml"))
		})
	}
	assert.NoFileExists(t, filepath.Join(empty, "trimlantern.yaml"))
	assert.NoFileExists(t, filepath.Join(empty, "nothing.db"), "a database that is not there is not made")
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")))
}

// inSiteFile changes the site file of a folder.
func inSiteFile(t *testing.T, dir, from, to string) {
	path := siteFile(dir)
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Contains(t, string(b), from)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(b), from, to, 1)), 0o600))
}

func TestAnotherSite(t *testing.T) {
	for to, say := range map[string]string{
		"site: https://other.example":               "this database belongs to another site: its address is http://ternrock.example",
		"site: https://ternrock.example.org":        "this database belongs to another site",
		"site: https://ternrock.example/not/its/in": "this database belongs to another site",
		"site: http://ternrock.example":             "is the insecure address",
		"site: ftp://ternrock.example":              "which is not https",
	} {
		dir := bare(t, 1)
		inSiteFile(t, dir, "site: https://ternrock.example", to)
		r := want(t, 2, dir, "preview", "--offline")
		assert.Contains(t, r.errs, say, to)
		sheets, err := filepath.Glob(filepath.Join(logbookOf(dir), "*sheet*"))
		require.NoError(t, err)
		assert.Empty(t, sheets, "no sheet, whole or half")
	}
	dir := bare(t, 1)
	inSiteFile(t, dir, "prefix: m_", "prefix: zz_")
	r := want(t, 2, dir, "preview", "--offline")
	assert.Contains(t, r.errs, "a prefix that fits: m_")
}

func TestBadSheets(t *testing.T) {
	dir := bare(t, 50)
	path := filepath.Join(dir, "site.db")
	before := dump(t, path)
	want(t, 0, dir, "preview", "--offline")
	sheets, err := filepath.Glob(filepath.Join(logbookOf(dir), "*.sheet.jsonl.zst"))
	require.NoError(t, err)
	require.Len(t, sheets, 1)
	good, err := os.ReadFile(sheets[0])
	require.NoError(t, err)
	refused := func(why, say string) {
		t.Helper()
		r := want(t, 2, dir, "apply", "--offline")
		assert.Contains(t, r.errs, say, why)
		assert.Contains(t, r.errs, "trimlantern preview", why)
		require.Equal(t, before, dump(t, path), "%s: nothing was changed", why)
	}
	put := func(b []byte) { require.NoError(t, os.WriteFile(sheets[0], b, 0o600)) }
	for _, n := range []int{0, 1, 20, len(good) / 2, len(good) - 1} {
		put(good[:n])
		refused("cut off", "the change sheet")
	}
	put(bytes.Repeat([]byte("rubbish "), 100))
	refused("rubbish", "the change sheet")
	flipped := bytes.Clone(good)
	flipped[len(flipped)/2] ^= 1
	put(flipped)
	refused("damaged", "the change sheet")
	put(good)

	inSiteFile(t, dir, "site: https://ternrock.example", "site: https://ternrock.example/core")
	refused("a sheet of another site", "is of the site https://ternrock.example, not of https://ternrock.example/core")
	inSiteFile(t, dir, "site: https://ternrock.example/core", "site: https://ternrock.example")
	require.NoError(t, os.Rename(path, filepath.Join(dir, "moved.db")))
	path = filepath.Join(dir, "moved.db")
	inSiteFile(t, dir, "file: site.db", "file: moved.db")
	refused("a sheet of another database", "is of another database")
	inSiteFile(t, dir, "file: moved.db", "file: site.db")
	require.NoError(t, os.Rename(path, filepath.Join(dir, "site.db")))
	path = filepath.Join(dir, "site.db")

	r := want(t, 2, dir, "apply", "--ca", "site.db")
	assert.Contains(t, r.errs, "holds no certificate")
	require.Equal(t, before, dump(t, path), "a bad option is refused before anything changes")
	want(t, 0, dir, "apply", "--offline")
	r = want(t, 2, dir, "apply", "--offline")
	assert.Contains(t, r.errs, "was applied already")
}

// A read-only folder is tried as a user who may not write, also where the tests
// run as root.
func TestReadOnlyFolder(t *testing.T) {
	dir := bare(t, 3)
	for _, f := range []string{"site.db", "trimlantern.yaml"} {
		require.NoError(t, os.Chmod(filepath.Join(dir, f), 0o644))
	}
	require.NoError(t, os.Chmod(dir, 0o555))
	t.Cleanup(func() { assert.NoError(t, os.Chmod(dir, 0o755)) })
	for _, args := range [][]string{{"preview", "--offline"}, {"init", "--config", "new.yaml", "--site", "https://ternrock.example", "--database", "sqlite:site.db"}} {
		c := exec.Command(program, args...)
		c.Dir, c.Env = dir, environment(dir)
		if os.Getuid() == 0 {
			c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
		}
		out, _ := c.CombinedOutput() // its exit code is asserted
		assert.Equal(t, 3, c.ProcessState.ExitCode(), string(out))
		assert.Contains(t, string(out), "permission denied")
		assert.Contains(t, string(out), "What to do: make the folder")
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 3, "nothing half-written")
}

func TestTwoAtOnce(t *testing.T) {
	dir := bare(t, 30000)
	want(t, 0, dir, "preview", "--offline")
	first := exec.Command(program, "apply", "--offline")
	first.Dir, first.Env = dir, environment(dir)
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool { // the first holds the lock
		b, err := os.ReadFile(filepath.Join(logbookOf(dir), "lock"))
		return err == nil && strings.HasPrefix(string(b), fmt.Sprintf("trimlantern apply, process %d, since ", first.Process.Pid))
	}, 10*time.Second, time.Millisecond)
	busy := false
	for range 200 {
		r := run(t, dir, "apply", "--offline")
		if r.code == 3 {
			assert.Contains(t, r.errs, "another run is at work on this site: trimlantern apply, process ")
			busy = true
			break
		}
		if strings.Contains(r.errs, "applied already") {
			break
		}
	}
	require.NoError(t, first.Wait())
	assert.True(t, busy, "the second run must have met the first")
}

// What a database holds is shown to a terminal, never sent.
func TestHostileWords(t *testing.T) {
	dir := bare(t, 3)
	db := open(t, filepath.Join(dir, "site.db"))
	_, err := db.Exec(`UPDATE m_posts SET post_title = ?, post_content = ? WHERE ID = 2`, "\x1b]0;owned\x07\u202e", "<img src=\"http://evil.example/\x1b[2J\u202e.png\"> http://ternrock.example/\x1b[31m")
	require.NoError(t, err)
	r := want(t, 0, dir, "preview", "--offline")
	assert.NotContains(t, r.out, "\x1b")
	assert.NotContains(t, r.out, "\u202e")
	assert.NotContains(t, r.out, "\x07")
}
