//go:build real

package real

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/outside/system"
	"trimlantern/work"
)

// lockValues are ways to write an address in PHP; the second says what differs when it runs: an environment, a request.
var lockValues = []string{
	`'http://ternrock.example'`, `"http://ternrock.example"`, `'https://ternrock.example'`, `"HTTP://ternrock.example"`,
	`'http:' . '//' . 'ternrock.example'`, `'https' . "://ternrock.example"`, `"http://" . 'ternrock.example'`,
	`'http://' . $_SERVER['HTTP_HOST']`, `"http://{$_SERVER['HTTP_HOST']}"`, `"https://$host"`, `"http://$host/site"`,
	`$scheme . '://ternrock.example'`, `"$scheme://ternrock.example"`, `SCHEME . '://' . HOST`,
	`getenv('SITE_URL')`, `getenv('SITE_URL') ?: 'http://ternrock.example'`, `$_ENV['SITE_URL'] ?? 'http://ternrock.example'`,
	`isset($_SERVER['HTTPS']) ? 'https://ternrock.example' : 'http://ternrock.example'`,
	`(empty($_SERVER['HTTPS']) ? 'http' : 'https') . '://ternrock.example'`,
	`sprintf('%s://%s', 'http', 'ternrock.example')`, `implode('', ['http://', 'ternrock.example'])`, `str_replace('https', 'http', 'https://ternrock.example')`,
	`trim(' http://ternrock.example ')`, `<<<END
http://ternrock.example
END`, `<<<'END'
https://ternrock.example
END`, `"\x68ttp://ternrock.example"`, `"\u{68}ttp://ternrock.example"`, `'http:\/\/ternrock.example'`, `( ( 'http://ternrock.example' ) )`,
	`/* https: */ 'http://ternrock.example' // 'https'
`, `strtolower('HTTP://ternrock.example')`, `$urls['home']`, `''`, `null`, `false`,
}

// lockForms are ways to set a constant to a value, which takes the place of VALUE.
var lockForms = []string{
	"define('WP_HOME', VALUE);", `define("WP_HOME", VALUE);`, "DEFINE ( 'WP_HOME' , VALUE ) ;", `\define('WP_HOME', VALUE);`, "const WP_HOME = VALUE;",
	"if (!defined('WP_HOME')) define('WP_HOME', VALUE);", "defined('WP_HOME') || define('WP_HOME', VALUE);", "defined('WP_HOME') or define('WP_HOME', VALUE);",
	"if (true) { define('WP_HOME', VALUE); }", "if (getenv('NEVER')) { define('WP_HOME', VALUE); }", "if (1): define('WP_HOME', VALUE); endif;",
	"switch (1) { case 1: define('WP_HOME', VALUE); }", "foreach (['WP_HOME'] as $name) { define($name, VALUE); }", "foreach (['WP_HOME' => VALUE] as $name => $value) { define($name, $value); }",
	"$name = 'WP_HOME'; define($name, VALUE);", "call_user_func('define', 'WP_HOME', VALUE);", "define('WP_' . 'HOME', VALUE);",
	"// define('WP_HOME', VALUE)\n", "/* define('WP_HOME', 'http://x') */", "# define('WP_HOME', 'http://x');\n", "$text = \"define('WP_HOME', 'http://x');\";",
	"function set() { define('WP_HOME', VALUE); } set();", "function never() { define('WP_HOME', VALUE); }", "define('WP_HOME', VALUE, false);",
	"define('WP_HOME', VALUE); define('WP_HOME', 'https://ternrock.example');", "define('WP_HOME', 'https://ternrock.example'); define('WP_HOME', VALUE);",
	"(function () { define('WP_HOME', VALUE); })();", "$set = 'define'; $set('WP_HOME', VALUE);", "define(constant_name(), VALUE);",
	"eval(\"define('WP_HOME', \" . var_export(VALUE, true) . ');');", "require __DIR__ . '/more.php';", "include 'more.php';", "@include_once(dirname(__FILE__) . '/more.php');",
	"require getenv('MORE');", "foreach (glob(__DIR__ . '/mor*.php') as $file) { require $file; }", "return;\ndefine('WP_HOME', VALUE);",
	"$done = define('WP_HOME', VALUE);", "define('WP_HOME_OTHER', VALUE);", "class Site { const WP_HOME = 'http://x'; }", "define('wp_home', VALUE);",
	"namespace Rock { define('WP_HOME', VALUE); }", "try { define('WP_HOME', VALUE); } finally { }", "do { define('WP_HOME', VALUE); } while (false);", "?>text<?php define('WP_HOME', VALUE);", "?>text<?= define('WP_HOME', VALUE) ? '' : '' ?><?php ",
	"array_map(fn ($n) => define($n, VALUE), ['WP_HOME']);", "extract(['a' => define('WP_HOME', VALUE)]);",
}

