package program

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The tables of the system, as its own dumps have them.
const dumpTables = "CREATE TABLE `m_posts` (\n  `ID` bigint unsigned NOT NULL,\n  `post_author` longtext,\n  `post_date` longtext,\n  `post_date_gmt` longtext,\n  `post_content` longtext,\n  `post_title` longtext,\n  `post_excerpt` longtext,\n  `post_status` longtext,\n  `comment_status` longtext,\n  `ping_status` longtext,\n  `post_password` longtext,\n  `post_name` longtext,\n  `to_ping` longtext,\n  `pinged` longtext,\n  `post_modified` longtext,\n  `post_modified_gmt` longtext,\n  `post_content_filtered` longtext,\n  `post_parent` longtext,\n  `guid` varchar(255),\n  `menu_order` longtext,\n  `post_type` longtext,\n  `post_mime_type` longtext,\n  `comment_count` bigint\n);\n" + "CREATE TABLE `m_options` (`option_id` int, `option_name` varchar(191), `option_value` longtext, `autoload` varchar(20));\n"

const dumpText = "-- MariaDB dump 10.19  Distrib 10.11\n" + dumpTables +
	"INSERT INTO `m_posts` (`ID`,`post_title`,`post_content`,`guid`) VALUES\n(1,'Visit','a:1:{i:0;s:23:\\\"http://ternrock.example\\\";}','http://ternrock.example/?p=1'),\n(2,'Lamp','it\\'s http://ternrock.example:80/','http://ternrock.example/?p=2');\n" +
	"INSERT INTO `m_options` VALUES (1,'_transient_x','http://ternrock.example','yes'),(2,'home','http://ternrock.example','yes');\n-- Dump completed\n"

const dumpWant = "-- MariaDB dump 10.19  Distrib 10.11\n" + dumpTables +
	"INSERT INTO `m_posts` (`ID`,`post_title`,`post_content`,`guid`) VALUES\n(1,'Visit','a:1:{i:0;s:24:\\\"https://ternrock.example\\\";}','http://ternrock.example/?p=1'),\n(2,'Lamp','it\\'s https://ternrock.example/','http://ternrock.example/?p=2');\n" +
	"INSERT INTO `m_options` VALUES (1,'_transient_x','http://ternrock.example','yes'),(2,'home','https://ternrock.example','yes');\n-- Dump completed\n"

// pipe runs filter with something on standard input.
func pipe(t testing.TB, in string, args ...string) result {
	t.Helper()
	c := exec.Command(program, append([]string{"filter", "--site", "https://ternrock.example"}, args...)...)
	var out, errs bytes.Buffer
	c.Stdin, c.Stdout, c.Stderr = strings.NewReader(in), &out, &errs
	_ = c.Run() // its exit code is looked at
	return result{c.ProcessState.ExitCode(), out.String(), errs.String()}
}

func TestFilter(t *testing.T) {
	r := pipe(t, dumpText)
	assert.Equal(t, 0, r.code, r.errs)
	assert.Equal(t, dumpWant, r.out)
	assert.Contains(t, r.errs, "3 references in 3 cells secure now")
	assert.Contains(t, r.errs, "2  left: permanent identifiers")
	assert.Contains(t, r.errs, "1  left: cached copies")

	dir := t.TempDir()
	path := func(name string) string { return filepath.Join(dir, name) }
	var gz bytes.Buffer
	z := gzip.NewWriter(&gz)
	_, err := z.Write([]byte(dumpText))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(path("in.gz"), gz.Bytes(), 0o600))
	want(t, 0, dir, "filter", "--site", "https://ternrock.example", "--summary", "sum.json", "in.gz", "out.zst")
	packed, err := os.ReadFile(path("out.zst"))
	require.NoError(t, err)
	unpack, err := zstd.NewReader(nil)
	require.NoError(t, err)
	plain, err := unpack.DecodeAll(packed, nil)
	require.NoError(t, err)
	assert.Equal(t, dumpWant, string(plain))
	want(t, 0, dir, "filter", "--quiet", "--site", "https://ternrock.example", "out.zst", "again.gz")
	f, err := os.Open(path("again.gz"))
	require.NoError(t, err)
	defer f.Close()
	g, err := gzip.NewReader(f)
	require.NoError(t, err)
	plain, err = io.ReadAll(g)
	require.NoError(t, err)
	assert.Equal(t, dumpWant, string(plain), "twice is once")
	var summary struct {
		References int
		Tables     []struct{ Table string }
		Left       map[string]int
	}
	b, err := os.ReadFile(path("sum.json"))
	require.NoError(t, err)
	decode(t, result{out: string(b)}, &summary)
	assert.Equal(t, 3, summary.References)
	assert.Len(t, summary.Tables, 2)
	assert.Equal(t, 2, summary.Left["identifier"])
}

