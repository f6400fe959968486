//go:build real

package real

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A widget whose value is protected by a keyed hash shows the same after apply as before: the
// hash is made again with the keys of the system's own configuration. One whose hash was not right
// is left and named.
func TestProtectedWidgets(t *testing.T) {
	t.Parallel()
	b := setUp(t)
	config := filepath.Join(b.system, "wp-config.php")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	keys := "define( 'AUTH_KEY', 'lamp ''oil' );\ndefine( 'AUTH_SALT', \"tern\\\"rock\" );\n"
	keys = strings.Replace(keys, "''", `\'`, 1)
	require.NoError(t, os.WriteFile(config, []byte(strings.Replace(string(text), "<?php\n", "<?php\n"+keys, 1)), 0o644))
	var pages struct{ Sealed, Foreign, Layers int }
	require.NoError(t, json.Unmarshal(b.run(".", "php", "widget.php", b.system, "make"), &pages))
	render := func(id int) string {
		return string(b.run(".", "php", "widget.php", b.system, "render", strconv.Itoa(id)))
	}
	before := map[int]string{}
	for _, id := range []int{pages.Sealed, pages.Foreign, pages.Layers} {
		before[id] = render(id)
	}
	require.Contains(t, before[pages.Sealed], "http://ternrock.example/visit")
	require.NotContains(t, before[pages.Foreign], "visit", "the system itself refuses it")

	b.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, b.system)
	var p struct{ Left map[string]int }
	require.NoError(t, json.Unmarshal([]byte(b.tool(0, "preview", "--offline", "--quiet", "--format", "json")), &p))
	assert.Equal(t, 1, p.Left["protected"])
	out := b.tool(0, "apply", "--offline")
	assert.NotContains(t, out, "oil", "keys are not shown")
	after := render(pages.Sealed)
	assert.Equal(t, strings.ReplaceAll(before[pages.Sealed], "http://"+host, "https://"+host), after)
	assert.Equal(t, before[pages.Foreign], render(pages.Foreign))
	assert.NotContains(t, render(pages.Layers), "http://"+host)
	assert.Contains(t, render(pages.Layers), `s%3A36%3A%22https%3A%2F%2Fternrock.example%2Fmedia%2Fa.png%22`)
	b.tool(0, "undo")
	for id, was := range before {
		assert.Equal(t, was, render(id))
	}
}
