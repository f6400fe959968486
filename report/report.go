// Package report writes results for people and for programs. Everything that
// came from a database, a page or a server is shown, never sent, to a terminal.
package report

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"trimlantern/work"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Width is how many columns a report for people takes where nobody says how many there are.
const Width = 80

// Bounds of what is made of the columns of a terminal: prose of longer lines is hard to read, and of shorter ones too.
const (
	narrowest = 40
	widestRun = 100 // of prose
	widest    = 160 // of tables
	alone     = 60  // a text that may be so long has its line to itself
)

// Version is the version of results as JSON: it grows when a field changes its meaning.
const Version = 1

// JSON writes a result with stable field names, indented, with its version first. Characters that a
// terminal would act on are escaped, as JSON itself does with control characters.
func JSON(w io.Writer, v any) error {
	var buf bytes.Buffer
	if err := bareJSON(&buf, v); err != nil {
		return err
	}
	text := buf.String()
	if rest, ok := strings.CutPrefix(text, "{\n"); ok {
		text = fmt.Sprintf("{\n  \"version\": %d,\n%s", Version, rest)
	}
	_, err := io.WriteString(w, text)
	return err
}

// bareJSON is JSON for the formats of others, which have versions of their own.
func bareJSON(w io.Writer, v any) error {
	b, err := json.Marshal(v, stable, jsontext.WithIndent("  "))
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, shown(string(b))+"\n")
	return err
}

// stable is how results are written: lists and groups without anything in them are [] and {}, never null; names are in
// one order; what is no UTF-8 is shown as such; times are in whole seconds (RFC 3339).
var stable = json.JoinOptions(json.Deterministic(true), jsonv1.OmitEmptyWithLegacySemantics(true), jsontext.AllowInvalidUTF8(true),
	json.WithMarshalers(json.MarshalToFunc(func(e *jsontext.Encoder, t time.Time) error {
		return e.WriteToken(jsontext.String(t.UTC().Format(time.RFC3339)))
	})))

// shown escapes in JSON what a terminal would act on.
func shown(s string) string {
	var out strings.Builder
	for _, c := range s {
		if c == '\n' || !hidden(c) {
			out.WriteRune(c)
			continue
		}
		for _, unit := range utf16.Encode([]rune{c}) {
			fmt.Fprintf(&out, `\u%04x`, unit)
		}
	}
	return out.String()
}

// hidden reports whether a character is one that a terminal acts on, that reorders a line, or that is ours: see thin.
func hidden(c rune) bool {
	return c < ' ' || c >= 0x7f && c < 0xa0 || unicode.Is(unicode.Cf, c) || c == 0x2028 || c == 0x2029 || c == 0x202f
}

// Text writes results for people.
type Text struct {
	W     io.Writer
	Color bool
	Rich  bool // of 256 colours, and not of 8
	Whole bool // nothing is shortened: the result goes to a program or a file
	Width int  // columns that there are; 0: nobody says
	ASCII bool // W shows no other characters: what report itself writes is kept to them
	All   bool // lists are written to their ends
	err   error
}

// Err returns the first error of writing.
func (t *Text) Err() error { return t.err }

func (t *Text) printf(format string, args ...any) {
	if t.err == nil {
		_, t.err = io.WriteString(t.W, t.plain(fmt.Sprintf(format, args...)))
	}
}

// columns returns how many columns there are, as far as they are of use.
func (t *Text) columns() int {
	if t.Width == 0 {
		return Width
	}
	return min(max(t.Width, narrowest), widest)
}

// plain takes what groups the digits of numbers out of a text that a program may read. Nothing else holds it: see Clean.
func (t *Text) plain(s string) string {
	if t.Whole {
		s = strings.ReplaceAll(s, thin, "")
	}
	if t.ASCII {
		s = spelled.Replace(s)
	}
	return s
}

// spelled writes our own signs in ASCII.
var spelled = strings.NewReplacer(thin, " ", "…", "...", "→", "->", "×", "x")

func (t *Text) paint(s string, c ...text.Color) string {
	if !t.Color {
		return s
	}
	return escape(c) + s + "\x1b[0m"
}

func escape(c []text.Color) string {
	codes := make([]string, len(c))
	for i, one := range c {
		codes[i] = strconv.Itoa(int(one))
	}
	return "\x1b[" + strings.Join(codes, ";") + "m"
}

func (t *Text) good(s string) string  { return t.paint(s, text.FgGreen) }
func (t *Text) faint(s string) string { return t.paint(s, text.Faint) }

// care paints what needs attention, readable on a dark and on a light background: in orange, or where a terminal has
// eight colours, in magenta. Nobody reads yellow on white.
func (t *Text) care(s string) string {
	if t.Color && t.Rich {
		return "\x1b[38;5;172m" + s + "\x1b[0m"
	}
	return t.paint(s, text.FgMagenta)
}

func (t *Text) bad(s string) string { return t.paint(s, text.FgRed, text.Bold) }

// Fault says what went wrong and what to do, in lines that fit a terminal; a program gets each in one line.
func (t *Text) Fault(f *work.Fault) {
	for _, line := range []string{"trimlantern: " + Clean(f.Error()), "What to do: " + Clean(f.Do)} {
		switch {
		case f.Do == "" && strings.HasPrefix(line, "What to do"):
		case t.Whole:
			t.printf("%s\n", line)
		default:
			t.wrap("", line)
		}
	}
}

