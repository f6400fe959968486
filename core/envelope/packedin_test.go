package envelope

import (
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"encoding/binary"
	"io"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/text"
)

func deflated(t testing.TB, w interface {
	io.Writer
	Close() error
}, b *bytes.Buffer, s string) []byte {
	_, err := w.Write([]byte(s))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func zlibbed(t testing.TB, s string) []byte {
	var b bytes.Buffer
	return deflated(t, zlib.NewWriter(&b), &b, s)
}

func gzipped(t testing.TB, s string) []byte {
	var b bytes.Buffer
	return deflated(t, gzip.NewWriter(&b), &b, s)
}

// escaped writes bytes through layers, the innermost first.
func escaped(b []byte, layers ...text.Layer) string {
	for _, l := range layers {
		b = text.Encode(b, l)
	}
	return string(b)
}

func TestOpenInside(t *testing.T) {
	body := "<a href=\"http://ternrock.example/tower\">the lamp\n</a>" + strings.Repeat(" It's at http://ternrock.example/\\lamp.", 9)
	for n := 0; !bytes.ContainsRune(zlibbed(t, body)[2:], '\'') || !bytes.ContainsRune(zlibbed(t, body), '\\'); n++ {
		body += strconv.Itoa(n) // until how it is escaped can be told
	}
	length := binary.LittleEndian.AppendUint32(nil, uint32(len(body)))
	for why, c := range map[string]struct{ kind, before, value, behind string }{
		"zlib in a query":             {"zlib", "?z=", escaped(zlibbed(t, body), text.Percent), "&n=1"},
		"gzip in a query":             {"gzip", "?z=", escaped(gzipped(t, body), text.Percent), "&n=1"},
		"in small letters":            {"zlib", "?z=", strings.ToLower(escaped([]byte("\x78\x9c"), text.Percent)) + escaped(zlibbed(t, body)[2:], text.Percent), ""},
		"encoded twice":               {"gzip", "z=", escaped(gzipped(t, body), text.Percent, text.Percent), " "},
		"in a form":                   {"zlib", "z=", escaped(zlibbed(t, body), text.Form), "&x"},
		"in a string of SQL":          {"gzip", "VALUES (1, '", escaped(gzipped(t, body), text.SQL), "', 2);"},
		"in a string of SQL, encoded": {"zlib", "sql=VALUES+%28%27", escaped(zlibbed(t, body), text.SQL, text.Form), "%27%29"},
		"in two strings of SQL":       {"zlib", `('(\'`, escaped(zlibbed(t, body), text.SQL, text.SQL), `\')')`},
		"in quotes written twice":     {"gzip", "('", escaped(gzipped(t, body), text.Doubled), "')"},
		"COMPRESS in a query":         {"COMPRESS", "?z=", escaped(append(length, zlibbed(t, body)...), text.Percent), "&n=1"},
		"COMPRESS in a string of SQL": {"COMPRESS", "VALUES ('", escaped(append(length, zlibbed(t, body)...), text.SQL), "')"},
	} {
		in := []byte(c.before + c.value + c.behind)
		mark := NextPacked(in, 0)
		if raw := NextRawPacked(in, 0); mark < 0 {
			mark = raw
		}
		require.GreaterOrEqual(t, mark, 0, why)
		x, _, err := OpenInside(in, mark)
		require.NoError(t, err, why)
		assert.Equal(t, []any{c.kind, body, c.before, c.behind}, []any{x.Kind, string(x.Text), string(in[:x.Start]), string(in[x.End:])}, why)
		longer := strings.ReplaceAll(body, "http:", "https:")
		edits, ok := x.Seal([]byte(longer))
		require.True(t, ok, why)
		after, err := text.Apply(in, edits)
		require.NoError(t, err, why)
		y, _, err := OpenInside(after, mark)
		require.NoError(t, err, why)
		assert.Equal(t, []any{c.kind, longer, c.before, c.behind}, []any{y.Kind, string(y.Text), string(after[:y.Start]), string(after[y.End:])}, why)
	}
	other := []byte("?z=%01%00%00%00" + escaped(zlibbed(t, body), text.Percent))
	x, _, err := OpenInside(other, NextPacked(other, 0))
	require.NoError(t, err)
	_, ok := x.Seal([]byte("http://ternrock.example"))
	assert.False(t, ok, "behind the length of something else")
	for _, no := range []string{"", "x%9C", "100%x%9", "%1F%8", "see x%20 and 1F%8B", "%251F%8B%08", "x%41%42"} {
		if mark := NextPacked([]byte(no), 0); mark >= 0 {
			_, _, err := OpenInside([]byte(no), mark)
			assert.ErrorIs(t, err, ErrNotPacked, no)
		}
	}
	cut := []byte("z=" + escaped(zlibbed(t, body)[:60], text.Percent))
	_, _, err = OpenInside(cut, NextPacked(cut, 0))
	assert.ErrorIs(t, err, ErrNotPacked, "without its checksum")
}

func FuzzOpenInside(f *testing.F) {
	f.Add([]byte("z=" + escaped(zlibbed(f, "http://ternrock.example"), text.Percent)))
	f.Add([]byte("('" + escaped(append([]byte{23, 0, 0, 0}, zlibbed(f, "http://ternrock.example")...), text.SQL) + "')"))
	f.Add([]byte("z=" + escaped(gzipped(f, "http://ternrock.example"), text.Form, text.Percent)))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, next := range []func([]byte, int) int{NextPacked, NextRawPacked} {
			for p := 0; ; {
				mark := next(b, p)
				if mark < 0 {
					break
				}
				require.GreaterOrEqual(t, mark, p)
				p = mark + 1
				x, _, err := OpenInside(b, mark)
				if err != nil {
					continue
				}
				require.True(t, x.Start <= mark && mark < x.End && x.End <= len(b))
				changed := append(bytes.Clone(x.Text), '!')
				edits, ok := x.Seal(changed)
				if !ok {
					continue
				}
				after, err := text.Apply(b, edits)
				require.NoError(t, err)
				y, _, err := OpenInside(after, mark)
				require.NoError(t, err)
				require.Equal(t, changed, y.Text)
				back, err := text.Apply(after, text.Invert(edits))
				require.NoError(t, err)
				require.Equal(t, b, back)
			}
		}
	})
}
