package rewrite

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCases holds the rules to the table in testdata/cases.txt.
func TestCases(t *testing.T) {
	text, err := os.ReadFile("testdata/cases.txt")
	require.NoError(t, err)
	decode := strings.NewReplacer("␊", "\n", "␉", "\t", "␀", "\x00", "␍", "\r")
	r := rules(t)
	n := 0
	for block := range strings.SplitSeq(string(text), "\n\n") {
		c := map[string]string{}
		for line := range strings.SplitSeq(block, "\n") {
			if name, _, ok := strings.Cut(line, ":"); ok && len(line) > 6 && !strings.HasPrefix(line, "#") {
				c[name] = decode.Replace(line[6:])
			}
		}
		if c["why"] == "" {
			continue
		}
		n++
		want := c["out"]
		if want == "=" {
			want = c["in"]
		}
		out, res := check(t, r, c["in"])
		assert.Equal(t, want, out, c["why"])
		left := ""
		if len(res.Left) > 0 {
			left = string(res.Left[0].Reason)
		}
		assert.Equal(t, c["left"], left, "%s: %s", c["why"], c["in"])
	}
	assert.Greater(t, n, 300)
}
