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

// ownDerived describes the columns of derivedTable.
func ownDerived() string {
	own := "name: own\ntitle: own\ntables: [pages]\nderived:\n"
	for _, d := range [][3]string{{"url_sum", "url", "digest"}, {"body_sum", "body", "digest"}, {"bytes", "body", "bytes"}, {"characters", "body", "characters"}} {
		own += fmt.Sprintf("  - {table: pages, column: %s, of: %s, as: %s}\n", d[0], d[1], d[2])
	}
	return own
}

// A value and what is derived from it are changed together and put back together, or both are left: also where somebody
// edits one of them between two commands.
func TestDerivedTogether(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "site.db")
	db := open(t, file)
	exec := func(q string, args ...any) {
		_, err := db.Exec(q, args...)
		require.NoError(t, err)
	}
	row := func(id int) (list []string) {
		v := make([]string, 6)
		require.NoError(t, db.QueryRow("SELECT url, url_sum, body, body_sum, bytes, characters FROM m_pages WHERE id = ?", id).Scan(&v[0], &v[1], &v[2], &v[3], &v[4], &v[5]))
		return v
	}
	exec(derivedTable)
	var was, is [][]string
	for i, scheme := range []string{"http:", "https:"} {
		for _, r := range derivedRows(scheme) {
			var texts []string
			for _, v := range r[1:] {
				texts = append(texts, v.(string))
			}
			if i > 0 {
				is = append(is, texts)
				continue
			}
			was = append(was, texts)
			exec("INSERT INTO m_pages VALUES (?, ?, ?, ?, ?, ?, ?)", r...)
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "own.yaml"), []byte(ownDerived()), 0o600))
	want(t, 0, dir, "init", "--here", "--site", "https://ternrock.example", "--database", "sqlite:site.db", "--prefix", "m_", "--system", "own.yaml")
	want(t, 0, dir, "preview", "--offline")

	// After the preview somebody edits an address, and of another row a digest alone.
	exec("UPDATE m_pages SET url = 'http://ternrock.example/new' WHERE id = 0")
	exec("UPDATE m_pages SET body_sum = 'of a later text' WHERE id = 1")
	left := func(r result) map[string]string {
		var p struct {
			Skipped, Left []struct {
				Key         []string
				Column, Why string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &p), r.out)
		m := map[string]string{}
		for _, s := range append(p.Skipped, p.Left...) {
			m[s.Key[0]+" "+s.Column] = s.Why
		}
		return m
	}
	r := want(t, 1, dir, "apply", "--format", "json")
	assert.Equal(t, map[string]string{"0 url": "changed since the preview", "0 url_sum": "goes with column url: changed since the preview",
		"1 body_sum": "changed since the preview", "1 body": "goes with column body_sum: changed since the preview",
		"1 bytes": "goes with column body_sum: changed since the preview", "1 characters": "goes with column body_sum: changed since the preview"}, left(r))
	assert.Equal(t, []string{"http://ternrock.example/new", was[0][1], is[0][2], is[0][3], is[0][4], is[0][5]}, row(0))
	assert.Equal(t, []string{is[1][0], is[1][1], was[1][2], "of a later text", was[1][4], was[1][5]}, row(1))

	// The same on the way back, by undo and by the script.
	exec("UPDATE m_pages SET body = 'https://ternrock.example/later' WHERE id = 0")
	exec("UPDATE m_pages SET url_sum = 'of a later address' WHERE id = 1")
	script := filepath.Join(dir, "undo.sql")
	want(t, 0, dir, "undo", "--as-sql", script)
	edited := filepath.Join(dir, "edited.db")
	exec("VACUUM INTO ?", edited)
	r = want(t, 1, dir, "undo", "--format", "json")
	why := "changed by somebody since"
	assert.Equal(t, map[string]string{"0 body": why, "0 body_sum": "goes with column body: " + why, "0 bytes": "goes with column body: " + why, "0 characters": "goes with column body: " + why,
		"1 url_sum": why, "1 url": "goes with column url_sum: " + why}, left(r))
	assert.Equal(t, []string{"http://ternrock.example/new", was[0][1], "https://ternrock.example/later", is[0][3], is[0][4], is[0][5]}, row(0))
	assert.Equal(t, []string{is[1][0], "of a later address", was[1][2], "of a later text", was[1][4], was[1][5]}, row(1))
	assert.Equal(t, was[2], row(2))
	sql, err := os.ReadFile(script)
	require.NoError(t, err)
	_, err = open(t, edited).Exec(string(sql))
	require.NoError(t, err)
	assert.Equal(t, dump(t, file), dump(t, edited), "the script does what undo does")
}

