package pieces

import (
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func wanted(t testing.TB, raw, around string) *Wanted {
	u, err := url.Parse(raw)
	require.NoError(t, err)
	return New(u, around)
}

// The line that puts an address together is told from those that only have a word of it.
func TestFind(t *testing.T) {
	for _, c := range []struct {
		name, url, text string
		line            int // of the likeliest hit, from 1; 0: none
		joined          bool
	}{
		{"concatenation", "http://cdn.example/gulls/gull.png", "<?php\n$gull = 1; // a gull\necho 'http://' . $h . '/gulls/gull.png';\n", 3, true},
		{"template", "http://cdn.example/buoy.png", "<p>buoy</p>\n<img src=\"{{ base }}/buoy.png\">", 2, true},
		{"a host alone", "http://cdn.example/buoy.png", "a\n'host' => 'cdn.example',\n", 2, false},
		{"slashes", "http://cdn.example/a/buoy.png", `{"x":"\/a\/buoy.png"}`, 1, false},
		{"over lines", "http://cdn.example/a/buoy.png", "join('/', [\n'http:',\n'cdn.example',\n'a/buoy.png'])", 4, true},
		{"inside a longer word", "http://cdn.example/rope.png", "europe.png.txt\nneurope.pngs", 0, false},
		{"another host", "http://cdn.example/", "notcdn.examples\n", 0, false},
		{"nothing", "http://cdn.example/rope.png", "words\nand more words\n", 0, false},
		{"a common name", "http://cdn.example/style.css", "a style\n<b class=style>\n", 0, false},
		{"another whole address", "http://cdn.example/a/none.png", "<img src='http://cdn.example/a/lamp.png'> . x", 0, false},
		{"its beginning", "http://cdn.example/a/none.png", "echo 'http://cdn.example/a/' . 'none.png'", 1, true},
		{"no path", "http://cdn.example", "see cdn.example", 1, false},
	} {
		hits := wanted(t, c.url, "").Find([]byte(c.text), 3)
		if c.line == 0 {
			assert.Empty(t, hits, c.name)
			continue
		}
		if assert.NotEmpty(t, hits, c.name) {
			assert.Equal(t, c.line, 1+strings.Count(c.text[:hits[0].Offset], "\n"), "%s: %+v", c.name, hits)
			assert.Equal(t, c.joined, hits[0].Joined, c.name)
			assert.GreaterOrEqual(t, hits[0].Score, Least)
		}
	}
}

// What stood around the address in the page tells two places apart.
func TestAround(t *testing.T) {
	w := wanted(t, "http://cdn.example/lamp.png", `<div class="tern-hero"><img alt="The lantern room" src="http://cdn.example/lamp.png">`)
	hero, list := []byte(`<div class="tern-hero">`+"\n"+`<img alt="The lantern room" src=`), []byte(`<ul class="gallery"><li><img src=`)
	assert.Greater(t, w.Near(hero, 30), w.Near(list, 10))
	assert.Zero(t, wanted(t, "http://cdn.example/lamp.png", "").Near(hero, 0))
	assert.Equal(t, 5, w.Locate([]byte("abc /lamp.png"), 2))
	assert.Equal(t, 2, w.Locate([]byte("abc"), 2))
}

// Text that is one long line costs no more than its length, and offsets lie inside.
func TestLongLines(t *testing.T) {
	w := wanted(t, "http://cdn.example/a/lamp.png", "")
	text := []byte(strings.Repeat("x y z ", 300_000) + `'http://' + host + '/a/lamp.png'` + strings.Repeat(" q", 100_000))
	hits := w.Find(text, 2)
	require.NotEmpty(t, hits)
	assert.Contains(t, string(text[hits[0].Offset:hits[0].Offset+40]), "/lamp.png")
}

func FuzzFind(f *testing.F) {
	f.Add("http://cdn.example/gulls/gull.png?x=1&key=LAMP", "<b class=hero>", "echo 'http://' . $h . '/gulls/gull.png';\n")
	f.Add("http://ternrock.example", "", "ternrock.example\\/")
	f.Fuzz(func(t *testing.T, raw, around, text string) {
		u, err := url.Parse(raw)
		if err != nil {
			return
		}
		w := New(u, around)
		for _, h := range w.Find([]byte(text), 3) {
			if h.Offset < 0 || h.Offset > len(text) || h.Score < Least {
				t.Fatalf("%+v of %d bytes", h, len(text))
			}
			w.Near([]byte(text), h.Offset)
		}
		w.Near([]byte(text), len(text)+999)
		w.Locate([]byte(text), len(text))
	})
}
