package rewrite

import (
	"encoding/base64"
	"html"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/envelope"
	"trimlantern/core/text"
)

// Base64 of compressed text that escapes cut into pieces, begin or end: none of it is missed.
func TestBase64Cut(t *testing.T) {
	r := rules(t)
	for why, v := range map[string]string{
		"a plus sign behind its first character, encoded once more than what is around": `W3Jhd19odG1sXUpUTkRZU1V5TUdoeVpXWWxNMFFsTWpKb2RIUndjeVV6UVNVeVJpVXlSbTkwYUdWeUxtVjRZVzF3YkdVbE1rWWxNMFprSlRORU1DVXlOVEpDVkV0TFEydHdjMDVNV0V3d2EzUjVhWFpMVkRnM1YxTTJNVWw2UXpOSlUyUldXSE5zVURSTlNEbEhVVE5yZUZWTVN6aDJSbmRRV0ZsSFQyZHBXVUVsTWpaaGJYQWxNMEp1SlRORU1TVXlNaVV6UlE9PVsvcmF3X2h0bWxd`,
		"in a block, encoded twice":          `[raw_html]SU5TRVJUJTIwSU5UTyUyMHQlMjBWQUxVRVMlMjAlMjgxJTJDJTIwJTI3UzFSUVUwaFNzRk40MURESEl5UWt3RXBmdnlTMUtLOG9QemxiTDdVaU1iY2dKOVhLd3NEQzRGSERYRHVGSENCZklhT2twQUNMS3YxRSUyNTBBJTI1MkZTUzlncngwb01LU2pGU0Zrdnp5MUNLRlJMRGhBQSUyNTNEJTI1M0QlMjclMjklM0I=[/raw_html]`,
		"the first piece has capitals alone": `x=%22LY5NC4JAFEX7LQ%2FchIvGMbIXLdJwMKTA0NRo4Vj0wViROlbif2%2BKVvdwuXDPCk0EPyvugBTbEglCDROVpqIWMkCiwwEQnlPNMGLHpvn7Jn0aiLwYvrixfPhFZCYb0nAWSo8GMnfsQcbC456NaRp7R87cSnW3yA2a1dmSEYteXCxkYpR1Gp9OPLbLdG1d1L7xmFunzkyjc3UGOgjALdGvtRC77mulXHv93v2P1eFx%2FbkiqDzjaNJ9AA%3D%3D%22`,
		"COMPRESS, a line break encoded twice, behind an equals sign that is encoded once": `C:11:"ArrayObject":268:{x:i:0;a:1:{s:1:"u";s:230:"[lamp d=%3Ca+href%3D%22https%3A%2F%2Fother.example%2F%3Fd%3DbwAAAHicy0nMLVCosFUyVFLIKCkpsNLXr9ArSS3KK8pPztZLrQDK5qTq5wApXUsDYwszC1NDs0cN%250Ac%252B0UMkvUixUS81IUPsyf0QDViaEvUT9JryAvnaskI1WhJL88tUgBAHuOJ5E%253D%26amp%3Bn%3D1%22%3E]";};m:a:0:{}}`,
		"a slash behind its first character":                                               `[lamp d=%3Ca+href%3D%22https%3A%2F%2Fother.example%2Fgo%3Fd%3D4%252FIICQmw0tfPK0ktyivKT87WS61IzC3ISdVRKMlIVSjJL08tUsgsUS9W0Pwwf0ZDRkhIAVA1umL9AvtCW0M9hI5HDXOgSkOASoOQleYAKV1LQwNTSwsDI3MFOwUA%26amp%3Bn%3D1%22%3E]`,
		"no piece is as long as a run":                                                     `x=%22H4sIAAAAAAAAA%2FMwKfZ0hIF4X0%2FnwNxyg5LkMp%2FK%2BAhvg%2BySyswy7xAL8%2FBgM0PPKmdjz%2BCUiADHMG%2BzjNxI94rSSPeC4qhcp%2BxCr9TgbO88j0hvR0ezqow81yqQcQAWg%2B8%2BXAAAAA%3D%3D%22`,
		"no piece is as long as a run, behind backslashes":                                 `INSERT INTO t VALUES (1, '<div data-x=\'{&quot;e&quot;:&quot;e9Qwp7zYSl8\\/JLUoLyg\\/OVsvtSIxtyAnVb\\/AvtDWUE8TAA==&quot;}\'>lamp</div>', 2);`,
	} {
		res := r.Value([]byte(v))
		assert.NotZero(t, res.References, why)
		assert.NotEmpty(t, res.Edits, why)
	}
}

