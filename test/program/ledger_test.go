package program

import (
	"bytes"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ledger is what these tests read of a scan's coverage.
type ledger struct {
	Site     string
	Read     int `json:"pages_read"`
	Coverage struct {
		Complete   bool
		Addresses  int
		PagesRead  int `json:"pages_read"`
		PagesKnown int `json:"pages_known"`
		Lines      []struct {
			State, Cause, Kind string
			Count              int
			Blocks             bool
			Examples           []struct{ URL, Note string }
		}
	}
	Sites []struct {
		Host     string
		Complete bool
		Read     int `json:"pages_read"`
		Known    int `json:"pages_known"`
	}
	Culprits []struct{ URL, Class, By string }
	Unread   []struct{ URL, Why string }
	Pages    []struct{ URL string }
}

// count returns how many addresses the ledger has by cause and kind.
func (l ledger) count() map[string]int {
	out := map[string]int{}
	for _, line := range l.Coverage.Lines {
		out[line.Cause+" "+line.Kind] += line.Count
	}
	return out
}

// network serves names on top of what serve does.
func network(names ...string) func(*x509.Certificate) {
	return func(c *x509.Certificate) { c.DNSNames = append(c.DNSNames, names...) }
}

// A network of three sites with some 5,000 pages, sessions, redirects, an endless calendar, errors and
// rules: each address that the server and its site maps know is in one state, and the sum is theirs.
func TestLedgerOfManyPages(t *testing.T) {
	const each = 1600 // pages of each site
	hosts := []string{"ternrock.example", "shop.ternrock.example", "stories.ternrock.example"}
	var mu sync.Mutex
	asked := map[string]int{} // what the server's log has
	broken := func(n int) bool { return n%33 == 32 }
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		if !another(r) {
			asked["https://"+r.Host+r.URL.RequestURI()]++
		}
		mu.Unlock()
		w.Header().Set("Content-Type", "text/html")
		var n int
		switch p := r.URL.Path; {
		case p == "/robots.txt":
			w.Header().Set("Content-Type", "text/plain")
			fmt.Fprint(w, "User-agent: *\nDisallow: /private/\n")
		case p == "/sitemap.xml":
			w.Header().Set("Content-Type", "application/xml")
			fmt.Fprint(w, "<urlset>")
			for i := range each {
				fmt.Fprintf(w, "<url><loc>https://%s/p/%d</loc></url>", r.Host, i)
			}
			fmt.Fprint(w, "</urlset>")
		case p == "/":
			if c, err := r.Cookie("visit"); err != nil || c.Value != "1" { // until the visitor shows the cookie
				http.SetCookie(w, &http.Cookie{Name: "visit", Value: "1", Path: "/"})
				http.Redirect(w, r, "/", http.StatusFound)
				return
			}
			fmt.Fprintf(w, `<title>%s</title><a href="/cal/1">calendar</a> <a href="/members">members</a> <a href="/logout">log out</a> <a href="/?action=delete&amp;id=1">x</a>
				<a rel="external nofollow" href="/reply">reply</a> <a href="https://tides.example/">tides</a> <a href="/report">report</a> <a href="/picture.png">p</a> <a href="/account">account</a>`, r.Host)
			for i := range 40 {
				fmt.Fprintf(w, `<a href="/private/%d">p</a> <a href="/old/%d">o</a> <a href="/nothing/%d">n</a>`, i, i, i)
			}
		case strings.HasPrefix(p, "/cal/"):
			fmt.Sscanf(p, "/cal/%d", &n)
			fmt.Fprintf(w, `<a href="/cal/%d">next</a>`, n+1)
		case strings.HasPrefix(p, "/old/"):
			http.Redirect(w, r, strings.Replace(p, "/old/", "/p/", 1), http.StatusMovedPermanently)
		case p == "/members":
			w.Header().Set("WWW-Authenticate", "Basic")
			w.WriteHeader(http.StatusUnauthorized)
		case p == "/account":
			http.Redirect(w, r, "/login?to=account", http.StatusFound)
		case p == "/login":
			fmt.Fprint(w, `<form><input name=user><input type=PASSWORD name=word></form>`)
		case p == "/report":
			w.Header().Set("Content-Type", "application/octet-stream")
			fmt.Fprint(w, "<!DOCTYPE html><title>Report</title><script src='http://cdn.example/x.js'></script>")
		case p == "/picture.png", p == "/lamp.png":
			w.Header().Set("Content-Type", "image/png")
			fmt.Fprint(w, "\x89PNG\r\n\x1a\n")
		case strings.HasPrefix(p, "/p/"):
			fmt.Sscanf(p, "/p/%d", &n)
			if broken(n) {
				w.WriteHeader(http.StatusInternalServerError)
				return
			}
			fmt.Fprintf(w, `<title>%d</title><img src="/lamp.png"><a href="/p/%d">next</a>`, n, (n+1)%each)
		default:
			http.NotFound(w, r)
		}
	}, network(hosts[1:]...))
	args := []string{"scan", "--site", "https://ternrock.example", "--also", hosts[1], "--also", hosts[2], "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:443:" + f.secure,
		"--robots", "--except", "/cal/*", "--parallel", "8", "--quiet", "--format", "json"}
	var l ledger
	decode(t, want(t, 1, t.TempDir(), args...), &l)
	errors := 0
	for i := range each {
		if broken(i) {
			errors++
		}
	}
	count := l.count()
	assert.Equal(t, map[string]int{
		"document page":  3 * (each - errors + 2), // the front page and the login page too
		"document part":  6,                       // robots.txt and site map
		"refused page":   3 * errors,
		"moved page":     3 * 40,
		"gone page":      3*40 + 3, // what no word alone keeps us from asking for
		"robots page":    3 * 40,
		"pattern page":   3,
		"password page":  3,
		"gate page":      3,
		"acting page":    3,
		"nofollow page":  3,
		"type page":      3,
		"media page":     3,
		"loaded thing":   3,
		"elsewhere page": 1,
	}, count)
	sum := 0
	for _, n := range count {
		sum += n
	}
	known := map[string]bool{} // by the log, the site maps and the links
	for u := range asked {
		known[u] = true
	}
	for _, h := range hosts {
		for _, p := range []string{"/cal/1", "/?action=delete&id=1", "/reply"} {
			known["https://"+h+p] = true
		}
		for i := range 40 {
			known[fmt.Sprintf("https://%s/private/%d", h, i)] = true
		}
		for i := range each {
			assert.True(t, known[fmt.Sprintf("https://%s/p/%d", h, i)])
		}
	}
	known["https://tides.example/"] = true
	assert.Equal(t, len(known), sum, "each address is in one state")
	assert.Equal(t, sum, l.Coverage.Addresses)
	for u, n := range asked {
		most := 1
		switch {
		case strings.HasSuffix(u, ".example/"), strings.HasSuffix(u, "/robots.txt"): // the redirect to itself; and what names of the site are compared by
			most = 4
		case strings.Contains(u, "/p/"), strings.Contains(u, "/login"):
			most = 2 // a redirect led to it
		}
		assert.LessOrEqual(t, n, most, u)
		assert.NotContains(t, u, "/private/")
		assert.NotContains(t, u, "delete")
	}
	read := map[string]bool{}
	for _, p := range l.Pages {
		assert.False(t, read[p.URL], "%s counts once", p.URL)
		read[p.URL] = true
	}
	require.Len(t, l.Sites, 3)
	for i, host := range []string{"shop.ternrock.example", "stories.ternrock.example", "ternrock.example"} {
		assert.Equal(t, []any{host, false, each - errors + 2}, []any{l.Sites[i].Host, l.Sites[i].Complete, l.Sites[i].Read})
	}
	assert.False(t, l.Coverage.Complete)
	text := want(t, 1, t.TempDir(), append(args[:len(args)-2], "--pages", "100")...).out
	assert.Contains(t, text, "Clean as far as read: ")
	assert.NotContains(t, text, "Every page is clean")
}

