// Package program runs the built program as a user would, on files in temporary
// folders.
package program

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"trimlantern/test/contract"
)

// program is the built program.
var program string

var race = flag.Bool("race-build", false, "build the program with the race detector")

func TestMain(m *testing.M) {
	flag.Parse()
	dir, err := os.MkdirTemp("", "trimlantern-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755) // other users run it too
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	program = filepath.Join(dir, "trimlantern")
	build := exec.Command("go", "build", "-ldflags", "-X trimlantern/cli.Version=1.2.3-test", "-o", program, "./cmd/trimlantern")
	build.Dir, build.Stderr = "../..", os.Stderr
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if *race { // needs the compiler of C; a race ends the program with 66
		build.Args, build.Env = slices.Insert(build.Args, 2, "-race"), append(os.Environ(), "CGO_ENABLED=1")
	}
	if err := build.Run(); err != nil {
		fmt.Fprintln(os.Stderr, "building the program:", err)
		os.Exit(1)
	}
	code := m.Run()
	_ = os.RemoveAll(dir) // in the temporary folder
	os.Exit(code)
}

// result is what one run came to.
type result struct {
	code      int
	out, errs string
}

func run(t testing.TB, dir string, args ...string) result {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	before := stateOf(dir, args)
	c := exec.CommandContext(ctx, program, args...)
	c.Dir, c.Env = dir, environment(dir)
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	require.NotNil(t, c.ProcessState, "%v", err)
	r := result{c.ProcessState.ExitCode(), out.String(), errs.String()}
	contract.Check(t, program, args, r.code, r.out, r.errs)
	if r.code == 2 { // wrong use or input: nothing was changed
		require.Equal(t, before, stateOf(dir, args), "trimlantern %s ended with 2 and changed something\n%s", strings.Join(args, " "), r.errs)
	}
	return r
}

// stateOf is what is in a site's folder and in its home, but for what says that a run was there.
func stateOf(dir string, args []string) map[string]string {
	state := map[string]string{}
	roots := []string{dir, homeOf(dir)}
	if args[0] == "switch" {
		roots = roots[:1] // its first step writes the site file, and it says so
	}
	for _, root := range roots {
		_ = filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error { // what goes meanwhile is not there
			if err != nil || !e.Type().IsRegular() {
				return nil
			}
			switch filepath.Base(path) {
			case "lock", "lock-change", "clock", ".htaccess", "numbers.json", "dump.db": // the last is the working copy of a dump
				return nil
			}
			if info, err := e.Info(); err == nil {
				state[path] = fmt.Sprint(info.Size(), info.Mode(), info.ModTime().UnixNano())
			}
			return nil
		})
	}
	return state
}

// environment gives the site in a folder a home of its own, beside it.
func environment(dir string) []string {
	return append(os.Environ(), "TRIMLANTERN_HOME="+homeOf(dir), "TRIMLANTERN_CHROMIUM=none")
}

func homeOf(dir string) string { return dir + ".home" }

// siteFile and logbookOf return where site file and logbook of the site in a folder lie.
func siteFile(dir string) string {
	if here := filepath.Join(dir, "trimlantern.yaml"); there(here) {
		return here
	}
	return filepath.Join(homeOf(dir), "ternrock.example", "trimlantern.yaml")
}

func logbookOf(dir string) string { return filepath.Join(filepath.Dir(siteFile(dir)), ".trimlantern") }

