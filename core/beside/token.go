package beside

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"strconv"
	"strings"
)

// Token is a stretch of a text that may be a digest of something else there: hexadecimal digits, base64 or a decimal
// number.
type Token struct {
	Start, End int
	form       form
	raw        []byte // its bytes; an odd last digit is in the upper half of the last one
}

// form is how a token is written.
type form uint8

const (
	lowHex form = iota
	highHex
	dashed // as a UUID: 8-4-4-4-12 hexadecimal digits
	decimal
	sixBits // base64, in one of its alphabets, with or without padding
)

// leastDigits is how many hexadecimal digits can be evidence: 32 bits. Fewer are equal by chance too often.
const leastDigits = 8

// What a byte can be a part of.
const (
	isHex    = 1 << iota
	isBase64 // of either alphabet
	isLetter // a letter or digit: a token ends only where none follows
)

var byteKinds = func() (t [256]uint8) {
	for c := range 256 {
		b := byte(c)
		digit, low := b >= '0' && b <= '9', b|0x20
		letter := low >= 'a' && low <= 'z'
		if digit || low >= 'a' && low <= 'f' {
			t[c] |= isHex
		}
		if digit || letter {
			t[c] |= isLetter
		}
		if digit || letter || bytes.IndexByte([]byte("+/-_"), b) >= 0 {
			t[c] |= isBase64
		}
	}
	return t
}()

// maxTokens bounds how many tokens of one text are looked at.
const maxTokens = 1 << 14

// Tokens returns the tokens of a text, from the first to the last.
func Tokens(b []byte) (all []Token) {
	for p := 0; p < len(b) && len(all) < maxTokens; {
		if byteKinds[b[p]]&isBase64 == 0 {
			p++
			continue
		}
		end := p + 1
		for end < len(b) && byteKinds[b[end]]&isBase64 != 0 {
			end++
		}
		if end-p >= leastDigits-1 {
			all = appendRuns(all, b, p, end)
		}
		p = end
	}
	return all
}

// appendRuns appends the tokens of a run of base64's alphabet.
func appendRuns(all []Token, b []byte, from, to int) []Token {
	hex := uint8(isHex)
	for _, c := range b[from:to] {
		hex &= byteKinds[c]
	}
	if hex == 0 {
		all = appendBase64(all, b, from, to)
	}
	return appendDigits(all, b, from, to)
}

// appendDigits appends the runs of digits in b[from:to] that no other letter touches.
func appendDigits(all []Token, b []byte, from, to int) []Token {
	for p := from; p < to; {
		if byteKinds[b[p]]&isHex == 0 {
			p++
			continue
		}
		end := p + 1
		for end < to && byteKinds[b[end]]&isHex != 0 {
			end++
		}
		whole := (p == 0 || byteKinds[b[p-1]]&isLetter == 0) && (end == len(b) || byteKinds[b[end]]&isLetter == 0)
		if whole && end-p == 8 && end+28 <= len(b) {
			if uuid := b[p : end+28]; uuid[8] == '-' && uuid[13] == '-' && uuid[18] == '-' && uuid[23] == '-' {
				if raw, err := hex.DecodeString(string(bytes.ReplaceAll(uuid, []byte("-"), nil))); err == nil && len(raw) == 16 {
					all = append(all, Token{p, end + 28, dashed, raw})
					p = end + 28
					continue
				}
			}
		}
		if whole && end-p >= leastDigits-1 && end-p <= 128 {
			all = appendRun(all, b, p, end)
		}
		p = end
	}
	return all
}

// appendRun appends a run of digits, as hexadecimal and as decimal ones.
func appendRun(all []Token, b []byte, p, end int) []Token {
	run := b[p:end]
	digits, low, high := true, true, true
	for _, c := range run {
		digits = digits && c <= '9'
		low = low && (c <= '9' || c >= 'a')
		high = high && (c <= '9' || c <= 'F')
	}
	if digits && len(run) <= 20 {
		start := p
		if p > 0 && b[p-1] == '-' && (p == 1 || byteKinds[b[p-2]]&isLetter == 0) {
			start--
		}
		if raw := decimalBytes(string(b[start:end])); raw != nil {
			all = append(all, Token{start, end, decimal, raw})
		}
	}
	if len(run) < leastDigits || !low && !high {
		return all
	}
	kind := lowHex
	if !low {
		kind = highHex
	}
	padded := run
	if len(run)%2 == 1 {
		padded = append(append([]byte(nil), run...), '0')
	}
	raw, err := hex.DecodeString(string(padded))
	if err != nil {
		return all // it was read as digits
	}
	return append(all, Token{p, end, kind, raw})
}

