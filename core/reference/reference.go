// Package reference finds insecure references in bytes: the scheme http or ws
// in any letter case, then "://" in any spelling, then an authority.
//
// It knows nothing of sites: whose a host is, is for package address to say.
package reference

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"trimlantern/core/seek"
)

// Reference is one insecure URL at one place. Offsets count bytes.
type Reference struct {
	Start     int      // the first letter of the scheme
	SchemeEnd int      // behind the scheme: where the s goes in
	HostStart int      // the first byte of the host, behind any user info
	HostEnd   int      // behind the host
	PortStart int      // the colon of the port; equal to PortEnd where there is none
	PortEnd   int      // behind the port
	Host      string   // the host in plain characters, as written otherwise
	Port      string   // the port's digits, or ""
	Spelling  Spelling // how "://" is written
}

// Secure returns the letter that makes the scheme secure, in the letter case of
// the original.
func (r Reference) Secure(b []byte) string {
	if c := b[r.SchemeEnd-1]; c >= 'A' && c <= 'Z' {
		return "S"
	}
	return "s"
}

// Find calls visit for each insecure reference of b, from the first to the
// last, until visit returns false. It costs little more than looking for four
// letters where there is none.
func Find(b []byte, visit func(Reference) bool) {
	for p := 0; ; {
		end := nextScheme(b, p)
		if end < 0 {
			return
		}
		p = end
		if r, ok := parse(b, end); ok {
			if !visit(r) {
				return
			}
			p = max(p, r.HostEnd)
		}
	}
}

// MayHave reports whether b holds an insecure scheme that something follows which
// can be a colon: a first look, without reading the reference.
func MayHave(b []byte) bool { return nextScheme(b, 0) >= 0 }

// Next returns the place behind the next scheme at or after from, as MayHave
// looks for it, or -1.
func Next(b []byte, from int) int { return nextScheme(b, from) }

// nextScheme returns the position behind the next "http" or "ws" (any letter
// case) at or after from that a colon in some spelling can follow, or -1.
func nextScheme(b []byte, from int) int {
	for p := from; ; {
		end := seek.Scheme(b, p)
		if end < 0 || isScheme(b, end) {
			return end
		}
		p = end - 1
	}
}

// isScheme reports whether the letters of an insecure scheme end at end and
// something that can be a colon follows.
func isScheme(b []byte, end int) bool {
	if end >= len(b) || b[end] != ':' && escapes[b[end]].bit == 0 {
		return false
	}
	c := b[end-1] | 0x20
	return c == 's' && b[end-2]|0x20 == 'w' ||
		c == 'p' && end >= 4 && b[end-2]|0x20 == 't' && b[end-3]|0x20 == 't' && b[end-4]|0x20 == 'h'
}

// startsWord reports whether a scheme that begins at p is whole: nothing that
// could be a part of it stands before, or what stands there ends an escape (the
// n of \n, the D of %3D).
func startsWord(b []byte, p int) bool {
	if p == 0 || !isAlnum(b[p-1]) {
		return true
	}
	back := func(n int) byte {
		if p-n < 0 {
			return 0
		}
		return b[p-n]
	}
	hex := func(n int) bool {
		for ; n > 0; n-- {
			if _, ok := hexDigit(back(n)); !ok {
				return false
			}
		}
		return true
	}
	switch {
	case back(2) == '\\':
		return strings.IndexByte("nrtbfv0", b[p-1]) >= 0
	case hex(2):
		q := 3
		for back(q) == '5' && back(q+1) == '2' { // %25…3D
			q += 2
		}
		if back(q) == '%' || back(3) == 'x' && back(4) == '\\' || back(3) == '\\' {
			return true
		}
		// \u0022, and u0022 where somebody stripped the backslash
		return hex(4) && back(3) == '0' && back(4) == '0' && back(5) == 'u'
	}
	return false
}

// parse reads the reference whose scheme ends at schemeEnd.
func parse(b []byte, schemeEnd int) (Reference, bool) {
	r := Reference{SchemeEnd: schemeEnd, Start: schemeEnd - 4}
	if b[schemeEnd-1]|0x20 == 's' {
		r.Start = schemeEnd - 2
	}
	if !startsWord(b, r.Start) {
		return r, false
	}
	p := schemeEnd
	for _, want := range "://" {
		if p >= len(b) {
			return r, false
		}
		c, end, how := unit(b, p)
		if c != want {
			return r, false
		}
		r.Spelling |= how
		p = end
	}
	if at := userInfoEnd(b, p); at > 0 {
		p = at
	}
	return r, r.readHost(b, p) && r.readPort(b)
}

// userInfoMax bounds the look-ahead for an @.
const userInfoMax = 256

