package envelope

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestBase64(t *testing.T) {
	text := "<p>\xfb\xff see http://ternrock.example/?~ for it</p>"
	std, url := base64.StdEncoding.EncodeToString([]byte(text)), base64.RawURLEncoding.EncodeToString([]byte(text))
	lines := func(s, nl string, n int) string {
		out := ""
		for len(s) > n {
			out, s = out+s[:n]+nl, s[n:]
		}
		return out + s
	}
	for why, in := range map[string]string{
		"alone":                 std,
		"without padding":       strings.TrimRight(std, "="),
		"of the URL alphabet":   url,
		"in quotes":             `x="` + std + `"`,
		"in brackets":           "[raw]" + std + "[/raw]",
		"behind a path":         "https://x.example/go/" + url,
		"behind an equals sign": "?to=" + url + "&x=1",
		"in lines":              lines(std, "\n", 44),
		"in lines of Windows":   lines(std, "\r\n", 40),
	} {
		mark := NextBase64([]byte(in), 0)
		require.GreaterOrEqual(t, mark, 0, why)
		x, ok := OpenBase64([]byte(in), mark, 0)
		require.True(t, ok, why)
		assert.Equal(t, text, string(x.Text), why)
		assert.Equal(t, in[x.Start:x.End], x.Seal(x.Text), why)
		longer := x.Seal([]byte(text + "s"))
		again, err := base64.NewEncoding("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/").WithPadding(base64.NoPadding).
			DecodeString(strings.NewReplacer("\n", "", "\r", "", "=", "", "-", "+", "_", "/").Replace(longer))
		require.NoError(t, err, why)
		assert.Equal(t, text+"s", string(again), why)
	}
	for _, no := range []string{"", "aHR0c", "just words without any of it", "https://ternrock.example/wp-content/uploads/2026/a-long-name", strings.Repeat("A", 5000), "aHR0 cDov L3Rl cm5y"} {
		assert.Negative(t, NextBase64([]byte(no), 0), no)
	}
	_, ok := OpenBase64([]byte("aHR0cDovL3Rlcm5yb2NrLmV4YW1wbGUvY!"), 0, 0)
	assert.False(t, ok, "cut in the middle of a group: it cannot be written again as it was")
	twice := base64.StdEncoding.EncodeToString([]byte("s:99:\"" + std + "\";"))
	assert.GreaterOrEqual(t, NextBase64([]byte("<x "+twice+">"), 0), 0, "base64 in base64")
}

// A mark is found wherever it stands: at each place of a group, in each letter
// case that is looked for.
func TestBase64Marks(t *testing.T) {
	for _, scheme := range []string{"http://", "HTTP://", "Http:\\/\\/", "ws://", "WS%3A%2F%2F", "ws&#58;//"} {
		for before := range 3 {
			coded := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("\xaa", before) + scheme + "ternrock.example"))
			assert.GreaterOrEqual(t, NextBase64([]byte(coded), 0), 0, "%s behind %d bytes", scheme, before)
			for pad := range 20 {
				assert.GreaterOrEqual(t, NextBase64([]byte(strings.Repeat(" ", pad)+coded+" "), 0), 0, "at offset %d", pad)
			}
		}
	}
}

func TestUnescapePercent(t *testing.T) {
	u := UnescapePercent([]byte("a%3A1%3a%7Bx%zz+%"))
	assert.Equal(t, "a:1:{x%zz+%", string(u.Text))
	assert.Equal(t, 4, u.Raw(2))
	assert.Equal(t, 17, u.Raw(len(u.Text)))
	assert.True(t, LooksPercentSerialized([]byte("a%3A1%3A%7Bi%3A0%3B")))
	assert.False(t, LooksPercentSerialized([]byte("a%20b%20c%20d%20e")))
}

func TestUnescapeEntities(t *testing.T) {
	u := UnescapeEntities([]byte("s:1:&quot;&eacute;&quot; &x; & &amp;quot;"))
	assert.Equal(t, "s:1:\"é\" &x; & &quot;", string(u.Text))
	assert.Equal(t, 10, u.Raw(5), "behind the first reference")
	assert.True(t, LooksEntitySerialized([]byte("s:1:&quot;a&quot;;")))
	assert.True(t, LooksEntitySerialized([]byte("a:1:{s:1:&#34;a&#34;;N;}")))
	assert.False(t, LooksEntitySerialized([]byte("say &quot;yes&quot; twice")))
}

func BenchmarkNextBase64(b *testing.B) {
	text := []byte(strings.Repeat("The tower stands on granite; a link to /wp-content/uploads/2026/tower is here. ", 20000))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		NextBase64(text, 0)
	}
}
