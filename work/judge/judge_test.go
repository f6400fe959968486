package judge

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
	"trimlantern/core/rewrite"
	"trimlantern/outside/database"
	"trimlantern/outside/system"
)

func TestJudge(t *testing.T) {
	site, err := address.Parse("https://ternrock.example")
	require.NoError(t, err)
	wordpress, err := system.Get("wordpress")
	require.NoError(t, err)
	const own = "http://ternrock.example"
	column := func(name string, maxChars, maxBytes int64) database.Column {
		return database.Column{Name: name, MaxChars: maxChars, MaxBytes: maxBytes}
	}
	for _, c := range []struct {
		why     string
		table   string
		columns []database.Column
		values  []string // "\x00": NULL
		keyless bool
		changed []string // columns
		left    []rewrite.Reason
		label   string
	}{
		{"a setting", "options", []database.Column{column("option_name", 191, 0), column("option_value", 0, 1<<32-1)}, []string{"home", own}, false, []string{"option_value"}, nil, "setting home"},
		{"a cached copy", "options", []database.Column{column("option_name", 0, 0), column("option_value", 0, 0)}, []string{"_transient_x", own}, false, nil, []rewrite.Reason{rewrite.Cached}, "setting _transient_x"},
		{"an identifier beside content", "posts", []database.Column{column("post_title", 0, 0), column("post_content", 0, 0), column("guid", 255, 0)}, []string{"Visit", own, own}, false, []string{"post_content"}, []rewrite.Reason{rewrite.Identifier}, "post Visit"},
		{"NULL", "posts", []database.Column{column("post_content", 0, 0)}, []string{"\x00"}, false, nil, nil, ""},
		{"too long in characters", "x", []database.Column{column("v", 23, 0)}, []string{own}, false, nil, []rewrite.Reason{rewrite.TooLong}, ""},
		{"just long enough", "x", []database.Column{column("v", 24, 0)}, []string{own}, false, []string{"v"}, nil, ""},
		{"characters, not bytes", "x", []database.Column{column("v", 27, 0)}, []string{own + "/éé"}, false, []string{"v"}, nil, ""},
		{"too long in bytes", "x", []database.Column{column("v", 0, 28)}, []string{own + "/éé"}, false, nil, []rewrite.Reason{rewrite.TooLong}, ""},
		{"port 80 makes room", "x", []database.Column{column("v", 26, 0)}, []string{own + ":80"}, false, []string{"v"}, nil, ""},
		{"no key", "x", []database.Column{column("v", 0, 0)}, []string{own}, true, nil, []rewrite.Reason{rewrite.NoKey}, ""},
		{"only elsewhere", "x", []database.Column{column("v", 0, 0)}, []string{"http://other.example"}, false, nil, []rewrite.Reason{rewrite.Linked}, ""},
	} {
		g := Judge{Rules: &rewrite.Rules{Site: site}, System: wordpress, Labels: true}
		value := func(i int) ([]byte, bool) { return []byte(c.values[i]), c.values[i] != "\x00" }
		label, out, err := g.Row(c.table, c.columns, value, nil, !c.keyless, nil)
		require.NoError(t, err, c.why)
		var changed []string
		var left []rewrite.Reason
		for _, o := range out {
			if len(o.Edits) > 0 {
				changed = append(changed, c.columns[o.Column].Name)
				assert.Equal(t, strings.ReplaceAll(strings.ReplaceAll(c.values[o.Column], ":80", ""), "http:", "https:"), string(o.After), c.why)
			}
			for _, l := range o.Left {
				left = append(left, l.Reason)
			}
		}
		assert.Equal(t, c.changed, changed, c.why)
		assert.Equal(t, c.left, left, c.why)
		assert.Equal(t, c.label, label, c.why)
	}
}

// A first look that says no keeps a value from being read, unless it may be a digest of one that changes.
func TestJudgeFirstLook(t *testing.T) {
	site, err := address.Parse("https://ternrock.example")
	require.NoError(t, err)
	g := Judge{Rules: &rewrite.Rules{Site: site}, System: &system.System{}, Size: func(int) int { return 5000 }}
	_, out, err := g.Row("x", []database.Column{{Name: "a"}, {Name: "b"}}, func(i int) ([]byte, bool) {
		assert.Equal(t, 1, i)
		return []byte("http://ternrock.example"), true
	}, func(i int) bool { return i == 1 }, true, nil)
	require.NoError(t, err)
	assert.Len(t, out, 1)
}
