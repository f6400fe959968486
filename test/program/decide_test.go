package program

import (
	"bufio"
	dbsql "database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// worklist is what these tests read of show.
type worklist struct {
	Items []struct {
		Number       int
		Finding, URL string
		Reason       string
		Choices      []string
		Pending      string
	}
	Decided int
}

func toDecide(t *testing.T, dir string) (w worklist) {
	decode(t, want(t, 0, dir, "show", "--format", "json"), &w)
	return w
}

// number finds an item by its URL or reason.
func (w worklist) number(t *testing.T, what string) string {
	for _, i := range w.Items {
		if i.URL == what || i.Reason == what {
			return fmt.Sprint(i.Number)
		}
	}
	require.Fail(t, "no item", "%s in %+v", what, w)
	return ""
}

const (
	chart     = "http://charts.tideoffice.example/today.svg"
	neighbour = "http://localhost:8080/"
)

// TestDecide works the list of the made-up site off to zero, and takes all of it back.
func TestDecide(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	before := dump(t, filepath.Join(dir, "site.db"))
	assert.Contains(t, want(t, 0, dir, "show").out, "Nothing was looked at yet")
	want(t, 1, dir, "preview", "--fail-on", "person")
	want(t, 1, dir, "preview", "--fail-on", "change")
	w := toDecide(t, dir)
	require.Len(t, w.Items, 3)
	numbers := []string{w.number(t, chart), w.number(t, neighbour), w.number(t, "unsound")}

	for _, c := range []struct {
		args []string
		code int
		say  string
	}{
		{[]string{"adopt", "99"}, 2, "nothing that needs a decision has the number 99"},
		{[]string{"adopt"}, 2, "needs one number, URL or host"},
		{[]string{"adopt", "https://charts.tideoffice.example/today.svg"}, 2, "is secure already"},
		{[]string{"adopt", "http://ternrock.example/media/lens.svg"}, 2, "is the site's own"},
		{[]string{"adopt", "nobody.example"}, 2, "nothing of nobody.example waits"},
		{[]string{"adopt", numbers[2]}, 2, "is not something that can be copied"},
		{[]string{"adopt", chart, "--at", "https://elsewhere.example/x"}, 2, "is not an HTTPS address of the site"},
		{[]string{"adopt", chart, "--into", "/srv/elsewhere"}, 2, "cannot determine at which address"},
		{[]string{"replace", chart, "http://ternrock.example/x"}, 2, "is not an address that can replace it"},
		{[]string{"replace", chart, "https://ternrock.example/?u=http://x.example"}, 2, "holds an insecure address itself"},
		{[]string{"replace", "https://a.example/x", "https://b.example/x"}, 2, "is not an insecure URL"},
		{[]string{"replace", chart}, 2, "needs two"},
		{[]string{"accept", numbers[1]}, 2, "a decision needs a reason"},
		{[]string{"accept", "http://nowhere.example/", "--because", "x"}, 2, "is nothing that preview or the last scan found"},
		{[]string{"leave", "ternrock.example"}, 2, "is the site's own name"},
		{[]string{"secure", "not a host"}, 2, "is not the name of a host"},
		{[]string{"forget", "partner.example"}, 2, "nothing was decided about partner.example"},
	} {
		r := want(t, c.code, dir, append([]string{"decide"}, c.args...)...)
		assert.Contains(t, r.errs, c.say, c.args)
		assert.Contains(t, r.errs, "What to do: ", c.args)
	}
	assert.Zero(t, toDecide(t, dir).Decided, "what was refused decides nothing")

	// Decisions about hosts, taken back again.
	want(t, 0, dir, "decide", "leave", "charts.tideoffice.example")
	assert.Len(t, toDecide(t, dir).Items, 2)
	want(t, 0, dir, "decide", "forget", "charts.tideoffice.example")
	want(t, 0, dir, "decide", "replace", chart, "https://ternrock.example/media/tide-chart.svg")
	assert.Contains(t, want(t, 2, dir, "decide", "replace", chart, "https://ternrock.example/other.svg").errs, "is replaced already")
	want(t, 0, dir, "decide", "forget", chart)
	assert.Zero(t, toDecide(t, dir).Decided)

	r := want(t, 0, dir, "decide", "adopt", numbers[0])
	assert.Contains(t, r.out, "1 copy fetched")
	assert.NoDirExists(t, filepath.Join(dir, "kept"), "nothing is changed yet")
	want(t, 0, dir, "decide", "accept", neighbour, "--because", "the neighbour wrote it")
	want(t, 0, dir, "mend")
	want(t, 0, dir, "apply")
	want(t, 0, dir, "preview", "--fail-on", "person")
	assert.Empty(t, toDecide(t, dir).Items)
	assert.Contains(t, want(t, 0, dir, "show").out, "Nothing needs a decision as far as was looked", "no page was read yet")

	want(t, 0, dir, "apply", "--fail-on", "change,person")
	copied, err := os.ReadFile(filepath.Join(dir, "kept", "charts.tideoffice.example", "today.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(copied), "<svg")
	assert.Contains(t, dump(t, filepath.Join(dir, "site.db")), `https://ternrock.example/kept/charts.tideoffice.example/today.svg`)
	assert.NotContains(t, dump(t, filepath.Join(dir, "site.db")), chart)
	assert.Contains(t, want(t, 0, dir, "scan").out, "Every page is clean: nothing insecure")
	assert.Contains(t, want(t, 0, dir, "show").out, "Nothing needs a decision.")
	want(t, 0, dir, "preview", "--table", "posts")
	assert.Contains(t, want(t, 0, dir, "show").out, "as far as was looked", "the preview is of a part")

	want(t, 0, dir, "undo")
	want(t, 0, dir, "undo")
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")))
	assert.NoDirExists(t, filepath.Join(dir, "kept"))
}

// TestAcceptFinding accepts what a scan found: it is shown in every format, and counts in none.
func TestAcceptFinding(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	want(t, 0, dir, "preview")
	want(t, 0, dir, "apply")
	assert.Contains(t, want(t, 1, dir, "scan").out, "upgraded by browsers")
	w := toDecide(t, dir)
	want(t, 0, dir, "decide", "accept", w.number(t, chart), "--because", "the office promised HTTPS")
	r := want(t, 0, dir, "scan", "--report", "a.html", "--report", "a.csv", "--report", "a.xml", "--report", "a.sarif", "--report", "a.json")
	assert.Contains(t, r.out, "Every page is clean, except for 1 insecure address that you accepted.")
	assert.Contains(t, r.out, "the office promised HTTPS")
	for file, say := range map[string]string{"a.html": "Every page is clean, except for 1 insecure address that you accepted", "a.csv": "accepted: the office promised HTTPS", "a.sarif": "accepted: " + chart, "a.json": `"because": "the office promised HTTPS"`, "a.xml": `failures="0"`} {
		b, err := os.ReadFile(filepath.Join(dir, file))
		require.NoError(t, err)
		assert.Contains(t, string(b), say, file)
	}
	assert.Contains(t, run(t, dir, "status").out, "all clean, except for 1 finding that you accepted")
	want(t, 0, dir, "decide", "forget", chart)
	assert.NotContains(t, run(t, dir, "status").out, "all clean", "what counts again is no proof")
	want(t, 1, dir, "scan")
}

// lines reads JSON Lines.
func lines(t *testing.T, out string) (head map[string]any, all []map[string]any) {
	s := bufio.NewScanner(strings.NewReader(out))
	s.Buffer(nil, 1<<20)
	for s.Scan() {
		var one map[string]any
		require.NoError(t, json.Unmarshal(s.Bytes(), &one), s.Text())
		if head == nil {
			head = one
		} else {
			all = append(all, one)
		}
	}
	return head, all
}

// TestShow lists everything of a sheet, a scan and a journal, whole, numbered and filtered.
func TestShow(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	assert.Contains(t, want(t, 2, dir, "show", "changes").errs, "trimlantern preview")
	assert.Contains(t, want(t, 2, dir, "show", "journal").errs, "nothing was changed yet")
	assert.Contains(t, want(t, 2, dir, "show", "scan").errs, "there is no scan yet")
	var p struct {
		Cells int
		Sheet string
		Left  map[string]int
	}
	decode(t, want(t, 0, dir, "preview", "--format", "json"), &p)
	list := func(args ...string) []map[string]any {
		head, all := lines(t, want(t, 0, dir, append(append([]string{"show"}, args...), "--format", "json")...).out)
		assert.EqualValues(t, 1, head["version"])
		assert.Equal(t, args[0], head["show"])
		return all
	}
	all := list("changes")
	assert.Len(t, all, p.Cells+3, "cells, files, a cached row")
	for i, one := range all {
		assert.EqualValues(t, i+1, one["number"])
		if one["kind"] == "cached row" {
			continue
		}
		assert.NotEmpty(t, one["edits"], one)
		afters := ""
		for _, e := range one["edits"].([]any) {
			before, after := e.(map[string]any)["before"].(string), e.(map[string]any)["after"].(string)
			assert.NotEqual(t, before, after)
			afters += after
		}
		assert.Contains(t, strings.ToLower(afters), "https")
	}
	assert.Equal(t, all, list("changes", p.Sheet), "by name")
	assert.Len(t, list("changes", "--table", "comments"), 2)
	assert.Len(t, list("changes", "--file", "*.html"), 2)
	assert.Len(t, list("changes", "--host", "maps.coastline.example"), 1)
	left := 0
	for _, n := range p.Left {
		left += n
	}
	counted := 0
	for _, one := range list("left") {
		counted += int(one["count"].(float64))
	}
	assert.Equal(t, left, counted)
	assert.Len(t, list("left", "--reason", "unsound"), 1)

	want(t, 1, dir, "scan")
	onFront := list("scan", "--page", "/")
	assert.NotEmpty(t, onFront)
	assert.Less(t, len(onFront), len(list("scan")))
	for _, one := range list("scan", "--reason", "blocked") {
		assert.Equal(t, "blocked", one["class"])
	}

	want(t, 0, dir, "apply")
	journal := list("journal")
	assert.Len(t, journal, p.Cells+2)
	applied := list("changes")
	assert.Len(t, applied, p.Cells+2, "of the journal, now that it is carried out")
	// A value that changed since is named.
	want(t, 0, dir, "undo")
	db := open(t, filepath.Join(dir, "site.db"))
	_, err := db.Exec(`UPDATE tr_users SET user_url = 'http://ternrock.example/new' WHERE ID = 1`)
	require.NoError(t, err)
	assert.Contains(t, want(t, 0, dir, "show", "left").out, "findings of sheet")
	assert.Contains(t, want(t, 2, dir, "show", "changes", "nothing").errs, "no change sheet is called nothing")
}

// TestAdoptKinds fetches what may be copied, and refuses what may not, from a server that says anything.
func TestAdoptKinds(t *testing.T) {
	png := "\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x00\x00\x01"
	woff := "wOF2" + strings.Repeat("\x00", 60)
	answers := map[string][2]string{
		"/a.png": {"image/png", png}, "/pic": {"image/png", png}, "/q.png": {"image/png", png}, "/x.php": {"image/png", png},
		"/fake.png": {"image/png", "<html><script>alert(1)</script>"}, "/page": {"text/html", "<html>x"}, "/empty.png": {"image/png", ""},
		"/ok.svg": {"image/svg+xml", `<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0"/></svg>`}, "/evil.svg": {"image/svg+xml", `<svg><script>1</script></svg>`}, "/on.svg": {"image/svg+xml", `<svg onload="x()"></svg>`},
		"/a.js": {"text/javascript", "var a = 1"}, "/f.woff2": {"font/woff2", woff}, "/large.png": {"image/png", png + strings.Repeat("x", 17<<20)},
		"/s/main.css":          {"text/css", `@import "more.css"; .a{background:url(../a.png)} .b{background:url('data:image/png;base64,AA')} @font-face{src:url(/f.woff2#x)} .c{background:url(gone.png)}`},
		"/s/more.css":          {"text/css", `@import url(main.css); .d{background:url(../a.png)}`},
		"/%2e%2e/%2e%2e/x.png": {"image/png", png},
	}
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a, ok := answers[r.URL.EscapedPath()]
		if !ok {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", a[0])
		fmt.Fprint(w, a[1])
	}))
	t.Cleanup(other.Close)
	dir, initArgs := museum(t)
	addr := strings.TrimPrefix(other.URL, "http://")
	want(t, 0, dir, append(initArgs[:len(initArgs)-1:len(initArgs)-1], "--resolve", "cdn.example:80:"+addr, ".")...)
	want(t, 0, dir, "preview", "--offline")
	for _, c := range []struct {
		path, file, say string
	}{
		{"/a.png", "cdn.example/a.png", ""}, {"/pic", "cdn.example/pic.png", ""}, {"/q.png?v=1&w=2", "cdn.example/q-", ""}, {"/x.php", "cdn.example/x.php.png", ""},
		{"/ok.svg", "cdn.example/ok.svg", ""}, {"/f.woff2", "cdn.example/f.woff2", ""},
		{"/%2e%2e/%2e%2e/x.png", "cdn.example/", ""},
		{"/fake.png", "", "looks like text/html"}, {"/page", "", "it is text/html, of which no copy is kept"}, {"/empty.png", "", "empty"}, {"/gone.png", "", "answered 404"},
		{"/evil.svg", "", "with code in it"}, {"/on.svg", "", "with code in it"}, {"/a.js", "", "add --scripts"}, {"/large.png", "", "larger than 16 MB"},
	} {
		r := run(t, dir, "decide", "adopt", "http://cdn.example"+c.path, "--format", "json")
		if c.say != "" {
			assert.Equal(t, 1, r.code, c.path)
			assert.Contains(t, r.out, c.say, c.path)
			continue
		}
		require.Equal(t, 0, r.code, "%s\n%s", c.path, r.errs+r.out)
		assert.Contains(t, r.out, `"file": "kept/`+c.file, c.path)
		assert.NotContains(t, r.out, "..", c.path)
	}
	want(t, 0, dir, "decide", "adopt", "http://cdn.example/a.js", "--scripts")
	r := run(t, dir, "decide", "adopt", "http://cdn.example/s/main.css")
	assert.Equal(t, 1, r.code, "one thing that it pulls in is gone")
	assert.Contains(t, r.out, "http://cdn.example/s/gone.png")

	// The copies are put in place, and the style sheets point to each other.
	db := open(t, filepath.Join(dir, "site.db"))
	_, err := db.Exec(`UPDATE tr_posts SET post_content = post_content || '<link rel=stylesheet href="http://cdn.example/s/main.css"><img src="http://cdn.example/q.png?v=1&amp;w=2">' WHERE ID = 1`)
	require.NoError(t, err)
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "apply")
	css, err := os.ReadFile(filepath.Join(dir, "kept", "cdn.example", "s", "main.css"))
	require.NoError(t, err)
	assert.Equal(t, `@import "../../cdn.example/s/more.css"; .a{background:url(../../cdn.example/a.png)} .b{background:url('data:image/png;base64,AA')} @font-face{src:url(../../cdn.example/f.woff2#x)} .c{background:url(https://cdn.example/s/gone.png)}`, string(css))
	assert.Contains(t, dump(t, filepath.Join(dir, "site.db")), `https://ternrock.example/kept/cdn.example/s/main.css`)
	assert.Contains(t, dump(t, filepath.Join(dir, "site.db")), `https://ternrock.example/kept/cdn.example/q-`)
	assert.NotContains(t, dump(t, filepath.Join(dir, "site.db")), `http://cdn.example`)
	want(t, 0, dir, "undo")
	assert.NoDirExists(t, filepath.Join(dir, "kept"))
}