// What a configuration holds of an address is told without running it. PHP itself says what it holds, by day and in each of
// several surroundings: an address over HTTP is never taken for none, nor for a secure one.
func TestLocksJudged(t *testing.T) {
	wordpress, err := system.Get("wordpress")
	require.NoError(t, err)
	dir := t.TempDir()
	script := filepath.Join(dir, "ask.php")
	require.NoError(t, os.WriteFile(script, []byte(`<?php error_reporting(0);
foreach (explode("\n", trim(stream_get_contents(STDIN))) as $file) {
  $says = [];
  foreach ([[], ['SITE_URL' => 'http://ternrock.example'], ['SITE_URL' => 'https://ternrock.example', 'HTTPS' => 'on']] as $surroundings) {
    $child = pcntl_fork();
    if ($child === 0) {
      ob_start();
      chdir(dirname($file));
      putenv('MORE=' . dirname($file) . '/more.php');
      foreach ($surroundings as $name => $value) if ($name !== 'HTTPS') { putenv("$name=$value"); $_ENV[$name] = $value; }
      $_SERVER = $surroundings + ['HTTP_HOST' => 'ternrock.example'];
      register_shutdown_function(function () use ($file) { while (ob_get_level()) ob_end_clean(); file_put_contents("$file.says", defined('WP_HOME') ? json_encode(WP_HOME) : '-'); });
      (static function ($file) { include $file; })($file);
      exit;
    }
    pcntl_waitpid($child, $status);
    $says[] = (string) @file_get_contents("$file.says");
    @unlink("$file.says");
  }
  echo implode("\t", $says), "\n";
}`), 0o600))
	type written struct{ what, file string }
	var all []written
	var list strings.Builder
	add := func(form, value string) {
		folder := filepath.Join(dir, fmt.Sprint(len(all)))
		require.NoError(t, os.Mkdir(folder, 0o700))
		head := "<?php\n"
		if !strings.HasPrefix(form, "namespace") {
			head += "$scheme = 'http'; $host = 'ternrock.example'; $urls = ['home' => 'http://ternrock.example'];\ndefine('SCHEME', 'http'); const HOST = 'ternrock.example';\nfunction constant_name() { return 'WP_HOME'; }\n"
		}
		file := filepath.Join(folder, "wp-config.php")
		require.NoError(t, os.WriteFile(file, []byte(head+strings.ReplaceAll(form, "VALUE", value)+"\n"), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(folder, "more.php"), []byte("<?php define('WP_HOME', "+value+");\n"), 0o600))
		all = append(all, written{form + " of " + value, file})
		list.WriteString(file + "\n")
	}
	for _, v := range lockValues {
		add(lockForms[0], v)
	}
	for _, f := range lockForms {
		for _, v := range []string{lockValues[0], lockValues[2], lockValues[17]} {
			add(f, v)
		}
	}
	for i := range 60 {
		add(lockForms[(i*7)%len(lockForms)], lockValues[(i*11)%len(lockValues)])
	}
	ask := exec.Command("php", script)
	ask.Stdin = strings.NewReader(list.String())
	out, err := ask.Output()
	require.NoError(t, err)
	answers := strings.Split(strings.TrimSpace(string(out)), "\n")
	require.Len(t, answers, len(all))
	held, secure, free, vague := 0, 0, 0, 0
	for i, w := range all {
		insecure, unset, safe := false, true, true
		for _, one := range strings.Split(answers[i], "\t") {
			one = strings.ToLower(strings.ReplaceAll(strings.Trim(one, `"`), `\/`, "/"))
			insecure = insecure || strings.HasPrefix(strings.TrimSpace(one), "http:")
			unset = unset && (one == "-" || one == "!" || one == "" || one == "null" || one == "false")
			safe = safe && strings.HasPrefix(one, "https:")
		}
		locks, err := wordpress.Config.LocksOf(w.file)
		require.NoError(t, err)
		lock, ok := locks["public"]
		l := work.Locked{Lock: lock}
		switch {
		case insecure:
			held++
			if assert.True(t, ok && (l.Insecure() || l.Unknown()), "%s: PHP says %s, we say %v %q", w.what, answers[i], lock.How, lock.Value) && l.Unknown() {
				vague++
			}
		case safe:
			secure++
			assert.False(t, ok && l.Insecure(), "%s: PHP says %s, we say %v %q", w.what, answers[i], lock.How, lock.Value)
		case unset:
			free++
			assert.False(t, ok && l.Insecure() && lock.How == system.Literally, "%s: PHP says %s, we say %v %q", w.what, answers[i], lock.How, lock.Value)
		}
	}
	t.Logf("%d configurations: %d hold an address over HTTP (%d of them only running it tells), %d a secure one, %d none", len(all), held, vague, secure, free)
}
