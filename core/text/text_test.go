package text

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestDecode(t *testing.T) {
	for _, c := range []struct {
		layer    Layer
		in, want string
	}{
		{Script, `\/\"\\`, `/"\`},
		{Script, `\u00e9\n\t`, "é\n\t"},
		{Script, `\ud83d\ude00`, "😀"},
		{Script, `\ud83dx`, "\ufffdx"},
		{Script, `\x41\u{1F600}\'`, "A😀'"},
		{Script, `plain`, "plain"},
		{HTML, `&quot;&#34;&#x22;&#034;&eacute;`, `""""é`},
		{HTML, `a&amp;b&region=&copy=1&copy 2&copy;&x;&`, `a&b&region=&copy=1© 2©&x;&`},
		{HTML, `&#58x&#x3a&semi;`, "：x"[:0] + ":x:;"},
		{HTML, `&notit; &ampx`, "&notit; &ampx"},
		{Percent, `a%3A1%3a%7Bx%zz+%`, "a:1:{x%zz+%"},
		{SQL, `\0\Z\'\%x\n`, "\x00\x1a'\\%x\n"},
		{Slashes, `\n\'\0`, "n'\x00"},
		{PHP, `\$x\"\x41\u{e9}\q\'`, `$x"Aé\q\'`},
		{Single, `it\'s \\ \n`, `it's \ \n`},
		{Doubled, `it''s '`, `it's '`},
		{Sheet, `http\3a \2f\2f x\:y`, "http://x:y"},
	} {
		assert.Equal(t, c.want, string(Decode([]byte(c.in), c.layer)), "%s %s", c.layer, c.in)
	}
}

// Where a region ends, and what stands behind it.
func TestOpen(t *testing.T) {
	b := []byte(`x="s:1:\"a\u00e9\";" y`)
	s, ok := Of(Step{Script, '"'})
	require.True(t, ok)
	r := Open(b, 3, s, len(b))
	assert.Equal(t, `s:1:"aé";`, string(r.Text))
	assert.True(t, r.Whole)
	assert.Equal(t, bytes.IndexByte(b, ';'), r.Raw(len(r.Text)-1))
	assert.Equal(t, len(r.Text)-1, r.At(bytes.IndexByte(b, ';')))
	edits, ok := r.Carry([]Edit{{Offset: 6, Inserted: `"/`}})
	require.True(t, ok)
	after, err := Apply(b, edits)
	require.NoError(t, err)
	assert.Equal(t, `x="s:1:\"a\"/\u00e9\";" y`, string(after))
	back, err := Apply(after, Invert(edits))
	require.NoError(t, err)
	assert.Equal(t, string(b), string(back))
}

// An edit whose writing would be read as something else is refused.
func TestCarryRefuses(t *testing.T) {
	s, _ := Of(Step{Layer: Sheet})
	r := Open([]byte(`a\3a`), 0, s, 4)
	require.Equal(t, "a:", string(r.Text))
	_, ok := r.Carry([]Edit{{Offset: 2, Inserted: "24"}})
	assert.False(t, ok, `\3a24 is another character`)
}

func TestStacks(t *testing.T) {
	for written, want := range map[string]string{
		`"`: "", `\"`: "script", `&quot;`: "HTML", `%22`: "percent", `%5C%22`: "percent, script", `\&quot;`: "HTML, script", `&amp;quot;`: "HTML, HTML",
		`%2522`: "percent, percent", `\\\"`: "script, script", `\u0022`: "script", `\\\\\\\"`: "script, script, script", `%26quot%3B`: "percent, HTML", `&#92;&quot;`: "HTML, script",
	} {
		found := Stacks([]byte(written), 0, len(written), '"')
		if assert.NotEmpty(t, found, written) {
			assert.Equal(t, want, found[0].String(), written)
		}
	}
	assert.Empty(t, Stacks([]byte("x"), 0, 1, '"'))
}

func TestBefore(t *testing.T) {
	for in, want := range map[string]rune{`a`: 'a', `\u201c`: '“', `%3D`: '=', `&#104;`: 'h', `\x68`: 'h', `\n`: '\n', `%2568`: 'h', `é`: 'é', `\201C`: '“', `x;`: ';', `&#104`: 'h', `\u0068`: 'h', `\\u0068`: 'h'} {
		c, start, ok := Before([]byte("..."+in), 3+len(in))
		require.True(t, ok)
		assert.Equal(t, string(want), string(c), in)
		if in != "x;" {
			assert.Equal(t, 3, start, in)
		}
	}
}

// A new spelling is one row: what looks for ends of schemes is made from it.
func TestSpell(t *testing.T) {
	in := []byte(strings.Repeat(".", 50) + "http=3A=2F=2Fternrock.example")
	assert.Negative(t, Ends.Next(in, 0))
	defer AddSpelling("quoted-printable", '=', readPercent)()
	assert.Equal(t, 54, Ends.Next(in, 0))
	c, end, how := Unit(in, 54)
	assert.Equal(t, ':', c)
	assert.Equal(t, 57, end)
	assert.Equal(t, "quoted-printable", how.String())
}

// What is written in a layer is read as it was, byte for byte; and edits that are carried back
// are read as made.
func FuzzLayers(f *testing.F) {
	f.Add([]byte(`a:1:{s:1:"a";s:24:"http://ternrock.example/";}`), byte(1), byte(2), 5)
	f.Add([]byte("it's \\ \x00\x1a\n<&>"), byte(3), byte(4), 2)
	f.Fuzz(func(t *testing.T, b []byte, one, two byte, at int) {
		layers := []Layer{Layer(one%byte(layerCount-1)) + 1, Layer(two%byte(layerCount-1)) + 1}
		for _, l := range layers {
			if l == Folded && bytes.ContainsAny(b, "\r\n") {
				return // a break with a blank after it is dropped: no text has one
			}
			require.Equal(t, string(b), string(Decode(Encode(b, l), l)), "%s", l)
		}
		written := Encode(Encode(b, layers[1]), layers[0])
		s, ok := Of(Step{Layer: layers[0]}, Step{Layer: layers[1]})
		require.True(t, ok)
		r := Open(written, 0, s, len(written))
		require.Equal(t, string(b), string(r.Text))
		require.Equal(t, len(written), r.Raw(len(r.Text)))
		if len(b) == 0 {
			return
		}
		at = int(uint(at) % uint(len(b)))
		edits, ok := r.Carry([]Edit{{Offset: at, Removed: string(b[at : at+1]), Inserted: "s\"/" + string(b[at:at+1])}})
		if !ok {
			return
		}
		after, err := Apply(written, edits)
		require.NoError(t, err)
		again := Open(after, 0, s, len(after))
		require.Equal(t, string(b[:at])+"s\"/"+string(b[at:]), string(again.Text))
		back, err := Apply(after, Invert(edits))
		require.NoError(t, err)
		require.Equal(t, string(written), string(back))
	})
}

// Reading a character never goes past the end, in no input.
func FuzzUnit(f *testing.F) {
	f.Add([]byte(`%25&amp;#58;\u003a\\\/&colon;\3a %C3%BC`))
	f.Fuzz(func(t *testing.T, b []byte) {
		for p := range b {
			_, end, _ := Unit(b, p)
			require.Greater(t, end, p)
			require.LessOrEqual(t, end, len(b))
			_, start, ok := Before(b, p+1)
			require.True(t, ok)
			require.LessOrEqual(t, start, p)
			require.GreaterOrEqual(t, start, 0)
		}
	})
}

// What an edit moves is written as it was, whichever stack was taken for the text's own: in
// both of these a line break is written \n, but only one of them writes a new one like that.
func TestCarryKeepsSpellings(t *testing.T) {
	b := []byte(`value=\\&quot;aHR0\ncDov\\&quot;`)
	for _, layers := range [][]Layer{{HTML, PHP, Script}, {Script, HTML, Slashes}} {
		var steps []Step
		for _, l := range layers {
			steps = append(steps, Step{Layer: l})
		}
		s, ok := Of(steps...)
		require.True(t, ok)
		r := Open(b, 0, s, len(b))
		at := strings.Index(string(r.Text), "\ncDov")
		require.Positive(t, at, "%v", s)
		edits, ok := r.Carry([]Edit{{Offset: at, Removed: "\ncDov", Inserted: "\nczov\nLw"}})
		require.True(t, ok, "%v", s)
		after, err := Apply(b, edits)
		require.NoError(t, err)
		assert.Equal(t, `value=\\&quot;aHR0\nczov\nLw\\&quot;`, string(after), "%v", s)
	}
}
