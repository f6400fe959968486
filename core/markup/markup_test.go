package markup

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"trimlantern/core/reference"
)

func all(s string) (refs []reference.Reference) {
	reference.Find([]byte(s), func(r reference.Reference) bool { refs = append(refs, r); return true })
	return refs
}

func TestUses(t *testing.T) {
	for _, c := range []struct {
		in   string
		want Use
	}{
		{`<img src="http://a.example/x">`, Loads},
		{`<IMG SRC = 'http://a.example/x'>`, Loads},
		{`<img src=http://a.example/x>`, Loads},
		{`<img alt="a > b" srcset="/y 1x, http://a.example/x 2x">`, Loads},
		{`<img alt="see http://a.example/x">`, Text},
		{`<a href="http://a.example/x">`, Opens},
		{`<a href="/"><img src="http://a.example/x"></a>`, Loads},
		{`<form action="http://a.example/x">`, Sends},
		{`<link rel="preload stylesheet" href="http://a.example/x">`, Loads},
		{`<link rel="canonical" href="http://a.example/x">`, Names},
		{`<link rel="profile" href="http://a.example/x">`, Ident},
		{`<meta property="og:image" content="http://a.example/x">`, Names},
		{`<meta http-equiv="refresh" content="0; url=http://a.example/x">`, Opens},
		{`<svg xmlns="http://a.example/x">`, Ident},
		{`<svg xmlns:x="http://a.example/x">`, Ident},
		{`<!DOCTYPE html SYSTEM "http://a.example/x">`, Ident},
		{`<p style="background:url(http://a.example/x)">`, Loads},
		{`<style>@import "http://a.example/x";</style>`, Loads},
		{`<style>@namespace url(http://a.example/x);</style>`, Ident},
		{`<script>var u = "http://a.example/x"</script>`, Maybe},
		{`<script type="application/ld+json">{"url":"http://a.example/x"}</script>`, Names},
		{`<img data-src="http://a.example/x">`, Maybe},
		{`<p>http://a.example/x</p>`, Text},
		{`<!-- http://a.example/x -->`, Text},
		{`<img src="http://a.example/x`, Loads},
		{`<my-picture src="http://a.example/x">`, Loads},
		{`<input type="image" src="http://a.example/x">`, Loads},
		{`http://a.example/x.PNG?v=1`, Loads},
		{`http://a.example/x.html`, Text},
		{`http://a.example`, Text},
		{`a { background: url( "http://a.example/x" ) }`, Loads},
		{`[video mp4="http://a.example/x"]`, Loads},
		{`[button link="http://a.example/x"]`, Text},
		{`src=\"http:\/\/a.example\/x\"`, Loads},
		{`href=&quot;http://a.example/x&quot;`, Opens},
	} {
		refs := all(c.in)
		if assert.Len(t, refs, 1, c.in) {
			u := UsesOf([]byte(c.in), "")
			assert.Equal(t, c.want, u.At(refs[0].Start), "%s is %s", c.in, c.want)
		}
	}
}

func TestStandard(t *testing.T) {
	assert.True(t, IsStandard("www.w3.org", "/2000/svg"))
	assert.True(t, IsStandard("Schema.org.", "/Museum"))
	assert.False(t, IsStandard("www.w3.org", "/"))
	assert.False(t, IsStandard("ternrock.example", "/2000/svg"))
}

// walked is what a walk through markup reports, in words. Text is joined, since how
// much of it comes at once does not matter.
func walked(b []byte, walk func([]byte, Markup)) []string {
	var all []string
	words := 0 // where joined text ends
	say := func(format string, args ...any) { all = append(all, fmt.Sprintf(format, args...)) }
	walk(b, Markup{
		Tag: func(element string, attrs []Attr) {
			line := "<" + element
			for _, a := range attrs {
				line += fmt.Sprintf(" %s@%d-%d", a.Name, a.Start, a.End)
			}
			say("%s", line)
		},
		Raw: func(element, typ string, start, end int) { say("raw %s %q %d-%d", element, typ, start, end) },
		End: func(element string) { say("</%s", element) },
		Other: func(tok html.TokenType, start, end int) {
			if tok == html.TextToken && words == start && len(all) > 0 && strings.HasPrefix(all[len(all)-1], "Text") {
				all = all[:len(all)-1]
				words = end
				say("Text to %d", end)
				return
			}
			if tok == html.TextToken {
				words = end
				say("Text to %d", end)
				return
			}
			say("%s %d-%d", tok, start, end)
		},
	})
	return all
}

// byTokenizer is WalkHTML with every token told by package html.
func byTokenizer(b []byte, m Markup) {
	z := html.NewTokenizer(bytes.NewReader(b))
	var rawElement, rawType string
	name := func(p int) string { return strings.ToLower(string(b[p:tagName(b, p)])) }
	for p := 0; ; {
		tok := z.Next()
		start, end := p, p+len(z.Raw())
		p = end
		switch {
		case tok == html.ErrorToken:
			if start < len(b) {
				m.Other(html.TextToken, start, len(b))
			}
			return
		case tok == html.StartTagToken || tok == html.SelfClosingTagToken:
			attrs, _, ok := readAttrs(b[:end], tagName(b, start+1), name(start+1), nil, nameOf)
			if !ok {
				panic("a whole tag")
			}
			m.Tag(name(start+1), attrs)
			if element := name(start + 1); element == "script" || element == "style" {
				rawElement, rawType = element, strings.ToLower(attrText(b, attrs, "type"))
			}
			continue
		case tok == html.TextToken && rawElement != "":
			m.Raw(rawElement, rawType, start, end)
		case tok == html.EndTagToken:
			m.End(name(start + 2))
		default:
			m.Other(tok, start, end)
		}
		rawElement = ""
	}
}

// pieces are what that make markup hard to read.
var pieces = []string{"<", ">", "</", "/>", "a", "P", " ", "=", "\"", "'", "<!--", "-->", "--!>", "<!-->", "<!--->", "<!", "<?x", "<!DOCTYPE html>", "<![CDATA[", "]]>", "-", "!", "/",
	"<script>", "</script>", "<script type='x'", "</SCRIPT ", "<style>", "</style>", "<title>", "</title", "<textarea>", "<noscript>", "</noscript>", "<iframe src=x>", "<plaintext>", "<svg/>",
	"<img/src=x>", "<img src='a>b'>", "<a =x =y=z>", "href=", "\n", "\t", "words", "\x00", "é", "<br/>", "<a b=/>", "<a b = \"c\"d>"}

func TestWalkAgainstTokenizer(t *testing.T) {
	const seed = 1926
	random := rand.New(rand.NewPCG(seed, seed))
	for range 60000 {
		var b []byte
		for range random.IntN(14) {
			b = append(b, pieces[random.IntN(len(pieces))]...)
		}
		require.Equal(t, walked(b, byTokenizer), walked(b, WalkHTML), "%q (seed %d)", b, seed)
	}
}

func FuzzWalk(f *testing.F) {
	f.Add([]byte(strings.Join(pieces, "")))
	f.Add([]byte("<script><!--<script></script>--></script><a href='x'>y</a>"))
	f.Fuzz(func(t *testing.T, b []byte) {
		require.Equal(t, walked(b, byTokenizer), walked(b, WalkHTML))
		uses := UsesOf(b, "")
		for p := range b {
			_ = uses.At(p)
			_ = IsIdent(b, p)
		}
	})
}
