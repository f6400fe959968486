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

// charsetTexts are, by a column's charset, bytes in hexadecimal digits.
var charsetTexts = map[string][]string{
	"utf8mb4": {"F09F9880", "E697A5E69CAC", "C3A9", "41"},
	"utf8mb3": {"E697A5E69CAC", "C3A9", "41"},
	"latin1":  {"E9", "80", "41"},
	"cp1251":  {"CFF0E8E2", "41"},
	"cp932":   {"8790", "EEEF", "FA4A", "93FA967B", "41"},
	"sjis":    {"93FA967B", "955C", "41"},
	"gbk":     {"C4E3BAC3", "815C", "41"},
	"big5":    {"A55C", "A741", "41"},
	"ascii":   {"41"},
}

// Whatever charset the system's configuration names and a table has: after apply only the edits differ
// in the column's own bytes, as the database itself shows them, and after undo nothing does. What
// the connection's charset cannot carry is left and named.
func TestCharsets(t *testing.T) {
	t.Parallel()
	s := mariaStore(newBench(t), "InnoDB")
	const ours = "http://ternrock.example/ "
	count := 0
	in := ""
	for charset, all := range charsetTexts {
		in += fmt.Sprintf("CREATE TABLE m_%[1]s (id INT PRIMARY KEY, v VARCHAR(190) CHARACTER SET %[1]s);\n", charset)
		for n, hex := range all {
			in += fmt.Sprintf("INSERT INTO m_%[1]s VALUES (%[2]d, CONCAT(CONVERT('%[3]s' USING %[1]s), CONVERT(_binary 0x%[4]s USING %[1]s)));\n", charset, n, ours, hex)
			count++
		}
	}
	s.sql(in)
	raw := func() map[string]string { // a cell's own bytes
		out := map[string]string{}
		for charset := range charsetTexts {
			for line := range strings.Lines(s.sql("SELECT CONCAT('m_" + charset + " ', id), HEX(v) FROM m_" + charset)) {
				id, hex, ok := strings.Cut(strings.TrimSpace(line), "\t")
				require.True(t, ok, line)
				out[id] = hex
			}
		}
		return out
	}
	before := raw()
	clients := map[string]string{"": "gbk", "utf8": "big5", "utf8mb4": "sjis", "cp932": "latin1"}
	require.Len(t, before, count)
	for _, connection := range []string{"", "utf8", "utf8mb4", "latin1", "ascii", "cp1251", "gbk", "sjis", "big5", "cp932"} {
		url := s.url
		if connection != "" {
			url += "&charset=" + connection
		}
		_ = os.Remove(filepath.Join(s.dir, "trimlantern.yaml")) // of the connection before
		s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", url, "--prefix", "m_")
		var preview struct {
			Counts map[string]int `json:"left"`
			Cells  int
		}
		_, out := s.try("preview", "--offline", "--format", "json", "--quiet")
		require.NoError(t, json.Unmarshal([]byte(out), &preview), out)
		code, said := s.try("apply", "--offline")
		require.Less(t, code, 2, said)
		after := raw()
		changed, left := 0, 0
		for id, was := range before {
			switch after[id] {
			case was:
				left++
			case strings.Replace(was, fmt.Sprintf("%X", "http:"), fmt.Sprintf("%X", "https:"), 1):
				changed++
			default:
				assert.Fail(t, "other bytes", "connection %q: %s was %s, is %s", connection, id, was, after[id])
			}
		}
		assert.Equal(t, left, preview.Counts["charset"], "connection %q: what is left is named", connection)
		assert.Equal(t, changed, preview.Cells, connection)
		assert.GreaterOrEqual(t, changed, len(charsetTexts), "connection %q", connection)
		if connection == "" || strings.HasPrefix(connection, "utf8") {
			assert.LessOrEqual(t, left, 5, "connection %q", connection)
		}
		if client := clients[connection]; client != "" { // by the system's own client, whatever it takes the script for
			script := filepath.Join(s.dir, client+".sql")
			s.tool(0, "undo", "--as-sql", script)
			s.run(s.dir, "mariadb", "--no-defaults", "--socket="+s.socket, "-uroot", "--default-character-set="+client, "museum", "-e", "source "+script)
			assert.Equal(t, before, raw(), "connection %q: the script, read in %s, gives the bytes of before", connection, client)
		} else {
			code, said = s.try("undo")
			require.Less(t, code, 2, said)
			assert.Equal(t, before, raw(), "connection %q: undo gives the bytes of before", connection)
		}
		t.Logf("connection %q: %d changed, %d left and named", connection, changed, left)
	}
}

