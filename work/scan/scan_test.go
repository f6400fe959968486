package scan

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/coverage"
	"trimlantern/core/mixed"
	site "trimlantern/test/served"
	"trimlantern/work"
	"trimlantern/work/findings"
)

// served makes a job of a site that a handler serves over HTTPS.
func served(t *testing.T, h http.HandlerFunc) *work.Job {
	j := site.Site(t, nil, h)
	j.Offline = false
	return j
}

func TestScan(t *testing.T) {
	asked := map[string]int{}
	j := served(t, func(w http.ResponseWriter, r *http.Request) {
		if !strings.Contains(r.UserAgent(), "Mobile") { // who looks once more
			asked[r.URL.Path]++
		}
		w.Header().Set("Content-Type", "text/html")
		switch r.URL.Path {
		case "/":
			fmt.Fprint(w, `<title>Front</title><link rel=stylesheet href=/s.css><a href="http://EXAMPLE.com/a#x">a</a><a href="/a">a</a><a href="https://other.example/">o</a>
				<a href="/gone">g</a><a href="/file.pdf">f</a><a href="http://example.com:81/">another origin</a><a href="/back">b</a><img src="http://example.com/x.png">`)
		case "/a":
			fmt.Fprint(w, `<img src="http://example.com/x.png"><img src="http://example.com/x.png"><a href="http://other.example/">o</a>`)
		case "/s.css":
			w.Header().Set("Content-Type", "text/css")
			fmt.Fprint(w, `@import "/t.css"; p { background: url(http://cdn.example/i.png) }`)
		case "/t.css":
			w.Header().Set("Content-Type", "text/plain") // asked for as a style sheet
			fmt.Fprint(w, `@font-face { src: url(http://cdn.example/f.woff) }`)
		case "/file.pdf":
			w.Header().Set("Content-Type", "application/pdf")
		case "/back":
			http.Redirect(w, r, "https://other.example/", http.StatusFound)
		default:
			http.NotFound(w, r)
		}
	})
	s, err := Run(context.Background(), j, Options{NoBrowser: true, Pages: 100, Depth: 10, Parallel: 1})
	require.NoError(t, err)
	for path, n := range asked {
		assert.Equal(t, 1, n, "%s is asked for once", path)
	}
	var pages []string
	require.NoError(t, s.EachPage(func(p findings.ScannedPage) error {
		pages = append(pages, strings.TrimPrefix(p.URL, "https://example.com"))
		return nil
	}))
	slices.Sort(pages)
	assert.Equal(t, []string{"/", "/a", "/s.css", "/t.css"}, pages)
	assert.Equal(t, 2, s.Sheets)
	assert.Equal(t, map[mixed.Class]int{mixed.Blocked: 1, mixed.Upgraded: 4, mixed.Link: 1}, s.Classes)
	assert.Equal(t, 2, s.Outward, "the link elsewhere, and the other origin")
	require.NotEmpty(t, s.Culprits)
	assert.Equal(t, findings.Culprit{Number: 1, URL: "http://cdn.example/f.woff", By: "@font-face url()", Class: mixed.Blocked, Certainty: mixed.Likely, Pages: 1, On: "https://example.com/t.css", In: "style", Line: 1, Col: 23, Around: "@font-face { src: url(http://cdn.example/f.woff) }"}, s.Culprits[0])
	assert.Equal(t, 2, s.Culprits[1].Pages, "on two pages, however often on each")
	assert.Equal(t, work.Remain, s.Code())
	var unread []string
	for _, u := range s.Unread {
		unread = append(unread, u.URL)
	}
	assert.Empty(t, unread)
	assert.Equal(t, 4, s.Coverage.Count(coverage.Elsewhere), "three links, one of them to another port, and a page that redirects to another host, there or not: %+v", s.Coverage)
	assert.True(t, s.Complete())
	assert.Equal(t, 1, s.Dead, "a link to nothing is counted, and no page")
}

func TestScanFails(t *testing.T) {
	j := served(t, func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "x", http.StatusInternalServerError) })
	_, err := Run(context.Background(), j, Options{NoBrowser: true, Pages: 10, Depth: 1, Parallel: 1})
	var f *work.Fault
	require.ErrorAs(t, err, &f)
	assert.Equal(t, work.World, f.Code)
	assert.Contains(t, f.Error(), "answers 500")
	_, err = Run(context.Background(), j, Options{URLs: []string{"https://other.example/"}, Pages: 10, Depth: 1, Parallel: 1})
	require.ErrorAs(t, err, &f)
	assert.Equal(t, work.Misuse, f.Code)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Run(ctx, j, Options{NoBrowser: true, Pages: 10, Depth: 1, Parallel: 1})
	require.ErrorAs(t, err, &f)
	assert.Contains(t, f.Error(), "interrupted")
}
