package program

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The licences in the program are those of the modules that are linked into it, and no module is a release candidate.
func TestLicences(t *testing.T) {
	shown := want(t, 0, t.TempDir(), "help", "licences").out
	file := filepath.Join(t.TempDir(), "licences.gz")
	supply := func(args ...string) {
		c := exec.Command("go", append([]string{"run", "./packaging/supply"}, args...)...)
		c.Dir = "../.."
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	supply("notices", file)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	z, err := gzip.NewReader(bytes.NewReader(b))
	require.NoError(t, err)
	now, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Equal(t, string(now), shown, "write them again: go run ./packaging/supply notices cli/notices/licences.txt.gz")

	supply("sbom", program, file)
	b, err = os.ReadFile(file)
	require.NoError(t, err)
	var bill struct {
		SPDXVersion string
		Packages    []struct{ Name, VersionInfo string }
	}
	require.NoError(t, json.Unmarshal(b, &bill))
	assert.Equal(t, "SPDX-2.3", bill.SPDXVersion)
	require.Greater(t, len(bill.Packages), 30)
	for _, p := range bill.Packages[2:] { // after the program and the standard library
		assert.Contains(t, shown, p.Name+" "+p.VersionInfo+"\n", "its licence is shown")
		assert.NotContains(t, p.VersionInfo, "-rc", p.Name)
	}
	mod, err := os.ReadFile("../../go.mod")
	require.NoError(t, err)
	for _, word := range []string{"-rc.", "-alpha", "-beta"} {
		assert.False(t, strings.Contains(string(mod), word), word)
	}
}
