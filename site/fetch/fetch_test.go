package fetch

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
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
	r, err := c.Get(ctx, "http://a.example/moved")
	require.NoError(t, err)
	assert.Equal(t, []string{"http://a.example/moved"}, r.Hops)
	assert.Equal(t, "http://b.example/there", r.URL.String())
	assert.Equal(t, []string{"text/html", "b.example"}, []string{r.Type, string(r.Body)})
	_, err = c.Get(ctx, "http://a.example/loop")
	assert.ErrorContains(t, err, "more than 10 redirects")
	r, err = c.Get(ctx, "http://a.example/huge")
	require.NoError(t, err)
	assert.True(t, r.Cut)
	assert.Len(t, r.Body, maxBody)
	_, err = c.Get(ctx, "http://a.example/slow")
	assert.Error(t, err)
}

func TestPrivate(t *testing.T) {
	s := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	t.Cleanup(s.Close)
	stranger, err := New(Options{})
	require.NoError(t, err)
	_, err = stranger.Get(context.Background(), s.URL)
	assert.ErrorIs(t, err, ErrPrivate, "what a page names must not lead into a private network")
	own, err := New(Options{Own: []string{"127.0.0.1"}})
	require.NoError(t, err)
	_, err = own.Get(context.Background(), s.URL)
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

func TestCrawl(t *testing.T) {
	c := world(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, r.URL.Path) })
	// An endless calendar: every page leads to two more.
	visit := func(seen map[string]int) Visit {
		return func(u string, depth int, r *Response, err error) []string {
			seen[u] = depth
			n, _ := strconv.Atoi(strings.TrimPrefix(string(r.Body), "/"))
			return []string{fmt.Sprintf("http://a.example/%d", 2*n), fmt.Sprintf("http://a.example/%d", 2*n+1), u}
		}
	}
	seen := map[string]int{}
	left, err := c.Run(context.Background(), Crawl{Parallel: 4, Pages: 30, Depth: 100}, []string{"http://a.example/1"}, visit(seen))
	require.NoError(t, err)
	assert.Len(t, seen, 30)
	assert.Positive(t, left)
	seen = map[string]int{}
	_, err = c.Run(context.Background(), Crawl{Parallel: 3, Pages: 1000, Depth: 3}, []string{"http://a.example/1"}, visit(seen))
	require.NoError(t, err)
	assert.Len(t, seen, 15)
	assert.Equal(t, 3, seen["http://a.example/15"])
	ctx, cancel := context.WithCancel(context.Background())
	seen = map[string]int{}
	_, err = c.Run(ctx, Crawl{Parallel: 2, Pages: 1 << 20, Depth: 1 << 20}, []string{"http://a.example/1"}, func(u string, d int, r *Response, err error) []string {
		if len(seen) == 50 {
			cancel()
		}
		if err != nil {
			return nil
		}
		return visit(seen)(u, d, r, err)
	})
	assert.ErrorIs(t, err, context.Canceled)
}