// userInfoEnd returns the position behind the last @ of the authority that
// begins at p, or 0 where it has none.
func userInfoEnd(b []byte, p int) (at int) {
	for limit := min(len(b), p+userInfoMax); p < limit; {
		if hostByte[b[p]] { // by far the most
			p++
			continue
		}
		c, end, _ := unit(b, p)
		if c <= ' ' || strings.ContainsRune(`/?#\"'<>()[]{}|^`+"`,", c) {
			break
		}
		if c == '@' {
			at = end
		}
		p = end
	}
	return at
}

// readHost reads the host at p: a name, or an IPv6 address in brackets.
func (r *Reference) readHost(b []byte, p int) bool {
	r.HostStart = p
	end := p
	for end < len(b) && hostByte[b[end]] {
		end++
	}
	if end > p && (end == len(b) || b[end] < utf8.RuneSelf && escapes[b[end]].bit == 0) && end-p < 256 {
		return r.setHost(string(b[p:end]), end) // plain, like nearly all
	}
	var host strings.Builder
	bracket := false
	for p < len(b) && host.Len() < 256 {
		c, end, _ := unit(b, p)
		switch {
		case c == '[' && p == r.HostStart:
			bracket = true
		case c == ']' && bracket:
			host.WriteRune(c)
			r.Host, r.HostEnd = host.String(), end
			return true
		case c == ':' && bracket:
		case !hostRune(c):
			goto done
		}
		if c == utf8.RuneError {
			goto done
		}
		host.WriteRune(c)
		p = end
	}
done:
	return r.setHost(host.String(), p) && !bracket
}

// setHost takes a host that ends at end. A dot alone may end a name; what else
// stands there is a sentence's.
func (r *Reference) setHost(host string, end int) bool {
	r.Host, r.HostEnd = strings.TrimRight(host, "-_"), end
	if strings.HasSuffix(r.Host, "..") {
		r.Host = strings.TrimRight(r.Host, ".")
	}
	return strings.Trim(r.Host, ".-_") != ""
}

// hostByte tells the ASCII characters of host names.
var hostByte = func() (t [256]bool) {
	for c := range utf8.RuneSelf {
		t[c] = hostRune(rune(c))
	}
	return t
}()

// hostRune reports whether c can be part of a host name, in the wide sense of
// IDNA with its full stops of other scripts.
func hostRune(c rune) bool {
	if c < utf8.RuneSelf {
		return isAlnum(byte(c)) || c == '-' || c == '.' || c == '_'
	}
	return unicode.IsLetter(c) || unicode.IsMark(c) || unicode.IsDigit(c) || c == '\u3002' || c == '\uff0e' || c == '\u200d'
}

// readPort reads ":digits" behind the host. What follows a colon and is not
// digits alone makes the reference no URL; a colon alone is punctuation.
func (r *Reference) readPort(b []byte) bool {
	r.PortStart, r.PortEnd = r.HostEnd, r.HostEnd
	if r.HostEnd >= len(b) {
		return true
	}
	c, p, _ := unit(b, r.HostEnd)
	if c != ':' {
		return true
	}
	var digits []byte
	for p < len(b) && len(digits) < 8 {
		c, end, _ := unit(b, p)
		if c < '0' || c > '9' {
			if len(digits) > 0 && hostRune(c) && c != '.' {
				return false
			}
			break
		}
		digits = append(digits, byte(c))
		p = end
	}
	if len(digits) > 0 {
		r.Port, r.PortEnd = string(digits), p
	}
	return true
}

// pathMax bounds how much of a reference's path is read.
const pathMax = 2048

// Tail returns what follows the authority in plain characters (path, query,
// fragment), as far as the reference's own spelling carries it.
func (r Reference) Tail(b []byte) string {
	var tail strings.Builder
	for p := r.PortEnd; p < len(b) && tail.Len() < pathMax; {
		c, end, how := unit(b, p)
		// An escape that the reference's spelling does not use belongs to its path.
		if how&Percent != 0 && r.Spelling&Percent == 0 && tail.Len() > 0 {
			tail.Write(b[p:end])
			p = end
			continue
		}
		if c <= ' ' || c == utf8.RuneError || strings.ContainsRune("\"'<>\\`{}|^", c) {
			break
		}
		if tail.Len() == 0 && c != '/' && c != '?' && c != '#' {
			break
		}
		// An encoded URL inside another one ends at the outer one's next separator.
		if how == 0 && r.Spelling&Percent != 0 && strings.ContainsRune("&;#)", c) {
			break
		}
		tail.WriteRune(c)
		p = end
	}
	return strings.TrimRight(tail.String(), ").,;")
}

// Text returns the reference in plain spelling, for a person to read.
func (r Reference) Text(b []byte) string { return r.Plain(b) + r.Tail(b) }

// Plain returns scheme, host and port in plain spelling.
func (r Reference) Plain(b []byte) string {
	s := strings.ToLower(string(b[r.Start:r.SchemeEnd])) + "://" + r.Host
	if r.Port != "" {
		s += ":" + r.Port
	}
	return s
}
