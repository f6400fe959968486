//go:build real

package real

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	zooSeed  = flag.Uint64("zoo-seed", 14, "the seed of the random texts in every charset")
	zooCells = flag.Int("zoo-cells", 12, "how many random texts each charset gets")
	zooAll   = flag.Bool("zoo-all", false, "connect in every charset that the server lets a client use")
)

// randomText is some text of many scripts, in hexadecimal digits of UTF-8.
func randomText(r *rand.Rand) string {
	ranges := [][2]rune{{' ', '~'}, {0xa0, 0xff}, {0x100, 0x17f}, {0x370, 0x3ff}, {0x400, 0x4ff}, {0x5d0, 0x5ea}, {0x621, 0x64a}, {0xe01, 0xe5b}, {0x3041, 0x30ff}, {0x4e00, 0x9fa5}, {0xac00, 0xd7a3}, {0xff61, 0xff9f}, {0x1f600, 0x1f64f}, {0x2500, 0x257f}}
	var b strings.Builder
	for range 1 + r.IntN(12) {
		in := ranges[r.IntN(len(ranges))]
		c := in[0] + rune(r.IntN(int(in[1]-in[0])))
		if c == '\'' || c == '\\' {
			c = 'x'
		}
		b.WriteRune(c)
	}
	return fmt.Sprintf("%X", b.String())
}

// judgeBytes takes what a database shows of its cells' own bytes before apply, after it and after
// undo, and wants only the edits to differ, and then nothing. to is how the text that goes in looks, by
// table. It returns how many cells changed and how many stayed.
func judgeBytes(t *testing.T, what string, before, after map[string]string, edit func(table, was string) string) (changed, left int) {
	t.Helper()
	for id, was := range before {
		table, _, _ := strings.Cut(id, " ")
		switch after[id] {
		case was:
			left++
		case edit(table, was):
			changed++
		default:
			assert.Fail(t, "other bytes", "%s: %s was %s, is %s", what, id, was, after[id])
		}
	}
	assert.Len(t, after, len(before), what)
	return changed, left
}

// zoo is a table for every charset of a server, with random text of it.
type zoo struct {
	charsets []string
	hexOf    map[string][2]string // how http: and https: look, by table
}

// newZoo makes the tables. wild adds bytes that may be characters of the charset which no Unicode text leads to.
func newZoo(t *testing.T, s *store, r *rand.Rand, wild bool) *zoo {
	z := &zoo{hexOf: map[string][2]string{}}
	var in strings.Builder
	for line := range strings.Lines(s.sql("SELECT CHARACTER_SET_NAME FROM information_schema.CHARACTER_SETS WHERE CHARACTER_SET_NAME <> 'binary' ORDER BY 1")) {
		z.charsets = append(z.charsets, strings.TrimSpace(line))
	}
	require.Greater(t, len(z.charsets), 35)
	for _, c := range z.charsets {
		pair := strings.Fields(s.sql(fmt.Sprintf("SELECT HEX(CONVERT('http:' USING %[1]s)), HEX(CONVERT('https:' USING %[1]s))", c)))
		require.Len(t, pair, 2)
		z.hexOf["m_"+c] = [2]string{pair[0], pair[1]}
		fmt.Fprintf(&in, "CREATE TABLE m_%[1]s (id INT PRIMARY KEY, v VARCHAR(150) CHARACTER SET %[1]s, w LONGTEXT CHARACTER SET %[1]s);\n", c)
		for n := range *zooCells {
			var raw strings.Builder
			for range 4 {
				if wild {
					fmt.Fprintf(&raw, "%02X%02X", 0x81+r.IntN(0x7c), 0x40+r.IntN(0xbc))
				}
			}
			text := func() string {
				said := fmt.Sprintf("CONVERT(_utf8mb4 0x%[2]s USING %[1]s), CONVERT(' http://ternrock.example/x ' USING %[1]s), CONVERT(_utf8mb4 0x%[3]s USING %[1]s)", c, randomText(r), randomText(r))
				if wild {
					said += fmt.Sprintf(", CONVERT(_binary 0x%s USING %s)", raw.String(), c)
				}
				return "CONCAT(" + said + ")"
			}
			fmt.Fprintf(&in, "INSERT IGNORE INTO m_%s VALUES (%d, %s, %s);\n", c, n, text(), text())
		}
	}
	s.sql(in.String())
	return z
}

