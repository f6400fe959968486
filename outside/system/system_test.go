package system

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPHPSettings(t *testing.T) {
	got := phpSettings(`before define('OUT', 'side');
<?php
// define('A', 'comment');
# define('A', 'comment'); ?> between <?php
/* define('A', 'comment'); */
define( 'A', 'it\'s "here" \n' );
define("B", "tab\there \$x \\");
Define ( 'C' , 3306 ) ;
\define('D', true, false);
define('A', 'second');
define('E', getenv('E'));
define('F', 'a' . 'b');
const G = 'const';
$table_prefix  =  'tr_';
$later = 'one'; $later = 'two';
$text = <<<'END'
define('H', 'in a text');
END;
#[Attribute]
define('I', 'behind an attribute');
define('broken', 'no end
`)
	want := map[string]string{"A": `it's "here" \n`, "B": "tab\there $x \\", "C": "3306", "D": "true", "F": "ab", "G": "const",
		"$table_prefix": "tr_", "$later": "two", "I": "behind an attribute"}
	for k, v := range got {
		if v.How == Literally {
			assert.Equal(t, want[k], v.Value, k)
			delete(want, k)
		}
	}
	assert.Empty(t, want)
	assert.Equal(t, Computed, got["E"].How)
	assert.Equal(t, 6, got["A"].Line)
}

// phpSettings reads a configuration of one file.
func phpSettings(src string) map[string]Setting {
	p := &phpReader{set: map[string]Setting{}, end: "start.php", names: map[string]string{"/srv/config.php": "config.php"}}
	p.file("/srv/config.php", src, false)
	return p.set
}

// What only running a configuration would tell is said, and never guessed.
func TestPHPConditions(t *testing.T) {
	for src, want := range map[string]Setting{
		`define('A', 'x');`:                                                        {"x", Literally, "", 1},
		`define('A', "http://$host");`:                                             {"http://", Computed, "", 1},
		`define('A', "http://{$_SERVER['HTTP_HOST']}/x");`:                         {"http://", Computed, "", 1},
		`define('A', 'http://' . $_SERVER['HTTP_HOST']);`:                          {"http://", Computed, "", 1},
		`define('A', $_SERVER['HTTP_HOST'] . 'x');`:                                {"", Computed, "", 1},
		`define('A', getenv('A') ?: 'http://fallback');`:                           {"", Computed, "", 1},
		`define('A', getenv_or('A', 'http://fallback'));`:                          {"", Computed, "", 1},
		`define('A', $set ? 'x' : 'y');`:                                           {"", Computed, "", 1},
		`define('B', 'http://'); define('A', B . 'ternrock.example');`:             {"http://ternrock.example", Literally, "", 1},
		`$b = 'http://'; define('A', $b . 'x' . '/y');`:                            {"http://x/y", Literally, "", 1},
		`define('A', ('x' . 'y'));`:                                                {"xy", Literally, "", 1},
		`define('A', dirname(__DIR__) . '/x');`:                                    {"//x", Literally, "", 1},
		`define('A', __DIR__ . '/x');`:                                             {"/srv/x", Literally, "", 1},
		`if (!defined('A')) { define('A', 'x'); }`:                                 {"x", Literally, "", 1},
		`if ( ! defined( 'A' ) ) define( 'A', 'x' );`:                              {"x", Literally, "", 1},
		`defined('A') or define('A', 'x');`:                                        {"x", Literally, "", 1},
		`defined('A') || define('A', 'x');`:                                        {"x", Literally, "", 1},
		`defined('B') && define('A', 'x');`:                                        {"x", Conditionally, "", 1},
		`if (!defined('B')) { define('A', 'x'); }`:                                 {"x", Conditionally, "", 1},
		`if ($a) define('A', 'x');`:                                                {"x", Conditionally, "", 1},
		`if ($a) $b = 1; define('A', 'x');`:                                        {"x", Literally, "", 1},
		`if ($a) { $b = 1; } define('A', 'x');`:                                    {"x", Literally, "", 1},
		`if ($a): define('A', 'x'); endif;`:                                        {"x", Conditionally, "", 1},
		`if ($a): $b = 1; else: $b = 2; endif; define('A', 'x');`:                  {"x", Literally, "", 1},
		`if ($a) { define('A', 'x'); } else { define('A', 'y'); }`:                 {"x", Conditionally, "", 1},
		`if ($a) { define('A', 'https://x'); } else { define('A', 'http://x'); }`:  {"http://x", Conditionally, "", 1},
		`if ($a) { $b = 1; } elseif ($c) define('A', 'y');`:                        {"y", Conditionally, "", 1},
		`if ($a) { if ($b) { $c = 1; } } define('A', 'x');`:                        {"x", Literally, "", 1},
		`if ($a) { define('A', 'x'); } if (!defined('A')) { define('A', 'y'); }`:   {"x", Conditionally, "", 1},
		`function f() { define('A', 'x'); }`:                                       {"x", Conditionally, "", 1},
		`function f($a = 'x'): string { return 'y'; } define('A', 'x');`:           {"x", Literally, "", 1},
		`$f = function () { return 1; }; define('A', 'x');`:                        {"x", Literally, "", 1},
		`switch ($h) { case 'a': define('A', 'x'); break; }`:                       {"x", Conditionally, "", 1},
		`foreach (['a'] as $v) { } define('A', 'x');`:                              {"x", Literally, "", 1},
		`try { define('A', 'x'); } catch (E $e) { }`:                               {"x", Conditionally, "", 1},
		`if ($a) { return; } define('A', 'x');`:                                    {"x", Literally, "", 1},
		`define('A', 'x'); require_once __DIR__ . '/start.php'; define('A', 'y');`: {"x", Literally, "", 1},
		`require_once B . 'start.php'; define('A', 'y');`:                          {},
		`return; define('A', 'y');`:                                                {},
		`include '/etc/' . $host . '.php'; if (!defined('A')) define('A', 'x');`:   {"x", Conditionally, "", 1},
		`include '/etc/' . $host . '.php'; define('A', 'x');`:                      {"x", Literally, "", 1},
		`?>define('A', 'side');<?php define('A', 'x');`:                            {"x", Literally, "", 1},
		"define('A', <<<X\nhttp://x\nX\n);":                                        {"", Computed, "", 1},
		`$x = ['a' => define('A', 'y')]; const B = 'q', A = 'x';`:                  {"y", Literally, "", 1},
	} {
		got := phpSettings("<?php " + src)["A"]
		got.File = ""
		assert.Equal(t, want, got, src)
	}
}

