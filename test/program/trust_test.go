package program

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
	"trimlantern/outside/logbook"
)

// keeper is another user of the machine, who owns a site.
const keeper = 65534

func needsRoot(t *testing.T) {
	t.Helper()
	require.Zero(t, os.Geteuid(), "this test makes files of another user: run it as root, as make check does")
}

// as runs the program as another user.
func as(t *testing.T, uid uint32, dir string, args ...string) result {
	t.Helper()
	c := exec.Command(program, args...)
	c.Dir, c.Env = dir, append(environment(dir), "HOME="+dir)
	c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	var out, errs strings.Builder
	c.Stdout, c.Stderr = &out, &errs
	_ = c.Run() // its exit code is looked at
	require.NotNil(t, c.ProcessState)
	return result{c.ProcessState.ExitCode(), out.String(), errs.String()}
}

// giveAway makes all of a folder another user's.
func giveAway(t *testing.T, dir string) {
	t.Helper()
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		return os.Lchown(path, keeper, keeper)
	}))
}

// secretFile is a file that only root may read.
func secretFile(t *testing.T) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "shadow")
	require.NoError(t, os.WriteFile(path, []byte("root:lamp-oil http://ternrock.example/\n"), 0o600))
	return path
}

func unchanged(t *testing.T, secret string) {
	t.Helper()
	b, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "root:lamp-oil http://ternrock.example/\n", string(b))
	info, err := os.Lstat(secret)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode())
	assert.EqualValues(t, 0, info.Sys().(*syscall.Stat_t).Uid)
}

// Whoever can write a file that says what is read, where it is sent and what is changed could
// make root do anything: so none of another user's is used, nor one that others can write.
func TestSettingsOfOthers(t *testing.T) {
	needsRoot(t)
	for _, name := range []string{"site file", "logbook", "logbook as a link", "password file", "credentials", "system", "authority"} {
		for _, how := range []string{"owner", "mode"} {
			t.Run(name+" "+how, func(t *testing.T) {
				dir := bare(t, 3)
				want(t, 0, dir, "preview", "--offline")
				args := []string{"preview", "--offline"}
				path := filepath.Join(dir, "trimlantern.yaml")
				setting := func(line string) {
					path = filepath.Join(dir, "setting.yaml")
					require.NoError(t, os.WriteFile(path, []byte("lamp-oil"), 0o600))
					b, err := os.ReadFile(filepath.Join(dir, "trimlantern.yaml"))
					require.NoError(t, err)
					require.NoError(t, os.WriteFile(filepath.Join(dir, "trimlantern.yaml"), append(b, line...), 0o600))
				}
				switch name {
				case "logbook", "logbook as a link":
					path = filepath.Join(dir, ".trimlantern")
				case "password file":
					path = filepath.Join(dir, "setting.yaml")
					require.NoError(t, os.WriteFile(path, []byte("lamp-oil"), 0o600))
					inSiteFile(t, dir, "database:\n", "database:\n  password-file: setting.yaml\n")
				case "credentials":
					setting("network: {credentials: setting.yaml}\n")
					args = []string{"scan"}
				case "authority":
					setting("network: {ca: setting.yaml}\n")
					args = []string{"scan"}
				case "system":
					path = filepath.Join(dir, "setting.yaml")
					require.NoError(t, os.WriteFile(path, []byte("title: x\n"), 0o600))
					inSiteFile(t, dir, "system: wordpress", "system: setting.yaml")
				}
				say := "belongs to the user nobody"
				switch {
				case name == "logbook as a link":
					require.NoError(t, os.RemoveAll(path))
					target := filepath.Join(t.TempDir(), "target")
					require.NoError(t, os.Mkdir(target, 0o755))
					require.NoError(t, os.Symlink(target, path))
					say = "is a symbolic link"
					defer func() {
						info, err := os.Stat(target)
						require.NoError(t, err)
						assert.Equal(t, fs.FileMode(0o755), info.Mode().Perm(), "its mode stays")
						entries, err := os.ReadDir(target)
						require.NoError(t, err)
						assert.Empty(t, entries)
					}()
				case how == "owner":
					require.NoError(t, os.Chown(path, keeper, keeper))
				default:
					info, err := os.Stat(path)
					require.NoError(t, err)
					require.NoError(t, os.Chmod(path, info.Mode().Perm()|0o022))
					say = "can be written by other users"
				}
				r := want(t, 2, dir, args...)
				assert.Contains(t, r.errs, say)
				assert.NotContains(t, r.out+r.errs, "lamp-oil")
			})
		}
	}
}

