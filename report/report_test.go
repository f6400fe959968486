package report

import (
	"bytes"
	"regexp"
	"strings"
	"testing"
	"time"

	"trimlantern/work"
	"trimlantern/work/preview"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestClean(t *testing.T) {
	for in, want := range map[string]string{
		"plain ä 日本":     "plain ä 日本",
		"\x1b[2J":        `\x1b[2J`,
		"a\nb\tc\r":      `a\x0ab\x09c\x0d`,
		"\u009b31m":      `\x9b31m`,
		"\xff\xfe":       `\xff\xfe`,
		"\u202eevil":     `\u{202e}evil`,
		"\u2066x\u2069":  `\u{2066}x\u{2069}`,
		"a\u200bb\ufeff": `a\u{200b}b\u{feff}`,
		"\U000e0041":     `\u{e0041}`,
		"\u2028":         `\u{2028}`,
	} {
		assert.Equal(t, want, Clean(in))
	}
}

func TestJSON(t *testing.T) {
	var buf bytes.Buffer
	require.NoError(t, JSON(&buf, map[string]string{"a": "<\x1b[2J\u202e\u009b\u00e9>"}))
	assert.Equal(t, "{\n  \"version\": 1,\n  \"a\": \"<\\u001b[2J\\u202e\\u009bé>\"\n}\n", buf.String())
}

func TestClip(t *testing.T) {
	assert.Equal(t, "short", clip("short", 10))
	assert.Equal(t, "012345…789", clip("0123456789 0123456789", 10))
	assert.Equal(t, "ab…", clipEnd("abcdef", 3))
	assert.Equal(t, []string{"1", "999", "1\u202f000", "1\u202f234\u202f567"}, []string{number(1), number(999), number(1000), number(1234567)})
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

// Numbers are grouped for people alone, and a terminal that shows nothing but ASCII gets nothing else of ours.
func TestPlain(t *testing.T) {
	for _, c := range []struct {
		t    Text
		want string
	}{
		{Text{}, "1\u202f234 pages → …\n  1\u202f234\n"},
		{Text{Whole: true}, "1234 pages → …\n  1234\n"},
		{Text{ASCII: true}, "1 234 pages -> ...\n  1 234\n"},
	} {
		var buf bytes.Buffer
		c.t.W = &buf
		c.t.printf("%s → …\n", plural(1234, "page"))
		c.t.rows(nil, [][]string{{number(1234)}})
		assert.Equal(t, c.want, buf.String())
	}
	assert.Equal(t, `1\u{202f}000`, Clean("1\u202f000"), "what comes from outside never looks like ours")
}

// What a program reads has one type for each name, whatever is in it.
func TestStableJSON(t *testing.T) {
	at := time.Date(2026, 11, 27, 5, 6, 7, 890_000_000, time.FixedZone("", 3600))
	var buf bytes.Buffer
	require.NoError(t, JSON(&buf, struct {
		List  []string       `json:"list"`
		Group map[string]int `json:"group"`
		None  []string       `json:"none,omitempty"`
		Zero  int            `json:"zero,omitempty"`
		At    time.Time      `json:"at"`
		Bad   string         `json:"bad"`
	}{At: at, Bad: "\xff"}))
	assert.JSONEq(t, `{"version": 1, "list": [], "group": {}, "at": "2026-11-27T04:06:07Z", "bad": "\ufffd"}`, buf.String())
}

// A change fits its line, and no address in which it lies is cut.
func TestWindows(t *testing.T) {
	pad := strings.Repeat("lamp ", 40)
	for _, c := range []struct{ before, after, want, then string }{
		{"http://a.example/", "https://a.example/", "http://a.example/", "https://a.example/"},
		{pad + `<img src="http://a.example/x.svg" alt="">` + pad, pad + `<img src="https://a.example/x.svg" alt="">` + pad, `"http://a.example/x.svg"`, `"https://a.example/x.svg"`},
		{`"http://a.example/` + strings.Repeat("x", 200) + `" ` + pad, `"https://a.example/` + strings.Repeat("x", 200) + `" ` + pad, strings.Repeat("x", 200) + "…", "https://a.example/" + strings.Repeat("x", 200)},
		{pad + "http://a.example/" + strings.Repeat("y", 90), pad + "https://a.example/" + strings.Repeat("y", 90), strings.Repeat("y", 90), strings.Repeat("y", 90)},
	} {
		for width := 40; width <= 120; width += 16 {
			before, after := windows(c.before, c.after, width)
			assert.Contains(t, before, c.want, width)
			assert.Contains(t, after, c.then, width)
			if len(c.want) < 30 {
				assert.LessOrEqual(t, len([]rune(before)), width)
				assert.LessOrEqual(t, len([]rune(after)), width)
			}
		}
	}
	var out bytes.Buffer
	text := Text{W: &out, Width: 80, Color: true}
	text.change("    ", "a\nhttp://a.example/ "+pad, "a\nhttps://a.example/ "+pad)
	text.labelled("      ", "do: ", "get a certificate for all names: ternrock.example, www.ternrock.example, shop.ternrock.example")
	for line := range strings.Lines(out.String()) {
		plain := regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(strings.TrimSuffix(line, "\n"), "")
		assert.LessOrEqual(t, len([]rune(plain)), 80, plain)
	}
	assert.Contains(t, out.String(), `a\x0ahttps://a.example/ `)
	assert.Equal(t, 1, strings.Count(out.String(), "\x1b[2m"), "the label alone is faint")
}

// What was wrong fits a terminal, and is one line for a program.
func TestFault(t *testing.T) {
	fault := &work.Fault{What: "no change sheet is called nothing", Do: "trimlantern status lists them; or make a new one: trimlantern preview, and then another word or two"}
	var out bytes.Buffer
	(&Text{W: &out, Width: 80}).Fault(fault)
	for line := range strings.Lines(out.String()) {
		assert.LessOrEqual(t, len(line), 81)
	}
	assert.Equal(t, 3, strings.Count(out.String(), "\n"))
	out.Reset()
	(&Text{W: &out, Whole: true}).Fault(fault)
	assert.Equal(t, "trimlantern: no change sheet is called nothing\nWhat to do: "+fault.Do+"\n", out.String())
	out.Reset()
	(&Text{W: &out, Whole: true}).Fault(&work.Fault{What: "a\x1b[2J"})
	assert.Equal(t, "trimlantern: a\\x1b[2J\n", out.String())
}

// That PHP loads values as before is said only where it loaded them before.
func TestOpinion(t *testing.T) {
	said := func(p preview.Result) string {
		var out bytes.Buffer
		p.Opinion = &preview.Opinion{Version: "8.2.1", Values: 2, Loaded: 2}
		(&Text{W: &out, Width: 160}).opinion(&p)
		return strings.TrimSpace(out.String())
	}
	assert.Equal(t, "Second opinion: PHP 8.2.1 loads 2 of 2 serialized values after the change, as before.", said(preview.Result{Kind: preview.References}))
	assert.Equal(t, "Second opinion: PHP 8.2.1 loads 2 of 2 serialized values after the change.", said(preview.Result{Kind: preview.Lengths}))
	assert.Equal(t, "Second opinion: PHP 8.2.1 loads 2 of 2 serialized values after the change.", said(preview.Result{Kind: preview.References, Edited: 1}))
}
