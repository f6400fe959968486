package proof

import (
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var claim = Claim{Name: "ternrock.example", Token: "a-token", Value: "a-token.of-the-account"}

func TestFiles(t *testing.T) {
	ctx := context.Background()
	for what, prepare := range map[string]func(root string) (left []string){
		"an empty folder": func(string) []string { return nil },
		"a folder that is there": func(root string) []string {
			_ = os.MkdirAll(filepath.Join(root, ".well-known"), 0o755)
			return []string{".well-known"}
		},
		"others' files": func(root string) []string {
			_ = os.MkdirAll(filepath.Join(root, Folder), 0o755)
			_ = os.WriteFile(filepath.Join(root, Folder, "other"), []byte("x"), 0o644)
			return []string{".well-known", ".well-known/acme-challenge", ".well-known/acme-challenge/other"}
		},
	} {
		root := t.TempDir()
		left := prepare(root)
		f := &Files{Root: func(string) string { return root }}
		p, err := f.Plan(ctx, claim)
		require.NoError(t, err, what)
		require.NoError(t, f.Put(ctx, p, claim), what)
		b, err := os.ReadFile(filepath.Join(root, Folder, claim.Token))
		require.NoError(t, err)
		assert.Equal(t, claim.Value, string(b))
		require.NoError(t, Remove(ctx, p), what)
		require.NoError(t, Remove(ctx, p), "again: what is not there any more is no error")
		var now []string
		require.NoError(t, filepath.Walk(root, func(path string, _ os.FileInfo, err error) error {
			if rel, _ := filepath.Rel(root, path); rel != "." {
				now = append(now, rel)
			}
			return err
		}))
		assert.Equal(t, left, now, what)
	}
}

// What is not ours is neither replaced nor removed, and no link leads out of the folder.
func TestFilesOfOthers(t *testing.T) {
	ctx := context.Background()
	root, outside := t.TempDir(), t.TempDir()
	f := &Files{Root: func(string) string { return root }}
	p, err := f.Plan(ctx, claim)
	require.NoError(t, err)
	require.NoError(t, f.Put(ctx, p, claim))
	require.NoError(t, os.WriteFile(filepath.Join(root, p.File), []byte("another's"), 0o644))
	require.NoError(t, f.Remove(ctx, p))
	assert.FileExists(t, filepath.Join(root, p.File), "it holds something else by now")
	_, err = f.Plan(ctx, claim)
	assert.ErrorIs(t, err, os.ErrExist)

	require.NoError(t, os.RemoveAll(filepath.Join(root, ".well-known")))
	require.NoError(t, os.Symlink(outside, filepath.Join(root, ".well-known")))
	if p, err = f.Plan(ctx, claim); err == nil {
		err = f.Put(ctx, p, claim)
	}
	assert.Error(t, err)
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Empty(t, entries)
}

func TestListener(t *testing.T) {
	ctx := context.Background()
	l, err := Listen("127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	get := func() (int, string) {
		res, err := http.Get("http://" + l.at.Addr().String() + Folder + claim.Token)
		require.NoError(t, err)
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(b)
	}
	code, _ := get()
	assert.Equal(t, 404, code)
	p, err := l.Plan(ctx, claim)
	require.NoError(t, err)
	require.NoError(t, l.Put(ctx, p, claim))
	code, body := get()
	assert.Equal(t, 200, code)
	assert.Equal(t, claim.Value, body)
	require.NoError(t, l.Remove(ctx, p))
	code, _ = get()
	assert.Equal(t, 404, code)
}

func TestProgram(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	program, calls := filepath.Join(dir, "hook"), filepath.Join(dir, "calls")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\nfor a in \"$@\"; do echo \"<$a>\" >> "+calls+"; done\n"), 0o755))
	h := &Program{Path: program}
	odd := Claim{Name: "ternrock.example", Value: "a $(touch x) 'b'"} // no shell reads it
	p, err := h.Plan(ctx, odd)
	require.NoError(t, err)
	require.NoError(t, h.Put(ctx, p, odd))
	require.NoError(t, Remove(ctx, p))
	b, err := os.ReadFile(calls)
	require.NoError(t, err)
	assert.Equal(t, "<add>\n<_acme-challenge.ternrock.example>\n<a $(touch x) 'b'>\n<remove>\n<_acme-challenge.ternrock.example>\n<a $(touch x) 'b'>\n", string(b))
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\necho the zone is locked\nexit 4\n"), 0o755))
	assert.ErrorContains(t, h.Put(ctx, p, odd), "the zone is locked")
	p.Program = filepath.Join(dir, "none")
	assert.ErrorContains(t, h.Put(ctx, p, odd), "cannot be run")
}