// A site file that somebody put into a folder above is named, and nothing that it names is read.
func TestPlantedAbove(t *testing.T) {
	needsRoot(t)
	above := t.TempDir()
	require.NoError(t, os.Chmod(above, 0o777))
	secret := secretFile(t)
	planted := filepath.Join(above, "trimlantern.yaml")
	require.NoError(t, os.WriteFile(planted, []byte("site: https://ternrock.example\nsystem: generic\ndatabase:\n  kind: mysql\n  host: 127.0.0.1\n  port: 9\n  user: x\n  name: x\n  prefix: \"\"\n  password-file: "+secret+"\n"), 0o644))
	require.NoError(t, os.Chown(planted, keeper, keeper))
	dir := filepath.Join(above, "work")
	require.NoError(t, os.Mkdir(dir, 0o755))
	for _, command := range []string{"preview", "status", "scan", "undo"} {
		r := want(t, 2, dir, command)
		assert.Contains(t, r.errs, planted+" belongs to the user nobody")
	}
}

// A journal says what undo writes. Even one that is believed leads to no file outside of the
// site's folders, and never to a mode beyond the permission bits.
func TestCraftedJournal(t *testing.T) {
	dir := bare(t, 3)
	outside := filepath.Join(t.TempDir(), "cron")
	inside := filepath.Join(dir, "theme.php")
	require.NoError(t, os.WriteFile(outside, []byte("then"), 0o644))
	require.NoError(t, os.WriteFile(inside, []byte("then"), 0o644))
	require.NoError(t, os.Symlink(filepath.Dir(outside), filepath.Join(dir, "way")))
	craft := func(id string, paths ...string) {
		j, err := logbook.Open(filepath.Join(dir, "trimlantern.yaml")).CreateJournal(change.JournalHeader{Tool: "x", ID: id, Site: "https://ternrock.example", Time: time.Now().UTC().Format(time.RFC3339)})
		require.NoError(t, err)
		for _, path := range paths {
			require.NoError(t, j.Append(change.Record{File: &change.File{Path: path, Before: change.Value("now"), After: change.Hash([]byte("then")), Mode: 0o6755}}))
		}
		require.NoError(t, j.Append(change.Record{Mark: change.Finished}))
		require.NoError(t, j.Close())
	}
	craft("20261126-000000-001", outside, filepath.Join(dir, "..", filepath.Base(filepath.Dir(outside)), "cron"), filepath.Join(dir, "way", "cron"), inside)
	r := run(t, dir, "undo")
	assert.Contains(t, r.out, "names no folder that holds it", r.errs)
	b, err := os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "then", string(b))
	info, err := os.Stat(inside)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o755), info.Mode(), "no set-user bit")
	// A file that the user names is put back.
	craft("20261126-000000-002", outside)
	want(t, 0, dir, "undo", "--file", outside)
	b, err = os.ReadFile(outside)
	require.NoError(t, err)
	assert.Equal(t, "now", string(b))
}

// What is written where another user can write follows no link of theirs.
func TestOutputsThroughLinks(t *testing.T) {
	needsRoot(t)
	dir := bare(t, 3)
	theirs := t.TempDir()
	require.NoError(t, os.Chown(theirs, keeper, keeper))
	secret := secretFile(t)
	dump := filepath.Join(dir, "dump.sql")
	require.NoError(t, os.WriteFile(dump, []byte("CREATE TABLE `m` (`a` text);\nINSERT INTO `m` VALUES ('http://ternrock.example/');\n"), 0o600))
	for _, c := range []struct {
		name string
		args []string
	}{
		{"out.sql", []string{"filter", "--site", "https://ternrock.example", dump, filepath.Join(theirs, "out.sql")}},
		{"sum.json", []string{"filter", "--site", "https://ternrock.example", "--summary", filepath.Join(theirs, "sum.json"), dump, filepath.Join(dir, "o.sql")}},
	} {
		for _, end := range []string{"", ".part"} {
			path := filepath.Join(theirs, c.name+end)
			require.NoError(t, os.Symlink(secret, path))
			require.NoError(t, os.Lchown(path, keeper, keeper))
			r := run(t, dir, c.args...)
			if end == "" {
				assert.Equal(t, 3, r.code)
				assert.Contains(t, r.errs, "leads through a symbolic link of another user")
			}
			unchanged(t, secret)
			require.NoError(t, os.Remove(path))
		}
	}
	// A device and a pipe stay what they are; a file keeps its mode; a user's .part file stays.
	part := filepath.Join(dir, "kept.sql.part")
	kept := filepath.Join(dir, "kept.sql")
	require.NoError(t, os.WriteFile(part, []byte("mine"), 0o640))
	require.NoError(t, os.WriteFile(kept, []byte("old"), 0o644))
	want(t, 0, dir, "filter", "--site", "https://ternrock.example", dump, kept)
	info, err := os.Stat(kept)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o644), info.Mode())
	b, err := os.ReadFile(part)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(b))
	pipe := filepath.Join(dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	came := make(chan string)
	go func() { b, _ := os.ReadFile(pipe); came <- string(b) }() // an empty text fails below
	want(t, 0, dir, "filter", "--site", "https://ternrock.example", dump, pipe)
	assert.Contains(t, <-came, "https://ternrock.example/")
	info, err = os.Lstat(pipe)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&fs.ModeNamedPipe)
}

