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
		{"a count", `a:2:{i:0;N;}`, `a:1:{i:0;N;}`},
		{"a class that was renamed", `O:4:"Lantern":1:{s:1:"a";N;}`, `O:7:"Lantern":1:{s:1:"a";N;}`},
		{"NULs that were lost", `O:4:"Lamp":2:{s:8:"*title";N;s:10:"Lampbeam";N;}`, "O:4:\"Lamp\":2:{s:8:\"\x00*\x00title\";N;s:10:\"\x00Lamp\x00beam\";N;}"},
		{"NULs that were written", `O:4:"Lamp":1:{s:8:"\0*\0title";N;}`, "O:4:\"Lamp\":1:{s:8:\"\x00*\x00title\";N;}"},
		{"a key", `a:1:{s:2:"key";i:1;}`, `a:1:{s:3:"key";i:1;}`},
		{"broken inside, mended and sealed", `a:1:{i:0;s:13:"s:9:"lamps!";";}`, `a:1:{i:0;s:13:"s:6:"lamps!";";}`},
		{"the length gets a digit", `a:1:{i:0;s:9:"` + strings.Repeat("x", 12) + `";}`, `a:1:{i:0;s:12:"` + strings.Repeat("x", 12) + `";}`},
		{"other types between", `a:4:{i:0;d:0.5;i:1;b:1;i:2;N;i:3;s:1:"ab";}`, `a:4:{i:0;d:0.5;i:1;b:1;i:2;N;i:3;s:2:"ab";}`},
	} {
		edits, broken, err := rules(t).Mend([]byte(c.in), envelope.Cause{})
		require.NoError(t, err, c.why)
		assert.True(t, broken, c.why)
		out, err := Apply([]byte(c.in), edits)
		require.NoError(t, err, c.why)
		assert.Equal(t, c.out, string(out), c.why)
	}
	for in, why := range map[string]error{
		`a:2:{i:0;s:23:"http://ternrock.example"`:                envelope.ErrNoReading,
		`a:2:{s:7:"a";s:7:"b";s:7:"c";s:7:"d";s:7:"e";s:7:"f";}`: envelope.ErrTwoReadings,
	} {
		_, broken, err := rules(t).Mend([]byte(in), envelope.Cause{})
		assert.True(t, broken, in)
		assert.ErrorIs(t, err, why, in)
	}
	for _, in := range []string{``, `plain`, `s:1:"a";`, `a:1:{i:0;s:8:"s:1:"a";";}`} {
		_, broken, err := rules(t).Mend([]byte(in), envelope.Cause{})
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
		edits, _, err := rules(t).Mend([]byte(careless), envelope.Cause{Was: "http://", Now: "https://"})
		require.NoError(t, err)
		mended, err := Apply([]byte(careless), edits)
		require.NoError(t, err)
		require.Equal(t, careful, string(mended))
	}
}

// Each length follows from the old one and from the replacement, in whatever layers.
func TestMendKnowsCause(t *testing.T) {
	cause := envelope.Cause{Was: "http://", Now: "https://"}
	for _, c := range []struct{ why, in, out string }{
		{"nested", `a:1:{i:0;s:31:"s:23:"https://ternrock.example";";}`, `a:1:{i:0;s:32:"s:24:"https://ternrock.example";";}`},
		{"nested, a digit more", `s:107:"s:99:"https://ternrock.example/` + strings.Repeat("y", 75) + `";";`, `s:109:"s:100:"https://ternrock.example/` + strings.Repeat("y", 75) + `";";`},
		{"a custom payload", `C:4:"Lamp":31:{s:23:"https://ternrock.example";}`, `C:4:"Lamp":32:{s:24:"https://ternrock.example";}`},
		{"in JSON", `{"v":"s:23:\"https://ternrock.example\";"}`, `{"v":"s:24:\"https://ternrock.example\";"}`},
		{"slashed", `a:1:{s:1:\"u\";s:23:\"https://ternrock.example\";}`, `a:1:{s:1:\"u\";s:24:\"https://ternrock.example\";}`},
		{"in an attribute", `<input value="a:1:{s:1:&quot;u&quot;;s:23:&quot;https://ternrock.example&quot;;}">`, `<input value="a:1:{s:1:&quot;u&quot;;s:24:&quot;https://ternrock.example&quot;;}">`},
		{"behind a name", `cart|a:1:{s:1:"u";s:23:"https://ternrock.example";}`, `cart|a:1:{s:1:"u";s:24:"https://ternrock.example";}`},
		{"one that was secure before", `a:2:{i:0;s:24:"https://ternrock.example";i:1;s:23:"https://ternrock.example";}`, `a:2:{i:0;s:24:"https://ternrock.example";i:1;s:24:"https://ternrock.example";}`},
		{"quotes and semicolons in it", `s:50:"<a style="x:y";>https://ternrock.example/";https://a";`, `s:52:"<a style="x:y";>https://ternrock.example/";https://a";`},
		{"something deeper cannot be mended", `a:2:{i:0;s:23:"https://ternrock.example";i:1;s:12:"a:1:{i:0;s:9";}`, ""},
	} {
		edits, broken, err := rules(t).Mend([]byte(c.in), cause)
		assert.True(t, broken, c.why)
		if c.out == "" {
			assert.Error(t, err, c.why)
			continue
		}
		require.NoError(t, err, c.why)
		out, err := Apply([]byte(c.in), edits)
		require.NoError(t, err, c.why)
		assert.Equal(t, c.out, string(out), c.why)
	}
	edits, _, err := rules(t).Mend([]byte(`s:18:"//ternrock.example";`), envelope.Cause{Was: "http://", Now: "//"})
	require.NoError(t, err)
	assert.Empty(t, edits, "sound")
	edits, _, err = rules(t).Mend([]byte(`a:1:{i:0;s:23:"//ternrock.example";}`), envelope.Cause{Was: "http://", Now: "//"})
	require.NoError(t, err)
	out, err := Apply([]byte(`a:1:{i:0;s:23:"//ternrock.example";}`), edits)
	require.NoError(t, err)
	assert.Equal(t, `a:1:{i:0;s:18:"//ternrock.example";}`, string(out), "a replacement that shrinks")
}

func FuzzMend(f *testing.F) {
	f.Add(`a:2:{i:0;s:9:"http://ternrock.example";s:1:"k";O:1:"X":1:{s:9:"a";N;}}`)
	f.Fuzz(func(t *testing.T, in string) {
		edits, _, err := rules(t).Mend([]byte(in), envelope.Cause{Was: "http://", Now: "https://"})
		if err != nil || len(edits) == 0 {
			return
		}
		out, err := Apply([]byte(in), edits)
		require.NoError(t, err)
		_, broken, err := rules(t).Mend([]byte(out), envelope.Cause{Was: "http://", Now: "https://"})
		require.NoError(t, err)
		require.False(t, broken, "what was mended is sound")
	})
}