// A slash behind seven backslashes stays one when it moves, though the layers around it can be read in several ways.
func TestMovedEscape(t *testing.T) {
	v := `<script>let d = {e: "\u003Cdiv data-x='{&quot;e&quot;:&quot;&lt;script&gt;var d = {\\&quot;e\\&quot;:\\&quot;eJzLKCkpsNLXLy8v1ytJLcoryk\\\\\\\/O1kutSMwtyEnV11EAAK+KCuk=\\&quot;};&lt;\\\/script&gt;&quot;}'\u003Elamp\u003C\/div\u003E", n: 1,};</script>`
	res := rules(t).Value([]byte(v))
	after, err := Apply([]byte(v), res.Edits)
	require.NoError(t, err)
	require.NotEqual(t, v, string(after))
	plain := after
	for range 3 {
		plain = []byte(html.UnescapeString(string(text.Decode(plain, text.Script))))
	}
	found := regexp.MustCompile(`"(eJ[^"]*)"`).FindSubmatch(plain)
	require.NotNil(t, found, "%s", plain)
	packed, err := base64.StdEncoding.DecodeString(string(found[1]))
	require.NoError(t, err, "%s", found[1])
	p, err := envelope.OpenPacked(packed)
	require.NoError(t, err)
	assert.Equal(t, "https://www.ternrock.example/, ", string(p.Text)[len(p.Text)-31:])
}

// What is between the quotes of an attribute is a value as a whole.
func TestMendBetweenQuotes(t *testing.T) {
	v := `<input value="s:72:&quot;lamp|i:1;cart|a:1:{s:1:\&quot;u\&quot;;s:32:\&quot;lamp https://ternrock.example/12 \&quot;;}&quot;;">`
	edits, _, err := rules(t).Mend([]byte(v), envelope.Cause{Was: "http://", Now: "https://"})
	require.NoError(t, err)
	assert.Equal(t, []Edit{{Offset: 16, Removed: "72", Inserted: "73"}, {Offset: 66, Removed: "32", Inserted: "33"}}, edits)
}

// A length that fits by chance, at a quote of the JSON that it spans, is corrected all the same.
func TestMendFitsTwice(t *testing.T) {
	v := `<input value="s:163:&quot;{&quot;a&quot;:1,&quot;e&quot;:&quot;s:135:\&quot;a:1:{https://ternrock.example/61 &lt;a href=\&quot;https://ternrock.example/37it&#039;s https://ternrock.example/28\&quot;;&lt;a href=\&quot;https://ternrock.example/18\&quot;;&quot;}&quot;;">`
	edits, _, err := rules(t).Mend([]byte(v), envelope.Cause{Was: "http://", Now: "https://"})
	require.NoError(t, err)
	after, err := Apply([]byte(v), edits)
	require.NoError(t, err)
	assert.Equal(t, strings.NewReplacer("s:163", "s:167", "s:135", "s:139").Replace(v), string(after))
}

