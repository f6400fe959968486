package change

import (
	"bytes"
	"encoding/base64"
	"io"
	"math"
	"slices"
	"strconv"
	"unicode/utf8"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"

	"trimlantern/core/rewrite"
)

// Sheets and journals have a line for each cell: those two kinds of lines are written
// and read by hand, since reflection costs more there than everything else. The JSON
// library writes and reads all others, and every line of these two that does
// not look exactly as it is written here.

// asBefore makes the encoding that of the standard library's first version.
var asBefore = json.JoinOptions(jsonv1.DefaultOptionsV1(), jsontext.EscapeForHTML(false), jsontext.EscapeForJS(false), jsontext.AllowInvalidUTF8(false))

// appendLine adds v as one line.
func appendLine(b []byte, v any) ([]byte, error) {
	j, err := json.Marshal(v, asBefore)
	return append(append(b, j...), '\n'), err
}

// appendCell adds the line of a cell.
func appendCell(b []byte, c *Cell) ([]byte, error) {
	w := writer{b: b}
	w.is(`{"cell":{"table":`).text(c.Table).is(`,"key":`).key(c.Key).is(`,"column":`).text(c.Column)
	w.is(`,"size":`).number(c.Size).is(`,"before":`).text(c.Before).is(`,"after":`).text(c.After)
	w.is(`,"edits":`).edits(c.Edits).is(`,"references":`).number(c.References).is(`,"hosts":`).hosts(c.Hosts)
	if c.Address {
		w.is(`,"address":true`)
	}
	if c.With != "" {
		w.is(`,"with":`).text(c.With)
	}
	return w.is("}}\n").b, w.err
}

// appendEntry adds the line of an entry.
func appendEntry(b []byte, e *Entry) ([]byte, error) {
	w := writer{b: b}
	return w.entry(e).b, w.err
}

// entry writes the line of an entry.
func (w *writer) entry(e *Entry) *writer {
	w.is(`{"entry":{"table":`).text(e.Table).is(`,"key":`).key(e.Key).is(`,"column":`).text(e.Column)
	w.is(`,"before":`).value(e.Before).is(`,"after":`).text(e.After).is(`,"edits":`).edits(e.Edits)
	if e.Raw != "" {
		w.is(`,"raw":`).text(e.Raw)
	}
	if e.As != "" {
		w.is(`,"as":`).text(e.As)
	}
	if e.With != "" {
		w.is(`,"with":`).text(e.With)
	}
	return w.is("}}\n")
}

// writer puts a line together.
type writer struct {
	b   []byte
	err error
	out io.Writer // where set, large values do not stay in b
}

func (w *writer) is(s string) *writer {
	w.b = append(w.b, s...)
	return w
}

func (w *writer) number(n int) *writer {
	w.b = strconv.AppendInt(w.b, int64(n), 10)
	return w
}

func (w *writer) text(s string) *writer {
	b, err := jsontext.AppendQuote(w.b, s)
	if w.b = b; w.err == nil {
		w.err = err
	}
	return w
}

func (w *writer) value(v Value) *writer {
	if w.out != nil && len(v) > valuePiece {
		return w.large(v)
	}
	if utf8.Valid(v) {
		w.b, _ = jsontext.AppendQuote(w.b, v)
		return w
	}
	w.is(`{"base64":"`)
	w.b = base64.StdEncoding.AppendEncode(w.b, v)
	return w.is(`"}`)
}

// valuePiece is how much of a large value is written at once: a number of bytes that base64 writes without padding.
const valuePiece = 3 << 18

// large writes a value in pieces, as it would be written whole.
func (w *writer) large(v Value) *writer {
	text, begin, end := utf8.Valid(v), `"`, `"`
	if !text {
		begin, end = `{"base64":"`, `"}`
	}
	w.is(begin)
	for len(v) > 0 {
		n := min(len(v), valuePiece)
		if text {
			for n < len(v) && !utf8.RuneStart(v[n]) {
				n--
			}
			from := len(w.b)
			w.b, _ = jsontext.AppendQuote(w.b, v[:n])
			w.b = append(w.b[:from], w.b[from+1:len(w.b)-1]...) // without its quotes
		} else {
			w.b = base64.StdEncoding.AppendEncode(w.b, v[:n])
		}
		v = v[n:]
		if _, err := w.out.Write(w.b); w.err == nil {
			w.err = err
		}
		w.b = w.b[:0]
	}
	return w.is(end)
}

