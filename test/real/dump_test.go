//go:build real

package real

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
	"trimlantern/core/rewrite"
)

// random makes values as practice has them: references in all spellings, inside
// serialized values, JSON and base64, between all kinds of awkward characters.
type random struct{ *rand.Rand }

func (r random) pick(s ...string) string { return s[r.IntN(len(s))] }

func (r random) text(nul bool) string {
	out := ""
	for range 1 + r.IntN(5) {
		out += r.pick("lamp ", "it's ", `"quoted" `, `back\slash `, "new\nline ", "\r\n", "tab\t", "\x1a", "café ", "日本 ", "🕯 ", `\N`, `\.`, "%_", "$a$", "--", "/*", ";", "),(", `\n`, "https://ternrock.example/ ", "http://other.example/ ",
			"http://ternrock.example/a ", `http:\/\/www.ternrock.example\/b `, "http%3A%2F%2Fternrock.example%3A80 ", "HTTP://TERNROCK.EXAMPLE:80/ ")
		if nul && r.IntN(9) == 0 {
			out += "\x00"
		}
	}
	return out
}

func (r random) value(nul bool) string {
	t := r.text(nul)
	switch r.IntN(6) {
	case 0:
		return fmt.Sprintf(`a:2:{s:3:"url";s:%d:"%s";i:0;s:4:"lamp";}`, len(t), t)
	case 1:
		b, err := json.Marshal(map[string]string{"u": strings.ToValidUTF8(strings.ReplaceAll(t, "\x00", ""), "")})
		if err != nil {
			panic(err) // a string
		}
		return strings.ReplaceAll(string(b), "/", `\/`)
	case 2:
		return fmt.Sprintf(`O:8:"stdClass":1:{s:1:"u";s:%d:"%s";}`, len(t), t)
	}
	return t
}

// binary makes bytes that are no text.
func (r random) binary() string {
	b := make([]byte, r.IntN(40))
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return string(b) + r.pick("", "http://ternrock.example/x\x00", "\xff\xfe") + string(b)
}

// expected is what preview and apply make of a value.
func expected(t *testing.T, v string) string {
	site, err := address.Parse("https://ternrock.example", "www.ternrock.example")
	require.NoError(t, err)
	rules := &rewrite.Rules{Site: site}
	after, err := rewrite.Apply([]byte(v), rules.Value([]byte(v)).Edits)
	require.NoError(t, err)
	return string(after)
}

// patched returns the patch of a dump, and the one that takes it back.
func (b *bench) patched(file string) (there, back string) {
	b.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--database", "dump:"+file)
	b.tool(0, "preview", "--offline", "--judge", "none")
	b.tool(0, "apply", "--patch", "patch.sql", "--largest-file", "64")
	for name, to := range map[string]*string{"patch.sql": &there, "patch.back.sql": &back} {
		text, err := os.ReadFile(filepath.Join(b.dir, name))
		require.NoError(b.t, err)
		*to = string(text)
	}
	return there, back
}

func seeded(t *testing.T) random {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	return random{rand.New(rand.NewPCG(seed, 7))}
}

// filter runs the built program on a dump.
func filter(t *testing.T, program string, in []byte, more ...string) []byte {
	c := exec.Command(program, append([]string{"filter", "--quiet", "--site", "https://ternrock.example", "--also", "www.ternrock.example"}, more...)...)
	c.Stdin = bytes.NewReader(in)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	require.Contains(t, []int{0, 1}, c.ProcessState.ExitCode(), "%v %s", err, errs.String())
	return out.Bytes()
}

// same holds two tables of cells against each other.
func same(t *testing.T, what string, want, got []string) {
	t.Helper()
	require.Equal(t, len(want), len(got), what)
	for i := range want {
		require.Equal(t, want[i], got[i], "%s, cell %d", what, i)
	}
}

const dumpRows = 1500

