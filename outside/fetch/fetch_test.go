package fetch

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// world serves a handler under every name of port 80.
func world(t *testing.T, h http.HandlerFunc) *Client {
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	c, err := New(Options{Resolve: []string{"*:80:" + strings.TrimPrefix(s.URL, "http://")}, Timeout: 2 * time.Second})
	require.NoError(t, err)
	return c
}

func TestGet(t *testing.T) {
	c := world(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/moved":
			http.Redirect(w, r, "http://b.example/there", http.StatusMovedPermanently)
		case "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		case "/huge":
			for range 20 {
				fmt.Fprint(w, strings.Repeat("x", 1<<20))
			}
		case "/slow":
			time.Sleep(3 * time.Second)
		default:
			w.Header().Set("Content-Type", "Text/HTML; charset=x")
			fmt.Fprint(w, r.Host)
		}
	})
	ctx := context.Background()
	r, err := c.Get(ctx, "http://a.example/moved", nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"http://a.example/moved"}, r.Hops)
	assert.Equal(t, "http://b.example/there", r.URL.String())
	assert.Equal(t, []string{"text/html", "b.example"}, []string{r.Type, string(r.Body)})
	_, err = c.Get(ctx, "http://a.example/loop", nil)
	assert.ErrorContains(t, err, "more than 10 redirects")
	r, err = c.Get(ctx, "http://a.example/huge", nil)
	require.NoError(t, err)
	assert.True(t, r.Cut)
	assert.Len(t, r.Body, maxBody)
	_, err = c.Get(ctx, "http://a.example/slow", nil)
	assert.Error(t, err)
}

func TestPrivate(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	t.Cleanup(s.Close)
	stranger, err := New(Options{})
	require.NoError(t, err)
	_, err = stranger.Get(context.Background(), s.URL, nil)
	assert.ErrorIs(t, err, ErrPrivate, "what a page names must not lead into a private network")
	own, err := New(Options{Own: []string{"127.0.0.1"}})
	require.NoError(t, err)
	_, err = own.Get(context.Background(), s.URL, nil)
	assert.NoError(t, err)
}

func TestOptions(t *testing.T) {
	for _, bad := range []string{"", "a", "a:80", "a:80:b", ":80:127.0.0.1", "a:x:127.0.0.1", "a:80:127.0.0.1:99999"} {
		_, err := New(Options{Resolve: []string{bad}})
		assert.ErrorContains(t, err, "write HOST:PORT:ADDR", bad)
	}
	for in, to := range map[string]string{"a:80:127.0.0.1": "127.0.0.1:80", "a:80:127.0.0.1:81": "127.0.0.1:81", "a:443:[::1]": "[::1]:443", "a:443:[::1]:8443": "[::1]:8443"} {
		_, got, err := parseResolve(in)
		require.NoError(t, err, in)
		assert.Equal(t, to, got)
	}
	_, err := New(Options{CA: "nothing.pem"})
	assert.Error(t, err)
}

// crawl runs a frontier over a world in which get says what a page leads to.
func crawl(ctx context.Context, c *Client, f *Frontier, visit func(j Job, body string) []Job) error {
	return Run(ctx, f, func(ctx context.Context, j Job) *Response {
		r, err := c.Get(ctx, j.URL, nil)
		if err != nil {
			return &Response{}
		}
		return r
	}, func(j Job, r *Response) error {
		for _, n := range visit(j, string(r.Body)) {
			f.Add(n)
		}
		return nil
	})
}