// A sound value inside a string whose opening quote is another byte is left with it.
func TestDamagedAround(t *testing.T) {
	for _, v := range []string{
		`<input value="s:42:*s:34:&quot;http://www.ternrock.example/a |ide&quot;;&quot;;">`,
		`d=s%3A42%3A*s%3A34%3A%22http%3A%2F%2Fwww.ternrock.example%2Fa%20%7Cide%22%3B%22%3B`,
		`{"e":"s:42:*s:34:\"http://www.ternrock.example/a |ide\";\";"}`,
		`<p>a:2:*i:0;s:24:"http://ternrock.example/";i:1;s:24:"http://ternrock.example/";}</p>`,
		`<p>a:1:Ai:0;a:1:{i:0;s:24:"http://ternrock.example/";}}</p>`,
		`<p>s:42:s:34:"http://www.ternrock.example/a | tide";";</p>`,
		`<input value="s:32:=lamp http:\/\/ternrock.example\/&quot;;">`,
		`<input value="s=32:&quot;lamp http:\/\/ternrock.example\/&quot;;">`,
		`<input value="s:32:|lamp http:\/\/ternrock.example\/&quot;;">`,
		`{"e":"s:32:=lamp http://ternrock.example/abcd\";"}`,
	} {
		res := rules(t).Value([]byte(v))
		assert.Empty(t, res.Edits, v)
		assert.NotEmpty(t, res.Left, v)
	}
	for _, v := range []string{
		`<p>at 12:30: s:24:"http://ternrock.example/";</p>`,
		`[x p:s:24:"http://ternrock.example/";]`,
		`cart|s:24:"http://ternrock.example/";lamp|i:1;`,
		`<input value="cart|s:24:&quot;http://ternrock.example/&quot;;lamp|i:1;">`,
		`?lamp=s%3A24%3A%22http%3A%2F%2Fternrock.example%2F%22%3B`,
	} {
		res := rules(t).Value([]byte(v))
		assert.Len(t, res.Edits, 2, v)
	}
}

// A length that fits with the backslashes read, and as well with the quotes read that are doubled, is corrected as the quotes
// before it say.
func TestDoubledOrEscaped(t *testing.T) {
	for v, length := range map[string]string{
		`INSERT INTO t VALUES (1, 's:196:"INSERT INTO t VALUES (1, ''PGEgaHJlZj0iaHR0cHM6Ly9vdGhlci5leGFtcGxlL2dvP2Q9OEolMkJZZ0doMGRIQTZMeTkwWlhK\ndWNtOWpheTVsZUdGdGNHeGxMM0ElMkZjVDB4NG9DZGRHaGxJSFJ2ZDJWeUlBJTNEJTNEJmFtcDtu\nPTEiPg=='', 2);";');`:                                                                                                                                                                                                                       "s:186:",
		`<div data-x='{&quot;e&quot;:&quot;INSERT INTO t VALUES (1, &#039;s:285:\&quot;&lt;div data-x=&#039;&#039;{&amp;quot;e&amp;quot;:&amp;quot;8J+YgEhUVFA6Ly93d3cudGVybnJvY2suZXhhbXBsZS9hL2IucG5n4oCdPiDigJxoVFRwOi8vdGVy\\nbnJvY2suZXhhbXBsZS9sYW1wLTEwNzU5MzQxMDEKYW5kIGNhZsOpIHdzOi8vVGVyblJvY2suZXhh\\nbXBsZS9hL2IucG5nCuaXpeacrGh0dHA6Ly93d3cudGVybnJvY2suZXhhbXBsZS9hL2IucG5nLik=&amp;quot;}&#039;&#039;&gt;lamp&lt;/div&gt;\&quot;;&#039;);&quot;}'>lamp</div>`: "s:291:",
	} {
		res := rules(t).Value([]byte(v))
		after, err := Apply([]byte(v), res.Edits)
		require.NoError(t, err)
		assert.Contains(t, string(after), length)
	}
}

// Where a value can be read in two ways that are sound, and an edit would leave only one of them sound, it is left: nobody
// knows which of them its own software reads.
func TestTwoReadings(t *testing.T) {
	for _, v := range []string{
		// Either the backslash and the n are one letter, or the two quotes are: no quote before it says which.
		`INSERT INTO t VALUES (1, [s:196:"INSERT INTO t VALUES (1, ''PGEgaHJlZj0iaHR0cHM6Ly9vdGhlci5leGFtcGxlL2dvP2Q9OEolMkJZZ0doMGRIQTZMeTkwWlhK\ndWNtOWpheTVsZUdGdGNHeGxMM0ElMkZjVDB4NG9DZGRHaGxJSFJ2ZDJWeUlBJTNEJTNEJmFtcDtu\nPTEiPg=='', 2);";');`,
	} {
		res := rules(t).Value([]byte(v))
		assert.Empty(t, res.Edits, v)
		require.NotEmpty(t, res.Left, v)
		assert.Contains(t, res.Left[0].Note, "more than one way")
	}
}

