package markup

import "unicode/utf8"

// isLegacy reports whether a text is not UTF-8, so that it may be in a charset like Shift_JIS, GBK or
// Big5, in which the second byte of a character can look like ASCII. In all of these a lead byte
// is 0x81 or more and the second byte 0x40 or more.
func isLegacy(b []byte) bool { return !utf8.Valid(b) }

// isTrail reports whether c can be such a second byte.
func isTrail(c byte) bool { return c >= 0x40 && c < 0x7f }

// masked returns a copy of b with capacity for one more byte. In a legacy text it replaces second
// bytes that look like ASCII, so that b can be read byte by byte; offsets stay the same.
func masked(b []byte) []byte {
	out := append(make([]byte, 0, len(b)+1), b...)
	if !isLegacy(b) {
		return out
	}
	for p := 0; p+1 < len(out); p++ {
		if out[p] >= 0x81 && isTrail(out[p+1]) {
			out[p+1] = 'x'
			p++
		}
	}
	return out
}