// raw is what a database shows of its cells' own bytes, in hexadecimal digits.
func (z *zoo) raw(s *store, database string) map[string]string {
	out := map[string]string{}
	for _, c := range z.charsets {
		for line := range strings.Lines(s.sql("SELECT CONCAT('m_" + c + " ', id, 'v'), HEX(v) FROM " + database + ".m_" + c + " UNION ALL SELECT CONCAT('m_" + c + " ', id, 'w'), HEX(w) FROM " + database + ".m_" + c)) {
			id, hex, _ := strings.Cut(strings.TrimSpace(line), "\t")
			out[id] = hex
		}
	}
	return out
}

// loads loads a script into a database; more are options of the client, which must know the charset of a script to tell
// where its strings end.
func (s *store) loads(database, file string, more ...string) {
	out, err := s.tryLoads(database, file, more...)
	require.NoError(s.t, err, "%s: %s", file, tail(out))
}

func (s *store) tryLoads(database, file string, more ...string) ([]byte, error) {
	in, err := os.Open(filepath.Join(s.dir, file))
	require.NoError(s.t, err)
	defer in.Close()
	c := exec.Command("mariadb", append(append([]string{"--no-defaults", "--socket=" + s.socket, "-uroot", "--binary-mode"}, more...), database)...)
	c.Stdin = in
	return c.CombinedOutput()
}

// edited is what a cell of a table is to become.
func (z *zoo) edited(table, was string) string {
	return strings.Replace(was, z.hexOf[table][0], z.hexOf[table][1], 1)
}

// Every charset of the server, with random text of it, connected in what the system's own software
// may use: after apply only the edits differ in the bytes of the columns, after undo nothing.
func TestCharsetZoo(t *testing.T) {
	t.Parallel()
	s := mariaStore(newBench(t), "InnoDB")
	z := newZoo(t, s, rand.New(rand.NewPCG(*zooSeed, 0)), true)
	charsets := z.charsets
	raw := func() map[string]string { return z.raw(s, "museum") }
	before := raw()
	require.Len(t, before, 2**zooCells*len(charsets))
	connections := []string{"", "utf8", "utf8mb4", "latin1"}
	if *zooAll {
		for _, c := range charsets {
			if !slices.Contains(connections, c) && !slices.Contains([]string{"ucs2", "utf16", "utf16le", "utf32"}, c) { // no client may use these
				connections = append(connections, c)
			}
		}
	}
	for _, connection := range connections {
		url := s.url
		if connection != "" {
			url += "&charset=" + connection
		}
		_ = os.Remove(filepath.Join(s.dir, "trimlantern.yaml")) // of the connection before
		s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", url, "--prefix", "m_", "--system", "generic")
		var preview struct {
			Left  map[string]int
			Cells int
		}
		code, out := s.try("preview", "--offline", "--format", "json", "--quiet")
		if code == 2 { // swe7 has no backslash, so that no table is found
			assert.Equal(t, "swe7", connection, out)
			continue
		}
		require.NoError(t, json.Unmarshal([]byte(out), &preview), out)
		code, said := s.try("apply", "--offline")
		require.Less(t, code, 2, "connection %q: %s", connection, said)
		changed, left := judgeBytes(t, fmt.Sprintf("connection %q", connection), before, raw(), z.edited)
		assert.Equal(t, preview.Cells, changed, connection)
		named := 0
		for _, k := range preview.Left {
			named += k
		}
		assert.Equal(t, left, named, "connection %q: what stays is named: %v", connection, preview.Left)
		var undone struct{ Back, Proven int }
		require.NoError(t, json.Unmarshal([]byte(s.tool(0, "undo", "--format", "json")), &undone))
		assert.Equal(t, changed, undone.Back)
		assert.Equal(t, changed, undone.Proven, "connection %q: each by the database's own hash", connection)
		assert.Equal(t, before, raw(), "connection %q: undo gives the bytes of before", connection)
		t.Logf("connection %q: %d changed, %d left and named", connection, changed, left)
	}
}

