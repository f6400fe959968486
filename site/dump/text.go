package dump

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"trimlantern/core/envelope"
)

// form is how a value is written in a dump.
type form uint8

const (
	bare      form = iota // a number, NULL, an expression: never changed
	quoted                // '…' with doubled quotes
	escaped               // '…' with backslashes
	hexText               // 0x…, X'…', '\x…' : bytes in hexadecimal digits
	copyText              // a field of COPY
	copyHex               // a field of COPY that holds bytea
	replaced              // replace(replace('…','\r',char(13)),'\n',char(10)), as SQLite's shell writes
	unistring             // unistr('…\u000a…'), as newer ones write
)

// field is one value of a row. start and end enclose what stands between the
// quotes, or the digits.
type field struct {
	form       form
	start, end int
	holders    []holder // replaced: what stands for control characters
}

type holder struct {
	mark []byte
	is   byte
}

// decode returns the value of a field, with where its bytes came from.
func (f field) decode(b []byte) (envelope.Unescaped, error) {
	raw := b[f.start:f.end]
	switch f.form {
	case quoted:
		if bytes.IndexByte(raw, '\'') < 0 {
			return envelope.NewUnescaped(raw, nil, f.start), nil
		}
	case escaped:
		if bytes.IndexByte(raw, '\\') < 0 && bytes.IndexByte(raw, b[f.start-1]) < 0 {
			return envelope.NewUnescaped(raw, nil, f.start), nil
		}
	case copyText:
		if bytes.IndexByte(raw, '\\') < 0 {
			return envelope.NewUnescaped(raw, nil, f.start), nil
		}
	case hexText, copyHex:
		text := make([]byte, len(raw)/2)
		if _, err := hex.Decode(text, raw); err != nil {
			return envelope.Unescaped{}, fmt.Errorf("a value in hexadecimal digits: %w", err)
		}
		from := make([]int, len(text)+1)
		for i := range from {
			from[i] = f.start + 2*i
		}
		return envelope.NewUnescaped(text, from, 0), nil
	}
	text, from := make([]byte, 0, len(raw)), make([]int, 0, len(raw)+1)
	for p := 0; p < len(raw); {
		from = append(from, f.start+p)
		c, n := raw[p], 1
		switch {
		case f.form == replaced && c != '\'':
			for _, h := range f.holders {
				if bytes.HasPrefix(raw[p:], h.mark) {
					c, n = h.is, len(h.mark)
					break
				}
			}
		case f.form == unistring && c == '\\' && p+1 < len(raw):
			if raw[p+1] == 'u' && p+5 < len(raw) {
				if v, err := strconv.ParseUint(string(raw[p+2:p+6]), 16, 16); err == nil {
					at := from[len(from)-1]
					coded := utf8.AppendRune(nil, rune(v))
					for range coded[1:] {
						from = append(from, at)
					}
					text = append(text, coded...)
					p += 6
					continue
				}
			}
			c, n = raw[p+1], 2
		case (f.form == escaped || f.form == copyText) && c == '\\' && p+1 < len(raw):
			c, n = unescape(f.form, raw[p+1:])
			n++
		case f.form != copyText && c == b[f.start-1] && p+1 < len(raw) && raw[p+1] == c: // a doubled quote
			n = 2
		}
		text = append(text, c)
		p += n
	}
	return envelope.NewUnescaped(text, append(from, f.end), 0), nil
}

// unescape reads what stands behind a backslash and returns how many bytes it takes.
func unescape(f form, b []byte) (byte, int) {
	c := b[0]
	if f == escaped { // MySQL's, and PostgreSQL's E'…'
		if i := strings.IndexByte("0bnrtZ", c); i >= 0 {
			return "\x00\b\n\r\t\x1a"[i], 1
		}
		return c, 1
	}
	if i := strings.IndexByte("bfnrtv", c); i >= 0 {
		return "\b\f\n\r\t\v"[i], 1
	}
	if c >= '0' && c <= '7' {
		v, n := 0, 0
		for n < 3 && n < len(b) && b[n] >= '0' && b[n] <= '7' {
			v, n = v<<3|int(b[n]-'0'), n+1
		}
		return byte(v), n
	}
	return c, 1
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
