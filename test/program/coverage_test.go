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
		assert.Contains(t, r.errs, "no page can be read with these bounds")
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
