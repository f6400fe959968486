package program

import (
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// filtered runs filter on a text in a file of a name, and returns what became of it.
func filtered(t *testing.T, name, text string, args ...string) (result, string) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	r := run(t, dir, append([]string{"filter", "--site", "https://ternrock.example", name, "out"}, args...)...)
	b, err := os.ReadFile(filepath.Join(dir, "out"))
	if err != nil {
		return r, ""
	}
	return r, string(b)
}

const posts = "CREATE TABLE `m_posts` (`ID` int, `post_author` int, `post_date` text, `post_date_gmt` text, `post_content` longtext, `post_title` text, `post_excerpt` text, `post_status` text, `comment_status` text, `ping_status` text, `post_password` text, `post_name` text, `to_ping` text, `pinged` text, `post_modified` text, `post_modified_gmt` text, `post_content_filtered` text, `post_parent` int, `guid` varchar(255), `menu_order` int, `post_type` text, `post_mime_type` text, `comment_count` int);\n"

// What is no dump is refused, with a word what it is; what is one is never taken for something else.
func TestFilterRecognises(t *testing.T) {
	for _, c := range []struct {
		what, name, text string
		args             []string
		code             int
		say              string
	}{
		{"CSV", "a.csv", "\"id\",\"value\"\n\"1\",\"a:1:{i:0;s:23:\"\"http://ternrock.example\"\";}\"\n", nil, 2, "a table of values"},
		{"CSV with semicolons", "a.csv", "id;value\n1;http://ternrock.example\n2;x\n", nil, 2, "a table of values"},
		{"one line of CSV", "a.csv", "\"1\",\"http://ternrock.example\"\n", nil, 2, "a table of values"},
		{"tabs", "a.txt", "1\thttp://ternrock.example\t\\N\n2\tx\ty\n", nil, 2, "a table of values"},
		{"XML", "a.xml", "<?xml version=\"1.0\"?>\n<database><field>http://ternrock.example</field></database>\n", nil, 2, "an export as XML"},
		{"PHP", "a.php", "<?php\n$t = array(array('v' => 'http://ternrock.example'));\n", nil, 2, "an export as PHP arrays"},
		{"JSON of tables", "a.json", "[\n{\"type\":\"header\",\"version\":\"5\"},\n{\"type\":\"table\",\"data\":[{\"v\":\"http://ternrock.example\"}]}\n]\n", nil, 2, "an export as JSON"},
		{"JSON, a row a line", "a.json", "{\"v\":\"http://ternrock.example\"}\n{\"v\":\"x\"}\n", nil, 2, "an export as JSON"},
		{"YAML", "a.yml", "%YAML 1.1\n---\n- v: http://ternrock.example\n", nil, 2, "an export as YAML"},
		{"the second half of a dump", "b.sql", "text http://ternrock.example'),\n(2,'x');\nINSERT INTO `m_posts` VALUES (3,'http://ternrock.example');\n", nil, 2, "give all parts, in order"},
		{"rows without tables", "b.sql", "INSERT INTO `t` VALUES (1,'http://ternrock.example');\n", nil, 2, "does not define these tables"},
		{"the same, by consent", "b.sql", "INSERT INTO `t` VALUES (1,'http://ternrock.example');\n", []string{"--rows-only"}, 0, "1 reference in 1 cell"},
		{"several lines of something", "b.txt", "see http://ternrock.example\nand more\n", nil, 2, "has more than one line"},
		{"the same, said to be a value", "b.txt", "see http://ternrock.example\nand more\n", []string{"--as", "value"}, 0, "One value"},
		{"no telling whose", "b.sql", "CREATE TABLE t (a text);\nINSERT INTO t VALUES ('a\\'),(1);\n", nil, 2, "--dialect mysql"},
		{"told", "b.sql", "CREATE TABLE t (a text);\nINSERT INTO t VALUES ('http://ternrock.example\\');\n", []string{"--dialect", "sqlite"}, 0, "1 reference"},
		{"the same in all", "b.sql", "CREATE TABLE t (a text);\nINSERT INTO t VALUES ('http://ternrock.example');\n", nil, 0, "1 reference"},
		{"another site's", "c.sql", posts + "CREATE TABLE `m_postmeta` (`meta_id` int, `post_id` int, `meta_key` text, `meta_value` text);\nCREATE TABLE `m_options` (`option_id` int, `option_name` text, `option_value` text, `autoload` text);\nINSERT INTO `m_options` VALUES (1,'home','http://beacon.example','yes');\n", nil, 2, "its address is beacon.example"},
		{"nothing of the site", "c.sql", "CREATE TABLE `t` (a text);\nINSERT INTO `t` VALUES ('http://beacon.example/a'),('http://beacon.example/b');\n", nil, 1, "never speaks of ternrock.example, but of beacon.example"},
		{"an own system in no file", "c.sql", posts, []string{"--system", "nothing.yaml"}, 2, "nothing.yaml"},
	} {
		t.Run(c.what, func(t *testing.T) {
			r, out := filtered(t, c.name, c.text, c.args...)
			assert.Equal(t, c.code, r.code, r.errs)
			assert.Contains(t, strings.Join(strings.Fields(r.errs), " "), c.say)
			assert.Equal(t, c.code == 2, out == "", "nothing is written where it is refused")
			if c.code == 2 {
				assert.Contains(t, r.errs, "What to do: ")
			}
		})
	}
}

