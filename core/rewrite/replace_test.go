package rewrite

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
)

// TestReplace puts other URLs in the place of references, in every way of writing, and reads them back
// the way that the text's own readers do.
func TestReplace(t *testing.T) {
	site, err := address.Parse("https://ternrock.example")
	require.NoError(t, err)
	const chart, copied = "http://tides.example/c/chart.png", "https://ternrock.example/kept/tides.example/c/chart.png"
	const query, answer = "http://tides.example/map?x=1&y=2", "https://maps.example/map?y=2&z=3"
	by := map[string]string{chart: copied, query: answer, "http://ternrock.example/old.png": "https://ternrock.example/new/pic.png"}
	rules := &Rules{Site: site, Replace: func(url string) (string, bool) { to, ok := by[url]; return to, ok }}

	asJSON := func(s string) string { b, err := json.Marshal(s); require.NoError(t, err); return string(b) }
	php := func(s string) string { return fmt.Sprintf(`a:1:{s:1:"u";s:%d:"%s";}`, len(s), s) }
	for _, c := range []struct{ in, want string }{
		{chart, copied},
		{"see " + chart + ", and more", "see " + copied + ", and more"},
		{`<img src="` + chart + `">`, `<img src="` + copied + `">`},
		{`<img srcset="` + chart + ` 1x, ` + chart + ` 2x">`, `<img srcset="` + copied + ` 1x, ` + copied + ` 2x">`},
		{`.a{background:url(` + chart + `)}`, `.a{background:url(` + copied + `)}`},
		{`<a href="` + html.EscapeString(query) + `">`, `<a href="` + html.EscapeString(answer) + `">`},
		{asJSON(`<img src="` + chart + `">`), asJSON(`<img src="` + copied + `">`)},
		{strings.ReplaceAll(asJSON(chart), "/", `\/`), strings.ReplaceAll(asJSON(copied), "/", `\/`)},
		{"?u=" + url.QueryEscape(chart) + "&b=1", "?u=" + url.QueryEscape(copied) + "&b=1"},
		{php(chart), php(copied)},
		{php(`<img src="` + chart + `">`), php(`<img src="` + copied + `">`)},
		{php(php(chart)), php(php(copied))},
		{asJSON(php(chart)), asJSON(php(copied))},
		{html.EscapeString(php(chart)), html.EscapeString(php(copied))},
		{base64.StdEncoding.EncodeToString([]byte(php(chart))), base64.StdEncoding.EncodeToString([]byte(php(copied)))},
		{"http://ternrock.example/old.png http://ternrock.example/other.png", "https://ternrock.example/new/pic.png https://ternrock.example/other.png"},
		// What is not exactly the URL is not replaced.
		{`<a href="` + chart + `x">`, `<a href="` + chart + `x">`},
		{`<a href="` + chart + `?v=2">`, `<a href="` + chart + `?v=2">`},
	} {
		res := rules.Value([]byte(c.in))
		out, err := Apply([]byte(c.in), res.Edits)
		require.NoError(t, err)
		want := strings.ReplaceAll(c.want, "&#34;", html.EscapeString(`"`))
		assert.Equal(t, want, string(out), c.in)
		back, err := Apply(out, Invert(res.Edits))
		require.NoError(t, err)
		assert.Equal(t, c.in, string(back))
		assert.Empty(t, rules.Value(out).Edits, "twice equals once: %s", c.in)
	}
	for in, why := range map[string]Reason{
		`<html xmlns:t="` + chart + `">`:                                    Standard,
		"?u=" + strings.ReplaceAll(url.QueryEscape(query), "%26", "&"):      Linked, // there the URL ends before the &
		"?sig=1234567890abcdef1234567890abcdef&u=" + url.QueryEscape(chart): Protected,
	} {
		res := rules.Value([]byte(in))
		assert.Empty(t, res.Edits, in)
		if assert.Len(t, res.Left, 1, in) {
			assert.Equal(t, why, res.Left[0].Reason, in)
		}
	}
}

// A new URL is written by the rules of the place, whatever characters it has and the old one has not.
func TestReplaceByAny(t *testing.T) {
	site, err := address.Parse("https://ternrock.example")
	require.NoError(t, err)
	const was = "http://tides.example/c"
	asJSON := func(s string) string { b, err := json.Marshal(s); require.NoError(t, err); return string(b) }
	php := func(s string) string { return fmt.Sprintf(`a:1:{s:1:"u";s:%d:"%s";}`, len(s), s) }
	for _, now := range []string{"https://maps.example/", "https://maps.example/?a=1&b=2", "https://maps.example/a;b=1,c/@d:e/!$*+=?x=%20y&z[]=1#top", "https://maps.example/it's(a)?q='x'&y=(2)"} {
		safe := strings.NewReplacer("'", "%27", "(", "%28", ")", "%29").Replace(now)
		amp := strings.ReplaceAll(safe, "&", "&amp;")
		rules := &Rules{Site: site, Replace: func(url string) (string, bool) { return now, url == was }}
		for in, want := range map[string]string{
			was:                               safe,
			`<img src="` + was + `">`:         `<img src="` + amp + `">`,
			`<p>see ` + was + ` there</p>`:    `<p>see ` + amp + ` there</p>`,
			`.a{background:url(` + was + `)}`: `.a{background:url(` + safe + `)}`,
			`<p style="background:url('` + was + `')">`:             `<p style="background:url('` + amp + `')">`,
			`<style>a{b:url(` + was + `)}</style>`:                  `<style>a{b:url(` + safe + `)}</style>`,
			`<script>var u = '` + was + `';</script>`:               `<script>var u = '` + safe + `';</script>`,
			`{"u":"` + was + `"}`:                                   `{"u":"` + safe + `"}`,
			asJSON(`<img src="` + was + `">`):                       "",
			php(was):                                                php(safe),
			php(`<img src="` + was + `">`):                          php(`<img src="` + amp + `">`),
			"?u=" + url.QueryEscape(was) + "&b=1":                   "?u=" + url.QueryEscape(safe) + "&b=1",
			`<a href="/?u=` + url.QueryEscape(was) + `">`:           `<a href="/?u=` + url.QueryEscape(safe) + `">`,
			html.EscapeString(`<img src="` + was + `">`):            "",
			`var u = "` + strings.ReplaceAll(was, "/", `\/`) + `";`: `var u = "` + strings.ReplaceAll(safe, "/", `\/`) + `";`,
			base64.StdEncoding.EncodeToString([]byte(php(was))):     base64.StdEncoding.EncodeToString([]byte(php(safe))),
		} {
			res := rules.Value([]byte(in))
			out, err := Apply([]byte(in), res.Edits)
			require.NoError(t, err)
			switch {
			case want != "":
				assert.Equal(t, want, string(out), in)
			case in[0] == '"':
				var text string
				require.NoError(t, json.Unmarshal(out, &text), string(out))
				assert.Equal(t, `<img src="`+amp+`">`, text)
			default:
				assert.Equal(t, `<img src="`+amp+`">`, html.UnescapeString(string(out)), "entities in entities")
			}
			back, err := Apply(out, Invert(res.Edits))
			require.NoError(t, err)
			assert.Equal(t, in, string(back))
			assert.Empty(t, rules.Value(out).Edits, "twice equals once: %s", in)
		}
	}
}
