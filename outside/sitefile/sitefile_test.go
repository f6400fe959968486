package sitefile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWriteRead(t *testing.T) {
	path := filepath.Join(t.TempDir(), Name)
	f := &File{Site: "https://ternrock.example", Also: []string{"www.ternrock.example"}, System: "wordpress",
		Database: Database{Kind: "mysql", Socket: "/run/x.sock", User: "keeper", PasswordEnv: "P", Name: "museum", Prefix: "tr_"},
		Hosts:    map[string]string{"tides.example": "leave"}, Network: Network{Resolve: []string{"*:443:127.0.0.1:8443"}}}
	require.NoError(t, f.Write(path))
	got, err := Read(path)
	require.NoError(t, err)
	assert.Equal(t, filepath.Dir(path), got.Dir)
	f.Dir, f.Path = got.Dir, got.Path
	assert.Equal(t, f, got)
	assert.ErrorIs(t, f.Write(path), os.ErrExist, "a site file is never written over")
	assert.Equal(t, filepath.Join(got.Dir, "theme"), got.Abs("theme"))
	assert.Equal(t, "/etc/x", got.Abs("/etc/x"))
	assert.Empty(t, got.Abs(""))
}

func TestReadRefuses(t *testing.T) {
	path := filepath.Join(t.TempDir(), Name)
	for text, say := range map[string]string{
		"":                  "the file is empty",
		"site: [":           "line",
		"also: [x.example]": "needs site",
		"site: x\ndatabase: {kind: sqlite}\npassword: y":               "line 3: the key password is not known",
		"site: x\ndatabase: {kind: sqlite, password: y}":               "the key password is not known",
		"site: x\ndatabase: {kind: sqlite}\nhosts: {a.example: maybe}": `"maybe" is no decision`,
	} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := Read(path)
		assert.ErrorContains(t, err, say, text)
		assert.ErrorContains(t, err, path)
	}
	_, err := Read(path + ".no")
	assert.ErrorIs(t, err, os.ErrNotExist)
}