// Rows are changed as those of a database would be: within their columns, never to values of a unique key
// that are there, never in a permanent identifier.
func TestFilterChecksRows(t *testing.T) {
	for _, c := range []struct{ what, in, want, say string }{
		{"fixed values", "CREATE TABLE `t` (`a` enum('http://ternrock.example','b'));\nINSERT INTO `t` VALUES ('http://ternrock.example');\n", "", "lists or fixed values"},
		{"a short column", "CREATE TABLE `t` (`a` varchar(23));\nINSERT INTO `t` VALUES ('http://ternrock.example');\n", "", "outgrow their column"},
		{"a unique key", "CREATE TABLE `t` (`a` varchar(90), `b` text, UNIQUE KEY `k` (`a`));\nINSERT INTO `t` VALUES ('http://ternrock.example','http://ternrock.example'),('https://ternrock.example','');\n",
			"('http://ternrock.example','https://ternrock.example')", "unique index"},
		{"a unique key that comes last", "CREATE TABLE `t` (`a` varchar(90));\nINSERT INTO `t` VALUES ('https://TERNROCK.example'),('http://ternrock.example');\nALTER TABLE `t` ADD PRIMARY KEY (`a`);\n", "", "unique index"},
		{"a key of two columns", "CREATE TABLE `t` (`a` varchar(90), `n` int, PRIMARY KEY (`a`,`n`));\nINSERT INTO `t` VALUES ('https://ternrock.example',1),('http://ternrock.example',2);\n", "('https://ternrock.example',2)", "1 reference in 1 cell"},
		{"two keys that become one", "CREATE TABLE `t` (`a` varchar(90) PRIMARY KEY);\nINSERT INTO `t` VALUES ('http://ternrock.example/'),('http://ternrock.example:80/');\n", "('https://ternrock.example/'),('http://ternrock.example:80/')", "unique index"},
		{"two schemas", "CREATE TABLE `one`.`t` (`a` varchar(23));\nCREATE TABLE `two`.`t` (`a` text);\nINSERT INTO `one`.`t` VALUES ('http://ternrock.example');\nINSERT INTO `two`.`t` VALUES ('http://ternrock.example');\n",
			"INSERT INTO `one`.`t` VALUES ('http://ternrock.example');\nINSERT INTO `two`.`t` VALUES ('https://ternrock.example');", "outgrow their column"},
		{"a table that is only called so", "CREATE TABLE `yoga_posts` (`id` int, `guid` text);\nINSERT INTO `yoga_posts` VALUES (1,'http://ternrock.example');\n", "(1,'https://ternrock.example')", "1 reference in 1 cell"},
		{"one table of the system", posts + "INSERT INTO `m_posts` VALUES (1,1,'','','http://ternrock.example','','','','','','','','','','','','',0,'http://ternrock.example/?p=1',0,'post','',0);\n", "'https://ternrock.example','','','','','','','','','','','','',0,'http://ternrock.example/?p=1'", "permanent identifiers"},
		{"a latin1 dump", "/*!40101 SET NAMES latin1 */;\nCREATE TABLE `t` (`a` text) CHARSET=utf8mb4;\nINSERT INTO `t` VALUES ('a:1:{i:0;s:29:\"http://ternrock.example caf\xe9\";}');\n", "s:30:\"https://ternrock.example caf\xe9\"", "1 reference in 1 cell"},
		{"a length in binary that another charset hides", "/*!40101 SET NAMES utf8mb4 */;\nCREATE TABLE `t` (`a` text) CHARSET=utf8mb4;\nINSERT INTO `t` VALUES ('\\Z$a$café %_http://ternrock.example/a ');\n", "%_http://ternrock.example/a ", "0 references"},
		{"a latin1 table", "/*!40101 SET NAMES utf8mb4 */;\nCREATE TABLE `t` (`a` text) CHARSET=latin1;\nINSERT INTO `t` VALUES ('a:1:{i:0;s:28:\"http://ternrock.example café\";}');\n", "s:29:\"https://ternrock.example café\"", "1 reference in 1 cell"},
		{"a gbk dump", "/*!40101 SET NAMES gbk */;\nCREATE TABLE `t` (`a` text);\nINSERT INTO `t` VALUES ('\x81\x5c http://ternrock.example');\n", "'\x81\x5c https://ternrock.example'", "1 reference in 1 cell"},
		{"a wrong value", "CREATE TABLE `t` (`a` text);\n\nINSERT INTO `t` VALUES\n(1),\n('a:1:{i:0;s:99:\"http://ternrock.example\";}');\n", "", "5 t.a"},
		{"code", "CREATE TABLE `t` (`a` text);\nCREATE VIEW `v` AS SELECT 'http://ternrock.example' AS `a`;\n", "", "change with --code"},
		{"a comment", "-- of http://ternrock.example\nCREATE TABLE `t` (`a` text);\nINSERT INTO `t` VALUES ('x');\n", "", "in comments of the dump"},
	} {
		t.Run(c.what, func(t *testing.T) {
			r, out := filtered(t, "in.sql", c.in, "--dialect", "mysql")
			assert.Contains(t, []int{0, 1}, r.code, r.errs)
			assert.Contains(t, strings.Join(strings.Fields(r.errs), " "), c.say)
			if c.want == "" {
				c.want = c.in
			}
			assert.Contains(t, out, c.want)
		})
	}
	_, out := filtered(t, "in.sql", "CREATE TABLE `t` (`a` text);\nCREATE VIEW `v` AS SELECT 'http://ternrock.example' AS `a`;\n", "--dialect", "mysql", "--code")
	assert.Contains(t, out, "SELECT 'https://ternrock.example'")
	// Rows alone, of a table whose columns only the system's description knows.
	values := "1,1,'','','http://ternrock.example','','','','','','','','','','','','',0,'http://ternrock.example/?p=1',0,'post','',0"
	r, out := filtered(t, "in.sql", "INSERT INTO `m_posts` VALUES ("+values+");\n", "--dialect", "mysql", "--rows-only")
	assert.Equal(t, 0, r.code, r.errs)
	assert.Contains(t, out, "'http://ternrock.example/?p=1'")
	assert.Contains(t, out, "'https://ternrock.example'")
}

