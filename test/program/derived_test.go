package program

import (
	"crypto/md5"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// derivedRows are rows whose columns hold digests and lengths of others, as their own software would write them.
func derivedRows(scheme string) (rows [][]any) {
	for i, body := range []string{"<img src=\"http://ternrock.example/lamp.svg\"> ☂", "see http://ternrock.example/lens", "nothing"} {
		body = strings.ReplaceAll(body, "http:", scheme)
		url := fmt.Sprintf("%s//ternrock.example/page/%d", scheme, i)
		raw := sha256.Sum256([]byte(body))
		rows = append(rows, []any{i, url, fmt.Sprintf("%x", md5.Sum([]byte(url))), body, "sha256-" + base64.StdEncoding.EncodeToString(raw[:]), fmt.Sprint(len(body)), fmt.Sprint(len([]rune(body)))})
	}
	return rows
}

const derivedTable = "CREATE TABLE m_pages (id INTEGER PRIMARY KEY, url TEXT, url_sum TEXT, body TEXT, body_sum TEXT, bytes TEXT, characters TEXT)"

// A value is left and named where another column of its row holds a digest of it; where the system description says that
// it is derived, both are changed, and put back.
func TestDerivedColumns(t *testing.T) {
	dir := t.TempDir()
	db := open(t, filepath.Join(dir, "site.db"))
	_, err := db.Exec(derivedTable)
	require.NoError(t, err)
	script := derivedTable + ";\n"
	for _, r := range derivedRows("http:") {
		_, err := db.Exec("INSERT INTO m_pages VALUES (?, ?, ?, ?, ?, ?, ?)", r...)
		require.NoError(t, err)
		script += fmt.Sprintf("INSERT INTO m_pages VALUES (%d,'%s','%s','%s','%s','%s','%s');\n", r...)
	}
	was := dump(t, filepath.Join(dir, "site.db"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "site.sql"), []byte("BEGIN TRANSACTION;\n"+script+"COMMIT;\n"), 0o600))
	own := "name: own\ntitle: own\ntables: [pages]\nderived:\n"
	for _, d := range [][3]string{{"url_sum", "url", "digest"}, {"body_sum", "body", "digest"}, {"bytes", "body", "bytes"}, {"characters", "body", "characters"}} {
		own += fmt.Sprintf("  - {table: pages, column: %s, of: %s, as: %s}\n", d[0], d[1], d[2])
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "own.yaml"), []byte(own), 0o600))
	initial := []string{"init", "--here", "--site", "https://ternrock.example", "--database", "sqlite:site.db", "--prefix", "m_", "--system"}
	counts := func(r result) (cells int, left map[string]int) {
		var p struct {
			Cells int
			Left  map[string]int
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &p), r.out)
		return p.Cells, p.Left
	}

	// Nobody says what is derived: the digests tell.
	want(t, 0, dir, append(initial, "generic")...)
	r := want(t, 0, dir, "preview", "--offline", "--format", "json")
	cells, left := counts(r)
	assert.Zero(t, cells)
	assert.Equal(t, map[string]int{"protected": 5}, left)
	assert.Contains(t, r.out, "column url_sum holds its MD5")
	assert.Contains(t, r.out, "column body_sum holds its SHA-256")
	want(t, 0, dir, "apply")
	assert.Equal(t, was, dump(t, filepath.Join(dir, "site.db")))
	r = want(t, 1, dir, "filter", "--site", "https://ternrock.example", "--format", "json", "site.sql", "left.sql")
	cells, left = counts(result{out: r.errs})
	assert.Zero(t, cells)
	assert.Equal(t, 5, left["protected"])

	// The system description says it.
	want(t, 0, dir, append(initial, "own.yaml")...)
	assert.Contains(t, want(t, 0, dir, "systems", "--against-database").out, "pages.body_sum")
	cells, left = counts(want(t, 0, dir, "preview", "--offline", "--format", "json"))
	assert.Equal(t, 14, cells, "3 addresses and 2 texts, a digest of each, and both lengths of the texts")
	assert.Empty(t, left)
	want(t, 0, dir, "apply")
	after := open(t, filepath.Join(dir, "expected.db"))
	_, err = after.Exec(derivedTable)
	require.NoError(t, err)
	for i, r := range derivedRows("https:") {
		if i == 2 { // its text holds no reference
			r[3] = "nothing"
		}
		_, err := after.Exec("INSERT INTO m_pages VALUES (?, ?, ?, ?, ?, ?, ?)", r...)
		require.NoError(t, err)
	}
	assert.Equal(t, dump(t, filepath.Join(dir, "expected.db")), dump(t, filepath.Join(dir, "site.db")))
	want(t, 0, dir, "undo")
	assert.Equal(t, was, dump(t, filepath.Join(dir, "site.db")))

	// An export, in the three ways.
	want(t, 0, dir, "filter", "--site", "https://ternrock.example", "--system", "own.yaml", "site.sql", "new.sql")
	filtered, err := os.ReadFile(filepath.Join(dir, "new.sql"))
	require.NoError(t, err)
	for _, r := range derivedRows("https:")[:2] {
		assert.Contains(t, string(filtered), fmt.Sprintf("(%d,'%s','%s','%s','%s','%s','%s')", r...))
	}
	want(t, 0, dir, "init", "--here", "--site", "https://ternrock.example", "--database", "dump:site.sql", "--prefix", "m_", "--system", "own.yaml")
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "apply", "--write", "written.sql")
	written, err := os.ReadFile(filepath.Join(dir, "written.sql"))
	require.NoError(t, err)
	assert.Equal(t, string(filtered), string(written))
	want(t, 0, dir, "apply", "--patch", "patch.sql")
	patch, err := os.ReadFile(filepath.Join(dir, "patch.sql"))
	require.NoError(t, err)
	_, err = db.Exec(string(patch))
	require.NoError(t, err)
	assert.Equal(t, dump(t, filepath.Join(dir, "expected.db")), dump(t, filepath.Join(dir, "site.db")))

	// What is said to be derived and does not fit now is no reason to guess.
	_, err = db.Exec("UPDATE m_pages SET url = 'http://ternrock.example/other', url_sum = 'of something else'")
	require.NoError(t, err)
	want(t, 0, dir, append(initial, "own.yaml")...)
	r = want(t, 0, dir, "preview", "--offline", "--format", "json")
	cells, left = counts(r)
	assert.Zero(t, cells)
	assert.Equal(t, map[string]int{"protected": 3}, left)
	assert.Contains(t, r.out, "column url_sum is derived from it, and does not fit it now")
	assert.Contains(t, want(t, 0, dir, append(initial, "generic")...).out, "")
	cells, _ = counts(want(t, 0, dir, "preview", "--offline", "--format", "json"))
	assert.Equal(t, 3, cells, "a digest of something else is nothing to be kept")

	for say, text := range map[string]string{"derived needs table, column, of": "name: own\ntables: [pages]\nderived: [{table: pages, column: a}]\n", "digest, bytes or characters": "name: own\ntables: [pages]\nderived: [{table: pages, column: a, of: b, as: weight}]\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "bad.yaml"), []byte(text), 0o600))
		assert.Contains(t, want(t, 2, dir, "systems", "bad.yaml").errs, say)
	}
}
