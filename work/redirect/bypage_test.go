package redirect

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/hops"
	"trimlantern/core/point"
	"trimlantern/test/served"
	"trimlantern/work"
	"trimlantern/work/reach"
)

// senders are ways in which a page sends its visitors to the other scheme; TO is that scheme, FROM the page's own.
var senders = map[string]struct{ header, body string }{
	"refresh header":         {header: "0; url=TO://example.com/"},
	"refresh header, comma":  {header: "3,TO://example.com/"},
	"meta refresh":           {body: `<meta http-equiv="refresh" content="0;url=TO://example.com/">`},
	"meta refresh, quoted":   {body: `<META HTTP-EQUIV=REFRESH CONTENT="1; URL='TO://example.com/'">`},
	"script, whole address":  {body: `<script>location.href = "TO://example.com/"</script>`},
	"script, replace":        {body: `<script>window.location.replace("TO://" + location.host + location.pathname)</script>`},
	"script, by its scheme":  {body: `<script>if (location.protocol == "FROM:") { location.protocol = "TO:"; }</script>`},
	"script, not the other":  {body: `<script>if (window.location.protocol !== 'TO:') window.location = 'TO:' + window.location.href.substring(window.location.protocol.length)</script>`},
	"script, of the address": {body: `<script>if (location.href.indexOf("FROM:") == 0) location.assign(location.href.replace("FROM:", "TO:"))</script>`},
	"handler":                {body: `<body onload="top.location='TO://example.com/'">`},
}

// idle are pages that send nobody anywhere.
var idle = map[string]struct{ header, body string }{
	"nothing":         {},
	"a ticker":        {header: "20"},
	"much later":      {body: `<meta http-equiv=refresh content="600;url=TO://example.com/">`},
	"in noscript":     {body: `<noscript><meta http-equiv=refresh content="0;url=TO://example.com/"></noscript>`},
	"on a click":      {body: `<a onclick="location='TO://example.com/'">x</a>`},
	"a comment":       {body: `<script>// location = "TO://example.com/"` + "\n</script>"},
	"to where it is":  {body: `<script>if (location.protocol != "FROM:") location.protocol = "FROM:"</script>`},
	"a data script":   {body: `<script type="text/plain">location = "TO://example.com/"</script>`},
	"a question":      {body: `<script>if (location.href == "TO://example.com/") go()</script>`},
	"another's place": {body: `<script>map.location = "TO://example.com/"</script>`},
}

// world is a site whose pages over either scheme are as given.
func world(t *testing.T, plain, secure http.HandlerFunc) *work.Job {
	return served.Site(t, plain, secure)
}

// page serves a page over a scheme.
func page(header, body, from, to string) http.HandlerFunc {
	fill := strings.NewReplacer("FROM", from, "TO", to)
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if header != "" {
			w.Header().Set("Refresh", fill.Replace(header))
		}
		fmt.Fprintf(w, "<title>Tern Rock Light</title><p>Open from April to October.%s", fill.Replace(body))
	}
}

func moved(w http.ResponseWriter, r *http.Request) {
	http.Redirect(w, r, "https://example.com"+r.URL.RequestURI(), http.StatusMovedPermanently)
}

// What a page does by itself is a step of the way, whatever the server says: one that sends back to HTTP makes a loop of
// every redirect, before it is there and afterwards.
func TestSentByPage(t *testing.T) {
	problems := func(t *testing.T, j *work.Job) []hops.Problem {
		tested, err := Test(t.Context(), j, Options{})
		require.NoError(t, err)
		i := slices.IndexFunc(tested.Journeys, func(s Journey) bool { return s.Typed == "http://example.com/" && s.Method == "GET" })
		require.GreaterOrEqual(t, i, 0)
		return tested.Journeys[i].Problems
	}
	stops := func(t *testing.T, j *work.Job) bool {
		twins, err := reach.Twins(t.Context(), j, nil)
		require.NoError(t, err)
		return slices.ContainsFunc(reach.TwinPoints(twins), func(p point.Point) bool { return p.Grade == point.Stop || p.ID == "downgrade" })
	}
	for what, s := range senders {
		t.Run(what, func(t *testing.T) {
			back := page(s.header, s.body, "https", "http")
			assert.Contains(t, problems(t, world(t, moved, back)), hops.Loop, "redirected there, sent back")
			assert.True(t, stops(t, world(t, moved, back)))
			assert.True(t, stops(t, world(t, page("", "", "", ""), back)), "what the redirect would make a loop")
			there := problems(t, world(t, page(s.header, s.body, "http", "https"), page("", "", "", "")))
			assert.Contains(t, there, hops.BySelf)
			assert.NotContains(t, there, hops.Insecure)
		})
	}
	for what, s := range idle {
		t.Run(what, func(t *testing.T) {
			stays := world(t, moved, page(s.header, s.body, "https", "http"))
			assert.Empty(t, problems(t, stays))
			assert.False(t, stops(t, stays))
		})
	}
}
