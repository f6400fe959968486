package scan

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/coverage"
	site "trimlantern/test/served"
	"trimlantern/work"
)

// reply is what a made-up site answers at one address.
type reply struct {
	typ     string // "": text/html
	body    string
	status  int
	headers map[string]string
	serve   http.HandlerFunc // in place of all that
}

func (p reply) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if p.serve != nil {
		p.serve(w, r)
		return
	}
	for k, v := range p.headers {
		w.Header().Set(k, v)
	}
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", map[bool]string{true: "text/html", false: p.typ}[p.typ == ""])
	}
	if p.status != 0 {
		w.WriteHeader(p.status)
	}
	fmt.Fprint(w, p.body)
}

// plan is a made-up site by its paths.
type plan map[string]reply

const (
	culprit = "http://cdn.example/lens.png"
	shown   = `<img alt="" src="` + culprit + `">`
	words   = "<p>The lamp is lit at dusk, and the keepers show the lens room to visitors. "
)

func page(body string) reply {
	return reply{body: "<!DOCTYPE html><title>Tern Rock Light</title>" + body}
}

// ways lead from the front page to the address /hidden, each in a way that a visitor's browser, or a visitor, goes.
var ways = map[string]plan{
	"a link":                 {"/": page(`<a href="/hidden">x</a>`)},
	"a link without quotes":  {"/": page(`<a href=/hidden>x</a>`)},
	"an area":                {"/": page(`<map name=m><area href="/hidden"></map>`)},
	"rel next":               {"/": page(`<link rel="next" href="/hidden">`)},
	"rel prev":               {"/": page(`<link rel="prev" href="/hidden">`)},
	"rel start":              {"/": page(`<link rel="start contents" href="/hidden">`)},
	"another language":       {"/": page(`<link rel="alternate" hreflang="de" href="/hidden">`)},
	"a telephone's page":     {"/": page(`<link rel="alternate" media="only screen and (max-width: 640px)" href="/hidden">`)},
	"an AMP page":            {"/": page(`<link rel="amphtml" href="/hidden">`)},
	"a print page":           {"/": page(`<link rel="alternate" media="print" href="/hidden">`)},
	"the canonical page":     {"/": page(`<link rel="canonical" href="/hidden">`)},
	"a short link":           {"/": page(`<link rel="shortlink" href="/hidden">`)},
	"a Link header":          {"/": reply{body: words, headers: map[string]string{"Link": `</hidden>; rel="next"`}}},
	"a Link header of kinds": {"/": reply{body: words, headers: map[string]string{"Link": `</a>; rel="up"; title="a, b", </hidden>; rel="alternate"; hreflang="de"`}}, "/a": page(words)},
	"a prefetch":             {"/": page(`<link rel="prefetch" href="/hidden">`)},
	"a prerender":            {"/": page(`<link rel="prerender" href="/hidden">`)},
	"speculation rules":      {"/": page(`<script type="speculationrules">{"prerender":[{"source":"list","urls":["/hidden"]}]}</script>`)},
	"a speculation header":   {"/": reply{body: words, headers: map[string]string{"Speculation-Rules": `"/rules.json"`}}, "/rules.json": {typ: "application/speculationrules+json", body: `{"prefetch":[{"urls":["/hidden"]}]}`}},
	"a refresh":              {"/": page(`<meta http-equiv="refresh" content="5; url=/hidden">`)},
	"a refresh in quotes":    {"/": page(`<meta http-equiv="Refresh" content="0;URL='/hidden'">`)},
	"a refresh by comma":     {"/": page(`<meta http-equiv=refresh content="0,/hidden">`)},
	"a refresh by blank":     {"/": page(`<meta http-equiv=refresh content="0 /hidden">`)},
	"a refresh with blanks":  {"/": page(`<meta http-equiv=refresh content=" 3 ;  url = /hidden ">`)},
	"a refresh header":       {"/": reply{body: words, headers: map[string]string{"Refresh": "3;url=/hidden"}}},
	"a refresh header bare":  {"/": reply{body: words, headers: map[string]string{"Refresh": "3;/hidden"}}},
	"a form that asks":       {"/": page(`<form action="/hidden"><button>Go</button></form>`)},
	"a button that asks":     {"/": page(`<form><button formaction="/hidden">Go</button></form>`)},
	"a form in capitals":     {"/": page(`<FORM METHOD="GET" ACTION="/hidden"><INPUT TYPE=submit></FORM>`)},
	"a menu of jumps":        {"/": page(`<select onchange="location=this.value"><option value="/hidden">x</option></select>`)},
	"a script's path":        {"/": page(`<script>document.querySelector("b").onclick = () => { location.href = "/hidden" }</script>`)},
	"a script's file":        {"/": page(`<script src="/s.js"></script>`), "/s.js": {typ: "text/javascript", body: `go("/hidden")`}},
	"a handler":              {"/": page(`<div onclick="window.location='/hidden'">x</div>`)},
	"a javascript address":   {"/": page(`<a href="javascript:open('/hidden')">x</a>`)},
	"a data attribute":       {"/": page(`<div data-href="/hidden">x</div>`)},
	"a frame":                {"/": page(`<iframe src="/hidden"></iframe>`)},
	"a lazy frame":           {"/": page(`<iframe loading="lazy" data-src="/hidden"></iframe>`)},
	"a frame's link":         {"/": page(`<iframe src="/f"></iframe>`), "/f": page(`<a href="/hidden">x</a>`)},
	"a srcdoc's link":        {"/": page(`<iframe srcdoc='<a href="/hidden">x</a>'></iframe>`)},
	"an object":              {"/": page(`<object data="/hidden" type="text/html"></object>`)},
	"SVG's link":             {"/": page(`<svg><a xlink:href="/hidden"><text>x</text></a></svg>`)},
	"an SVG file's link":     {"/": page(`<object data="/i.svg"></object>`), "/i.svg": {typ: "image/svg+xml", body: `<svg xmlns="http://www.w3.org/2000/svg"><a href="/hidden"><text>x</text></a></svg>`}},
	"a link in noscript":     {"/": page(`<noscript><a href="/hidden">x</a></noscript>`)},
	"a link in a template":   {"/": page(`<template><a href="/hidden">x</a></template>`)},
	"a shadow tree's link":   {"/": page(`<div><template shadowrootmode=open><a href="/hidden">x</a></template></div>`)},
	"a base":                 {"/": page(`<base href="/b/"><a href="../hidden">x</a>`)},
	"an absolute link":       {"/": page(`<a href="https://example.com/hidden">x</a>`)},
	"an insecure link":       {"/": page(`<a href="//example.com/hidden">x</a>`)},
	"a site map":             {"/": page(words), "/sitemap.xml": {typ: "text/xml", body: `<urlset><url><loc>https://example.com/hidden</loc></url></urlset>`}},
	"a site map of texts":    {"/": page(words), "/robots.txt": {typ: "text/plain", body: "Sitemap: https://example.com/map.txt\n"}, "/map.txt": {typ: "text/plain", body: "https://example.com/hidden\n"}},
	"a site map's language":  {"/": page(words), "/sitemap.xml": {typ: "text/xml", body: `<urlset xmlns:xhtml="http://www.w3.org/1999/xhtml"><url><loc>https://example.com/</loc><xhtml:link rel="alternate" hreflang="de" href="https://example.com/hidden"/></url></urlset>`}},
	"a site map in CDATA":    {"/": page(words), "/sitemap.xml": {typ: "text/xml", body: `<urlset><url><loc><![CDATA[https://example.com/hidden]]></loc></url></urlset>`}},
	"an index of site maps":  {"/": page(words), "/sitemap.xml": {typ: "text/xml", body: `<sitemapindex><sitemap><loc>/m2.xml</loc></sitemap></sitemapindex>`}, "/m2.xml": {typ: "text/xml", body: `<urlset><url><loc>https://example.com/hidden</loc></url></urlset>`}},
	"a map that is a feed":   {"/": page(words), "/robots.txt": {typ: "text/plain", body: "Sitemap: /feed\n"}, "/feed": {typ: "application/rss+xml", body: `<rss><channel><item><link>https://example.com/hidden</link></item></channel></rss>`}},
	"RSS":                    {"/": page(`<link rel=alternate type="application/rss+xml" href="/feed">`), "/feed": {typ: "application/rss+xml", body: `<rss><channel><item><link>https://example.com/hidden</link></item></channel></rss>`}},
	"RSS of a page":          {"/": page(`<a href="/p">x</a>`), "/p": page(`<link rel=alternate type="application/rss+xml" href="/feed">`), "/feed": {typ: "application/rss+xml", body: `<rss><channel><item><link>https://example.com/hidden</link></item></channel></rss>`}},
	"RSS by a link":          {"/": page(`<a href="/feed">x</a>`), "/feed": {typ: "application/rss+xml", body: `<rss><channel><item><link>https://example.com/hidden</link></item></channel></rss>`}},
	"Atom":                   {"/": page(`<link rel=alternate type="application/atom+xml" href="/feed">`), "/feed": {typ: "application/atom+xml", body: `<feed><entry><link href="https://example.com/hidden"/></entry></feed>`}},
	"a feed of JSON":         {"/": page(`<link rel=alternate type="application/feed+json" href="/feed">`), "/feed": {typ: "application/feed+json", body: `{"items":[{"url":"https:\/\/example.com\/hidden"}]}`}},
	"RSS in escapes":         {"/": page(`<link rel=alternate type="application/rss+xml" href="/feed">`), "/feed": {typ: "application/rss+xml", body: `<rss><channel><item><description>&lt;a href="/hidden"&gt;x&lt;/a&gt;</description></item></channel></rss>`}},
	"a manifest's start":     {"/": page(`<link rel=manifest href="/m.json">`), "/m.json": {typ: "application/manifest+json", body: `{"start_url":"/hidden"}`}},
	"a REST route":           {"/": page(`<link rel="https://api.w.org/" href="/hidden">`)},
	"a name with admin":      {"/": page(`<a href="/admin/">x</a>`), "/admin/": page(`<a href="/hidden">x</a>`)},
	"a page about deleting":  {"/": page(`<a href="/how/delete">x</a>`), "/how/delete": page(`<a href="/hidden">x</a>`)},
	"a page named logout":    {"/": page(`<a href="/logout">x</a>`), "/logout": page(`<a href="/hidden">x</a>`)},
	"a nofollow link":        {"/": page(`<a rel=nofollow href="/hidden">x</a>`)},
	"a redirect":             {"/": page(`<a href="/old">x</a>`), "/old": {status: 302, headers: map[string]string{"Location": "/hidden"}}},
	"an error page's link":   {"/": page(`<a href="/broken">x</a>`), "/broken": {status: 404, body: `<a href="/hidden">x</a>`}},
	"a popover link":         {"/": page(`<a target=_blank href="#" data-url="https://example.com/hidden">x</a>`)},
	"a link's ping":          {"/": page(`<a href="/" ping="/hidden">x</a>`)},
	"structured data":        {"/": page(`<script type="application/ld+json">{"url":"https://example.com/hidden"}</script>`)},
	"a JSON island":          {"/": page(`<script type="application/json">{"next":"\/hidden"}</script>`)},
	"a quotation":            {"/": page(`<blockquote cite="https://example.com/hidden">x</blockquote>`)},
	"a meta address":         {"/": page(`<meta property="og:url" content="https://example.com/hidden">`)},
}

