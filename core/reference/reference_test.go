package reference

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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

func FuzzFind(f *testing.F) {
	for _, s := range []string{`http:\\\/\/a.example`, `http%253A//[::1]:80`, `http&amp;#58;//k@a.example.`, `<a href='http://a.example`, "\\u003Chttp\\3a //x", "http://http://00"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		last := 0
		kept := bytes.Clone(b)
		Find(b, func(r Reference) bool {
			require.True(t, last <= r.Start && r.Start < r.SchemeEnd && r.SchemeEnd < r.HostStart && r.HostStart < r.HostEnd && r.HostEnd <= r.PortStart && r.PortStart <= r.PortEnd && r.PortEnd <= len(b), "%+v", r)
			last = r.SchemeEnd // "http://http://x" is two: of the host http, and of the host x
			_ = r.Text(b)
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
