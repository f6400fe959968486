package dump

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/rewrite"
)

// secure puts an s behind each "http" of each value, and lists the values.
func secure(seen *[]string) Handler {
	return Handler{Row: func(_ int, r *Row) {
		line := r.Table.Name
		for i := range r.Len() {
			v, ok := r.Value(i)
			if !ok {
				continue
			}
			name := "?"
			if r.Columns != nil {
				name = r.Columns[i].Name
			}
			line += fmt.Sprintf(" %s=%q", name, v)
			var edits []rewrite.Edit
			for p := 0; ; {
				n := bytes.Index(v[p:], []byte("http:"))
				if n < 0 {
					break
				}
				p += n + 4
				edits = append(edits, rewrite.Edit{Offset: p, Inserted: "s"})
			}
			r.Edit(i, edits)
		}
		if seen != nil {
			*seen = append(*seen, line)
		}
	}}
}

// rewriteAll surveys a dump and goes through it.
func rewriteAll(in string, w io.Writer, h Handler, o Options) (*Survey, error) {
	s, err := Look(context.Background(), strings.NewReader(in), o)
	if err != nil {
		return nil, err
	}
	return s, s.Rewrite(context.Background(), strings.NewReader(in), w, h, Output{})
}

func run(in string, seen *[]string) (string, Dialect, error) {
	var out bytes.Buffer
	s, err := rewriteAll(in, &out, secure(seen), Options{})
	if err != nil {
		return out.String(), Unknown, err
	}
	return out.String(), s.Schema.Dialect, nil
}

func TestRewrite(t *testing.T) {
	for _, c := range []struct {
		why  string
		is   Dialect
		in   string
		rows []string
	}{
		{"rows on one line", MySQL, "-- MariaDB dump 10.19\n/*!40101 SET NAMES utf8mb4 */;\nCREATE TABLE `t` (\n  `id` int(11) NOT NULL,\n  `v` varchar(9) DEFAULT 'a,b)',\n  KEY `k` (`v`)\n) ENGINE=InnoDB COMMENT='http:';\nINSERT INTO `t` VALUES (1,'it\\'s http: \\\\'),(2,NULL);\n",
			[]string{`t v="it's http: \\"`, `t`}},
		{"a row a line", MySQL, "-- MariaDB dump 10.19\nINSERT INTO `t` (`a`, `b`) VALUES\n(1,'x\\nhttp:'),\n(2,0x687474703A),\n(3,_binary '\\0http:\\Z');\nUNLOCK TABLES;\n",
			[]string{`t b="x\nhttp:"`, `t b="http:"`, "t b=\"\\x00http:\\x1a\""}},
		{"doubled quotes, double quotes, a comment", MySQL, "INSERT INTO `d`.`t` VALUES /* ( */ ('a''http:'';', \"b\"\"http:\" ) , (1.5e3,-2) ON DUPLICATE KEY UPDATE a=VALUES(a); -- http:\n",
			[]string{`t ?="a'http:';" ?="b\"http:"`, `t`, `t`}},
		{"semicolons in strings and comments", MySQL, "/*!50003 CREATE TRIGGER x BEFORE INSERT ON t FOR EACH ROW SET NEW.a='http:;' */;;\nINSERT INTO `t` VALUES ('a;b'),(');(');\n# http:\n",
			[]string{`t ?="a;b"`, `t ?=");("`}},
		{"COPY", Postgres, "--\n-- PostgreSQL database dump\n--\nCREATE TABLE public.t (\n    id integer NOT NULL,\n    v character varying(20),\n    CONSTRAINT x CHECK ((id > 0))\n);\nCOPY public.t (id, v) FROM stdin;\n1\ta\\thttp:\\\\\n2\t\\N\n3\t\\\\x687474703a\n\\.\nSELECT 1;\n",
			[]string{`t id="1" v="a\thttp:\\"`, `t id="2"`, `t id="3" v="http:"`}},
		{"inserts and functions", Postgres, "SET standard_conforming_strings = on;\nCREATE FUNCTION f() RETURNS text AS $_$ SELECT 'http:;' $_$ LANGUAGE sql;\nINSERT INTO public.t VALUES (1, 'a\\http:''', E'b\\'http:', '\\x687474703a', true);\n",
			[]string{`t ?="a\\http:'" ?="b'http:" ?="http:"`}},
		{"SQLite's shell", SQLite, "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE t(id INTEGER PRIMARY KEY, \"a b\" TEXT, c);\nINSERT INTO t VALUES(1,'it''s\nhttp:',X'687474703a');\nINSERT INTO t VALUES(2,replace(replace('a\\r\\nhttp:\\t','\\r',char(13)),'\\n',char(10)),NULL);\nINSERT INTO t VALUES(3,unistr('x\\u000ahttp:\\\\'),1e999);\nCOMMIT;\n",
			[]string{`t a b="it's\nhttp:" c="http:"`, `t a b="a\r\nhttp:\\t"`, `t a b="x\nhttp:\\"`}},
		{"no newline at the end", MySQL, "INSERT INTO `t` VALUES ('http:');", []string{`t ?="http:"`}},
		{"no semicolon at the end", MySQL, "INSERT INTO `t` VALUES ('http:');\nUNLOCK TABLES", []string{`t ?="http:"`}},
	} {
		t.Run(c.why, func(t *testing.T) {
			var seen []string
			out, d, err := run(c.in, &seen)
			require.NoError(t, err)
			assert.Equal(t, c.is, d)
			assert.Equal(t, c.rows, seen)
			var again []string
			_, _, err = run(strings.Replace(out, "-- MariaDB dump 10.19\n", "/*!40101 */", 1), &again) // every line read
			require.NoError(t, err)
			for i := range seen { // what is written reads as what was meant
				assert.Equal(t, strings.ReplaceAll(seen[i], "http:", "https:"), again[i])
			}
		})
	}
}

