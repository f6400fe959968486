package program

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// "Clean" and exit 0 are said only of a scan that read all it came to know of; of the whole site, only
// of one that began at the front page.
func TestNoFalseClean(t *testing.T) {
	where := ""
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		switch r.URL.Path {
		case "/":
			if where != "" {
				http.Redirect(w, r, where, http.StatusFound)
				return
			}
			fmt.Fprint(w, `<title>Tern Rock</title><a href="/a">a</a><a href="/b">b</a><a href="/private/c">c</a>`)
		case "/a", "/b", "/private/c", "/alone":
			fmt.Fprint(w, "<title>page</title><p>clean")
		case "/robots.txt":
			w.Header().Set("Content-Type", "text/plain")
			fmt.Fprint(w, "User-agent: *\nDisallow: /private/\n")
		default:
			http.NotFound(w, r)
		}
	}, nil)
	ca := filepath.Join(f.dir, "ca.pem")
	dir := t.TempDir()
	scan := func(code int, more ...string) (r result, html, junit, sarif string) {
		args := []string{"scan", "--site", "https://ternrock.example", "--ca", ca, "--resolve", "*:443:" + f.secure, "--report", "r.html", "--report", "r.xml", "--report", "r.sarif"}
		for _, name := range []string{"r.html", "r.xml", "r.sarif"} {
			require.NoError(t, os.RemoveAll(filepath.Join(dir, name)))
		}
		r = want(t, code, dir, append(args, more...)...)
		read := func(name string) string {
			b, err := os.ReadFile(filepath.Join(dir, name))
			if code != 3 && code != 2 {
				require.NoError(t, err)
			}
			return string(b)
		}
		return r, read("r.html"), read("r.xml"), read("r.sarif")
	}
	r, html, junit, sarif := scan(0)
	assert.Contains(t, r.out, "Every page is clean")
	assert.Contains(t, html, "Every page is clean")
	assert.NotContains(t, junit, "coverage")
	assert.NotContains(t, sarif, "not everything was read")
	for _, c := range [][]string{
		{"--depth", "0"}, {"--pages", "2"}, {"--robots"}, {"--depth", "0", "https://ternrock.example/"},
	} {
		r, html, junit, sarif := scan(1, c...)
		for _, text := range []string{r.out, html} {
			assert.NotContains(t, text, "Every page is clean", "%v", c)
			assert.Contains(t, text, "Clean as far as read: ", "%v", c)
		}
		assert.Contains(t, junit, `classname="coverage"`, "%v", c)
		assert.Contains(t, sarif, "not everything was read", "%v", c)
	}
	r, html, _, _ = scan(0, "--depth", "0", "https://ternrock.example/alone")
	for _, text := range []string{r.out, html} {
		assert.NotContains(t, text, "Every page is clean")
		assert.Contains(t, strings.Join(strings.Fields(text), " "), "the addresses given")
	}
	for _, c := range [][]string{{"--pages", "0"}, {"--depth", "-1"}} {
		r, _, _, _ := scan(2, c...)
		assert.Contains(t, r.errs, "write a number from")
	}
	where = "https://ternrock.elsewhere.example/"
	scan(3)
	where = ""

	// The road: a scan of a part, or of named pages, does not tick it, and HSTS stays short.
	site := bare(t, 1)
	inSiteFile(t, site, "database:\n", "network:\n  ca: "+ca+"\n  resolve: ['*:443:"+f.secure+"', '*:80:"+f.plain+"']\ndatabase:\n")
	want(t, 0, site, "preview", "--offline")
	want(t, 0, site, "apply", "--offline")
	for _, c := range []struct {
		code  int
		args  []string
		words string
	}{
		{1, []string{"--depth", "0"}, "clean as far as read: 1 of 4 pages"},
		{0, []string{"--depth", "0", "https://ternrock.example/alone"}, "clean as far as read: 1 of 4 pages"},
		{0, nil, "4 pages, all clean"},
	} {
		want(t, c.code, site, append([]string{"scan"}, c.args...)...)
		status := run(t, site, "status").out
		assert.Contains(t, strings.Join(strings.Fields(status), " "), c.words)
		assert.NotContains(t, status, "The site is on HTTPS", "neither certificate nor redirect was looked at")
		long := strings.Contains(want(t, 0, site, "redirect", "show", "apache", "--hsts").out, "max-age=300")
		assert.Equal(t, c.args != nil, long, "%v: five minutes until the whole site is clean", c.args)
	}
}