// Each way in which a page is not looked at keeps "clean" from being said, in every format; what is
// looked at, or is no page, does not.
func TestEvidenceOfClean(t *testing.T) {
	var page func(w http.ResponseWriter, r *http.Request) bool
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if page(w, r) {
			return
		}
		switch r.URL.Path {
		case "/":
			fmt.Fprint(w, `<title>Tern Rock</title><a href="/other">other</a>`)
		default:
			http.NotFound(w, r)
		}
	}, network("www.ternrock.example", "shop.ternrock.example"))
	send := func(w http.ResponseWriter, header, value, body string) {
		if value == "" {
			w.Header()[header] = nil
		} else {
			w.Header().Set(header, value)
		}
		fmt.Fprint(w, body)
	}
	const insecure = `<!DOCTYPE html><title>Other</title><script src="http://cdn.example/x.js"></script>`
	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	packed := string(z.EncodeAll([]byte(insecure), nil))
	for _, c := range []struct {
		name  string
		code  int
		cause string // that stands in the way; "" none
		args  []string
		other func(w http.ResponseWriter, r *http.Request)
	}{
		{"a clean page", 0, "", nil, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<p>clean") }},
		{"a picture", 0, "", nil, func(w http.ResponseWriter, _ *http.Request) {
			send(w, "Content-Type", "image/png", "\x89PNG\r\n\x1a\n")
		}},
		{"a file to download", 0, "", nil, func(w http.ResponseWriter, _ *http.Request) {
			send(w, "Content-Type", "application/octet-stream", "PK\x03\x04")
		}},
		{"nothing there", 0, "", nil, func(w http.ResponseWriter, r *http.Request) { http.NotFound(w, r) }},
		{"a redirect off the site", 0, "", nil, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://tides.elsewhere.example/", http.StatusFound)
		}},
		{"a page as a download", 1, "type", nil, func(w http.ResponseWriter, _ *http.Request) {
			send(w, "Content-Type", "application/octet-stream", insecure)
		}},
		{"a coding that nobody asked for", 1, "encoding", nil, func(w http.ResponseWriter, _ *http.Request) {
			send(w, "Content-Encoding", "compress", "\x1f\x9d\x90<p>\x03")
		}},
		{"an error", 1, "refused", nil, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(503) }},
		{"forbidden", 1, "refused", nil, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(403) }},
		{"a password", 1, "password", nil, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(401) }},
		{"sent back to HTTP", 1, "insecurely", nil, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://ternrock.example/other", http.StatusFound)
		}},
		{"past the depth", 1, "depth", []string{"--depth", "0"}, nil},
		{"past the pages", 1, "pages", []string{"--pages", "1"}, nil},
		{"out of time", 1, "time", []string{"--for", "5ms", "--parallel", "1"}, nil},
		{"excepted", 1, "pattern", []string{"--except", "/o*"}, nil},
		{"things not asked about", 1, "bare", []string{"--bare"}, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `<img src="/lamp.png">`) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			page = func(w http.ResponseWriter, r *http.Request) bool {
				if r.URL.Path == "/" && c.cause == "time" {
					time.Sleep(50 * time.Millisecond)
				}
				if r.URL.Path == "/lamp.png" {
					send(w, "Content-Type", "image/png", "\x89PNG\r\n\x1a\n")
					return true
				}
				if r.URL.Path == "/other" && c.other != nil {
					c.other(w, r)
					return true
				}
				return false
			}
			dir := t.TempDir()
			formats := []string{"r.html", "r.xml", "r.sarif", "r.json", "r.csv"}
			args := []string{"scan", "--site", "https://ternrock.example", "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:443:" + f.secure, "--resolve", "*:80:" + f.plain}
			for _, name := range formats {
				args = append(args, "--report", name)
			}
			texts := []string{want(t, c.code, dir, append(args, c.args...)...).out}
			for _, name := range formats {
				b, err := os.ReadFile(filepath.Join(dir, name))
				require.NoError(t, err)
				texts = append(texts, string(b))
			}
			text, html, junit, sarif, csv := texts[0], texts[1], texts[2], texts[3], texts[5]
			var l ledger
			require.NoError(t, json.Unmarshal([]byte(texts[4]), &l))
			assert.Equal(t, c.cause == "", l.Coverage.Complete)
			if c.cause == "" {
				assert.Contains(t, text, "Every page is clean")
				assert.Contains(t, html, "<h1>Every page is clean</h1>")
				assert.NotContains(t, junit, "<error")
				assert.NotContains(t, sarif, "not looked at")
				return
			}
			assert.Contains(t, text, "Clean as far as read: ")
			assert.Contains(t, text, "Not looked at")
			assert.Contains(t, html, "<h1>Clean as far as read: ")
			assert.NotContains(t, text+html, "Every page is clean")
			assert.Contains(t, junit, `type="`+c.cause+`"`)
			assert.Contains(t, junit, `classname="coverage"`)
			assert.Contains(t, sarif, "not looked at: ")
			assert.Contains(t, csv, "not looked at,"+c.cause)
		})
	}
	for _, c := range []struct {
		name  string
		other func(w http.ResponseWriter, r *http.Request)
	}{
		{"a page without a type", func(w http.ResponseWriter, _ *http.Request) { send(w, "Content-Type", "", insecure) }},
		{"a page of an unknown type", func(w http.ResponseWriter, _ *http.Request) { send(w, "Content-Type", "unknown/unknown", insecure) }},
		{"packed with zstd, unasked", func(w http.ResponseWriter, _ *http.Request) { send(w, "Content-Encoding", "zstd", packed) }},
		{"possible in a script", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `<script>load("http://cdn.example/x.js")</script>`)
		}},
		{"possible in an attribute", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `<div data-src="http://cdn.example/x.js"></div>`)
		}},
		{"possible in JSON", func(w http.ResponseWriter, _ *http.Request) {
			fmt.Fprint(w, `<script type="application/json">{"u":"http://cdn.example/x.js"}</script>`)
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			page = func(w http.ResponseWriter, r *http.Request) bool {
				if r.URL.Path != "/other" {
					return false
				}
				c.other(w, r)
				return true
			}
			var l ledger
			decode(t, want(t, 1, t.TempDir(), "scan", "--site", "https://ternrock.example", "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:443:"+f.secure, "--format", "json"), &l)
			require.Len(t, l.Culprits, 1)
			assert.Equal(t, "http://cdn.example/x.js", l.Culprits[0].URL)
		})
	}
	// Another site of the network is one to look at, and www that leads to the first is not.
	page = func(w http.ResponseWriter, r *http.Request) bool {
		switch r.Host {
		case "www.ternrock.example":
			http.Redirect(w, r, "https://ternrock.example"+r.URL.Path, http.StatusMovedPermanently)
		case "shop.ternrock.example":
			fmt.Fprint(w, insecure)
		default:
			return false
		}
		return true
	}
	dir := t.TempDir()
	args := []string{"scan", "--site", "https://ternrock.example", "--also", "www.ternrock.example", "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:443:" + f.secure, "--format", "json"}
	var l ledger
	decode(t, want(t, 0, dir, args...), &l)
	assert.Equal(t, 1, l.Read)
	assert.Empty(t, l.Sites)
	decode(t, want(t, 1, dir, append(args, "--also", "shop.ternrock.example")...), &l)
	assert.Equal(t, 2, l.Read)
	require.Len(t, l.Sites, 2)
	assert.Equal(t, "shop.ternrock.example", l.Sites[0].Host)
	text := want(t, 1, dir, append(args[:len(args)-2], "--also", "shop.ternrock.example")...).out
	assert.Contains(t, text, "shop.ternrock.example")
	// A front page that leads to a name that nobody gave.
	page = func(w http.ResponseWriter, r *http.Request) bool {
		if r.Host != "ternrock.example" {
			return false
		}
		http.Redirect(w, r, "https://shop.ternrock.example/", http.StatusFound)
		return true
	}
	assert.Contains(t, want(t, 3, dir, append(args[:3:3], "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:443:"+f.secure)...).errs, "redirects to shop.ternrock.example")
}