// The site's files belong to another user, the program runs as root: it does to them what their
// owner could do, and no more.
func TestRootOnTheirFiles(t *testing.T) {
	needsRoot(t)
	dir := bare(t, 3)
	theme := filepath.Join(dir, "theme")
	require.NoError(t, os.Mkdir(theme, 0o755))
	for _, name := range []string{"a", "linked", "piped", "endless", "moved", "mine"} {
		require.NoError(t, os.WriteFile(filepath.Join(theme, name+".php"), []byte("<?php echo 'http://ternrock.example/"+name+"';\n"), 0o640))
	}
	secret := secretFile(t)
	require.NoError(t, os.Symlink(secret, filepath.Join(theme, "before.php")))
	giveAway(t, theme)
	require.NoError(t, syscall.Mkfifo(filepath.Join(theme, "fifo.php"), 0o666))
	inSiteFile(t, dir, "database:\n", "files: [theme]\ndatabase:\n")
	r := want(t, 0, dir, "preview", "--offline", "--format", "json")
	assert.NotContains(t, r.out, "lamp-oil")
	replace := func(name string, how func(path string) error) {
		path := filepath.Join(theme, name)
		require.NoError(t, os.Remove(path))
		require.NoError(t, how(path))
		require.NoError(t, os.Lchown(path, keeper, keeper))
	}
	replace("linked.php", func(path string) error { return os.Symlink(secret, path) })
	replace("piped.php", func(path string) error { return syscall.Mkfifo(path, 0o666) })
	replace("endless.php", func(path string) error { return os.Symlink("/dev/zero", path) })
	var applied struct {
		Files   []string
		Skipped []struct{ Table, Why string }
	}
	decode(t, want(t, 1, dir, "apply", "--offline", "--format", "json"), &applied)
	assert.Equal(t, []string{"theme/a.php", "theme/mine.php", "theme/moved.php"}, applied.Files)
	why := map[string]string{}
	for _, s := range applied.Skipped {
		why[s.Table] = s.Why
	}
	assert.Equal(t, map[string]string{"theme/linked.php": "it is a symbolic link, or reached through one", "theme/piped.php": "it is not a regular file", "theme/endless.php": "it is a symbolic link, or reached through one"}, why)
	unchanged(t, secret)
	look := func(name string) (int, fs.FileMode) {
		info, err := os.Stat(filepath.Join(theme, name))
		require.NoError(t, err)
		return int(info.Sys().(*syscall.Stat_t).Uid), info.Mode()
	}
	uid, mode := look("a.php")
	assert.Equal(t, keeper, uid, "the owner stays the owner")
	assert.Equal(t, fs.FileMode(0o640), mode)
	// The folder becomes a link between apply and undo.
	require.NoError(t, os.Rename(theme, filepath.Join(dir, "theme.was")))
	require.NoError(t, os.Symlink(filepath.Dir(secret), theme))
	require.NoError(t, os.Lchown(theme, keeper, keeper))
	r = run(t, dir, "undo")
	assert.NotEqual(t, 0, r.code)
	assert.Contains(t, r.errs, "symbolic link of another user")
	unchanged(t, secret)
	require.NoError(t, os.Remove(theme))
	require.NoError(t, os.Rename(filepath.Join(dir, "theme.was"), theme))
	replace("mine.php", func(path string) error { return os.Symlink(secret, path) })
	r = run(t, dir, "undo")
	assert.Contains(t, r.out, "changed by somebody since")
	b, err := os.ReadFile(filepath.Join(theme, "a.php"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "http://ternrock.example/a")
	uid, _ = look("a.php")
	assert.Equal(t, keeper, uid)
	unchanged(t, secret)
}

// What SQLite writes beside a database never goes through a link that somebody laid there.
func TestLinkBesideSQLite(t *testing.T) {
	for _, end := range []string{"-journal", "-wal", "-shm"} {
		dir := bare(t, 3)
		want(t, 0, dir, "preview", "--offline")
		secret := secretFile(t)
		require.NoError(t, os.Symlink(secret, filepath.Join(dir, "site.db"+end)))
		r := want(t, 3, dir, "apply", "--offline")
		assert.Contains(t, r.errs, "site.db"+end)
		assert.Contains(t, r.errs, "find out who made it")
		unchanged(t, secret)
	}
}

// Where the owner of a file cannot be kept, it is left and named.
func TestFilesOfAnother(t *testing.T) {
	needsRoot(t)
	dir := bare(t, 3)
	theme := filepath.Join(dir, "theme")
	require.NoError(t, os.Mkdir(theme, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(theme, "a.php"), []byte("<?php echo 'http://ternrock.example/';\n"), 0o644))
	inSiteFile(t, dir, "database:\n", "files: [theme]\ndatabase:\n")
	giveAway(t, dir)
	require.NoError(t, os.Chown(filepath.Join(theme, "a.php"), 0, 0))
	r := as(t, keeper, dir, "preview", "--offline")
	require.Equal(t, 0, r.code, r.errs)
	r = as(t, keeper, dir, "apply", "--offline")
	assert.Contains(t, r.out, "its owner or group cannot be kept")
	info, err := os.Stat(filepath.Join(theme, "a.php"))
	require.NoError(t, err)
	assert.EqualValues(t, 0, info.Sys().(*syscall.Stat_t).Uid)
}

// Nothing of ours comes to lie where a web server could hand it out.
func TestNothingInWebRoot(t *testing.T) {
	dir, initArgs := museum(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.php"), []byte("<?php\n"), 0o644))
	for _, c := range [][]string{append([]string{"init", "--here"}, initArgs[1:]...), append([]string{"init", "--config", "theme/x.yaml"}, initArgs[1:]...)} {
		r := want(t, 2, dir, c...)
		assert.Contains(t, r.errs, "is served by a web server (index.php in ")
	}
	assert.Contains(t, want(t, 2, dir, "cert", "request", "--site", "https://ternrock.example").errs, "could hand out the private key")
	want(t, 0, dir, initArgs...)
	want(t, 1, dir, "scan")
	want(t, 0, dir, "preview")
	want(t, 0, dir, "apply")
	want(t, 0, dir, "redirect", "install", "apache", ".htaccess")
	want(t, 2, dir, "cert", "request")
	want(t, 0, dir, "cert", "request", filepath.Dir(siteFile(dir)))
	want(t, 0, dir, "undo")
	want(t, 0, dir, "undo")
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		assert.NotContains(t, filepath.Base(path), "trimlantern")
		assert.False(t, strings.HasSuffix(path, ".key.pem"), path)
		return err
	}))
	for _, path := range []string{homeOf(dir), filepath.Dir(siteFile(dir)), logbookOf(dir)} {
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o700), info.Mode().Perm(), path)
	}
	b, err := os.ReadFile(filepath.Join(logbookOf(dir), ".htaccess"))
	require.NoError(t, err)
	assert.Equal(t, "Require all denied\n", string(b))
}