// hides are what the address /hidden may do with the insecure picture that a visitor meets there.
var hides = map[string]reply{
	"a page":             page(shown),
	"a password":         {status: 401, body: shown},
	"forbidden to us":    {status: 403, body: shown},
	"too many requests":  {status: 429, body: shown, headers: map[string]string{"Retry-After": "3600"}},
	"an error":           {status: 500, body: shown},
	"out of service":     {status: 503, body: shown, headers: map[string]string{"Retry-After": "3600"}},
	"a code of its own":  {status: 470, body: shown},
	"accepted":           {status: 202, body: shown},
	"many choices":       {status: 300, body: shown},
	"not changed":        {status: 304},
	"a redirect nowhere": {status: 302, body: shown},
	"brotli":             {serve: packed("br", func(b *bytes.Buffer) { w := brotli.NewWriter(b); fmt.Fprint(w, shown); w.Close() })},
	"zstandard":          {serve: packed("zstd", func(b *bytes.Buffer) { w, _ := zstd.NewWriter(b); fmt.Fprint(w, shown); w.Close() })},
	"gzip":               {serve: packed("gzip", func(b *bytes.Buffer) { w := gzip.NewWriter(b); fmt.Fprint(w, shown); w.Close() })},
	"raw deflate":        {serve: packed("deflate", func(b *bytes.Buffer) { w, _ := flate.NewWriter(b, 5); fmt.Fprint(w, shown); w.Close() })},
	"an unknown coding":  {body: shown, headers: map[string]string{"Content-Encoding": "lamp"}},
	"gzip that breaks": {serve: packed("gzip", func(b *bytes.Buffer) {
		w := gzip.NewWriter(b)
		fmt.Fprint(w, words, shown)
		w.Close()
		b.Truncate(b.Len() - 20)
	})},
	"a page that breaks": {serve: func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "9000")
		fmt.Fprint(w, words)
	}},
	"no answer": {serve: func(w http.ResponseWriter, _ *http.Request) { panic(http.ErrAbortHandler) }},
	"a slow answer": {serve: func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-r.Context().Done():
		case <-time.After(4 * time.Second):
		}
		fmt.Fprint(w, shown)
	}},
	"a download's type": {typ: "application/octet-stream", body: "<!DOCTYPE html><title>x</title>" + shown},
	"no type": {serve: func(w http.ResponseWriter, _ *http.Request) {
		w.Header()["Content-Type"] = nil
		fmt.Fprint(w, "<!DOCTYPE html>", shown)
	}},
	"only for browsers":  {serve: only(func(r *http.Request) bool { return strings.HasPrefix(r.UserAgent(), "Mozilla/5.0") }, 403)},
	"only if it accepts": {serve: only(func(r *http.Request) bool { return strings.Contains(r.Header.Get("Accept"), "text/html") }, 406)},
	"only with language": {serve: only(func(r *http.Request) bool { return r.Header.Get("Accept-Language") != "" }, 400)},
	"only with cookie": {serve: func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if _, err := r.Cookie("c"); err == nil {
			fmt.Fprint(w, shown)
			return
		}
		http.SetCookie(w, &http.Cookie{Name: "c", Value: "1", Path: "/"})
		http.Redirect(w, r, r.URL.Path, http.StatusFound)
	}},
	"for telephones":      {serve: either(func(r *http.Request) bool { return strings.Contains(r.UserAgent(), "Mobile") }, map[string]string{"Vary": "User-Agent"})},
	"for telephones only": {serve: either(func(r *http.Request) bool { return strings.Contains(r.UserAgent(), "Mobile") }, nil)},
	"for a language":      {serve: either(func(r *http.Request) bool { return strings.HasPrefix(r.Header.Get("Accept-Language"), "de") }, map[string]string{"Vary": "Accept-Language"})},
	"at the second visit": {serve: func(w http.ResponseWriter, r *http.Request) {
		_, err := r.Cookie("seen")
		http.SetCookie(w, &http.Cookie{Name: "seen", Value: "1", Path: "/"})
		w.Header().Set("Vary", "Cookie")
		fmt.Fprint(w, words)
		if err == nil {
			fmt.Fprint(w, shown)
		}
	}},
	"at the first visit": {serve: func(w http.ResponseWriter, r *http.Request) {
		_, err := r.Cookie("front")
		fmt.Fprint(w, words)
		if err != nil {
			fmt.Fprint(w, shown)
		}
	}},
	"a telephone refused": {serve: func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Vary", "User-Agent")
		w.Header().Set("Content-Type", "text/html")
		if strings.Contains(r.UserAgent(), "Mobile") {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		fmt.Fprint(w, words)
	}},
	"a sign-in page":       {status: 302, headers: map[string]string{"Location": "/login?to=hidden"}},
	"a sign-in in place":   page(`<form method=post><input name=n><input type=password name=p></form>`),
	"a consent page":       {status: 302, headers: map[string]string{"Location": "/consent?to=/hidden"}},
	"another host":         {status: 302, headers: map[string]string{"Location": "https://gate.example/?to=hidden"}},
	"a loop":               {status: 302, headers: map[string]string{"Location": "/hidden"}},
	"a challenge":          {body: `<title>One moment</title><meta http-equiv=refresh content="5">`, headers: map[string]string{"Set-Cookie": "c=1"}},
	"a script":             page(`<script>new Image().src = "ht" + "tp://cdn.example/lens.png"</script>`),
	"a script file":        page(`<script src="/built.js"></script>`),
	"a module":             page(`<script type=module>import "/built.js"</script>`),
	"a handler":            page(`<body onload="fetch(['http',':/','/cdn.example'].join(''))">`),
	"a javascript link":    page(`<a href="javascript:void(new Image().src='ht'+'tp://cdn.example')">x</a>`),
	"a data script":        page(`<script src="data:text/javascript,new%20Image().src='ht'%2B'tp://cdn.example'"></script>`),
	"a script in SVG":      page(`<svg><script>new Image().src="ht"+"tp://cdn.example"</script></svg>`),
	"a script in srcdoc":   page(`<iframe srcdoc="<script>new Image().src='ht'+'tp://cdn.example'</script>"></iframe>`),
	"a script in a frame":  page(`<iframe src="/framed"></iframe>`),
	"a strange script":     page(`<script type="text/babel">new Image().src = "ht" + "tp://cdn.example/lens.png"</script><script src="/built.js"></script>`),
	"a sheet refused":      page(`<link rel=stylesheet href="/refused">`),
	"a sheet that breaks":  page(`<link rel=stylesheet href="/breaks">`),
	"a far sheet refused":  page(`<link rel=stylesheet href="https://static.example/refused">`),
	"a far sheet":          page(`<link rel=stylesheet href="https://static.example/far.css">`),
	"a far script":         page(`<script src="https://static.example/far.js"></script>`),
	"a far frame":          page(`<iframe src="https://static.example/far.html"></iframe>`),
	"a script refused":     page(`<script src="/refused"></script>`),
	"a frame refused":      page(`<iframe src="/refused"></iframe>`),
	"a picture refused":    page(`<img alt="" src="/refused">`),
	"an import refused":    page(`<style>@import "/refused";</style>`),
	"a host that is gone":  page(`<img alt="" src="https://gone.example/a.png">`),
	"a data attribute":     page(`<div data-lamp-room="` + culprit + `"></div>`),
	"an odd attribute":     page(`<lamp-room lens="` + culprit + `"></lamp-room>`),
	"JSON in an attribute": page(`<div data-c='{"u":"http:\/\/cdn.example\/lens.png"}'></div>`),
	"entities":             page(`<div data-c="{&quot;u&quot;:&quot;http:\/\/cdn.example\/lens.png&quot;}"></div>`),
	"percent signs":        page(`<div data-c="%7B%22u%22%3A%22http%3A%2F%2Fcdn.example%2Flens.png%22%7D"></div>`),
	"numbers of signs":     page(`<div data-c="&#104;ttp&#58;//cdn.example/lens.png"></div>`),
	"base64":               page(`<div data-c="aHR0cDovL2Nkbi5leGFtcGxlL2xlbnMucG5nIGFuZCBtb3Jl"></div>`),
	"a handler's text":     page(`<b onclick="new Image().src='` + culprit + `'">x</b>`),
	"a handler's escapes":  page(`<b onclick="new Image().src='http:\x2f\x2fcdn.example/lens.png'">x</b>`),
	"a data list":          page(`<script type="application/json">{"u":"http:\/\/cdn.example\/lens.png"}</script>`),
	"a template's text":    page(`<script type="text/template"><img src="` + culprit + `"></script>`),
	"a template":           page(`<template>` + shown + `</template>`),
	"an option":            page(`<select onchange="show(this.value)"><option value="` + culprit + `"></select>`),
	"a param":              page(`<object><param name=movie value="` + culprit + `"></object>`),
	"a custom property":    page(`<style>:root { --lens: "http://cdn.example/lens.png" }</style>`),
	"a sheet's text":       page(`<link rel=stylesheet href="/odd.css">`),
	"a fetched list":       page(`<script>fetch("/list.json")</script>`),
	"a worker":             page(`<script>new Worker("/worker.js")</script>`),
	"a data sheet":         page(`<link rel=stylesheet href="data:text/css,p{background:url(http://cdn.example/lens.png)}">`),
	"a form":               page(`<form method=post action="http://cdn.example/"></form>`),
}