// TestAdoptNotServed puts copies where no web server serves them: nothing is changed, and they go again.
func TestAdoptNotServed(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	before := dump(t, filepath.Join(dir, "site.db"))
	want(t, 0, dir, "preview")
	assert.Contains(t, want(t, 2, dir, "decide", "adopt", chart, "--into", filepath.Join(dir, "elsewhere", "copies")).errs, "there is no folder "+filepath.Join(dir, "elsewhere"))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "elsewhere"), 0o755))
	want(t, 0, dir, "decide", "adopt", chart, "--into", filepath.Join(dir, "elsewhere", "copies"), "--at", "https://ternrock.example/elsewhere/copies")
	want(t, 0, dir, "preview")
	r := want(t, 3, dir, "apply")
	assert.Contains(t, r.errs, "is not served as it is, so nothing was changed and the copies were taken away again")
	assert.Contains(t, r.errs, "answered 404")
	assert.NoDirExists(t, filepath.Join(dir, "elsewhere", "copies"))
	assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")))
	// Another place for some of the copies would mislead those that are there.
	assert.Contains(t, want(t, 2, dir, "decide", "adopt", "http://charts.tideoffice.example/other.svg", "--into", filepath.Join(dir, "media", "kept")).errs, "copies are kept in elsewhere/copies already")
	want(t, 0, dir, "decide", "forget", "charts.tideoffice.example")
	want(t, 0, dir, "decide", "adopt", chart, "--into", filepath.Join(dir, "media", "kept"))
	want(t, 0, dir, "preview")
	// A file that came to be there is not written over.
	there := filepath.Join(dir, "media", "kept", "charts.tideoffice.example", "today.svg")
	require.NoError(t, os.MkdirAll(filepath.Dir(there), 0o755))
	require.NoError(t, os.WriteFile(there, []byte("the owner's own"), 0o644))
	assert.Contains(t, want(t, 2, dir, "apply").errs, "has appeared since the preview")
	assert.Contains(t, want(t, 2, dir, "preview").errs, "already exists, and is not the copy")
	require.NoError(t, os.Remove(there))
	assert.Contains(t, want(t, 0, dir, "apply").out, "1 copy put in place: served as they are")
	want(t, 0, dir, "undo")
	assert.NoFileExists(t, there)
	want(t, 0, dir, "preview")
	r = want(t, 0, dir, "apply", "--offline")
	assert.Contains(t, r.out, "nobody asked the web server for them (--offline)")
	assert.NotContains(t, r.out, "served as they are")
	want(t, 0, dir, "undo")
	assert.FileExists(t, filepath.Join(dir, "media", "lens.svg"), "what was there stays")
}

