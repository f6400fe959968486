// Package reference finds insecure references in bytes: the scheme http or ws
// in any letter case and any spelling, then "://" in any spelling, then an
// authority.
//
// It knows nothing of sites: whose a host is, is for package address to say.
package reference

import (
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"trimlantern/core/text"
)

// Reference is one insecure URL at one place. Offsets count bytes.
type Reference struct {
	Start     int           // the first letter of the scheme
	SchemeEnd int           // behind the scheme: where the s goes in
	HostStart int           // the first byte of the host, behind any user info
	HostEnd   int           // behind the host
	PortStart int           // the colon of the port; equal to PortEnd where there is none
	PortEnd   int           // behind the port
	Scheme    string        // "http" or "ws"
	Host      string        // the host in plain characters, as written otherwise
	Port      string        // the port's digits, or ""
	Spelling  text.Spelling // how "://" is written
	Upper     bool          // the last letter of the scheme is a capital
	// Glued is how long the ASCII name is that a letter of another script stands directly
	// behind, so that nobody can tell where the name ends; 0: there is none.
	Glued int
}

// Secure returns the letter that makes the scheme secure, in the letter case of
// the original.
func (r Reference) Secure() string {
	if r.Upper {
		return "S"
	}
	return "s"
}

// Find calls visit for each insecure reference of b, from the first to the
// last, until visit returns false. It costs little more than looking for three
// letters where there is none.
func Find(b []byte, visit func(Reference) bool) { FindIn(b, 0, len(b), visit, nil) }

// FindIn is Find for what stands in b[from:to]; what stands around it counts for what a
// reference is. It calls odd, where not nil, for what begins like a reference and
// breaks off before its host: http:/host, http:\\host, "http:"+"//host". Start and SchemeEnd
// of what it gets are right, and Host holds what stands where a host could.
func FindIn(b []byte, from, to int, visit func(Reference) bool, odd func(Reference)) {
	b = b[:to]
	for p := from; ; {
		s, ok := next(b, p)
		if !ok {
			return
		}
		p = s.end
		r := Reference{Start: s.start, SchemeEnd: s.end, Scheme: s.name, Upper: s.upper}
		if s.start >= from && startsWord(b, r.Start) {
			if r.parse(b) {
				if !visit(r) {
					return
				}
				p = max(p, r.HostStart) // letters of other scripts, and the next one, may follow a host
			} else if odd != nil && r.Host == "" {
				r.parseOdd(b)
				odd(r)
			}
		} else if odd != nil && s.start >= from && digitBefore(b, s.start) && r.parse(b) {
			odd(r)
		}
	}
}

// digitBefore reports whether a digit is directly before p, and not as a part of an escape; or any byte that may be a length,
// after one that no text has.
func digitBefore(b []byte, p int) bool {
	c, start, _ := text.Before(b, p)
	return c >= '0' && c <= '9' || start > 0 && start == p-1 && (b[start-1] == 'x' && !utf8.Valid(b) || b[start-1] < ' ' && b[start-1] != '\n' && b[start-1] != '\t' && b[start-1] != '\r' || b[start-1] >= 0x80 && !utf8.Valid(b[max(0, start-4):start]))
}

// Bare reports whether the host is directly after the slashes, without a user's name.
func (r Reference) Bare(b []byte) bool {
	p := r.SchemeEnd
	for range len("://") {
		_, p, _ = text.Unit(b, p)
	}
	return p == r.HostStart
}

// MayHave reports whether b holds an insecure scheme that something follows which
// can be a colon: a first look, without reading the reference.
func MayHave(b []byte) bool { return Next(b, 0) >= 0 }

// Next returns the place behind the next scheme at or after from, as MayHave
// looks for it, or -1.
func Next(b []byte, from int) int {
	s, ok := next(b, from)
	if !ok {
		return -1
	}
	return s.end
}

// scheme is a scheme at one place.
type scheme struct {
	start, end int
	name       string
	upper      bool
}

// next finds the next scheme whose last letter's writing begins at or after from.
func next(b []byte, from int) (scheme, bool) {
	for p := from; ; {
		end := text.Ends.Next(b, p)
		if end < 0 {
			return scheme{}, false
		}
		if s, ok := schemeAt(b, end); ok {
			return s, true
		}
		p = end - 1
	}
}