// Samples say what they are, never tick the road, and get round to every page.
func TestSamples(t *testing.T) {
	var mu sync.Mutex
	asked := map[string]int{}
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked[r.URL.Path]++
		mu.Unlock()
		w.Header().Set("Content-Type", "text/html")
		switch {
		case r.URL.Path == "/":
			fmt.Fprint(w, "<title>front</title>")
			for i := range 20 {
				fmt.Fprintf(w, `<a href="/p/%d">p</a>`, i)
			}
		case strings.HasPrefix(r.URL.Path, "/p/"):
			fmt.Fprint(w, "<p>clean")
		default:
			http.NotFound(w, r)
		}
	}, nil)
	dir := bare(t, 1)
	inSiteFile(t, dir, "database:\n", "network:\n  ca: "+filepath.Join(f.dir, "ca.pem")+"\n  resolve: ['*:443:"+f.secure+"', '*:80:"+f.plain+"']\ndatabase:\n")
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "apply", "--offline")
	for range 5 {
		r := want(t, 0, dir, "scan", "--sample", "5")
		assert.Contains(t, r.out, "The sample is clean: 5 of 21 pages")
		assert.Contains(t, r.out, "not in this sample")
	}
	for i := range 20 {
		assert.Positive(t, asked[fmt.Sprintf("/p/%d", i)], "page %d: five samples of four pages, besides the front page, are all", i)
	}
	assert.Contains(t, want(t, 1, dir, "status").out, "a sample only: 5 of 21 pages")
	assert.Contains(t, want(t, 0, dir, "redirect", "show", "apache", "--hsts").out, "max-age=300")
	want(t, 0, dir, "scan")
	want(t, 0, dir, "scan", "--sample", "3")
	assert.Contains(t, want(t, 1, dir, "status").out, "21 pages, all clean", "what a whole scan has shown stays shown")
	assert.Contains(t, want(t, 2, dir, "scan", "--sample", "-1").errs, "write a number from")
	assert.Contains(t, want(t, 2, dir, "scan", "--except", "calendar").errs, "begin it with / or *")
	assert.Contains(t, want(t, 2, dir, "scan", "--follow", "all").errs, "write nofollow or acting")
}

