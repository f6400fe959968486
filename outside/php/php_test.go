package php

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFind(t *testing.T) {
	_, err := Find("/nowhere/php")
	assert.ErrorIs(t, err, ErrMissing)
	t.Setenv("PATH", t.TempDir())
	_, err = Find("")
	assert.ErrorIs(t, err, ErrMissing)
}

func TestNoPHP(t *testing.T) {
	for _, script := range []string{"exit 1", "echo hello", "echo"} {
		_, err := Start(standIn(t, script))
		assert.ErrorContains(t, err, "no PHP for the command line", script)
	}
}

// standIn is a program that another user may run.
func standIn(t *testing.T, script string) string {
	dir := t.TempDir()
	for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	path := filepath.Join(dir, "php")
	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+script+"\n"), 0o755))
	return path
}

// What the protocol sends is what a stand-in reads: lengths, values, and when to answer.
func TestProtocol(t *testing.T) {
	path := standIn(t, "echo 9.9\nhead -c 21 >/dev/null\nprintf '\\003\\001'")
	j, err := Start(path)
	require.NoError(t, err)
	defer j.Close()
	assert.Equal(t, "9.9", j.Version)
	require.NoError(t, j.Ask([]byte("N;"), []byte(strings.Repeat("x", 3)))) // 4 + 2 + 4 + 3
	require.NoError(t, j.Ask(nil, nil))                                     // 4 + 4
	require.NoError(t, j.Flush())
	for _, want := range []Answer{{true, true}, {true, false}} {
		got, err := j.Next()
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	_, err = j.Next()
	assert.Error(t, err, "the program has ended")
}
