//go:build real

package real

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// exported is a database of all that exports stumble over: the tables of the system behind a prefix without an
// underscore, names with blanks and brackets, charsets, enumerations, unique keys, code.
type exported struct {
	*bench
	r random
}

func newExported(t *testing.T) *exported {
	b := newBench(t)
	b.socket = filepath.Join(b.dir, "db.sock")
	b.startMariaDB()
	e := &exported{b, seeded(t)}
	e.load("museum", []byte(e.script()))
	return e
}

func (e *exported) load(database string, sql []byte) {
	e.t.Helper()
	out, err := e.tryLoad(database, sql)
	require.NoError(e.t, err, tail(out))
}

func (e *exported) tryLoad(database string, sql []byte) ([]byte, error) {
	c := exec.Command("mariadb", "--no-defaults", "--socket="+e.socket, "-uroot", "--default-character-set=utf8mb4", "--binary-mode", database)
	c.Stdin = bytes.NewReader(sql)
	return c.CombinedOutput()
}

// postColumns are those of the system's posts, with their types.
const postColumns = "ID bigint unsigned NOT NULL, post_author bigint, post_date datetime, post_date_gmt datetime, post_content longtext, post_title text, post_excerpt text, post_status varchar(20), comment_status varchar(20), ping_status varchar(20), post_password varchar(255), post_name varchar(200), to_ping text, pinged text, post_modified datetime, post_modified_gmt datetime, post_content_filtered longtext, post_parent bigint, guid varchar(255), menu_order int, post_type varchar(20), post_mime_type varchar(100), comment_count bigint"

func (e *exported) script() string {
	var s strings.Builder
	s.WriteString("SET NAMES utf8mb4;\nCREATE TABLE muposts (" + postColumns + ", PRIMARY KEY (ID), KEY (post_name)) DEFAULT CHARSET utf8mb4;\n")
	s.WriteString("CREATE TABLE muoptions (option_id bigint NOT NULL AUTO_INCREMENT, option_name varchar(191), option_value longtext, autoload varchar(20), PRIMARY KEY (option_id), UNIQUE KEY option_name (option_name)) DEFAULT CHARSET utf8mb4;\n")
	s.WriteString("CREATE TABLE mupostmeta (meta_id bigint NOT NULL AUTO_INCREMENT, post_id bigint, meta_key varchar(255), meta_value longtext, PRIMARY KEY (meta_id)) DEFAULT CHARSET utf8mb4;\n")
	s.WriteString("CREATE TABLE `muyoga_sessions` (id int PRIMARY KEY, body text CHARACTER SET latin1, `with space` varchar(40), kind enum('http://ternrock.example/a','b'), bytes longblob) DEFAULT CHARSET utf8mb4;\n")
	s.WriteString("CREATE TABLE `mu odd (name) it``s` (`the key` varchar(190) NOT NULL, v mediumtext COMMENT 'it''s; (a)', PRIMARY KEY (`the key`)) DEFAULT CHARSET utf8mb4;\n")
	lit := func(v string) string {
		if v == "" {
			return "''"
		}
		return "0x" + hex.EncodeToString([]byte(v))
	}
	latin := func(v string) string { return strings.NewReplacer("日本", "Japan", "🕯", "lamp").Replace(v) }
	for i := range 60 {
		fmt.Fprintf(&s, "INSERT INTO muposts VALUES (%d,1,'2026-01-02 03:04:05','2026-01-02 03:04:05',CONVERT(%s USING utf8mb4),CONVERT(%s USING utf8mb4),'','publish','open','open','','post-%d','','','2026-01-02 03:04:05','2026-01-02 03:04:05','',0,'http://ternrock.example/?p=%d',0,'post','',0);\n",
			i+1, lit(e.r.value(false)), lit(e.r.value(false)), i, i+1)
		fmt.Fprintf(&s, "INSERT INTO mupostmeta VALUES (%d,%d,'key%d',CONVERT(%s USING utf8mb4));\n", i+1, i+1, i, lit(e.r.value(false)))
		fmt.Fprintf(&s, "INSERT INTO muyoga_sessions VALUES (%d, CONVERT(CONVERT(%s USING utf8mb4) USING latin1), 'http://ternrock.example/%s', 'http://ternrock.example/a', %s);\n", i+1, lit(latin(e.r.value(false))), strings.Repeat("x", i%17), lit(e.r.binary()+e.r.value(true)))
	}
	for i, o := range []string{"home", "siteurl", "_transient_x", "widget_text"} {
		fmt.Fprintf(&s, "INSERT INTO muoptions VALUES (%d,'%s','http://ternrock.example%s','yes');\n", i+1, o, map[bool]string{true: "/kept"}[o == "_transient_x"])
	}
	for _, k := range []string{"http://ternrock.example/one", "http://ternrock.example/two", "https://ternrock.example/TWO", "plain"} {
		fmt.Fprintf(&s, "INSERT INTO `mu odd (name) it``s` VALUES ('%s', '%s');\n", k, `a:1:{i:0;s:23:"http://ternrock.example";}`)
	}
	s.WriteString("CREATE VIEW a_view AS SELECT 'http://ternrock.example/view' AS a;\n")
	s.WriteString("DELIMITER ;;\nCREATE PROCEDURE a_procedure() BEGIN SELECT 'http://ternrock.example/procedure'; END;;\nCREATE TRIGGER a_trigger BEFORE DELETE ON muoptions FOR EACH ROW BEGIN SET @a = 'http://ternrock.example/trigger'; END;;\nCREATE EVENT an_event ON SCHEDULE EVERY 1 YEAR DO SELECT 'http://ternrock.example/event';;\nDELIMITER ;\n")
	return s.String()
}