// parts are what those pages load.
var sightParts = plan{
	"/login":    page(`<form method=post><input name=n><input type=password name=p></form>`),
	"/consent":  page(`<form method=post><button>I agree</button></form>`),
	"/built.js": {typ: "text/javascript", body: `new Image().src = "ht" + "tp://cdn.example/lens.png"`},
	"/framed":   page(`<script>new Image().src='ht'+'tp://cdn.example'</script>`),
	"/refused":  {status: 403, body: "no"},
	"/breaks": {serve: func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "9000")
		w.Header().Set("Content-Type", "text/css")
		fmt.Fprint(w, "p {}")
	}},
	"/odd.css":   {typ: "text/css", body: `:root { --lens: "http://cdn.example/lens.png" }`},
	"/list.json": {typ: "application/json", body: `{"u":"http://cdn.example/lens.png"}`},
	"/worker.js": {typ: "text/javascript", body: `fetch("http://cdn.example/lens.png")`},
	"/far.css":   {typ: "text/css", body: `p { background: url(http://cdn.example/lens.png) }`},
	"/far.js":    {typ: "text/javascript", body: `new Image().src = "http://cdn.example/lens.png"`},
	"/far.html":  page(shown),
	"/lens.png":  {typ: "image/png", body: "x"},
}

func packed(coding string, pack func(*bytes.Buffer)) http.HandlerFunc {
	var b bytes.Buffer
	pack(&b)
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		w.Header().Set("Content-Encoding", coding)
		_, _ = w.Write(b.Bytes()) // a scan that has gone misses nothing
	}
}