// TestAdoptKilled kills apply while it puts copies in place and changes what points to them: the same command goes
// on, and undo takes all of it back.
func TestAdoptKilled(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	before := dump(t, filepath.Join(dir, "site.db"))
	want(t, 0, dir, "preview")
	want(t, 0, dir, "decide", "adopt", chart)
	began := time.Now()
	want(t, 0, dir, "preview")
	want(t, 0, dir, "apply")
	whole := time.Since(began)
	after := dump(t, filepath.Join(dir, "site.db"))
	want(t, 0, dir, "undo")
	for i := range 12 {
		want(t, 0, dir, "preview")
		c := exec.Command(program, "apply", "--quiet")
		c.Dir, c.Env = dir, environment(dir)
		require.NoError(t, c.Start())
		time.Sleep(whole * time.Duration(i) / 16)
		_ = c.Process.Kill()
		_ = c.Wait()
		if r := run(t, dir, "apply"); r.code != 0 {
			assert.Contains(t, r.errs, "was applied already", "killed after %d/16", i)
		}
		assert.Equal(t, after, dump(t, filepath.Join(dir, "site.db")))
		assert.FileExists(t, filepath.Join(dir, "kept", "charts.tideoffice.example", "today.svg"))
		want(t, 0, dir, "undo")
		assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")))
		assert.NoDirExists(t, filepath.Join(dir, "kept"))
	}
}

