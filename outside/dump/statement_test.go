package dump

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// seen goes through a dump and returns its rows and, behind them, what is beside.
func seen(t *testing.T, in string, d Dialect) (rows, beside []string) {
	t.Helper()
	var lock sync.Mutex
	h := secure(&rows)
	h.Beside = func(_ int, p *Passage) {
		kind := map[bool]string{true: "code", false: "statement"}[p.Code]
		if p.Remark {
			kind = "remark"
		}
		if p.Digits {
			kind += " in digits"
		}
		lock.Lock()
		beside = append(beside, fmt.Sprintf("%s@%d %s", kind, p.Offset, strings.Join(strings.Fields(string(p.Text)), " ")))
		lock.Unlock()
	}
	_, err := rewriteAll(in, &bytes.Buffer{}, h, Options{Dialect: d})
	require.NoError(t, err, in)
	return rows, beside
}

// Every statement is told for what it is: values that a statement sets are rows, and what is none is handed over
// where it may hold a reference.
func TestStatements(t *testing.T) {
	for _, c := range []struct {
		why          string
		in           string
		is           Dialect
		rows, beside []string
	}{
		{"SET", "INSERT INTO t SET a=1, b = 'http://x', `c`=0x687474703a2f2f78;", MySQL, []string{`t b="http://x" c="http://x"`}, nil},
		{"UPDATE", "UPDATE `t` SET `a` = 'http://x', b=NULL WHERE `c` = 'http://y';", MySQL, []string{`t a="http://x"`}, []string{"statement@40 WHERE `c` = 'http://y'"}},
		{"on a duplicate key", "INSERT INTO t (a) VALUES ('http://x') ON DUPLICATE KEY UPDATE a='http://y';", MySQL, []string{`t a="http://x"`, `t a="http://y"`}, nil},
		{"from a query", "INSERT INTO t (a) SELECT 'http://x';", MySQL, nil, []string{"statement@0 INSERT INTO t (a) SELECT 'http://x';"}},
		{"what runs in a comment", "/*!50000 INSERT INTO t VALUES ('http://x') */;", MySQL, []string{`t ?="http://x"`}, nil},
		{"an expression", "INSERT INTO t VALUES (CONCAT('http://x','y'),1);", MySQL, []string{"t"}, []string{"statement@22 CONCAT('http://x','y')"}},
		{"a comment in a row", "INSERT INTO t VALUES ('a' /* http://xxxxxxx */,1);", MySQL, []string{`t ?="a"`}, []string{"statement@24 ' /* http://xxxxxxx */"}},
		{"introducers and functions", "INSERT INTO t VALUES (_utf8mb4'http://a',N'http://b',UNHEX('687474703a2f2f63'),CAST('http://d' AS CHAR),'http://e' COLLATE utf8mb4_bin);", MySQL, []string{`t ?="http://a" ?="http://b" ?="http://c" ?="http://d" ?="http://e"`}, nil},
		{"digits in a statement", "SET @a = 0x687474703a2f2f78;", MySQL, nil, []string{"statement in digits@9 http://x"}},
		{"a row behind a mark", "\xef\xbb\xbfINSERT INTO t VALUES (0x687474703a2f2f78);", MySQL, []string{`t ?="http://x"`}, nil},
		{"a procedure", "DELIMITER $$\nCREATE PROCEDURE p() BEGIN SELECT 'http://x'; END$$\nDELIMITER ;\nINSERT INTO t VALUES ('b');", MySQL, []string{`t ?="b"`}, []string{"code@13 CREATE PROCEDURE p() BEGIN SELECT 'http://x'; END$$"}},
		{"no backslashes", "SET sql_mode='NO_BACKSLASH_ESCAPES';\nINSERT INTO t VALUES ('a\\'),('b');\nSET @x=1;", MySQL, []string{`t ?="a\\"`, `t ?="b"`}, nil},
		{"a mode that comes back", "SET @old = @@sql_mode;\nSET sql_mode='ANSI_QUOTES';\nINSERT INTO \"t\" VALUES ('a');\nSET sql_mode=@old;\nINSERT INTO t VALUES (\"b\");", MySQL, []string{`t ?="a"`, `t ?="b"`}, nil},
		{"names that are hard", "INSERT INTO `a)b``c` (`d)`, `e``f`) VALUES (1,'x');", MySQL, []string{"a)b`c e`f=\"x\""}, nil},
		{"a minus is no comment", "INSERT INTO t VALUES (5--3,'a'); -- 'b\n", MySQL, []string{`t ?="a"`}, nil},
		{"SQLite's trigger", "CREATE TRIGGER g AFTER DELETE ON t BEGIN SELECT 'http://x'; SELECT CASE WHEN 1 THEN 2 END; END;\nINSERT INTO t VALUES('a');", SQLite, []string{`t ?="a"`}, []string{"code@0 CREATE TRIGGER g AFTER DELETE ON t BEGIN SELECT 'http://x'; SELECT CASE WHEN 1 THEN 2 END; END;"}},
		{"PostgreSQL's function", "CREATE FUNCTION f() RETURNS int BEGIN ATOMIC SELECT 1; SELECT CASE WHEN true THEN 2 END; END;\nINSERT INTO t VALUES ('a'::text, $x$it's$x$, E'b\\'', LIKE'c');", Postgres, []string{`t ?="a" ?="it's" ?="b'"`}, nil},
		{"nested comments", "/* a /* b */ ' */ INSERT INTO t VALUES ('a');", Postgres, []string{`t ?="a"`}, nil},
		{"large objects", "SELECT pg_catalog.lowrite(0, '\\x687474703a2f2f78');", Postgres, nil, []string{"statement in digits@29 http://x"}},
		{"a command of its client", "\\connect museum\nINSERT INTO t VALUES ('a');", Postgres, []string{`t ?="a"`}, nil},
	} {
		t.Run(c.why, func(t *testing.T) {
			rows, beside := seen(t, c.in, c.is)
			assert.Equal(t, c.rows, rows)
			assert.Equal(t, c.beside, beside)
		})
	}
	for in, say := range map[string]string{
		"rest of a row'),\n(2,'x');\n":        "no statement",
		"CREATE TABLE t (a int);\nGO\nx;":     "no statement",
		"INSERT INTO t VALUES (1) rubbish;\n": "no statement",
	} {
		_, err := rewriteAll(in, &bytes.Buffer{}, Handler{Row: func(int, *Row) {}}, Options{Dialect: MySQL})
		assert.ErrorContains(t, err, say, in)
	}
	_, err := rewriteAll("COPY t (a) FROM stdin WITH (FORMAT csv);\n1\n\\.\n", &bytes.Buffer{}, Handler{Row: func(int, *Row) {}}, Options{Dialect: Postgres})
	assert.ErrorContains(t, err, "in another format")
}

