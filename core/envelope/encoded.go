package envelope

import (
	"bytes"
	"html"
	"unicode/utf8"
)

// LooksPercentSerialized reports whether b begins as a percent-encoded
// PHP-serialized value does: a%3A2%3A%7B…
func LooksPercentSerialized(b []byte) bool {
	return len(b) > 10 && b[1] == '%' && LooksSerialized(UnescapePercent(b[:min(len(b), 64)]).Text)
}

// UnescapePercent decodes percent-encoding (RFC 3986 §2.1) and tells where each
// byte came from. A plus sign stands for a space, as in forms: in lengths both
// count one.
func UnescapePercent(b []byte) Unescaped {
	x := NewUnescaper(0, len(b))
	for p := 0; p < len(b); p++ {
		if b[p] == '%' && p+2 < len(b) && isHex(b[p+1]) && isHex(b[p+2]) {
			x.Escape(p+3, hexValue(b[p+1])<<4|hexValue(b[p+2]))
			p += 2
			continue
		}
		x.Copy(b[p : p+1])
	}
	return x.Done()
}

func hexValue(c byte) byte {
	if c <= '9' {
		return c - '0'
	}
	return c | 0x20 - 'a' + 10
}

// LooksEntitySerialized reports whether b begins as a PHP-serialized value does
// whose quotes are written as HTML character references.
func LooksEntitySerialized(b []byte) bool {
	if len(b) < 10 || b[1] != ':' || !bytes.Contains(b[:min(len(b), 256)], []byte("&quot;")) && !bytes.Contains(b[:min(len(b), 256)], []byte("&#34;")) && !bytes.Contains(b[:min(len(b), 256)], []byte("&#034;")) {
		return false
	}
	return LooksSerialized(UnescapeEntities(b[:min(len(b), 64)]).Text)
}

// UnescapeEntities decodes HTML character references and tells where each byte
// came from.
func UnescapeEntities(b []byte) Unescaped {
	x := NewUnescaper(0, len(b))
	for p := 0; p < len(b); p++ {
		if b[p] == '&' {
			if end := bytes.IndexByte(b[p:min(len(b), p+12)], ';'); end > 0 {
				if s := html.UnescapeString(string(b[p : p+end+1])); utf8.RuneCountInString(s) == 1 {
					x.Escape(p+end+1, []byte(s)...)
					p += end
					continue
				}
			}
		}
		x.Copy(b[p : p+1])
	}
	return x.Done()
}
