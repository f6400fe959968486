package program

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// shape is one way in which a system's configuration may be laid out below a folder, and what init makes of it.
type shape struct {
	what  string
	files map[string]string // SITE is the folder, DB the small database of a site
	args  []string
	code  int
	say   []string // ! in front: must not be there
}

const (
	usual  = "<?php\ndefine( 'DB_NAME', 'museum' );\ndefine( 'DB_USER', 'keeper' );\ndefine( 'DB_PASSWORD', 'a secret' );\ndefine( 'DB_HOST', 'localhost' );\n$table_prefix = 'tr_';\nrequire_once ABSPATH . 'wp-settings.php';\n"
	system = "<?php // the system begins\n"
)

// configured is the usual configuration with something in place of something else.
func configured(old, new string) string { return strings.Replace(usual, old, new, 1) }

// dropIn are the files of a system that a drop-in makes use an SQLite file.
func dropIn(config string, more ...string) map[string]string {
	files := map[string]string{"wp-config.php": config, "wp-settings.php": system, "wp-content/db.php": "<?php", "wp-content/database/.ht.sqlite": "DB", "wp-content/themes/rock/style.css": "", "wp-content/plugins/x/x.php": "<?php"}
	for i := 0; i+1 < len(more); i += 2 {
		files[more[i]] = more[i+1]
	}
	return files
}

func moved(files map[string]string, from, to string) map[string]string {
	files[to] = files[from]
	delete(files, from)
	return files
}