// What was on pages that were not looked at again is not gone.
func TestComparedByPage(t *testing.T) {
	lit := true
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		switch r.URL.Path {
		case "/":
			fmt.Fprint(w, `<title>front</title><a href="/a">a</a><a href="/b">b</a>`)
		case "/a", "/b":
			if lit {
				fmt.Fprintf(w, `<img src="http://cdn.example%s.png">`, r.URL.Path)
			}
		default:
			http.NotFound(w, r)
		}
	}, nil)
	dir := bare(t, 1)
	inSiteFile(t, dir, "database:\n", "network:\n  ca: "+filepath.Join(f.dir, "ca.pem")+"\n  resolve: ['*:443:"+f.secure+"', '*:80:"+f.plain+"']\ndatabase:\n")
	assert.NotContains(t, want(t, 1, dir, "scan", "--compare", "last").out, "Compared", "the first has nothing before it")
	lit = false
	r := want(t, 1, dir, "scan", "--compare", "last", "--except", "/b")
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "), "0 new, 1 gone, 0 as before, 1 on pages that were not read again")
	assert.Contains(t, r.out, "gone  http://cdn.example/a.png")
	assert.Contains(t, r.out, "not looked at  http://cdn.example/b.png")
}

// Who only scans keeps what was found, too: with --site alone a scan goes on where it was, and is
// compared with the last; status and history tell of it.
func TestOnlyScanning(t *testing.T) {
	slow := false
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if slow {
			time.Sleep(20 * time.Millisecond)
		}
		var n int
		if _, err := fmt.Sscanf(r.URL.Path, "/p/%d", &n); err != nil && r.URL.Path != "/" {
			http.NotFound(w, r)
			return
		}
		fmt.Fprintf(w, `<title>%d</title><a href="/p/%d">next</a>`, n, min(n+1, 40))
	}, nil)
	dir := t.TempDir()
	site := []string{"--site", "https://ternrock.example"}
	net := append(site, "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:443:"+f.secure, "--resolve", "*:80:"+f.plain)
	slow = true
	var out bytes.Buffer
	c := exec.Command(program, append([]string{"scan", "--quiet"}, net...)...)
	c.Dir, c.Env, c.Stderr = dir, environment(dir), &out
	require.NoError(t, c.Start())
	time.Sleep(600 * time.Millisecond)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	_ = c.Wait() // its code is what counts
	assert.Equal(t, 3, c.ProcessState.ExitCode(), out.String())
	assert.Contains(t, out.String(), "scan --resume continues from there")
	slow = false
	var l ledger
	decode(t, want(t, 0, dir, append([]string{"scan", "--resume", "--format", "json"}, net...)...), &l)
	assert.Equal(t, 41, l.Read)
	assert.True(t, l.Coverage.Complete)
	assert.Contains(t, want(t, 0, dir, append([]string{"scan", "--compare", "last"}, net...)...).out, "0 new, 0 gone, 0 as before")
	assert.Equal(t, 2, strings.Count(want(t, 0, dir, append([]string{"history"}, site...)...).out, "scan"))
	status := want(t, 1, dir, append([]string{"status"}, site...)...).out
	assert.Contains(t, status, "41 pages, all clean")
	assert.NotContains(t, status, "database")
	assert.Contains(t, status, "Next: trimlantern ready --site https://ternrock.example")
	for _, command := range []string{"preview", "apply", "trace http://ternrock.example/x.png"} {
		assert.NotEmpty(t, want(t, 2, dir, strings.Fields(command)...).errs)
	}
}