// schemeAt reads the scheme that ends at end, or whose last letter, written as an
// escape, has its last digits before end.
func schemeAt(b []byte, end int) (scheme, bool) {
	switch c := b[end-1] | 0x20; {
	case c == 's' && b[end-2]|0x20 == 'w' && begins(b[end]):
		return scheme{end - 2, end, "ws", b[end-1] == 'S'}, true
	case c == 'p' && b[end-2]|0x20 == 't' && begins(b[end]) && end >= 4 && b[end-3]|0x20 == 't' && b[end-4]|0x20 == 'h':
		return scheme{end - 4, end, "http", b[end-1] == 'P'}, true
	case c >= '0' && c <= '9':
		if !opensBefore(b, end) {
			return scheme{}, false
		}
		if b[end] == ';' || b[end] == ' ' || b[end] == '}' {
			if s, ok := spelled(b, end+1); ok {
				return s, true
			}
		}
	case c != 's' && c != 'p':
		return scheme{}, false
	}
	return spelled(b, end)
}

// opensBefore reports whether an escape may end on the digits before end.
func opensBefore(b []byte, end int) bool {
	for p := end - 3; p >= 0 && p > end-12; p-- {
		if text.Opens(b[p]) {
			return true
		}
	}
	return false
}

// spelled reads a scheme of which some letters are written as escapes.
func spelled(b []byte, end int) (scheme, bool) {
	if end >= len(b) || !begins(b[end]) {
		return scheme{}, false
	}
	last, p, ok := text.Before(b, end)
	if !ok {
		return scheme{}, false
	}
	s := scheme{end: end, name: "http", upper: last == 'P' || last == 'S'}
	rest := "tth"
	switch last | 0x20 {
	case 's':
		s.name, rest = "ws", "w"
	case 'p':
	default:
		return scheme{}, false
	}
	for _, want := range rest {
		c, start, ok := text.Before(b, p)
		if !ok || c|0x20 != want {
			return scheme{}, false
		}
		p = start
	}
	s.start = p
	return s, true
}

// begins reports whether a colon, in some spelling, can begin with c.
func begins(c byte) bool { return c == ':' || text.Opens(c) }

// startsWord reports whether a scheme that begins at p is whole: no letter or digit
// stands before it that could be a part of it.
func startsWord(b []byte, p int) bool {
	if p == 0 || !isAlnum(b[p-1]) {
		return true
	}
	c, start, _ := text.Before(b, p)
	if start < p-1 {
		return c >= utf8.RuneSelf || !isAlnum(byte(c))
	}
	// u0022, where somebody stripped the backslash
	if p >= 5 && b[p-5] == 'u' && b[p-4] == '0' && b[p-3] == '0' {
		switch string(b[p-2 : p]) {
		case "22", "27", "3d", "3D", "3e", "3E", "26":
			return true
		}
	}
	return false
}

// parse reads what follows the scheme.
func (r *Reference) parse(b []byte) bool {
	p := r.SchemeEnd
	if p+3 < len(b) && b[p] == ':' && b[p+1] == '/' && b[p+2] == '/' {
		return r.authority(b, p+3) // plain, like nearly all
	}
	for _, want := range "://" {
		if p >= len(b) {
			return false
		}
		c, end, how := text.Unit(b, p)
		if c != want {
			return false
		}
		r.Spelling |= how
		p = end
	}
	return r.authority(b, p)
}

// authority reads what follows "://".
func (r *Reference) authority(b []byte, p int) bool {
	if at := userInfoEnd(b, p); at > 0 {
		p = at
	}
	r.HostEnd = p
	return r.readHost(b, p) && r.readPort(b)
}

// parseOdd looks for a host behind a colon that "//" does not follow.
func (r *Reference) parseOdd(b []byte) bool {
	c, p, _ := text.Unit(b, r.SchemeEnd)
	if c != ':' {
		return false
	}
	slashes, quoted := 0, false
	for range 12 { // quotes, a sign that joins strings, blanks, slashes of both kinds
		if p >= len(b) {
			return false
		}
		if b[p] == '\\' {
			slashes++
			p++
			continue
		}
		c, end, _ := text.Unit(b, p)
		if c == '/' {
			slashes++
		} else if c == '"' || c == '\'' {
			quoted = true
		} else if !quoted || !strings.ContainsRune("+. \t\n\r", c) {
			break
		}
		p = end
	}
	return slashes > 0 && r.readHost(b, p)
}

