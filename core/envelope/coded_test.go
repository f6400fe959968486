package envelope

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/text"
)

func TestBase64(t *testing.T) {
	body := "<p>\u00fb\u00ff see http://ternrock.example/?~ for it</p>"
	std, url := base64.StdEncoding.EncodeToString([]byte(body)), base64.RawURLEncoding.EncodeToString([]byte(body))
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
		assert.Equal(t, body, string(x.Text), why)
		edits, ok := x.Seal([]byte(body + "s"))
		require.True(t, ok, why)
		longer, err := text.Apply([]byte(in), edits)
		require.NoError(t, err, why)
		y, ok := OpenBase64(longer, mark, 0)
		require.True(t, ok, why)
		assert.Equal(t, body+"s", string(y.Text), why)
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

func BenchmarkNextBase64(b *testing.B) {
	words := []byte(strings.Repeat("The tower stands on granite; a link to /wp-content/uploads/2026/tower is here. ", 20000))
	b.SetBytes(int64(len(words)))
	for b.Loop() {
		NextBase64(words, 0)
	}
}
