package rewrite

import (
	"bytes"
	"strings"

	"trimlantern/core/beside"
	"trimlantern/core/envelope"
	"trimlantern/core/reference"
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

// valuesIn returns the values in a text, in order.
func valuesIn(b []byte) []value {
	for _, find := range []func(b []byte) []value{quoted, folded, cells, fields, attributes} {
		if all := find(b); len(all) > 0 {
			return all // one way of writing after the other
		}
	}
	return nil
}

// quoted returns the parts of a mail in quoted-printable, or all of a text that is written so: each equals sign is followed
// by two hexadecimal digits or a line break.
func quoted(b []byte) (all []value) {
	if !bytes.Contains(b, []byte("=\n")) && !bytes.Contains(b, []byte("=\r\n")) && !bytes.Contains(b, []byte("=3D")) {
		return nil
	}
	lower := bytes.ToLower(b)
	for p := 0; ; {
		n := bytes.Index(lower[p:], []byte("quoted-printable"))
		if n < 0 {
			break
		}
		body, size := blankLine(b[p+n:])
		if body < 0 {
			break
		}
		from := p + n + body + size
		to := len(b)
		if end := bytes.Index(b[from:], []byte("\n--")); end >= 0 {
			to = from + end
		}
		if p = to; isQuoted(b[from:to]) {
			all = append(all, value{span{from, to}, text.Quoted})
		}
	}
	if len(all) == 0 && isQuoted(b) {
		return []value{{span{0, len(b)}, text.Quoted}}
	}
	return all
}

// mayBeBroken reports whether a line may break inside of a scheme, where none can be seen: a first look.
func mayBeBroken(b []byte) bool {
	return bytes.Contains(b, []byte("=\n")) || bytes.Contains(b, []byte("=\r\n")) || bytes.Contains(b, []byte("\r\n ")) || bytes.HasPrefix(b, []byte("BEGIN:V"))
}

// blankLine returns where the first empty line is and how long the breaks around it are; -1 if there is none.
func blankLine(b []byte) (at, size int) {
	for _, s := range []string{"\r\n\r\n", "\n\n"} {
		if at := bytes.Index(b, []byte(s)); at >= 0 {
			return at, len(s)
		}
	}
	return -1, 0
}

// isQuoted reports whether a text is in quoted-printable.
func isQuoted(b []byte) bool {
	soft := false
	for p := 0; ; {
		n := bytes.IndexByte(b[p:], '=')
		if n < 0 {
			return soft && !hasControls(b) // something compressed may hold an equals sign before a line feed
		}
		p += n + 1
		rest := b[p:]
		switch {
		case len(rest) > 0 && rest[0] == '\n' || bytes.HasPrefix(rest, []byte("\r\n")):
			soft = soft || !isPadding(b, p-1)
		case len(rest) > 1 && isHex(rest[0]) && isHex(rest[1]):
			soft = soft || rest[0] == '3' && rest[1] == 'D'
		default:
			return false
		}
	}
}

// hasControls reports whether a text has control characters that no line of a mail has.
func hasControls(b []byte) bool {
	return bytes.ContainsFunc(b, func(c rune) bool { return c < ' ' && c != '\t' && c != '\n' && c != '\r' })
}

// isPadding reports whether the equals sign at p may end a line of base64: a mail's part in base64 is not quoted-printable.
func isPadding(b []byte, p int) bool {
	for p--; p >= 0 && b[p] != '\n'; p-- {
		if !isAlnum(b[p]) && strings.IndexByte("+/=-_", b[p]) < 0 {
			return false
		}
	}
	return true
}

func isHex(c byte) bool { return c >= '0' && c <= '9' || c >= 'A' && c <= 'F' }

// folded returns what has folded lines: a calendar, a card, an entry of a directory, the headers of a mail.
func folded(b []byte) []value {
	if !bytes.Contains(b, []byte("\n ")) && !bytes.Contains(b, []byte("\n\t")) {
		return nil
	}
	head := bytes.TrimLeft(b[:min(len(b), 64)], "\r\n\xef\xbb\xbf")
	end := 0
	switch {
	case bytes.HasPrefix(head, []byte("BEGIN:V")), bytes.HasPrefix(head, []byte("dn:")), bytes.HasPrefix(head, []byte("version: 1")):
		end = len(b)
	default:
		if end, _ = headersOf(b); end == 0 {
			end = lastFold(b)
		}
	}
	if end == 0 || countReferences(text.Decode(b[:end], text.Folded)) <= countReferences(b[:end]) {
		return nil // no address has a fold inside
	}
	return []value{{span{0, end}, text.Folded}}
}

// countReferences counts the characters of all hosts in a text: one that a fold cuts is longer without it.
func countReferences(b []byte) (n int) {
	reference.Find(b, func(r reference.Reference) bool {
		n += len(r.Host)
		return true
	})
	return n
}

// lastFold returns where the headers end of a message that has nothing else.
func lastFold(b []byte) int {
	if !bytes.HasSuffix(b, []byte("\n")) {
		return 0
	}
	if body, _ := headersOf(append(b[:len(b):len(b)], '\n')); body == len(b)+1 {
		return len(b)
	}
	return 0
}

// cells returns the fields, in quotes, of lines with columns that hold a serialized value or JSON, with its quotes doubled.
func cells(b []byte) (all []value) {
	if !bytes.Contains(b, []byte(`""`)) {
		return nil
	}
	for p := 0; p < len(b); {
		n := bytes.IndexByte(b[p:], '"')
		if n < 0 {
			return all
		}
		from := p + n + 1
		to, doubled := cellEnd(b, from)
		if begins := from == 1 || strings.IndexByte(",;\t\n|", b[from-2]) >= 0; !begins || to < 0 || !doubled {
			p = from
			continue
		}
		p = to + 1
		plain := text.Decode(b[from:to], text.Cell)
		if envelope.LooksJSON(plain) || envelope.LooksSerialized(plain) {
			all = append(all, value{span{from, to}, text.Cell})
		}
	}
	return all
}

// cellEnd returns where a field in quotes ends that begins at from, and whether it has doubled quotes; -1 if no separator
// follows its end.
func cellEnd(b []byte, from int) (end int, doubled bool) {
	for p := from; ; {
		n := bytes.IndexByte(b[p:], '"')
		if n < 0 {
			return -1, false
		}
		p += n
		if p+1 < len(b) && b[p+1] == '"' {
			doubled = true
			p += 2
			continue
		}
		if p+1 == len(b) || strings.IndexByte(",;\t\r\n|", b[p+1]) >= 0 {
			return p, doubled
		}
		return -1, false
	}
}

// fields returns the fields of forms that hold a text.
func fields(b []byte) (all []value) {
	for p := 0; ; {
		n := bytes.IndexByte(b[p:], '%')
		if n < 0 {
			return all
		}
		at := p + n
		from, to := at, at
		for from > p && formBytes[b[from-1]] {
			from--
		}
		for to < len(b) && formBytes[b[to]] {
			to++
		}
		p = max(to, at+1)
		if to-from < valueLeast || from > 0 && b[from-1] != '=' || to < len(b) && strings.IndexByte("& \t\r\n\"'<#", b[to]) < 0 || from == 0 && to == len(b) {
			continue
		}
		plain := text.Decode(b[from:to], text.Form)
		if bytes.ContainsAny(plain, textual) && isValue(plain) {
			all = append(all, value{span{from, to}, text.Form})
		}
	}
}

// quotes are how markup writes what would end an attribute or begin a tag.
var quotes = []string{"&quot;", "&#34;", "&#034;", "&#x22;", "&#39;", "&#039;", "&#x27;", "&lt;", "&#60;", "&#x3c;", "&#x3C;"}

// attributes returns the attributes that hold a text with quotes or tags, or a message with headers.
func attributes(b []byte) (all []value) {
	coded := bytes.IndexByte(b, '&') >= 0
	for p := 0; ; {
		n := bytes.Index(b[p:], []byte(`="`))
		if n < 0 {
			return all
		}
		from := p + n + 2
		end := bytes.IndexByte(b[from:], '"')
		if end < 0 {
			return all
		}
		p = from + end
		in := b[from:p]
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
	return (mayHold(plain) || hasPieceMark(plain)) && !envelope.LooksJSON(plain) && !envelope.LooksSerialized(plain) && envelope.IsPlain(plain)
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
	if v.layer == text.Quoted {
		raw = beside.Merge(raw, softBreaks(t.b, v.span, raw))
	}
	t.add(raw)
	t.close(v.start, v.end)
	return v.end
}

// quotedMax is how long a line of quoted-printable is at most (RFC 2045 §6.7).
const quotedMax = 76

// softBreaks returns the edits that break the lines again which edits have made too long. What is longer already stays so.
func softBreaks(b []byte, s span, edits []Edit) (breaks []Edit) {
	for from := s.start; from < s.end; {
		to := s.end
		if n := bytes.IndexByte(b[from:s.end], '\n'); n >= 0 {
			to = from + n
		}
		next, newline := to+1, "=\n"
		if to > from && b[to-1] == '\r' {
			to, newline = to-1, "=\r\n"
		}
		grown, cut := 0, 0
		for _, e := range edits {
			if e.Offset < from || e.Offset >= to {
				continue
			}
			if at := e.Offset + len(e.Removed); at-from+grown < quotedMax {
				grown += len(e.Inserted) - len(e.Removed)
				cut = at
			}
		}
		if grown > 0 && to-from <= quotedMax && to-from+grown > quotedMax {
			// As late as it fits, and not inside of an escape.
			p := from + quotedMax - 1 - grown
			for p >= cut && (b[p-1] == '=' || p > 1 && b[p-2] == '=') {
				p--
			}
			if p < cut { // there is no room after the edit: before it
				for p = cut - len("http"); p > from+1 && (b[p-1] == '=' || b[p-2] == '='); p-- {
				}
			}
			if p > from+1 {
				breaks = append(breaks, Edit{Offset: p, Inserted: newline})
			}
		}
		from = next
	}
	return breaks
}
