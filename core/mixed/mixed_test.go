package mixed

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func at(t testing.TB) *url.URL {
	u, err := url.Parse("https://ternrock.example/visit/")
	require.NoError(t, err)
	return u
}

func TestHTML(t *testing.T) {
	for _, c := range []struct {
		in    string
		class Class // "" nothing
		by    string
		url   string
	}{
		{`<script src="http://a.example/x"></script>`, Blocked, "script src", "http://a.example/x"},
		{`<link rel=stylesheet href=http://a.example/x>`, Blocked, "link href", "http://a.example/x"},
		{`<iframe src="http://a.example/x">`, Blocked, "iframe src", "http://a.example/x"},
		{`<img src=" http://a.example/x">`, Upgraded, "img src", "http://a.example/x"},
		{"<img src=\"ht\ntp://a.example/x\">", Upgraded, "img src", "http://a.example/x"},
		{`<img src="http://192.0.2.7/x">`, Blocked, "img src", "http://192.0.2.7/x"},
		{`<img srcset="/a 1x, http://a.example/x 2x">`, Blocked, "img srcset", "http://a.example/x"},
		{`<video src="http://a.example/x">`, Upgraded, "video src", "http://a.example/x"},
		{`<video poster="http://a.example/x">`, Upgraded, "video poster", "http://a.example/x"},
		{`<object data="http://a.example/x">`, Blocked, "object data", "http://a.example/x"},
		{`<form action="http://a.example/x">`, Form, "form action", "http://a.example/x"},
		{`<a href="http://a.example/x">`, Address, "a href", "http://a.example/x"},
		{`<link rel=canonical href="http://a.example/x">`, Address, "link href", "http://a.example/x"},
		{`<meta property="og:url" content="http://a.example/x">`, Address, "meta content", "http://a.example/x"},
		{`<meta http-equiv=Refresh content="3; URL='http://a.example/x'">`, Address, "meta content", "http://a.example/x"},
		{`<img data-src="http://a.example/x">`, Possible, "img data-src", "http://a.example/x"},
		{`<script>go("http://a.example/x")</script>`, Possible, "script", "http://a.example/x"},
		{`<p style="background:url(http://a.example/x)">`, Upgraded, "CSS url()", "http://a.example/x"},
		{`<p style="background:url(&quot;http://a.example/x&quot;)">`, Upgraded, "p style → CSS url()", "http://a.example/x"},
		{`<style>@import 'http://a.example/x';</style>`, Blocked, "@import", "http://a.example/x"},
		{`<iframe srcdoc="<img src='http://a.example/x'>">`, Upgraded, "iframe srcdoc → img src", "http://a.example/x"},
		{`<base href="http://a.example/b/"><img src="x">`, Address, "base href", "http://a.example/b/"},
		{`<link rel="icon" href="http://a.example/x">`, Upgraded, "link href", "http://a.example/x"},
		{`<svg><image xlink:href="http://a.example/x"/></svg>`, Upgraded, "image xlink:href", "http://a.example/x"},
		{`<svg xmlns="http://www.w3.org/2000/svg">`, "", "", ""},
		{`<img src="https://a.example/x"><img src="//a.example/x"><img src="/x"><img src="">`, "", "", ""},
		{`<img src="http://localhost/x"><img src="http://127.0.0.1/x">`, "", "", ""},
		{`<!-- <img src="http://a.example/x"> --><p>http://a.example/x</p>`, "", "", ""},
		{`<meta name="description" content="we moved">`, "", "", ""},
	} {
		p := HTML([]byte(c.in), at(t))
		if c.class == "" {
			assert.Empty(t, p.Findings, c.in)
			continue
		}
		if assert.NotEmpty(t, p.Findings, c.in) {
			f := p.Findings[0]
			assert.Equal(t, []any{c.class, c.by, c.url}, []any{f.Class, f.By, f.URL}, c.in)
			assert.NotEmpty(t, f.Class.Words())
		}
	}
	p := HTML([]byte(`<base href="http://a.example/b/"><img src="x">`), at(t))
	require.Len(t, p.Findings, 2)
	assert.Equal(t, "http://a.example/b/x", p.Findings[1].URL, "a relative load follows the base")
}

func TestPage(t *testing.T) {
	p := HTML([]byte("<title> The\n lens &amp; lamp </title>\n<link rel=stylesheet href=/s.css>\n  <img src='http://a.example/x'>\n<a href='../about/#x'>a</a><a href='mailto:x@y.example'>m</a><style>@import url(more.css)</style>"+
		`<meta http-equiv="Content-Security-Policy" content="upgrade-insecure-requests">`), at(t))
	assert.Equal(t, "The lens & lamp", p.Title)
	assert.Equal(t, []string{"https://ternrock.example/s.css", "https://ternrock.example/visit/more.css"}, p.Sheets)
	assert.Equal(t, []string{"https://ternrock.example/about/#x"}, p.Links)
	require.Len(t, p.Findings, 1)
	assert.Equal(t, []int{4, 13}, []int{p.Findings[0].Line, p.Findings[0].Col})
	assert.True(t, p.Upgrades)
}

func TestCSS(t *testing.T) {
	p := CSS([]byte(`@charset "utf-8"; @import url("http://a.example/1.css") screen;
@namespace svg url(http://www.w3.org/2000/svg);
@font-face { font-family: L; src: url(http://a.example/f.woff2) format("woff2"); }
@media print { p { background: url( 'http\3a //a.example/i.png' ) } }
a::after { content: "http://a.example/words" } /* url(http://a.example/comment) */`), at(t))
	var got []string
	for _, f := range p.Findings {
		got = append(got, string(f.Class)+" "+f.By+" "+f.URL)
	}
	assert.Equal(t, []string{"blocked @import http://a.example/1.css", "blocked @font-face url() http://a.example/f.woff2", "upgraded CSS url() http://a.example/i.png"}, got)
	assert.Equal(t, []string{"http://a.example/1.css"}, p.Sheets)
}

func TestSrcSet(t *testing.T) {
	assert.Equal(t, []string{"a", "b,c", "d"}, SrcSet(" a 1x, b,c 2x , d"))
	assert.Equal(t, []string{"a", "b"}, SrcSet("a, b,"))
	assert.Empty(t, SrcSet(" , "))
}

func FuzzHTML(f *testing.F) {
	f.Add([]byte(`<base href=//x><img srcset="http://a.example 1x,"><iframe srcdoc="<style>@import 'http://a.example"><p style='url(`))
	u, err := url.Parse("https://ternrock.example/")
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, p := range []*Page{HTML(b, u), CSS(b, u)} {
			for _, found := range p.Findings {
				require.Positive(t, found.Line)
				require.Positive(t, found.Col)
			}
		}
	})
}
