//go:build real

package real

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A week later: rows were edited since. Undo leaves those and names them; all
// others are as before. The script that it writes, run by the system's own client,
// does the same. One table can be put back by itself.
func TestUndoLater(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		s.fill(400)
		before := s.dump()
		s.init()
		p := s.preview()
		if s.engine != "" {
			defer s.forgetful()()
		}
		s.tool(0, "apply", "--offline")
		after := s.dump()
		edit := `UPDATE m_int SET v = 'edited since, https://ternrock.example/', t = '2026-01-01 00:00:00' WHERE id IN (3, 4, 5);
			DELETE FROM m_pair WHERE b = 8; UPDATE m_url SET v = 'another' WHERE u = 'https://ternrock.example/u12';`
		s.sql(edit)
		edited := s.dump()
		script := filepath.Join(s.dir, "back.sql")
		s.tool(0, "undo", "--as-sql", script)
		sameDump(t, edited, s.dump(), "writing the script changes nothing")
		var undone struct {
			Back, Already int
			Left          []struct {
				Table, Column, Why string
				Key                []any
			}
		}
		require.NoError(t, json.Unmarshal([]byte(s.tool(1, "undo", "--format", "json")), &undone))
		assert.Len(t, undone.Left, 5)
		assert.Equal(t, p.Cells-5, undone.Back)
		put := s.dump()
		// Nothing but what was edited differs from before.
		assert.Len(t, differing(before, put), 2*4+1, "four rows edited, one gone")

		// The same by the script, from the same state.
		s.restore(t, before, after, edit, edited)
		said := s.sql(string(mustRead(t, script)))
		sameDump(t, put, s.dump(), "the script gives the same")
		for _, l := range []string{"m_int.v 3", "m_int.v 4", "m_int.v 5", "m_url.v http://ternrock.example/u12"} {
			assert.Contains(t, said, l, "the script names what it left")
		}

		// One table by itself.
		s.restore(t, before, after, "", "")
		out := s.tool(0, "undo", "--table", "int")
		assert.Contains(t, out, "400")
		assert.Len(t, differing(before, s.dump()), len(differing(before, after))-2*400)
		assert.Contains(t, s.tool(0, "history"), "partly undone")
		s.tool(0, "undo")
		sameDump(t, before, s.dump())
	})
}

// forgetful makes a server that takes prepared statements now and then only, until
// stop is called.
func (s *store) forgetful() (stop func()) {
	c := exec.Command("mariadb", "--no-defaults", "--socket="+s.socket, "-uroot")
	c.Stdin = strings.NewReader(strings.Repeat("SET GLOBAL max_prepared_stmt_count = 0; DO SLEEP(0.003); SET GLOBAL max_prepared_stmt_count = 16382; DO SLEEP(0.003);\n", 20_000))
	require.NoError(s.t, c.Start())
	return func() {
		_ = c.Process.Kill()
		_ = c.Wait() // killed
	}
}

// restore puts the tables into the state after apply, and edits them once more.
func (s *store) restore(t *testing.T, before, after, edit, edited string) {
	s.wipe()
	s.fill(400)
	sameDump(t, before, s.dump())
	s.preview()
	s.tool(0, "apply", "--offline")
	sameDump(t, after, s.dump())
	if edit != "" {
		s.sql(edit)
		sameDump(t, edited, s.dump())
	}
}

func mustRead(t *testing.T, path string) []byte {
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	return b
}

// sameDump holds two dumps against each other, and shows some lines where they
// differ.
func sameDump(t *testing.T, want, got string, why ...any) {
	t.Helper()
	if want == got {
		return
	}
	d := differing(want, got)
	slices.Sort(d)
	require.Empty(t, d[:min(len(d), 10)], why...)
}

// differing lists the lines that only one of two dumps has.
func differing(a, b string) (out []string) {
	count := map[string]int{}
	for l := range strings.Lines(a) {
		count[l]++
	}
	for l := range strings.Lines(b) {
		count[l]--
	}
	for l, n := range count {
		for range max(n, -n) {
			out = append(out, l)
		}
	}
	return out
}

