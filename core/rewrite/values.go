package rewrite

import (
	"bytes"
	"strings"

	"trimlantern/core/envelope"
	"trimlantern/core/text"
)

// A value is a text of its own that is written in a field of a form or an attribute of markup:
//
//	a=1&text=See+http%3A%2F%2Fternrock.example%2F%0A31%3A…
//	<div data-text="&lt;p&gt;…">
//
// It is decoded and opened as a text: what is in lines, headers, markup or quotes there is seen as such.
type value struct {
	span
	layer text.Layer
}

// formBytes are the bytes of a field of a form as browsers write it, with those that encodeURIComponent leaves.
var formBytes = func() (t [256]bool) {
	for c := range 256 {
		t[c] = isAlnum(byte(c)) || strings.IndexByte("%+._~*!()-'", byte(c)) >= 0
	}
	return t
}()

// textual are characters that a text has and a lone address has not.
const textual = " \t\r\n\"'<>{}()$^|"

// valueLeast is how long a value is at least: shorter ones hold no address.
const valueLeast = 12

// values returns the values in the text, in order.
func (t *reading) values() (all []value) {
	if t.depth+1 >= maxDepth {
		return nil
	}
	all = t.fields()
	if bytes.Contains(t.b, []byte(`="`)) {
		all = append(all, t.attributes(all)...)
	}
	return all
}

// fields returns the fields of forms that hold a text.
func (t *reading) fields() (all []value) {
	for p := 0; ; {
		n := bytes.IndexByte(t.b[p:], '%')
		if n < 0 {
			return all
		}
		at := p + n
		from, to := at, at
		for from > p && formBytes[t.b[from-1]] {
			from--
		}
		for to < len(t.b) && formBytes[t.b[to]] {
			to++
		}
		p = max(to, at+1)
		if to-from < valueLeast || from > 0 && t.b[from-1] != '=' || to < len(t.b) && strings.IndexByte("& \t\r\n\"'<#", t.b[to]) < 0 || from == 0 && to == len(t.b) {
			continue
		}
		plain := text.Decode(t.b[from:to], text.Form)
		if bytes.ContainsAny(plain, textual) && isValue(plain) {
			all = append(all, value{span{from, to}, text.Form})
		}
	}
}

// quotes are how markup writes what would end an attribute or begin a tag.
var quotes = []string{"&quot;", "&#34;", "&#034;", "&#x22;", "&#39;", "&#039;", "&#x27;", "&lt;", "&#60;", "&#x3c;", "&#x3C;"}

// attributes returns the attributes that hold a text with quotes or tags, or a message with headers.
func (t *reading) attributes(fields []value) (all []value) {
	if len(fields) > 0 {
		return nil // one way of writing after the other
	}
	coded := bytes.IndexByte(t.b, '&') >= 0
	for p := 0; ; {
		n := bytes.Index(t.b[p:], []byte(`="`))
		if n < 0 {
			return all
		}
		from := p + n + 2
		end := bytes.IndexByte(t.b[from:], '"')
		if end < 0 {
			return all
		}
		p = from + end
		in := t.b[from:p]
		if len(in) < valueLeast {
			continue
		}
		is := false
		for _, q := range quotes {
			is = is || coded && bytes.Contains(in, []byte(q))
		}
		if !is && bytes.IndexByte(in, '\n') >= 0 {
			body, _ := headersOf(in)
			is = body > 0
		}
		if is && isValue(text.Decode(in, text.HTML)) {
			all = append(all, value{span{from, p}, text.HTML})
		}
	}
}

// isValue reports whether a decoded text is to be opened by itself: something may be in it, and it is not an envelope,
// which is opened through its layers.
func isValue(plain []byte) bool {
	return (MayHold(plain) || mayBePieces(plain)) && !envelope.LooksJSON(plain) && !envelope.LooksSerialized(plain) && envelope.IsPlain(plain)
}

// mayBePieces is a first look for what pieces finds.
func mayBePieces(b []byte) bool {
	return bytes.Contains(b, []byte("http")) || bytes.Contains(b, []byte("ptth")) || bytes.Contains(b, []byte("104"))
}

// value opens a value. It returns where it ends, or 0 if it is read as a part of the text around it.
func (t *reading) value(v value) int {
	stack, ok := text.Of(text.Step{Layer: v.layer})
	if !ok {
		return 0
	}
	r := text.Open(t.b[:v.end], v.start, stack, v.end-v.start)
	if r.Raw(len(r.Text)) != v.end {
		return 0
	}
	before := t.save()
	restore := t.decoded()
	here := &place{up: t.at, pos: v.start, use: t.useOf(v.start)}
	t.pieces(r.Text, here)
	inner := t.open(r.Text, here, t.depth+1)
	restore()
	raw, ok := r.Carry(inner)
	if !ok {
		t.restore(before)
		return 0
	}
	t.references(v.start)
	t.add(raw)
	t.close(v.start, v.end)
	return v.end
}