// What no rewriter edits is copied byte for byte, whatever the size of the pieces.
func TestCopies(t *testing.T) {
	var in strings.Builder
	in.WriteString("CREATE TABLE `t` (`a` int, `b` text);\n")
	for i := range 40000 {
		if i%3 == 0 {
			in.WriteString("INSERT INTO `t` (`b`,`a`) VALUES ")
		}
		fmt.Fprintf(&in, "('%s',%d)", strings.Repeat("x\\'y", i%50), i)
		if i%3 == 2 {
			in.WriteString(";\n")
		} else {
			in.WriteString(",")
		}
	}
	in.WriteString("('last',0);")
	var out bytes.Buffer
	rows := make([]int, 64)
	_, err := rewriteAll(in.String(), &out, Handler{Row: func(w int, r *Row) {
		rows[w]++
		if r.Columns == nil || r.Columns[1].Name != "a" {
			t.Error("columns are those of the statement")
		}
	}}, Options{})
	require.NoError(t, err)
	assert.True(t, in.String() == out.String())
	sum := 0
	for _, n := range rows {
		sum += n
	}
	assert.Equal(t, 40001, sum)
}

func TestCutOff(t *testing.T) {
	whole := "-- MariaDB dump\nCREATE TABLE `t` (`a` text);\nINSERT INTO `t` VALUES ('a'),('b\\'c');\nCOMMIT;\n"
	for n := strings.Index(whole, "INSERT") + 1; n < strings.Index(whole, ";\nCOMMIT"); n++ {
		_, _, err := run(whole[:n], nil)
		var broken *Broken
		if !errors.As(err, &broken) {
			// "INSER" alone could be a statement of its own
			assert.Less(t, n, strings.Index(whole, " INTO"), "cut at %d: %q", n, whole[:n])
			continue
		}
		assert.Contains(t, broken.Err.Error(), "cut off")
	}
	_, _, err := run("-- PostgreSQL database dump\nCOPY t (a) FROM stdin;\nx\n", nil)
	assert.ErrorContains(t, err, "cut off between two rows")
	_, _, err = run("", nil)
	assert.ErrorIs(t, err, ErrDialect)
	_, _, err = run("MZ\x90\x00 rubbish", nil)
	assert.ErrorIs(t, err, ErrDialect)
	full := errors.New("the disk is full")
	_, err = rewriteAll(whole, failing{full}, secure(nil), Options{})
	assert.ErrorIs(t, err, full)
}

