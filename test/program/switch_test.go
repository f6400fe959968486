package program

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/test/person"
)

// switchArgs are the arguments of a guided run on the made-up site.
func switchArgs(initArgs []string, more ...string) []string {
	return append(append([]string{"switch"}, initArgs[1:]...), more...)
}

// goodAnswers take the made-up site all the way.
const goodAnswers = `ready: obtain
directory: https://authority.lampguild.example/directory
chain: tls/certificate-with-chain.pem
key: tls/key.pem
reload: ""
terms: yes
item http://charts.tideoffice.example/today.svg: adopt
item http://localhost:8080/: accept
because http://localhost:8080/: the neighbour wrote it
item: mend
redirect: apache
rule-file: .htaccess
`

// A value that cannot be read is edited within the guided run: the text lies in a file, and is sealed again.
func TestSwitchEdits(t *testing.T) {
	dir, initArgs, _ := served(t)
	text := `a:1:{s:4:"link";s:29:"https://ternrock.example/old/";}`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new.txt"), []byte(text+"\n"), 0o600))
	said := strings.Replace(goodAnswers, "item: mend\n", "item: edit\nedit-file: new.txt\n", 1)
	r := want(t, 0, dir, switchArgs(initArgs, "--yes", "--answers", answers(t, dir, said))...)
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "), "Then press Enter new.txt [x] Decided, and kept in the site file.")
	assert.Contains(t, r.out, "The site is on HTTPS, and every page that was scanned is clean.")
	assert.Contains(t, dump(t, filepath.Join(dir, "site.db")), "https://ternrock.example/old/")
	want(t, 0, dir, "undo") // the redirect
	want(t, 0, dir, "undo")
	assert.NotContains(t, dump(t, filepath.Join(dir, "site.db")), "https://ternrock.example/old/")

	other, initArgs, _ := served(t)
	r = want(t, 1, other, switchArgs(initArgs, "--yes", "--until", "preview", "--answers", answers(t, other, strings.Replace(said, "edit-file: new.txt\n", "", 1)))...)
	assert.Contains(t, r.out+r.errs, "the text is as it was: nothing was decided", "the file that lies there, unchanged")
	left, err := filepath.Glob(filepath.Join(os.TempDir(), "trimlantern-edit-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func answers(t *testing.T, dir, text string) string {
	file := filepath.Join(dir, "answers.yaml")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	return file
}

// TestSwitchScripted takes the made-up site to HTTPS from a file of answers, without a person and without an
// editor: nothing is left, and undo takes all of it back.
func TestSwitchScripted(t *testing.T) {
	dir, initArgs, _ := served(t)
	before := dump(t, filepath.Join(dir, "site.db"))
	r := want(t, 0, dir, switchArgs(initArgs, "--yes", "--answers", answers(t, dir, goodAnswers))...)
	for _, say := range []string{"1 of 9", "9 of 9", "Ready to switch", "read back", "1 copy put in place", "Every page is clean: 42 of 42 pages", "The site is on HTTPS, and every page that was scanned is clean."} {
		assert.Contains(t, r.out, say)
	}
	assert.NotContains(t, r.out, "need a decision: trimlantern show")
	assert.Contains(t, want(t, 0, dir, "show").out, "Nothing needs a decision")
	page, err := filepath.Glob(filepath.Join(logbookOf(dir), "switch-*.html"))
	require.NoError(t, err)
	require.Len(t, page, 1)
	text, err := os.ReadFile(page[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), "On HTTPS, and every page that was scanned is clean")
	assert.Contains(t, string(text), "blocked by browsers")

	// The same command again finds it done, and changes nothing.
	after := dump(t, filepath.Join(dir, "site.db"))
	again := want(t, 0, dir, switchArgs(initArgs, "--yes")...)
	assert.Contains(t, again.out, "Nothing is left to change.")
	assert.Equal(t, after, dump(t, filepath.Join(dir, "site.db")))

	for range 3 { // the redirect, the references, the corrected length
		want(t, 0, dir, "undo")
	}
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")), "undo takes all of it back")
	assert.NoDirExists(t, filepath.Join(dir, "kept"))
}

// TestSwitchAnswers holds answers that cannot be used against what is said of them.
func TestSwitchAnswers(t *testing.T) {
	dir, initArgs, _ := served(t)
	r := want(t, 2, dir, switchArgs(initArgs)...)
	assert.Contains(t, r.errs, "there is no terminal to ask questions on")
	assert.Contains(t, r.errs, "backup (yes, no)")
	assert.NoFileExists(t, siteFile(dir), "nothing was done")
	for _, c := range []struct {
		text string
		code int
		say  string
	}{
		{"site: maybe\n", 2, `"maybe" is no answer to "Is this the site?"`},
		{"site: no\n", 2, "the site file was written, and nothing else"},
		{"site: yes\n", 2, `the answers say nothing of "What now?"`},
		{"site: yes\nready: on\n", 2, `"on" is no answer to "What now?"`}, // what stops visitors is not passed over
		{"- site\n", 2, "the answers cannot be read"},
		{"site: yes\nready: stop\n", 1, ""},
	} {
		require.NoError(t, os.RemoveAll(homeOf(dir)))
		assert.Contains(t, want(t, c.code, dir, switchArgs(initArgs, "--answers", answers(t, dir, c.text))...).errs, c.say, c.text)
	}
	assert.Contains(t, want(t, 2, dir, switchArgs(initArgs, "--yes", "--until", "nowhere")...).errs, "--until nowhere is no step")
	assert.Contains(t, want(t, 2, dir, switchArgs(initArgs, "--yes", "--answers", "nothing.yaml")...).errs, "nothing.yaml")
	// --yes alone takes what is safe: the certificate is not right, so it stops there, and changes nothing.
	before := dump(t, filepath.Join(dir, "site.db"))
	r = want(t, 1, dir, switchArgs(initArgs, "--yes")...)
	assert.Contains(t, r.out, "The site is not done yet. What is left:")
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")))
}

// onTerminal runs the program on a terminal.
func onTerminal(t *testing.T, dir string, environ []string, args ...string) *person.Terminal {
	c := exec.Command(program, args...)
	c.Dir, c.Env = dir, append(environment(dir), environ...)
	return person.Start(t, c)
}

// TestSwitchTerminal walks the road on a real terminal: explains, shows all, stops and goes on at questions.
func TestSwitchTerminal(t *testing.T) {
	dir, initArgs, _ := served(t)
	start := func() *person.Terminal { return onTerminal(t, dir, nil, switchArgs(initArgs)...) }

	// Ctrl-C at the first question: the site file is written, nothing else.
	before := dump(t, filepath.Join(dir, "site.db"))
	x := start()
	x.Question("Is this the site?")
	x.Keys(person.CtrlC)
	assert.Equal(t, 1, x.Ends())

	x = start()
	x.Question("What now?")
	x.Keys("?")
	x.Expect("would stop visitors once everything leads to HTTPS")
	x.Question("What now?")
	x.Keys("s")
	x.Expect("Is https://ternrock.example ready?")
	x.Question("What now?")
	x.Keys(person.Quit)
	assert.Equal(t, 1, x.Ends())

	x = start()
	for _, q := range [][2]string{{"What now?", person.First + person.Enter}, {"The address of the authority", "https://authority.lampguild.example/directory" + person.Enter}, {"Which file does the web server read the certificate from?", "tls/certificate-with-chain.pem" + person.Enter},
		{"And the private key?", "tls/key.pem" + person.Enter}, {"Which command has the server", "true" + person.Enter}, {"Do you accept the authority's terms of service?", person.Up + person.Enter}} {
		x.Question(q[0])
		x.Answer(q[0], q[1])
	}
	x.Question("Make a backup first?")
	x.Keys(person.CtrlC)
	assert.Equal(t, 1, x.Ends())

	x = start() // it goes on there
	x.Expect("Ready to switch")
	x.Question("Make a backup first?")
	x.Answer("Make a backup first?", person.Enter)
	for range 3 {
		x.Question("What should become of it?")
		x.Answer("What should become of it?", person.Enter) // later
	}
	x.Question("Make these changes now?")
	x.Keys("s")
	x.Expect("Preview of https://ternrock.example")
	x.Question("Make these changes now?")
	x.Keys(person.Quit)
	assert.Equal(t, 1, x.Ends())
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")), "nothing was changed")
	assert.Contains(t, want(t, 1, dir, "status").out, "[x] backup")
}

// TestSwitchPlain walks it line by line, as a screen reader reads it; the end of the input stops it safely.
func TestSwitchPlain(t *testing.T) {
	dir, initArgs := museum(t)
	x := onTerminal(t, dir, nil, switchArgs(initArgs, "--plain")...)
	x.Expect("Is this the site?")
	x.Expect("Enter a number between 1 and 5:")
	x.Keys("9" + person.Enter)
	x.Expect("must be a number between 1 and 5")
	x.Keys("1" + person.Enter)
	x.Expect("Make a backup first?")
	x.Expect("Enter a number")
	x.Keys("3" + person.Enter) // explain
	x.Expect("The journal takes back")
	x.Expect("Enter a number")
	x.Keys("1" + person.Enter)
	for range 3 {
		x.Expect("Decide later")
		x.Expect("Enter a number")
		x.Keys(person.Enter)
	}
	x.Expect("Make these changes now?")
	x.Expect("Enter a number")
	x.Keys("1" + person.Enter)
	x.Expect("as planned.")
	x.Expect("Put the redirect in place?")
	x.Expect("Enter a number")
	x.Keys(person.Closed)
	assert.Equal(t, 1, x.Ends())
	assert.Contains(t, want(t, 1, dir, "status").out, "[x] apply")
}

// TestSwitchAtEachQuestion stops at each question in turn, with Ctrl-C, and goes on each time, to the end.
func TestSwitchAtEachQuestion(t *testing.T) {
	dir, initArgs := museum(t)
	stopped := map[string]bool{}
	for stop := 0; ; stop++ {
		require.Less(t, stop, 30)
		x := onTerminal(t, dir, nil, switchArgs(initArgs)...)
		over := false
		for i := 0; !over; i++ {
			asked := x.Question("")
			if over = asked == ""; over {
				break
			}
			if !stopped[asked] || asked == "What should become of it?" && i == stop {
				stopped[asked] = true
				x.Keys(person.CtrlC)
				break
			}
			keys := map[string]string{"Put the redirect in place?": person.First + person.Enter, "Into which file?": ".htaccess" + person.Enter}[asked]
			if keys == "" {
				keys = person.Enter
			}
			x.Answer(asked, keys)
		}
		code := x.Ends()
		if over {
			break
		}
		require.Equal(t, 1, code)
	}
	assert.GreaterOrEqual(t, len(stopped), 6, stopped)
	r := want(t, 0, dir, switchArgs(initArgs, "--yes", "--answers", answers(t, dir, "item http://charts.tideoffice.example/today.svg: adopt\n"))...)
	assert.Contains(t, r.out, "The site is on HTTPS", r.errs)
}

// TestScriptOfCI runs the script of docs/ci.md as it stands there, but for the addresses of the made-up site.
func TestScriptOfCI(t *testing.T) {
	dir, initArgs := museum(t)
	b, err := os.ReadFile("../../docs/ci.md")
	require.NoError(t, err)
	_, script, ok := strings.Cut(string(b), "```bash\n")
	require.True(t, ok)
	script, _, _ = strings.Cut(script, "```")
	line := "trimlantern init --site https://ternrock.example --also www.ternrock.example ."
	require.Contains(t, script, line)
	quoted := "trimlantern"
	for _, a := range initArgs {
		quoted += " '" + a + "'"
	}
	script = strings.Replace(script, line, quoted, 1)
	bin := t.TempDir()
	require.NoError(t, os.Symlink(program, filepath.Join(bin, "trimlantern")))
	c := exec.Command("bash", "-c", script)
	c.Dir, c.Env = dir, append(environment(dir), "PATH="+bin+":"+os.Getenv("PATH"))
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "Every page is clean")
	status, err := os.ReadFile(filepath.Join(dir, "status.json"))
	require.NoError(t, err)
	assert.Contains(t, string(status), `"clean": true`)
	assert.FileExists(t, filepath.Join(dir, "scan.sarif"))
}

// exported writes an SQLite database as its own dump program does.
func exported(t *testing.T, path string) string {
	db := open(t, path)
	var b strings.Builder
	b.WriteString("PRAGMA foreign_keys=OFF;\nBEGIN TRANSACTION;\n")
	tables, err := db.Query("SELECT name, sql FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
	require.NoError(t, err)
	defer tables.Close()
	for tables.Next() {
		var name, create string
		require.NoError(t, tables.Scan(&name, &create))
		b.WriteString(create + ";\n")
		columns := []string{}
		info, err := db.Query("SELECT name FROM pragma_table_info('" + name + "')")
		require.NoError(t, err)
		for info.Next() {
			var c string
			require.NoError(t, info.Scan(&c))
			columns = append(columns, "quote("+c+")")
		}
		require.NoError(t, info.Close())
		rows, err := db.Query("SELECT 'INSERT INTO " + name + " VALUES(' || " + strings.Join(columns, " || ',' || ") + " || ');' FROM " + name)
		require.NoError(t, err)
		for rows.Next() {
			var line string
			require.NoError(t, rows.Scan(&line))
			b.WriteString(line + "\n")
		}
		require.NoError(t, rows.Close())
	}
	b.WriteString("COMMIT;\n")
	return b.String()
}

// TestSwitchExported walks the road of somebody who has an export and an import form alone.
func TestSwitchExported(t *testing.T) {
	dir, initArgs := museum(t)
	live := filepath.Join(dir, "site.db")
	before := dump(t, live)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "museum.sql"), []byte(exported(t, live)), 0o600))
	args := []string{"switch", "--database", "dump:museum.sql", "--yes"}
	for i, a := range initArgs {
		if a != "--files" && strings.HasPrefix(a, "--") {
			args = append(args, a, initArgs[i+1])
		}
	}
	file := answers(t, dir, `item http://charts.tideoffice.example/today.svg: replace
replace-by http://charts.tideoffice.example/today.svg: https://ternrock.example/media/map.svg
item http://localhost:8080/: accept
because http://localhost:8080/: the neighbour wrote it
write: patch
redirect: apache
rule-file: .htaccess
`)
	home := homeOf(dir)
	require.NoError(t, os.RemoveAll(home))
	empty := filepath.Join(dir, "empty") // no folder of the site's: all that is known is the export
	require.NoError(t, os.Mkdir(empty, 0o755))
	r := want(t, 1, dir, append(args, "--answers", file, empty)...)
	for _, say := range []string{"The export is the backup", "Written: ", "Load it into the database", "Stopped at: change."} {
		assert.Contains(t, r.out, say)
	}
	assert.Equal(t, before, dump(t, live), "only files are written")
	assert.Contains(t, want(t, 1, dir, append(args, "--answers", file, empty)...).out, "Stopped at: preview.", "it is not loaded yet, says the safe answer")
	patch, err := os.ReadFile(filepath.Join(dir, "museum-https-patch.sql"))
	require.NoError(t, err)
	_, err = open(t, live).Exec(string(patch))
	require.NoError(t, err)
	theme, err := filepath.Glob(filepath.Join(dir, "theme", "*.html"))
	require.NoError(t, err)
	for _, f := range theme { // uploaded changed
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(f, []byte(strings.NewReplacer("http://www.ternrock", "https://www.ternrock", "http://type.", "https://type.").Replace(string(b))), 0o644))
	}

	// That it is loaded the pages show: nobody is asked.
	r = want(t, 0, dir, append(args, "--answers", file, empty)...)
	assert.Contains(t, r.out, "The site is on HTTPS")
	assert.Contains(t, r.out, "Every page is clean since the export was changed and written.")
	assert.NotContains(t, r.out, "Is it loaded")
	assert.NotContains(t, r.out, "Nothing is left to change", "the export still has all of it")
}
