package alike

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// text makes a number of different words.
func text(from, n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "w%d ", (from+i)*7919%10007)
	}
	return b.String()
}

func TestCompare(t *testing.T) {
	base, err := url.Parse("https://ternrock.example/visit/")
	require.NoError(t, err)
	page := func(title, body string) Page {
		return Read(base, 200, "text/html", []byte("<!doctype html><title>"+title+"</title><script>var token="+fmt.Sprint(len(body)*31)+"</script>"+body))
	}
	visit := page("Visit", "<p>"+text(0, 300))
	for _, c := range []struct {
		what string
		a, b Page
		want Verdict
	}{
		{"itself", visit, visit, Same},
		{"a date and a token differ", visit, page("Visit", "<p>"+text(0, 299)+" 26 November "+"<!-- made in 0.1 s -->"), Same},
		{"a box beside it is random", visit, page("Visit", "<p>"+text(0, 300)+text(5000, 80)), Same},
		{"the title counts visitors", visit, page("(3) Visit", "<p>"+text(0, 300)), Same},
		{"another page", visit, page("It works!", "<p>The default page of this server."), Title},
		{"another page of the same name", visit, page("Visit", "<p>"+text(5000, 300)), Text},
		{"an empty page of the same name", visit, page("Visit", ""), Text},
		{"an error", visit, Read(base, 404, "text/html", nil), Status},
		{"two errors", Read(base, 404, "text/html", nil), Read(base, 500, "text/html", nil), Status},
		{"the same error", Read(base, 404, "text/html", nil), Read(base, 404, "text/html", nil), Same},
		{"a feed in place of a page", visit, Read(base, 200, "application/rss+xml", nil), Type},
		{"hardly any text", page("", "<p>Tern Rock Light"), page("", "<p>Tern Rock Light"), Same},
		{"hardly any text, and another title", page("Light", "<p>a b"), page("Dark", "<p>c d e f"), Title},
		{"calls itself by the secure address", page("Visit", `<link rel="canonical" href="http://ternrock.example/visit"><p>`+text(0, 300)),
			page("Visit", `<link rel=canonical href=/visit/><p>`+text(0, 300)), Same},
		{"calls itself another page", page("Visit", `<link rel="canonical" href="/visit"><p>`+text(0, 300)),
			page("Visit", `<link rel="canonical" href="/"/><p>`+text(0, 300)), Canonical},
	} {
		assert.Equal(t, c.want, Compare(c.a, c.b), c.what)
		assert.Equal(t, c.want, Compare(c.b, c.a), "%s, the other way round", c.what)
	}
	assert.InDelta(t, 0.5, Shared(page("", text(0, 3000)), page("", text(1000, 3000))), 0.1)
}

func TestLinks(t *testing.T) {
	assert.Equal(t, []string{"/a", "http://x/?b&c"}, Links([]byte(`<a href=" /a">x</a><link href=/css><a name=n><A HREF='http://x/?b&amp;c'><!-- <a href=no> -->`)))
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("<title>a</title><link rel=canonical href=//x><script><p>b"))
	base := &url.URL{Scheme: "https", Host: "ternrock.example"}
	f.Fuzz(func(t *testing.T, body []byte) {
		p := Read(base, 200, "text/html", body)
		require.Equal(t, Same, Compare(p, p))
	})
}

// What is not read as a page is compared whole, and so is what a page has beyond the part that is read.
func TestShows(t *testing.T) {
	base, err := url.Parse("https://ternrock.example/")
	require.NoError(t, err)
	read := func(typ, body string) Page { return Read(base, 200, typ, []byte(body)) }
	long := "<p>lamp</p>" + strings.Repeat(" ", most)
	for _, c := range []struct {
		typ, a, b string
		same      bool
	}{
		{"text/plain", "open", "open", true},
		{"text/plain", "open", "closed", false},
		{"application/json", `{"home":"http://ternrock.example/"}`, `{"home":"https://ternrock.example/"}`, true},
		{"image/svg+xml", "<svg/>", "<svg><g/></svg>", false},
		{"text/html", long + "open", long + "open", true},
		{"text/html", long + "open", long + "closed", false},
		{"text/html", "", "", true},
	} {
		assert.Equal(t, c.same, Shows(read(c.typ, c.a), read(c.typ, c.b)), "%.40s and %.40s", c.a, c.b)
	}
}