// A configuration may be split into several files.
func TestPHPIncludes(t *testing.T) {
	dir := t.TempDir()
	lay := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	main := lay("www/wp-config.php", "<?php\nrequire dirname(__FILE__) . '/../private/db.php';\nif (file_exists('local.php')) { include 'local.php'; }\n$table_prefix = 'tr_';\nrequire_once ABSPATH . 'wp-settings.php';\ndefine('LATE', 'x');")
	db := lay("private/db.php", "<?php define('DB_NAME', 'museum');\nrequire __FILE__;\nrequire '/no/such/file.php'; include 'no/such.php';")
	lay("www/local.php", "<?php define('WP_HOME', 'http://ternrock.example');")
	got, err := ReadPHP(main, "wp-settings.php")
	require.NoError(t, err)
	assert.Equal(t, Setting{"museum", Literally, db, 1}, got["DB_NAME"])
	assert.Equal(t, Conditionally, got["WP_HOME"].How)
	assert.Equal(t, "tr_", got["$table_prefix"].Value)
	assert.NotContains(t, got, "LATE")
	assert.Equal(t, 3, got[dark].Line, "what cannot be read may set anything")
}

func TestConnect(t *testing.T) {
	l, err := Get("wordpress")
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "wp-config.php")
	write := func(host string) {
		text := "<?php define('DB_NAME','museum'); define('DB_USER','keeper'); define('DB_PASSWORD','x'); define('DB_HOST','" + host + "');\ndefine('WP_HOME','http://ternrock.example'); $table_prefix='tr_';"
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	}
	for host, want := range map[string]Connection{
		"localhost":             {Host: "localhost"},
		"db.example:3307":       {Host: "db.example", Port: 3307},
		"localhost:/run/x.sock": {Socket: "/run/x.sock"},
		":/run/x.sock":          {Socket: "/run/x.sock"},
		"[::1]":                 {Host: "::1"},
		"[::1]:3307":            {Host: "::1", Port: 3307},
		"::1":                   {Host: "::1"},
		"h:3307:/run/x.sock":    {Socket: "/run/x.sock"},
	} {
		write(host)
		c, err := l.Config.Connect(file)
		require.NoError(t, err)
		assert.Equal(t, []any{want.Host, want.Port, want.Socket, "museum", "tr_"}, []any{c.Host, c.Port, c.Socket, c.Database, c.Prefix}, host)
		assert.Equal(t, Lock{"WP_HOME", Setting{"http://ternrock.example", Literally, file, 2}}, c.Locks["public"])
	}
	write("h:port")
	_, err = l.Config.Connect(file)
	assert.ErrorContains(t, err, `"port" is no port`)
	require.NoError(t, os.WriteFile(file, []byte("<?php // nothing"), 0o600))
	_, err = l.Config.Connect(file)
	assert.ErrorContains(t, err, "sets no DB_NAME")
}