// Exported in what a client may use, every charset too: a dump that filter rewrote, one that apply wrote and a patch
// come to the same cells when they are loaded, of which only the edits differ from the dump as it was loaded.
func TestCharsetZooDump(t *testing.T) {
	t.Parallel()
	s := mariaStore(newBench(t), "InnoDB")
	z := newZoo(t, s, rand.New(rand.NewPCG(*zooSeed, 3)), false)
	client := func(flags []string) []string { // the client is told the charset too
		return slices.DeleteFunc(slices.Clone(flags), func(f string) bool { return !strings.HasPrefix(f, "--default-character-set") })
	}
	unloadable := 0
	load := func(database, file string, flags []string) {
		s.sql("DROP DATABASE IF EXISTS " + database + "; CREATE DATABASE " + database)
		s.loads(database, file, client(flags)...)
	}
	read := func(name string) string {
		b, err := os.ReadFile(filepath.Join(s.dir, name))
		require.NoError(t, err)
		return string(b)
	}
	exports := [][]string{{}, {"--hex-blob", "--skip-extended-insert"}, {"--default-character-set=latin1"}, {"--default-character-set=sjis"}, {"--default-character-set=binary"}}
	if *zooAll {
		for _, c := range z.charsets {
			if !slices.Contains([]string{"ucs2", "utf16", "utf16le", "utf32", "swe7"}, c) { // no client may use these; swe7 has no backslash
				exports = append(exports, []string{"--default-character-set=" + c})
			}
		}
	}
	for _, flags := range exports {
		what := strings.Join(flags, " ")
		dump := s.run(s.dir, "mariadb-dump", append(append([]string{"--no-defaults", "--socket=" + s.socket, "-uroot"}, flags...), "museum")...)
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, "export.sql"), dump, 0o600))
		s.sql("DROP DATABASE IF EXISTS was; CREATE DATABASE was")
		if out, err := s.tryLoads("was", "export.sql", client(flags)...); err != nil {
			t.Logf("%s: not even the export itself can be loaded: %s", what, tail(out))
			unloadable++
			continue
		}
		before := z.raw(s, "was")
		require.Len(t, before, 2**zooCells*len(z.charsets))
		var filtered struct {
			Left  map[string]int
			Cells int
		}
		code, out := s.try("filter", "--site", "https://ternrock.example", "--format", "json", "--quiet", "export.sql", "filtered.sql")
		require.Less(t, code, 2, "%s: %s", what, out)
		require.NoError(t, json.Unmarshal([]byte(out), &filtered), out)
		load("filtered", "filtered.sql", flags)
		changed, left := judgeBytes(t, what, before, z.raw(s, "filtered"), z.edited)
		assert.Equal(t, filtered.Cells, changed, what)
		named := 0
		for _, k := range filtered.Left {
			named += k
		}
		assert.Equal(t, left, named, "%s: what stays is named: %v", what, filtered.Left)

		for _, old := range []string{"trimlantern.yaml", "new.sql", "patch.sql", "patch.back.sql"} {
			_ = os.Remove(filepath.Join(s.dir, old)) // of the export before
		}
		s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", "dump:export.sql", "--system", "generic")
		s.tool(0, "preview", "--offline")
		_, said := s.try("apply", "--write", "new.sql")
		assert.Equal(t, read("filtered.sql"), read("new.sql"), "%s: filter and apply --write: %s", what, said)
		_, said = s.try("apply", "--patch", "patch.sql")
		load("was", "export.sql", flags)
		s.loads("was", "patch.sql")
		patched, unpatched := judgeBytes(t, what+", patched", before, z.raw(s, "was"), z.edited)
		assert.GreaterOrEqual(t, changed, patched, said)
		s.loads("was", "patch.back.sql")
		assert.Equal(t, before, z.raw(s, "was"), "%s: the patch back: %s", what, said)
		t.Logf("%s: filter changed %d and left %d; the patch changed %d and left %d", what, changed, left, patched, unpatched)
	}
	assert.Less(t, unloadable, len(exports)/4+1)
}

