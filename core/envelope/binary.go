package envelope

import (
	"bytes"
	"encoding/binary"
	"unicode/utf16"
	"unicode/utf8"
)

// magics are the beginnings of files and formats that no text has.
var magics = []struct {
	name, magic string
	at          int
}{
	{"PNG", "\x89PNG\r\n\x1a\n", 0}, {"JPEG", "\xff\xd8\xff", 0}, {"GIF", "GIF87a", 0}, {"GIF", "GIF89a", 0},
	{"ZIP", "PK\x03\x04", 0}, {"ZIP", "PK\x05\x06", 0}, {"PDF", "%PDF-", 0}, {"RIFF", "RIFF", 0}, {"Ogg", "OggS\x00", 0},
	{"ID3", "ID3\x02", 0}, {"ID3", "ID3\x03", 0}, {"ID3", "ID3\x04", 0}, {"FLAC", "fLaC", 0}, {"MP4", "ftyp", 4}, {"Matroska", "\x1a\x45\xdf\xa3", 0},
	{"font", "wOFF", 0}, {"font", "wOF2", 0}, {"font", "OTTO\x00", 0}, {"font", "\x00\x01\x00\x00\x00", 0}, {"icon", "\x00\x00\x01\x00", 0},
	{"TIFF", "II*\x00", 0}, {"TIFF", "MM\x00*", 0}, {"ELF", "\x7fELF", 0}, {"class", "\xca\xfe\xba\xbe", 0}, {"OLE", "\xd0\xcf\x11\xe0", 0},
	{"7z", "7z\xbc\xaf\x27\x1c", 0}, {"RAR", "Rar!\x1a\x07", 0}, {"xz", "\xfd7zXZ\x00", 0}, {"zstd", "\x28\xb5\x2f\xfd", 0}, {"LZ4", "\x04\x22\x4d\x18", 0},
	{"SQLite", "SQLite format 3\x00", 0}, {"tar", "ustar", 257}, {"PSD", "8BPS\x00", 0}, {"WebAssembly", "\x00asm", 0},
	{"Java", "\xac\xed\x00\x05", 0}, {"igbinary", "\x00\x00\x00\x01", 0}, {"igbinary", "\x00\x00\x00\x02", 0}, {"property list", "bplist00", 0},
}

// magicFirst are the bytes that a magic at the beginning, a BSON or a MessagePack can begin with.
var magicFirst = func() (t [256]bool) {
	for _, m := range magics {
		if m.at == 0 {
			t[m.magic[0]] = true
		}
	}
	for c := range 256 {
		t[c] = t[c] || c < ' ' || c >= 0x80
	}
	return t
}()

// compressedMagics are of formats that are compressed and are not read.
var compressedMagics = map[string]bool{"7z": true, "RAR": true, "xz": true, "zstd": true, "LZ4": true, "ZIP": true}

// Binary tells what kind of binary content a value is, by its magic bytes and its structure; ""
// for all others.
func Binary(b []byte) string {
	if len(b) < 8 {
		return ""
	}
	if c := b[0]; !magicFirst[c] && b[4] != 'f' && (len(b) < 262 || b[257] != 'u') {
		return ""
	}
	for _, m := range magics {
		if len(b) > m.at+len(m.magic) && string(b[m.at:m.at+len(m.magic)]) == m.magic {
			return m.name
		}
	}
	switch {
	case isBSON(b):
		return "BSON"
	case isMessagePack(b):
		return "MessagePack"
	}
	return ""
}

// Wild reports whether a value is full of control characters and of bytes that are no UTF-8,
// as no text is; text that somebody pasted may hold a control character or two.
func Wild(b []byte) bool {
	controls, wild := 0, 0
	for i := 0; i < len(b); {
		c := b[i]
		if c < utf8.RuneSelf {
			if IsControl(c) && c != '\f' {
				controls++
			}
			i++
			continue
		}
		r, n := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && n == 1 {
			wild++
		}
		i += n
	}
	if controls >= 3 && controls*20 > len(b) || controls >= 8 && wild >= 8 && (controls+wild)*8 > len(b) {
		return true
	}
	return false
}

// IsCompressed reports whether a kind that Binary returned is of a compressed format, in which
// nobody has looked.
func IsCompressed(kind string) bool { return compressedMagics[kind] }