// The schema is read wherever the dump says something of it.
func TestSchema(t *testing.T) {
	look := func(d Dialect, in string) []*Table {
		s, err := rewriteAll(in, &bytes.Buffer{}, Handler{Row: func(int, *Row) {}}, Options{Dialect: d})
		require.NoError(t, err)
		return s.Schema.Tables
	}
	tables := look(MySQL, "CREATE TABLE IF NOT EXISTS `d`.`a``b` (`x` varchar(20) NOT NULL DEFAULT 'a,)', y TEXT CHARACTER SET latin1, `z` varbinary ( 7 ), e enum('a','b') , g int GENERATED ALWAYS AS (1) STORED,\n"+
		"s timestamp DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP, `key` mediumtext COMMENT 'it''s, (x)', PRIMARY KEY (`x`,`y`(10)), UNIQUE KEY `k` (`z`), KEY `n` (`y`)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;\nALTER TABLE `d`.`a``b` ADD UNIQUE KEY `l` (`key`(20));\n")
	require.Len(t, tables, 1)
	got := tables[0]
	assert.Equal(t, []string{"d", "a`b"}, []string{got.Schema, got.Name})
	for _, all := range tables {
		for i := range all.Columns {
			assert.NotEmpty(t, all.Columns[i].Type)
			all.Columns[i].Type = ""
		}
	}
	assert.Equal(t, []Column{{Name: "x", MaxChars: 20, Text: true, Charset: "utf8mb4"}, {Name: "y", MaxBytes: 65535, Text: true, Charset: "latin1"}, {Name: "z", MaxBytes: 7, Text: true, Bytes: true}, {Name: "e", List: true, Text: true, Charset: "utf8mb4"},
		{Name: "g", Made: true, Charset: "utf8mb4"}, {Name: "s", Stamp: true, Charset: "utf8mb4"}, {Name: "key", MaxBytes: 1<<24 - 1, Text: true, Charset: "utf8mb4"}}, got.Columns)
	assert.Equal(t, []Unique{{true, []string{"x", "y"}, []int{0, 10}}, {false, []string{"z"}, []int{0}}, {false, []string{"key"}, []int{20}}}, got.Unique)
	tables = look(Postgres, "CREATE TABLE public.\"T\" (\n id integer,\n \"v w\" character varying(20) DEFAULT ''::character varying,\n tags text[],\n CONSTRAINT c CHECK ((id > 0))\n);\nALTER TABLE ONLY public.\"T\"\n ADD CONSTRAINT p PRIMARY KEY (id);\nCREATE UNIQUE INDEX i ON public.\"T\" USING btree (\"v w\");\nCREATE UNIQUE INDEX j ON public.\"T\" (lower(\"v w\"));\n")
	require.Len(t, tables, 1)
	assert.Equal(t, []Column{{Name: "id", Type: "integer"}, {Name: "v w", Type: "character varying(20)", MaxChars: 20, Text: true}, {Name: "tags", Type: "text[]", List: true, Text: true}}, tables[0].Columns)
	assert.Equal(t, []Unique{{true, []string{"id"}, []int{0}}, {false, []string{"v w"}, []int{0}}}, tables[0].Unique)
	tables = look(MySQL, "USE one;\nCREATE TABLE t (a int);\nUSE two;\nCREATE TABLE t (a text);\nINSERT INTO t VALUES ('x');\n")
	require.Len(t, tables, 2)
	assert.Equal(t, []string{"one.t", "two.t"}, []string{tables[0].String(), tables[1].String()})
	assert.Equal(t, []bool{false, true}, []bool{tables[0].Rows, tables[1].Rows})
}