// PostgreSQL's server encodings; and one that lets any bytes in.
func TestEncodingZoo(t *testing.T) {
	t.Parallel()
	s := postgresStore(newBench(t))
	r := rand.New(rand.NewPCG(*zooSeed, 1))
	texts := map[string]string{"UTF8": "Türme 日本 Ж 😀", "LATIN1": "Türme é", "LATIN2": "Łódź ž", "LATIN9": "Türme €", "WIN1251": "Правь", "WIN1252": "Türme €", "KOI8R": "Правь", "EUC_JP": "日本 灯台",
		"EUC_KR": "한국", "EUC_CN": "中文", "ISO_8859_7": "Φάρος", "SQL_ASCII": ""}
	for _, encoding := range slices.Sorted(maps.Keys(texts)) {
		db := "zoo_" + strings.ToLower(encoding)
		s.sql(fmt.Sprintf("CREATE DATABASE %s ENCODING '%s' LC_COLLATE 'C' LC_CTYPE 'C' TEMPLATE template0", db, encoding))
		in := func(sql string) string { return s.sql("\\connect " + db + "\n" + sql) }
		fill := "CREATE TABLE m_posts (id INT PRIMARY KEY, v TEXT, w VARCHAR(200));\n"
		for n := range *zooCells {
			words := []rune(strings.Repeat(texts[encoding], 2))
			r.Shuffle(len(words), func(i, k int) { words[i], words[k] = words[k], words[i] })
			value := fmt.Sprintf("convert_from(convert_to('%s', 'UTF8'), 'UTF8') || ' http://ternrock.example/x ' || '%s'", string(words), texts[encoding])
			if encoding == "SQL_ASCII" {
				value = fmt.Sprintf("E'\\x%02x\\x%02x' || ' http://ternrock.example/x ' || E'\\xc3'", 0x80+r.IntN(0x7f), 0xc0+r.IntN(0x3f))
			}
			fill += fmt.Sprintf("INSERT INTO m_posts VALUES (%d, %s, %s);\n", n, value, value)
		}
		if encoding == "SQL_ASCII" {
			in(fill)
		} else {
			in("SET client_encoding = 'UTF8';\n" + fill)
		}
		raw := func() map[string]string {
			out := map[string]string{}
			for line := range strings.Lines(in("SELECT 'm_posts ' || id || 'v', encode(textsend(v), 'hex') FROM m_posts UNION ALL SELECT 'm_posts ' || id || 'w', encode(textsend(w), 'hex') FROM m_posts")) {
				if id, hex, ok := strings.Cut(strings.TrimSpace(line), "|"); ok {
					out[id] = hex
				}
			}
			return out
		}
		before := raw()
		require.Len(t, before, 2**zooCells, encoding)
		_ = os.Remove(filepath.Join(s.dir, "trimlantern.yaml"))
		s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", strings.Replace(s.url, "/museum", "/"+db, 1), "--prefix", "m_", "--system", "generic")
		code, said := s.try("preview", "--offline")
		require.Less(t, code, 2, "%s: %s", encoding, said)
		code, said = s.try("apply", "--offline")
		require.Less(t, code, 2, "%s: %s", encoding, said)
		changed, left := judgeBytes(t, encoding, before, raw(), func(_, was string) string {
			return strings.Replace(was, fmt.Sprintf("%x", "http:"), fmt.Sprintf("%x", "https:"), 1)
		})
		assert.Equal(t, 2**zooCells, changed+left)
		if left > 0 { // letters of a single byte that look like a length before the address
			assert.LessOrEqual(t, left, 2, "%s: %s", encoding, said)
			assert.Contains(t, strings.Join(strings.Fields(said), " "), fmt.Sprintf("%d cannot be sealed again", left), "what stays is named")
		}
		code, said = s.try("undo")
		require.Less(t, code, 2, said)
		assert.Equal(t, before, raw(), encoding)
		t.Logf("%s: %d changed, %d left", encoding, changed, left)
	}
}

// pgEncodings are those in which PostgreSQL's dump program can write, those for clients alone too.
var pgEncodings = strings.Fields("UTF8 LATIN1 LATIN2 LATIN3 LATIN4 LATIN5 LATIN6 LATIN7 LATIN8 LATIN9 LATIN10 WIN1250 WIN1251 WIN1252 WIN1253 WIN1254 WIN1255 WIN1256 WIN1257 WIN1258 WIN866 WIN874 KOI8R KOI8U " +
	"ISO_8859_5 ISO_8859_6 ISO_8859_7 ISO_8859_8 EUC_JP EUC_CN EUC_KR EUC_TW EUC_JIS_2004 SJIS SHIFT_JIS_2004 BIG5 GBK UHC GB18030 JOHAB")