// query runs a statement on an SQLite database, and returns the first column of the first row.
func query(t *testing.T, path, statement string) (out string) {
	t.Helper()
	db, err := dbsql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	if !strings.HasPrefix(statement, "SELECT") {
		_, err = db.Exec(statement)
		require.NoError(t, err)
		return ""
	}
	require.NoError(t, db.QueryRow(statement).Scan(&out))
	return out
}

// A text is edited by itself, and sealed again in what encloses it; what somebody changed meanwhile is left and named.
func TestDecideEdit(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	db := filepath.Join(dir, "site.db")
	nested := `a:1:{s:4:"note";s:60:"see http://ternrock.example:8080/rota and \"the keeper's\" log";}`
	nested = strings.ReplaceAll(nested, `\"`, `"`)
	nested = strings.Replace(nested, "s:60", fmt.Sprintf("s:%d", len(`see http://ternrock.example:8080/rota and "the keeper's" log`)), 1)
	query(t, db, "INSERT INTO tr_options (option_name, option_value) VALUES ('rota', '"+strings.ReplaceAll(nested, "'", "''")+"')")
	before := dump(t, db)
	want(t, 0, dir, "preview")
	w := toDecide(t, dir)
	broken := w.number(t, "unsound")
	port := w.number(t, "http://ternrock.example:8080/rota")
	for _, c := range []struct {
		args []string
		say  string
	}{
		{[]string{"99"}, "has the number 99"},
		{[]string{"x"}, "not the number of an item"},
		{[]string{broken, "--text", "none.txt"}, "cannot be read: none.txt"},
		{[]string{broken, "--text", "short.txt"}, "a serialized value that cannot be read"},
		{[]string{broken, "--text", "same.txt"}, "the text is as it was"},
		{[]string{broken}, "neither VISUAL nor EDITOR is set"},
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "short.txt"), []byte(`a:1:{s:4:"link";s:9:"https://ternrock.example/";}`), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "same.txt"), []byte(`a:1:{s:4:"link";s:9:"http://ternrock.example/old/";}`+"\n"), 0o600))
		t.Setenv("VISUAL", "")
		t.Setenv("EDITOR", "")
		assert.Contains(t, want(t, 2, dir, append([]string{"decide", "edit"}, c.args...)...).errs, c.say)
	}

	editor := filepath.Join(dir, "editor.sh")
	require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\ncp \"$1\" seen.txt\nprintf 'see https://rota.example/ and <b>\"the keeper'\\''s\"</b> log\\n' >\"$1\"\n"), 0o700))
	t.Setenv("EDITOR", editor)
	want(t, 0, dir, "decide", "edit", port)
	seen, err := os.ReadFile(filepath.Join(dir, "seen.txt"))
	require.NoError(t, err)
	assert.Equal(t, `see http://ternrock.example:8080/rota and "the keeper's" log`, string(seen), "decoded, without what encloses it")
	sound := `a:1:{s:4:"link";s:25:"https://ternrock.example/";}`
	require.NoError(t, os.WriteFile(filepath.Join(dir, "sound.txt"), []byte(sound+"\n"), 0o600))
	want(t, 0, dir, "decide", "edit", broken, "--text", "sound.txt")
	assert.Contains(t, want(t, 2, dir, "decide", "forget", "http://ternrock.example:8080/rota").errs, "nothing was decided", "a URL in the edited text is something else")
	assert.Contains(t, want(t, 0, dir, "show", "decided").out, "2 decisions")
	for _, i := range toDecide(t, dir).Items {
		if n := fmt.Sprint(i.Number); n == broken || n == port {
			assert.NotEmpty(t, i.Pending)
		}
	}

	assert.Contains(t, want(t, 0, dir, "preview").out, "2 texts")
	assert.Len(t, toDecide(t, dir).Items, 2, "what is edited needs nobody")
	want(t, 0, dir, "apply")
	const edited = `see https://rota.example/ and <b>"the keeper's"</b> log`
	assert.Equal(t, fmt.Sprintf(`a:1:{s:4:"note";s:%d:"%s";}`, len(edited), edited), query(t, db, "SELECT option_value FROM tr_options WHERE option_name = 'rota'"))
	assert.Equal(t, sound, query(t, db, "SELECT option_value FROM tr_options WHERE option_name = 'broken_import'"))
	want(t, 0, dir, "preview", "--fail-on", "change") // twice equals once
	want(t, 0, dir, "undo")
	assert.Equal(t, before, dump(t, db))

	query(t, db, "UPDATE tr_options SET option_value = 'a:1:{s:4:\"link\";s:8:\"http://ternrock.example/new/\";}' WHERE option_name = 'broken_import'")
	want(t, 0, dir, "preview")
	assert.Contains(t, want(t, 0, dir, "show", "left", "--reason", "unsound").out, "your edit cannot be made")
	assert.Contains(t, want(t, 0, dir, "decide", "forget", toDecide(t, dir).number(t, "unsound")).out, "Taken back")
	assert.Contains(t, want(t, 0, dir, "show", "decided").out, "1 decision ")
}