// Of several readings of a value the one counts in which all that is inside grew as the lengths around it say.
func TestMendReadings(t *testing.T) {
	lengths := regexp.MustCompile(`[sC]:(?:11:&quot;ArrayObject&quot;:)?(\d{2,3}):`)
	for v, want := range map[string][]string{
		`<input value=\"C:11:&quot;ArrayObject&quot;:304:{x:i:0;a:1:{s:1:&quot;u&quot;;s:266:&quot;O:4:&quot;Lamp&quot;:3:{s:1:&quot;u&quot;;s:75:&quot;https://ternrock.example/6https://other.example/ https://ternrock.example/19 &quot;;s:4:&quot;\0*\0p&quot;;s:4:&quot;tern&quot;;s:1:&quot;v&quot;;a:2:{i:0;s:75:&quot;https://ternrock.example/6https://other.example/ https://ternrock.example/19 &quot;;i:1;s:25:&quot;https://ternrock.example/v&quot;;}}&quot;;};m:a:0:{}}\">`:                           {"309", "271", "77", "77", "26"},
		`<input value="s:358:&quot;{&quot;a&quot;:1,&quot;e&quot;:&quot;a:3:{s:1:\&quot;k\&quot;;s:114:\&quot;https://other.example/ https://ternrock.example/97 lamp https://ternrock.example/83 a:1:{https://ternrock.example/19 \&quot;;s:27:\&quot;https://ternrock.example/117\&quot;;i:1;s:1:\&quot;n\&quot;;a:2:{i:0;s:4:\&quot;tern\&quot;;i:1;s:114:\&quot;https://other.example/ https://ternrock.example/97 lamp https://ternrock.example/83 a:1:{https://ternrock.example/19 \&quot;;}}&quot;}&quot;;">`: {"365", "117", "28", "117"},
	} {
		edits, _, err := rules(t).Mend([]byte(v), envelope.Cause{Was: "http://", Now: "https://"})
		require.NoError(t, err)
		var is []string
		for _, e := range edits {
			is = append(is, e.Inserted)
		}
		assert.Equal(t, want, is, lengths.FindString(v))
	}
}

// What is sound by chance, with its backslashes read in another way than the usual one, and could be mended in the usual
// one, is named.
func TestMendNotSilent(t *testing.T) {
	v := `<input value=\"&lt;!-- wp:x {&quot;e&quot;:&quot;s:101:\\&quot;\\&quot;;https://ternrock.example/57\\&quot;;caf\\u00e9 https://ternrock.example/23 lamp https://ternrock.example/93\\&quot;;lamp \\&quot;;&quot;} /--&gt;\">`
	_, broken, err := rules(t).Mend([]byte(v), envelope.Cause{Was: "http://", Now: "https://"})
	assert.True(t, broken)
	assert.Error(t, err)
}

// However many values a text holds one behind the other, all of them are read.
func TestManyValues(t *testing.T) {
	for _, piece := range []string{
		`<p>a:1:{s:1:"a";s:24:"http://ternrock.example/";}` + "\n",
		`<p>{"u":"http:\/\/ternrock.example\/"} s:24:"http://ternrock.example/";` + "\n",
		`<input value="a:1:{s:1:&quot;a&quot;;s:24:&quot;http://ternrock.example/&quot;;}">`,
		`INSERT INTO t VALUES ('a:1:{s:1:\"a\";s:24:\"http://ternrock.example/\";}');`,
		`?d=a%3A1%3A%7Bs%3A1%3A%22a%22%3Bs%3A24%3A%22http%3A%2F%2Fternrock.example%2F%22%3B%7D `,
		`d=c2VlIGh0dHA6Ly90ZXJucm9jay5leGFtcGxlL2xhbXA=& `,
	} {
		res := rules(t).Value([]byte(strings.Repeat(piece, 5000)))
		assert.GreaterOrEqual(t, res.References, 5000, piece)
		assert.Empty(t, res.Left, piece)
	}
}