func (w *writer) key(key []Value) *writer {
	return list(w, key, func(v *Value) { w.value(*v) })
}

func (w *writer) edits(edits []Edit) *writer {
	return list(w, edits, func(e *Edit) {
		w.is(`{"at":`).number(e.At)
		if len(e.Out) > 0 {
			w.is(`,"out":`).value(e.Out)
		}
		if len(e.In) > 0 {
			w.is(`,"in":`).value(e.In)
		}
		w.is("}")
	})
}

func (w *writer) hosts(hosts []rewrite.HostCount) *writer {
	return list(w, hosts, func(h *rewrite.HostCount) {
		w.is(`{"host":`).text(h.Host).is(`,"count":`).number(h.Count).is("}")
	})
}

// list writes the things in brackets.
func list[T any](w *writer, things []T, write func(*T)) *writer {
	if things == nil {
		return w.is("null")
	}
	w.is("[")
	for i := range things {
		if i > 0 {
			w.is(",")
		}
		write(&things[i])
	}
	return w.is("]")
}

// readCell reads the line of a cell. It reports whether the line looks as appendCell writes it;
// others are for the library. like is the cell before, whose words are used again. Of a lent one the bytes stay in the
// line, and it may be the one before.
func readCell(b []byte, c, like *Cell, lent bool) bool {
	r := reader{b: b, lent: lent}
	r.is(`{"cell":{"table":`)
	c.Table = r.text(like.Table)
	r.is(`,"key":`)
	c.Key = several(&r, c.Key, r.value)
	r.is(`,"column":`)
	c.Column = r.text(like.Column)
	r.is(`,"size":`)
	c.Size = r.number()
	r.is(`,"before":`)
	c.Before = r.text("")
	r.is(`,"after":`)
	c.After = r.text("")
	r.is(`,"edits":`)
	c.Edits = r.edits(c.Edits)
	r.is(`,"references":`)
	c.References = r.number()
	r.is(`,"hosts":`)
	c.Hosts = r.hosts(like.Hosts)
	c.Address = r.may(`,"address":true`)
	c.With = r.mayText(`,"with":`, like.With)
	r.is("}}\n")
	return !r.other && len(r.b) == 0
}

// readEntry reads the line of an entry, as readCell does that of a cell.
func readEntry(b []byte, like *Entry) (*Entry, bool) {
	r := reader{b: b}
	e := &Entry{}
	r.is(`{"entry":{"table":`)
	e.Table = r.text(like.Table)
	r.is(`,"key":`)
	e.Key = several(&r, nil, r.value)
	r.is(`,"column":`)
	e.Column = r.text(like.Column)
	r.is(`,"before":`)
	e.Before = r.value()
	r.is(`,"after":`)
	e.After = r.text("")
	r.is(`,"edits":`)
	e.Edits = r.edits(nil)
	e.Raw = r.mayText(`,"raw":`, "")
	e.As = r.mayText(`,"as":`, like.As)
	e.With = r.mayText(`,"with":`, like.With)
	r.is("}}\n")
	return e, !r.other && len(r.b) == 0
}

// reader takes a line apart.
type reader struct {
	b     []byte // what is still to be read
	other bool   // it does not look as a writer writes it
	lent  bool   // bytes and lists may stay where they are: what they are for is gone with the line
}

// may reads s where it stands there.
func (r *reader) may(s string) bool {
	if r.other || len(r.b) < len(s) || string(r.b[:len(s)]) != s {
		return false
	}
	r.b = r.b[len(s):]
	return true
}