// An output is what its name says: a file that is replaced when all is there, keeping its mode; what a link leads
// to; a pipe or a device, written to.
func TestFilterOutputs(t *testing.T) {
	dir := t.TempDir()
	in := "CREATE TABLE `t` (`a` text);\nINSERT INTO `t` VALUES ('http://ternrock.example');\n"
	want := strings.ReplaceAll(in, "http:", "https:")
	write := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), mode))
		require.NoError(t, os.Chmod(path, mode))
		return path
	}
	write("in.sql", in, 0o600)
	to := func(name string, args ...string) {
		t.Helper()
		r := run(t, dir, append([]string{"filter", "--quiet", "--site", "https://ternrock.example", "in.sql", name}, args...)...)
		require.Equal(t, 0, r.code, r.errs)
	}
	read := func(name string) string {
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(b)
	}
	write("old.sql", "old", 0o640)
	write("old.sql.part", "the user's own", 0o600)
	to("old.sql")
	info, err := os.Stat(filepath.Join(dir, "old.sql"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode())
	assert.Equal(t, want, read("old.sql"))
	assert.Equal(t, "the user's own", read("old.sql.part"))

	write("target.sql", "old", 0o600)
	require.NoError(t, os.Symlink("target.sql", filepath.Join(dir, "link.sql")))
	to("link.sql")
	info, err = os.Lstat(filepath.Join(dir, "link.sql"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink)
	assert.Equal(t, want, read("target.sql"))

	pipe := filepath.Join(dir, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	got := make(chan string)
	go func() {
		b, err := os.ReadFile(pipe)
		got <- fmt.Sprint(string(b), err)
	}()
	to("pipe")
	assert.Equal(t, want+"<nil>", <-got)
	info, err = os.Lstat(pipe)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeNamedPipe)

	to("packed.sql.gz")
	f, err := os.Open(filepath.Join(dir, "packed.sql.gz"))
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	b, err := io.ReadAll(z)
	require.NoError(t, err)
	assert.Equal(t, want, string(b))

	// A dump in parts, cut in the middle of a row, is read and written as one.
	write("1.sql", in[:50], 0o600)
	write("2.sql", in[50:], 0o600)
	require.Equal(t, 0, run(t, dir, "filter", "--quiet", "--site", "https://ternrock.example", "1.sql", "joined.sql", "--part", "2.sql").code)
	assert.Equal(t, want, read("joined.sql"))
	assert.Equal(t, 2, run(t, dir, "filter", "--quiet", "--site", "https://ternrock.example", "1.sql", "joined.sql", "--part", "no.sql").code)
	assert.Equal(t, want, read("joined.sql"))
}

// Every command of the page for people who have only a panel is run.
func TestDumpsPage(t *testing.T) {
	b, err := os.ReadFile("../../docs/dumps.md")
	require.NoError(t, err)
	dir := t.TempDir()
	text := "-- MariaDB dump 10.19\nDROP TABLE IF EXISTS `tr_posts`;\n" + strings.Replace(strings.ReplaceAll(posts, "m_posts", "tr_posts"), "`ID` int", "`ID` int PRIMARY KEY", 1) +
		"INSERT INTO `tr_posts` (`ID`,`post_title`,`post_content`) VALUES\n(1,'Visit','<img src=\\\"http://ternrock.example/a.png\\\">');\n-- Dump completed\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "museum.sql"), []byte(text), 0o600))
	ran := 0
	for _, block := range strings.Split(string(b), "```sh\n")[1:] {
		block, _, _ = strings.Cut(block, "```")
		for line := range strings.Lines(block) {
			line, _, _ = strings.Cut(strings.TrimSpace(line), "  #")
			words := strings.Fields(line)
			if len(words) > 0 && words[1] != "switch" { // which TestSwitchExported walks
				require.Equal(t, "trimlantern", words[0])
				code := 0
				if slices.Contains([]string{"status", "trace"}, words[1]) { // there is something to do
					code = 1
				}
				want(t, code, dir, append(words[1:], map[string][]string{"preview": {"--offline"}}[words[1]]...)...)
				ran++
			}
		}
	}
	assert.Equal(t, 7, ran)
	secure := strings.ReplaceAll(text, "http:", "https:")
	for _, name := range []string{"museum-https.sql"} {
		got, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, secure, string(got))
	}
	patch, err := os.ReadFile(filepath.Join(dir, "patch.sql"))
	require.NoError(t, err)
	assert.Contains(t, string(patch), "UPDATE `tr_posts` SET `post_content` = INSERT(`post_content`, 15, 0, 's') WHERE `ID` = 1 AND SHA2(")
	assert.FileExists(t, filepath.Join(dir, "patch.back.sql"))
	// A patch never takes the place of a file that is there; a pipe cannot be read again, so nothing is called so.
	assert.Contains(t, want(t, 2, dir, "apply", "--patch", "patch.sql").errs, "already exists")
	again, err := os.ReadFile(filepath.Join(dir, "patch.sql"))
	require.NoError(t, err)
	assert.Equal(t, string(patch), string(again))
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	piped := make(chan string)
	go func() {
		b, _ := os.ReadFile(filepath.Join(dir, "pipe")) // what came is looked at
		piped <- string(b)
	}()
	r := want(t, 0, dir, "apply", "--write", "pipe")
	assert.Equal(t, secure, <-piped)
	assert.NotContains(t, r.out, "Read again")
	// In place a dump is never changed, and one that changed since is refused.
	assert.Contains(t, want(t, 2, dir, "apply").errs, "apply --write FILE")
	assert.Contains(t, want(t, 2, dir, "undo").errs, "never changed in place")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "museum.sql"), []byte(strings.ReplaceAll(text, "Visit", "Visits")), 0o600))
	assert.Contains(t, want(t, 2, dir, "apply", "--write", "other.sql").errs, "is of another database")
	assert.NoFileExists(t, filepath.Join(dir, "other.sql"))
}

