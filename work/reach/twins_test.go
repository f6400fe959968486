package reach_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/point"
	"trimlantern/test/served"
	"trimlantern/work/reach"
)

// pages are kinds of pages, with places for what changes by itself and for what is held against the other scheme.
var pages = map[string]string{
	"an article":   `<title>The lamp</title><nav><a href=/boat/>Boat</a> <a href=/tide/>Tide</a></nav><h1>The lamp</h1><p>First lit in the spring of 1874, and kept by volunteers since the last keeper left the rock.</p>MOVING<p>STILL</p><footer>Tern Rock Light, Harbour Road</footer>`,
	"a front page": `<title>Tern Rock Light</title>MOVING<h1>Welcome</h1><ul><li>The boat leaves at ten</li><li>Dogs may come</li></ul><p>STILL</p><img src=/rock.jpg>`,
	"a table":      `<title>Tides</title><table><tr><td>High<td>06:12<tr><td>Low<td>12:30</table><p>STILL</p>MOVING`,
	"a short one":  `<title>Shop</title><p>STILL</p>MOVING`,
	"a list":       `<title>News</title><ol>` + strings.Repeat(`<li>One more <a href=/n/>story</a> of the rock</li>`, 40) + `</ol>STILL<div>MOVING</div>`,
}

// moving is what changes by itself from one visit to the next; N is the number of the visit.
var moving = map[string]func(n int64, secure bool) string{
	"nothing":   func(int64, bool) string { return "" },
	"a counter": func(n int64, _ bool) string { return fmt.Sprintf("<p>Visitor %d</p>", 1200+n) },
	"a token": func(n int64, _ bool) string {
		return fmt.Sprintf("<input type=hidden value=%x><p>code %x</p>", n*7919, rand.Uint64())
	},
	"a photo of the day": func(int64, bool) string {
		return fmt.Sprintf("<img src=/photo%d.jpg alt=x><p>Photo %d</p>", rand.IntN(366), rand.IntN(366))
	},
	"how long it took": func(n int64, _ bool) string { return fmt.Sprintf("<!-- %d ms --><p>made in 0.%03d s</p>", n, 100+n) },
	"one of many sayings": func(int64, bool) string {
		return "<blockquote>" + fmt.Sprint("saying of ", rand.IntN(5000)) + "</blockquote>"
	},
	"its own address": func(_ int64, secure bool) string {
		return fmt.Sprintf("<p>This page: %s://example.com/</p><a href=%[1]s://example.com/lamp/>lamp</a>", scheme(secure))
	},
	"a counter that the cache of one scheme keeps": func(n int64, secure bool) string {
		if secure {
			n = 0
		}
		return fmt.Sprintf("<p>Visitor %d of the rock</p>", 1200+n)
	},
	"a form's secrets": func(int64, bool) string {
		return fmt.Sprintf("<script>var t='%x'</script><form action=/s?k=%x></form>", rand.Uint64(), rand.Uint64())
	},
	"stories in another order": func(int64, bool) string {
		all := []string{"<p>storm</p>", "<p>seals</p>", "<p>letters</p>", "<p>kitchen</p>"}
		rand.Shuffle(len(all), func(a, b int) { all[a], all[b] = all[b], all[a] })
		return strings.Join(all, "")
	},
}

func scheme(secure bool) string {
	if secure {
		return "https"
	}
	return "http"
}

// stills are what HTTP and HTTPS show of one part; the last of each says whether they are one page.
var stills = map[string]struct {
	plain, secure string
	same          bool
}{
	"the same":                  {"Open from April to October", "Open from April to October", true},
	"nothing":                   {"", "", true},
	"other spaces":              {"Open from  April", "Open  from\n April", true},
	"other attributes":          {"<b class=a>Open</b>", "<b class=b id=z>Open</b>", true},
	"comments":                  {"Open<!-- a -->", "Open<!-- b -->", true},
	"an older season":           {"Open from April to October", "Open from May to September", false},
	"an older price":            {"Admission: 9", "Admission: 8", false},
	"a paragraph that is new":   {"Open<p>The museum has a new café since June.</p>", "Open", false},
	"a notice that is not gone": {"Open", "Open<p>Closed for repairs.</p>", false},
	"another picture":           {"<img src=/lamp-2026.jpg>", "<img src=/lamp-2019.jpg>", false},
	"another link":              {"<a href=/tickets/>Tickets</a>", "<a href=/booking/>Tickets</a>", false},
	"an error in it":            {"Open", "Open<p>Warning: Undefined variable $tide in /srv/rock.php on line 3</p>", false},
	"another frame":             {"<iframe src=/map-2026></iframe>", "<iframe src=/map-2019></iframe>", false},
	"another form":              {"<form action=/order><input type=submit value=Order></form>", "<form action=/old><input type=submit value=Order></form>", false},
	"another button":            {"<input type=submit value=Order>", "<input type=submit value=Closed>", false},
	"another style sheet":       {"<link rel=stylesheet href=/rock-2.css?a>", "<link rel=stylesheet href=/rock-1.css?b>", false},
	"another version of one":    {"<link rel=stylesheet href=/rock.css?1>", "<link rel=stylesheet href=/rock.css?2>", true},
	"a secret in a form":        {"<input type=hidden value=1>", "<input type=hidden value=2>", true},
	"a part that is missing":    {"<ul><li>Boat<li>Stairs<li>Gallery</ul>", "<ul><li>Boat<li>Stairs</ul>", false},
}

// What both schemes show is one page or is not, whatever changes in it by itself: each kind of page, with each kind of noise,
// with each kind of difference.
func TestTwinsAreTheSame(t *testing.T) {
	var kinds, noises, parts = slices.Sorted(maps.Keys(pages)), slices.Sorted(maps.Keys(moving)), slices.Sorted(maps.Keys(stills))
	seen := map[bool]int{}
	for i, noise := range noises {
		for k, part := range parts {
			kind := kinds[(i+k)%len(kinds)]
			still := stills[part]
			var visits atomic.Int64
			show := func(secure bool, text string) http.HandlerFunc {
				return func(w http.ResponseWriter, r *http.Request) {
					w.Header().Set("Content-Type", "text/html; charset=utf-8")
					if r.URL.Path != "/" {
						http.NotFound(w, r)
						return
					}
					fmt.Fprint(w, strings.NewReplacer("STILL", text, "MOVING", moving[noise](visits.Add(1), secure)).Replace(pages[kind]))
				}
			}
			twins, err := reach.Twins(t.Context(), served.Site(t, show(false, still.plain), show(true, still.secure)), nil)
			require.NoError(t, err)
			fault := slices.ContainsFunc(reach.TwinPoints(twins), func(p point.Point) bool { return p.Grade.Fault() })
			seen[fault]++
			assert.Equal(t, !still.same, fault, "%s with %s, that differs by %s: %+v", kind, noise, part, twins[0].Differs)
		}
	}
	t.Logf("%d pages are the same, %d are not", seen[false], seen[true])
}