func TestFilterValue(t *testing.T) {
	r := pipe(t, `a:1:{i:0;s:23:"http://ternrock.example";}`)
	assert.Equal(t, `a:1:{i:0;s:24:"https://ternrock.example";}`, r.out)
	assert.Equal(t, 0, r.code)
	r = pipe(t, "INSERT INTO `t` VALUES ('http://ternrock.example');", "--as", "value", "--quiet")
	assert.Equal(t, "INSERT INTO `t` VALUES ('https://ternrock.example');", r.out)
	assert.Empty(t, r.errs)
	r = pipe(t, "<img src=\"http://tides.example/x.png\">", "--format", "json")
	assert.Equal(t, 1, r.code, "something needs a person")
	assert.Contains(t, r.errs, `"no-verdict": 1`)
}

func TestFilterBadInput(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("cut.sql", dumpText[:strings.Index(dumpText, "it\\'s")+5])
	write("other.sql", "EXPORT TABLE x TO y;\n")
	write("rubbish", "\x7fELF\x00\x01\xff\xfe"+strings.Repeat("\x00\xf0", 100))
	write("empty", " \n")
	write("torn.gz", "\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\xff\x01\x02")
	write("whole.sql", dumpText)
	for _, c := range []struct {
		why, in, say string
		code         int
	}{
		{"cut off inside a string", "cut.sql", "the dump is cut off inside a row of table m_posts", 2},
		{"an unknown dialect", "other.sql", "this is no SQL dump of", 2},
		{"rubbish", "rubbish", "neither a dump nor text", 2},
		{"empty", "empty", "is empty", 2},
		{"a torn archive", "torn.gz", "cannot be unpacked", 2},
		{"not there", "nothing.sql", "there is no file nothing.sql", 2},
	} {
		r := want(t, c.code, dir, "filter", "--site", "https://ternrock.example", c.in, "out.sql")
		assert.Contains(t, r.errs, c.say, c.why)
		assert.Contains(t, r.errs, "What to do: ", c.why)
		assert.NoFileExists(t, filepath.Join(dir, "out.sql"), c.why)
		assert.NoFileExists(t, filepath.Join(dir, "out.sql.part"), c.why)
	}
	r := want(t, 2, dir, "filter", "--site", "https://ternrock.example", "whole.sql", "whole.sql")
	assert.Contains(t, r.errs, "input and output are the same file")
	b, err := os.ReadFile(filepath.Join(dir, "whole.sql"))
	require.NoError(t, err)
	assert.Equal(t, dumpText, string(b))
	assert.Contains(t, want(t, 2, dir, "filter", "whole.sql").errs, "the site's address is empty")
	assert.Contains(t, want(t, 2, dir, "filter", "--site", "https://ternrock.example", "--as", "csv", "whole.sql").errs, "write dump or value")

	assert.Contains(t, want(t, 2, dir, "filter", "--site", "https://ternrock.example", "--largest-row", "0", "whole.sql").errs, "from 1 to 1024")

	// A disk that is full, and a reader that goes away.
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	c := exec.Command(program, "filter", "--quiet", "--site", "https://ternrock.example", filepath.Join(dir, "whole.sql"))
	var errs bytes.Buffer
	c.Stdout, c.Stderr = full, &errs
	_ = c.Run() // its exit code is asserted
	assert.Equal(t, 3, c.ProcessState.ExitCode())
	assert.Contains(t, errs.String(), "no space left on device")
	assert.Contains(t, errs.String(), "incomplete: delete it")

	from, to, err := os.Pipe()
	require.NoError(t, err)
	require.NoError(t, from.Close())
	c = exec.Command(program, "filter", "--quiet", "--site", "https://ternrock.example", filepath.Join(dir, "whole.sql"))
	errs.Reset()
	c.Stdout, c.Stderr = to, &errs
	_ = c.Run() // the same
	require.NoError(t, to.Close())
	assert.Equal(t, 3, c.ProcessState.ExitCode())
	assert.Contains(t, errs.String(), "the reader of the output has gone")
}

