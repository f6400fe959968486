//go:build unix

package disk

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const keeper = 4711 // a user of this machine besides root

func lay(t *testing.T, path, content string, mode fs.FileMode, uid int) string {
	t.Helper()
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
	require.NoError(t, os.Chmod(path, mode))
	require.NoError(t, os.Lchown(path, uid, uid))
	return path
}

func link(t *testing.T, to, path string, uid int) string {
	t.Helper()
	require.NoError(t, os.Symlink(to, path))
	require.NoError(t, os.Lchown(path, uid, uid))
	return path
}

func needsRoot(t *testing.T) {
	t.Helper()
	require.Zero(t, os.Geteuid(), "this test makes files of another user: run it as root, as make check does")
}

func TestReadFollowsOnlyHonestLinks(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	secret := lay(t, filepath.Join(dir, "secret"), "lamp-oil", 0o600, 0)
	theirs := lay(t, filepath.Join(dir, "theirs"), "tea", 0o644, keeper)
	fifo := filepath.Join(dir, "fifo")
	require.NoError(t, syscall.Mkfifo(fifo, 0o666))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o755))
	link(t, "folder", filepath.Join(dir, "way"), keeper)
	lay(t, filepath.Join(dir, "folder", "secret"), "lamp-oil", 0o600, 0)
	link(t, "loop", filepath.Join(dir, "loop"), 0)
	for _, c := range []struct {
		name, path string
		fails      error
	}{
		{"a file", secret, nil},
		{"a file of another user", theirs, nil},
		{"root's link", link(t, "secret", filepath.Join(dir, "mine"), 0), nil},
		{"their link to their file", link(t, theirs, filepath.Join(dir, "own"), keeper), nil},
		{"their link to root's file", link(t, secret, filepath.Join(dir, "trap"), keeper), errForeignLink},
		{"root's link to their link", link(t, "trap", filepath.Join(dir, "chain"), 0), errForeignLink},
		{"through their link of a folder", filepath.Join(dir, "way", "secret"), errForeignLink},
		{"a pipe", fifo, ErrNotRegular},
		{"a link to a device", link(t, "/dev/zero", filepath.Join(dir, "zero"), 0), ErrNotRegular},
		{"a folder", filepath.Join(dir, "folder"), ErrNotRegular},
		{"a loop", filepath.Join(dir, "loop"), syscall.ELOOP},
		{"nothing", filepath.Join(dir, "none"), fs.ErrNotExist},
	} {
		b, err := Read(c.path, 100)
		if c.fails == nil {
			require.NoError(t, err, c.name)
			assert.NotEmpty(t, b, c.name)
			continue
		}
		assert.ErrorIs(t, err, c.fails, c.name)
	}
	_, err := Read(secret, 4)
	assert.ErrorIs(t, err, ErrTooLarge)
}

func TestReadTrusted(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	for _, c := range []struct {
		mode fs.FileMode
		uid  int
		why  string
	}{
		{0o600, 0, ""}, {0o644, 0, ""},
		{0o664, 0, "can be written by other users"}, {0o606, 0, "can be written by other users"},
		{0o600, keeper, "belongs to the user 4711"},
	} {
		path := lay(t, filepath.Join(dir, "trimlantern.yaml"), "site: x", c.mode, c.uid)
		_, err := ReadTrusted(path, 100)
		if c.why == "" {
			assert.NoError(t, err)
			continue
		}
		var u *Untrusted
		require.ErrorAs(t, err, &u)
		assert.Contains(t, u.Error(), c.why)
		assert.NotEmpty(t, u.Do)
	}
}

func TestPrivateFolder(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	made := filepath.Join(dir, "a", "b")
	require.NoError(t, PrivateFolder(made))
	info, err := os.Stat(made)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o700), info.Mode().Perm())
	target := filepath.Join(dir, "target")
	require.NoError(t, os.Mkdir(target, 0o755))
	var u *Untrusted
	assert.ErrorAs(t, PrivateFolder(link(t, target, filepath.Join(dir, "link"), 0)), &u)
	info, err = os.Stat(target)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o755), info.Mode().Perm(), "what the link leads to is not touched")
	require.NoError(t, os.Chown(target, keeper, keeper))
	assert.ErrorAs(t, PrivateFolder(target), &u)
}

