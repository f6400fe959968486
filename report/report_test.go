package report

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestClean(t *testing.T) {
	for in, want := range map[string]string{
		"plain ä 日本":     "plain ä 日本",
		"\x1b[2J":        `\x1b[2J`,
		"a\nb\tc\r":      `a\x0ab\x09c\x0d`,
		"\u009b31m":      `\x9b31m`,
		"\xff\xfe":       `\xff\xfe`,
		"\u202eevil":     `\u202eevil`,
		"\u2066x\u2069":  `\u2066x\u2069`,
		"a\u200bb\ufeff": `a\u200bb\ufeff`,
		"\u2028":         `\u2028`,
	} {
		assert.Equal(t, want, Clean(in))
	}
}

func TestClip(t *testing.T) {
	assert.Equal(t, "short", clip("short", 10))
	assert.Equal(t, "012345…789", clip("0123456789 0123456789", 10))
	assert.Equal(t, "ab…", clipEnd("abcdef", 3))
	assert.Equal(t, []string{"1", "999", "1 000", "1 234 567"}, []string{number(1), number(999), number(1000), number(1234567)})
	assert.Equal(t, []string{"1 cell", "2 cells", "0 cells"}, []string{plural(1, "cell"), plural(2, "cell"), plural(0, "cell")})
}

func TestRows(t *testing.T) {
	var buf bytes.Buffer
	text := &Text{W: &buf}
	text.rows([]string{"name", ">n"}, [][]string{{"a", "1"}, {"longer", "1 000"}})
	assert.Equal(t, "  name        n\n  a           1\n  longer  1 000\n", buf.String())
	buf.Reset()
	text.wrap("  ", strings.Repeat("word ", 40))
	for line := range strings.Lines(buf.String()) {
		assert.LessOrEqual(t, len(line), Width+1)
	}
	assert.Equal(t, "x", text.bad("x"), "no colours unless asked for")
	assert.Equal(t, "\x1b[31;1mx\x1b[0m", (&Text{Color: true}).bad("x"))
}
