//go:build real

package real

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var (
	sqlScripts  = flag.Int("sql-scripts", 12, "how many random SQL scripts each server judges")
	allExports  = flag.Bool("exports-all", false, "all sets of options of the dump programs and of the panel, not some")
	randomDumps = flag.Int("random-dumps", 6, "how many random databases are exported and changed in all ways")
	sqlSeed     = flag.Uint64("sql-seed", 2026, "the first of their seeds; 0: another one each time")
)

// scripter writes random SQL scripts, in which it plants references with numbers.
type scripter struct {
	random
	dialect string
	out     strings.Builder
	planted []plant
	tables  int
	ansi    bool // MariaDB: "…" is a name
	bare    bool // MariaDB: a backslash stands for itself
}

// plant is one reference that was planted, and the lines of its statement.
type plant struct {
	id          int
	first, last int
	how         string
	unused      bool // it was made and not taken
}

func (s *scripter) line() int { return 1 + strings.Count(s.out.String(), "\n") }

// url plants a reference.
func (s *scripter) url(how string) string {
	s.planted = append(s.planted, plant{id: len(s.planted), how: how})
	return fmt.Sprintf("http://ternrock.example/p%dq", len(s.planted)-1)
}

// statement writes a statement, and notes on which lines what was planted in it stands.
func (s *scripter) statement(text string) {
	first := s.line()
	s.out.WriteString(text)
	last := s.line()
	if end := s.pick("\n", "\n\n", "\r\n"); strings.HasSuffix(text, `\.`) {
		s.out.WriteString("\n")
	} else {
		s.out.WriteString(end)
	}
	for i := range s.planted {
		p := &s.planted[i]
		if p.first != 0 {
			continue
		}
		mark := fmt.Sprintf("/p%dq", p.id)
		digits := hex.EncodeToString([]byte(mark))
		if p.first, p.last = first, last; !strings.Contains(text, mark) && !strings.Contains(strings.ToLower(text), digits) {
			p.unused = true
		}
	}
}

// text makes a value with or without a reference.
func (s *scripter) words(how string) string {
	t := s.pick("", "lamp ", "it's ", `back\slash `, "new\nline ", "café ", "; ", "-- ", "/* ", "*/ ", `"x" `, ") ", "`", "$$ ", "# ", "END; ")
	switch s.IntN(4) {
	case 0:
		return t
	case 1:
		u := s.url(how)
		return fmt.Sprintf(`a:1:{i:0;s:%d:"%s%s";}`, len(u)+len(t), u, t)
	}
	return t + s.url(how) + s.pick("", " ", `"`, "'") + t
}