// Text of other charsets is read as UTF-8 and written as it was; where its lengths do not fit, as the column's own.
// Triggers that run when a row changes are known by their tables, in each dialect.
func TestTriggers(t *testing.T) {
	for _, c := range []struct {
		dialect Dialect
		script  string
		want    []string
	}{
		{MySQL, "CREATE TABLE `m` (`id` int PRIMARY KEY);\nDELIMITER ;;\n/*!50003 CREATE*/ /*!50017 DEFINER=`root`@`localhost`*/ /*!50003 TRIGGER `keep` BEFORE UPDATE ON `m` FOR EACH ROW BEGIN SET NEW.id = 1; END */;;\nDELIMITER ;\n", []string{"keep"}},
		{MySQL, "CREATE TABLE m (id int PRIMARY KEY);\nCREATE DEFINER=`a`@`%` TRIGGER IF NOT EXISTS `x` AFTER INSERT OR UPDATE ON m FOR EACH ROW SET @a = 1;\nCREATE TRIGGER y AFTER DELETE ON m FOR EACH ROW SET @a = 1;\n", []string{"x"}},
		{Postgres, "CREATE TABLE public.m (id integer);\nCREATE TRIGGER keep BEFORE INSERT OR UPDATE OF id ON public.m FOR EACH ROW EXECUTE FUNCTION public.f();\nCREATE CONSTRAINT TRIGGER late AFTER UPDATE ON public.m FOR EACH ROW EXECUTE FUNCTION public.f();\nCREATE TRIGGER gone AFTER DELETE ON public.m EXECUTE FUNCTION public.f();\n", []string{"keep", "late"}},
		{SQLite, "CREATE TABLE m (id integer primary key);\nCREATE TRIGGER keep UPDATE OF id ON m BEGIN UPDATE other SET x = 1; END;\nCREATE TEMP TRIGGER mine AFTER INSERT ON M BEGIN SELECT 1; END;\nCREATE TRIGGER other AFTER UPDATE ON gone BEGIN SELECT 1; END;\n", []string{"keep"}},
	} {
		s, err := Look(context.Background(), strings.NewReader(c.script), Options{Dialect: c.dialect})
		require.NoError(t, err, c.script)
		require.NotEmpty(t, s.Schema.Tables)
		assert.Equal(t, c.want, s.Schema.Tables[0].Triggers, c.script)
	}
}

func TestReadings(t *testing.T) {
	for _, c := range []struct{ in, first, again string }{
		{"SET NAMES latin1;\nINSERT INTO t VALUES ('caf\xe9');", "café", "caf\xe9"},
		{"SET NAMES utf8mb4;\nINSERT INTO t VALUES ('café');", "café", "caf\xe9"},
		{"SET NAMES gbk;\nINSERT INTO t VALUES ('\x81\x5c\\'');", "乗'", "\x81\x5c'"},
		{"SET NAMES sjis;\nINSERT INTO t VALUES ('a\x81\x5fb');", `a\b`, ""},
		{"SET NAMES utf8mb4;\nINSERT INTO t VALUES ('日本');", "日本", ""},
		{"SET NAMES utf8mb4;\nINSERT INTO t VALUES (_binary 'caf\xe9');", "caf\xe9", ""},
	} {
		_, err := rewriteAll(c.in, &bytes.Buffer{}, Handler{Row: func(_ int, r *Row) {
			v, ok := r.Value(0)
			assert.True(t, ok)
			assert.Equal(t, c.first, string(v), c.in)
			v, ok = r.Again(0)
			assert.Equal(t, c.again != "", ok, c.in)
			assert.Equal(t, c.again, string(v), c.in)
			r.First(0)
			v, _ = r.Value(0)
			assert.Equal(t, c.first, string(v), c.in)
		}}, Options{Dialect: MySQL})
		require.NoError(t, err)
	}
}

func TestLines(t *testing.T) {
	lines, err := Lines(strings.NewReader("a\nb\n\nc"), []int64{5, 0, 2, 99, 1})
	require.NoError(t, err)
	assert.Equal(t, []int{4, 1, 2, 4, 1}, lines)
}