// Own addresses at a place are written from the path on where pages read them, and whole everywhere else.
func TestDecideRelative(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	db := filepath.Join(dir, "site.db")
	before := dump(t, db)
	theme, err := os.ReadFile(filepath.Join(dir, "theme", "footer.html"))
	require.NoError(t, err)
	for place, say := range map[string]string{"posts": "holds pages", "posts.post_content": "holds pages", "*.post_content": "holds pages", "nothing": "no table or column matches", "[": "is not a place", "file:": "is not a place"} {
		assert.Contains(t, want(t, 2, dir, "decide", "relative", place).errs, say, place)
	}
	for _, place := range []string{"setting:widget_text", "comments", "file:*.html"} {
		want(t, 0, dir, "decide", "relative", place)
		assert.Contains(t, want(t, 2, dir, "decide", "relative", place).errs, "decided already")
	}
	want(t, 0, dir, "preview")
	want(t, 0, dir, "apply")
	widget := query(t, db, "SELECT option_value FROM tr_options WHERE option_name = 'widget_text'")
	assert.Contains(t, widget, `<img src="/media/map.svg"`)
	assert.NotContains(t, widget, "http")
	assert.Contains(t, query(t, db, "SELECT option_value FROM tr_options WHERE option_name = 'home'"), "https://ternrock.example", "another place")
	assert.Contains(t, query(t, db, "SELECT group_concat(comment_content) FROM tr_comments"), `<img src="/media/tern.svg"`)
	assert.Contains(t, query(t, db, "SELECT group_concat(post_content) FROM tr_posts"), `src="https://ternrock.example/media/`)
	now, err := os.ReadFile(filepath.Join(dir, "theme", "footer.html"))
	require.NoError(t, err)
	assert.Contains(t, string(now), `<img src="/media/badge.svg"`)
	assert.Equal(t, 1, run(t, dir, "scan").code)
	for _, u := range []string{"map.svg", "badge.svg"} {
		assert.NotContains(t, want(t, 0, dir, "show", "scan").out, u, "the pages load it securely")
	}
	want(t, 0, dir, "undo")
	assert.Equal(t, before, dump(t, db))
	back, err := os.ReadFile(filepath.Join(dir, "theme", "footer.html"))
	require.NoError(t, err)
	assert.Equal(t, string(theme), string(back))
	want(t, 0, dir, "decide", "forget", "comments")
	assert.NotContains(t, want(t, 0, dir, "show", "decided").out, "comments")
}

