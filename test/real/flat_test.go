//go:build real

package real

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tree returns the sum of every file below a folder, with its mode.
func tree(t *testing.T, dir string) map[string]string {
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		info, err := d.Info()
		out[path] = fmt.Sprintf("%x %s", sha256.Sum256(b), info.Mode())
		return err
	}))
	return out
}

// A real system without a database, described in a file of the user's own, goes from HTTP to HTTPS and back: its
// own program builds the pages, before and after.
func TestFlatFileSystem(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.program = built
	layout, err := os.ReadFile("ikiwiki.yaml")
	require.NoError(t, err)
	require.LessOrEqual(t, bytes.Count(layout, []byte("\n")), 60)
	write := func(name, text string) {
		path := filepath.Join(b.dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	write("ikiwiki.yaml", string(layout))
	write("wiki/ikiwiki.setup", "# IkiWiki::Setup::Yaml - YAML formatted setup file\nwikiname: Tern Rock Light\nadminemail: keeper@ternrock.example\nsrcdir: "+b.dir+"/wiki/src\ndestdir: "+b.dir+"/wiki/html\nurl: http://ternrock.example\ncgiurl: http://ternrock.example/ikiwiki.cgi\nrcs: ''\nENV: {}\n")
	write("wiki/src/index.mdwn", "[[!meta title=\"Tern Rock Light\"]]\nOpen: [hours](http://ternrock.example/hours/). <img src=\"http://ternrock.example/lamp.png\" alt=\"the lamp\">\n\n[ref]: http://ternrock.example:80/ref\nSee [this][ref].\n")
	write("wiki/src/hours.mdwn", "From <http://www.ternrock.example/> and http://other.example/, as http://ternrock.example.org/ says.\n")
	write("wiki/src/notes.html", "<p>a <a href='HTTP://TERNROCK.EXAMPLE/notes'>note</a></p>\n")
	build := func() { b.run(filepath.Join(b.dir, "wiki"), "ikiwiki", "--setup", "ikiwiki.setup", "--rebuild") }
	own := func() (insecure int) {
		for path := range tree(t, filepath.Join(b.dir, "wiki", "html")) {
			page, err := os.ReadFile(path)
			require.NoError(t, err)
			insecure += len(ownInsecure(string(page)))
		}
		return insecure
	}
	build()
	require.Positive(t, own(), "the pages begin insecure")
	before := tree(t, filepath.Join(b.dir, "wiki"))

	said := b.tool(0, "init", "--site", "https://"+host, "--also", "www."+host, "--layout", "ikiwiki.yaml", "wiki")
	assert.Contains(t, said, "no database: the content is files")
	said = b.tool(1, "preview", "--offline")
	assert.Contains(t, said, "ikiwiki.setup:6")
	assert.Equal(t, before, tree(t, filepath.Join(b.dir, "wiki")), "preview changes nothing")
	said = b.tool(1, "trace", "http://ternrock.example/lamp.png")
	assert.Contains(t, said, "src/index.mdwn:2")
	said = b.tool(0, "apply", "--offline")
	assert.Contains(t, said, "Now run: ikiwiki --setup ikiwiki.setup --rebuild")
	build()
	assert.Zero(t, own(), "no page is insecure any more")
	page, err := os.ReadFile(filepath.Join(b.dir, "wiki", "html", "index.html"))
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(page), "https://ternrock.example"), "%s", page)
	assert.Contains(t, b.tool(1, "status"), "none: the content is files")

	said = b.tool(0, "undo")
	assert.Contains(t, said, "Now run: ")
	after := tree(t, filepath.Join(b.dir, "wiki"))
	for path, sum := range before {
		if !strings.Contains(path, "/html/") && !strings.Contains(path, "/.ikiwiki/") { // what its program makes
			assert.Equal(t, sum, after[path], "%s: byte for byte, with its mode", path)
		}
	}
	build()
	assert.Positive(t, own())
}