func TestCrawl(t *testing.T) {
	c := world(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.URL.Path) })
	// An endless calendar: every page leads to two more.
	visit := func(seen map[string]int) func(Job, string) []Job {
		return func(j Job, body string) []Job {
			seen[j.URL] = j.Depth
			n, _ := strconv.Atoi(strings.TrimPrefix(body, "/"))
			page := func(n int) Job { return Job{URL: fmt.Sprintf("http://a.example/%d", n), Depth: j.Depth + 1} }
			return []Job{page(2 * n), page(2*n + 1), j}
		}
	}
	seen := map[string]int{}
	f := NewFrontier(Crawl{Parallel: 4, Pages: 30, Depth: 100})
	require.Equal(t, Queued, f.Add(Job{URL: "http://a.example/1"}))
	require.NoError(t, crawl(context.Background(), c, f, visit(seen)))
	assert.Len(t, seen, 30)
	assert.Equal(t, PastPages, f.Add(Job{URL: "http://a.example/one-more"}))
	seen = map[string]int{}
	f = NewFrontier(Crawl{Parallel: 3, Pages: 1000, Depth: 3})
	f.Add(Job{URL: "http://a.example/1"})
	require.NoError(t, crawl(context.Background(), c, f, visit(seen)))
	assert.Len(t, seen, 15)
	assert.Equal(t, 3, seen["http://a.example/15"])
	ctx, cancel := context.WithCancel(context.Background())
	seen = map[string]int{}
	f = NewFrontier(Crawl{Parallel: 2, Pages: 1 << 20, Depth: 1 << 20})
	f.Add(Job{URL: "http://a.example/1"})
	err := crawl(ctx, c, f, func(j Job, body string) []Job {
		if len(seen) == 50 {
			cancel()
		}
		return visit(seen)(j, body)
	})
	assert.ErrorIs(t, err, context.Canceled)
	assert.Positive(t, f.Waiting())
	f = NewFrontier(Crawl{Parallel: 2, Pages: 1 << 20, Depth: 1 << 20, Time: 300 * time.Millisecond, Pause: 10 * time.Millisecond})
	f.Add(Job{URL: "http://a.example/1"})
	require.NoError(t, crawl(context.Background(), c, f, visit(map[string]int{})))
	assert.Positive(t, f.Waiting(), "its time was over")
}

func TestFrontier(t *testing.T) {
	f := NewFrontier(Crawl{Pages: 2, Depth: 1})
	for _, c := range []struct {
		job  Job
		want Added
		why  string
	}{
		{Job{URL: "a"}, Queued, ""},
		{Job{URL: "a", Depth: 1}, Known, ""},
		{Job{URL: "a", Brief: true}, Queued, "what was only touched may have to be read"},
		{Job{URL: "s", As: "style", Depth: 1}, Queued, ""},
		{Job{URL: "deep", Depth: 2}, PastDepth, ""},
		{Job{URL: "deep", Depth: 1}, Queued, "another way to it is shorter"},
		{Job{URL: "c"}, PastPages, ""},
	} {
		assert.Equal(t, c.want, f.Add(c.job), "%+v %s", c.job, c.why)
	}
	assert.Equal(t, 4, f.Waiting())
	assert.Equal(t, Queued, f.Done(Job{URL: "z", Brief: true}), "new, and not to be fetched")
	assert.Equal(t, Known, f.Add(Job{URL: "z", Brief: true}))
	rest := 0
	require.NoError(t, f.Rest(func(Job) { rest++ }))
	assert.Equal(t, []int{4, 0}, []int{rest, f.Waiting()})
}

func TestSecrets(t *testing.T) {
	var got []string
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = append(got, r.Host+" "+r.Header.Get("X-Key")+r.Header.Get("Authorization"))
		if r.URL.Path == "/away" {
			http.Redirect(w, r, "https://other.example/", http.StatusFound)
		}
	})
	s := httptest.NewTLSServer(h)
	t.Cleanup(s.Close)
	secrets, err := Credentials("# staging\nX-Key: lamp\nbasic keeper:oil\n")
	require.NoError(t, err)
	c, err := New(Options{Resolve: []string{"*:443:" + s.Listener.Addr().String(), "*:80:" + s.Listener.Addr().String()}, Own: []string{"example.com"}, Secrets: secrets})
	require.NoError(t, err)
	c.transport.TLSClientConfig.InsecureSkipVerify = true
	_, err = c.Get(context.Background(), "https://example.com/away", nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"example.com lampBasic a2VlcGVyOm9pbA==", "other.example "}, got, "a redirect carries nothing to another host")
	for _, bad := range []string{"lamp", "a b: c", "X: \x01"} {
		_, err := Credentials("X: y\n" + bad)
		require.ErrorContains(t, err, "line 2")
		assert.NotContains(t, err.Error(), bad)
	}
}

