package program

import (
	"bytes"
	"compress/gzip"
	"crypto/x509"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asked counts what a server was asked for.
type asked struct {
	mu sync.Mutex
	n  map[string]int
	by map[string]http.Header
}

func (a *asked) note(r *http.Request) {
	if another(r) {
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.n == nil {
		a.n, a.by = map[string]int{}, map[string]http.Header{}
	}
	u := r.Host + r.URL.RequestURI()
	a.n[u]++
	a.by[u] = r.Header.Clone()
}

// another reports whether a request is that of the other visitor, who looks at some pages once more.
func another(r *http.Request) bool { return strings.Contains(r.UserAgent(), "Mobile") }

// crawled is what these tests read of a scan.
type crawled struct {
	Read     int `json:"pages_read"`
	Resumed  bool
	Classes  map[string]int
	Culprits []struct {
		URL, By, Class, Via, On string
		Pages                   int
	}
	Unread  []struct{ URL, Why string }
	LeftOut int `json:"left_out"`
	Pages   []struct {
		URL      string
		Findings []any
	}
}

func (c crawled) urls() (out []string) {
	for _, p := range c.Pages {
		out = append(out, strings.TrimPrefix(p.URL, "https://ternrock.example"))
	}
	return out
}

// The crawl finds pages by links, site maps (packed ones and indexes), the feed and a list,
// asks for each thing once, follows what pages load, and shows secrets to nobody else.
func TestCrawling(t *testing.T) {
	var seen asked
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	fmt.Fprint(z, `<urlset><url><loc>https://ternrock.example/mapped</loc></url><url><loc>https://other.example/not-ours</loc></url></urlset>`)
	require.NoError(t, z.Close())
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		seen.note(r)
		if r.Host != "ternrock.example" {
			fmt.Fprint(w, "x")
			return
		}
		typ, body := "text/html", ""
		switch r.URL.Path {
		case "/":
			w.Header().Set("Link", "</lamp.js>; rel=preload; as=script")
			body = `<link rel=alternate type="application/rss+xml" href="/feed"><link rel=stylesheet href="/s.css"><img src="/back.png"><img src="/back.png"><img src="https://cdn.example/x.png">
				<iframe src="/frame"></iframe><a href="/private/p">p</a><a href="/moved">m</a>`
		case "/robots.txt":
			typ, body = "text/plain", "User-agent: *\nDisallow: /private/\nSitemap: http://ternrock.example/maps.xml\n"
		case "/maps.xml":
			typ, body = "application/xml", `<sitemapindex><sitemap><loc>https://ternrock.example/map.xml.gz</loc></sitemap></sitemapindex>`
		case "/map.xml.gz":
			typ, body = "application/gzip", packed.String()
		case "/feed":
			typ, body = "application/rss+xml", `<rss><item><link>http://ternrock.example/fed</link><guid>http://ternrock.example/?p=1</guid></item></rss>`
		case "/s.css":
			typ, body = "text/css", `@import "/t.css";`
		case "/t.css":
			typ, body = "text/css", `@font-face { src: url(http://cdn.example/f.woff2) }`
		case "/lamp.js":
			typ, body = "text/javascript", `load("http://ternrock.example/literal.json")`
		case "/frame":
			body = `<script src="http://cdn.example/in-frame.js"></script>`
		case "/back.png":
			http.Redirect(w, r, "http://ternrock.example/back.png?plain", http.StatusFound)
			return
		case "/moved":
			http.Redirect(w, r, "/there", http.StatusMovedPermanently)
			return
		case "/mapped", "/listed", "/private/p", "/there":
			body = "<p>" + r.URL.Path
		default:
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", typ)
		fmt.Fprint(w, body)
	}, func(c *x509.Certificate) { c.DNSNames = append(c.DNSNames, "cdn.example") })
	addr, ca := f.secure, filepath.Join(f.dir, "ca.pem")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "list"), []byte("# more\nhttps://ternrock.example/listed\n\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secrets"), []byte("basic keeper:oil-and-wick\nX-Staging: lamp-secret\n"), 0o600))
	args := []string{"scan", "--site", "https://ternrock.example", "--ca", ca, "--resolve", "*:443:" + addr, "--credentials", "secrets", "--format", "json"}
	var scan crawled
	r := want(t, 1, dir, append(args, "--robots")...)
	decode(t, r, &scan)
	assert.ElementsMatch(t, []string{"/", "/robots.txt", "/feed", "/s.css", "/t.css", "/lamp.js", "/frame", "/mapped", "/there", "/maps.xml", "/map.xml.gz", "/back.png", "/?p=1"}, scan.urls())
	byURL := map[string]string{}
	for _, c := range scan.Culprits {
		byURL[c.URL] = c.Class + " " + c.By + " " + strings.TrimPrefix(c.On, "https://ternrock.example") + strings.TrimPrefix(c.Via, "https://ternrock.example")
	}
	assert.Equal(t, map[string]string{
		"http://cdn.example/f.woff2":             "blocked @font-face url() /t.css",
		"http://cdn.example/in-frame.js":         "blocked script src /frame",
		"http://ternrock.example/back.png?plain": "upgraded img src //back.png",
		"http://ternrock.example/literal.json":   "possible script /lamp.js",
		"http://ternrock.example/fed":            "link XML link /feed",
		"http://ternrock.example/maps.xml":       "link robots.txt /robots.txt",
	}, byURL)
	assert.Zero(t, seen.n["ternrock.example/private/p"], "robots.txt is honoured")
	assert.Zero(t, seen.n["other.example/not-ours"])
	for u, n := range seen.n {
		if u != "ternrock.example/robots.txt" {
			assert.Equal(t, 1, n, "%s is asked for once", u)
		}
		secret := seen.by[u].Get("X-Staging") + seen.by[u].Get("Authorization")
		if strings.HasPrefix(u, "ternrock.example") {
			assert.Contains(t, secret, "lamp-secret", u)
		} else {
			assert.Empty(t, secret, u)
		}
	}
	assert.NotContains(t, r.out+r.errs, "lamp-secret")
	assert.NotContains(t, r.out+r.errs, "oil-and-wick")

	decode(t, want(t, 0, dir, append(args, "--list", "list", "--depth", "0", "--bare")...), &scan)
	assert.Equal(t, []string{"/listed"}, scan.urls()[len(scan.urls())-1:])
	assert.Equal(t, 1, scan.Read)
	assert.Contains(t, want(t, 2, dir, append(args, "--list", "nothing")...).errs, "--list")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secrets"), []byte("lamp-secret"), 0o600))
	bad := want(t, 2, dir, args...)
	assert.Contains(t, bad.errs, "line 1")
	assert.NotContains(t, bad.errs, "lamp-secret")
}