// cells returns all values of a database, each by its table, column and number of the row.
func (e *exported) cells(database string) map[string]string {
	out := map[string]string{}
	for _, line := range strings.Split(strings.TrimSpace(e.sql("SELECT CONCAT_WS('|', table_name, column_name, data_type) FROM information_schema.columns c JOIN information_schema.tables t USING (table_schema, table_name) WHERE t.table_type='BASE TABLE' AND table_schema='"+database+"' ORDER BY 1")), "\n") {
		f := strings.Split(line, "|")
		name := func(n string) string { return "`" + strings.ReplaceAll(n, "`", "``") + "`" }
		value := "HEX(CONVERT(" + name(f[1]) + " USING utf8mb4))"
		if strings.Contains(f[2], "blob") {
			value = "HEX(" + name(f[1]) + ")"
		}
		for i, v := range strings.Split(strings.TrimSuffix(e.sql("SELECT "+value+" FROM "+database+"."+name(f[0])+" ORDER BY 1"), "\n"), "\n") {
			b, err := hex.DecodeString(v)
			if v != "NULL" {
				require.NoError(e.t, err)
			}
			out[fmt.Sprintf("%s.%s %d", f[0], f[1], i)] = string(b)
		}
	}
	return out
}

// wanted is what is to become of the values of one column, in the order of their bytes.
func (e *exported) wanted(column string, was []string) []string {
	var out []string
	for _, v := range was {
		after := expected(e.t, v)
		switch {
		case strings.HasSuffix(column, ".guid"), strings.HasSuffix(column, ".kind"):
			after = v
		case strings.HasSuffix(column, ".option_value") && v == "http://ternrock.example/kept":
			after = v // a cached copy
		case strings.HasSuffix(column, ".the key") && v == "http://ternrock.example/two":
			after = v // the secure form is there, in other letters
		case strings.HasSuffix(column, ".with space") && utf8.RuneCountInString(after) > 40:
			after = v
		}
		out = append(out, strings.ToUpper(hex.EncodeToString([]byte(after))))
	}
	slices.Sort(out)
	return out
}