// Dumped in every encoding that a client may use: what filter makes of it and what a patch makes of the database differ
// from what the dump itself loads in the edits alone; what is left is named.
func TestEncodingZooDump(t *testing.T) {
	t.Parallel()
	s := postgresStore(newBench(t))
	r := rand.New(rand.NewPCG(*zooSeed, 4))
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	require.NoError(t, err)
	require.NotEmpty(t, bins)
	program := func(in []byte, name string, args ...string) []byte {
		c := exec.Command(filepath.Join(bins[len(bins)-1], name), append([]string{"-h", filepath.Join(s.dir, "pg"), "-U", "keeper"}, args...)...)
		c.Stdin = bytes.NewReader(in)
		var out, errs bytes.Buffer
		c.Stdout, c.Stderr = &out, &errs
		require.NoError(t, c.Run(), "%s %v: %s", name, args, tail(errs.Bytes()))
		return out.Bytes()
	}
	s.sql("CREATE FUNCTION fits(t text, e text) RETURNS boolean LANGUAGE plpgsql AS $f$ BEGIN RETURN convert_from(convert_to(t, e), e) = t; EXCEPTION WHEN OTHERS THEN RETURN false; END $f$;")
	var texts []string
	for range 60 * *zooCells {
		texts = append(texts, fmt.Sprintf("(convert_from('\\x%s', 'UTF8'))", randomText(r)))
	}
	s.sql("CREATE TABLE words (t text); INSERT INTO words VALUES " + strings.Join(texts, ", ") + ";")
	for _, encoding := range pgEncodings {
		if !*zooAll && !slices.Contains(strings.Fields("UTF8 LATIN1 LATIN3 WIN1251 SJIS SHIFT_JIS_2004 BIG5 GBK JOHAB"), encoding) {
			continue
		}
		s.sql("DROP TABLE IF EXISTS m_posts; CREATE TABLE m_posts (id INT PRIMARY KEY, v TEXT, w VARCHAR(200));")
		s.sql(fmt.Sprintf("INSERT INTO m_posts SELECT row_number() OVER (), t || ' http://ternrock.example/x ' || t, E'\\\\' || t || E'\\n http://ternrock.example/x' FROM words WHERE fits(t, '%s') LIMIT 40;", encoding))
		export := program(nil, "pg_dump", "-E", encoding, "-t", "m_posts", "museum")
		raw := func(db string) map[string]string {
			out := map[string]string{}
			for line := range strings.Lines(string(program(nil, "psql", "-d", db, "-qAt", "-c", "SELECT 'm_posts ' || id || 'v', encode(convert_to(v, 'UTF8'), 'hex') FROM m_posts UNION ALL SELECT 'm_posts ' || id || 'w', encode(convert_to(w, 'UTF8'), 'hex') FROM m_posts"))) {
				if id, hex, ok := strings.Cut(strings.TrimSpace(line), "|"); ok {
					out[id] = hex
				}
			}
			return out
		}
		load := func(db string, script []byte) {
			s.sql("DROP DATABASE IF EXISTS " + db)
			s.sql("CREATE DATABASE " + db)
			program(script, "psql", "-d", db, "-q", "-v", "ON_ERROR_STOP=1")
		}
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, "export.sql"), export, 0o600))
		load("was", export)
		before := raw("was")
		require.Greater(t, len(before), 4, encoding)
		edit := func(_, was string) string {
			return strings.Replace(was, fmt.Sprintf("%x", "http:"), fmt.Sprintf("%x", "https:"), 1)
		}
		var filtered struct {
			Left  map[string]int
			Cells int
		}
		code, out := s.try("filter", "--site", "https://ternrock.example", "--format", "json", "--quiet", "export.sql", "filtered.sql")
		require.Less(t, code, 2, "%s: %s", encoding, out)
		require.NoError(t, json.Unmarshal([]byte(out), &filtered), out)
		read, err := os.ReadFile(filepath.Join(s.dir, "filtered.sql"))
		require.NoError(t, err)
		load("filtered", read)
		changed, left := judgeBytes(t, encoding, before, raw("filtered"), edit)
		assert.Equal(t, filtered.Cells, changed, encoding)
		named := 0
		for _, k := range filtered.Left {
			named += k
		}
		assert.Equal(t, left, named, "%s: what stays is named: %v", encoding, filtered.Left)

		for _, old := range []string{"trimlantern.yaml", "patch.sql", "patch.back.sql"} {
			_ = os.Remove(filepath.Join(s.dir, old)) // of the export before
		}
		s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", "dump:export.sql", "--system", "generic")
		s.tool(0, "preview", "--offline")
		code, said := s.try("apply", "--patch", "patch.sql")
		if code == 2 { // none of the cells can be written by one
			assert.Zero(t, changed-filtered.Cells, said)
			t.Logf("%s: filter changed %d and left %d; no patch", encoding, changed, left)
			continue
		}
		patch, err := os.ReadFile(filepath.Join(s.dir, "patch.sql"))
		require.NoError(t, err)
		program(patch, "psql", "-d", "was", "-q", "-v", "ON_ERROR_STOP=1")
		patched, unpatched := judgeBytes(t, encoding+", patched", before, raw("was"), edit)
		assert.GreaterOrEqual(t, changed, patched)
		back, err := os.ReadFile(filepath.Join(s.dir, "patch.back.sql"))
		require.NoError(t, err)
		program(back, "psql", "-d", "was", "-q", "-v", "ON_ERROR_STOP=1")
		assert.Equal(t, before, raw("was"), encoding)
		t.Logf("%s: filter changed %d and left %d; the patch changed %d and left %d", encoding, changed, left, patched, unpatched)
	}
}

