//go:build real

package real

import (
	"bytes"
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
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
	system, err := os.ReadFile("ikiwiki.yaml")
	require.NoError(t, err)
	require.LessOrEqual(t, bytes.Count(system, []byte("\n")), 60)
	write := func(name, text string) {
		path := filepath.Join(b.dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	write("ikiwiki.yaml", string(system))
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

	said := b.tool(0, "init", "--site", "https://"+host, "--also", "www."+host, "--system", "ikiwiki.yaml", "wiki")
	assert.Contains(t, said, "no database: the content is files")
	said = b.tool(0, "preview", "--offline")
	assert.Contains(t, said, "ikiwiki.setup:6")
	assert.Equal(t, before, tree(t, filepath.Join(b.dir, "wiki")), "preview changes nothing")
	said = b.tool(1, "trace", "http://ternrock.example/lamp.png")
	assert.Contains(t, said, "src/index.mdwn:2")
	// Its pages, as a server hands them out.
	cert, key := b.certificate()
	pair, err := tls.LoadX509KeyPair(cert, key)
	require.NoError(t, err)
	server := httptest.NewUnstartedServer(http.FileServer(http.Dir(filepath.Join(b.dir, "wiki", "html"))))
	server.TLS = &tls.Config{Certificates: []tls.Certificate{pair}}
	server.StartTLS()
	t.Cleanup(server.Close)
	look := []string{"scan", "--ca", cert, "--resolve", host + ":443:" + server.Listener.Addr().String(), "--resolve", "www." + host + ":443:" + server.Listener.Addr().String()}
	said = b.tool(1, look...)
	assert.Contains(t, said, "http://ternrock.example/lamp.png")
	assert.Contains(t, b.tool(1, "trace", "1"), "src/index.mdwn:2", "what the scan found, where it is stored\n"+said)
	said = b.tool(0, "apply", "--offline")
	assert.Contains(t, said, "Now run: ikiwiki --setup ikiwiki.setup --rebuild")
	build()
	assert.Zero(t, own(), "no page is insecure any more")
	page, err := os.ReadFile(filepath.Join(b.dir, "wiki", "html", "index.html"))
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(page), "https://ternrock.example"), "%s", page)
	assert.Contains(t, b.tool(1, "status"), "none: the content is files")
	said = b.tool(1, look...) // a script's pages are not there, and pictures are missing
	assert.NotContains(t, said, "http://ternrock.example/")
	assert.Contains(t, said, "Clean as far as read: 3 of 11 pages")

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

// A real system whose content is addressed by its hash, in a database of its own shape: its settings go to HTTPS,
// what is named by its content stays and is named, and the system's own check of integrity passes.
func TestContentAddressedSystem(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.program = built
	system, err := os.ReadFile("fossil.yaml")
	require.NoError(t, err)
	require.LessOrEqual(t, bytes.Count(system, []byte("\n")), 60)
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "fossil.yaml"), system, 0o644))
	repo := filepath.Join(b.dir, "museum.fossil")
	fossil := func(dir, in string, args ...string) string {
		c := exec.Command("fossil", args...)
		c.Dir, c.Stdin = dir, strings.NewReader(in)
		c.Env = append(os.Environ(), "HOME="+b.dir, "USER=keeper")
		out, err := c.CombinedOutput()
		require.NoError(t, err, "%v\n%s", args, out)
		return string(out)
	}
	sql := func(q string) string { return string(b.run(b.dir, "sqlite3", repo, q)) }
	fossil(b.dir, "", "new", repo)
	check := filepath.Join(b.dir, "checkout")
	require.NoError(t, os.Mkdir(check, 0o755))
	fossil(check, "", "open", repo)
	require.NoError(t, os.WriteFile(filepath.Join(check, "readme.md"), []byte(strings.Repeat("See http://ternrock.example/lamp. ", 20)), 0o644))
	fossil(check, "", "add", "readme.md")
	fossil(check, "", "commit", "-m", "see http://ternrock.example/news")
	fossil(check, "Visit http://ternrock.example/\n", "wiki", "create", "Visit", "-")
	fossil(check, "", "ticket", "add", "title", "bad link http://ternrock.example/t")
	sql("INSERT INTO config(name,value,mtime) VALUES ('project-description','Home: http://ternrock.example/',0),('header','<img src=\"http://ternrock.example/logo.png\">',0)")
	blobs := sql("SELECT rid, uuid, hex(content) FROM blob ORDER BY 1")
	events := sql("SELECT * FROM event ORDER BY 1")
	before := sql(".dump")

	b.tool(0, "init", "--here", "--site", "https://"+host, "--system", "fossil.yaml", "--database", "sqlite:"+repo)
	said := b.tool(0, "preview", "--offline", "--judge", "none")
	assert.Contains(t, said, "rows that are never changed")
	assert.Contains(t, said, "cached copies")
	b.tool(0, "apply", "--offline")
	assert.Equal(t, "2\n", sql("SELECT count(*) FROM config WHERE value LIKE '%https://ternrock.example/%' AND value NOT LIKE '%http:%'"))
	assert.Equal(t, blobs, sql("SELECT rid, uuid, hex(content) FROM blob ORDER BY 1"))
	assert.Equal(t, events, sql("SELECT * FROM event ORDER BY 1"))
	assert.Contains(t, fossil(b.dir, "", "test-integrity", repo), "non-phantom blobs (out of")
	fossil(b.dir, "", "rebuild", repo)
	assert.Equal(t, "2\n", sql("SELECT count(*) FROM config WHERE value LIKE '%https://ternrock.example/%'"))
	b.tool(0, "undo")
	assert.Equal(t, strings.Count(before, "http://ternrock.example"), strings.Count(sql(".dump"), "http://ternrock.example"))
	fossil(b.dir, "", "test-integrity", repo)
}