// judge loads an export as it is and as filter made it, and holds every value against what it must be.
func (e *exported) judge(what string, structure, export []byte, args ...string) {
	e.t.Helper()
	dir := e.t.TempDir()
	in, out := filepath.Join(dir, "in.sql"), filepath.Join(dir, "out.sql")
	require.NoError(e.t, os.WriteFile(in, export, 0o600))
	if structure != nil {
		code, said := e.filtered(in, out, args...)
		assert.Equal(e.t, 2, code, "%s: rows without tables", what)
		assert.Contains(e.t, said, "--tables FILE", what)
		tables := filepath.Join(dir, "tables.sql")
		require.NoError(e.t, os.WriteFile(tables, structure, 0o600))
		args = append(slices.Clone(args), "--tables", tables)
	}
	code, said := e.filtered(in, out, args...)
	if !assert.Contains(e.t, []int{0, 1}, code, "%s\n%s", what, said) {
		return
	}
	after, err := os.ReadFile(out)
	require.NoError(e.t, err)
	var values [2]map[string]string
	for i, sql := range [][]byte{export, after} {
		db := fmt.Sprintf("side%d", i)
		e.sql("DROP DATABASE IF EXISTS " + db + "; CREATE DATABASE " + db + " CHARACTER SET utf8mb4")
		if structure != nil {
			e.load(db, structure)
		}
		sql = regexp.MustCompile("(?i)(CREATE DATABASE[^;]*|USE `?museum`?) *;").ReplaceAll(sql, []byte("SELECT 1;"))
		sql = bytes.ReplaceAll(sql, []byte("`museum`."), []byte("`"+db+"`."))
		said, err := e.tryLoad(db, sql)
		if err != nil && i == 0 && structure == nil { // its own client cannot read what its own program wrote: in gbk, after some letters, a backslash
			e.t.Logf("%s: the export itself does not load: %s", what, tail(said))
			return
		}
		if !assert.NoError(e.t, err, "%s: side %d does not load: %s", what, i, tail(said)) {
			return
		}
		values[i] = e.cells(db)
	}
	if !assert.Equal(e.t, len(values[0]), len(values[1]), what) {
		return
	}
	assert.Greater(e.t, len(values[0]), 100, "%s: values", what)
	columns := map[string][2][]string{}
	for i := range values {
		for k, v := range values[i] {
			column := k[:strings.LastIndexByte(k, ' ')]
			c := columns[column]
			c[i] = append(c[i], v)
			columns[column] = c
		}
	}
	for column, c := range columns {
		var got []string
		for _, v := range c[1] {
			got = append(got, strings.ToUpper(hex.EncodeToString([]byte(v))))
		}
		slices.Sort(c[0])
		want := e.wanted(column, c[0])
		var became []string // in the order of what they were
		for _, v := range c[0] {
			became = append(became, e.wanted(column, []string{v})...)
		}
		e.loads(what, c[0], became)
		slices.Sort(got)
		for i := range want {
			if !assert.Equal(e.t, unhex(want[i]), unhex(got[i]), "%s: %s", what, column) {
				break
			}
		}
	}
}

// loads has PHP load every value of an export that it loads as it was: all of them must load as they became.
func (e *exported) loads(what string, was, is []string) {
	e.t.Helper()
	var in strings.Builder
	for i := range was {
		fmt.Fprintf(&in, "%x %s\n", was[i], is[i])
	}
	const script = `$ok = $bad = 0;
while (($line = fgets(STDIN)) !== false) {
	[$was, $is] = explode(" ", rtrim($line, "\n"));
	if (@unserialize(hex2bin($was), ["allowed_classes" => false]) === false) continue;
	if (@unserialize(hex2bin($is), ["allowed_classes" => false]) === false) $bad++; else $ok++;
}
echo "$ok $bad";`
	c := exec.Command("php", "-r", script)
	c.Stdin = strings.NewReader(in.String())
	out, err := c.CombinedOutput()
	require.NoError(e.t, err, "%s", out)
	assert.Regexp(e.t, `^\d+ 0$`, string(out), "%s: values that PHP loads, and no longer loads", what)
}

