//go:build unix

package disk

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOpenPrivate(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	private := filepath.Join(dir, "a", "b")
	require.NoError(t, PrivateFolder(private))
	p, err := OpenPrivate(private)
	require.NoError(t, err)
	defer p.Close()
	secret := lay(t, filepath.Join(dir, "secret"), "lamp-oil", 0o600, 0)
	link(t, secret, filepath.Join(private, "lock"), 0)
	for _, flag := range []int{os.O_RDONLY, os.O_RDWR | os.O_CREATE, os.O_RDWR | os.O_CREATE | os.O_EXCL} {
		_, err := p.OpenFile("lock", flag)
		require.Error(t, err, "nothing is opened through a link")
	}
	_, err = p.Create("lock")
	assert.ErrorIs(t, err, ErrLink)
	// Moved away, what was opened stays what it was.
	require.NoError(t, os.Rename(private, private+"-moved"))
	require.NoError(t, PrivateFolder(private))
	f, err := p.OpenFile("new", os.O_RDWR|os.O_CREATE)
	require.NoError(t, err)
	f.Close()
	assert.NoFileExists(t, filepath.Join(private, "new"))
	assert.FileExists(t, filepath.Join(private+"-moved", "new"))

	var u *Untrusted
	for mode, refused := range map[fs.FileMode]bool{0o755: false, 0o775: false, 0o777: true, 0o777 | fs.ModeSticky: false, 0o757: true} {
		require.NoError(t, os.Chmod(filepath.Join(dir, "a"), mode)) // its group is root's own
		again, err := OpenPrivate(private)
		if !refused {
			require.NoError(t, err, mode)
			again.Close()
			continue
		}
		require.ErrorAs(t, err, &u, mode)
		assert.Contains(t, u.Error(), "can be written by other users")
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "a"), 0o775))
	require.NoError(t, os.Chown(filepath.Join(dir, "a"), 0, keeper))
	_, err = OpenPrivate(private)
	assert.ErrorAs(t, err, &u, "of a group of several")
}

// What killed runs had begun is removed by the next one; what another is writing stays.
func TestPartsOfKilledRuns(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, name := range []string{".trimlantern-a.txt.ABCDEFGHIJKL.part", ".trimlantern-a.txt.part", ".trimlantern-b.txt.ABCDEFGHIJKL.part", ".trimlantern-a.txt.old.ABCDEFGHIJKL.part"} {
		require.NoError(t, os.WriteFile(at(name), []byte("x"), 0o600))
	}
	one, err := Create(at("a.txt"), 0o600)
	require.NoError(t, err)
	two, err := Create(at("a.txt"), 0o600)
	require.NoError(t, err)
	assert.NoFileExists(t, at(".trimlantern-a.txt.ABCDEFGHIJKL.part"))
	assert.NoFileExists(t, at(".trimlantern-a.txt.part"))
	assert.FileExists(t, at(".trimlantern-b.txt.ABCDEFGHIJKL.part"), "of another file")
	assert.FileExists(t, at(".trimlantern-a.txt.old.ABCDEFGHIJKL.part"), "of another file")
	for i, p := range []*Pending{one, two} {
		_, err := p.WriteString(strings.Repeat("x", i+1))
		require.NoError(t, err)
		require.NoError(t, p.Commit())
	}
	b, err := os.ReadFile(at("a.txt"))
	require.NoError(t, err)
	assert.Equal(t, "xx", string(b))
	long := strings.Repeat("n", 250)
	p, err := Create(at(long), 0o600)
	require.NoError(t, err)
	require.NoError(t, p.Commit())
	assert.FileExists(t, at(long))
}

func TestTempFolder(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	left := filepath.Join(os.TempDir(), "trimlantern-edit-123")
	require.NoError(t, os.Mkdir(left, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(left, tempLock), nil, 0o600))
	theirs := filepath.Join(os.TempDir(), "trimlantern-edit-456")
	require.NoError(t, os.Mkdir(theirs, 0o700))
	one, removeOne, err := TempFolder("edit")
	require.NoError(t, err)
	assert.NoDirExists(t, left, "of a run that was killed")
	assert.DirExists(t, theirs, "not ours: it has no lock")
	two, removeTwo, err := TempFolder("edit")
	require.NoError(t, err)
	assert.DirExists(t, one, "in use")
	removeOne()
	assert.NoDirExists(t, one)
	assert.DirExists(t, two)
	removeTwo()
	RemoveTemp(theirs)
	assert.DirExists(t, theirs)
}
