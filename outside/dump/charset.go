package dump

import (
	"bytes"
	"encoding/binary"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/encoding/unicode/utf32"

	"trimlantern/core/text"
)

// charsets are the charsets that are no UTF-8, by their names in MariaDB, MySQL and PostgreSQL. What
// MariaDB and MySQL call latin1 is Windows-1252.
var charsets = map[string]encoding.Encoding{
	"latin1": charmap.Windows1252, "win1252": charmap.Windows1252, "latin2": charmap.ISO8859_2, "latin5": charmap.ISO8859_9,
	"latin7": charmap.ISO8859_13, "cp1250": charmap.Windows1250, "win1250": charmap.Windows1250, "cp1251": charmap.Windows1251,
	"win1251": charmap.Windows1251, "win": charmap.Windows1251, "win1253": charmap.Windows1253, "win1254": charmap.Windows1254,
	"win1255": charmap.Windows1255, "cp1256": charmap.Windows1256, "win1256": charmap.Windows1256, "cp1257": charmap.Windows1257,
	"win1257": charmap.Windows1257, "cp850": charmap.CodePage850, "cp852": charmap.CodePage852, "cp866": charmap.CodePage866,
	"latin3": charmap.ISO8859_3, "latin4": charmap.ISO8859_4, "latin6": charmap.ISO8859_10, "latin8": charmap.ISO8859_14, "latin10": charmap.ISO8859_16,
	"win1258": charmap.Windows1258, "win866": charmap.CodePage866, "iso_8859_6": charmap.ISO8859_6, "iso_8859_7": charmap.ISO8859_7, "iso_8859_8": charmap.ISO8859_8,
	"koi8r": charmap.KOI8R, "koi8": charmap.KOI8R, "koi8u": charmap.KOI8U, "greek": charmap.ISO8859_7, "hebrew": charmap.ISO8859_8, "iso_8859_5": charmap.ISO8859_5,
	"latin9": charmap.ISO8859_15, "tis620": charmap.Windows874, "win874": charmap.Windows874,
	"sjis": japanese.ShiftJIS, "cp932": japanese.ShiftJIS, "ujis": japanese.EUCJP, "eucjpms": japanese.EUCJP, "euc_jp": japanese.EUCJP,
	"gbk": simplifiedchinese.GBK, "gb2312": simplifiedchinese.GBK, "euc_cn": simplifiedchinese.GBK, "gb18030": simplifiedchinese.GB18030,
	"big5": traditionalchinese.Big5, "euckr": korean.EUCKR, "euc_kr": korean.EUCKR, "uhc": korean.EUCKR,
}

// encoding returns a charset by its name; nil where it is UTF-8 or not known. PostgreSQL's LATIN1 is ISO 8859-1.
func (x *syntax) encoding(charset string) encoding.Encoding {
	if x.dialect == Postgres && charset == "latin1" {
		return charmap.ISO8859_1
	}
	return charsets[charset]
}

// sjisBackslash is how MariaDB and MySQL write a backslash in sjis, which has no other.
const sjisBackslash = "\x81\x5f"

// hides reports whether a column's text does not show in a first look: a dump that is not converted holds the
// bytes of a charset whose letters are two or four bytes.
func (x *syntax) hides(c Column) bool {
	return x.raw && unitsOf[c.Charset].size > 0
}

// units are the letters of a charset of two or four bytes.
type units struct {
	size     int // in bytes; 0: of another charset
	order    binary.ByteOrder
	encoding encoding.Encoding
}

var unitsOf = map[string]units{
	"ucs2":    {2, binary.BigEndian, unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)},
	"utf16":   {2, binary.BigEndian, unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM)},
	"utf16le": {2, binary.LittleEndian, unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM)},
	"utf32":   {4, binary.BigEndian, utf32.UTF32(utf32.BigEndian, utf32.IgnoreBOM)},
}

// fromUnits reads letters of two or four bytes as UTF-8; ok is false where some are none.
func fromUnits(b []byte, of units) (d text.Decoded, ok bool) {
	x := text.NewBuilder(0, len(b))
	for p := 0; p < len(b); {
		if len(b)-p < of.size {
			return d, false
		}
		var c rune
		if of.size == 4 {
			c = rune(of.order.Uint32(b[p:]))
			p += 4
		} else {
			c = rune(of.order.Uint16(b[p:]))
			p += 2
			if utf16.IsSurrogate(c) {
				if len(b)-p < 2 {
					return d, false
				}
				c = utf16.DecodeRune(c, rune(of.order.Uint16(b[p:])))
				p += 2
				if c == utf8.RuneError {
					return d, false
				}
			}
		}
		if !utf8.ValidRune(c) {
			return d, false
		}
		x.Escape(p, utf8.AppendRune(nil, c)...)
	}
	return x.Done(), true
}

// toUTF8 reads bytes of a charset as UTF-8; ok is false where that loses anything.
func toUTF8(b []byte, charset string, from encoding.Encoding) (d text.Decoded, ok bool) {
	return convert(b, func(rest []byte) ([]byte, int) {
		if charset == "sjis" && bytes.HasPrefix(rest, []byte(sjisBackslash)) {
			return []byte{'\\'}, len(sjisBackslash)
		}
		for n := 1; n <= min(4, len(rest)); n++ {
			out, err := from.NewDecoder().Bytes(rest[:n])
			if err != nil || bytes.ContainsRune(out, utf8.RuneError) || len(out) == 0 {
				continue
			}
			back, err := from.NewEncoder().Bytes(out)
			if err == nil && bytes.Equal(back, rest[:n]) {
				return out, n
			}
		}
		return nil, 0
	})
}

// fromUTF8 reads UTF-8 as the bytes that a column of a charset would hold.
func fromUTF8(b []byte, to encoding.Encoding) (d text.Decoded, ok bool) {
	return convert(b, func(rest []byte) ([]byte, int) {
		_, n := utf8.DecodeRune(rest)
		out, err := to.NewEncoder().Bytes(rest[:n])
		if err != nil || n == 1 {
			return nil, 0
		}
		return out, n
	})
}

// convert replaces all letters that are not ASCII; letter returns what the first of some bytes becomes,
// and how many bytes it takes; none: it becomes nothing, and that is the end.
func convert(b []byte, letter func([]byte) ([]byte, int)) (text.Decoded, bool) {
	x := text.NewBuilder(0, len(b)+len(b)/2)
	known := map[byte][]byte{} // letters of one byte
	for p := 0; p < len(b); {
		n := p
		for n < len(b) && b[n] < 0x80 {
			n++
		}
		x.Copy(b[p:n])
		if p = n; p == len(b) {
			break
		}
		if out := known[b[p]]; out != nil {
			p++
			x.Escape(p, out...)
			continue
		}
		out, size := letter(b[p:])
		if size == 0 {
			return text.Decoded{}, false
		}
		if size == 1 {
			known[b[p]] = out
		}
		p += size
		x.Escape(p, out...)
	}
	return x.Done(), true
}