// isBSON reports whether b is a document of BSON: its length, elements, a NUL.
func isBSON(b []byte) bool {
	if len(b) < 12 || int(binary.LittleEndian.Uint32(b)) != len(b) || b[len(b)-1] != 0 || b[4] == 0 || b[4] > 0x13 {
		return false
	}
	return bytes.IndexByte(b[5:], 0) > 0
}

// isMessagePack reports whether b is one map or list of MessagePack, to its last byte.
func isMessagePack(b []byte) bool {
	switch c := b[0]; {
	case c >= 0x80 && c <= 0x9f && c != 0x80 && c != 0x90, c >= 0xdc && c <= 0xdf:
	default:
		return false
	}
	n, ok := packValue(b, 0, 0)
	return ok && n == len(b)
}

// packValue steps over one value of MessagePack at p.
func packValue(b []byte, p, depth int) (end int, ok bool) {
	if p >= len(b) || depth > 64 {
		return p, false
	}
	number := func(size int) (n int, ok bool) {
		if p+1+size > len(b) {
			return 0, false
		}
		for _, c := range b[p+1 : p+1+size] {
			n = n<<8 | int(c)
		}
		return n, true
	}
	values := func(from, n int) (int, bool) {
		for ; n > 0; n-- {
			var ok bool
			if from, ok = packValue(b, from, depth+1); !ok {
				return from, false
			}
		}
		return from, true
	}
	bytesOf := func(from, n int) (int, bool) { return from + n, n <= len(b)-from }
	sized := func(size, extra int, then func(int, int) (int, bool)) (int, bool) {
		n, ok := number(size)
		if !ok {
			return p, false
		}
		return then(p+1+size, n+extra)
	}
	twice := func(from, n int) (int, bool) { return values(from, 2*n) }
	switch c := b[p]; {
	case c <= 0x7f || c >= 0xe0 || c == 0xc0 || c == 0xc2 || c == 0xc3:
		return p + 1, true
	case c <= 0x8f:
		return values(p+1, 2*int(c&15))
	case c <= 0x9f:
		return values(p+1, int(c&15))
	case c <= 0xbf:
		return bytesOf(p+1, int(c&31))
	case c >= 0xc4 && c <= 0xc6:
		return sized(1<<(c-0xc4), 0, bytesOf)
	case c >= 0xc7 && c <= 0xc9:
		return sized(1<<(c-0xc7), 1, bytesOf)
	case c == 0xca || c == 0xcb:
		return bytesOf(p+1, 4<<(c-0xca))
	case c >= 0xcc && c <= 0xcf:
		return bytesOf(p+1, 1<<(c-0xcc))
	case c >= 0xd0 && c <= 0xd3:
		return bytesOf(p+1, 1<<(c-0xd0))
	case c >= 0xd4 && c <= 0xd8:
		return bytesOf(p+1, 1+1<<(c-0xd4))
	case c >= 0xd9 && c <= 0xdb:
		return sized(1<<(c-0xd9), 0, bytesOf)
	case c == 0xdc || c == 0xdd:
		return sized(2<<(c-0xdc), 0, values)
	case c == 0xde || c == 0xdf:
		return sized(2<<(c-0xde), 0, twice)
	}
	return p, false
}

// FromUTF16 returns text in UTF-16 as UTF-8, or nil where b is none: half of its bytes, at
// every second place, are NUL.
func FromUTF16(b []byte) []byte {
	if len(b) < 8 {
		return nil
	}
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		zero := 1
		if order == binary.BigEndian {
			zero = 0
		}
		nuls, n := 0, 0
		for i := zero; i < len(b); i += 2 {
			n++
			if b[i] == 0 {
				nuls++
			}
		}
		if nuls*4 < n*3 {
			continue
		}
		units := make([]uint16, len(b)/2)
		for i := range units {
			units[i] = order.Uint16(b[2*i:])
		}
		return []byte(string(utf16.Decode(units)))
	}
	return nil
}

// lengthBack is how far before a reference the text that holds it may begin.
const lengthBack = 4096

// IsControl reports whether c is a control character that text does not hold.
func IsControl(c byte) bool { return isControl[c] }

var isControl = func() (t [256]bool) {
	for c := range 256 {
		t[c] = c < ' ' && c != '\n' && c != '\r' && c != '\t' || c == 0x7f
	}
	return t
}()

