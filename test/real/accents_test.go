//go:build real

package real

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The system itself, installed with each charset that its configuration may name: what it reads of
// accents, emoji and other scripts, and its pages, are the same after apply but for the scheme, and the
// same after undo.
func TestSystemCharsets(t *testing.T) {
	t.Parallel()
	charsets := []string{"latin1", "utf8mb4"}
	if *looksAll {
		charsets = append(charsets, "utf8")
	}
	for _, charset := range charsets {
		t.Run(charset, func(t *testing.T) {
			b := setUpWith(t, charset)
			said := b.run(".", "php", "accents.php", b.system, "make")
			var made map[string]any
			require.NoError(t, json.Unmarshal(said, &made), tail(said))
			switch charset {
			case "utf8":
				assert.Equal(t, "utf8mb4", made["charset"], "the system raises it itself")
			case "latin1":
				assert.Equal(t, "latin1", made["charset"])
			}
			require.NotNil(t, made["accents"])
			read := func() string { return string(b.run(".", "php", "accents.php", b.system, "read")) }
			pages := func() (all []string) {
				for _, path := range []string{"/", "/?name=zoo-accents", "/?name=zoo-emoji", "/?name=zoo-scripts", "/?feed=rss2"} {
					body, _ := b.get(path)
					all = append(all, body)
				}
				return all
			}
			pages() // lets the system write what it writes at first
			before, shown, dump := read(), pages(), b.dump()
			if charset != "latin1" {
				assert.Contains(t, before, "😀")
			}
			require.Contains(t, before, "http://ternrock.example/media/accents.jpg")
			b.tool(0, "init", "--here", "--site", "https://"+host, b.system)
			b.tool(0, "preview", "--offline")
			b.tool(0, "apply", "--offline")
			secure := func(s string) string {
				for _, slash := range []string{"//", `\/\/`, "%3A%2F%2F"} {
					s = strings.ReplaceAll(s, "http:"+slash+host, "https:"+slash+host)
				}
				return strings.ReplaceAll(s, "http%3A%2F%2F"+host, "https%3A%2F%2F"+host)
			}
			assert.Equal(t, secure(before), read(), "what the system reads")
			for i, page := range pages() {
				if i < 4 { // a feed's permanent identifiers stay
					assert.Equal(t, secure(shown[i]), secure(page), "page %d", i)
				}
				assert.Empty(t, ownInsecure(page))
			}
			b.tool(0, "undo")
			assert.Equal(t, before, read())
			assert.Equal(t, dump, b.dump(), "the database is as it was")
		})
	}
}