// A dump that a program began, and that does not end as the program ends one, is filtered, and that is said.
func TestFilterCutOff(t *testing.T) {
	const rest = "CREATE TABLE `t` (`a` text);\nINSERT INTO `t` VALUES ('http://ternrock.example');\n"
	for begin, end := range map[string]string{"-- MariaDB dump 10.19\n": "-- Dump completed on 2026-11-26\n", "": ""} {
		r, _ := filtered(t, "in.sql", begin+rest+end, "--dialect", "mysql")
		assert.NotContains(t, r.errs, "complete, as its program does", begin)
		assert.Equal(t, 0, r.code)
		if begin != "" {
			r, _ = filtered(t, "in.sql", begin+rest, "--dialect", "mysql")
			assert.Contains(t, strings.Join(strings.Fields(r.errs), " "), "does not say at its end that it is complete")
			assert.Equal(t, 1, r.code)
		}
	}
}

// A trigger that runs when the patch is loaded is named; one of a table that stays is not.
func TestPatchNamesTriggers(t *testing.T) {
	dir := t.TempDir()
	script := "-- MariaDB dump 10.19\nCREATE TABLE `pages` (`id` int NOT NULL, `body` text, PRIMARY KEY (`id`)) DEFAULT CHARSET=utf8mb4;\nINSERT INTO `pages` VALUES (1,'http://ternrock.example/');\n" +
		"CREATE TABLE `log` (`id` int NOT NULL, `what` text, PRIMARY KEY (`id`)) DEFAULT CHARSET=utf8mb4;\nDELIMITER ;;\n" +
		"/*!50003 CREATE*/ /*!50017 DEFINER=`root`@`localhost`*/ /*!50003 TRIGGER `keep_log` AFTER UPDATE ON `pages` FOR EACH ROW BEGIN INSERT INTO log VALUES (1,'x'); END */;;\n" +
		"/*!50003 CREATE*/ /*!50003 TRIGGER `no_edit` BEFORE UPDATE ON `log` FOR EACH ROW SET NEW.id = OLD.id */;;\nDELIMITER ;\n-- Dump completed\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "museum.sql"), []byte(script), 0o600))
	want(t, 0, dir, "init", "--here", "--site", "https://ternrock.example", "--database", "dump:museum.sql")
	want(t, 0, dir, "preview", "--offline")
	r := want(t, 0, dir, "apply", "--patch", "patch.sql")
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "), "Triggers run when the patch is loaded, on pages: keep_log.")
	assert.NotContains(t, r.out, "no_edit")
	assert.NotContains(t, want(t, 0, dir, "apply", "--write", "new.sql").out, "keep_log", "a dump has its triggers behind its rows")
}