// What another column of the row says of a value, as a digest or as a length, changes with it, and is put back with it; if
// it cannot, the value is left and reported. A system description may say the same.
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
	require.NoError(t, os.WriteFile(filepath.Join(dir, "own.yaml"), []byte(ownDerived()), 0o600))
	initial := []string{"init", "--here", "--site", "https://ternrock.example", "--database", "sqlite:site.db", "--prefix", "m_", "--system"}
	counts := func(r result) (cells int, left map[string]int) {
		var p struct {
			Cells int
			Left  map[string]int
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &p), r.out)
		return p.Cells, p.Left
	}

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

	// Without a description, the digests and the names of the lengths tell. In an export, of which the keys are not known,
	// they keep the values from being changed.
	want(t, 0, dir, append(initial, "generic")...)
	cells, left := counts(want(t, 0, dir, "preview", "--offline", "--format", "json"))
	assert.Equal(t, 14, cells, "3 addresses and 2 texts, a digest of each, and both lengths of the texts")
	assert.Empty(t, left)
	want(t, 0, dir, "apply")
	assert.Equal(t, dump(t, filepath.Join(dir, "expected.db")), dump(t, filepath.Join(dir, "site.db")))
	want(t, 0, dir, "undo")
	assert.Equal(t, was, dump(t, filepath.Join(dir, "site.db")))
	r := want(t, 1, dir, "filter", "--site", "https://ternrock.example", "--format", "json", "site.sql", "left.sql")
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

// A description of the user's own says which rows stay, and puts the file of the database together from several settings:
// on the live database, on its dump, and by filter.
func TestKeptRowsJoinedFile(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "www", "var", "data"), 0o700))
	file := filepath.Join(dir, "www", "var", "data", "site-live.sqlite")
	db := open(t, file)
	script := "CREATE TABLE tr_settings (id INTEGER PRIMARY KEY, name TEXT, value TEXT);\nCREATE TABLE tr_pages (id INTEGER PRIMARY KEY, state TEXT, body TEXT);\n" +
		"INSERT INTO tr_settings VALUES (1,'site_url','http://ternrock.example');\n" +
		"INSERT INTO tr_pages VALUES (1,'public','<p>http://ternrock.example/now</p>');\nINSERT INTO tr_pages VALUES (2,'old-3','<p>http://ternrock.example/then</p>');\nINSERT INTO tr_pages VALUES (3,'old','s:9:\"http://ternrock.example/\";');\n"
	_, err := db.Exec(script)
	require.NoError(t, err)
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("own.yaml", "name: own\ntitle: own\ntables: [settings, pages]\n"+
		"addresses: [{name: public, title: public address, table: settings, column: value, where: name, equals: site_url}]\n"+
		"kept_rows: [{table: pages, column: state, begins: [old]}]\n"+
		`config: {file: .env, format: env, kind: sqlite, database: "{DATA_DIR}/site-{STAGE}.sqlite", prefix: DB_PREFIX}`+"\n")
	write("www/.env", "DATA_DIR=var/data\nSTAGE=live\nDB_PREFIX=tr_\n")
	write("export.sql", "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n"+script+"COMMIT;\n")
	isRight := func(said, body1, body2 string) {
		t.Helper()
		assert.Contains(t, said, "in rows that are never changed (old versions)")
		assert.Contains(t, body1, "https://ternrock.example/now")
		assert.Contains(t, body2, "http://ternrock.example/then")
	}

	r := want(t, 0, dir, "init", "--here", "--site", "https://ternrock.example", "--system", "own.yaml", "www")
	assert.Contains(t, r.out, "database: the SQLite file www/var/data/site-live.sqlite, as www/.env says")
	said := want(t, 0, dir, "preview", "--offline").out
	assert.Contains(t, want(t, 0, dir, "mend").out, "Nothing")
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "apply", "--offline")
	bodies := make([]string, 2)
	for i := range bodies {
		require.NoError(t, db.QueryRow("SELECT body FROM tr_pages WHERE id = ?", i+1).Scan(&bodies[i]))
	}
	isRight(said, bodies[0], bodies[1])
	f := run(t, dir, "filter", "--site", "https://ternrock.example", "--system", "own.yaml", "export.sql")
	isRight(f.errs, f.out, f.out)

	write("www/.env", "DATA_DIR=var/data\nDB_PREFIX=tr_\n")
	require.NoError(t, os.Remove(filepath.Join(dir, "trimlantern.yaml")))
	r = want(t, 2, dir, "init", "--here", "--site", "https://ternrock.example", "--system", "own.yaml", "www")
	assert.Contains(t, r.errs, "sets no STAGE")
	assert.Contains(t, r.errs, "--database sqlite:FILE")
}