// lines reads what a file of the logbook holds.
func (b *bench) logged(pattern string) (out []map[string]json.RawMessage) {
	files, err := filepath.Glob(filepath.Join(b.dir, ".trimlantern", pattern))
	require.NoError(b.t, err)
	require.NotEmpty(b.t, files)
	raw, err := os.ReadFile(files[len(files)-1])
	require.NoError(b.t, err)
	z, err := zstd.NewReader(nil)
	require.NoError(b.t, err)
	defer z.Close()
	plain, err := z.DecodeAll(raw, nil)
	require.NoError(b.t, err)
	for line := range strings.Lines(string(plain)) {
		var l map[string]json.RawMessage
		require.NoError(b.t, json.Unmarshal([]byte(line), &l))
		out = append(out, l)
	}
	return out
}

// The counts of preview, of apply, of the sheet, of the journal and of what really
// differs between two dumps are the same numbers.
func TestAgreement(t *testing.T) {
	r := seeded(t)
	eachStore(t, func(t *testing.T, s *store) {
		columns := "a TEXT, b TEXT, c TEXT"
		if s.engine != "" {
			columns = "a LONGTEXT, b TEXT, c VARCHAR(400)"
		}
		literal := func(v string) string {
			switch {
			case s.engine != "":
				return fmt.Sprintf("CONVERT(0x%x USING utf8mb4)", v)
			case s.name == "SQLite":
				return fmt.Sprintf("CAST(x'%x' AS TEXT)", v)
			}
			return fmt.Sprintf(`convert_from('\x%x', 'UTF8')`, v)
		}
		for round := range 3 {
			var script strings.Builder
			fmt.Fprintf(&script, "DROP TABLE IF EXISTS m_r; DROP TABLE IF EXISTS m_q;\n")
			fmt.Fprintf(&script, "CREATE TABLE m_r (id INT PRIMARY KEY, %s)%s;\nCREATE TABLE m_q (id INT PRIMARY KEY, %s)%s;\nBEGIN;\n", columns, s.options(), columns, s.options())
			for i := range 300 + r.IntN(300) {
				table := r.pick("m_r", "m_q")
				var values []string
				for range 3 {
					v := r.value(false)
					if len([]rune(v)) > 300 || r.IntN(5) == 0 {
						v = "short"
					}
					values = append(values, literal(v))
				}
				fmt.Fprintf(&script, "INSERT INTO %s VALUES (%d, %s);\n", table, i, strings.Join(values, ", "))
			}
			script.WriteString("COMMIT;\n")
			s.sql(script.String())
			for _, f := range []string{"trimlantern.yaml", ".trimlantern"} {
				require.NoError(t, os.RemoveAll(filepath.Join(s.dir, f)))
			}
			s.init()
			before := s.cellsOf()
			p := s.preview()
			code, out := s.try("apply", "--offline", "--format", "json", "--quiet")
			require.Contains(t, []int{0, 1}, code, out)
			var applied struct{ Planned, Changed, References int }
			require.NoError(t, json.Unmarshal([]byte(out), &applied))
			after := s.cellsOf()
			require.Equal(t, len(before), len(after))
			really := 0
			for i := range before {
				if before[i] != after[i] {
					really++
				}
			}
			tables, refs := 0, 0
			for _, c := range p.Tables {
				tables += c.Cells
				refs += c.References
			}
			inSheet, inJournal := 0, 0
			for _, l := range s.logged("*.sheet.jsonl.zst") {
				if l["cell"] != nil {
					inSheet++
				}
			}
			for _, l := range s.logged("*.journal.jsonl.zst") {
				if l["entry"] != nil {
					inJournal++
				}
			}
			assert.Equal(t, []int{really, really, really, really, really, really}, []int{p.Cells, tables, inSheet, inJournal, applied.Planned, applied.Changed})
			assert.Equal(t, []int{p.References, p.References}, []int{refs, applied.References})
			t.Logf("%s, round %d: %d cells, %d references, six counts alike", s.name, round, really, refs)
		}
	})
}

func (s *store) options() string {
	if s.engine == "" {
		return ""
	}
	return " ENGINE=" + s.engine + " CHARSET utf8mb4"
}