// quoted writes a string between single quotes.
func (s *scripter) quoted(v string) string {
	switch {
	case s.dialect == "mysql" && !s.bare:
		return "'" + strings.NewReplacer("'", s.pick(`\'`, "''"), `\`, `\\`, "\n", s.pick(`\n`, "\n"), `"`, s.pick(`"`, `\"`)).Replace(v) + "'"
	case s.dialect == "postgres" && s.IntN(3) == 0:
		return s.pick("E", "e") + "'" + strings.NewReplacer("'", s.pick(`\'`, "''"), `\`, `\\`, "\n", `\n`).Replace(v) + "'"
	}
	return "'" + strings.ReplaceAll(v, "'", "''") + "'"
}

// literal writes a value in one of the ways of the dialect.
func (s *scripter) literal(how string) string {
	v := s.words(how)
	digits := hex.EncodeToString([]byte(v))
	if s.IntN(2) == 0 {
		digits = strings.ToUpper(digits)
	}
	switch n := s.IntN(9); s.dialect {
	case "mysql":
		switch {
		case n == 0 && v != "":
			return "0x" + digits
		case n == 1:
			return s.pick("X", "x") + "'" + digits + "'"
		case n == 2:
			return s.pick("UNHEX", "unhex") + "('" + digits + "')"
		case n == 3:
			return s.pick("_utf8mb4", "N", "_utf8mb4 ") + s.quoted(v)
		case n == 4 && !s.ansi && !s.bare:
			return `"` + strings.NewReplacer(`"`, s.pick(`""`, `\"`), `\`, `\\`).Replace(v) + `"`
		case n == 5:
			return "CONCAT(" + s.quoted(v) + ", " + s.quoted(s.words(how+" in an expression")) + ")"
		case n == 6:
			return s.quoted(v) + s.pick(" /* ", " /* it's ") + s.url("a comment") + " */"
		case n == 7:
			return s.quoted(v) + " COLLATE utf8mb4_bin"
		}
	case "postgres":
		switch {
		case n == 0:
			return "convert_from(decode('" + digits + "', 'hex'), 'UTF8')"
		case n == 1:
			return s.quoted(v) + "::text"
		case n == 2:
			return "$q$" + strings.ReplaceAll(v, "$q$", "") + "$q$"
		case n == 3:
			return "CAST(" + s.quoted(v) + " AS text)"
		case n == 4:
			return s.quoted(v) + " || " + s.quoted(s.words(how+" in an expression"))
		}
	case "sqlite":
		switch {
		case n == 0:
			return "CAST(X'" + digits + "' AS TEXT)"
		case n == 1:
			return "replace(" + s.quoted(strings.ReplaceAll(v, "\n", `\n`)) + `,'\n',char(10))`
		case n == 2:
			return s.quoted(v) + " || " + s.quoted(s.words(how+" in an expression"))
		}
	}
	return s.quoted(v)
}

func (s *scripter) name(n string) string {
	switch {
	case s.dialect == "mysql" && !s.ansi:
		return "`" + strings.ReplaceAll(n, "`", "``") + "`"
	case s.IntN(2) == 0 && regexp.MustCompile(`^[a-z_]\w*$`).MatchString(n) && n != "key" && n != "values":
		return n
	}
	return `"` + strings.ReplaceAll(n, `"`, `""`) + `"`
}

// comment is one outside of statements.
func (s *scripter) comment() string {
	open := []string{"-- "}
	if s.dialect == "mysql" {
		open = append(open, "# ", "/* ")
	} else {
		open = append(open, "/* ", "--")
	}
	o := s.pick(open...)
	if o == "/* " {
		return o + "it's; " + s.url("a comment") + "\n'x */"
	}
	return o + `it's "; ` + s.url("a comment")
}

// script writes one script.
func (s *scripter) script() {
	names := []string{"plain", "with space", "paren)", "key", "values", "comma,", "quo'te", `dou"ble`, "semi;"}
	if s.IntN(3) == 0 && s.dialect == "mysql" {
		s.out.WriteString("\xef\xbb\xbf")
	}
	switch s.dialect {
	case "mysql":
		s.statement(s.pick("-- a dump", "-- MariaDB dump 10.19  Distrib", "/*!40101 SET @OLD=@@sql_mode */;"))
		s.statement("SET NAMES utf8mb4;")
		if strings.Contains(s.out.String(), "MariaDB dump") {
			break // its own program never changes the mode in between
		}
		switch s.IntN(4) {
		case 0:
			s.ansi = true
			s.statement("SET sql_mode='ANSI_QUOTES';")
		case 1:
			s.bare = true
			s.statement("/*!40101 SET SESSION sql_mode='NO_BACKSLASH_ESCAPES' */;")
		}
	case "postgres":
		s.statement("-- PostgreSQL database dump")
		s.statement("SET standard_conforming_strings = on;")
	case "sqlite":
		s.statement("PRAGMA foreign_keys=OFF;")
		s.statement("BEGIN TRANSACTION;")
	}
	for range 2 + s.IntN(3) {
		s.table(names[s.IntN(len(names))] + fmt.Sprint(s.tables))
		s.tables++
		if s.IntN(3) == 0 {
			s.statement(s.comment())
		}
	}
	if s.dialect == "sqlite" {
		s.statement("COMMIT;")
	}
}

func (s *scripter) table(name string) {
	t, id, v, w := s.name(name), s.name("id"), s.name("val"), s.name("wal ue")
	text := map[string]string{"mysql": "longtext", "postgres": "text", "sqlite": "TEXT"}[s.dialect]
	def := ""
	if s.IntN(3) == 0 && s.dialect != "mysql" {
		def = " DEFAULT " + s.quoted(s.url("a default"))
	} else if s.IntN(3) == 0 && s.dialect == "mysql" {
		def = " COMMENT " + s.quoted(s.url("a comment of a column"))
	}
	s.statement(fmt.Sprintf("CREATE TABLE %s (\n  %s int NOT NULL,\n  %s %s%s,\n  %s %s,\n  PRIMARY KEY (%s)\n);", t, id, v, text, def, w, text, id))
	n := 0
	row := func() string {
		n++
		return fmt.Sprintf("(%d,%s%s,%s)", n, s.pick("", " "), s.literal("a row"), s.pick("NULL", s.literal("a row")))
	}
	into := s.pick("INSERT INTO ", "insert into ", "INSERT  INTO\n")
	for range 3 + s.IntN(6) {
		switch s.IntN(12) {
		case 0, 1, 2, 3:
			rows := row()
			for range s.IntN(4) {
				rows += s.pick(",", ", ", ",\n") + row()
			}
			s.statement(into + t + s.pick(" VALUES ", " VALUES\n", " ("+id+", "+v+", "+w+") VALUES ") + rows + ";")
		case 4:
			n++
			s.statement(fmt.Sprintf("INSERT INTO %s (%s, %s) SELECT %d, %s;", t, id, v, n, s.literal("a query")))
		case 5:
			s.statement(fmt.Sprintf("UPDATE %s SET %s = %s, %s=%s WHERE %s = %d;", t, v, s.literal("an update"), w, s.literal("an update"), id, 1+s.IntN(max(n, 1))))
		case 6:
			s.statement(fmt.Sprintf("UPDATE %s SET %s = NULL WHERE %s = %s;", t, v, w, s.literal("a condition")))
		case 7:
			s.own(t, id, v, w, row, &n)
		case 8:
			s.statement(fmt.Sprintf("CREATE VIEW %s AS SELECT %s AS a, %s FROM %s;", s.name(fmt.Sprintf("view%d_%d", s.tables, s.line())), s.quoted(s.url("a view")), id, t))
		case 9:
			s.trigger(t, v)
		case 10:
			s.statement(fmt.Sprintf("DELETE FROM %s WHERE %s = %s;", t, v, s.literal("a condition")))
		case 11:
			s.statement("SELECT " + s.quoted(s.url("a query")) + ";")
		}
	}
}

// own writes what only one of the dialects has.
func (s *scripter) own(t, id, v, w string, row func() string, n *int) {
	switch s.dialect {
	case "mysql":
		*n++
		switch s.IntN(6) {
		case 0:
			s.statement(fmt.Sprintf("INSERT INTO %s SET %s=%d, %s=%s;", t, id, *n, v, s.literal("a set")))
		case 1:
			s.statement(fmt.Sprintf("INSERT INTO %s (%s,%s) VALUES (%d,%s) ON DUPLICATE KEY UPDATE %s=%s, %s = CONCAT(%s, 'x');", t, id, v, *n, s.literal("a row"), v, s.literal("an update"), w, s.quoted(s.url("an expression"))))
		case 2:
			s.statement(fmt.Sprintf("/*!50000 INSERT INTO %s (%s,%s) VALUES (%d,%s) */;", t, id, v, *n, s.quoted(strings.ReplaceAll(s.words("a conditional comment"), "*/", ""))))
		case 3:
			s.statement("SET @kept = " + s.quoted(s.url("a variable")) + ";")
		case 4:
			s.statement(fmt.Sprintf("REPLACE INTO %s VALUES (%d, %s, %s);", t, *n, s.literal("a row"), s.literal("a row")))
		case 5:
			s.statement(fmt.Sprintf("DELIMITER $$\nCREATE PROCEDURE proc%d_%d()\nBEGIN\n  UPDATE %s SET %s = %s; -- it's\n  SELECT 1;\nEND$$\nDELIMITER ;", s.tables, s.line(), t, v, s.quoted(s.url("a procedure"))))
		}
	case "postgres":
		switch s.IntN(3) {
		case 0:
			rows := ""
			for range 1 + s.IntN(3) {
				*n++
				rows += fmt.Sprintf("%d\t%s\t\\N\n", *n, strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(s.words("a row of COPY")))
			}
			s.statement("COPY " + t + " (id, val, \"wal ue\") FROM stdin;\n" + rows + `\.`)
		case 1:
			s.statement(fmt.Sprintf("CREATE FUNCTION f%d_%d() RETURNS text LANGUAGE sql AS $body$ SELECT %s; $body$;", s.tables, s.line(), s.quoted(s.url("a function"))))
		case 2:
			s.statement("COMMENT ON TABLE " + t + " IS " + s.quoted(s.url("a comment on a table")) + ";")
		}
	case "sqlite":
		*n++
		s.statement(fmt.Sprintf("INSERT OR REPLACE INTO %s VALUES(%d,%s,X'%x');", t, *n, s.literal("a row"), s.url("a row in digits")))
	}
}

func (s *scripter) trigger(t, v string) {
	u := s.quoted(s.url("a trigger"))
	name := fmt.Sprintf("trg%d_%d", s.tables, s.line())
	switch s.dialect {
	case "mysql":
		s.statement(fmt.Sprintf("DELIMITER ;;\n/*!50003 CREATE*/ /*!50003 TRIGGER %s BEFORE DELETE ON %s FOR EACH ROW BEGIN SET @a = %s; SET @b = 'x;'; END */;;\nDELIMITER ;", name, t, u))
	case "sqlite":
		s.statement(fmt.Sprintf("CREATE TRIGGER %s AFTER DELETE ON %s BEGIN SELECT %s; SELECT CASE WHEN 1 THEN 2 END; END;", name, t, u))
	case "postgres":
		s.statement(fmt.Sprintf("CREATE FUNCTION %s() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN PERFORM %s; RETURN OLD; END $$;", name, u))
	}
}

// Random SQL scripts go through filter. A real server loads what comes out as it loads what went in, and
// everything that was planted is secure or named with its line.
func TestAnyScript(t *testing.T) {
	t.Parallel()
	seed := *sqlSeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	t.Logf("seed %d", seed)
	for _, dialect := range []string{"mysql", "postgres", "sqlite"} {
		t.Run(dialect, func(t *testing.T) {
			load := scriptLoader(t, dialect)
			counts := map[string]int{}
			for i := range *sqlScripts {
				s := &scripter{random: random{rand.New(rand.NewPCG(seed, uint64(i)))}, dialect: dialect}
				s.script()
				judgeScript(t, s, fmt.Sprintf("seed %d, script %d", seed, i), load, counts)
				if t.Failed() {
					t.Fatalf("the script:\n%s", s.out.String())
				}
			}
			t.Logf("%d scripts: %v", *sqlScripts, counts)
		})
	}
}

// scriptLoader returns what loads a script into a new database and returns its rows, in order.
func scriptLoader(t *testing.T, dialect string) func(script string) string {
	n := 0
	switch dialect {
	case "mysql":
		b := newBench(t)
		b.socket = filepath.Join(b.dir, "db.sock")
		b.startMariaDB()
		return func(script string) string {
			n++
			db := fmt.Sprintf("s%d", n)
			b.sql("CREATE DATABASE " + db + " CHARACTER SET utf8mb4")
			c := exec.Command("mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "--default-character-set=utf8mb4", db)
			c.Stdin = strings.NewReader(script)
			out, err := c.CombinedOutput()
			require.NoError(t, err, "%s\n%s", tail(out), script)
			rows := string(b.run(b.dir, "mariadb-dump", "--no-defaults", "--socket="+b.socket, "-uroot", "--compact", "--skip-extended-insert", "--order-by-primary", "--no-create-info", "--skip-triggers", db))
			b.sql("DROP DATABASE " + db)
			return rows
		}
	case "postgres":
		s := postgresStore(newBench(t))
		return func(script string) string {
			s.sql("DROP SCHEMA public CASCADE; CREATE SCHEMA public;")
			s.sql(script)
			return s.dump()
		}
	}
	dir := t.TempDir()
	return func(script string) string {
		n++
		shell := func(in string) string {
			c := exec.Command("sqlite3", "-batch", "-bail", filepath.Join(dir, fmt.Sprintf("%d.db", n)))
			c.Stdin = strings.NewReader(in)
			out, err := c.CombinedOutput()
			require.NoError(t, err, "%s\n%s", out, script)
			return string(out)
		}
		shell(script)
		return shell(".dump\n")
	}
}

var (
	plantedURL  = regexp.MustCompile(`https?://ternrock\.example/p(\d+)q`)
	lengthsOnly = regexp.MustCompile(`s:\d+:`)
)

// judgeScript filters a script, loads both, and looks for everything that was planted.
func judgeScript(t *testing.T, s *scripter, what string, load func(string) string, counts map[string]int) {
	t.Helper()
	dir := t.TempDir()
	in := s.out.String()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in.sql"), []byte(in), 0o600))
	c := exec.Command(built, "filter", "--quiet", "--site", "https://ternrock.example", "--dialect", s.dialect, "--summary", filepath.Join(dir, "summary.json"), filepath.Join(dir, "in.sql"))
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	_ = c.Run() // its exit code is looked at
	code := c.ProcessState.ExitCode()
	if !assert.Contains(t, []int{0, 1}, code, "%s\n%s", what, errs.String()) {
		return
	}
	var sum struct {
		Findings []struct {
			Reason string
			Line   int
			URL    string
		}
	}
	b, err := os.ReadFile(filepath.Join(dir, "summary.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &sum))
	secure := map[string]bool{}
	after := out.String()
	seek := func(text string) {
		for _, m := range plantedURL.FindAllStringSubmatch(text, -1) {
			if strings.HasPrefix(m[0], "https") {
				secure[m[1]] = true
			}
		}
	}
	seek(after)
	for _, digits := range regexp.MustCompile(`[0-9a-fA-F]{20,}`).FindAllString(after, -1) {
		plain, err := hex.DecodeString(digits[:len(digits)/2*2])
		require.NoError(t, err)
		seek(string(plain))
	}
	for _, p := range s.planted {
		if p.unused {
			continue
		}
		if secure[fmt.Sprint(p.id)] {
			counts["secure"]++
			continue
		}
		named := false
		for _, f := range sum.Findings {
			named = named || f.Line >= p.first && f.Line <= p.last
		}
		counts["named: "+p.how]++
		assert.True(t, named, "%s: the reference %d, in %s on the lines %d to %d, is neither secure nor named", what, p.id, p.how, p.first, p.last)
	}
	plain := func(rows string) string {
		rows = lengthsOnly.ReplaceAllString(strings.ReplaceAll(strings.ReplaceAll(rows, "https://ternrock", "http://ternrock"), hex.EncodeToString([]byte("https://ternrock")), hex.EncodeToString([]byte("http://ternrock"))), "s:0:")
		return sorted([]byte(rows))
	}
	want, got := strings.Split(plain(load(in)), "\n"), strings.Split(plain(load(after)), "\n")
	if !assert.Equal(t, len(want), len(got), "%s: lines of what the server has of it", what) {
		return
	}
	for i := range want {
		if !assert.Equal(t, want[i], got[i], "%s: what the server has of it", what) {
			return
		}
	}
}
