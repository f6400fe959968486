package dump

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"trimlantern/core/seek"
	"trimlantern/core/text"
)

// form is how a value is written in a dump.
type form uint8

const (
	bare      form = iota // a number, NULL, a word: never changed
	computed              // an expression that may hold text: only looked at
	quoted                // '…' with doubled quotes
	escaped               // '…' with backslashes
	hexText               // 0x…, X'…', '\x…' : bytes in hexadecimal digits
	copyText              // a field of COPY
	copyHex               // a field of COPY that holds bytea
	replaced              // replace(replace('…','\r',char(13)),'\n',char(10)), as SQLite's shell writes
	dollars               // $tag$…$tag$, without escapes
	unistring             // unistr('…\u000a…'), as newer ones write
)

// field is one value of a row. start and end enclose what stands between the
// quotes, or the digits.
type field struct {
	form       form
	start, end int
	raw        bool     // bytes, or text of a charset of its own
	cast       bool     // the statement says of what type it is
	holders    []holder // replaced: what stands for control characters
}

type holder struct {
	mark []byte
	is   byte
}

// decode returns the value of a field, with where its bytes came from.
// old is memory to use again.
func (f field) decode(b []byte, w wide, old text.Decoded) (text.Decoded, error) {
	raw := b[f.start:f.end]
	if f.form == hexText || f.form == copyHex {
		return f.decodeHex(raw)
	}
	if f.form == dollars {
		return text.Verbatim(raw, f.start), nil
	}
	if w != narrow && f.form == escaped {
		return f.decodeWide(b, w), nil
	}
	next := f.special(b, f.start)
	if next < 0 {
		return text.Verbatim(raw, f.start), nil
	}
	x := old.Again(f.start)
	if len(raw) > largeField { // make room once: growing takes it twice
		x.Room(len(raw), bytes.Count(raw, b[next:next+1]))
	}
	for p := f.start; ; {
		x.Copy(b[p:next])
		if next == f.end {
			return x.Done(), nil
		}
		c, n := f.escape(b, b[next:f.end])
		p = next + n
		x.Escape(p, c...)
		if next = f.special(b, p); next < 0 {
			next = f.end
		}
	}
}

// decodeWide is decode where the second byte of a letter may look like a backslash.
func (f field) decodeWide(b []byte, w wide) text.Decoded {
	x := text.NewBuilder(f.start, f.end-f.start)
	for p := f.start; p < f.end; {
		switch c := b[p]; {
		case w.leads(c) && p+1 < f.end:
			x.Copy(b[p : p+2])
			p += 2
		case c == '\\' || c == b[f.start-1]:
			got, n := f.escape(b, b[p:f.end])
			p += n
			x.Escape(p, got...)
		default:
			x.Copy(b[p : p+1])
			p++
		}
	}
	return x.Done()
}

// largeField is how long a value is that is worth a look at what it will take.
const largeField = 1 << 20

func (f field) decodeHex(raw []byte) (text.Decoded, error) {
	plain := make([]byte, len(raw)/2)
	if _, err := hex.Decode(plain, raw); err != nil {
		return text.Decoded{}, fmt.Errorf("a value in hexadecimal digits: %w", err)
	}
	x := text.NewBuilder(f.start, len(plain))
	for i, c := range plain {
		x.Escape(f.start+2*i+2, c)
	}
	return x.Done(), nil
}

// special returns the place at or after p of what an escape can begin with, or -1.
func (f field) special(b []byte, p int) int {
	b = b[:f.end]
	sought := byte('\'')
	switch f.form {
	case escaped:
		return seek.Either(b, p, b[f.start-1], '\\')
	case unistring:
		return seek.Either(b, p, '\'', '\\')
	case copyText:
		sought = '\\'
	case replaced:
		set := "'"
		for _, h := range f.holders {
			set += string(h.mark[:1])
		}
		if i := bytes.IndexAny(b[p:], set); i >= 0 {
			return p + i
		}
		return -1
	}
	if i := bytes.IndexByte(b[p:], sought); i >= 0 {
		return p + i
	}
	return -1
}

// escape decodes the escape that raw begins with, or takes one byte as it is.
func (f field) escape(b, raw []byte) (text []byte, n int) {
	c := raw[0]
	switch {
	case f.form == replaced && c != '\'':
		for _, h := range f.holders {
			if bytes.HasPrefix(raw, h.mark) {
				return []byte{h.is}, len(h.mark)
			}
		}
	case f.form == unistring && c == '\\' && len(raw) > 1:
		if raw[1] == 'u' && len(raw) > 5 {
			if v, err := strconv.ParseUint(string(raw[2:6]), 16, 16); err == nil {
				return utf8.AppendRune(nil, rune(v)), 6
			}
		}
		return raw[1:2], 2
	case (f.form == escaped || f.form == copyText) && c == '\\' && len(raw) > 1:
		return unescape(f.form, raw[1:])
	case f.form != copyText && c == b[f.start-1] && len(raw) > 1 && raw[1] == c: // a doubled quote
		return raw[:1], 2
	}
	return raw[:1], 1
}

// unescaped are the single bytes that escapes stand for.
var unescaped = func() (all [256]byte) {
	for i := range all {
		all[i] = byte(i)
	}
	return all
}()

// unescape reads what stands behind a backslash and returns how many bytes the
// whole escape takes.
func unescape(f form, b []byte) ([]byte, int) {
	c := b[0]
	one := func(c byte) []byte { return unescaped[c : int(c)+1] }
	if f == escaped { // MySQL's, and PostgreSQL's E'…'
		if i := strings.IndexByte("0bnrtZ", c); i >= 0 {
			return one("\x00\b\n\r\t\x1a"[i]), 2
		}
		return b[:1], 2
	}
	if i := strings.IndexByte("bfnrtv", c); i >= 0 {
		return one("\b\f\n\r\t\v"[i]), 2
	}
	if c >= '0' && c <= '7' {
		v, n := 0, 0
		for n < 3 && n < len(b) && b[n] >= '0' && b[n] <= '7' {
			v, n = v<<3|int(b[n]-'0'), n+1
		}
		return one(byte(v)), n + 1
	}
	return b[:1], 2
}

// encode writes text as it stands in a field.
func (f field) encode(b []byte, s string) string {
	switch f.form {
	case hexText, copyHex:
		out := hex.EncodeToString([]byte(s))
		if bytes.ContainsAny(b[f.start:f.end], "ABCDEF") {
			out = strings.ToUpper(out)
		}
		return out
	case quoted:
		return strings.ReplaceAll(s, "'", "''")
	case escaped:
		return mysqlEscaper.Replace(s)
	case copyText:
		return copyEscaper.Replace(s)
	case replaced:
		s = strings.ReplaceAll(s, "'", "''")
		for _, h := range f.holders {
			s = strings.ReplaceAll(s, string(rune(h.is)), string(h.mark))
		}
	case unistring:
		s = strings.NewReplacer("'", "''", `\`, `\\`, "\n", `\u000a`, "\r", `\u000d`).Replace(s)
	}
	return s
}

var (
	mysqlEscaper = strings.NewReplacer("\x00", `\0`, "\n", `\n`, "\r", `\r`, "\x1a", `\Z`, `\`, `\\`, "'", `\'`, `"`, `\"`)
	copyEscaper  = strings.NewReplacer("\b", `\b`, "\f", `\f`, "\n", `\n`, "\r", `\r`, "\t", `\t`, "\v", `\v`, `\`, `\\`)
)