func there(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// want runs the program and wants an exit code.
func want(t testing.TB, code int, dir string, args ...string) result {
	t.Helper()
	r := run(t, dir, args...)
	require.Equal(t, code, r.code, "trimlantern %s\n%s\n%s", strings.Join(args, " "), r.out, r.errs)
	return r
}

// museum is served, with a certificate for all names: the site is ready but for its address.
func museum(t testing.TB) (dir string, initArgs []string) {
	t.Helper()
	dir, initArgs, obtain := served(t)
	args := append(obtain, "--root", ".")
	for i, a := range initArgs {
		if a != "--files" && strings.HasPrefix(a, "--") {
			args = append(args, a, initArgs[i+1])
		}
	}
	want(t, 0, dir, args...)
	return dir, initArgs
}

// served lays the made-up site out and keeps its server up; it returns the folder and the arguments of init and of
// cert obtain.
func served(t testing.TB) (dir string, initArgs, obtainArgs []string) {
	t.Helper()
	dir = filepath.Join(t.TempDir(), "ternrock")
	c := exec.Command(program, "demo", "--stay", dir)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	t.Cleanup(func() {
		_ = c.Process.Signal(os.Interrupt) // gone already: the test says so
		assert.NoError(t, c.Wait(), "Ctrl-C ends the server well")
	})
	buf := make([]byte, 1<<16)
	text := ""
	for !strings.Contains(text, "https://ternrock.example/\n") {
		n, err := out.Read(buf)
		require.NoError(t, err, text)
		text += string(buf[:n])
	}
	line := regexp.MustCompile(`trimlantern (init .*)`).FindStringSubmatch(text)
	require.NotNil(t, line, text)
	initArgs = strings.Fields(strings.ReplaceAll(line[1], "'", ""))
	obtain := regexp.MustCompile(`trimlantern (cert obtain .*)`).FindStringSubmatch(text)
	require.NotNil(t, obtain, text)
	return dir, initArgs, strings.Fields(obtain[1])
}

func TestDemo(t *testing.T) {
	began := time.Now()
	r := want(t, 0, t.TempDir(), "demo")
	assert.Less(t, time.Since(began), 20*time.Second)
	for _, say := range []string{"$ trimlantern switch", "1 of 9  Your site", "9 of 9  Summary", "1 copy put in place", "$ trimlantern undo", "Every page is clean", "All of it came out as it must"} {
		assert.Contains(t, r.out, say)
	}
	assert.NotContains(t, r.out, "\x1b", "no colours where there is no terminal")
	for line := range strings.Lines(r.out) {
		assert.LessOrEqual(t, len([]rune(strings.TrimSuffix(line, "\n"))), 80, line)
	}
}

func TestRoadByHand(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	info, err := os.Stat(siteFile(dir))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	before := dump(t, filepath.Join(dir, "site.db"))
	theme := folder(t, filepath.Join(dir, "theme"))

	var scan struct {
		Classes  map[string]int
		Culprits []struct{ URL, Class, By string }
		Pages    []struct {
			URL, Title string
			Findings   []struct{ Line, Column int }
		}
	}
	decode(t, want(t, 1, dir, "scan", "--format", "json"), &scan)
	assert.Greater(t, scan.Classes["blocked"], 20)
	assert.Greater(t, scan.Classes["upgraded"], 100)
	assert.Equal(t, 1, scan.Classes["form"])
	assert.Greater(t, scan.Classes["link"], 1000)
	assert.Greater(t, len(scan.Pages), 40)

	var preview struct {
		Sheet             string
		Cells, References int
		Left              map[string]int
		Findings          []struct{ Reason, File, URL, Label, Note string }
		Verdicts          map[string]string
		Addresses         []struct{ Name, Value string }
		Files             []struct {
			Path       string
			References int
			Lines      []struct{ Before, After string }
		}
	}
	decode(t, want(t, 0, dir, "preview", "--format", "json"), &preview)
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")), "preview changes nothing")
	assert.Equal(t, 53, preview.Cells)
	assert.Equal(t, 104, preview.References)
	assert.Equal(t, map[string]int{"identifier": 40, "linked": 6, "standard": 3, "look-alike": 1, "cached": 1, "no-https": 1, "private": 1, "unsound": 1}, preview.Left)
	assert.True(t, strings.HasPrefix(preview.Verdicts["maps.coastline.example"], "secure"), preview.Verdicts)
	assert.True(t, strings.HasPrefix(preview.Verdicts["charts.tideoffice.example"], "insecure"), preview.Verdicts)
	assert.Len(t, preview.Addresses, 2)
	require.Len(t, preview.Files, 2)
	for i, path := range []string{"theme/footer.html", "theme/header.html"} {
		f := preview.Files[i]
		assert.Equal(t, []any{path, 1, 1}, []any{f.Path, f.References, len(f.Lines)})
		assert.Equal(t, strings.Replace(f.Lines[0].Before, "http:", "https:", 1), f.Lines[0].After)
	}

	var applied struct {
		Planned, Changed, References int
		Journal                      string
		Second                       struct{ Cells int } `json:"second_preview"`
	}
	decode(t, want(t, 0, dir, "apply", "--format", "json"), &applied)
	assert.Equal(t, []int{53, 53, 106, 0}, []int{applied.Planned, applied.Changed, applied.References, applied.Second.Cells})
	assert.NotEqual(t, before, dump(t, filepath.Join(dir, "site.db")))

	r := want(t, 2, dir, "apply")
	assert.Contains(t, r.errs, "was applied already")
	assert.Contains(t, r.errs, "What to do: ")

	decode(t, want(t, 1, dir, "scan", "--format", "json"), &scan)
	var left []string
	for _, c := range scan.Culprits {
		left = append(left, c.URL)
	}
	assert.ElementsMatch(t, []string{"http://charts.tideoffice.example/today.svg"}, left)

	var status struct {
		Next  string
		Steps []struct{ Name, State string }
	}
	decode(t, want(t, 1, dir, "status", "--format", "json"), &status)
	assert.Len(t, status.Steps, 7)
	assert.NotEmpty(t, status.Next)

	var undone struct {
		Back int
		Left []any
	}
	decode(t, want(t, 0, dir, "undo", "--format", "json"), &undone)
	assert.Equal(t, 53, undone.Back)
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")), "undo puts everything back")
	assert.Equal(t, theme, folder(t, filepath.Join(dir, "theme")), "files too, with their modes")
	assert.Contains(t, want(t, 2, dir, "undo").errs, "nothing to undo")
	assert.Contains(t, want(t, 2, dir, "undo", applied.Journal).errs, "was undone already")

	for _, f := range []string{"", preview.Sheet + ".sheet.jsonl.zst", applied.Journal + ".journal.jsonl.zst"} {
		info, err := os.Stat(filepath.Join(logbookOf(dir), f))
		require.NoError(t, err)
		assert.Zero(t, info.Mode().Perm()&0o077, "%s is nobody else's", f)
	}
	want(t, 0, dir, "apply") // what was undone can be done again
	var history struct {
		Entries []struct{ ID, Run, State string }
	}
	decode(t, want(t, 0, dir, "history", "--format", "json"), &history)
	runs := ""
	for _, e := range history.Entries {
		runs += e.Run + " " + strings.Fields(e.State)[0] + ", "
	}
	assert.Equal(t, "certificate until, scan 2162, preview sheet, apply undone, scan 1, apply finished, ", runs)
}

func TestUndoLeavesWhatOthersChanged(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	want(t, 0, dir, "preview", "--offline")
	db := open(t, filepath.Join(dir, "site.db"))
	exec := func(q string) {
		_, err := db.Exec(q)
		require.NoError(t, err)
	}
	exec(`UPDATE tr_posts SET post_content = post_content || ' more' WHERE post_name = 'visit'`)
	exec(`DELETE FROM tr_comments WHERE comment_author = 'Berrin'`)
	r := want(t, 1, dir, "apply", "--offline")
	assert.Contains(t, r.out, "tr_posts.post_content, key 2: changed since the preview")
	assert.Contains(t, r.out, "tr_comments.comment_content, key 1: the row is gone")
	status := want(t, 1, dir, "status").out
	assert.Contains(t, status, "[!] apply")
	assert.Contains(t, status, "Next: trimlantern preview")
	exec(`UPDATE tr_posts SET post_content = 'rewritten' WHERE post_name = 'history'`)
	r = want(t, 1, dir, "undo")
	assert.Contains(t, r.out, "tr_posts.post_content, key 3: changed by somebody since")
	var text string
	require.NoError(t, db.QueryRow(`SELECT post_content FROM tr_posts WHERE post_name = 'history'`).Scan(&text))
	assert.Equal(t, "rewritten", text)
}

func decode(t testing.TB, r result, v any) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(r.out), v), r.out)
}

