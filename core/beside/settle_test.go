package beside

import (
	"crypto/md5" //nolint:gosec // as others write it
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/text"
)

const (
	plain  = "http://ternrock.example/a"
	secure = "https://ternrock.example/a"
)

// securing returns the edits that make all addresses of a text secure.
func securing(b string) (edits []text.Edit) {
	for p := 0; ; {
		n := strings.Index(b[p:], "http")
		if n < 0 {
			return edits
		}
		if p += n + 4; p == len(b) || b[p] != 's' {
			edits = append(edits, text.Edit{Offset: p, Inserted: "s"})
		}
	}
}

func TestSettle(t *testing.T) {
	sum := func(s string) string { return fmt.Sprintf("%x", md5.Sum([]byte(s))) } //nolint:gosec // the same
	for _, c := range []struct{ why, in, out string }{
		{"a netstring", "25:" + plain + ",", "26:" + secure + ","},
		{"not a netstring: a blank", "25: " + plain + ", x", "25: " + secure + ", x"},
		{"not a netstring: another length", "24:" + plain + ",", "24:" + secure + ","},
		{"not a netstring: a size", "140x25:" + plain + ",", "140x25:" + secure + ","},
		{"bencode", "d3:url25:" + plain + "e", "d3:url26:" + secure + "e"},
		{"chunks", "1b\r\nx " + plain + "\r\n0\r\n\r\n", "1c\r\nx " + secure + "\r\n0\r\n\r\n"},
		{"not chunks: no last one", "1b\r\nx " + plain + "\r\n77\r\n", "1b\r\nx " + secure + "\r\n77\r\n"},
		{"a header", "Content-Length: 25\r\n\r\n" + plain, "Content-Length: 26\r\n\r\n" + secure},
		{"a length that gets a digit", "$99\r\n" + plain + strings.Repeat("y", 74) + "\r\n", "$100\r\n" + secure + strings.Repeat("y", 74) + "\r\n"},
		{"a key-value store", "VALUE k 0 25\r\n" + plain + "\r\nEND\r\n", "VALUE k 0 26\r\n" + secure + "\r\nEND\r\n"},
		{"not a key-value store: a sentence in numbers", "on page 41 25\r\n" + plain + "\r\n", "on page 41 25\r\n" + secure + "\r\n"},
		{"a name", "len=25 " + plain, "len=26 " + secure},
		{"percent-encoded", "a=25%3Ahttp%3A%2F%2Fternrock.example%2Fa%2C", "a=26%3Ahttps%3A%2F%2Fternrock.example%2Fa%2C"},
		{"numbered lines, each of which fits", "25 " + plain + "\n3 abc\n", "26 " + secure + "\n3 abc\n"},
		{"one numbered line", "25 " + plain + "\n", "25 " + secure + "\n"},
		{"a digest before it", sum(plain) + "  " + plain, sum(secure) + "  " + secure},
		{"a digest of something else", sum("x") + "  " + plain, sum("x") + "  " + secure},
		{"a digest after it, cut, in capitals", plain + " " + strings.ToUpper(sum(plain)[:12]), secure + " " + strings.ToUpper(sum(secure)[:12])},
		{"a digest of the lines before it", "u=" + plain + "\nsum=" + sum("u="+plain+"\n"), "u=" + secure + "\nsum=" + sum("u="+secure+"\n")},
	} {
		edits := securing(c.in)
		extra, err := Settle([]byte(c.in), edits, nil)
		require.NoError(t, err, c.why)
		out, err := text.Apply([]byte(c.in), Merge(edits, extra))
		require.NoError(t, err, c.why)
		assert.Equal(t, c.out, string(out), c.why)
	}
}

// What is in an envelope is sealed there: nothing in it changes.
func TestSettleClosed(t *testing.T) {
	in := "25:" + plain + ","
	extra, err := Settle([]byte(in), securing(in), []Span{{0, len(in)}})
	require.NoError(t, err)
	assert.Empty(t, extra)
}

func TestLinks(t *testing.T) {
	sum := fmt.Sprintf("%x", md5.Sum([]byte("salt|"+plain))) //nolint:gosec // as others write it
	members := []Member{
		{Text: []byte("salt"), Owner: 1, Name: []byte("s"), Lead: -1},
		{Text: []byte(plain), Owner: 1, Name: []byte("url"), Whole: true, Lead: -1},
		{Text: []byte("25"), Owner: 1, Name: []byte("url_length"), Lead: -1},
		{Text: []byte("25"), Owner: 1, Name: []byte("width"), Lead: -1},
		{Text: []byte(sum), Owner: 1, Name: []byte("h"), Lead: -1},
	}
	links := Links(members)
	require.Len(t, links, 2)
	after := func(i int) []byte {
		if i == 1 {
			return []byte(secure)
		}
		return members[i].Text
	}
	assert.Equal(t, 2, links[0].Member)
	assert.Equal(t, "26", links[0].Write(members, after))
	assert.Equal(t, 4, links[1].Member)
	assert.Equal(t, fmt.Sprintf("%x", md5.Sum([]byte("salt|"+secure))), links[1].Write(members, after)) //nolint:gosec // the same
}

// Settling never fails to end, its edits apply, and undoing them gives the input.
func FuzzSettle(f *testing.F) {
	for _, s := range []string{"25:" + plain + ",", "1b\r\nx " + plain + "\r\n0\r\n\r\n", "a=25%3Ahttp%3A%2F%2Fternrock.example%2Fa", "<p a=\"" + plain + " 5\">", plain + " 0123456789abcdef"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, in string) {
		edits := securing(in)
		extra, err := Settle([]byte(in), edits, nil)
		if err != nil {
			return
		}
		all := Merge(edits, extra)
		out, err := text.Apply([]byte(in), all)
		require.NoError(t, err)
		back, err := text.Apply(out, text.Invert(all))
		require.NoError(t, err)
		require.Equal(t, in, string(back))
	})
}

// A way to write a length is one row.
func TestAddedMeasure(t *testing.T) {
	in := "@25@" + plain + "@"
	unknown, err := Settle([]byte(in), securing(in), nil)
	require.NoError(t, err)
	assert.Empty(t, unknown)
	defer func(was []measure) { measures = was }(measures)
	measures = append(measures[:len(measures):len(measures)], measure{"between signs", 10, false, func(b []byte, n number) int {
		if n.from == 0 || b[n.from-1] != '@' || n.to == len(b) || b[n.to] != '@' {
			return -1
		}
		return n.to + 1
	}})
	known, err := Settle([]byte(in), securing(in), nil)
	require.NoError(t, err)
	assert.Equal(t, []text.Edit{{Offset: 1, Removed: "25", Inserted: "26"}}, known)
}