// An item that is stored in several places is edited in all of them: equal texts with one answer, others one by one, and what
// a new text is not for is named.
func TestDecideEditPlaces(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	db := filepath.Join(dir, "site.db")
	for _, row := range [][2]string{{"rota_a", "see http://ternrock.example:8080/rota"}, {"rota_b", "see http://ternrock.example:8080/rota"}, {"rota_c", "the rota: http://ternrock.example:8080/rota"}} {
		query(t, db, "INSERT INTO tr_options (option_name, option_value) VALUES ('"+row[0]+"', '"+row[1]+"')")
	}
	before := dump(t, db)
	want(t, 0, dir, "preview")
	number := toDecide(t, dir).number(t, "http://ternrock.example:8080/rota")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "new.txt"), []byte("see https://rota.example/\n"), 0o600))
	out := want(t, 0, dir, "decide", "edit", number, "--text", "new.txt").out
	assert.Contains(t, out, "2 places")
	assert.Contains(t, out, "Not edited:")
	assert.Contains(t, out, "rota_c: it holds another text")

	editor := filepath.Join(dir, "editor.sh")
	require.NoError(t, os.WriteFile(editor, []byte("#!/bin/sh\nsed -i 's|http://ternrock.example:8080|https://rota.example|' \"$1\"\n"), 0o700))
	t.Setenv("EDITOR", editor)
	out = want(t, 0, dir, "decide", "edit", number).out
	assert.Contains(t, out, "3 places")
	assert.NotContains(t, out, "Not edited")
	assert.Contains(t, want(t, 0, dir, "preview").out, "3 texts")
	want(t, 0, dir, "apply")
	assert.Equal(t, 2, strings.Count(dump(t, db), "see https://rota.example/rota"))
	assert.Equal(t, 1, strings.Count(dump(t, db), "the rota: https://rota.example/rota"))
	want(t, 0, dir, "undo")
	assert.Equal(t, before, dump(t, db))
}