// A clause of the verdict that is open is named in every format, and closed by the owner: for one scan, or in the site file
// with a reason, until that decision is removed.
func TestAcceptedGaps(t *testing.T) {
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		switch r.URL.Path {
		case "/":
			fmt.Fprint(w, `<title>Tern Rock</title><script>go(["ht", "tp"].join(""))</script><a href="/shop/?add-to-cart=3">buy</a>`)
		default:
			http.NotFound(w, r)
		}
	}, nil)
	ca := filepath.Join(f.dir, "ca.pem")
	site := bare(t, 1)
	inSiteFile(t, site, "database:\n", "network:\n  ca: "+ca+"\n  resolve: ['*:443:"+f.secure+"', '*:80:"+f.plain+"']\ndatabase:\n")
	want(t, 0, site, "preview", "--offline")
	want(t, 0, site, "apply", "--offline")
	flat := func(text string) string { return strings.Join(strings.Fields(text), " ") }
	r := want(t, 1, site, "scan", "--report", "r.html", "--report", "r.xml", "--report", "r.sarif", "--report", "r.csv")
	assert.Contains(t, flat(r.out), "Clean as far as read: 1 of 2 pages, scripts were not run on 1 page.")
	for _, name := range []string{"r.html", "r.xml", "r.sarif", "r.csv"} {
		b, err := os.ReadFile(filepath.Join(site, name))
		require.NoError(t, err)
		assert.Contains(t, string(b), "scripts not run", name)
	}
	var scan struct {
		Coverage struct {
			Complete bool
			Clauses  []struct {
				Clause         string
				Closed         bool
				Open, Accepted int
			}
		}
	}
	decode(t, want(t, 1, site, "scan", "--accept-gap", "scripts", "--format", "json"), &scan)
	states := map[string]string{}
	for _, c := range scan.Coverage.Clauses {
		states[c.Clause] = fmt.Sprint(c.Closed, c.Open, c.Accepted)
	}
	assert.Equal(t, map[string]string{"addresses": "false 1 0", "parts": "true 0 0", "scripts": "true 0 1", "browser": "true 0 0", "identity": "true 0 0", "walls": "true 0 0"}, states)
	want(t, 0, site, "scan", "--accept-gap", "scripts,acting")
	assert.Contains(t, flat(run(t, site, "status").out), "clean as far as read", "for that scan alone")
	r = want(t, 0, site, "scan", "--accept-gap", "scripts", "--accept-gap", "acting", "--because", "the keeper looked at them")
	assert.Contains(t, flat(r.out), "Every page is clean, except for 2 gaps that you accepted.")
	assert.Contains(t, flat(r.out), "Accepted: 1 page: scripts not run (the keeper looked at them).")
	r = want(t, 0, site, "scan")
	assert.Contains(t, flat(r.out), "except for 2 gaps that you accepted")
	assert.Contains(t, flat(run(t, site, "status").out), "1 page, all clean")
	want(t, 0, site, "decide", "forget", "scan gap")
	want(t, 1, site, "scan")
	assert.Contains(t, want(t, 2, site, "scan", "--accept-gap", "lamps").errs, "write one of: addresses, parts, scripts, browser, identity, walls")
	assert.Contains(t, want(t, 2, t.TempDir(), "scan", "--site", "https://ternrock.example", "--accept-gap", "scripts", "--because", "x").errs, "there is none")
}
