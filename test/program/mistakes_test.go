package program

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// goWords are words of the language and its libraries, which tell a user nothing.
var goWords = regexp.MustCompile(`strconv|unmarshal|EOF|accepts \d|accepts at most|arg\(s\)|invalid syntax|parsing "|goroutine|panic|%!|nil pointer|: yaml: |json: |lstat |stat /|open /|0x[0-9a-f]{6}`)

// TestMistakes makes mistakes in every command: each answer names the thing, in a user's words, and a next step.
func TestMistakes(t *testing.T) {
	dir := bare(t, 2)
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("empty.yaml", "")
	write("broken.yaml", "site: [\n")
	write("list.yaml", "- a\n")
	write("unknown.yaml", "site: https://ternrock.example\ndatabase: {kind: sqlite, file: site.db}\ncolour: red\n")
	write("nosite.yaml", "database: {kind: sqlite, file: site.db}\n")
	write("nofile.yaml", "site: https://ternrock.example\nsystem: generic\ndatabase: {kind: sqlite, file: gone.db, prefix: tr_}\n")
	write("kind.yaml", "site: https://ternrock.example\nsystem: generic\ndatabase: {kind: cards, file: x, prefix: tr_}\n")
	write("badhost.yaml", "site: https://ternrock.example\nsystem: generic\ndatabase: {kind: sqlite, file: site.db, prefix: tr_}\nhosts: {a.example: maybe}\n")
	write("replaced.yaml", "site: https://ternrock.example\nsystem: generic\ndatabase: {kind: sqlite, file: site.db, prefix: tr_}\nreplaced: [{from: http://a.example/x, to: http://b.example/x}]\n")
	write("accepted.yaml", "site: https://ternrock.example\nsystem: generic\ndatabase: {kind: sqlite, file: site.db, prefix: tr_}\naccepted: [{finding: x}]\n")
	write("text.txt", "nothing\n")
	tried := 0
	wrong := func(say string, args ...string) {
		t.Helper()
		tried++
		r := run(t, dir, args...)
		line := strings.Join(args, " ")
		assert.Contains(t, []int{2, 3}, r.code, "%s\n%s%s", line, r.out, r.errs)
		assert.Contains(t, r.errs, say, line)
		assert.Regexp(t, `(?m)^What to do: \S`, r.errs, line)
		assert.NotRegexp(t, goWords, r.errs, line)
		assert.NotContains(t, r.errs, "trimlantern: trimlantern", line)
		first, _, _ := strings.Cut(strings.TrimPrefix(r.errs, "trimlantern: "), "\n")
		assert.NotContains(t, first, `\n`, line)
		for _, name := range []string{"broken.yaml", "empty.yaml", "unknown.yaml", "nofile.yaml", "nothing.yaml"} {
			assert.LessOrEqual(t, strings.Count(first, name), 1, "%s: a name is said once", line)
		}
	}
	for _, c := range []string{"switch", "init", "ready", "cert obtain", "cert renew", "cert check", "backup", "preview", "show", "show changes", "show left", "show scan", "show journal", "decide accept", "decide adopt", "apply",
		"redirect show", "redirect install", "redirect test", "scan", "status", "history", "undo", "trace", "mend", "filter", "checkup", "demo", "systems", "fleet status", "fleet scan"} {
		words := strings.Fields(c)
		wrong("unknown flag: --colour", append(words, "--colour")...)
		wrong("--config needs a value", append(words, "--config")...)
		if r := run(t, dir, append(words, "--format", "yaml")...); !strings.Contains(r.errs, " needs ") { // what is missing comes first
			wrong("--format yaml is not known", append(words, "--format", "yaml")...)
		}
	}
	for _, c := range []string{"preview", "apply", "undo", "backup", "show", "show changes", "history", "mend", "decide leave x.example", "systems --against-database"} {
		for file, say := range map[string]string{"empty.yaml": "empty.yaml", "broken.yaml": "line", "list.yaml": "list.yaml", "unknown.yaml": "colour", "nosite.yaml": "needs site", "nothing.yaml": "nothing.yaml", "badhost.yaml": `"maybe" is no decision`,
			"replaced.yaml": "needs from, and to", "accepted.yaml": "needs finding and because"} {
			wrong(say, append(strings.Fields(c), "--config", file)...)
		}
	}
	for _, c := range [][]string{
		{`unknown command "swich"`, "swich"}, {`unknown command "scann"`, "scann"}, {`unknown command "obtian"`, "cert", "obtian"}, {`unknown command "stauts"`, "fleet", "stauts"}, {`unknown command "addopt"`, "decide", "addopt", "3"},
		{"--pages many: write a number from 1", "scan", "--pages", "many"}, {"--depth deep", "scan", "--depth", "deep"}, {"write a time like", "scan", "--for", "long"}, {"that is no time", "ready", "--wait", "5"}, {"write true or false", "scan", "--robots=perhaps"},
		{"--fail-on everything is not known", "preview", "--fail-on", "everything"}, {"--fail-on everything", "scan", "--site", "https://ternrock.example", "--fail-on", "everything"}, {"--rate fast", "apply", "--rate", "fast"},
		{"takes no", "status", "now"}, {"takes no", "history", "all"}, {"takes no", "mend", "it"}, {"takes one SHEET", "apply", "a", "b"}, {"takes one JOURNAL", "undo", "a", "b"}, {"takes one FOLDER", "backup", "a", "b"}, {"takes IN and OUT", "filter", "a", "b", "c"},
		{"needs the server", "redirect", "show"}, {`"iis" is no server`, "redirect", "show", "iis"}, {"needs the server and the file", "redirect", "install", "apache"}, {"needs the files", "cert", "check"}, {"needs a folder", "fleet", "init"},
		{"no change sheet is called x", "apply", "x"}, {"x", "undo", "x"}, {"no table matches", "preview", "--table", "nothing"}, {"no column matches", "preview", "--except", "*.nothing"}, {"gone.db", "preview", "--config", "nofile.yaml"}, {"cards", "preview", "--config", "kind.yaml"},
		{"must not hold the password", "init", "--site", "https://ternrock.example", "--database", "mysql://k:oil@h/m"}, {"cannot be read", "init", "--site", "https://ternrock.example", "--database", "nothing"}, {"there is no folder", "init", "--site", "https://ternrock.example", "nowhere"},
		{"site's address", "init", "--site", "ftp://ternrock.example", "--database", "sqlite:site.db"}, {"site's address", "init", "--site", "https://", "--database", "sqlite:site.db"}, {"site's address", "init", "--site", "https://a b.example", "--database", "sqlite:site.db"},
		{"text.txt", "filter", "--site", "https://ternrock.example", "--system", "text.txt", "text.txt", "out.sql"}, {"nothing.sql", "filter", "--site", "https://ternrock.example", "nothing.sql", "out.sql"}, {"--largest-row 0", "filter", "--site", "https://ternrock.example", "--largest-row", "0", "text.txt"},
		{"--as table is not known", "filter", "--site", "https://ternrock.example", "--as", "table", "text.txt"}, {"--dialect basic is not known", "filter", "--site", "https://ternrock.example", "--dialect", "basic", "text.txt"},
		{"there is no scan", "trace", "7"}, {"holds no scan nothing", "show", "scan", "nothing"}, {"a decision needs a reason", "decide", "accept", "1"}, {"--until dusk is no step", "switch", "--yes", "--until", "dusk"}, {"no terminal", "switch"},
		{"name tells no format", "scan", "--site", "https://ternrock.example", "--report", "x"}, {"nothing.txt", "scan", "--site", "https://ternrock.example", "--list", "nothing.txt"}, {"nothing.pem", "ready", "--site", "https://ternrock.example", "--ca", "nothing.pem"},
		{"text.txt", "ready", "--site", "https://ternrock.example", "--ca", "text.txt"}, {"--resolve", "ready", "--site", "https://ternrock.example", "--resolve", "x"}, {"--proof guess is not known", "cert", "obtain", "--proof", "guess"}, {"there is no file nothing.yaml", "systems", "nothing.yaml"},
	} {
		wrong(c[0], c[1:]...)
	}
	assert.GreaterOrEqual(t, tried, 150)
	t.Logf("%d mistakes", tried)
}
