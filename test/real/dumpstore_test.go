//go:build real

package real

import (
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// holdsSame wants two databases to have the same values, cell for cell.
func (e *exported) holdsSame(what, want, got string) {
	e.t.Helper()
	a, b := e.cells(want), e.cells(got)
	require.Equal(e.t, len(a), len(b), what)
	for k, v := range a {
		if !assert.Equal(e.t, v, b[k], "%s: %s", what, k) {
			return
		}
	}
}

// An export is a store: what preview and apply make of it, as a new dump and as a patch, is what filter makes, and
// what apply makes of the live database.
func TestDumpIsAStore(t *testing.T) {
	t.Parallel()
	e := newExported(t)
	e.program = built
	export := e.run(e.dir, "mariadb-dump", "--no-defaults", "--socket="+e.socket, "-uroot", "museum")
	file := filepath.Join(e.dir, "museum.sql")
	require.NoError(t, os.WriteFile(file, export, 0o600))
	fresh := func(name string, sql []byte) {
		e.sql("DROP DATABASE IF EXISTS " + name + "; CREATE DATABASE " + name + " CHARACTER SET utf8mb4")
		e.load(name, sql)
	}
	read := func(name string) []byte {
		b, err := os.ReadFile(filepath.Join(e.dir, name))
		require.NoError(t, err)
		return b
	}
	e.tool(0, "init", "--here", "--also", "www."+host, "--database", "dump:"+file)
	e.tool(0, "preview", "--offline")
	code, said := e.try("apply", "--write", "new.sql")
	require.Equal(t, 0, code, said)
	assert.Contains(t, said, "Read again: as it was written, with")
	code, said = e.filtered(file, filepath.Join(e.dir, "filtered.sql"))
	require.Equal(t, 1, code, said)
	assert.Equal(t, string(read("filtered.sql")), string(read("new.sql")), "filter and apply --write")
	fresh("new", read("new.sql"))

	// The patch, over the database that the dump was made of, with some rows edited since.
	code, said = e.try("apply", "--patch", "patch.sql")
	require.Equal(t, 0, code, said)
	fresh("patched", export)
	out, err := e.tryLoad("patched", read("patch.sql"))
	require.NoError(t, err, tail(out))
	assert.Regexp(t, `(?m)^\d+\t0$`, string(out), "all rows took")
	e.holdsSame("the patch", "new", "patched")
	e.load("patched", read("patch.back.sql"))
	fresh("was", export)
	e.holdsSame("the patch and back", "was", "patched")

	edited := "UPDATE muoptions SET option_value = 'http://ternrock.example/edited' WHERE option_name = 'widget_text'; UPDATE mupostmeta SET meta_value = CONCAT('edited ', meta_value) WHERE meta_id < 4;"
	e.load("patched", []byte(edited))
	e.load("was", []byte(edited))
	out, err = e.tryLoad("patched", read("patch.sql"))
	require.NoError(t, err, tail(out))
	left := regexp.MustCompile(`(?m)^\d+\t(\d+)$`).FindStringSubmatch(string(out))
	require.NotNil(t, left, "%s", out)
	assert.Contains(t, []string{"1", "2", "3", "4"}, left[1], "rows that were edited are counted")
	assert.Equal(t, "http://ternrock.example/edited\n", e.sql("SELECT option_value FROM patched.muoptions WHERE option_name = 'widget_text'"))
	assert.Equal(t, "https://ternrock.example\n", e.sql("SELECT option_value FROM patched.muoptions WHERE option_name = 'home'"))
	e.load("patched", read("patch.back.sql"))
	e.holdsSame("the patch over edited rows, and back", "was", "patched")

	// In small files.
	code, said = e.try("apply", "--patch", "small.sql", "--largest-file", "1")
	require.Equal(t, 0, code, said)

	// Through the panel's import form.
	fresh("panel", export)
	p := newPanel(e)
	p.load("panel", read("patch.sql"))
	e.holdsSame("the patch through the panel", "new", "panel")
	p.load("panel", read("patch.back.sql"))
	fresh("was", export)
	e.holdsSame("the patch back through the panel", "was", "panel")

	// The live database.
	e.tool(0, "init", "--config", "live.yaml", "--site", "https://"+host, "--also", "www."+host, "--database", "mysql://root@/museum?socket="+e.socket)
	e.tool(0, "preview", "--config", "live.yaml", "--offline")
	code, said = e.try("apply", "--config", "live.yaml", "--offline")
	require.Contains(t, []int{0, 1}, code, said)
	e.holdsSame("apply on the live database", "new", "museum")
}

// load sends the import form.
func (p *panel) load(database string, sql []byte) {
	p.t.Helper()
	res, err := p.client.Get(p.base + "/database/import&db=" + database)
	require.NoError(p.t, err)
	b, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	require.NoError(p.t, res.Body.Close())
	token := regexp.MustCompile(`name="token" value="([^"]*)"`).FindSubmatch(b)
	require.NotNil(p.t, token, tail(b))
	r, w := io.Pipe()
	form := multipart.NewWriter(w)
	go func() {
		for _, f := range [][2]string{{"token", string(token[1])}, {"db", database}, {"import_type", "database"}, {"format", "sql"}, {"charset_of_file", "utf-8"}, {"sql_compatibility", "NONE"}, {"sql_no_auto_value_on_zero", "something"}, {"skip_queries", "0"}, {"fk_checks", "1"}} {
			_ = form.WriteField(f[0], f[1]) // a failure shows on the other side
		}
		part, err := form.CreateFormFile("import_file", "patch.sql")
		if err == nil {
			_, err = part.Write(sql)
		}
		if err == nil {
			err = form.Close()
		}
		w.CloseWithError(err)
	}()
	res, err = p.client.Post(p.base+"/import", form.FormDataContentType(), r)
	require.NoError(p.t, err)
	defer res.Body.Close()
	b, err = io.ReadAll(res.Body)
	require.NoError(p.t, err)
	require.Equal(p.t, http.StatusOK, res.StatusCode)
	assert.Contains(p.t, string(b), "Import has been successfully finished", tail(b))
}

// Random databases, of tables with keys of all kinds and none: filter, a new dump and a patch come to the same.
func TestDumpsOfRandomDatabases(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.socket, b.program = filepath.Join(b.dir, "db.sock"), built
	b.startMariaDB()
	e := &exported{b, seeded(t)}
	top := e.dir
	for n := range *randomDumps {
		var s strings.Builder
		s.WriteString("SET NAMES utf8mb4;\n")
		for i := range 1 + e.r.IntN(4) {
			key := e.r.pick("id int PRIMARY KEY", "id varchar(30) PRIMARY KEY", "id int, n int, PRIMARY KEY (id, n)", "id varbinary(30) PRIMARY KEY", "id int, UNIQUE KEY (id)", "id decimal(9,3) PRIMARY KEY", "id datetime PRIMARY KEY")
			fmt.Fprintf(&s, "CREATE TABLE t%d (%s, a longtext, b varchar(300) CHARACTER SET %s, c longblob, d timestamp DEFAULT '2026-01-02 03:04:05' ON UPDATE CURRENT_TIMESTAMP) DEFAULT CHARSET utf8mb4;\n", i, key, e.r.pick("utf8mb4", "latin1"))
			for r := range 20 {
				id := fmt.Sprint(r)
				switch {
				case strings.Contains(key, "datetime"):
					id = fmt.Sprintf("'2026-01-02 03:04:%02d'", r)
				case strings.Contains(key, "var"):
					id = fmt.Sprintf("'k''%d'", r)
				}
				if strings.Contains(key, "n int") {
					id += ", 1"
				}
				lit := func(v string) string { return "CONVERT(0x" + fmt.Sprintf("%x", "x"+v) + " USING utf8mb4)" }
				fmt.Fprintf(&s, "INSERT INTO t%d VALUES (%s, %s, %s, 0x%x, DEFAULT);\n", i, id, lit(e.r.value(false)), lit(strings.NewReplacer("日本", "J", "🕯", "l").Replace(e.r.text(false))), "x"+e.r.value(true))
			}
		}
		dir := filepath.Join(top, fmt.Sprint(n))
		require.NoError(t, os.Mkdir(dir, 0o700))
		e.bench.dir = dir
		for _, db := range []string{"one", "two", "three"} {
			e.sql("DROP DATABASE IF EXISTS " + db + "; CREATE DATABASE " + db)
		}
		e.load("one", []byte(s.String()))
		flags := slices.Concat([]string{"--no-defaults", "--socket=" + e.socket, "-uroot"}, strings.Fields(e.r.pick("", "--hex-blob", "--skip-extended-insert", "--complete-insert")), []string{"one"})
		export := e.run(dir, "mariadb-dump", flags...)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "in.sql"), export, 0o600))
		e.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--database", "dump:"+filepath.Join(dir, "in.sql"))
		code, said := e.try("preview", "--offline", "--judge", "none")
		require.Contains(t, []int{0, 1}, code, said)
		code, said = e.try("apply", "--write", "new.sql")
		require.Equal(t, 0, code, said)
		code, said = e.filtered(filepath.Join(dir, "in.sql"), filepath.Join(dir, "filtered.sql"))
		require.Contains(t, []int{0, 1}, code, said)
		want, err := os.ReadFile(filepath.Join(dir, "filtered.sql"))
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(dir, "new.sql"))
		require.NoError(t, err)
		require.Equal(t, string(want), string(got), "database %d", n)
		code, said = e.try("apply", "--patch", "patch.sql")
		if code == 2 {
			require.Contains(t, said, "have no primary key")
			continue
		}
		require.Contains(t, []int{0, 1}, code, said)
		e.load("two", got)
		e.load("three", export)
		patch, err := os.ReadFile(filepath.Join(dir, "patch.sql"))
		require.NoError(t, err)
		out, err := e.tryLoad("three", patch)
		require.NoError(t, err, tail(out))
		if code == 0 {
			e.holdsSame(fmt.Sprintf("database %d", n), "two", "three")
			assert.Regexp(t, `(?m)^\d+\t0$`, string(out), "database %d: all rows took", n)
			// The live database; of tables without a key it leaves every row.
			e.sql("DROP DATABASE IF EXISTS four; CREATE DATABASE four")
			e.load("four", export)
			e.tool(0, "init", "--config", "live.yaml", "--site", "https://"+host, "--also", "www."+host, "--database", "mysql://root@/four?socket="+e.socket)
			live, said := e.try("preview", "--config", "live.yaml", "--offline", "--judge", "none")
			require.Contains(t, []int{0, 1}, live, said)
			live, said = e.try("apply", "--config", "live.yaml", "--offline")
			require.Contains(t, []int{0, 1}, live, said)
			e.holdsSame(fmt.Sprintf("database %d, live", n), "two", "four")
		}
		back, err := os.ReadFile(filepath.Join(dir, "patch.back.sql"))
		require.NoError(t, err)
		e.load("three", back)
		e.holdsSame(fmt.Sprintf("database %d, and back", n), "one", "three")
	}
}