// heading writes the title of a part.
func (t *Text) heading(s string) { t.printf("\n%s\n", t.paint(s, text.Bold)) }

// next ends a report with what to do.
func (t *Text) next(s string) { t.printf("\nNext: %s\n", t.paint(s, text.Bold)) }

// rows writes a table, indented by two. A header that begins with > is of a
// column of numbers.
func (t *Text) rows(header []string, rows [][]string) {
	w := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.Options{}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	style.Format.Footer = text.FormatDefault
	w.SetStyle(style)
	var head table.Row
	var configs []table.ColumnConfig
	for i, h := range header {
		c := table.ColumnConfig{Number: i + 1}
		if strings.HasPrefix(h, ">") {
			c.Align, c.AlignHeader = text.AlignRight, text.AlignRight
		}
		configs = append(configs, c)
		if h = strings.TrimPrefix(h, ">"); !strings.HasPrefix(h, "\x1b") { // painted already
			h = t.faint(h)
		}
		head = append(head, h)
	}
	w.SetColumnConfigs(configs)
	if header != nil && strings.Join(header, "") != "" {
		w.AppendHeader(head)
	}
	for _, r := range rows {
		row := make(table.Row, len(r))
		for i, c := range r {
			row[i] = t.plain(c)
		}
		w.AppendRow(row)
	}
	for line := range strings.Lines(w.Render() + "\n") {
		t.printf("  %s\n", strings.TrimRight(line, " \n"))
	}
}

// wrap writes words in lines that fit, indented.
func (t *Text) wrap(indent, s string) {
	for _, line := range t.lines(s, len(indent)) {
		t.printf("%s%s\n", indent, line)
	}
}

// labelled writes words behind a faint label, in lines that fit.
func (t *Text) labelled(indent, label, s string) {
	for i, line := range t.lines(s, len(indent)+len(label)+1) {
		if i == 0 {
			t.printf("%s%s %s\n", indent, t.faint(label), line)
		} else {
			t.printf("%s%*s%s\n", indent, len(label)+1, "", line)
		}
	}
}

// hanging writes words behind what stands before their first line, the others below.
func (t *Text) hanging(before, s string) {
	for i, line := range t.lines(s, len(before)) {
		if i > 0 {
			before = strings.Repeat(" ", len(before))
		}
		t.printf("%s%s\n", before, line)
	}
}

// lines breaks words into lines that fit behind an indent.
func (t *Text) lines(s string, indent int) (out []string) {
	for line := range strings.Lines(text.WrapSoft(s, min(t.columns(), widestRun)-indent) + "\n") {
		if line = strings.TrimRight(line, " \n"); line != "" {
			out = append(out, line)
		}
	}
	return out
}

// Clean makes a text from outside safe to print: control characters, bytes that
// are no UTF-8 and characters that reorder a line are shown as escapes.
func Clean(s string) string {
	var out strings.Builder
	for i := 0; i < len(s); {
		c, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case c == utf8.RuneError && n == 1:
			fmt.Fprintf(&out, `\x%02x`, s[i])
		case hidden(c) && c < 0x100:
			fmt.Fprintf(&out, `\x%02x`, c)
		case hidden(c):
			fmt.Fprintf(&out, `\u{%x}`, c)
		default:
			out.WriteRune(c)
		}
		i += n
	}
	return out.String()
}

// clip cleans a text and shortens it in the middle to n columns.
func clip(s string, n int) string {
	s = Clean(s)
	if text.StringWidth(s) <= n {
		return s
	}
	r := []rune(s)
	head := (n - 1) * 2 / 3
	tail := n - 1 - head
	return string(r[:min(head, len(r))]) + "…" + string(r[max(0, len(r)-tail):])
}

// thin stands between groups of thousands: a narrow space, at which no line ends.
const thin = "\u202f"

// number writes a count with thin groups of thousands.
func number[N int | int64](n N) string {
	s := strconv.FormatInt(int64(n), 10)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + thin + s[i:]
	}
	return s
}

// plural writes a count with its word.
func plural[N int | int64](n N, word string) string {
	switch {
	case n == 1:
	case strings.HasSuffix(word, "ss"):
		word += "es"
	default:
		word += "s"
	}
	return number(n) + " " + word
}

// clip shortens a text for a terminal, and leaves it whole for a program. n is how long it may be in 80 columns; where
// there are more, it may be longer.
func (t *Text) clip(s string, n int) string {
	if t.Whole {
		return Clean(s)
	}
	more := max(0, t.columns()-Width)
	if n < alone {
		more /= 3 // others may stand beside it
	}
	return clip(s, n+more)
}

func byCount(counts map[string]int) []string {
	return slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(counts[b]-counts[a], strings.Compare(a, b))
	})
}

// clipEnd cleans a text and cuts it at n columns.
func clipEnd(s string, n int) string {
	r := []rune(Clean(s))
	if len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return string(r)
}

func padRunes(s string, n int) string {
	if w := len([]rune(s)); w < n {
		return s + strings.Repeat(" ", n-w)
	}
	return s
}

// fileList names files: of many, the first and the last.
func fileList(names []string) string {
	if len(names) > 4 {
		return fmt.Sprintf("%s to %s, %s", names[0], filepath.Base(names[len(names)-1]), plural(len(names), "file"))
	}
	return strings.Join(names, ", ")
}