type failing struct{ err error }

func (f failing) Write([]byte) (int, error) { return 0, f.err }

func TestHugeRow(t *testing.T) {
	in := "INSERT INTO `t` VALUES ('" + strings.Repeat("x", 8<<20) + "http:');\n"
	out, _, err := run(in, nil)
	require.NoError(t, err)
	assert.Equal(t, len(in)+1, len(out))
	_, _, err = run("INSERT INTO `t` VALUES ('"+strings.Repeat("x", 80<<20)+"');\n", nil)
	var large *TooLarge
	require.ErrorAs(t, err, &large)
	assert.Equal(t, TooLarge{22, 16 << 20}, *large)
	for size, fits := range map[int]bool{3<<20 - 40: true, 3<<20 + 1: false} { // a limit of the user's, to its last byte
		in := "INSERT INTO `t` VALUES ('" + strings.Repeat("x", size) + "');\n"
		var out bytes.Buffer
		_, err := rewriteAll("SET x=1;\n"+in, &out, secure(nil), Options{MaxUnit: 3 << 20})
		assert.Equal(t, fits, err == nil, "%d bytes: %v", size, err)
		assert.True(t, !fits || strings.HasSuffix(out.String(), in))
	}
}

func FuzzRewrite(f *testing.F) {
	for _, s := range []string{
		"-- MariaDB dump 10\nCREATE TABLE `t` (`a` text);\nINSERT INTO `t` VALUES\n('http:\\'',0x68747470),\n(\"x\");\n",
		"-- PostgreSQL database dump\nCOPY t (a,b) FROM stdin;\nhttp:\\t\t\\\\x6874\n\\.\n$a$;$a$;",
		"PRAGMA foreign_keys=OFF;\nINSERT INTO t VALUES(replace('a\\nhttp:','\\n',char(10)),X'00',unistr('\\u0041'));\n",
	} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, in string) {
		var out bytes.Buffer
		_, err := rewriteAll(in, &out, Handler{Row: func(_ int, r *Row) {
			for i := range r.Len() {
				r.Value(i)
			}
		}, Beside: func(int, *Passage) {}}, Options{})
		if err == nil {
			require.Equal(t, in, out.String(), "what is not edited is copied")
		}
	})
}

// Where lines can be trusted, rows that can hold nothing are stepped over, also behind one that was read: the same
// rows are counted and the same is changed as where each is read.
func TestStepsOver(t *testing.T) {
	const seed = 1871
	random := rand.New(rand.NewPCG(seed, seed))
	cells := []string{"NULL", "7", "'x'", `'it\'s (\n),\n'`, "'http://a'", "'https://a'", "0x687474703a2f2f61", `'a:1:{i:0;s:8:\"http://a\";}'`, "'aHR0cDovL3guZXhhbXBsZS8='", `'\\'`}
	for range 300 {
		var b strings.Builder
		b.WriteString("CREATE TABLE `t` (`a` text, `b` text);\n")
		for range 1 + random.IntN(4) {
			b.WriteString("INSERT INTO `t` VALUES\n")
			for n := random.IntN(30); n >= 0; n-- {
				end := ","
				if n == 0 {
					end = ";"
				}
				fmt.Fprintf(&b, "(%s,%s)%s\n", cells[random.IntN(len(cells))], cells[random.IntN(3)], end)
			}
		}
		read := 0
		look := func(head string) (out string, rows int) {
			var w bytes.Buffer
			read = 0
			h := secure(nil)
			inner := h.Row
			h.Row = func(n int, r *Row) {
				rows++
				if r.Len() > 0 {
					read++
				}
				inner(n, r)
			}
			_, err := rewriteAll(head+b.String(), &w, h, Options{Dialect: MySQL})
			require.NoError(t, err)
			return strings.TrimPrefix(w.String(), head), rows
		}
		out, rows := look("-- MariaDB dump 10.19\n")
		few := read
		wantOut, wantRows := look("-- a dump\n")
		require.Equal(t, wantOut, out)
		require.Equal(t, wantRows, rows)
		require.LessOrEqual(t, few, read)
		require.Equal(t, read, rows, "elsewhere each is read")
		var holds int
		for _, l := range strings.Split(b.String(), "\n") {
			if strings.HasPrefix(l, "(") && (strings.Contains(l, "http:") || strings.Contains(l, "0x") || strings.Contains(l, "aHR0")) {
				holds++
			}
		}
		require.Equal(t, holds, few, "the rows that can hold one, and no other")
	}
}