// The real system, one site and a network: filter, a new dump, a patch and apply on the live database come to the
// same, cell for cell.
func TestSystemsDumpIsAStore(t *testing.T) {
	t.Parallel()
	kinds := []bool{false}
	if *allExports {
		kinds = append(kinds, true)
	}
	for _, network := range kinds {
		t.Run(map[bool]string{false: "one site", true: "network"}[network], func(t *testing.T) {
			b := setUp(t)
			if network {
				b.makeNetwork()
			}
			b.get("/") // the system writes what it writes at first
			e := &exported{bench: b}
			file := filepath.Join(b.dir, "museum.sql")
			export := b.run(b.dir, "mariadb-dump", "--no-defaults", "--socket="+b.socket, "-uroot", "museum")
			require.NoError(t, os.WriteFile(file, export, 0o600))
			read := func(name string) []byte {
				text, err := os.ReadFile(filepath.Join(b.dir, name))
				require.NoError(t, err)
				return text
			}
			b.tool(0, "init", "--config", "dump.yaml", "--site", "https://"+host, "--also", "www."+host, "--database", "dump:"+file)
			said := b.tool(0, "preview", "--config", "dump.yaml", "--offline", "--judge", "none")
			if network {
				assert.Contains(t, said, "site 3")
			}
			b.tool(0, "apply", "--config", "dump.yaml", "--write", "new.sql")
			b.tool(0, "apply", "--config", "dump.yaml", "--patch", "patch.sql", "--largest-file", "64")
			code, out := e.filtered(file, filepath.Join(b.dir, "filtered.sql"))
			require.Equal(t, 1, code, out)
			assert.True(t, string(read("filtered.sql")) == string(read("new.sql")), "filter and apply --write")
			for db, parts := range map[string][][]byte{"new": {read("new.sql")}, "patched": {export, read("patch.sql")}, "back": {export, read("patch.sql"), read("patch.back.sql")}, "was": {export}} {
				b.sql("CREATE DATABASE " + db)
				for _, sql := range parts {
					e.load(db, sql)
				}
			}
			e.holdsSame("the patch", "new", "patched")
			e.holdsSame("the patch and back", "was", "back")
			b.tool(0, "init", "--config", "live.yaml", "--site", "https://"+host, "--also", "www."+host, b.system)
			b.tool(0, "preview", "--config", "live.yaml", "--offline", "--judge", "none")
			b.try("apply", "--config", "live.yaml", "--offline")
			e.holdsSame("apply on the live database", "new", "museum")
		})
	}
}