// only shows the picture to some, and refuses all others.
func only(may func(*http.Request) bool, else_ int) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		if !may(r) {
			w.WriteHeader(else_)
			return
		}
		fmt.Fprint(w, shown)
	}
}

// either shows the picture to some, and the same page without it to all others.
func either(may func(*http.Request) bool, headers map[string]string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		for k, v := range headers {
			w.Header().Set(k, v)
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, words)
		if may(r) {
			fmt.Fprint(w, shown)
		}
	}
}

// sites serves one plan after the other.
type sites struct {
	mu  sync.Mutex
	now plan
	j   *work.Job
}

func (s *sites) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	p, ok := s.now[r.URL.Path]
	s.mu.Unlock()
	if !ok {
		http.NotFound(w, r)
		return
	}
	p.ServeHTTP(w, r)
}

// look scans one plan: whether it ends in a good word, and the clauses that are open.
func (s *sites) look(t *testing.T, from plan, o Options, more ...plan) (good bool, found []string, open []coverage.Line) {
	all := maps.Clone(sightParts)
	for _, p := range append([]plan{from}, more...) {
		maps.Copy(all, p)
	}
	s.mu.Lock()
	s.now = all
	s.mu.Unlock()
	j := s.job(t)
	j.Timeout = 1500 * time.Millisecond
	o.Pages, o.Depth, o.Parallel = 50, 9, 4
	r, err := Run(context.Background(), j, o)
	if err != nil {
		return false, []string{err.Error()}, nil
	}
	defer r.Forget()
	for _, c := range r.Culprits {
		found = append(found, fmt.Sprint(c.Class, " ", c.By, " ", c.URL))
	}
	return r.Code() == 0, found, r.Coverage.Blocking()
}