var shapes = []shape{
	{"the usual file, with a drop-in", dropIn(usual), nil, 0, []string{"site https://ternrock.example", `prefix "tr_"`, "which a drop-in of the system uses", "wp-content/themes", "http://ternrock.example public address"}},
	{"values in parts", dropIn(configured("'tr_'", "'t' . \"r\" . '_'")), nil, 0, []string{`prefix "tr_"`}},
	{"guards around every value", dropIn(configured("define( 'DB_NAME', 'museum' );", "defined('DB_NAME') || define('DB_NAME', 'museum'); if (!defined('WP_HOME')) { define('WP_HOME', 'https://ternrock.example'); }")), nil, 0, []string{"WP_HOME in wp-config.php, line 2"}},
	{"one folder up", moved(moved(dropIn(usual), "wp-config.php", "private.txt"), "private.txt", "../wp-config.php"), nil, 0, []string{"the system's folder", "wp-content/themes"}},
	{"one folder up, and the folder is named", map[string]string{"wp-config.php": usual, "web/wp-settings.php": system, "web/wp-content/db.php": "", "web/wp-content/database/.ht.sqlite": "DB", "web/wp-content/themes/a/b.css": ""}, nil, 0, []string{"the system's folder: web", "web/wp-content/themes"}},
	{"one folder up, where another system lies", map[string]string{"wp-config.php": usual, "wp-settings.php": system, "wp-content/db.php": "", "wp-content/database/.ht.sqlite": "DB", "old/wp-settings.php": system}, nil, 0, []string{"database: the SQLite file wp-content/database/.ht.sqlite"}},
	{"a copy lies about", dropIn(usual, "backup/wp-config.php", usual), nil, 0, []string{"not used: backup/wp-config.php"}},
	{"through a symbolic link", dropIn("", "link:wp-config.php", "real/config.php", "real/config.php", usual), nil, 0, []string{`prefix "tr_"`}},
	{"split in two", dropIn(configured("$table_prefix = 'tr_';", "require __DIR__ . '/secrets/more.php';"), "secrets/more.php", "<?php $table_prefix = 'tr_';"), nil, 0, []string{`prefix "tr_"`}},
	{"split, one folder up", dropIn(configured("$table_prefix = 'tr_';", "require dirname(__DIR__) . '/more.php';"), "../more.php", "<?php $table_prefix = 'tr_';"), nil, 0, []string{`prefix "tr_"`}},
	{"another content folder", map[string]string{"wp-config.php": configured("$table_prefix", "define('WP_CONTENT_DIR', __DIR__ . '/stuff');\n$table_prefix"), "wp-settings.php": system, "stuff/db.php": "", "stuff/database/.ht.sqlite": "DB", "stuff/themes/a/b.css": ""}, nil, 0, []string{"stuff/themes", "!wp-content"}},
	{"another database folder and file", dropIn(configured("$table_prefix", "define('DB_DIR', __DIR__ . '/data/');\ndefine('DB_FILE', 'rock.sqlite');\n$table_prefix"), "data/rock.sqlite", "DB"), nil, 0, []string{"data/rock.sqlite"}},
	{"an address that is locked", dropIn(configured("$table_prefix", "define('WP_HOME', 'http://ternrock.example');\n$table_prefix")), nil, 0, []string{"public address: WP_HOME in wp-config.php, line 6"}},
	{"an address that is computed", dropIn(configured("$table_prefix", "define('WP_HOME', 'http://' . $_SERVER['HTTP_HOST']);\n$table_prefix")), nil, 0, []string{"WP_HOME in wp-config.php, line 6, set by an expression"}},
	{"an address that depends", dropIn(configured("$table_prefix", "if ($x) { define('WP_HOME', 'http://a.example'); } else { define('WP_HOME', 'https://a.example'); }\n$table_prefix")), nil, 0, []string{"WP_HOME in wp-config.php, line 6, set conditionally"}},
	{"a mark before it, and other line ends", dropIn("\xef\xbb\xbf" + strings.ReplaceAll(usual, "\n", "\r\n")), nil, 0, []string{`prefix "tr_"`}},
	{"the site is called www", dropIn(usual), []string{"--site", "https://www.ternrock.example"}, 0, []string{"also ternrock.example: the database calls the site by that name"}},
	{"another site's address", dropIn(usual), []string{"--site", "https://beacon.example"}, 2, []string{"belongs to another site", "http://ternrock.example"}},
	{"a server of another name and port", map[string]string{"wp-config.php": configured("'localhost'", "'db.invalid:3307'")}, []string{"--site", "https://ternrock.example"}, 3, []string{"db.invalid:3307"}},
	{"a server by IPv6", map[string]string{"wp-config.php": configured("'localhost'", "'[::1]:33069'")}, []string{"--site", "https://ternrock.example"}, 3, []string{"[::1]:33069"}},
	{"a server by its socket", map[string]string{"wp-config.php": configured("'localhost'", "'localhost:/no/such.sock'")}, []string{"--site", "https://ternrock.example"}, 3, []string{"/no/such.sock"}},
	{"from the environment", map[string]string{"wp-config.php": configured("'museum'", "getenv('DB_NAME') ?: 'fallback'")}, nil, 2, []string{"wp-config.php, line 2: DB_NAME is set by an expression", "--database", "!fallback"}},
	{"a helper with a fallback", map[string]string{"wp-config.php": configured("'keeper'", "getenv_docker('DB_USER', 'example username')")}, nil, 2, []string{"line 3: DB_USER is set by an expression", "!example username"}},
	{"by the visitor's host", map[string]string{"wp-config.php": configured("define( 'DB_NAME', 'museum' );", "if ($_SERVER['HTTP_HOST'] === 'a') { define('DB_NAME', 'a'); } else { define('DB_NAME', 'b'); }")}, nil, 2, []string{"line 2: DB_NAME is set conditionally"}},
	{"a prefix that is computed", map[string]string{"wp-config.php": configured("'tr_'", "getenv('PREFIX')")}, nil, 2, []string{"line 6: table_prefix is set by an expression"}},
	{"in a file that cannot be told", map[string]string{"wp-config.php": "<?php\n$host = 'x';\nrequire '/etc/wordpress/config-' . $_SERVER['HTTP_HOST'] . '.php';\n"}, nil, 2, []string{"line 3", "set by an expression"}},
	{"set behind the system's beginning", map[string]string{"wp-config.php": "<?php require_once ABSPATH . 'wp-settings.php';\n" + strings.TrimPrefix(usual, "<?php")}, nil, 2, []string{"sets no DB_NAME"}},
	{"two sites below", map[string]string{"a/wp-config.php": usual, "a/wp-settings.php": system, "b/wp-config.php": usual, "b/wp-settings.php": system}, nil, 2, []string{"more than one site", "a/wp-config.php", "b/wp-config.php"}},
	{"nothing", map[string]string{"index.html": ""}, nil, 2, []string{"no configuration of a known system"}},
	{"a file of another kind", map[string]string{".env": "DB_DATABASE=museum\nDB_USERNAME=keeper\nDB_PASSWORD='a secret'\nDB_HOST=db.invalid\nDB_PORT=5433\n", "own.yaml": "name: own\ntables: [pages]\nconfig: {file: .env, format: env, kind: postgres, user: DB_USERNAME, password: DB_PASSWORD, host: DB_HOST, port: DB_PORT, database: DB_DATABASE}\n"}, []string{"--site", "https://ternrock.example", "--system", "srv/web/own.yaml"}, 3, []string{"db.invalid:5433"}},
	{"a folder that is not there", dropIn(usual), []string{"--files", "no/such/theme"}, 2, []string{"there is no folder", "no/such/theme"}},
	{"an authority that is not there", dropIn(usual), []string{"--ca", "no.pem"}, 2, []string{"no.pem"}},
	{"an address that cannot be read", dropIn(usual), []string{"--resolve", "ternrock.example:443"}, 2, []string{"write HOST:PORT:ADDR"}},
}