func unhex(s string) string {
	b, err := hex.DecodeString(s)
	if err != nil {
		panic(err) // it was encoded here
	}
	return string(b)
}

func (e *exported) filtered(in, out string, args ...string) (int, string) {
	c := exec.Command(built, append([]string{"filter", "--site", "https://ternrock.example", "--also", "www.ternrock.example", in, out}, args...)...)
	b, err := c.CombinedOutput()
	if c.ProcessState == nil {
		require.NoError(e.t, err)
	}
	return c.ProcessState.ExitCode(), string(b)
}

// Every set of options of the dump program gives a dump that filter reads exactly, or refuses.
func TestDumpOptions(t *testing.T) {
	t.Parallel()
	e := newExported(t)
	dump := func(flags ...string) []byte {
		args := append([]string{"--no-defaults", "--socket=" + e.socket, "-uroot"}, flags...)
		if !slices.Contains(flags, "--databases") {
			args = append(args, "museum")
		}
		return e.run(e.dir, "mariadb-dump", args...)
	}
	structure := dump("--no-data", "--skip-triggers")
	sets := []string{"", "--hex-blob", "--skip-extended-insert", "--complete-insert", "--compact --add-drop-table", "--skip-opt --create-options", "--no-create-info --skip-triggers", "--skip-quote-names --ignore-table=museum.muyoga_sessions", "--default-character-set=latin1",
		"--default-character-set=utf8mb3", "--default-character-set=sjis", "--default-character-set=gbk", "--compatible=ansi", "--insert-ignore", "--replace", "--routines --events", "--single-transaction --no-autocommit", "--order-by-primary --skip-comments", "--skip-add-drop-table",
		"--databases museum", "--skip-set-charset", "--skip-tz-utc --skip-lock-tables --skip-add-locks", "--net-buffer-length=4096", "--no-create-info --skip-triggers --compact", "--hex-blob --complete-insert --skip-extended-insert --skip-disable-keys"}
	require.GreaterOrEqual(t, len(sets), 25)
	if !*allExports {
		sets = []string{"", "--default-character-set=latin1", "--default-character-set=gbk", "--compatible=ansi", "--no-create-info --skip-triggers --compact", "--hex-blob --complete-insert --skip-extended-insert --skip-disable-keys", "--skip-quote-names --ignore-table=museum.muyoga_sessions"}
	}
	for _, set := range sets {
		flags := strings.Fields(set)
		var first []byte
		if strings.Contains(set, "no-create-info") {
			first = structure
		}
		e.judge("mariadb-dump "+set, first, dump(flags...), "--dialect", "mysql")
	}
	x := filepath.Join(t.TempDir(), "x.xml")
	require.NoError(t, os.WriteFile(x, dump("--xml"), 0o600))
	code, said := e.filtered(x, x+".out")
	assert.Equal(t, 2, code)
	assert.Contains(t, said, "an export as XML")
	assert.NoFileExists(t, x+".out")
}

// panel is the general database panel of Debian, on a port of its own.
type panel struct {
	t      *testing.T
	base   string
	client *http.Client
	page   string
}