// userInfoMax bounds the look-ahead for an @.
const userInfoMax = 256

// userInfoEnd returns the position behind the last @ of the authority that
// begins at p, or 0 where it has none. What could as well be the separator of a query or the
// end of a sentence ends it (RFC 3986 §3.2.1, without the sub-delims of which that is true).
func userInfoEnd(b []byte, p int) (at int) {
	for limit := min(len(b), p+userInfoMax); p < limit; {
		if hostByte[b[p]] { // by far the most
			p++
			continue
		}
		c, end, _ := text.Unit(b, p)
		if c == '@' {
			at = end
		} else if c >= utf8.RuneSelf || !isAlnum(byte(c)) && !strings.ContainsRune("-._~:%+$*", c) {
			break
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
	if end > p && (end == len(b) || b[end] < utf8.RuneSelf && !text.Opens(b[end])) && end-p < 256 {
		return r.setHost(string(b[p:end]), end) // plain, like nearly all
	}
	var host strings.Builder
	bracket := false
	for p < len(b) && host.Len() < 256 {
		c, end, _ := text.Unit(b, p)
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
		if c >= utf8.RuneSelf && r.Glued == 0 {
			r.Glued = host.Len()
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
	c, p, _ := text.Unit(b, r.HostEnd)
	if c != ':' {
		return true
	}
	var digits []byte
	for p < len(b) && len(digits) < 8 {
		c, end, _ := text.Unit(b, p)
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
	return strings.TrimRight(r.Follows(b), sentence)
}

// sentence is the punctuation that ends a sentence rather than a URL.
const sentence = ").,;"

// Follows returns the same with the punctuation of a sentence that may stand behind.
func (r Reference) Follows(b []byte) string {
	var tail strings.Builder
	r.tail(b, &inTail, func(plain string, _, _ int) { tail.WriteString(plain) })
	return tail.String()
}

// End returns the position behind the reference with its Tail.
func (r Reference) End(b []byte) int {
	last := r.PortEnd
	r.tail(b, &inRun, func(plain string, _, end int) {
		if !strings.Contains(sentence, plain) {
			last = end
		}
	})
	return last
}

// eachOfTail visits what follows the authority, character by character: in plain, and where it is written.
func (r Reference) eachOfTail(b []byte, visit func(plain string, from, to int)) {
	r.tail(b, nil, visit)
}

// tail is eachOfTail; bytes of runs, one after the other, may be visited together.
func (r Reference) tail(b []byte, runs *[256]bool, visit func(plain string, from, to int)) {
	bracket := r.Start > 0 && b[r.Start-1] == '(' // url(…) without quotes
	exclaimed := r.exclaimed(b)
	query, brackets := false, false
	for p, size := r.PortEnd, 0; p < len(b) && size < pathMax; {
		if runs != nil && size > 0 && runs[b[p]] {
			end := p + 1
			for end < len(b) && end-p < pathMax-size && runs[b[end]] {
				end++
			}
			visit(string(b[p:end]), p, end)
			size += end - p
			p = end
			continue
		}
		c, end, how := text.Unit(b, p)
		// An escape that the reference's spelling does not use belongs to its path.
		if how&text.Percented != 0 && r.Spelling&text.Percented == 0 && size > 0 {
			visit(string(b[p:end]), p, end)
			size += end - p
			p = end
			continue
		}
		if c <= ' ' || c == utf8.RuneError || strings.ContainsRune("\"'<>\\`{}|^", c) {
			break
		}
		if bracket && c == ')' {
			break
		}
		if size == 0 && c != '/' && c != '?' && c != '#' {
			break
		}
		if c == '[' && !query || c == ']' && !brackets {
			break // of the language around it: a URL has brackets only in pairs, in its query
		}
		if exclaimed && c == '!' {
			break
		}
		query, brackets = query || c == '?', c == '[' || brackets && c != ']'
		// An encoded URL inside another one ends at the outer one's next separator.
		if how == 0 && r.Spelling&text.Percented != 0 && strings.ContainsRune("&;#)", c) {
			break
		}
		visit(string(c), p, end)
		size += utf8.RuneLen(c)
		p = end
	}
}

// exclaimed reports whether an exclamation mark is directly before the reference: in Textile, another one ends it.
func (r Reference) exclaimed(b []byte) bool {
	if r.Start == 0 || strings.IndexByte("!1;", b[r.Start-1]) < 0 { // as it is, %21, &#33;
		return false
	}
	c, _, _ := text.Before(b, r.Start)
	return c == '!'
}

// inRun are the bytes that mean the same wherever they are in the path of a URL, however it is written.
var inRun = func() (in [256]bool) {
	for c := range in {
		in[c] = isAlnum(byte(c)) || c == '/' || c == '-' || c == '_'
	}
	return in
}()

// inTail are those of them that may end a sentence too.
var inTail = func() [256]bool {
	in := inRun
	for _, c := range []byte(".:,~+@$*") {
		in[c] = true
	}
	return in
}()

// free are the characters that every spelling leaves as they are.
const free = "-._~"

// Write writes another URL the way the reference is written, for the bytes from Start to End. Where a character is not
// one of the old URL, layers tells how it is written, the outermost first. What could end the address is percent-encoded
// (RFC 3986 §2.1). ok == false: a character that cannot be written so.
func (r Reference) Write(b []byte, url string, layers []text.Layer) (written string, ok bool) {
	how := map[string]string{}
	p := r.SchemeEnd
	for _, c := range []string{":", "/"} {
		_, end, _ := text.Unit(b, p)
		how[c] = string(b[p:end])
		p = end
	}
	r.eachOfTail(b, func(plain string, from, to int) {
		if how[plain] == "" {
			how[plain] = string(b[from:to])
		}
	})
	var out strings.Builder
	for _, c := range url {
		switch as := how[string(c)]; {
		case c < utf8.RuneSelf && isAlnum(byte(c)) || strings.ContainsRune(free, c):
			out.WriteRune(c)
		case as != "":
			out.WriteString(as)
		default:
			if c >= utf8.RuneSelf {
				return "", false
			}
			out.WriteString(escape(byte(c), layers))
		}
	}
	return out.String(), true
}

// escape writes a character of a URL of which the reference has no pattern.
func escape(c byte, layers []text.Layer) string {
	as := string(c)
	if strings.IndexByte(endings, c) >= 0 {
		as = fmt.Sprintf("%%%02X", c)
	}
	for _, l := range slices.Backward(layers) { // the innermost first
		switch l {
		case text.Percent, text.Form:
			as = queryEscape(as)
		case text.HTML:
			as = strings.ReplaceAll(as, "&", "&amp;")
		default: // & and = are letters of scripts, of SQL and of CSV
			as = string(text.Encode([]byte(as), l))
		}
	}
	return as
}

// endings are the characters of a URL that end it in some text, or a string around it: url(…), '…', srcset="…, …".
const endings = "'()|`^"

// queryEscape percent-encodes all but letters and digits.
func queryEscape(s string) string {
	var out strings.Builder
	for i := range len(s) {
		if isAlnum(s[i]) || strings.IndexByte(free, s[i]) >= 0 {
			out.WriteByte(s[i])
		} else {
			fmt.Fprintf(&out, "%%%02X", s[i])
		}
	}
	return out.String()
}

// Layers returns the layers that the colon or the slash after the scheme is written in, the outermost first.
func (r Reference) Layers(b []byte) []text.Layer {
	for p, n := r.SchemeEnd, 0; n < 2; n++ {
		c, end, _ := text.Unit(b, p)
		if all := text.Stacks(b, p, end, byte(c)); len(all) > 0 && !all[0].Plain() {
			return all[0].Layers()
		}
		p = end
	}
	return nil
}

// Text returns the reference in plain spelling, for a person to read.
func (r Reference) Text(b []byte) string { return r.Plain() + r.Tail(b) }

// Plain returns scheme, host and port in plain spelling.
func (r Reference) Plain() string {
	s := r.Scheme + "://" + r.Host
	if r.Port != "" {
		s += ":" + r.Port
	}
	return s
}

func isAlnum(c byte) bool {
	return c >= '0' && c <= '9' || c|0x20 >= 'a' && c|0x20 <= 'z'
}