// A site file and its logbook that lie in a web root are named, and moved when the user says so.
func TestMoveOutOfWebRoot(t *testing.T) {
	dir := bare(t, 30)
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "apply", "--offline")
	assert.Empty(t, run(t, dir, "status", "--quiet").errs)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.php"), []byte("<?php\n"), 0o644))
	assert.Contains(t, run(t, dir, "status").errs, "trimlantern init --move")
	r := want(t, 0, dir, "init", "--move")
	assert.Contains(t, r.out, homeOf(dir))
	assert.NoFileExists(t, filepath.Join(dir, "trimlantern.yaml"))
	assert.NoDirExists(t, filepath.Join(dir, ".trimlantern"))
	assert.Empty(t, run(t, dir, "status", "--quiet").errs)
	assert.Contains(t, want(t, 0, dir, "undo").out, "byte for byte", "the logbook is all there")
	assert.Contains(t, want(t, 2, dir, "init", "--move").errs, "already exists")
}

// Two sites in one folder have a logbook each, and in one home the folder says which is meant.
func TestSitesDoNotMix(t *testing.T) {
	dir := bare(t, 3)
	want(t, 0, dir, "init", "--config", "second.yaml", "--site", "https://ternrock.example", "--database", "sqlite:site.db")
	want(t, 0, dir, "preview", "--offline")
	assert.Contains(t, want(t, 2, dir, "apply", "--offline", "--config", "second.yaml").errs, "there is no change sheet yet")
	home := filepath.Join(t.TempDir(), "home")
	for i, name := range []string{"one", "two"} {
		site := bare(t, 1)
		_, err := open(t, filepath.Join(site, "site.db")).Exec("UPDATE m_options SET option_value = 'http://" + name + ".example'")
		require.NoError(t, err)
		want(t, 0, site, "init", "--home", home, "--site", "https://"+name+".example", "--database", "sqlite:site.db", ".")
		require.NoError(t, os.Remove(filepath.Join(site, "trimlantern.yaml")))
		r := run(t, site, "preview", "--offline", "--home", home)
		assert.Contains(t, r.out, "Preview of https://"+name+".example", "%d: it is the one of this folder", i)
	}
	r := want(t, 2, t.TempDir(), "preview", "--home", home)
	assert.Contains(t, r.errs, fmt.Sprintf("there are 2 site files in %s: one.example, two.example", home))
}
