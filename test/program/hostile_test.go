package program

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server that does everything wrong: the scan ends in its bounds, says what it could
// not read, prints nothing raw and goes nowhere it must not.
func TestHostileWeb(t *testing.T) {
	var secret, pages atomic.Int64
	canary := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { secret.Add(1) }))
	t.Cleanup(canary.Close)
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	for range 300 {
		_, err := z.Write(make([]byte, 1<<20))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	stop := make(chan struct{})
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		html := func(format string, args ...any) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprintf(w, format, args...)
		}
		var n int
		switch p := r.URL.Path; {
		case p == "/":
			html(`<title>Tern`+"\x1b]0;owned\x07\x1b[2J\u202e"+` Rock</title><img src="http://assets.example/`+"%%1b[2J\u202e\x1b]0;owned\x07"+`.png">
<a href="/calendar/0">c</a><a href="/slow">s</a><a href="/drip">d</a><a href="/huge">h</a><a href="/endless">e</a><a href="/bomb">b</a><a href="/loop">l</a><a href="/hops/0">r</a>
<a href="/headers">h</a><a href="/rubbish">x</a><a href="/hangup">y</a><a href="/broken">z</a><a href="/changing">c</a><a href="/private">p</a><a href="/utf16">u</a><a href="/lies">l</a><a href="/titles%%1b%%5b2J">t</a>
<img src="https://169.254.169.254/latest/meta-data/"><script src="https://10.0.0.1/x.js"></script><link rel=stylesheet href="https://[::1]:%[1]s/x.css"><iframe src="https://127.0.0.1:%[1]s/secret"></iframe>
<img src="https://badcert.example/x.png"><img src="http://192.168.1.1/x.png"><img src="http://127.0.0.1:%[1]s/x.png"><img src="https://ternrock.example/away.png"><a href="file:///etc/passwd">f</a><a href="javascript:alert(1)">j</a>`, strings.Split(canary.URL, ":")[2])
		case strings.HasPrefix(p, "/calendar/"):
			fmt.Sscanf(p, "/calendar/%d", &n)
			pages.Add(1)
			html(`<a href="/calendar/%d">next</a><a href="/calendar/%d?x=%d">other</a>`, n+1, n+1, n)
		case p == "/slow":
			select {
			case <-stop:
			case <-r.Context().Done():
			}
		case p == "/drip":
			w.Header().Set("Content-Type", "text/html")
			for range 1000 {
				fmt.Fprint(w, "<p>drip")
				w.(http.Flusher).Flush()
				select {
				case <-stop:
					return
				case <-r.Context().Done():
					return
				case <-time.After(100 * time.Millisecond):
				}
			}
		case p == "/huge":
			html("%s", strings.Repeat("<b>", 12<<20))
		case p == "/endless":
			w.Header().Set("Content-Type", "text/html")
			chunk := []byte(strings.Repeat("<p>tide</p>", 10000))
			for {
				if _, err := w.Write(chunk); err != nil {
					return
				}
			}
		case p == "/bomb":
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Encoding", "gzip")
			_, _ = w.Write(bomb.Bytes())
		case p == "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		case strings.HasPrefix(p, "/hops/"):
			fmt.Sscanf(p, "/hops/%d", &n)
			http.Redirect(w, r, fmt.Sprintf("/hops/%d", n+1), http.StatusFound)
		case p == "/headers":
			for i := range 400 {
				w.Header().Set(fmt.Sprintf("X-%d", i), strings.Repeat("x", 10000))
			}
			html("x")
		case p == "/rubbish", p == "/hangup":
			conn, _, err := w.(http.Hijacker).Hijack()
			if err != nil {
				return
			}
			if p == "/rubbish" {
				fmt.Fprint(conn, "\x00\x1b[2J not HTTP at all\r\n\r\n")
			}
			conn.Close()
		case p == "/broken":
			html(`<<<a href="/calendar/0" <img src='http://assets.example/in.png'><table><p <style>@import "http://assets.example/x.css` + "\x00" + `</style><!-- <a href="/no">`)
		case p == "/changing":
			html(`<img src="http://assets.example/%d.png"><a href="/changing?%d">again</a>`, time.Now().UnixNano(), time.Now().UnixNano())
		case p == "/private":
			http.Redirect(w, r, canary.URL, http.StatusFound)
		case p == "/away.png":
			http.Redirect(w, r, canary.URL, http.StatusFound)
		case p == "/utf16":
			w.Header().Set("Content-Type", "text/html; charset=utf-16le")
			for _, c := range "\ufeff<script src='http://assets.example/wide.js'></script>" {
				_, _ = w.Write([]byte{byte(c), byte(c >> 8)})
			}
		case p == "/lies":
			w.Header().Set("Content-Type", "text/html")
			w.Header().Set("Content-Encoding", "gzip")
			fmt.Fprint(w, "not packed at all")
		case strings.HasPrefix(p, "/titles"):
			html("<title>%s</title>", strings.Repeat("\x9b31m", 100000))
		default:
			http.NotFound(w, r)
		}
	})
	f := serve(t, h, nil)
	addr, ca := f.secure, filepath.Join(f.dir, "ca.pem")
	t.Cleanup(func() { close(stop) })
	dir := t.TempDir()
	began := time.Now()
	args := []string{"scan", "--site", "https://ternrock.example", "--ca", ca, "--resolve", "ternrock.example:443:" + addr, "--resolve", "badcert.example:443:" + addr,
		"--pages", "150", "--timeout", "2s", "--report", "r.json", "--report", "r.html", "--report", "r.csv", "--report", "r.xml", "--report", "r.sarif"}
	c := exec.Command(program, args...)
	c.Dir, c.Env = dir, environment(dir)
	out, err := c.CombinedOutput()
	assert.Equal(t, 1, c.ProcessState.ExitCode(), "%v %s", err, out)
	assert.Less(t, time.Since(began), 90*time.Second)
	peak := c.ProcessState.SysUsage()
	t.Logf("%.1f s, %d calendar pages, peak %d MB", time.Since(began).Seconds(), pages.Load(), peakMB(peak))
	assert.Less(t, peakMB(peak), int64(500))
	assert.Zero(t, secret.Load(), "nothing in a private network was asked")
	texts := map[string]string{"the terminal": string(out)}
	for _, name := range []string{"r.json", "r.html", "r.csv", "r.xml", "r.sarif"} {
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		texts[name] = string(b)
	}
	for name, text := range texts {
		for _, bad := range []string{"\x1b", "\x07", "\u202e", "\u009b"} {
			assert.NotContains(t, text, bad, "%s holds %q", name, bad)
		}
	}
	report := texts["r.json"]
	for _, say := range []string{"/slow", "/drip", "/loop", "/hops/", "/headers", "/rubbish", "/hangup", "/lies", "badcert.example", "more than 10 redirects", "gave no answer in time", "certificate", "only its first 16 MB",
		"http://assets.example/wide.js", "http://192.168.1.1/x.png"} {
		assert.Contains(t, report, say)
	}
	assert.NotContains(t, report, `"url": "file:`)
}
