//go:build real

package real

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/mixed"
	"trimlantern/outside/browser"
	"trimlantern/outside/fetch"
	"trimlantern/work"
	"trimlantern/work/findings"
	"trimlantern/work/scan"
)

type quiet struct{}

func (quiet) At(string, int64, int64) {}
func (quiet) End()                    {}

// look has Chromium look at all pages at once.
func look(t *testing.T, w *internet, pages []string) []*browser.Seen {
	client, err := fetch.New(fetch.Options{Resolve: w.resolve, CA: w.ca, Own: []string{"ternrock.example"}})
	require.NoError(t, err)
	path, err := browser.Find("")
	require.NoError(t, err)
	b, err := browser.Open(context.Background(), client, browser.Options{Path: path, NoSandbox: true, Pins: []string{w.pin}})
	require.NoError(t, err)
	t.Cleanup(b.Close)
	t.Log(b.Version())
	out := make([]*browser.Seen, len(pages))
	jobs := make(chan int)
	done := make(chan error)
	for range 6 {
		go func() {
			for n := range jobs {
				var err error
				for range 2 { // a machine that is busy gets a second chance
					if out[n], err = b.Look(context.Background(), pages[n]); err == nil && !out[n].Timeout {
						break
					}
				}
				done <- err
			}
		}()
	}
	go func() {
		for n := range pages {
			jobs <- n
		}
		close(jobs)
	}()
	for range pages {
		require.NoError(t, <-done)
	}
	return out
}

// judged are the findings that a scan of one page comes to: its own, and those of all
// that it loads.
func judged(t *testing.T, w *internet, page string) (out []mixed.Finding) {
	j, err := work.OpenAddress("https://ternrock.example", nil, nil, quiet{})
	require.NoError(t, err)
	j.Resolve, j.CA, j.Offline, j.Now = w.resolve, w.ca, true, time.Now
	s, err := scan.Run(context.Background(), j, scan.Options{NoBrowser: true, URLs: []string{page}, Pages: 1, Depth: 0, Parallel: 2})
	require.NoError(t, err, page)
	defer s.Forget()
	require.NoError(t, s.EachPage(func(p findings.ScannedPage) error {
		out = append(out, p.Findings...)
		return nil
	}))
	return out
}

// plainURL brings two ways to write one address together.
func plainURL(u string) string { return strings.Replace(u, "assets.example./", "assets.example/", 1) }

// What Chromium reports of mixed content, we report with the same class; and what it
// loads securely we call neither blocked nor upgraded.
func TestChromiumJudges(t *testing.T) {
	t.Parallel()
	cases := slices.Concat(kinds, again(), written)
	exact := len(cases) - len(written) // from here on every claim is to be confirmed
	require.Greater(t, len(cases), 250)
	w := newNet(t, &judgePages{cases: cases})
	pages := make([]string, len(cases))
	for n := range cases {
		pages[n] = fmt.Sprintf("https://ternrock.example/%d/", n)
	}
	seen := look(t, w, pages)
	var reports, found, wrong, claims, confirmed, secure, scripts int
	for n, c := range cases {
		truth := scan.Reports(seen[n])
		if c.script { // only a browser sees them, which is what --browser is for
			scripts++
			continue
		}
		ours := judged(t, w, pages[n])
		for _, r := range truth {
			reports++
			ok := slices.ContainsFunc(ours, func(f mixed.Finding) bool { return plainURL(f.URL) == plainURL(r.URL) && f.Class == r.Class })
			if assert.True(t, ok, "%s: Chromium reports %s %s (%s); we have %+v", c.name, r.Class, r.URL, r.By, ours) {
				found++
			}
		}
		for _, f := range ours {
			if f.Class != mixed.Blocked && f.Class != mixed.Upgraded {
				continue
			}
			claims++
			if slices.ContainsFunc(truth, func(r mixed.Finding) bool { return plainURL(r.URL) == plainURL(f.URL) }) {
				confirmed++
				continue
			}
			// It may still be true of other windows, other browsers or another moment; but what
			// Chromium asks for securely in its place is a mistake of ours.
			asked := slices.Contains(seen[n].Asked, strings.Replace(f.URL, "http://", "https://", 1)) && f.Via == ""
			if !assert.False(t, asked, "%s: we call %s %s, and Chromium loads it securely without a word", c.name, f.URL, f.Class) {
				wrong++
			}
			if f.Certainty != mixed.Certain { // as we say
				t.Logf("not reported by Chromium: %s: %s %s (%s, %s)", c.name, f.Class, f.URL, f.By, f.Certainty)
				continue
			}
			assert.Less(t, n, exact, "%s: we call %s %s (%s), and Chromium does not report it", c.name, f.URL, f.Class, f.By)
			t.Logf("not reported by Chromium: %s: %s %s (%s, %s)", c.name, f.Class, f.URL, f.By, f.Certainty)
		}
		for _, u := range seen[n].Asked {
			if strings.HasPrefix(u, "https://") {
				secure++
			}
		}
	}
	t.Logf("%d pages without scripts: %d reports of Chromium, %d found with the same class; %d claims of ours, %d confirmed, %d wrong; %d secure loads", len(cases)-scripts, reports, found, claims, confirmed, wrong, secure)
}

