package reference

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"trimlantern/core/seek"
)

func all(s string) (refs []Reference) {
	Find([]byte(s), func(r Reference) bool { refs = append(refs, r); return true })
	return refs
}

func TestFind(t *testing.T) {
	for _, c := range []struct{ in, host, port, spelling, text string }{
		{`http://a.example`, "a.example", "", "plain", "http://a.example"},
		{`(http://a.example/b?c=d#e).`, "a.example", "", "plain", "http://a.example/b?c=d#e"},
		{`http://a.example:8080/x y`, "a.example", "8080", "plain", "http://a.example:8080/x"},
		{`WS://a.example/live`, "a.example", "", "plain", "ws://a.example/live"},
		{`http:\/\/a.example\/b\/c"`, "a.example", "", "backslash", "http://a.example/b/c"},
		{`http:\\\/\\\/a.example\\\/b\\\"`, "a.example", "", "backslash", "http://a.example/b"},
		{`http:\\/\\/a.example\\/b`, "a.example", "", "backslash", "http://a.example/b"},
		{`http\u003A\u002f\x2fa.example`, "a.example", "", "backslash", "http://a.example"},
		{`http:\/\/a.example\nnext`, "a.example", "", "backslash", "http://a.example"},
		{`http%3A%2F%2Fa.example%2Fb&t=x`, "a.example", "", "percent", "http://a.example/b"},
		{`http%25253A%25252F%25252Fa.example%25252Fb`, "a.example", "", "percent", "http://a.example/b"},
		{`http://a.example/x%20y`, "a.example", "", "plain", "http://a.example/x%20y"},
		{`http&#58;&#x2F;&sol;a.example`, "a.example", "", "entity", "http://a.example"},
		{`http&amp;colon;//a.example`, "a.example", "", "entity", "http://a.example"},
		{`http\3a\2f\2f a.example`, "a.example", "", "backslash", "http://a.example"},
		{`http%3A\/&#47;a.example`, "a.example", "", "percent+entity+backslash", "http://a.example"},
		{`http://u:p@a.example:81/`, "a.example", "81", "plain", "http://a.example:81/"},
		{`http://a.example:80abc`, "", "", "", ""},
		{`http://a.example:`, "a.example", "", "plain", "http://a.example"},
		{`http://[::1]:81/x`, "[::1]", "81", "plain", "http://[::1]:81/x"},
		{`http://[::1`, "", "", "", ""},
		{`http://küste.example/ä`, "küste.example", "", "plain", "http://küste.example/ä"},
		{`http://a.example，then`, "a.example", "", "plain", "http://a.example"},
		{`_http://a.example_`, "a.example", "", "plain", "http://a.example"},
		{`http:///x`, "", "", "", ""},
		{`http://-`, "", "", "", ""},
		{`http:`, "", "", "", ""},
		{`http&colon`, "", "", "", ""},
		{`http\`, "", "", "", ""},
		{`https://a.example`, "", "", "", ""},
		{`news://a.example`, "", "", "", ""},
		{`ahttp://a.example`, "", "", "", ""},
	} {
		refs := all(c.in)
		if c.host == "" {
			assert.Empty(t, refs, c.in)
			continue
		}
		if assert.Len(t, refs, 1, c.in) {
			r := refs[0]
			assert.Equal(t, c.host, r.Host, c.in)
			assert.Equal(t, c.port, r.Port, c.in)
			assert.Equal(t, c.spelling, r.Spelling.String(), c.in)
			assert.Equal(t, c.text, r.Text([]byte(c.in)), c.in)
		}
	}
}

// What seek takes for the beginning of a colon is what the table of spellings knows.
func TestSeekKnowsSpellings(t *testing.T) {
	for c := range 256 {
		knows := seek.Scheme([]byte("http"+string([]byte{byte(c)})+strings.Repeat(".", 60)), 0) == 4
		assert.Equal(t, c == ':' || escapes[c].bit != 0, knows, "%q", rune(c))
		assert.Equal(t, knows, seek.Scheme([]byte("http"+string([]byte{byte(c)})), 0) == 4, "%q at the end", rune(c))
	}
}

// However many bytes are looked at together, a scheme is found at every offset.
func TestFindAtEveryOffset(t *testing.T) {
	for n := range 40 {
		for _, tail := range []string{"", "x", strings.Repeat("tp ws ", 9)} {
			in := strings.Repeat(" ", n) + "http://a.example " + tail
			refs := all(in)
			require.Len(t, refs, 1, "offset %d", n)
			assert.Equal(t, n, refs[0].Start)
		}
	}
	assert.Len(t, all(strings.Repeat("http://a.example ", 1000)), 1000)
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
			assert.Equal(t, c.want, u.At(refs[0]), "%s is %s", c.in, c.want)
		}
	}
}