// A scan that is killed goes on where it was, and ends as an undisturbed one.
func TestResume(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	assert.Contains(t, want(t, 2, dir, "scan", "--resume").errs, "no scan to continue")
	var whole, resumed crawled
	decode(t, want(t, 1, dir, "scan", "--format", "json"), &whole)
	for i, wait := range []time.Duration{700 * time.Millisecond, 600 * time.Millisecond, 500 * time.Millisecond} {
		args := []string{"scan", "--pause", "40ms", "--quiet"}
		if i > 0 {
			args = append(args, "--resume")
		}
		if i == 1 { // asked to stop, it says how to go on
			c := exec.Command(program, args...)
			c.Dir, c.Env = dir, environment(dir)
			var errs bytes.Buffer
			c.Stderr = &errs
			require.NoError(t, c.Start())
			time.Sleep(wait)
			require.NoError(t, c.Process.Signal(os.Interrupt))
			require.Error(t, c.Wait())
			assert.Equal(t, 3, c.ProcessState.ExitCode())
			assert.Contains(t, errs.String(), "scan --resume continues from there")
			continue
		}
		require.True(t, killed(t, dir, wait, args...), "it was to be killed in the middle")
	}
	decode(t, want(t, 1, dir, "scan", "--resume", "--format", "json"), &resumed)
	assert.True(t, resumed.Resumed)
	assert.Equal(t, whole.Read, resumed.Read)
	assert.Equal(t, whole.Classes, resumed.Classes)
	assert.ElementsMatch(t, whole.urls(), resumed.urls())
	left, err := filepath.Glob(filepath.Join(logbookOf(dir), "*.crawl.jsonl"))
	require.NoError(t, err)
	assert.Empty(t, left)
	counts := func(c crawled) map[string]int {
		out := map[string]int{}
		for _, one := range c.Culprits {
			out[one.Class+" "+one.URL] = one.Pages
		}
		return out
	}
	assert.Equal(t, counts(whole), counts(resumed))
}

// Of two scans of one site at once the second names the first, and takes nothing from it; a new scan leaves one that was
// interrupted to be gone on with.
func TestTwoScans(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	first := exec.Command(program, "scan", "--pause", "40ms", "--quiet", "--format", "json")
	first.Dir, first.Env = dir, environment(dir)
	var out bytes.Buffer
	first.Stdout = &out
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool {
		logs, err := filepath.Glob(filepath.Join(logbookOf(dir), "*.crawl.jsonl"))
		return err == nil && len(logs) == 1
	}, 20*time.Second, 10*time.Millisecond)
	for range 3 {
		r := want(t, 3, dir, "scan", "--quiet")
		assert.Contains(t, r.errs, "another scan of this site is at work")
		assert.Contains(t, r.errs, fmt.Sprint("process ", first.Process.Pid))
	}
	_ = first.Wait() // what it found is no failure
	require.Equal(t, 1, first.ProcessState.ExitCode())
	assert.Contains(t, out.String(), `"pages_read": 43`)

	require.True(t, killed(t, dir, 600*time.Millisecond, "scan", "--pause", "40ms", "--quiet"))
	want(t, 1, dir, "scan", "--quiet", "--depth", "0")
	var resumed crawled
	decode(t, want(t, 1, dir, "scan", "--resume", "--format", "json"), &resumed)
	assert.Equal(t, 43, resumed.Read)
}
