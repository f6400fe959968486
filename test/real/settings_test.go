//go:build real

package real

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A system of another shape, on PostgreSQL with PHP: found by its .env file, its
// cached pages removed, its own system description checked against the database.
func TestSettingsSystem(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	port := freePort(t)
	b.postgresPort = port
	b.postgresFlags = func(string) string { return "-c listen_addresses=127.0.0.1 -c port=" + port }
	s := postgresStore(b)
	menu := `a:2:{i:0;s:30:"http://ternrock.example/visit/";i:1;s:25:"http://ternrock.example/x";}`
	s.sql(`CREATE TABLE cat_settings (name TEXT PRIMARY KEY, value TEXT);
CREATE TABLE cat_pages (slug TEXT PRIMARY KEY, title TEXT, body TEXT, permalink_id TEXT, extra JSONB);
CREATE TABLE cat_page_cache (slug TEXT PRIMARY KEY, html TEXT, made TIMESTAMPTZ DEFAULT now(), hits INT DEFAULT 0);
CREATE TABLE cat_sessions (id TEXT PRIMARY KEY, data TEXT);
INSERT INTO cat_settings VALUES ('site_url', 'http://ternrock.example'), ('asset_url', 'http://ternrock.example/assets'), ('menu', '` + menu + `'), ('theme', '{"logo":"http:\/\/ternrock.example\/logo.png"}');
INSERT INTO cat_pages SELECT 'page' || n, 'Page ' || n, '<p><img src="http://ternrock.example/' || n || '.jpg"></p>', 'http://ternrock.example/?id=' || n, jsonb_build_object('cover', 'http://ternrock.example/c' || n) FROM generate_series(1, 50) n;
INSERT INTO cat_pages VALUES ('home', 'Tern Rock Light', '<p>see http://ternrock.example/</p>', 'http://ternrock.example/?id=0', '{}');
INSERT INTO cat_sessions VALUES ('s1', 'back=http://ternrock.example/');`)
	root := filepath.Join(b.dir, "catalogue")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "templates"), 0o755))
	b.run(".", "cp", "catalogue.php", filepath.Join(root, "index.php"))
	env := fmt.Sprintf("# the catalogue\nDB_HOST=127.0.0.1\nDB_PORT=%s\nDB_DATABASE=museum\nDB_USERNAME=keeper\nDB_PASSWORD=\"a secret\"\nDB_PREFIX=cat_\nASSET_URL=http://ternrock.example/assets\n", port)
	require.NoError(t, os.WriteFile(filepath.Join(root, ".env"), []byte(env), 0o600))
	listen := "127.0.0.1:" + freePort(t)
	b.daemon("php", "-S", listen, "-t", root, filepath.Join(root, "index.php"))
	page := func(path string) string {
		res, err := http.Get("http://" + listen + path)
		if err != nil {
			return ""
		}
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return string(body)
	}
	b.await("the catalogue", func() bool { return strings.Contains(page("/"), "Tern Rock Light") })
	require.Contains(t, page("/page7"), "http://ternrock.example/7.jpg")

	described, err := os.ReadFile("catalogue.yaml")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "catalogue.yaml"), described, 0o644))
	said := b.tool(0, "init", "--here", "--site", "https://"+host, "--system", "catalogue.yaml", root)
	assert.Contains(t, said, "system    catalogue.yaml")
	assert.Contains(t, said, "core address: ASSET_URL in catalogue/.env, line 8")
	site, err := os.ReadFile(filepath.Join(b.dir, "trimlantern.yaml"))
	require.NoError(t, err)
	assert.NotContains(t, string(site), "a secret")
	said = b.tool(0, "systems", "--against-database")
	assert.Contains(t, said, "[x] table page_cache")
	assert.NotContains(t, said, "[!]")
	own := filepath.Join(b.dir, "own.yaml")
	require.NoError(t, os.WriteFile(own, []byte("name: own\ntables: [settings, books]\nidentifiers: [{table: pages, column: isbn}]\n"), 0o644))
	said = b.tool(1, "systems", "--against-database", own)
	assert.Contains(t, said, "[!] table books")
	assert.Contains(t, said, "[!] pages.isbn")

	before := s.dump()
	var p struct {
		Cells, Drops int
		Left         map[string]int
	}
	require.NoError(t, json.Unmarshal([]byte(b.tool(0, "preview", "--offline", "--format", "json")), &p))
	assert.Equal(t, 4+50+50+1, p.Cells)
	assert.Equal(t, 2, p.Drops, "two cached pages; sessions are named, not dropped")
	assert.Equal(t, 51, p.Left["identifier"])
	b.tool(0, "apply", "--offline", "--drop-caches")
	for _, path := range []string{"/", "/page7", "/page12"} {
		body := page(path)
		assert.Contains(t, body, "https://ternrock.example/x", "the menu loads")
		assert.Empty(t, ownInsecure(body), path)
	}
	s.sql("DELETE FROM cat_page_cache WHERE slug <> 'page7';") // what the pages made anew, but for one
	said = b.tool(1, "undo")
	assert.Contains(t, said, "cat_page_cache")
	assert.Contains(t, said, "the system has made the row anew")
	after := s.dump()
	for _, l := range differing(before, after) {
		assert.Contains(t, l, "page7\t", "all but the page that was made anew is as before")
	}
	assert.Contains(t, page("/page12"), "http://ternrock.example/12.jpg")
}