// What only scripts load is found by scan --browser.
func TestScriptsWithBrowser(t *testing.T) {
	t.Parallel()
	var cases []judgeCase
	for _, c := range kinds {
		if c.script {
			cases = append(cases, c)
		}
	}
	index := "<!DOCTYPE html><title>All</title>"
	for n := range cases {
		index += fmt.Sprintf(`<a href="/%d/">%d</a> `, n, n)
	}
	pages := &judgePages{cases: cases}
	w := newNet(t, handler(func(rw http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/" && r.Host == "ternrock.example" {
			rw.Header().Set("Content-Type", "text/html")
			fmt.Fprint(rw, index)
			return
		}
		pages.ServeHTTP(rw, r)
	}))
	var args []string
	for _, r := range w.resolve {
		args = append(args, "--resolve", r)
	}
	file := filepath.Join(t.TempDir(), "scan.json")
	c := exec.Command(built, append([]string{"scan", "--site", "https://ternrock.example", "--ca", w.ca, "--browser", asUser, "--report", file}, args...)...)
	out, err := c.CombinedOutput()
	require.Equal(t, 1, c.ProcessState.ExitCode(), "%v %s", err, out)
	var scan struct {
		Pages []findings.ScannedPage `json:"pages"`
	}
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &scan))
	found := map[string]bool{}
	for _, p := range scan.Pages {
		for _, f := range p.Findings {
			if f.Class == mixed.Blocked || f.Class == mixed.Upgraded {
				found[p.URL] = true
			}
		}
	}
	missed := 0
	for n, c := range cases {
		if !assert.True(t, found[fmt.Sprintf("https://ternrock.example/%d/", n)], "%s: not found with --browser", c.name) {
			missed++
		}
	}
	t.Logf("%d of %d kinds that only scripts load were found", len(cases)-missed, len(cases))
}

// handler is a function that serves.
type handler func(http.ResponseWriter, *http.Request)

func (h handler) ServeHTTP(w http.ResponseWriter, r *http.Request) { h(w, r) }

// A staging site behind a password: the browser shows it to the site's own hosts over
// HTTPS, and to nobody else.
func TestBrowserConfides(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	shown := map[string]bool{}
	w := newNet(t, handler(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		_, word, _ := r.BasicAuth()
		shown[r.Host+r.URL.Path] = word != "" || r.Header.Get("X-Lamp") != ""
		switch {
		case r.Host == "ternrock.example" && word != "oil":
			rw.Header().Set("WWW-Authenticate", "Basic")
			rw.WriteHeader(http.StatusUnauthorized)
		case r.Host == "ternrock.example" && r.URL.Path == "/away":
			http.Redirect(rw, r, "https://assets.example/redirected.js", http.StatusFound)
		case r.Host == "ternrock.example":
			rw.Header().Set("Content-Type", "text/html")
			fmt.Fprint(rw, `<title>Staging</title><script src="https://assets.example/a.js"></script><script src="/away"></script><img src="http://ternrock.example/plain.png"><script>fetch("ht" + "tp://assets.example/x.json").catch(() => 0)</script>`)
		default:
			rw.Header().Set("Content-Type", "text/javascript")
		}
	}))
	secrets, err := fetch.Credentials("basic keeper:oil\nX-Lamp: lit\n")
	require.NoError(t, err)
	client, err := fetch.New(fetch.Options{Resolve: w.resolve, CA: w.ca, Own: []string{"ternrock.example"}, Secrets: secrets})
	require.NoError(t, err)
	path, err := browser.Find("")
	require.NoError(t, err)
	b, err := browser.Open(context.Background(), client, browser.Options{Path: path, NoSandbox: true, Pins: []string{w.pin}})
	require.NoError(t, err)
	defer b.Close()
	seen, err := b.Look(context.Background(), "https://ternrock.example/")
	require.NoError(t, err)
	assert.Equal(t, "Staging", seen.Title)
	assert.Len(t, scan.Reports(seen), 2)
	mu.Lock()
	defer mu.Unlock()
	assert.True(t, shown["ternrock.example/"])
	for _, other := range []string{"assets.example/a.js", "assets.example/redirected.js"} {
		told, asked := shown[other]
		assert.True(t, asked, other)
		assert.False(t, told, "%s was shown the secret", other)
	}
}
