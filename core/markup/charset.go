package markup

import "unicode/utf8"

// isLegacy reports whether a text may be in a charset whose letters of two bytes end in one that
// looks like ASCII: Shift_JIS, GBK, Big5. Which one it is need not be known: in all of
// them a byte from 0x81 on takes one from 0x40 on with it. UTF-8 is none of them.
func isLegacy(b []byte) bool { return !utf8.Valid(b) }

// isTrail reports whether c, behind a byte from 0x81 on, is the second half of a letter that
// looks like ASCII.
func isTrail(c byte) bool { return c >= 0x40 && c < 0x7f }

// masked returns a copy of a text, with room for one more byte. Of a legacy one, letters of two bytes
// are put out of the way of a reader that takes each byte for itself; the offsets stay the same.
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