func TestMariaDBDump(t *testing.T) {
	t.Parallel()
	b := &bench{t: t, dir: t.TempDir()}
	b.socket, b.program = filepath.Join(b.dir, "db.sock"), built
	b.startMariaDB()
	r := seeded(t)
	// All column types; text in utf8mb4 and latin1, bytes.
	script := `CREATE TABLE museum.m_all (id INT PRIMARY KEY, a LONGTEXT CHARACTER SET utf8mb4, b VARCHAR(4000) CHARACTER SET utf8mb4, c TEXT CHARACTER SET latin1,
		d LONGBLOB, e VARBINARY(4000), f JSON, g DATETIME, h DECIMAL(9,3), i DOUBLE, j BIT(9), k ENUM('a','b'), l SET('x','y'), m DATE, n TIME, o YEAR, p BOOL, q CHAR(9), r TINYTEXT,
		v VARCHAR(30), w POINT, x INET6, y UUID, z TIMESTAMP DEFAULT '2026-01-02 03:04:05') DEFAULT CHARSET utf8mb4;
		CREATE TABLE museum.m_keyless (a TEXT);` + "\n"
	lit := func(s string) string {
		if s == "" {
			return "''"
		}
		return "0x" + hex.EncodeToString([]byte(s))
	}
	latin := func(s string) string { return strings.NewReplacer("日本", "Japan", "🕯", "lamp").Replace(s) }
	var rows strings.Builder
	for i := range dumpRows {
		fmt.Fprintf(&rows, "INSERT INTO museum.m_all VALUES (%d, CONVERT(%s USING utf8mb4), %s, CONVERT(CONVERT(%s USING utf8mb4) USING latin1), %s, %s, %s, '2026-03-04 05:06:07', %d.125, %d.5e10, %d, 'a', 'x,y', '2026-01-01', '10:00:00', 2026, 1, 'q', 'http://ternrock.example', %s, POINT(1,2), '::1', UUID(), DEFAULT);\n",
			i, lit(r.value(true)), lit(r.value(true)), lit(latin(r.value(false))), lit(r.binary()+r.value(true)), lit(r.value(true)), `'{"u":"http:\\/\\/ternrock.example\\/`+fmt.Sprint(i)+`"}'`,
			i, i, i%512, lit(r.pick("http://ternrock.example/123456", "http://ternrock.example", "short")))
		if i%100 == 0 {
			fmt.Fprintf(&rows, "INSERT INTO museum.m_keyless VALUES (%s);\n", lit(r.value(true)))
		}
	}
	load := func(database string, sql []byte) {
		c := exec.Command("mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "--default-character-set=utf8mb4", "--binary-mode", database)
		c.Stdin = bytes.NewReader(sql)
		out, err := c.CombinedOutput()
		require.NoError(t, err, tail(out))
	}
	load("museum", []byte(script+rows.String()))
	// Values as a client that speaks utf8mb4 sees them.
	cells := func(database string) []string {
		out := ""
		for _, q := range []string{"a", "b", "CONVERT(c USING utf8mb4)", "d", "e", "f", "q", "r", "v", "w", "CAST(g AS CHAR)", "CAST(h AS CHAR)", "CAST(i AS CHAR)", "CAST(j + 0 AS CHAR)", "CAST(z AS CHAR)"} {
			out += b.sql(fmt.Sprintf("SELECT HEX(%s) FROM %s.m_all ORDER BY id", q, database))
		}
		out += b.sql(fmt.Sprintf("SELECT HEX(a) FROM %s.m_keyless ORDER BY 1", database))
		return strings.Split(strings.TrimSpace(out), "\n")
	}
	var want []string
	overflow := 0
	for i, c := range cells("museum") {
		v, err := hex.DecodeString(c)
		require.NoError(t, err)
		after := expected(t, string(v))
		if i/dumpRows == 8 && len(after) > 30 { // VARCHAR(30): left as it is
			overflow++
			after = string(v)
		}
		want = append(want, strings.ToUpper(hex.EncodeToString([]byte(after))))
	}
	require.Positive(t, overflow)
	keyless := want[15*dumpRows:]
	for n, flags := range [][]string{{}, {"--hex-blob"}, {"--skip-extended-insert", "--complete-insert"}, {"--compact"}, {"--default-character-set=latin1", "--ignore-table=museum.x"}} {
		name := fmt.Sprintf("again%d", n)
		dump := b.run(b.dir, "mariadb-dump", append([]string{"--no-defaults", "--socket=" + b.socket, "-uroot"}, append(flags, "museum")...)...)
		if n == 4 {
			// Bytes of another charset pass through unharmed; lengths count bytes as
			// they stand in such a dump, so serialized text of it is left to preview.
			assert.Equal(t, len(bytes.Split(dump, []byte("\n"))), len(bytes.Split(filter(t, b.program, dump), []byte("\n"))))
			continue
		}
		b.sql("CREATE DATABASE " + name)
		load(name, filter(t, b.program, dump))
		got := cells(name)
		same(t, strings.Join(flags, " "), want[:15*dumpRows], got[:15*dumpRows])
		assert.ElementsMatch(t, keyless, got[15*dumpRows:])
	}
	// The same as preview and apply make of the loaded database.
	b.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--database", "mysql://root@/museum?socket="+b.socket, "--prefix", "m_")
	b.tool(0, "preview", "--offline")
	b.tool(0, "apply", "--offline")
	same(t, "apply", want[:15*dumpRows], cells("museum")[:15*dumpRows])
}

func TestSQLiteDump(t *testing.T) {
	t.Parallel()
	b := &bench{t: t, dir: t.TempDir()}
	b.program = filepath.Join(b.dir, "trimlantern")
	b.program = built
	r := seeded(t)
	lit := func(s string) string { return "CAST(X'" + hex.EncodeToString([]byte(s)) + "' AS TEXT)" }
	script := "CREATE TABLE m (id INTEGER PRIMARY KEY, a TEXT, b VARCHAR(9), c BLOB, d REAL, \"e f\" TEXT);\nBEGIN;\n"
	for i := range dumpRows {
		script += fmt.Sprintf("INSERT INTO m VALUES (%d, %s, %s, X'%x', %d.5, NULL);\n", i, lit(r.value(false)), lit(r.value(false)), r.binary()+r.value(true), i)
	}
	shell := func(file string, in string) string {
		c := exec.Command("sqlite3", "-batch", file)
		c.Dir = b.dir
		c.Stdin = strings.NewReader(in)
		out, err := c.Output()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	shell("one.db", script+"COMMIT;\n")
	cells := func(file string) []string {
		return strings.Split(strings.TrimSpace(shell(file, "SELECT hex(a) FROM m ORDER BY id; SELECT hex(b) FROM m ORDER BY id; SELECT typeof(c) || hex(c) FROM m ORDER BY id;\n")), "\n")
	}
	var want []string
	for _, c := range cells("one.db") {
		kind, digits := "", c
		if strings.HasPrefix(c, "blob") {
			kind, digits = "blob", c[4:]
		}
		v, err := hex.DecodeString(digits)
		require.NoError(t, err)
		want = append(want, kind+strings.ToUpper(hex.EncodeToString([]byte(expected(t, string(v))))))
	}
	tables := filepath.Join(b.dir, "tables.sql")
	require.NoError(t, os.WriteFile(tables, []byte(shell("one.db", ".schema\n")), 0o600))
	for n, how := range []string{".dump\n", ".dump --preserve-rowids --nosys\n", ".dump --data-only\n", ".mode insert m\nSELECT * FROM m;\n"} {
		dump, more := shell("one.db", how), []string(nil)
		two := fmt.Sprintf("two%d.db", n)
		if n > 1 {
			shell(two, shell("one.db", ".schema\n"))
			more = []string{"--tables", tables, "--dialect", "sqlite"}
		}
		shell(two, string(filter(t, b.program, []byte(dump), more...)))
		same(t, "filter "+how, want, cells(two))
	}
	file := filepath.Join(b.dir, "one.sql")
	require.NoError(t, os.WriteFile(file, []byte(shell("one.db", ".dump\n")), 0o600))
	there, back := b.patched(file)
	was := cells("one.db")
	shell("patched.db", shell("one.db", ".dump\n"))
	assert.Regexp(t, `(?m)^\d+\|0$`, shell("patched.db", there), "all rows took")
	same(t, "--patch", want, cells("patched.db"))
	shell("patched.db", back)
	same(t, "--patch and back", was, cells("patched.db"))
	require.NoError(t, os.Remove(filepath.Join(b.dir, "trimlantern.yaml")))
	said, err := exec.Command(b.program, "filter", "--site", "https://ternrock.example", filepath.Join(b.dir, "one.db"), filepath.Join(b.dir, "out.db")).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(said), "this is an SQLite database")
	b.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--database", "sqlite:"+filepath.Join(b.dir, "one.db"))
	b.tool(0, "preview", "--offline")
	code, out := b.try("apply", "--offline") // 1: binary values may be left and named
	require.Contains(t, []int{0, 1}, code, out)
	same(t, "apply", want, cells("one.db"))
}

func TestPostgreSQLDump(t *testing.T) {
	t.Parallel()
	b := &bench{t: t, dir: t.TempDir()}
	b.program = filepath.Join(b.dir, "trimlantern")
	b.program = built
	bins, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	require.NoError(t, err)
	require.NotEmpty(t, bins, "PostgreSQL's programs")
	bin := bins[len(bins)-1]
	// The server refuses to run as root: it gets a folder and a user of its own.
	var as *syscall.SysProcAttr
	data := filepath.Join(b.dir, "pg")
	require.NoError(t, os.Mkdir(data, 0o700))
	if os.Getuid() == 0 {
		for d := b.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
			require.NoError(t, os.Chmod(d, 0o755))
		}
		require.NoError(t, os.Chown(data, 65534, 65534))
		as = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	}
	pg := func(in []byte, name string, args ...string) []byte {
		t.Helper()
		c := exec.Command(filepath.Join(bin, name), args...)
		c.SysProcAttr, c.Dir, c.Stdin = as, data, bytes.NewReader(in)
		var out, errs bytes.Buffer
		c.Stdout, c.Stderr = &out, &errs
		require.NoError(t, c.Run(), "%s %v\n%s", name, args, tail(errs.Bytes()))
		return out.Bytes()
	}
	pg(nil, "initdb", "-D", data+"/d", "-U", "keeper", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	pg(nil, "pg_ctl", "-D", data+"/d", "-w", "-l", data+"/log", "-o", "-c listen_addresses='' -c fsync=off -k "+data, "start")
	t.Cleanup(func() { pg(nil, "pg_ctl", "-D", data+"/d", "-m", "immediate", "stop") })
	psql := func(database, in string) string {
		return string(pg([]byte(in), "psql", "-h", data, "-U", "keeper", "-d", database, "-v", "ON_ERROR_STOP=1", "-qAt"))
	}
	r := seeded(t)
	script := `CREATE TABLE m (id int PRIMARY KEY, a text, b varchar(4000), c bytea, d json, e jsonb, f text[], g timestamptz, h numeric, i boolean, "j k" text, l varchar(30));` +
		"\nCREATE FUNCTION f() RETURNS text LANGUAGE sql AS $_$ SELECT 'http://ternrock.example/; $a$' $_$;\n"
	lit := func(s string) string { return fmt.Sprintf("convert_from('\\x%x', 'UTF8')", s) }
	for i := range dumpRows {
		script += fmt.Sprintf("INSERT INTO m VALUES (%d, %s, %s, '\\x%x', '{\"u\":\"http:\\/\\/ternrock.example\"}', '{\"u\":\"http://ternrock.example\"}', ARRAY[%s], now(), %d.25, true, NULL, %s);\n",
			i, lit(r.value(false)), lit(r.value(false)), r.binary()+r.value(true), lit("http://ternrock.example/f"), i, lit(r.pick("http://ternrock.example/123456", "http://ternrock.example", "short")))
	}
	psql("postgres", "CREATE DATABASE one;")
	psql("one", script)
	cells := func(database string) []string {
		out := ""
		for _, q := range []string{"convert_to(a,'UTF8')", "convert_to(b,'UTF8')", "c", "convert_to(d::text,'UTF8')", "convert_to(e::text,'UTF8')", "convert_to(l,'UTF8')"} {
			out += psql(database, "SELECT encode("+q+", 'hex') FROM m ORDER BY id;")
		}
		return strings.Split(strings.TrimSpace(out), "\n")
	}
	var want []string
	for i, c := range cells("one") {
		v, err := hex.DecodeString(c)
		require.NoError(t, err)
		after := expected(t, string(v))
		if i/dumpRows == 5 && len(after) > 30 {
			after = string(v)
		}
		want = append(want, hex.EncodeToString([]byte(after)))
	}
	dumped := func(flags ...string) []byte {
		return pg(nil, "pg_dump", append([]string{"-h", data, "-U", "keeper"}, append(flags, "one")...)...)
	}
	tables := filepath.Join(b.dir, "tables.sql")
	require.NoError(t, os.WriteFile(tables, dumped("--schema-only"), 0o600))
	for n, flags := range [][]string{{}, {"--inserts"}, {"--column-inserts", "--rows-per-insert=50"}, {"--data-only"}, {"--data-only", "--inserts"}, {"--no-owner", "--no-privileges", "--quote-all-identifiers"}, {"--disable-dollar-quoting", "--no-comments"}, {"--clean", "--if-exists", "--inserts", "--on-conflict-do-nothing"}} {
		name := fmt.Sprintf("again%d", n)
		dump := dumped(flags...)
		psql("postgres", "CREATE DATABASE "+name+";")
		var more []string
		if flags != nil && slices.Contains(flags, "--data-only") {
			psql(name, string(dumped("--schema-only")))
			more = []string{"--tables", tables}
		}
		psql(name, string(filter(t, b.program, dump, more...)))
		same(t, strings.Join(flags, " "), want, cells(name))
		assert.Equal(t, "http://ternrock.example/; $a$\n", strings.TrimLeft(psql(name, "SELECT public.f();"), " "), "functions are untouched")
	}
	// With consent the function changes too.
	psql("postgres", "CREATE DATABASE coded;")
	psql("coded", string(filter(t, b.program, dumped(), "--code")))
	assert.Equal(t, "https://ternrock.example/; $a$\n", strings.TrimLeft(psql("coded", "SELECT public.f();"), " "))
	same(t, "--code", want, cells("coded"))
	// A patch over the database that the dump was made of, and back.
	file := filepath.Join(b.dir, "one.sql")
	require.NoError(t, os.WriteFile(file, dumped(), 0o600))
	there, back := b.patched(file)
	psql("postgres", "CREATE DATABASE patched;")
	psql("patched", string(dumped()))
	was := cells("patched")
	said := psql("patched", there)
	assert.Regexp(t, `(?m)^\d+\|0$`, said, "all rows took")
	same(t, "--patch", want, cells("patched"))
	psql("patched", back)
	same(t, "--patch and back", was, cells("patched"))
	for flag, say := range map[string]string{"-Fc": "custom format", "-Ft": "tar format"} {
		in := filepath.Join(b.dir, "other"+flag)
		require.NoError(t, os.WriteFile(in, dumped(flag), 0o600))
		out, err := exec.Command(b.program, "filter", "--site", "https://ternrock.example", in, in+".out").CombinedOutput()
		require.Error(t, err)
		assert.Contains(t, string(out), say)
		assert.Contains(t, string(out), "pg_restore -f")
		assert.NoFileExists(t, in+".out")
	}
}