// A server that answers everything with its front page: what only that leads to is read all the same,
// whichever of the answers comes first.
func TestEverythingIsTheFrontPage(t *testing.T) {
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		var n int
		if _, err := fmt.Sscanf(r.URL.Path, "/p/%d", &n); err == nil {
			fmt.Fprintf(w, "<title>%d</title>", n)
			return
		}
		if r.URL.Path == "/" && r.URL.RawQuery == "" {
			time.Sleep(60 * time.Millisecond) // the others are first
		}
		fmt.Fprint(w, `<title>front</title><p><link rel=alternate type="application/rss+xml" href="/feed">`)
		for i := range 20 {
			fmt.Fprintf(w, `<a href="/p/%d">p</a><br>`, i)
		}
	}, network("www.ternrock.example"))
	for range 3 {
		var l ledger
		r := run(t, t.TempDir(), "scan", "--site", "https://ternrock.example", "--also", "www.ternrock.example", "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:443:"+f.secure, "--resolve", "*:80:"+f.plain, "--format", "json")
		decode(t, r, &l)
		read := map[string]bool{}
		for _, p := range l.Pages {
			read[strings.TrimPrefix(p.URL, "https://ternrock.example")] = true
		}
		for i := range 20 {
			assert.True(t, read[fmt.Sprintf("/p/%d", i)], "/p/%d", i)
		}
	}
}