func open(t testing.TB, path string) *sql.DB {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(10000)")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	return db
}

// dump returns all rows of all tables.
func dump(t testing.TB, path string) string {
	db := open(t, path)
	var out strings.Builder
	tables, err := db.Query(`SELECT name FROM sqlite_schema WHERE type = 'table' ORDER BY name`)
	require.NoError(t, err)
	var names []string
	for tables.Next() {
		var n string
		require.NoError(t, tables.Scan(&n))
		names = append(names, n)
	}
	require.NoError(t, tables.Err())
	for _, n := range names {
		rows, err := db.Query(`SELECT * FROM "` + n + `" ORDER BY 1`)
		require.NoError(t, err)
		columns, err := rows.Columns()
		require.NoError(t, err)
		for rows.Next() {
			values := make([]any, len(columns))
			for i := range values {
				values[i] = new(any)
			}
			require.NoError(t, rows.Scan(values...))
			for _, v := range values {
				fmt.Fprintf(&out, "%T %q\t", *v.(*any), fmt.Sprint(*v.(*any)))
			}
			out.WriteString("\n")
		}
		require.NoError(t, rows.Err())
	}
	return out.String()
}

// bare makes a folder with a small database and its site file.
func bare(t testing.TB, rows int) string {
	t.Helper()
	dir := t.TempDir()
	for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	db := open(t, filepath.Join(dir, "site.db"))
	_, err := db.Exec(`CREATE TABLE m_options (option_id INTEGER PRIMARY KEY, option_name TEXT UNIQUE, option_value TEXT);
		CREATE TABLE m_posts (ID INTEGER PRIMARY KEY, post_title TEXT, post_content TEXT, guid TEXT);
		CREATE TABLE m_postmeta (meta_id INTEGER PRIMARY KEY, post_id INTEGER, meta_key TEXT, meta_value BLOB);
		INSERT INTO m_options VALUES (1, 'home', 'http://ternrock.example'), (2, 'siteurl', 'http://ternrock.example/core');
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < ?1)
			INSERT INTO m_posts SELECT i, 'Post ' || i, '<p>' || hex(randomblob(300)) || ' http://ternrock.example/' || i || '</p>', 'http://ternrock.example/?p=' || i FROM n;
		INSERT INTO m_postmeta VALUES (1, 1, 'bytes', CAST('a:1:{s:4:"' || char(0) || '*' || char(0) || 'u";s:23:"http://ternrock.example";}' AS BLOB))`, rows)
	require.NoError(t, err)
	want(t, 0, dir, "init", "--here", "--site", "https://ternrock.example", "--database", "sqlite:site.db")
	return dir
}