// IsPlain reports whether b is valid UTF-8 without control characters (tabs and line breaks are
// allowed). It checks 32 bytes at a time.
func IsPlain(b []byte) bool {
	ascii, rest := true, b
	for len(rest) >= 32 {
		if unlikely(rest)|unlikely(rest[8:])|unlikely(rest[16:])|unlikely(rest[24:]) != 0 && !noControls(rest[:32], &ascii) {
			return false
		}
		rest = rest[32:]
	}
	return noControls(rest, &ascii) && (ascii || utf8.Valid(b))
}

// unlikely returns 0 if the first eight bytes of b are printable ASCII or spaces.
func unlikely(b []byte) uint64 {
	x := binary.LittleEndian.Uint64(b)
	return (x | (x-0x2020202020202020)&^x | (x + 0x0101010101010101)) & 0x8080808080808080
}

// noControls reports whether b holds no control character, and clears *ascii if b holds a byte
// outside ASCII.
func noControls(b []byte, ascii *bool) bool {
	for _, c := range b {
		if isControl[c] {
			return false
		}
		*ascii = *ascii && c < utf8.RuneSelf
	}
	return true
}

// LengthBefore reports whether the bytes before start say how long the text from there is, as
// binary formats and netstrings have it, up to what ends it: so that it cannot grow.
func LengthBefore(b []byte, start int) bool {
	from := start
	for from > 0 && start-from < lengthBack && !IsControl(b[from-1]) && utf8Tail(b, from-1) {
		from--
	}
	if from == 0 || start-from == lengthBack {
		return false
	}
	// A length itself may look like a character of the text.
	return lengthAt(b, from, start) || from < start && lengthAt(b, from+1, start) || PackedLength(b, start)
}

// PackedLength reports whether the mark of a string and its length in one byte are directly before start, as MessagePack and
// CBOR write them, and the string ends with the text or before a byte that is not of it: "\xd95http://…", "x5http://…".
func PackedLength(b []byte, start int) bool {
	if start < 2 || b[start-2] != 0xd9 && b[start-2] != 0x78 {
		return false
	}
	end := start + int(b[start-1])
	for p := start; p < min(end, len(b)); p++ {
		if b[p] <= ' ' || b[p] == '"' || b[p] >= 0x7f {
			return false // more than an address
		}
	}
	return end == len(b) || end < len(b) && (b[end] >= utf8.RuneSelf || IsControl(b[end]))
}

// utf8Tail reports whether the byte at p is of a character in UTF-8.
func utf8Tail(b []byte, p int) bool {
	if b[p] < utf8.RuneSelf {
		return true
	}
	for q := p; q >= 0 && q > p-4; q-- {
		if utf8.RuneStart(b[q]) {
			r, n := utf8.DecodeRune(b[q:])
			return r != utf8.RuneError && q+n > p
		}
	}
	return false
}

// lengthAt reports whether a length stands before p that ends behind start, at the end of the
// text or where another control character stands.
func lengthAt(b []byte, p, start int) bool {
	ends := func(n int) bool {
		end := p + n
		if n <= start-p+8 || end > len(b) {
			return false
		}
		for _, c := range b[p:end] {
			if IsControl(c) {
				return false
			}
		}
		return utf8.Valid(b[p:end]) && (end == len(b) || IsControl(b[end]) || !utf8Tail(b, end))
	}
	odd := func(c byte) bool { return IsControl(c) || c >= utf8.RuneSelf }
	if p >= 1 && odd(b[p-1]) {
		c := int(b[p-1])
		if IsControl(b[p-1]) && ends(c) || c >= 0xa0 && c <= 0xbf && ends(c&31) {
			return true
		}
	}
	if p >= 2 && IsControl(b[p-2]) { // the length itself may look like a character
		if ends(int(b[p-1])) || ends(int(binary.BigEndian.Uint16(b[p-2:]))) {
			return true
		}
	}
	if p >= 2 && odd(b[p-2]) && IsControl(b[p-1]) {
		if ends(int(binary.LittleEndian.Uint16(b[p-2:]))) || b[p-2] >= utf8.RuneSelf && ends(int(b[p-2]&0x7f)|int(b[p-1])<<7) { // a varint
			return true
		}
	}
	if p >= 4 && (b[p-4] == 0 || b[p-1] == 0) {
		if n := int(binary.LittleEndian.Uint32(b[p-4:])); ends(n) || ends(n-1) {
			return true
		}
		if ends(int(binary.BigEndian.Uint32(b[p-4:]))) {
			return true
		}
	}
	return false
}