// siteDB makes the database of a small site.
func siteDB(t *testing.T, path string) {
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	for _, q := range siteTables {
		_, err := db.Exec(q)
		require.NoError(t, err)
	}
}

// siteTables are the least that is a site's.
var siteTables = []string{
	"CREATE TABLE tr_options (option_id INTEGER PRIMARY KEY, option_name TEXT, option_value TEXT)",
	"CREATE TABLE tr_posts (ID INTEGER PRIMARY KEY, post_title TEXT, post_content TEXT, guid TEXT, post_type TEXT, post_status TEXT, post_name TEXT)",
	"CREATE TABLE tr_postmeta (meta_id INTEGER PRIMARY KEY, post_id INTEGER, meta_key TEXT, meta_value TEXT)",
	"INSERT INTO tr_options VALUES (1, 'siteurl', 'http://ternrock.example'), (2, 'home', 'http://ternrock.example')",
}

// Each shape is found, or refused with the line that is the reason; the password is never printed.
func TestInitShapes(t *testing.T) {
	require.GreaterOrEqual(t, len(shapes), 25)
	for _, s := range shapes {
		t.Run(s.what, func(t *testing.T) {
			top := t.TempDir()
			dir := filepath.Join(top, "srv", "web")
			for name, text := range s.files {
				link, isLink := strings.CutPrefix(name, "link:")
				if isLink {
					name = link
				}
				path := filepath.Join(dir, name)
				require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
				switch {
				case isLink:
					_ = os.Remove(path)
					require.NoError(t, os.Symlink(filepath.Join(dir, text), path))
				case text == "DB":
					siteDB(t, path)
				case s.files["link:"+name] != "":
				default:
					require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
				}
			}
			r := want(t, s.code, top, append([]string{"init", dir}, s.args...)...)
			flat := strings.Join(strings.Fields(r.out+r.errs), " ")
			for _, words := range s.say {
				if not, ok := strings.CutPrefix(words, "!"); ok {
					assert.NotContains(t, flat, not)
				} else {
					assert.Contains(t, flat, words)
				}
			}
			assert.NotContains(t, flat, "a secret")
			if s.code == 0 {
				again := want(t, 0, top, append([]string{"init", dir}, s.args...)...)
				assert.Contains(t, again.out, "the previous one is kept", "a wrong guess is corrected by running it again")
				want(t, 0, top, "preview", "--offline")
			}
		})
	}
}

// Running init again keeps what the owner decided.
func TestInitAgain(t *testing.T) {
	dir := bare(t, 1)
	path := filepath.Join(dir, "trimlantern.yaml")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(string(b)+"accepted:\n  - {finding: temporary, about: [http://ternrock.example/], because: the host does that}\nhosts: {old.example: leave}\n"), 0o600))
	want(t, 0, dir, "init", "--here", "--site", "https://ternrock.example", "--also", "www.ternrock.example", "--database", "sqlite:site.db")
	b, err = os.ReadFile(path)
	require.NoError(t, err)
	for _, s := range []string{"finding: temporary", "because: the host does that", "old.example: leave", "www.ternrock.example"} {
		assert.Contains(t, string(b), s)
	}
	assert.FileExists(t, path+".old")
}