// The script of tables in another schema than the default one finds them wherever it is run.
func TestScriptOfSchema(t *testing.T) {
	t.Parallel()
	s := postgresStore(newBench(t))
	s.sql(`CREATE SCHEMA "an""nex"; CREATE TABLE "an""nex".m_posts (id INT PRIMARY KEY, v TEXT); INSERT INTO "an""nex".m_posts VALUES (1, 'http://ternrock.example/ é');
		CREATE TABLE m_posts (id INT PRIMARY KEY, v TEXT); INSERT INTO m_posts VALUES (1, 'http://ternrock.example/ of another')`)
	before := s.dump()
	s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", s.url+"&schema=an%22nex", "--prefix", "m_")
	code, said := s.try("preview", "--offline")
	require.Less(t, code, 2, said)
	code, said = s.try("apply", "--offline")
	require.Less(t, code, 2, said)
	assert.Len(t, differing(before, s.dump()), 2)
	script := filepath.Join(s.dir, "back.sql")
	s.tool(0, "undo", "--as-sql", script)
	s.sql(string(mustRead(t, script)))
	sameDump(t, before, s.dump())
}

// What is no ordinary column or table is looked at too: enumerations are named, and rows of a table that
// keeps its history are changed and put back, as far as the database lets anybody.
func TestOddTables(t *testing.T) {
	t.Parallel()
	s := mariaStore(newBench(t), "InnoDB")
	s.sql(`CREATE TABLE m_kinds (id INT PRIMARY KEY, e ENUM('http://ternrock.example/a', 'b'), s SET('http://ternrock.example/c', 'd'));
		INSERT INTO m_kinds VALUES (1, 'http://ternrock.example/a', 'http://ternrock.example/c,d'), (2, 'b', 'd');
		CREATE TABLE m_history (id INT PRIMARY KEY, v TEXT) WITH SYSTEM VERSIONING;
		INSERT INTO m_history VALUES (1, 'http://ternrock.example/now'), (2, 'nothing');
		UPDATE m_history SET v = 'https://ternrock.example/new' WHERE id = 2;`)
	before := s.dump()
	s.init()
	p := s.preview()
	assert.Equal(t, 1, p.Cells)
	assert.Equal(t, 2, p.Left["list"], "an enumeration and a set")
	s.tool(0, "apply", "--offline")
	assert.Equal(t, "https://ternrock.example/now\n", s.sql("SELECT v FROM m_history WHERE id = 1"))
	s.tool(0, "undo")
	sameDump(t, before, s.dump())
}

// Rows that row-level security hides are not passed over in silence.
func TestHiddenRows(t *testing.T) {
	t.Parallel()
	s := postgresStore(newBench(t))
	s.sql(`CREATE TABLE m_open (id INT PRIMARY KEY, v TEXT); INSERT INTO m_open VALUES (1, 'http://ternrock.example/');
		CREATE TABLE m_kept (id INT PRIMARY KEY, v TEXT); INSERT INTO m_kept VALUES (1, 'http://ternrock.example/a'), (2, 'http://ternrock.example/b');
		ALTER TABLE m_kept ENABLE ROW LEVEL SECURITY; CREATE POLICY first_row ON m_kept USING (id = 1);
		CREATE ROLE visitor LOGIN; GRANT ALL ON ALL TABLES IN SCHEMA public TO visitor;`)
	s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", strings.Replace(s.url, "keeper@", "visitor@", 1), "--prefix", "m_")
	p := s.preview()
	assert.Equal(t, 2, p.Cells, "what can be seen")
	assert.Equal(t, 1, p.Left["hidden"])
	said := s.tool(0, "apply", "--offline")
	assert.Contains(t, said, "rows that this database user may not see")
	assert.NotContains(t, said, "nothing left to change")
	assert.Contains(t, strings.Join(strings.Fields(said), " "), "not all rows of 1 table were read")
}