// Whatever hides an insecure thing from us, the scan finds it or names the gap: no good word is said of a
// site on which a visitor meets something insecure.
func TestNothingOutOfSight(t *testing.T) {
	s := &sites{}
	s.serve(t)
	cases, goods, gaps, finds := 0, 0, map[string]int{}, 0
	check := func(name string, from plan, more ...plan) {
		cases++
		good, found, open := s.look(t, from, Options{NoBrowser: true}, more...)
		if !assert.False(t, good, "%s: called clean", name) {
			goods++
			return
		}
		if len(found) > 0 {
			finds++
		}
		for _, l := range open {
			gaps[string(l.Cause)]++
		}
	}
	link := ways["a link"]
	for _, what := range slices.Sorted(maps.Keys(hides)) {
		check("a link to "+what, link, plan{"/hidden": hides[what]})
	}
	for _, way := range slices.Sorted(maps.Keys(ways)) {
		for _, what := range []string{"a page", "forbidden to us", "a script"} {
			check(way+" to "+what, ways[way], plan{"/hidden": hides[what]})
		}
	}
	for _, way := range []string{"a frame", "a site map", "a form that asks", "a redirect", "RSS"} {
		for _, what := range slices.Sorted(maps.Keys(hides)) {
			check(way+" to "+what, ways[way], plan{"/hidden": hides[what]})
		}
	}
	t.Logf("%d sites: %d found, %d called clean; gaps by cause: %v", cases, finds, goods, gaps)
	require.Greater(t, cases, 200)
}

// The same sites without anything insecure, and without a wall, are clean: a gap is named where there is one.
func TestInSight(t *testing.T) {
	s := &sites{}
	s.serve(t)
	for _, way := range slices.Sorted(maps.Keys(ways)) {
		if strings.Contains(ways[way]["/"].body, "script") || strings.Contains(ways[way]["/"].body, "on") && strings.Contains(way, "handler") || slices.Contains([]string{"a menu of jumps", "a nofollow link"}, way) {
			continue // its scripts are not run; and that link is not followed
		}
		good, found, open := s.look(t, ways[way], Options{NoBrowser: true}, plan{"/hidden": page(words + "<p>Nothing insecure is here.")})
		assert.True(t, good, "%s: %v %+v", way, found, open)
	}
}

// serve starts the server of the sites; job makes a job that scans what it serves.
func (s *sites) serve(t *testing.T) { s.j = served(t, s.ServeHTTP) }

func (s *sites) job(t *testing.T) *work.Job {
	j, err := work.OpenAddress("https://example.com", nil, nil, site.Quiet{})
	require.NoError(t, err)
	j.CA, j.Resolve, j.Offline = s.j.CA, s.j.Resolve, true
	return j
}