func TestShipped(t *testing.T) {
	for _, name := range Names() {
		l, err := Get(name)
		require.NoError(t, err)
		assert.Equal(t, name, l.Name)
	}
	_, err := Get("none")
	assert.ErrorContains(t, err, "known are generic, wordpress")
	for text, say := range map[string]string{
		"":                     "the file is empty",
		"title: x":             "has no name",
		"name: x\ncolour: red": "the key colour is not known",
		"name: x\ntables: [t]\naddresses: [{name: a}]": "an address needs",
		"name: x\naddresses: [{name: a}]":              "names no tables",
		"name: x\ncaches: [{column: c}]":               "names no tables",
		"name: x\ntables: [t]\ncaches: [{column: c}]":  "a cache needs a table",
		"name: x\nsites: {table: t}":                   "sites needs table, id and host",
		"name: x\nconfig: {file: f, format: ini}":      "config needs file, format",
		"name: x\nhashes: [{value: v, hash: h}]":       "hashes needs value, hash, key",
	} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, say)
	}
}

func TestRules(t *testing.T) {
	l, err := Get("wordpress")
	require.NoError(t, err)
	assert.True(t, l.IsIdentifier("posts", "guid"))
	assert.False(t, l.IsIdentifier("posts", "post_content"))
	name := func(v string) func(string) string { return func(string) string { return v } }
	for _, c := range []struct {
		table, value string
		cached, safe bool
	}{
		{"options", "_site_transient_update", true, true}, {"options", "home", false, false}, {"posts", "_transient_x", false, false},
		{"postmeta", "_oembed_12", true, true}, {"sitemeta", "_site_transient_x", true, true},
	} {
		cached, safe := l.IsCache(c.table, name(c.value))
		assert.Equal(t, [2]bool{c.cached, c.safe}, [2]bool{cached, safe}, "%s %s", c.table, c.value)
	}
	assert.Equal(t, []string{"a_", "a_2_"}, l.Prefix([]string{"a_2_options", "a_2_posts", "a_2_postmeta", "a_options", "a_posts", "a_postmeta", "b_options", "b_posts"}))
	lb, ok := l.LabelOf("options")
	assert.True(t, ok)
	assert.Equal(t, "option_name", lb.Column)
}

// A key that nobody has set seals nothing.
func TestHashed(t *testing.T) {
	l, err := Get("wordpress")
	require.NoError(t, err)
	assert.Empty(t, l.Hashed(nil))
	for file, want := range map[string]string{
		`<?php define('DB_NAME', 'x'); define('AUTH_KEY', 'lamp'); define('AUTH_SALT', 'oil');`:                        "lampoil",
		`<?php define('DB_NAME', 'x'); define('AUTH_KEY', 'lamp');`:                                                    "",
		`<?php define('DB_NAME', 'x'); define('AUTH_KEY', 'put your unique phrase here'); define('AUTH_SALT', 'oil');`: "",
	} {
		path := filepath.Join(t.TempDir(), "wp-config.php")
		require.NoError(t, os.WriteFile(path, []byte(file), 0o600))
		conn, err := l.Config.Connect(path)
		require.NoError(t, err)
		hashed := l.Hashed(conn)
		if want == "" {
			assert.Empty(t, hashed)
			continue
		}
		require.Len(t, hashed, 1)
		assert.Equal(t, want, string(hashed[0].Key))
	}
}

func FuzzPHPSettings(f *testing.F) {
	f.Add("<?php define('A', \"b\\\"\"); $x = <<<A\nA; /* # ?>")
	f.Fuzz(func(_ *testing.T, s string) { phpSettings(s) })
}
