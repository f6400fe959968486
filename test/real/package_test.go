//go:build real

package real

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPackage builds the Debian package (with -stock-all twice: the two must be equal), installs and removes it below a folder of its own.
func TestPackage(t *testing.T) {
	t.Parallel()
	run := func(name string, args ...string) string {
		c := exec.Command(name, args...)
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%s %v\n%s", name, args, tail(out))
		return string(out)
	}
	var packages [][]byte
	dir := t.TempDir()
	folders := []string{"one"}
	if *stockAll {
		folders = append(folders, "two")
	}
	for _, folder := range folders {
		c := exec.Command("../../packaging/dist.sh", "1.2.3", "linux/amd64")
		c.Env = append(os.Environ(), "DIST="+filepath.Join(dir, folder), "SOURCE_DATE_EPOCH=1790000000")
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(tail(out)))
		b, err := os.ReadFile(filepath.Join(dir, folder, "trimlantern_1.2.3_amd64.deb"))
		require.NoError(t, err)
		packages = append(packages, b)
	}
	for _, b := range packages {
		assert.True(t, bytes.Equal(packages[0], b), "two builds are equal")
	}

	root := filepath.Join(dir, "root")
	for _, d := range []string{"info", "updates"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg", d), 0o755))
	}
	for _, f := range []string{"status", "available"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg", f), nil, 0o644))
	}
	run("dpkg", "--root="+root, "--force-architecture", "-i", filepath.Join(dir, "one", "trimlantern_1.2.3_amd64.deb"))
	program := filepath.Join(root, "usr/bin/trimlantern")
	assert.Contains(t, run(program, "--version"), "1.2.3")
	for _, f := range []string{"usr/share/man/man1/trimlantern.1.gz", "usr/share/man/man1/trimlantern-cert-obtain.1.gz", "usr/share/bash-completion/completions/trimlantern",
		"usr/share/doc/trimlantern/copyright", "usr/share/doc/trimlantern/changelog.gz"} {
		assert.FileExists(t, filepath.Join(root, f))
	}
	page, err := os.Open(filepath.Join(root, "usr/share/man/man1/trimlantern-preview.1.gz"))
	require.NoError(t, err)
	defer page.Close()
	z, err := gzip.NewReader(page)
	require.NoError(t, err)
	text, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Contains(t, string(text), ".SH NAME\ntrimlantern\\-preview \\- Show every change")
	run("dpkg", "--root="+root, "-r", "trimlantern")
	assert.NoFileExists(t, program)
	assert.NoDirExists(t, filepath.Join(root, "usr/share/doc/trimlantern"))
}