func TestStandard(t *testing.T) {
	assert.True(t, IsStandard("www.w3.org", "/2000/svg"))
	assert.True(t, IsStandard("Schema.org.", "/Museum"))
	assert.False(t, IsStandard("www.w3.org", "/"))
	assert.False(t, IsStandard("ternrock.example", "/2000/svg"))
}

func FuzzFind(f *testing.F) {
	for _, s := range []string{`http:\\\/\/a.example`, `http%253A//[::1]:80`, `http&amp;#58;//k@a.example.`, `<a href='http://a.example`, "\\u003Chttp\\3a //x"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		last := 0
		kept := bytes.Clone(b)
		Find(b, func(r Reference) bool {
			require.True(t, last <= r.Start && r.Start < r.SchemeEnd && r.SchemeEnd < r.HostStart && r.HostStart < r.HostEnd && r.HostEnd <= r.PortStart && r.PortStart <= r.PortEnd && r.PortEnd <= len(b), "%+v", r)
			last = r.HostEnd
			_ = r.Text(b)
			_ = UsesOf(b, "").At(r)
			return true
		})
		require.Equal(t, kept, b, "the input is not written to")
	})
}

func BenchmarkFindNothing(b *testing.B) {
	text := []byte(strings.Repeat("The tower stands on granite; https is a step away. ", 20000))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		MayHave(text)
	}
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
			attrs, _, ok := readAttrs(b[:end], tagName(b, start+1), name(start+1), nil)
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

// markup are pieces that make markup hard to read.
var markup = []string{"<", ">", "</", "/>", "a", "P", " ", "=", "\"", "'", "<!--", "-->", "--!>", "<!-->", "<!--->", "<!", "<?x", "<!DOCTYPE html>", "<![CDATA[", "]]>", "-", "!", "/",
	"<script>", "</script>", "<script type='x'", "</SCRIPT ", "<style>", "</style>", "<title>", "</title", "<textarea>", "<noscript>", "</noscript>", "<iframe src=x>", "<plaintext>", "<svg/>",
	"<img/src=x>", "<img src='a>b'>", "<a =x =y=z>", "href=", "\n", "\t", "words", "\x00", "é", "<br/>", "<a b=/>", "<a b = \"c\"d>"}

func TestWalkAgainstTokenizer(t *testing.T) {
	const seed = 1926
	random := rand.New(rand.NewPCG(seed, seed))
	for range 60000 {
		var b []byte
		for range random.IntN(14) {
			b = append(b, markup[random.IntN(len(markup))]...)
		}
		require.Equal(t, walked(b, byTokenizer), walked(b, WalkHTML), "%q (seed %d)", b, seed)
	}
}

func FuzzWalk(f *testing.F) {
	f.Add([]byte(strings.Join(markup, "")))
	f.Add([]byte("<script><!--<script></script>--></script><a href='x'>y</a>"))
	f.Fuzz(func(t *testing.T, b []byte) {
		require.Equal(t, walked(b, byTokenizer), walked(b, WalkHTML))
	})
}
