package checkup

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/test/served"
	"trimlantern/work"
	"trimlantern/work/scan"
)

var quietNights = flag.Int("quiet-nights", 6, "how many nights on which nothing happens, but one request in eight fails")

// island is a site as a visitor meets it, which changes a little with each visit.
type island struct {
	change func(path string, w http.ResponseWriter, body string) (string, bool) // false: it has answered
	fails  bool                                                                 // one request in eight
	visits atomic.Int64
	news   int // posts that came since
	job    *work.Job
}

const paragraphs = "The lamp was first lit in the spring of 1874 and has been kept by volunteers since the last keeper left the rock. The boat leaves the east pier when the tide allows it, and takes twelve visitors and one dog. Stairs lead up to the gallery, from which terns can be watched while they feed their young."

var subjects = []string{"lamp", "boat", "tide", "stairs", "gallery", "kitchen", "museum", "storm", "letters", "birds", "map", "shop"}

func (i *island) page(path string) (string, bool) {
	n := i.visits.Add(1)
	var b strings.Builder
	name := strings.Trim(path, "/")
	if name != "" && !strings.Contains(strings.Join(subjects, " ")+" news-0 news-1 news-2", name) {
		return "", false
	}
	fmt.Fprintf(&b, "<!DOCTYPE html><html lang=en><title>%s – Tern Rock Light</title><link rel=stylesheet href=/s.css><nav>", strings.ToUpper(name))
	for _, s := range subjects {
		fmt.Fprintf(&b, "<a href=/%s/>%s</a> ", s, s)
	}
	for k := range i.news {
		fmt.Fprintf(&b, "<a href=/news-%d/>News %d</a> ", k, k)
	}
	fmt.Fprintf(&b, "</nav><h1>About the %s</h1><p>%s</p><p>The %s of the rock, told by %s and %s.</p>", name, paragraphs, name, strings.Repeat(name+" ", 3), "the keepers")
	fmt.Fprintf(&b, "<script>var nonce='%x', when=%d; eval(atob('d2luZG93LngxPTE='))</script><script src=https://counter.example/c.js></script>", n*7919, time.Now().UnixNano())
	fmt.Fprintf(&b, "<form action=/search method=post><input name=token value=%x></form><p>Visitor %d, page made in %d ms on %s.</p></html>", n*104729, n, n%97, time.Now().Format(time.RFC1123))
	return b.String(), true
}

func newIsland(t *testing.T) *island {
	i := &island{}
	handle := func(secure bool) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if i.fails {
				switch rand.IntN(32) {
				case 0:
					http.Error(w, "later", http.StatusServiceUnavailable)
					return
				case 1:
					http.Error(w, "no", http.StatusInternalServerError)
					return
				case 2:
					panic(http.ErrAbortHandler)
				case 3:
					w.Header().Set("Content-Length", "90000")
					fmt.Fprint(w, "<title>Tern")
					return
				}
			}
			if !secure && !strings.HasPrefix(r.URL.Path, "/.well-known/") {
				http.Redirect(w, r, "https://example.com"+r.URL.RequestURI(), http.StatusMovedPermanently)
				return
			}
			body, ok := i.page(r.URL.Path)
			if i.change != nil {
				var answered bool
				if body, answered = i.change(r.URL.Path, w, body); !answered {
					return
				}
				ok = ok || body != ""
			}
			switch {
			case r.URL.Path == "/s.css":
				w.Header().Set("Content-Type", "text/css")
			case !ok || strings.HasPrefix(r.URL.Path, "/.well-known/"):
				http.NotFound(w, r)
			default:
				w.Header().Set("Content-Type", "text/html; charset=utf-8")
				fmt.Fprint(w, body)
			}
		}
	}
	i.job = served.Site(t, handle(false), handle(true))
	i.job.Keep(t.TempDir())
	return i
}

// night is one look at the site, as a run of its own.
func (i *island) night(t *testing.T) *Result {
	j := *i.job
	r, err := Run(t.Context(), &j, Options{Look: scan.Options{Depth: 50, Parallel: 4, Pages: 1000, NoBrowser: true, Accept: []string{"scripts", "browser"}}})
	require.NoError(t, err)
	return r
}

// ids are what a night reports besides what it always does here: the test's certificate and its server are no real ones.
func ids(r *Result) (all []string) {
	for _, p := range r.Points {
		for _, own := range []string{"page-", "site-", "host-", "script-", "proof-"} {
			if strings.HasPrefix(p.ID, own) {
				all = append(all, p.ID)
			}
		}
	}
	return all
}