func newPanel(e *exported) *panel {
	t := e.t
	web := filepath.Join(e.dir, "web")
	e.run(e.dir, "cp", "-r", "/usr/share/phpmyadmin", web)
	tmp := filepath.Join(e.dir, "panel")
	require.NoError(t, os.Mkdir(tmp, 0o700))
	config := filepath.Join(e.dir, "panel.php")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, "<?php\n$cfg['blowfish_secret']='01234567890123456789012345678901';\n$cfg['TempDir']='%s';\n$cfg['Servers'][1]=['auth_type'=>'config','host'=>'localhost','socket'=>'%s','user'=>'root','password'=>'','AllowNoPassword'=>true];\n", tmp, e.socket), 0o600))
	vendor := filepath.Join(web, "libraries", "vendor_config.php")
	b, err := os.ReadFile(vendor)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(vendor, []byte(strings.NewReplacer("'/etc/phpmyadmin/config.inc.php'", "'"+config+"'", "'/var/lib/phpmyadmin/tmp/'", "'"+tmp+"/'").Replace(string(b))), 0o600))
	port := freePort(t)
	// The server of PHP has no idea of the panel's document root but the folder it is started with.
	e.daemon("php", "-d", "memory_limit=512M", "-S", "127.0.0.1:"+port, "-t", web)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	p := &panel{t: t, base: "http://127.0.0.1:" + port + "/index.php?route=", client: &http.Client{Jar: jar}}
	e.await("the panel", func() bool {
		res, err := p.client.Get(p.base + "/database/export&db=museum")
		if err != nil {
			return false
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		p.page = string(b)
		return err == nil && strings.Contains(p.page, `name="token"`)
	})
	return p
}

// export sends the export form.
func (p *panel) export(with map[string]string) []byte {
	p.t.Helper()
	form := url.Values{}
	for _, in := range regexp.MustCompile(`<input[^>]*name="token"[^>]*value="([^"]*)"`).FindAllStringSubmatch(p.page, 1) {
		form.Set("token", in[1])
	}
	for k, v := range map[string]string{"db": "museum", "export_type": "database", "export_method": "custom", "quick_or_custom": "custom", "output_format": "sendit", "filename_template": "@DATABASE@", "charset": "utf-8", "compression": "none", "maxsize": "",
		"what": "sql", "sql_structure_or_data": "structure_and_data", "sql_create_table": "something", "sql_auto_increment": "something", "sql_create_view": "something", "sql_procedure_function": "something", "sql_create_trigger": "something", "sql_backquotes": "something",
		"sql_insert_syntax": "both", "sql_max_query_size": "50000", "sql_hex_for_binary": "something", "sql_type": "INSERT", "sql_utc_time": "something", "sql_include_comments": "something", "sql_compatibility": "NONE",
		"json_structure_or_data": "data", "xml_structure_or_data": "data", "xml_export_contents": "something", "csv_separator": ",", "csv_enclosed": `"`, "csv_escaped": `"`, "csv_terminated": "AUTO", "csv_null": "NULL", "csv_structure_or_data": "data",
		"phparray_structure_or_data": "data", "yaml_structure_or_data": "data", "latex_structure_or_data": "structure_and_data", "latex_columns": "something", "mediawiki_structure_or_data": "data", "texytext_structure_or_data": "structure_and_data", "ods_structure_or_data": "data", "odt_structure_or_data": "structure_and_data", "htmlword_structure_or_data": "structure_and_data"} {
		form.Set(k, v)
	}
	for _, t := range []string{"muposts", "muoptions", "mupostmeta", "muyoga_sessions", "mu odd (name) it`s"} {
		form.Add("table_select[]", t)
		form.Add("table_structure[]", t)
		form.Add("table_data[]", t)
	}
	for k, v := range with {
		if v == "" {
			form.Del(k)
		} else {
			form.Set(k, v)
		}
	}
	res, err := p.client.PostForm(p.base+"/export", form)
	require.NoError(p.t, err)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	require.Equal(p.t, 200, res.StatusCode, tail(b))
	require.NotContains(p.t, string(b[:min(len(b), 200)]), "<!doctype html", "no export: %v", with)
	return b
}