// decimalBytes returns a decimal number as the bytes of a digest: of 32 bits, if it fits, otherwise of 64.
func decimalBytes(s string) []byte {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		u, err := strconv.ParseUint(s, 10, 64)
		if err != nil {
			return nil
		}
		return binary.BigEndian.AppendUint64(nil, u)
	}
	if n >= -1<<31 && n < 1<<32 {
		return binary.BigEndian.AppendUint32(nil, uint32(n))
	}
	return binary.BigEndian.AppendUint64(nil, uint64(n))
}

// base64Sizes are how many characters of base64, without padding, digests have, by their number of bytes.
var base64Sizes = [87]int{22: 16, 27: 20, 38: 28, 43: 32, 64: 48, 86: 64}

// appendBase64 appends what in the run b[from:to] has the size of a digest: all of it, what follows a prefix like
// "sha256-", or one segment of a path.
func appendBase64(all []Token, b []byte, from, to int) []Token {
	try := func(start, end int) bool {
		if end-start >= len(base64Sizes) || base64Sizes[end-start] == 0 {
			return false
		}
		enc := base64.RawStdEncoding
		if bytes.ContainsAny(b[start:end], "-_") {
			enc = base64.RawURLEncoding
		}
		raw, err := enc.DecodeString(string(b[start:end]))
		if err != nil {
			return false
		}
		for pad := 0; pad < 2 && (end-start)%4 != 0 && end < len(b) && b[end] == '='; pad++ {
			end++
		}
		all = append(all, Token{start, end, sixBits, raw})
		return true
	}
	if try(from, to) {
		return all
	}
	if cut := bytes.IndexByte(b[from:min(to, from+10)], '-'); cut > 0 && try(from+cut+1, to) {
		return all
	}
	if bytes.IndexByte(b[from:to], '/') < 0 {
		return all
	}
	for p := from; p < to; {
		end := p
		for end < to && b[end] != '/' {
			end++
		}
		try(p, end)
		p = end + 1
	}
	return all
}

// is reports whether the token is a digest, or the beginning of one.
func (t *Token) is(sum []byte) bool {
	switch t.form {
	case sixBits:
		return bytes.Equal(t.raw, sum)
	case decimal, dashed:
		return bytes.Equal(t.raw, sum)
	}
	n := t.End - t.Start
	if n > 2*len(sum) {
		return false
	}
	if n%2 == 0 {
		return bytes.HasPrefix(sum, t.raw)
	}
	last := len(t.raw) - 1
	return bytes.HasPrefix(sum, t.raw[:last]) && sum[last]&0xf0 == t.raw[last]
}

// write writes another digest the way the token of b is written; "" if nothing in the token says in which of two ways:
// of "28417202" the letters may be small or capital.
func (t *Token) write(b, sum []byte) string {
	switch t.form {
	case sixBits:
		was := b[t.Start:t.End]
		s := base64.RawStdEncoding.EncodeToString(sum)
		if other := base64.RawURLEncoding.EncodeToString(sum); bytes.ContainsAny(was, "-_") {
			s = other
		} else if s != other && !bytes.ContainsAny(was, "+/") {
			return ""
		}
		if was[len(was)-1] == '=' {
			s += "=="[:(4-len(s)%4)%4]
		}
		return s
	case decimal:
		if len(sum) == 4 {
			n := binary.BigEndian.Uint32(sum)
			if b[t.Start] == '-' {
				return strconv.Itoa(int(int32(n)))
			}
			return strconv.FormatUint(uint64(n), 10)
		}
		return strconv.FormatUint(binary.BigEndian.Uint64(sum), 10)
	case dashed:
		s := hex.EncodeToString(sum)
		return s[:8] + "-" + s[8:12] + "-" + s[12:16] + "-" + s[16:20] + "-" + s[20:]
	}
	s := hex.EncodeToString(sum)[:t.End-t.Start]
	high := strings.ToUpper(s)
	switch was := string(b[t.Start:t.End]); {
	case t.form == highHex:
		return high
	case s != high && strings.ToUpper(was) == was:
		return ""
	}
	return s
}