func TestBusyServer(t *testing.T) {
	asked := 0
	c := world(t, func(w http.ResponseWriter, r *http.Request) {
		if asked++; asked == 1 {
			w.Header().Set("Retry-After", "0")
			w.WriteHeader(http.StatusTooManyRequests)
			return
		}
		fmt.Fprint(w, "at last")
	})
	r, err := c.Get(context.Background(), "http://a.example/", nil)
	require.NoError(t, err)
	assert.Equal(t, "at last", string(r.Body))
}

func TestSitemap(t *testing.T) {
	const index = `<?xml version="1.0" encoding="iso-8859-1"?><sitemapindex xmlns="x"><sitemap><loc> https://a.example/1.xml </loc></sitemap></sitemapindex>`
	pages, maps, err := Sitemap([]byte(index), 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"https://a.example/1.xml"}, maps)
	assert.Empty(t, pages)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	fmt.Fprint(z, `<urlset><url><loc>https://a.example/a</loc><image:image><image:loc>https://a.example/i.png</image:loc></image:image></url><url><loc>https://a.example/b?x=1&amp;y</loc></url></urlset>`)
	require.NoError(t, z.Close())
	pages, _, err = Sitemap(packed.Bytes(), 10)
	require.NoError(t, err)
	assert.Equal(t, []string{"https://a.example/a", "https://a.example/b?x=1&y"}, pages)
	pages, _, err = Sitemap(packed.Bytes(), 1)
	require.NoError(t, err)
	assert.Len(t, pages, 1)
	_, _, err = Sitemap(packed.Bytes()[:40], 10)
	assert.Error(t, err)
}

func TestRobots(t *testing.T) {
	rules, maps := Robots(200, []byte("User-agent: *\nDisallow: /private\nSitemap: https://a.example/map.xml\n"))
	assert.Equal(t, []string{"https://a.example/map.xml"}, maps)
	assert.False(t, rules.Allows("/private/x"))
	assert.True(t, rules.Allows("/public"))
	assert.True(t, (*Rules)(nil).Allows("/"))
}

func FuzzSitemap(f *testing.F) {
	f.Add([]byte(`<urlset><url><loc>https://a.example/</loc></url></urlset>`))
	f.Add([]byte("\x1f\x8b\x08"))
	f.Fuzz(func(t *testing.T, b []byte) {
		pages, maps, _ := Sitemap(b, 50)
		require.LessOrEqual(t, len(pages)+len(maps), 50)
		Robots(200, b)
	})
}

// A long queue lies in a file, and comes out as it went in, whether jobs come and go in
// turn or all at once, and also where no file can be written.
func TestQueue(t *testing.T) {
	for _, c := range []struct {
		why      string
		in, out  int // so many in, then so many out, and so on
		dir      string
		fromFile bool
	}{
		{"short", 3, 1, t.TempDir(), false},
		{"long", 5 * blockJobs, 4 * blockJobs, t.TempDir(), true},
		{"ever longer", 700, 300, t.TempDir(), true},
		{"no room for a file", 5000, 400, "/nowhere", false},
	} {
		t.Setenv("TMPDIR", c.dir)
		var q queue
		in, out := 0, 0
		take := func() {
			j, err := q.pop()
			require.NoError(t, err)
			require.Equal(t, Job{URL: fmt.Sprint(out), Depth: out, By: "a\n\"b"}, j, c.why)
			out++
		}
		most := 0
		for range 12 {
			for range c.in {
				q.push(Job{URL: fmt.Sprint(in), Depth: in, By: "a\n\"b"})
				in++
			}
			for range c.out {
				take()
			}
			most = max(most, cap(q.head)+cap(q.tail))
		}
		assert.Equal(t, c.fromFile, q.file != nil, c.why)
		assert.True(t, !c.fromFile || most <= 4*blockJobs, "%s: %d in memory", c.why, most)
		for q.waiting > 0 {
			take()
		}
		assert.Equal(t, in, out, c.why)
		q.close()
		if left, err := os.ReadDir(c.dir); err == nil {
			assert.Empty(t, left, c.why)
		}
	}
}
