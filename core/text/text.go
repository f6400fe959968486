// Package text reads text that is written inside other text: in a JSON string, an
// HTML attribute, a URL, an SQL statement, at any depth and in any order. A layer
// is one way of writing; a stack is several, the outermost first. A region is a
// stretch read through a stack: its plain text, with the place each byte came from,
// so that an edit of the plain text can be carried back.
//
// The layers and their escapes are one table; see layers and escapes.
package text

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Edit replaces bytes of a text. Offset counts in the text before.
type Edit struct {
	Offset   int    `json:"at"`
	Removed  string `json:"out,omitempty"`
	Inserted string `json:"in,omitempty"`
}

// Apply makes the edits. It returns an error where an edit does not fit the
// text: it is out of range, out of order, or what it removes is not there.
func Apply(b []byte, edits []Edit) ([]byte, error) {
	size := len(b)
	for _, e := range edits {
		size += len(e.Inserted) - len(e.Removed)
	}
	out, err := AppendApplied(make([]byte, 0, max(size, 0)), b, edits)
	if err != nil {
		return nil, err
	}
	return out, nil
}

// AppendApplied is Apply; it appends what becomes of b to out. Where there is an error, it returns out as it was.
func AppendApplied(out, b []byte, edits []Edit) ([]byte, error) {
	before, p := len(out), 0
	for _, e := range edits {
		if e.Offset < p || e.Offset > len(b) || len(e.Removed) > len(b)-e.Offset ||
			string(b[e.Offset:e.Offset+len(e.Removed)]) != e.Removed {
			return out[:before], fmt.Errorf("the edit at byte %d does not fit the value", e.Offset)
		}
		out = append(out, b[p:e.Offset]...)
		out = append(out, e.Inserted...)
		p = e.Offset + len(e.Removed)
	}
	return append(out, b[p:]...), nil
}

// Invert returns the edits that take edits back.
func Invert(edits []Edit) []Edit { return AppendInverted(make([]Edit, 0, len(edits)), edits) }

// AppendInverted is Invert; it appends them to back.
func AppendInverted(back, edits []Edit) []Edit {
	moved := 0
	for _, e := range edits {
		back = append(back, Edit{e.Offset + moved, e.Inserted, e.Removed})
		moved += len(e.Inserted) - len(e.Removed)
	}
	return back
}

// Shift moves edits by some bytes, in place.
func Shift(edits []Edit, by int) []Edit {
	for i := range edits {
		edits[i].Offset += by
	}
	return edits
}

// Layer is one way in which text is written inside other text.
type Layer uint8

// The layers.
const (
	HTML    Layer = 1 + iota // character references, as in attributes (HTML §13.2.5.73)
	Percent                  // percent-encoding (RFC 3986 §2.1)
	Script                   // strings of JSON (RFC 8259 §7) and JavaScript
	SQL                      // strings of MySQL and MariaDB
	Slashes                  // a backslash before quotes, backslashes and NUL: PHP's addslashes
	PHP                      // PHP's strings in double quotes
	Single                   // PHP's strings in single quotes: \\ and \'
	Doubled                  // SQL's quotes, written twice
	Sheet                    // CSS (CSS Syntax §4.3.7)
	Form                     // application/x-www-form-urlencoded: percent-encoding with + for a blank
	Cell                     // a field of lines with columns, in quotes that are written twice (RFC 4180 §2)
	Quoted                   // quoted-printable (RFC 2045 §6.7)
	Folded                   // lines that go on after a break and a blank: mail, calendars, cards (RFC 5322 §2.2.3, RFC 5545 §3.1)

	layerCount
)

// layer is a row of the table of layers.
type layer struct {
	name string
	// opens are the bytes that an escape can begin with.
	opens string
	// escape decodes the escape that b begins with; n == 0: what stands there stands
	// for itself.
	escape func(b []byte) (c []byte, n int)
	// write appends one byte of plain text as it is written; like is the source, whose style is kept.
	write func(dst []byte, c byte, like *style) []byte
	// ends are the raw bytes that no text of the layer holds.
	ends string
	// backslash says that the layer is one of those that write \" and \\ alike.
	backslash bool
}

// layers is the one table of layers.
var layers [layerCount]layer

