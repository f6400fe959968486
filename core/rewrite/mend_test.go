package rewrite

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/envelope"
)

func TestMend(t *testing.T) {
	for _, c := range []struct{ why, in, out string }{
		{"too short", `s:23:"https://ternrock.example";`, `s:24:"https://ternrock.example";`},
		{"too long", `s:30:"http://ternrock.example";`, `s:23:"http://ternrock.example";`},
		{"two in an array, one of them sound", `a:3:{s:1:"a";s:23:"https://ternrock.example";s:1:"b";s:4:"lamp";s:1:"c";s:24:"https://ternrock.example/";}`, `a:3:{s:1:"a";s:24:"https://ternrock.example";s:1:"b";s:4:"lamp";s:1:"c";s:25:"https://ternrock.example/";}`},
		{"quotes and semicolons inside", `a:1:{i:0;s:28:"<p style="color:red";>https</p>";}`, `a:1:{i:0;s:31:"<p style="color:red";>https</p>";}`},
		{"deep, and an object", `O:4:"Lamp":1:{s:1:"u";a:1:{i:0;a:1:{i:0;s:2:"abc";}}}`, `O:4:"Lamp":1:{s:1:"u";a:1:{i:0;a:1:{i:0;s:3:"abc";}}}`},
		{"a key", `a:1:{s:2:"key";i:1;}`, `a:1:{s:3:"key";i:1;}`},
		{"broken inside, mended and sealed", `a:1:{i:0;s:13:"s:9:"lamps!";";}`, `a:1:{i:0;s:13:"s:6:"lamps!";";}`},
		{"the length gets a digit", `a:1:{i:0;s:9:"` + strings.Repeat("x", 12) + `";}`, `a:1:{i:0;s:12:"` + strings.Repeat("x", 12) + `";}`},
		{"other types between", `a:4:{i:0;d:0.5;i:1;b:1;i:2;N;i:3;s:1:"ab";}`, `a:4:{i:0;d:0.5;i:1;b:1;i:2;N;i:3;s:2:"ab";}`},
	} {
		edits, broken, err := Mend([]byte(c.in))
		require.NoError(t, err, c.why)
		assert.True(t, broken, c.why)
		out, err := Apply([]byte(c.in), edits)
		require.NoError(t, err, c.why)
		assert.Equal(t, c.out, string(out), c.why)
	}
	for in, why := range map[string]error{
		`a:2:{i:0;s:23:"http://ternrock.example"`: envelope.ErrNoReading,
		`a:2:{i:0;N;}`: envelope.ErrNoReading,
		`a:2:{s:7:"a";s:7:"b";s:7:"c";s:7:"d";s:7:"e";s:7:"f";}`: envelope.ErrTwoReadings,
	} {
		_, broken, err := Mend([]byte(in))
		assert.True(t, broken, in)
		assert.ErrorIs(t, err, why, in)
	}
	for _, in := range []string{``, `plain`, `s:1:"a";`, `a:1:{i:0;s:8:"s:1:"a";";}`} {
		_, broken, err := Mend([]byte(in))
		assert.False(t, broken, in)
		assert.NoError(t, err)
	}
}

// A careless replacement in a value, mended, gives what a careful one gives.
func TestMendUndoesCareless(t *testing.T) {
	r := rules(t)
	for i := range 200 {
		url := "http://ternrock.example/" + strconv.Itoa(i*i)
		text := `<a href="` + url + `" style="x:y";>` + strings.Repeat("é", i%7) + `</a>`
		v := `a:2:{s:3:"url";s:` + strconv.Itoa(len(url)) + `:"` + url + `";s:4:"text";s:` + strconv.Itoa(len(text)) + `:"` + text + `";}`
		careful, _ := check(t, r, v)
		careless := strings.ReplaceAll(v, "http://", "https://")
		require.NotEqual(t, careful, careless)
		edits, _, err := Mend([]byte(careless))
		require.NoError(t, err)
		mended, err := Apply([]byte(careless), edits)
		require.NoError(t, err)
		require.Equal(t, careful, string(mended))
	}
}

func FuzzMend(f *testing.F) {
	f.Add(`a:2:{i:0;s:9:"http://ternrock.example";s:1:"k";O:1:"X":1:{s:9:"a";N;}}`)
	f.Fuzz(func(t *testing.T, in string) {
		edits, _, err := Mend([]byte(in))
		if err != nil || len(edits) == 0 {
			return
		}
		out, err := Apply([]byte(in), edits)
		require.NoError(t, err)
		_, err = envelope.OpenPHP(out)
		require.NoError(t, err, "what was mended is sound")
	})
}
