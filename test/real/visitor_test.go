//go:build real

package real

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/mixed"
	"trimlantern/outside/browser"
	"trimlantern/outside/fetch"
	"trimlantern/work/scan"
)

var visitorPages = flag.Int("visitor-pages", 8, "how many pages on which scripts wait for a visitor are looked at")

// acts are ways in which a script loads what U names, and moments are when it does. Together they make pages.
var (
	acts = map[string]string{
		"a picture":        `new Image().src = U`,
		"a fetch":          `fetch(U).catch(() => {})`,
		"a request":        `const x = new XMLHttpRequest(); x.open("GET", U); try { x.send() } catch {}`,
		"a script":         `const e = document.createElement("script"); e.src = U; document.head.append(e)`,
		"a sheet":          `const e = document.createElement("link"); e.rel = "stylesheet"; e.href = U; document.head.append(e)`,
		"a frame":          `const e = document.createElement("iframe"); e.src = U; document.body.append(e)`,
		"a film":           `const e = document.createElement("video"); e.src = U; e.preload = "auto"; document.body.append(e)`,
		"markup":           "document.body.insertAdjacentHTML('beforeend', `<img src=\"${U}\">`)",
		"a style":          "document.body.style.background = `url(\"${U}\")`",
		"an import":        `import(U).catch(() => {})`,
		"a worker's fetch": "new Worker(URL.createObjectURL(new Blob([`fetch(\"${U}\").catch(() => {})`])))",
		"an event source":  `new EventSource(U)`,
		"a shadow tree":    "const e = document.createElement('div'); document.body.append(e); e.attachShadow({mode: 'open'}).innerHTML = `<img src=\"${U}\">`",
		"a picture's set":  "const e = new Image(); e.srcset = `${U} 1x`; document.body.append(e)",
		"a sheet's text":   "const e = document.createElement('style'); e.textContent = `body { background: url(\"${U}\") }`; document.head.append(e)",
		"a film's picture": `const e = document.createElement("video"); e.poster = U; document.body.append(e)`,
		"a built object":   `const e = document.createElement("object"); e.data = U; e.type = "text/html"; document.body.append(e)`,
		"a lazy picture":   `const e = new Image(9, 9); e.loading = "lazy"; e.src = U; document.body.append(e)`,
	}
	moments = map[string]string{
		"at once":                 `go()`,
		"when the page is there":  `addEventListener("DOMContentLoaded", go)`,
		"when all is there":       `addEventListener("load", go)`,
		"after two seconds":       `setTimeout(go, 2000)`,
		"after eight seconds":     `setTimeout(go, 8000)`,
		"when there is time":      `requestIdleCallback(go)`,
		"at the next frame":       `requestAnimationFrame(() => requestAnimationFrame(go))`,
		"on the way down":         `addEventListener("scroll", go, { once: true })`,
		"in sight":                `const o = new IntersectionObserver(all => { if (all.some(e => e.isIntersecting)) { o.disconnect(); go() } }); o.observe(document.getElementById("end"))`,
		"when the pointer moves":  `addEventListener("mousemove", go, { once: true })`,
		"when it enters":          `document.addEventListener("mouseover", go, { once: true })`,
		"when a key is pressed":   `addEventListener("keydown", go, { once: true })`,
		"when the wheel turns":    `addEventListener("wheel", go, { once: true })`,
		"when a finger is there":  `addEventListener("touchstart", go, { once: true })`,
		"by a pointer's event":    `addEventListener("pointermove", go, { once: true })`,
		"on a narrow screen":      `if (matchMedia("(max-width: 500px)").matches) go()`,
		"on a telephone":          `if (/Android.*Mobile/.test(navigator.userAgent)) go()`,
		"where fingers are":       `if (navigator.maxTouchPoints > 1) go()`,
		"at the second visit":     `if (localStorage.seen) go(); localStorage.seen = 1`,
		"with a cookie of before": `if (document.cookie.includes("seen=1")) go(); document.cookie = "seen=1"`,
		"after a list came":       `fetch("/list.json").then(r => r.text()).then(go)`,
		"when something changes":  `new MutationObserver(go).observe(document.body, { childList: true }); document.body.append("x")`,
		"when the size changes":   `addEventListener("resize", go, { once: true })`,
	}
)

// What scripts load when a visitor with a mouse or a telephone is there, the browser's look sees.
func TestScriptsOfVisitors(t *testing.T) {
	t.Parallel()
	type one struct{ act, moment string }
	page := func(o one, n int) string {
		return fmt.Sprintf(`<!DOCTYPE html><meta name="viewport" content="width=device-width"><title>%d</title><body><p style="height:3000px">Tern Rock Light</p><i id="end" style="display:block;height:9px"></i>
<script>const U = ["ht", "tp://assets.example/%d/a"].join(""); let done = 0; const go = () => { if (!done++) { %s } }; %s</script>`, n, n, acts[o.act], moments[o.moment])
	}
	var all []one // each act at once: what is reported then is to be reported at any moment
	for _, act := range slices.Sorted(maps.Keys(acts)) {
		all = append(all, one{act, "at once"})
	}
	first := len(all)
	r := rand.New(rand.NewPCG(35, 2))
	names, when := slices.Sorted(maps.Keys(acts)), slices.Sorted(maps.Keys(moments))
	for n := range *visitorPages {
		all = append(all, one{names[r.IntN(len(names))], when[n%len(when)]})
	}
	w := newNet(t, handler(func(rw http.ResponseWriter, r *http.Request) {
		var n int
		rw.Header().Set("Content-Type", "text/html")
		if _, err := fmt.Sscanf(r.URL.Path, "/%d/", &n); err == nil && r.Host == "ternrock.example" && n < len(all) {
			fmt.Fprint(rw, page(all[n], n))
		}
	}))
	client, err := fetch.New(fetch.Options{Resolve: w.resolve, CA: w.ca, Own: []string{"ternrock.example"}})
	require.NoError(t, err)
	path, err := browser.Find("")
	require.NoError(t, err)
	b, err := browser.Open(context.Background(), client, browser.Options{Path: path, NoSandbox: true, Pins: []string{w.pin}, Full: true})
	require.NoError(t, err)
	defer b.Close()
	seen := make([]bool, len(all))
	var wait sync.WaitGroup
	jobs := make(chan int)
	for range 4 {
		wait.Go(func() {
			for n := range jobs {
				for range 2 { // a machine that is busy gets a second chance
					s, err := b.Look(context.Background(), fmt.Sprintf("https://ternrock.example/%d/", n))
					if err != nil {
						continue
					}
					seen[n] = slices.ContainsFunc(scan.Reports(s), func(f mixed.Finding) bool { return strings.Contains(f.URL, fmt.Sprintf("assets.example/%d/a", n)) })
					if seen[n] || !s.Timeout {
						break
					}
				}
			}
		})
	}
	for n := range all {
		jobs <- n
	}
	close(jobs)
	wait.Wait()
	reported := map[string]bool{}
	for n, o := range all[:first] {
		if reported[o.act] = seen[n]; !seen[n] {
			t.Logf("not reported by the browser at any moment: %s", o.act)
		}
	}
	looked, found := 0, 0
	for n, o := range all[first:] {
		if !reported[o.act] {
			continue
		}
		looked++
		if seen[first+n] {
			found++
		} else {
			t.Logf("missed: %s %s", o.act, o.moment)
		}
	}
	t.Logf("%d of %d pages", found, looked)
	assert.GreaterOrEqual(t, float64(found), 0.99*float64(looked))
	assert.Greater(t, len(reported), 10)
}