// SQLite takes any bytes for text: invalid UTF-8 and NULs too.
func TestAnyBytesInSQLite(t *testing.T) {
	t.Parallel()
	s := sqliteStore(newBench(t))
	r := rand.New(rand.NewPCG(*zooSeed, 2))
	fill := "CREATE TABLE m_posts (id INTEGER PRIMARY KEY, v TEXT, w BLOB);\n"
	n := 20 * *zooCells
	for i := range n {
		b := make([]byte, r.IntN(20))
		for k := range b {
			b[k] = byte(r.IntN(256))
		}
		hex := fmt.Sprintf("%X%X%X", b, " http://ternrock.example/x ", b)
		fill += fmt.Sprintf("INSERT INTO m_posts VALUES (%d, CAST(X'%s' AS TEXT), X'%s');\n", i, hex, hex)
	}
	s.sql(fill)
	raw := func() map[string]string {
		out := map[string]string{}
		for line := range strings.Lines(s.sql("SELECT 'm_posts ' || id || 'v ' || typeof(v), hex(v) FROM m_posts UNION ALL SELECT 'm_posts ' || id || 'w ' || typeof(w), hex(w) FROM m_posts")) {
			id, hex, _ := strings.Cut(strings.TrimSpace(line), "|")
			out[id] = hex
		}
		return out
	}
	before := raw()
	require.Len(t, before, 2*n)
	s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", s.url, "--prefix", "m_", "--system", "generic")
	var preview struct {
		Left  map[string]int
		Cells int
	}
	_, out := s.try("preview", "--offline", "--format", "json", "--quiet")
	require.NoError(t, json.Unmarshal([]byte(out), &preview), out)
	code, said := s.try("apply", "--offline")
	require.Less(t, code, 2, said)
	changed, left := judgeBytes(t, "SQLite", before, raw(), func(_, was string) string {
		return strings.Replace(was, fmt.Sprintf("%X", "http:"), fmt.Sprintf("%X", "https:"), 1)
	})
	assert.Equal(t, preview.Cells, changed)
	sum := 0
	for _, k := range preview.Left {
		sum += k
	}
	assert.GreaterOrEqual(t, sum, left, "what stays is named: %v", preview.Left)
	code, said = s.try("undo")
	require.Less(t, code, 2, said)
	assert.Equal(t, before, raw())
	t.Logf("SQLite: %d changed, %d left: %v", changed, left, preview.Left)
}
