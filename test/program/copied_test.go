package program

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The logbook of a copied folder does nothing to the original; that of a folder that was moved goes on.
func TestCopiedFolder(t *testing.T) {
	dir := bare(t, 5)
	file := siteFile(dir)
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	db := filepath.Join(dir, "site.db")
	before := dump(t, db)
	// The database is named by its whole path, as one on a server is: the copy would reach the original.
	text := replaceOnce(t, string(b), "file: site.db", "file: "+db)
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "apply", "--offline")
	after := dump(t, db)
	copied := filepath.Join(t.TempDir(), "copy")
	out, err := exec.Command("cp", "-a", dir, copied).CombinedOutput()
	require.NoError(t, err, string(out))
	r := want(t, 2, copied, "undo")
	assert.Contains(t, r.errs, "this folder, "+copied+", is a copy")
	assert.Contains(t, r.errs, "cd "+dir)
	assert.Equal(t, after, dump(t, db))
	assert.Contains(t, want(t, 0, dir, "undo").out, "byte for byte")
	assert.Equal(t, before, dump(t, db))
}
