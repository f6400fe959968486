package layout

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
	values := map[string]string{}
	for k, v := range got {
		values[k] = v.Value
	}
	assert.Equal(t, map[string]string{"A": `it's "here" \n`, "B": "tab\there $x \\", "C": "3306", "D": "true", "G": "const",
		"$table_prefix": "tr_", "$later": "two", "I": "behind an attribute"}, values)
	assert.Equal(t, 6, got["A"].Line)
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
	} {
		write(host)
		c, err := l.Config.Connect(file)
		require.NoError(t, err)
		assert.Equal(t, []any{want.Host, want.Port, want.Socket, "museum", "tr_"}, []any{c.Host, c.Port, c.Socket, c.Database, c.Prefix}, host)
		assert.Equal(t, Lock{"WP_HOME", "http://ternrock.example", 2}, c.Locks["public"])
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
	assert.ErrorContains(t, err, "known are generic, settings, wordpress")
	for text, say := range map[string]string{
		"":                     "EOF",
		"title: x":             "has no name",
		"name: x\ncolour: red": "field colour not found",
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