// cellsOf reads every cell of the two random tables, in hexadecimal.
func (s *store) cellsOf() []string {
	var out strings.Builder
	for _, table := range []string{"m_r", "m_q"} {
		for _, c := range []string{"a", "b", "c"} {
			hex := "HEX(" + c + ")"
			if s.name == "PostgreSQL" {
				hex = "encode(convert_to(" + c + ", 'UTF8'), 'hex')"
			}
			out.WriteString(s.sql("SELECT " + hex + " FROM " + table + " ORDER BY id;"))
		}
	}
	return strings.Split(strings.TrimSpace(out.String()), "\n")
}

// What is no fit for the database is refused, with the reason, and changes nothing.
func TestRefused(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		s.fill(80)
		before := s.dump()
		s.init()
		refused := func(what string, args ...string) {
			t.Helper()
			code, out := s.try(args...)
			assert.Equal(t, 2, code, out)
			assert.Contains(t, out, what)
			assert.Contains(t, out, "What to do: ")
			sameDump(t, before, s.dump())
		}
		first := s.preview()
		second := s.preview()
		refused("is not the newest", "apply", first.Sheet)
		refused("no change sheet is called", "apply", "nothing")
		refused(`no table matches "no*such"`, "preview", "--table", "no*such")
		refused(`no column matches "m_*.nothing"`, "preview", "--except", "m_*.nothing")
		refused("cannot be read", "preview", "--table", "[")
		refused("knows no address", "preview", "--only", "public")
		refused("the database lists no site 3", "preview", "--sites", "3")

		sheet := filepath.Join(s.dir, ".trimlantern", second.Sheet+".sheet.jsonl.zst")
		raw, err := os.ReadFile(sheet)
		require.NoError(t, err)
		z, err := zstd.NewReader(nil)
		require.NoError(t, err)
		plain, err := z.DecodeAll(raw, nil)
		require.NoError(t, err)
		w, err := zstd.NewWriter(nil)
		require.NoError(t, err)
		edited := strings.Replace(string(plain), `"in":"s"`, `"in":"z"`, 1)
		require.NotEqual(t, string(plain), edited)
		require.NoError(t, os.WriteFile(sheet, w.EncodeAll([]byte(edited), nil), 0o600))
		refused("was changed by hand", "apply")
		other := strings.Replace(string(plain), `"database":"`, `"database":"another `, 1)
		require.NoError(t, os.WriteFile(sheet, w.EncodeAll([]byte(other), nil), 0o600))
		refused("is of another database", "apply")
		require.NoError(t, os.WriteFile(sheet, raw, 0o600))

		// Parts: tables, columns and patterns.
		p := s.preview("--table", "int", "--table", "m_p*")
		assert.Len(t, p.Tables, map[string]int{"PostgreSQL": 3}[s.name]+2*btoi(s.name != "PostgreSQL"))
		p = s.preview("--except", "m_[a-t]*", "--except", "m_url.v")
		assert.Equal(t, 20+20, p.Cells, "of m_unique v, of m_url u")
		assert.Equal(t, 20, p.Left["not-chosen"])
	})
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// What the rules of a table refuse stays, is named, and spoils nothing else: checks,
// foreign keys, triggers that say no and triggers that write something else.
func TestTableRules(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		if s.engine == "MyISAM" {
			t.Log("nothing to do: this engine keeps no such rules")
			return
		}
		s.sql(map[string]string{
			"InnoDB": `CREATE TABLE m_check (id INT PRIMARY KEY, v VARCHAR(190), w TEXT, CHECK (v NOT LIKE 'https:%'));
CREATE TABLE m_parent (u VARCHAR(190) PRIMARY KEY);
CREATE TABLE m_child (id INT PRIMARY KEY, u VARCHAR(190), FOREIGN KEY (u) REFERENCES m_parent (u));
CREATE TABLE m_no (id INT PRIMARY KEY, v TEXT, w TEXT);
CREATE TABLE m_other (id INT PRIMARY KEY, v TEXT);
DELIMITER //
CREATE TRIGGER says_no BEFORE UPDATE ON m_no FOR EACH ROW IF NEW.id = 2 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no'; END IF//
CREATE TRIGGER writes BEFORE UPDATE ON m_other FOR EACH ROW IF NEW.id = 2 THEN SET NEW.v = 'something else'; END IF//
DELIMITER ;`,
			"PostgreSQL": `CREATE TABLE m_check (id INT PRIMARY KEY, v TEXT, w TEXT, CHECK (v NOT LIKE 'https:%'));
CREATE TABLE m_parent (u TEXT PRIMARY KEY);
CREATE TABLE m_child (id INT PRIMARY KEY, u TEXT REFERENCES m_parent (u));
CREATE TABLE m_no (id INT PRIMARY KEY, v TEXT, w TEXT);
CREATE TABLE m_other (id INT PRIMARY KEY, v TEXT);
CREATE FUNCTION says_no() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.id = 2 THEN RAISE EXCEPTION 'no'; END IF; RETURN NEW; END $$;
CREATE FUNCTION writes() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.id = 2 THEN NEW.v := 'something else'; END IF; RETURN NEW; END $$;
CREATE TRIGGER says_no BEFORE UPDATE ON m_no FOR EACH ROW EXECUTE FUNCTION says_no();
CREATE TRIGGER writes BEFORE UPDATE ON m_other FOR EACH ROW EXECUTE FUNCTION writes();`,
			"SQLite": `CREATE TABLE m_check (id INTEGER PRIMARY KEY, v TEXT, w TEXT, CHECK (v NOT LIKE 'https:%'));
CREATE TABLE m_no (id INTEGER PRIMARY KEY, v TEXT, w TEXT);
CREATE TRIGGER says_no BEFORE UPDATE ON m_no WHEN NEW.id = 2 BEGIN SELECT RAISE(ABORT, 'no'); END;`,
		}[s.name])
		var script strings.Builder
		for i := 1; i <= 3; i++ {
			fmt.Fprintf(&script, "INSERT INTO m_no VALUES (%d, 'http://ternrock.example/a', 'http://ternrock.example/b');\n", i)
			fmt.Fprintf(&script, "INSERT INTO m_check VALUES (%d, '%s://ternrock.example/c', 'http://ternrock.example/d');\n", i, []string{"", "ftp", "http", "ftp"}[i])
			if s.name != "SQLite" {
				fmt.Fprintf(&script, "INSERT INTO m_other VALUES (%[1]d, 'http://ternrock.example/e'); INSERT INTO m_parent VALUES ('http://ternrock.example/%[1]d');\n", i)
			}
		}
		if s.name != "SQLite" {
			script.WriteString("INSERT INTO m_child VALUES (1, 'http://ternrock.example/2');\n")
		}
		s.sql(script.String())
		s.init()
		before := s.dump()
		text := s.tool(0, "preview", "--offline")
		assert.Contains(t, text, "Triggers that will run with the changes\n  m_no: says_no\n")
		p := s.preview()
		var applied struct {
			Changed int
			Skipped []struct{ Table, Column, Why string }
		}
		code, out := s.try("apply", "--offline", "--format", "json", "--quiet")
		require.Equal(t, 1, code, out)
		require.NoError(t, json.Unmarshal([]byte(out), &applied))
		refused := map[string]int{}
		for _, skip := range applied.Skipped {
			assert.Contains(t, skip.Why, "the database refused the value")
			refused[skip.Table+"."+skip.Column]++
		}
		want := map[string]int{"m_check.v": 1, "m_no.v": 1, "m_no.w": 1}
		if s.name != "SQLite" {
			want["m_parent.u"], want["m_child.u"], want["m_other.v"] = 1, 1, 1
		}
		assert.Equal(t, want, refused)
		assert.Equal(t, p.Cells, applied.Changed+len(applied.Skipped))
		if s.name != "SQLite" {
			assert.Equal(t, "http://ternrock.example/e", strings.TrimSpace(s.sql("SELECT v FROM m_other WHERE id = 2;")))
		}
		assert.Contains(t, s.tool(1, "status"), fmt.Sprintf("%d cells changed, %d skipped", applied.Changed, len(applied.Skipped)))
		s.try("undo")
		sameDump(t, before, s.dump())
	})
}