func replaced(body string) func(string, http.ResponseWriter, string) (string, bool) {
	return func(path string, _ http.ResponseWriter, was string) (string, bool) {
		if was == "" || strings.HasPrefix(path, "/.well-known/") {
			return was, true
		}
		return body, true
	}
}

func on(path string, change func(string) string) func(string, http.ResponseWriter, string) (string, bool) {
	return func(at string, _ http.ResponseWriter, was string) (string, bool) {
		if at == path || path == "*" && was != "" {
			return change(was), true
		}
		return was, true
	}
}

func status(path string, code int) func(string, http.ResponseWriter, string) (string, bool) {
	return func(at string, w http.ResponseWriter, was string) (string, bool) {
		if at == path || strings.HasSuffix(path, "*") && strings.HasPrefix(at, strings.TrimSuffix(path, "*")) {
			http.Error(w, "<h1>gone</h1>", code)
			return "", false
		}
		return was, true
	}
}

func with(more string) func(string) string {
	return func(was string) string { return strings.Replace(was, "<h1>", more+"<h1>", 1) }
}

// Each single change that matters is reported, whatever the answers' status says; what changes on any site is not.
func TestNights(t *testing.T) {
	type change = func(string, http.ResponseWriter, string) (string, bool)
	other := strings.Repeat("Cheap watches and shoes for sale now with free shipping to all places. ", 9)
	for _, c := range []struct {
		what   string
		change change
		want   string
		news   int
	}{
		{"nothing", nil, "", 0},
		{"three posts more", nil, "", 3},
		{"a page says something new", on("/tide/", func(w string) string { return strings.Replace(w, "twelve visitors", "ten visitors", 1) }), "", 0},
		{"a page is written anew below its heading", on("/tide/", func(w string) string { return strings.Replace(w, paragraphs, "Low water is at noon.", 1) }), "", 0},
		{"a page is twice as long", on("/boat/", with("<p>"+paragraphs+" More of it, of boats and of the weather on the sea in spring.</p>")), "", 0},
		{"another title on each page", on("*", func(w string) string { return strings.Replace(w, "Tern Rock Light", "The Light on Tern Rock", 1) }), "", 0},
		{"another notice on each page", on("*", with("<p>On Sunday the museum is closed.</p>")), "", 0},
		{"a script of a known host", on("/map/", with("<script src=https://counter.example/d.js></script>")), "", 0},
		{"a post about a fatal error of judgement", on("/storm/", with("<p>It was a fatal mistake to sail.</p>")), "", 0},
		{"a server's default page", replaced("<title>Apache2 Debian Default Page: It works</title><h1>It works!</h1><p>This is the default page of the server.</p>"), "page-default", 0},
		{"another server's", replaced("<title>Welcome to nginx!</title><h1>Welcome to nginx!</h1><p>If you see this page, the web server is working.</p>"), "page-default", 0},
		{"a list of files", replaced("<title>Index of /</title><h1>Index of /</h1><a href=old.zip>old.zip</a> some files here in a list of files"), "page-default", 0},
		{"the name is for sale", replaced("<title>example.com</title><p>This domain is for sale. Make an offer now.</p>"), "page-default", 0},
		{"the account is closed", replaced("<title>Notice</title><p>This account has been suspended. Contact your host.</p>"), "page-default", 0},
		{"only the front page", on("/", func(string) string { return "<title>Welcome to nginx!</title><h1>Welcome to nginx!</h1>" }), "page-default", 0},
		{"an empty body", replaced("<html></html>"), "page-empty", 0},
		{"an empty page", on("/lamp/", func(string) string { return "<html><body></body></html>" }), "page-empty", 0},
		{"no text in it any more", on("/lamp/", func(string) string { return "<title>LAMP</title><img src=/x.png>" }), "page-empty", 0},
		{"a fatal error", replaced("<b>Fatal error</b>: Uncaught Error: Call to undefined function tide() in /var/www/tide.php on line 12"), "page-error", 0},
		{"a warning below the page", on("/shop/", func(w string) string {
			return w + "<br>Warning: Undefined variable $tide in /var/www/shop.php on line 3"
		}), "page-error", 0},
		{"no database", replaced("<title>Database Error</title><h1>Error establishing a database connection</h1>"), "page-error", 0},
		{"a traceback", on("/map/", func(string) string { return "<pre>Traceback (most recent call last): File app.py line 3" }), "page-error", 0},
		{"out of memory", on("/map/", func(w string) string {
			return "Allowed memory size of 134217728 bytes exhausted (tried to allocate 20 bytes)" + w
		}), "page-error", 0},
		{"another site", replaced("<title>Watches</title><a href=https://watches.example/>all</a><p>" + other), "site-another", 0},
		{"another front page", on("/", func(string) string { return "<title>Watches</title><a href=/buy/>buy</a><p>" + other }), "site-another", 0},
		{"another page", on("/birds/", func(string) string { return "<title>Watches</title><a href=/buy/>buy</a><p>" + other }), "page-another", 0},
		{"a page is gone", status("/letters/", 404), "page-gone", 0},
		{"a page is gone for good", status("/letters/", 410), "page-gone", 0},
		{"a page without a link to it", on("*", func(w string) string { return strings.ReplaceAll(w, "<a href=/kitchen/>kitchen</a>", "") }), "", 0},
		{"it is gone besides", func(at string, w http.ResponseWriter, was string) (string, bool) {
			if at == "/kitchen/" {
				http.Error(w, "gone", http.StatusNotFound)
				return "", false
			}
			return strings.ReplaceAll(was, "<a href=/kitchen/>kitchen</a>", ""), true
		}, "page-gone", 0},
		{"it fails besides", func(at string, w http.ResponseWriter, was string) (string, bool) {
			if at == "/kitchen/" {
				http.Error(w, "forbidden", http.StatusForbidden)
				return "", false
			}
			return strings.ReplaceAll(was, "<a href=/kitchen/>kitchen</a>", ""), true
		}, "page-lost", 0},
		{"a script of another host", on("*", with("<script src=//cdn.stats-fast.example/x.js></script>")), "host-new", 0},
		{"on one page", on("/gallery/", with("<script async src=https://cdn.stats-fast.example/x.js></script>")), "host-new", 0},
		{"a frame of another host", on("/gallery/", with("<iframe src=https://frames.example/f></iframe>")), "host-new", 0},
		{"a form to another host", on("/shop/", func(w string) string {
			return strings.Replace(w, "action=/search", "action=https://pay.example/now", 1)
		}), "host-new", 0},
		{"a script that makes one", on("/shop/", with("<script>var s=document.createElement('script');s.src='https://stats-fast.example/a.js';document.head.append(s)</script>")), "host-new", 0},
		{"a script that hides itself", on("/shop/", with("<script>eval(String.fromCharCode(97,108,101,114,116,40,49,41))</script>")), "script-hides", 0},
		{"another one", on("*", with(`<script>document.write(unescape("%3Cscript%3E"))</script>`)), "script-hides", 0},
		{"in digits", on("/map/", with(`<script>var a="\x68\x74\x74\x70\x73\x3a";</script>`)), "script-hides", 0},
		{"proofs are forbidden", status("/.well-known/*", 403), "proof-barred", 0},
		{"proofs fail", status("/.well-known/*", 500), "proof-barred", 0},
		{"a password at the proofs", status("/.well-known/*", 401), "proof-barred", 0},
	} {
		t.Run(c.what, func(t *testing.T) {
			t.Parallel()
			i := newIsland(t)
			require.Empty(t, ids(i.night(t)))
			i.change, i.news = c.change, c.news
			got := ids(i.night(t))
			if c.want == "" {
				assert.Empty(t, got)
				return
			}
			assert.Equal(t, []string{c.want}, got)
			again := ids(i.night(t))
			switch c.want {
			case "page-another", "page-gone", "host-new", "script-hides":
				assert.Empty(t, again, "said once")
			default:
				assert.Equal(t, []string{c.want}, again, "as long as it lasts")
			}
			i.change = nil
			if c.want != "page-another" && c.want != "page-gone" {
				assert.Empty(t, ids(i.night(t)), "well again")
			}
		})
	}
}

// What passes is not reported: one request in eight fails, in four ways.
func TestQuietNights(t *testing.T) {
	i := newIsland(t)
	first := i.night(t)
	i.fails = true
	for n := range *quietNights {
		r := i.night(t)
		require.Empty(t, ids(r), "night %d", n)
		assert.Empty(t, r.Failed, "night %d", n)
		assert.Equal(t, len(first.Unread), len(r.Unread), "night %d: %+v", n, r.Unread)
		assert.Empty(t, r.Down, "night %d", n)
		assert.Equal(t, len(first.Points), len(r.Points), "night %d: %+v", n, r.Points)
		assert.Equal(t, len(first.Redirects), len(r.Redirects), "night %d: %+v", n, r.Redirects)
	}
}
