package disk

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of an editor and a run that change one file at once, the run gives way: no edit is lost, however the editor writes.
func TestMeanwhile(t *testing.T) {
	for how, edit := range map[string]func(file string, b []byte) error{
		"in place": func(file string, b []byte) error { return os.WriteFile(file, b, 0o600) },
		"by a new file": func(file string, b []byte) error {
			if err := os.WriteFile(file+".new", b, 0o600); err != nil {
				return err
			}
			return os.Rename(file+".new", file)
		},
		"at the end": func(file string, b []byte) error {
			f, err := os.OpenFile(file, os.O_WRONLY|os.O_APPEND, 0)
			if err != nil {
				return err
			}
			defer f.Close()
			_, err = f.Write(b)
			return err
		},
	} {
		replaced, left := 0, 0
		for i := range 60 {
			dir := t.TempDir()
			file := filepath.Join(dir, "a.css")
			require.NoError(t, os.WriteFile(file, []byte("before"), 0o600))
			tree, err := OpenTree(dir)
			require.NoError(t, err)
			edited := fmt.Appendf(nil, "edit %d", i)
			var both sync.WaitGroup
			both.Go(func() { assert.NoError(t, edit(file, edited)) })
			err = tree.Write("a.css", []byte("after"), Looks{Mode: 0o600, Was: func(now []byte) bool { return string(now) == "before" }})
			both.Wait()
			now, rerr := os.ReadFile(file)
			require.NoError(t, rerr)
			if err == nil {
				replaced++
			} else {
				require.ErrorIs(t, err, ErrMeanwhile)
				left++
			}
			assert.True(t, bytes.Contains(now, edited), "%s: the edit is there: %q, %v", how, now, err)
			names, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Len(t, names, 1, how)
			tree.Close()
		}
		t.Logf("%s: %d were replaced before the edit, %d left", how, replaced, left)
	}
}

// Nothing is removed that somebody changed, and nothing that somebody made is replaced.
func TestRemoveIf(t *testing.T) {
	dir := t.TempDir()
	tree, err := OpenTree(dir)
	require.NoError(t, err)
	defer tree.Close()
	is := func(want string) func([]byte) bool { return func(now []byte) bool { return string(now) == want } }
	require.NoError(t, tree.Write("a", []byte("x"), Looks{Mode: 0o600, Was: is("")}))
	require.ErrorIs(t, tree.RemoveIf("a", is("y")), ErrMeanwhile)
	b, err := os.ReadFile(filepath.Join(dir, "a"))
	require.NoError(t, err)
	assert.Equal(t, "x", string(b))
	require.NoError(t, tree.RemoveIf("a", is("x")))
	require.Error(t, tree.RemoveIf("a", is("x")))
	names, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Empty(t, names)
}