// Pages that nothing links to and only the database lists are read, and one that calls itself another page
// counts for itself where it holds what that has not.
func TestStoredPages(t *testing.T) {
	canonical := true
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, `<title>page</title>`)
		if canonical {
			fmt.Fprint(w, `<link rel="canonical" href="/">`)
		}
		if r.URL.Query().Get("p") == "2" {
			fmt.Fprint(w, `<script src="http://cdn.example/x.js"></script>`)
		}
	}, nil)
	dir := bare(t, 3)
	db := open(t, filepath.Join(dir, "site.db"))
	_, err := db.Exec("ALTER TABLE m_posts ADD post_type TEXT; UPDATE m_posts SET post_type = 'post'")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	inSiteFile(t, dir, "database:\n", "network:\n  ca: "+filepath.Join(f.dir, "ca.pem")+"\n  resolve: ['*:443:"+f.secure+"', '*:80:"+f.plain+"']\ndatabase:\n")
	for range 2 {
		var l ledger
		r := want(t, 1, dir, "scan", "--format", "json")
		decode(t, r, &l)
		require.Len(t, l.Culprits, 1)
		assert.Equal(t, "http://cdn.example/x.js", l.Culprits[0].URL)
		assert.Contains(t, r.out, `"pages_stored": 3`)
		assert.Equal(t, map[bool]int{true: 2, false: 4}[canonical], l.Read)
		text := want(t, 1, dir, "scan").out
		assert.Contains(t, text, "Also checked: 3 pages listed in the database")
		assert.NotContains(t, text, "Every page is clean")
		canonical = false
	}
	require.NoError(t, os.Rename(filepath.Join(dir, "site.db"), filepath.Join(dir, "away.db")))
	text := want(t, 1, dir, "scan").out
	assert.Contains(t, text, "a list of addresses that cannot be read")
	assert.NotContains(t, text, "Every page is clean")
}