// One row may be long: it takes a few times its size of memory, up to a limit that
// the user can raise.
func TestFilterLargeRow(t *testing.T) {
	dir := t.TempDir()
	in := "CREATE TABLE `t` (`a` longtext);\nINSERT INTO `t` VALUES ('" + strings.Repeat(`<a href=\"http://ternrock.example/news/page\">x</a> `, 400_000) + "');\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "long.sql"), []byte(in), 0o600))
	assert.Contains(t, want(t, 2, dir, "filter", "--site", "https://ternrock.example", "--largest-row", "8", "long.sql", "out.sql").errs, "allow it with --largest-row 32")
	assert.Contains(t, want(t, 2, dir, "filter", "--site", "https://ternrock.example", "long.sql", "out.sql").errs, "allow it with --largest-row 64")
	c := exec.Command(program, "filter", "--site", "https://ternrock.example", "--largest-row", "20", "long.sql", "out.sql")
	c.Dir, c.Env = dir, environment(dir)
	require.NoError(t, c.Run())
	t.Logf("a row of %d MB: peak %d MB", len(in)>>20, peakMB(c.ProcessState.SysUsage()))
	assert.Less(t, peakMB(c.ProcessState.SysUsage()), int64(170), "usually 87; up to 130 where the machine is busy")
	out, err := os.ReadFile(filepath.Join(dir, "out.sql"))
	require.NoError(t, err)
	assert.True(t, strings.ReplaceAll(in, "http:", "https:") == string(out))
}

func TestMend(t *testing.T) {
	dir := bare(t, 3)
	path := filepath.Join(dir, "site.db")
	db := open(t, path)
	_, err := db.Exec(`INSERT INTO m_options VALUES (3, 'broken', 'a:1:{s:1:"u";s:23:"https://ternrock.example";}'), (4, 'hopeless', 'a:2:{s:1:"u";s:23:"https://ternrock.example";}')`)
	require.NoError(t, err)
	before := dump(t, path)
	r := want(t, 0, dir, "mend")
	assert.Contains(t, r.out, "setting broken")
	assert.Contains(t, r.out, "setting hopeless")
	assert.Contains(t, r.out, "no lengths make it sound")
	assert.Equal(t, before, dump(t, path))
	want(t, 0, dir, "apply") // one is left
	var v string
	require.NoError(t, db.QueryRow(`SELECT option_value FROM m_options WHERE option_id = 3`).Scan(&v))
	assert.Equal(t, `a:1:{s:1:"u";s:24:"https://ternrock.example";}`, v)
	want(t, 0, dir, "undo")
	assert.Equal(t, before, dump(t, path))
}

// A dump that is a file says which other sites belong to the network; each stays at its own address.
func TestFilterLearnsSisters(t *testing.T) {
	const text = "-- MariaDB dump 10.19\nCREATE TABLE `wp_2_posts` (\n  `ID` bigint(20) NOT NULL,\n  `post_content` longtext,\n  PRIMARY KEY (`ID`)\n);\nINSERT INTO `wp_2_posts` VALUES\n(1,'http://shop.ternrock.example/a'),\n(2,'http://other.ternrock.example/b http://beacon.example/c');\n" +
		"CREATE TABLE `wp_blogs` (\n  `blog_id` bigint(20) NOT NULL,\n  `site_id` bigint,\n  `domain` varchar(200),\n  `path` varchar(100),\n  `registered` datetime, `last_updated` datetime, `public` tinyint, `archived` tinyint, `mature` tinyint, `spam` tinyint, `deleted` tinyint, `lang_id` int,\n  PRIMARY KEY (`blog_id`)\n);\nINSERT INTO `wp_blogs` (`blog_id`,`domain`,`path`) VALUES\n(1,'ternrock.example','/'),\n(2,'shop.ternrock.example','/'),\n(3,'beacon.example','/');\n"
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "network.sql"), []byte(text), 0o600))
	r := run(t, dir, "filter", "--site", "https://ternrock.example", "network.sql", "out.sql")
	assert.Contains(t, r.out+r.errs, "With its sister sites: https://beacon.example, https://shop.ternrock.example.")
	b, err := os.ReadFile(filepath.Join(dir, "out.sql"))
	require.NoError(t, err)
	secure := strings.NewReplacer("http://shop", "https://shop", "http://beacon", "https://beacon").Replace(text)
	assert.Equal(t, secure, string(b))
	// Of another site, the list says nothing.
	run(t, dir, "filter", "--site", "https://elsewhere.example", "network.sql", "same.sql")
	b, err = os.ReadFile(filepath.Join(dir, "same.sql"))
	require.NoError(t, err)
	assert.Equal(t, text, string(b))
	run(t, dir, "filter", "--site", "https://ternrock.example", "--sister", "https://shop.ternrock.example", "--sister", "https://beacon.example", "--as", "dump", "network.sql", "named.sql")
	b, err = os.ReadFile(filepath.Join(dir, "named.sql"))
	require.NoError(t, err)
	assert.Equal(t, secure, string(b))
}
