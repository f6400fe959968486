//go:build real

package real

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// derivedStores are tables with digests that the database itself worked out, in bytes, digits and base64, and how it
// counts the rows in which all of them fit.
var derivedStores = map[string][2]string{
	"InnoDB": {"CREATE TABLE m_pages (id INT PRIMARY KEY, body LONGTEXT CHARACTER SET utf8mb4, raw BINARY(16), digits CHAR(40), coded VARCHAR(60), size TEXT);\n" +
		"INSERT INTO m_pages (id, body) VALUES %s; UPDATE m_pages SET raw = UNHEX(MD5(body)), digits = SHA1(body), coded = TO_BASE64(UNHEX(SHA2(body, 256))), size = CHAR_LENGTH(body);\n",
		"SELECT COUNT(*) FROM m_pages WHERE raw = UNHEX(MD5(body)) AND digits = SHA1(body) AND coded = TO_BASE64(UNHEX(SHA2(body, 256))) AND size = CHAR_LENGTH(body) AND body LIKE '%s'"},
	"PostgreSQL": {"CREATE TABLE m_pages (id INT PRIMARY KEY, body TEXT, raw BYTEA, digits CHAR(32), coded VARCHAR(60), size TEXT);\n" +
		"INSERT INTO m_pages (id, body) VALUES %s; UPDATE m_pages SET raw = sha256(convert_to(body, 'UTF8')), digits = md5(body), coded = encode(sha224(convert_to(body, 'UTF8')), 'base64'), size = length(body);\n",
		"SELECT COUNT(*) FROM m_pages WHERE raw = sha256(convert_to(body, 'UTF8')) AND digits = md5(body) AND coded = encode(sha224(convert_to(body, 'UTF8')), 'base64') AND size = length(body)::text AND body LIKE '%s'"},
}

// Digests that the database worked out keep its values as they are; where a system description says that they are
// derived, the database finds all of them fitting after apply, and the same bytes as before after undo.
func TestDerivedColumns(t *testing.T) {
	for _, make := range stores {
		sql, ok := derivedStores[make.name]
		if !ok {
			continue // SQLite works out no digests: test/program has it
		}
		t.Run(make.name, func(t *testing.T) {
			t.Parallel()
			derived(t, make.make(newBench(t)), sql)
		})
	}
}

func derived(t *testing.T, s *store, sql [2]string) {
	const rows = 40
	var values []string
	for i := range rows {
		values = append(values, fmt.Sprintf("(%d, '<p>Lamp ☂ %d</p><a href=\"http://ternrock.example/%d\">é</a>')", i, i, i))
	}
	s.sql(fmt.Sprintf(sql[0], strings.Join(values, ", ")))
	fits := func(like string) string { return strings.TrimSpace(s.sql(fmt.Sprintf(sql[1], like) + ";")) }
	require.Equal(t, fmt.Sprint(rows), fits("%http://ternrock%"))
	was := s.dump()
	own := "name: own\ntitle: own\ntables: [pages]\nderived:\n"
	for _, c := range []string{"raw", "digits", "coded"} {
		own += "  - {table: pages, column: " + c + ", of: body, as: digest}\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "own.yaml"), []byte(own+"  - {table: pages, column: size, of: body, as: characters}\n"), 0o600))
	initial := []string{"init", "--here", "--site", "https://" + host, "--database", s.url, "--prefix", "m_", "--system"}
	var p struct {
		Cells int
		Left  map[string]int
	}
	s.tool(0, append(initial, "generic")...)
	require.NoError(t, json.Unmarshal([]byte(s.tool(0, "preview", "--offline", "--format", "json")), &p))
	// Base64 in which neither + nor / occurs may be of either alphabet: a row is left if its new digest has one of them.
	uncertain := p.Left["protected"]
	assert.Less(t, uncertain, rows/2)
	assert.Equal(t, 5*(rows-uncertain), p.Cells, "the digests tell, and the name of the length")

	s.tool(0, append(initial, "own.yaml")...)
	require.NoError(t, json.Unmarshal([]byte(s.tool(0, "preview", "--offline", "--format", "json")), &p))
	assert.Equal(t, 5*(rows-uncertain), p.Cells)
	s.tool(0, "apply", "--offline")
	assert.Equal(t, fmt.Sprint(rows-uncertain), fits("%https://ternrock%"), "the database's own digests")
	s.tool(0, "undo")
	assert.Equal(t, was, s.dump())
}