func TestInterrupted(t *testing.T) {
	dir := bare(t, 15000)
	path := filepath.Join(dir, "site.db")
	before := dump(t, path)
	want(t, 0, dir, "preview", "--offline")
	twin := t.TempDir() // the undisturbed run, on a copy
	for _, name := range []string{"site.db", "trimlantern.yaml"} {
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(twin, name), b, 0o600))
	}
	want(t, 0, twin, "preview", "--offline")
	want(t, 0, twin, "apply", "--offline")
	undisturbed := dump(t, filepath.Join(twin, "site.db"))

	journalled := func() (size int64) {
		paths, err := filepath.Glob(filepath.Join(logbookOf(dir), "*.journal.jsonl.zst"))
		require.NoError(t, err)
		for _, p := range paths {
			if info, err := os.Stat(p); err == nil {
				size += info.Size()
			}
		}
		return size
	}
	// start runs apply or undo and sends a signal once it is at work.
	start := func(signal os.Signal, args ...string) (result, bool) {
		c := exec.Command(program, args...)
		c.Dir, c.Env = dir, environment(dir)
		var errs bytes.Buffer
		c.Stderr = &errs
		before := journalled()
		require.NoError(t, c.Start())
		ended := make(chan struct{})
		go func() { _ = c.Wait(); close(ended) }() // its exit code is looked at
		for wait := true; wait && args[0] == "apply" && journalled() <= before; {
			select {
			case <-ended:
				wait = false
			case <-time.After(time.Millisecond):
			}
		}
		select {
		case <-ended:
		case <-time.After(time.Duration(5+interrupts*17%120) * time.Millisecond):
		}
		interrupts++
		_ = c.Process.Signal(signal) // too late: it has ended, and the caller looks
		<-ended
		done := c.ProcessState.Success() || strings.Contains(errs.String(), "applied already") || strings.Contains(errs.String(), "nothing to undo")
		return result{c.ProcessState.ExitCode(), "", errs.String()}, done
	}
	r, finished := start(os.Interrupt, "apply", "--offline")
	if !finished {
		assert.Equal(t, 3, r.code)
		assert.Contains(t, r.errs, "interrupted")
		assert.Contains(t, r.errs, "continue with the same command")
		assert.NotEqual(t, undisturbed, dump(t, path), "it stopped in the middle")
		assert.Contains(t, want(t, 1, dir, "status").out, "interrupted after")
	}
	kills := 0
	for range 12 {
		if finished {
			break
		}
		if _, finished = start(syscall.SIGKILL, "apply", "--offline"); !finished {
			kills++
		}
	}
	if !finished {
		if r := run(t, dir, "apply", "--offline"); r.code == 2 { // killed behind its last change
			assert.Contains(t, r.errs, "was applied already")
		} else {
			assert.Equal(t, 0, r.code, r.errs)
			assert.Contains(t, r.out, "Went on with the run that was interrupted.")
			assert.Contains(t, r.out, "the counts agree: 15 003 cells planned, 15 003 changed")
		}
	}
	require.True(t, undisturbed == dump(t, path), "the end is that of an undisturbed run")
	finished = false
	for range 6 {
		if finished {
			break
		}
		if _, finished = start(syscall.SIGKILL, "undo"); !finished {
			kills++
		}
	}
	if !finished {
		if r := run(t, dir, "undo"); r.code == 2 { // the same
			assert.Contains(t, r.errs, "there is nothing to undo")
		} else {
			assert.Equal(t, 0, r.code, r.errs)
		}
	}
	require.True(t, before == dump(t, path), "undo puts everything back")
	t.Logf("killed %d times", kills)
	assert.Positive(t, kills, "the test must catch it at work")
}