// Every way of exporting with the general database panel gives an SQL file that filter reads exactly, or
// something that it refuses with a word what it is.
func TestPanelExports(t *testing.T) {
	t.Parallel()
	e := newExported(t)
	p := newPanel(e)
	structure := p.export(map[string]string{"sql_structure_or_data": "structure"})
	sets := []map[string]string{
		{}, {"sql_insert_syntax": "complete"}, {"sql_insert_syntax": "extended"}, {"sql_insert_syntax": "none"}, {"sql_structure_or_data": "data"}, {"sql_structure_or_data": "data", "sql_insert_syntax": "none"},
		{"sql_type": "REPLACE"}, {"sql_type": "UPDATE", "sql_structure_or_data": "data"}, {"sql_hex_for_binary": ""}, {"sql_drop_table": "something"}, {"sql_if_not_exists": "something"}, {"sql_disable_fk": "something", "sql_use_transaction": "something"},
		{"sql_include_comments": ""}, {"sql_ignore": "something"}, {"sql_header_comment": "see http://ternrock.example/comment"}, {"sql_create_database": "something"}, {"sql_metadata": "something", "sql_dates": "something"}, {"sql_max_query_size": "1000"}, {"sql_auto_increment": ""}, {"sql_truncate": "something", "sql_structure_or_data": "data"}}
	require.GreaterOrEqual(t, len(sets), 20)
	if !*allExports {
		sets = []map[string]string{{}, {"sql_structure_or_data": "data", "sql_insert_syntax": "none"}, {"sql_type": "UPDATE", "sql_structure_or_data": "data"}, {"sql_hex_for_binary": "", "sql_insert_syntax": "extended"}}
	}
	for _, set := range sets {
		what := fmt.Sprintf("panel %v", set)
		first := []byte(nil)
		if set["sql_structure_or_data"] == "data" {
			first = structure
		}
		if set["sql_type"] == "UPDATE" { // of rows that are there
			first = append(slices.Clone(structure), p.export(map[string]string{"sql_structure_or_data": "data"})...)
		}
		e.judge(what, first, p.export(set), "--dialect", "mysql")
	}
	// With this one the panel writes tables without columns, which no server takes.
	in := filepath.Join(t.TempDir(), "ansi.sql")
	require.NoError(t, os.WriteFile(in, p.export(map[string]string{"sql_compatibility": "ANSI"}), 0o600))
	code, said := e.filtered(in, in+".out")
	assert.Equal(t, 2, code, said)
	assert.Contains(t, said, "does not define these tables")
	for format, say := range map[string]string{"csv": "a table of values", "json": "an export as JSON", "xml": "an export as XML", "phparray": "an export as PHP arrays", "yaml": "an export as YAML", "latex": "an export as LaTeX",
		"mediawiki": "wiki text", "texytext": "structured text", "ods": "an office document", "odt": "an office document", "htmlword": "HTML"} {
		in := filepath.Join(t.TempDir(), "export."+format)
		require.NoError(t, os.WriteFile(in, p.export(map[string]string{"what": format}), 0o600))
		code, said := e.filtered(in, in+".out")
		assert.Equal(t, 2, code, "%s\n%s", format, said)
		assert.Contains(t, said, say, format)
		assert.Contains(t, said, "SQL", format)
		assert.NoFileExists(t, in+".out")
	}
	// Packed by the panel.
	for packing, name := range map[string]string{"gzip": "x.sql.gz", "zip": "x.sql.zip"} {
		in := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(in, p.export(map[string]string{"compression": packing}), 0o600))
		code, said := e.filtered(in, in+".sql")
		assert.Equal(t, 1, code, said)
		b, err := os.ReadFile(in + ".sql")
		require.NoError(t, err)
		assert.Contains(t, string(b), "https://ternrock.example")
		code, said = e.filtered(in, filepath.Join(filepath.Dir(in), "again-"+name))
		assert.Equal(t, 1, code, said)
		again, err := os.ReadFile(filepath.Join(filepath.Dir(in), "again-"+name))
		require.NoError(t, err)
		assert.Equal(t, map[string]string{"gzip": "\x1f\x8b", "zip": "PK"}[packing], string(again[:2]))
	}
}