func TestCreate(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	write := func(path string) error {
		p, err := Create(path, 0o600)
		if err != nil {
			return err
		}
		defer p.Discard()
		_, err = p.WriteString("new")
		require.NoError(t, err)
		return p.Commit()
	}
	look := func(path string) (string, fs.FileMode, int) {
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		info, err := os.Lstat(path)
		require.NoError(t, err)
		uid, _ := owner(info)
		return string(b), info.Mode(), uid
	}
	fresh := filepath.Join(dir, "fresh")
	require.NoError(t, write(fresh))
	b, mode, uid := look(fresh)
	assert.Equal(t, []any{"new", fs.FileMode(0o600), 0}, []any{b, mode, uid})

	old := lay(t, filepath.Join(dir, "old"), "old", 0o644, keeper)
	require.NoError(t, write(old))
	b, mode, uid = look(old)
	assert.Equal(t, []any{"new", fs.FileMode(0o644), keeper}, []any{b, mode, uid}, "owner and mode stay")

	mine := link(t, "old", filepath.Join(dir, "mine"), 0)
	require.NoError(t, os.WriteFile(old, []byte("old"), 0o644))
	require.NoError(t, write(mine))
	_, mode, _ = look(mine)
	assert.NotZero(t, mode&fs.ModeSymlink, "a link stays a link")
	b, _, _ = look(old)
	assert.Equal(t, "new", b)

	secret := lay(t, filepath.Join(dir, "secret"), "lamp-oil", 0o600, 0)
	assert.ErrorIs(t, write(link(t, secret, filepath.Join(dir, "trap"), keeper)), errForeignLink)
	b, _, _ = look(secret)
	assert.Equal(t, "lamp-oil", b)

	fifo := filepath.Join(dir, "fifo")
	require.NoError(t, syscall.Mkfifo(fifo, 0o600))
	read := make(chan string)
	go func() { b, _ := os.ReadFile(fifo); read <- string(b) }() // an empty text fails below
	require.NoError(t, write(fifo))
	assert.Equal(t, "new", <-read)
	info, err := os.Lstat(fifo)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&fs.ModeNamedPipe, "a pipe stays a pipe")
	assert.Error(t, write(dir))
	left, err := filepath.Glob(filepath.Join(dir, ".trimlantern-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestTree(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755))
	secret := lay(t, filepath.Join(dir, "secret"), "lamp-oil", 0o600, 0)
	root := filepath.Join(dir, "theme")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "deep"), 0o755))
	require.NoError(t, os.Chown(root, keeper, keeper))
	require.NoError(t, os.Chown(filepath.Join(root, "deep"), keeper, keeper))
	lay(t, filepath.Join(root, "deep", "a.php"), "old", 0o640, keeper)
	lay(t, filepath.Join(root, "roots.php"), "old", 0o644, 0)
	lay(t, filepath.Join(root, "hidden.php"), "old", 0o600, 0)
	link(t, secret, filepath.Join(root, "out.php"), keeper)
	link(t, "deep/a.php", filepath.Join(root, "in.php"), keeper)
	link(t, dir, filepath.Join(root, "up"), keeper)
	require.NoError(t, syscall.Mkfifo(filepath.Join(root, "pipe.php"), 0o666))

	tree, err := OpenTree(root)
	require.NoError(t, err)
	defer tree.Close()
	for name, fails := range map[string]error{
		"deep/a.php": nil, "roots.php": nil, "hidden.php": fs.ErrPermission, "out.php": ErrLink, "in.php": ErrLink,
		"pipe.php": ErrNotRegular, "deep": ErrNotRegular, "none.php": fs.ErrNotExist,
	} {
		_, _, err := tree.Read(name, 100)
		assert.ErrorIs(t, err, fails, name)
	}
	for _, name := range []string{"../secret", "up/secret", secret} {
		_, _, err := tree.Read(name, 100)
		assert.Error(t, err, name)
		assert.Error(t, tree.Write(name, []byte("x"), Looks{Mode: 0o644}), name)
	}
	when := time.Date(2020, 1, 2, 3, 4, 5, 0, time.UTC)
	require.NoError(t, tree.Write("deep/a.php", []byte("new"), Looks{Mode: 0o640 | fs.ModeSetuid | 0o7000, Time: when}))
	info, err := os.Stat(filepath.Join(root, "deep", "a.php"))
	require.NoError(t, err)
	uid, gid := owner(info)
	assert.Equal(t, []any{fs.FileMode(0o640), keeper, keeper, when}, []any{info.Mode(), uid, gid, info.ModTime().UTC()})
	require.NoError(t, tree.Write("made.php", []byte("new"), Looks{Mode: 0o644}))
	info, err = os.Stat(filepath.Join(root, "made.php"))
	require.NoError(t, err)
	uid, _ = owner(info)
	assert.Equal(t, keeper, uid, "what is made in a user's folder belongs to that user")
	for _, name := range []string{"out.php", "in.php"} {
		assert.ErrorIs(t, tree.Write(name, []byte("x"), Looks{Mode: 0o644}), ErrLink)
	}
	assert.ErrorIs(t, tree.Write("pipe.php", []byte("x"), Looks{Mode: 0o644}), ErrNotRegular)
	b, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "lamp-oil", string(b))

	var seen []string
	require.NoError(t, tree.Walk(".", func(name string, e fs.DirEntry, err error) error {
		seen = append(seen, name)
		return err
	}))
	assert.Equal(t, []string{"deep", "deep/a.php", "hidden.php", "in.php", "made.php", "out.php", "pipe.php", "roots.php", "up"}, seen)
}

// The rights of another user stay on the thread they were taken on.
func TestTreeRightsStayThere(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	secret := lay(t, filepath.Join(dir, "secret"), "lamp-oil", 0o600, 0)
	root := filepath.Join(dir, "theme")
	require.NoError(t, os.Mkdir(root, 0o755))
	require.NoError(t, os.Chown(root, keeper, keeper))
	for range 50 {
		tree, err := OpenTree(root)
		require.NoError(t, err)
		_, err = tree.List(".")
		require.NoError(t, err)
		tree.Close()
		_, err = os.ReadFile(secret)
		require.NoError(t, err)
		out, err := exec.Command("id", "-u").Output()
		require.NoError(t, err)
		assert.Equal(t, "0\n", string(out))
	}
}