var interrupts int

func TestSystemCommand(t *testing.T) {
	dir := t.TempDir()
	for name, c := range map[string]struct {
		args []string
		code int
		say  string
	}{
		"all":        {[]string{"systems"}, 0, "generic"},
		"one":        {[]string{"systems", "wordpress"}, 0, "permanent identifiers, never changed\n    posts.guid"},
		"none":       {[]string{"systems", "nothing"}, 2, "known are generic, wordpress"},
		"no file":    {[]string{"systems", "nothing.yaml"}, 2, "there is no file nothing.yaml"},
		"broken":     {[]string{"systems", "broken.yaml"}, 2, "line 2: the key colour is not known"},
		"no site":    {[]string{"systems", "--against-database"}, 2, "there is no trimlantern.yaml"},
		"as JSON":    {[]string{"systems", "wordpress", "--format", "json"}, 0, `"locks": {`},
		"two of one": {[]string{"systems", "a", "b"}, 2, "takes one NAME or FILE.yaml"},
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "broken.yaml"), []byte("name: x\ncolour: red\n"), 0o644))
		r := run(t, dir, c.args...)
		assert.Equal(t, c.code, r.code, name)
		assert.Contains(t, r.out+r.errs, c.say, name)
	}
}

// replaceOnce puts one text in the place of another, which must be there.
func replaceOnce(t testing.TB, text, from, to string) string {
	t.Helper()
	require.Contains(t, text, from)
	return strings.Replace(text, from, to, 1)
}
