package database

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/outside/disk"
)

// The dump program runs as the user whose settings name the database, and can read the password, but nothing of root's.
func TestDumpAsOwner(t *testing.T) {
	require.Zero(t, os.Geteuid(), "this test runs a program as another user: run it as root, as make check does")
	bin, err := os.MkdirTemp("", "bin")
	require.NoError(t, err)
	defer os.RemoveAll(bin)
	require.NoError(t, os.Chmod(bin, 0o755))
	secret := filepath.Join(bin, "roots")
	require.NoError(t, os.WriteFile(secret, []byte("oil"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(bin, "mariadb-dump"), []byte("#!/bin/sh\nid -u; id -G; cat ${1#--defaults-extra-file=}; cat "+secret+" 2>/dev/null; echo HOME=$HOME; for last; do :; done; echo last=$last\n"), 0o755))
	t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	t.Setenv("HOME", "/root")
	var out bytes.Buffer
	c := Config{Kind: "mysql", Socket: "/run/x.sock", User: "root", Password: "lamp-oil", Name: "museum", Owner: &disk.Owner{UID: 4711, GID: 4711}}
	_, err = Dump(context.Background(), c, t.TempDir(), func() (io.Writer, error) { out.Reset(); return &out, nil })
	require.NoError(t, err, out.String())
	assert.Contains(t, out.String(), "4711\n4711\n")
	assert.Contains(t, out.String(), "lamp-oil")
	assert.NotContains(t, out.String(), "oil\nHOME")
	assert.Contains(t, out.String(), "HOME=/\nlast=museum\n")
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "trimlantern-dump-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	c.Owner = nil
	_, err = Dump(context.Background(), c, t.TempDir(), func() (io.Writer, error) { out.Reset(); return &out, nil })
	require.NoError(t, err, out.String())
	assert.Contains(t, out.String(), "0\n")
}