// A dump that is not converted holds the bytes of each column's charset: letters of two and four bytes are read and
// written as such, also in rows that show nothing at a first look. What is no such letter stays as it is.
func TestUnits(t *testing.T) {
	for charset, order := range map[string]struct {
		size int
		big  bool
	}{"ucs2": {2, true}, "utf16": {2, true}, "utf16le": {2, false}, "utf32": {4, true}} {
		write := func(s string) string {
			var b []byte
			for _, c := range s {
				unit := make([]byte, order.size)
				at := order.size - 1
				if !order.big {
					at = 0
				}
				unit[at] = byte(c) // the test has no others
				b = append(b, unit...)
			}
			return mysqlEscaper.Replace(string(b))
		}
		dump := func(session, text string) string {
			return "-- MariaDB dump 10.19\n/*!40101 SET NAMES " + session + " */;\n/*!40101 SET @saved_cs_client = @@character_set_client */;\n/*!40101 SET character_set_client = utf8mb4 */;\nCREATE TABLE `t` (`v` text CHARACTER SET " + charset + ");\n/*!40101 SET character_set_client = @saved_cs_client */;\nINSERT INTO `t` VALUES\n('nothing'),\n('" + text + "');\n"
		}
		out, _, err := run(dump("binary", write("see http://a/\u00e9")), nil)
		require.NoError(t, err)
		assert.Equal(t, dump("binary", write("see https://a/\u00e9")), out, charset)
		odd := dump("binary", write("see http://a/")+"x")
		out, _, err = run(odd, nil)
		require.NoError(t, err)
		assert.Equal(t, odd, out, "%s: half a letter", charset)
		plain := dump("utf8mb4", "see http://a/")
		out, _, err = run(plain, nil)
		require.NoError(t, err)
		assert.Equal(t, strings.Replace(plain, "http:", "https:", 1), out, "%s: converted", charset)
	}
}

// The tables that a module of SQLite keeps are recognised, and SQLite's own, which a dump does not define.
func TestShadows(t *testing.T) {
	const script = "PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\nCREATE TABLE m_rows (id INTEGER PRIMARY KEY AUTOINCREMENT, v TEXT);\nCREATE TABLE m_data (id INT, v TEXT);\n" +
		"INSERT INTO sqlite_schema(type,name,tbl_name,rootpage,sql)VALUES('table','m_s','m_s',0,'CREATE VIRTUAL TABLE m_s USING fts5(v)');\n" +
		"CREATE TABLE IF NOT EXISTS 'm_s_data'(id INTEGER PRIMARY KEY, block BLOB);\nCREATE TABLE IF NOT EXISTS 'm_s_idx'(segid, term, pgno, PRIMARY KEY(segid, term)) WITHOUT ROWID;\n" +
		"CREATE TABLE IF NOT EXISTS 'm_s_content'(id INTEGER PRIMARY KEY, c0);\nINSERT INTO m_s_content VALUES(1,'http://ternrock.example/');\nCREATE TABLE IF NOT EXISTS 'm_s_config'(k PRIMARY KEY, v) WITHOUT ROWID;\n" +
		"DELETE FROM sqlite_sequence;\nINSERT INTO sqlite_sequence VALUES('m_rows',1);\nCOMMIT;\n"
	s, err := Look(context.Background(), strings.NewReader(script), Options{})
	require.NoError(t, err)
	is := map[string]string{}
	for _, table := range s.Schema.Tables {
		is[table.Name] = fmt.Sprint(table.Shadow, table.Catalogue(), len(table.Columns) > 0)
	}
	assert.Equal(t, map[string]string{"m_rows": "false false true", "m_data": "false false true", "m_s_data": "true false true", "m_s_idx": "true false true", "m_s_content": "true false true",
		"m_s_config": "true false true", "sqlite_schema": "false true false", "sqlite_sequence": "false true false"}, is)
}