// What the configuration holds is seen as well where the database was named, by every way to lead init to it.
func TestLocksBesideDatabase(t *testing.T) {
	for _, c := range []struct {
		way  string
		from string // where init is called, below the top
		args []string
	}{
		{"the folder", "", []string{"web"}},
		{"the configuration", "", []string{"--system-config", "web/wp-config.php"}},
		{"the current folder", "web", nil},
		{"a folder with files", "", []string{"--files", "web/wp-content/themes"}},
		{"an export and the folder", "", []string{"web", "--database", "dump:site.sql"}},
	} {
		top := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(top, "site.sql"), []byte("PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n"+strings.Join(siteTables, ";\n")+";\nCOMMIT;\n"), 0o600))
		for name, text := range dropIn(configured("$table_prefix", "define( 'WP_HOME', 'http://ternrock.example' );\n$table_prefix")) {
			path := filepath.Join(top, "web", name)
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			if text == "DB" {
				siteDB(t, filepath.Join(top, "site.db"))
				continue
			}
			require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		}
		require.NoError(t, os.MkdirAll(filepath.Join(top, "web", "wp-content", "themes"), 0o755))
		args := []string{"init", "--site", "https://ternrock.example", "--database", "sqlite:" + filepath.Join(top, "site.db")}
		dir := filepath.Join(top, c.from)
		want(t, 0, dir, append(args, c.args...)...)
		for _, command := range []string{"preview --offline", "ready --resolve ternrock.example:443:127.0.0.9 --resolve ternrock.example:80:127.0.0.9", "status"} {
			r := run(t, dir, strings.Fields(command)...)
			assert.Contains(t, r.out+r.errs, "WP_HOME", "%s: %s", c.way, command)
		}
		assert.Contains(t, want(t, 1, dir, "status").out, "[!] locks", c.way)
	}
}

// An address that the configuration holds on HTTP keeps status from saying that the site is there, until it is
// changed: what it says, and the line to write.
func TestStatusLocks(t *testing.T) {
	for _, c := range []struct{ line, say, next string }{
		{"define( 'WP_HOME', 'http://ternrock.example' );", "the public address is locked: WP_HOME in", "define( 'WP_HOME', 'https://ternrock.example' );"},
		{"define( 'WP_HOME', 'http://' . $_SERVER['HTTP_HOST'] );", `set by an expression that begins with "http://"`, "begin the value of WP_HOME with https://"},
		{"if ( $x ) { define( 'WP_SITEURL', 'https://ternrock.example' ); } else { define( 'WP_SITEURL', 'http://ternrock.example' ); }", "the core address is set conditionally", "define( 'WP_SITEURL', 'https://ternrock.example' );"},
		{"define( 'WP_HOME', getenv( 'HOME_URL' ) );", "set by an expression: WP_HOME", ""},
		{"define( 'WP_HOME', 'https://ternrock.example' );", "", ""},
	} {
		top := t.TempDir()
		dir := filepath.Join(top, "web")
		for name, text := range dropIn(configured("$table_prefix", c.line+"\n$table_prefix")) {
			path := filepath.Join(dir, name)
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			if text == "DB" {
				siteDB(t, path)
				continue
			}
			require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		}
		want(t, 0, top, "init", dir)
		want(t, 0, top, "preview", "--offline")
		want(t, 0, top, "apply", "--offline")
		said := strings.Join(strings.Fields(want(t, 1, top, "status").out), " ")
		if c.say == "" {
			assert.NotContains(t, said, "locks", c.line)
			continue
		}
		assert.Contains(t, said, c.say, c.line)
		assert.Equal(t, c.next != "", strings.Contains(said, "[!] locks"), said)
		if c.next != "" {
			assert.Contains(t, said, "Next: change line 6 of "+filepath.Join(dir, "wp-config.php")+" to: "+c.next)
		}
	}
}