func init() { // not an initializer: the readers use the table
	layers = [layerCount]layer{
		HTML:    {name: "HTML", opens: "&", escape: htmlEscape, write: htmlWrite},
		Percent: {name: "percent", opens: "%", escape: percentEscape, write: percentWrite, ends: "\"<> \t\r\n`\\&#"},
		Script:  {name: "script", opens: `\`, escape: scriptEscape, write: scriptWrite, backslash: true},
		SQL:     {name: "SQL", opens: `\`, escape: sqlEscape, write: sqlWrite, backslash: true},
		Slashes: {name: "slashes", opens: `\`, escape: slashesEscape, write: slashesWrite, backslash: true},
		PHP:     {name: "PHP", opens: `\`, escape: phpEscape, write: phpWrite, backslash: true},
		Single:  {name: "PHP", opens: `\`, escape: singleEscape, write: singleWrite},
		Doubled: {name: "SQL", opens: `'`, escape: doubledEscape, write: doubledWrite},
		Sheet:   {name: "CSS", opens: `\`, escape: sheetEscape, write: sheetWrite},
		Cell:    {name: "cell", opens: `"`, escape: cellEscape, write: cellWrite},
		Quoted:  {name: "quoted-printable", opens: "=", escape: quotedEscape, write: quotedWrite},
		Folded:  {name: "folded lines", opens: "\r\n", escape: foldedEscape, write: foldedWrite},
		Form:    {name: "form", opens: "%+", escape: formEscape, write: formWrite, ends: "\"<> \t\r\n`\\&#"},
	}
	tellSpecials()
}

// String names the layer for people.
func (l Layer) String() string { return layers[l].name }

// Step is one layer of a stack.
type Step struct {
	Layer Layer
	// Stop is a byte that, unescaped, ends the text of the layer; 0: none.
	Stop byte
}

// MaxSteps is how many layers a stack has at the most.
const MaxSteps = 8

// Stack is how a text is written, the outermost layer first. Two stacks are equal
// where == says so.
type Stack struct {
	steps [MaxSteps]Step
	n     uint8
}

// Of returns a stack of layers, the outermost first; steps past MaxSteps are refused
// with ok == false.
func Of(steps ...Step) (s Stack, ok bool) {
	if len(steps) > MaxSteps {
		return s, false
	}
	s.n = uint8(copy(s.steps[:], steps))
	return s, true
}

// Steps returns the layers of the stack, the outermost first.
func (s Stack) Steps() []Step { return s.steps[:s.n] }

// Layers returns its layers, the outermost first.
func (s Stack) Layers() (all []Layer) {
	for _, step := range s.Steps() {
		all = append(all, step.Layer)
	}
	return all
}

// Plain reports whether the text is written as it is.
func (s Stack) Plain() bool { return s.n == 0 }

// Has reports whether a layer is in the stack.
func (s Stack) Has(l Layer) bool {
	for _, t := range s.Steps() {
		if t.Layer == l {
			return true
		}
	}
	return false
}

// Within returns the layers of s inside of those of outer; ok == false: they are too many.
func (s Stack) Within(outer Stack) (both Stack, ok bool) {
	return Of(append(append([]Step(nil), outer.Steps()...), s.Steps()...)...)
}

// Unstopped returns the stack without the bytes that end its layers.
func (s Stack) Unstopped() Stack {
	for i := range s.steps[:s.n] {
		s.steps[i].Stop = 0
	}
	return s
}

// String names the layers from the outermost: "HTML, script".
func (s Stack) String() string {
	var names []string
	for _, t := range s.Steps() {
		names = append(names, t.Layer.String())
	}
	return strings.Join(names, ", ")
}

// with returns the stack with one more layer outside or, after how many, inside.
func (s Stack) with(at int, step Step) (Stack, bool) {
	if int(s.n) == MaxSteps {
		return s, false
	}
	copy(s.steps[at+1:], s.steps[at:s.n])
	s.steps[at] = step
	s.n++
	return s, true
}

// Show shows bytes that are not UTF-8 as \xHH.
func Show(s string) string {
	if utf8.ValidString(s) {
		return s
	}
	var out strings.Builder
	for i, r := range s {
		if r == utf8.RuneError && s[i] != "\ufffd"[0] {
			fmt.Fprintf(&out, `\x%02x`, s[i])
			continue
		}
		out.WriteRune(r)
	}
	return out.String()
}