// mayText reads a text behind s where it stands there; an empty one is never written.
func (r *reader) mayText(s, like string) string {
	if !r.may(s) {
		return ""
	}
	text := r.text(like)
	r.other = r.other || text == ""
	return text
}

func (r *reader) is(s string) {
	if !r.may(s) {
		r.other = true
	}
}

// number reads a whole number that is not negative.
func (r *reader) number() int {
	n, i := 0, 0
	for ; i < len(r.b) && r.b[i]-'0' < 10 && n < math.MaxInt/100; i++ {
		n = 10*n + int(r.b[i]-'0')
	}
	if i == 0 || i > 1 && r.b[0] == '0' {
		r.other = true
	}
	r.b = r.b[i:]
	return n
}

var noText = []byte(`""`)

// quoted reads a string as it stands there, with its quotes, and tells whether it means what stands
// between them.
func (r *reader) quoted() (s []byte, plain bool) {
	whole := r.b
	if !r.may(`"`) {
		r.other = true
		return noText, true
	}
	for end := 0; ; end++ {
		i := bytes.IndexByte(r.b[end:], '"')
		if i < 0 {
			r.other = true
			return noText, true
		}
		end += i
		escapes := 0
		for escapes < end && r.b[end-1-escapes] == '\\' {
			escapes++
		}
		if escapes%2 == 1 {
			continue
		}
		s, r.b = whole[:1+end+1], r.b[end+1:]
		for _, c := range s[1 : 1+end] {
			if c < ' ' || c == '\\' || c >= utf8.RuneSelf {
				return s, false
			}
		}
		return s, true
	}
}

// unquoted returns what a string in quotes means that is not plain.
func (r *reader) unquoted(s []byte) []byte {
	out, err := jsontext.AppendUnquote(make([]byte, 0, len(s)), s)
	if err != nil {
		r.other = true
	}
	return out
}

// text reads a string; like is used where it is the same.
func (r *reader) text(like string) string {
	s, plain := r.quoted()
	if plain {
		s = s[1 : len(s)-1]
	} else {
		s = r.unquoted(s)
	}
	if string(s) == like {
		return like
	}
	return string(s)
}

// value reads bytes; such that are no UTF-8 are for the library.
func (r *reader) value() Value {
	s, plain := r.quoted()
	if !plain {
		return r.unquoted(s)
	}
	if s = s[1 : len(s)-1]; r.lent {
		return s[:len(s):len(s)]
	}
	return Value(slices.Clone(s))
}

// edits reads a list of edits; out has memory for it.
func (r *reader) edits(out []Edit) []Edit {
	return several(r, out, func() (e Edit) {
		r.is(`{"at":`)
		e.At = r.number()
		if r.may(`,"out":`) {
			e.Out = r.some()
		}
		if r.may(`,"in":`) {
			e.In = r.some()
		}
		r.is("}")
		return e
	})
}

// some reads bytes that are there.
func (r *reader) some() Value {
	v := r.value()
	if len(v) == 0 {
		r.other = true // is never written
	}
	return v
}

// hosts reads how often each host was found; like is used where it is the same.
func (r *reader) hosts(like []rewrite.HostCount) []rewrite.HostCount {
	n := 0
	hosts := several(r, nil, func() (h rewrite.HostCount) {
		r.is(`{"host":`)
		if n < len(like) {
			h.Host = like[n].Host
		}
		h.Host = r.text(h.Host)
		r.is(`,"count":`)
		h.Count = r.number()
		r.is("}")
		n++
		return h
	})
	if len(hosts) > 0 && slices.Equal(hosts, like) {
		return like
	}
	return hosts
}

// several reads what list writes; where it is lent, into the memory of out.
func several[T any](r *reader, out []T, one func() T) []T {
	if r.may("null") {
		return nil
	}
	if out = out[:0]; !r.lent || out == nil {
		out = []T{}
	}
	for r.is("["); !r.other && !r.may("]"); {
		if len(out) > 0 {
			r.is(",")
		}
		out = append(out, one())
	}
	return out
}
