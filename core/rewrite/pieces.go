package rewrite

import (
	"bytes"
	"encoding/hex"
	"regexp"
	"strconv"
	"strings"

	"trimlantern/core/reference"
	"trimlantern/core/seek"
	"trimlantern/core/text"
)

// Notes of how an address is written in pieces.
const (
	noteApart    = "its scheme and its host are apart"
	noteJoined   = "a placeholder or another string is its host"
	noteCodes    = "it is written as character codes"
	noteReversed = "it is written backwards"
	noteDigits   = "it is written in hexadecimal digits"
	noteBroken   = "a break or a tab is inside of it, which browsers skip"
)

// pieceMarks finds what an address in pieces has: http that no colon follows, the beginning of ptth, of 104, of 687 or of
// 0x6 (h as a number), a break or a tab in a scheme; and what else looks so.
var pieceMarks = seek.NewTriples([]seek.Class{{First: "tT", Second: "pP"}, {First: "p", Second: "t"}, {First: "1", Second: "0"}, {First: "6", Second: "8"}, {First: "0", Second: "x"},
	{First: "htHT", Second: "\t\n\r"}, {First: "0", Second: "9aAdD"}, {First: "9be", Second: ";"}}, "\"'\t\r\n<,;&\\%tp476")

// hasPieceMark reports whether one of the marks is in a text, by what is around it.
func hasPieceMark(b []byte) bool {
	return bytes.HasSuffix(b, []byte("http")) || nextPieceMark(b, 0, true) >= 0
}

// nextPieceMark returns the place of the next mark at or after from, or -1. digits says whether hexadecimal digits count: in
// an export they are how it writes bytes, and are decoded before.
func nextPieceMark(b []byte, from int, digits bool) int {
	for p := pieceMarks.Next(b, from); p >= 0; p = pieceMarks.Next(b, p-1) {
		if isPieceMark(b, p-2) && (digits || b[p-2] != '6') {
			return p - 2
		}
	}
	return -1
}

// isPieceMark judges the three bytes at p.
func isPieceMark(b []byte, p int) bool {
	before, after := b[max(0, p-2):p], b[p:]
	switch c := after[1]; {
	case c|0x20 == 'p': // http"
		return len(before) == 2 && before[0]|0x20 == 'h' && before[1]|0x20 == 't' && strings.IndexByte("tp476", after[2]) < 0
	case c == 't':
		return bytes.HasPrefix(after, []byte("ptth"))
	case c == '0':
		return bytes.HasPrefix(after, []byte("104")) && (len(after) == 3 || after[3] < '0' || after[3] > '9') && (p == 0 || before[len(before)-1] < '0' || before[len(before)-1] > '9' || p > 2 && b[p-3] == '%')
	case c == '8' || c == 'x':
		return bytes.HasPrefix(after, []byte("687474")) || bytes.HasPrefix(after, []byte("0x68")) && (len(after) == 4 || !isAlnum(after[4]))
	}
	// A break or a tab: the rest of the scheme is after it.
	for _, rest := range []string{"ttp", "tp", "p"} {
		if len(after) > 2+len(rest) && strings.EqualFold(string(after[2:2+len(rest)]), rest) && (after[2+len(rest)] == ':' || text.Opens(after[2+len(rest)])) {
			return true
		}
	}
	return false
}

// pieces reports the addresses of the site that a text holds in pieces, so that no reference is in it. at is its place.
func (w *worker) pieces(b []byte, at *place) {
	if w.quiet || w.mend != nil {
		return
	}
	mark := hasPieceMark(b)
	if !mark && text.Ends.Next(b, 0) < 0 {
		return
	}
	found := func(p int, note string) {
		w.left(Finding{Reason: Pieces, Host: w.rules.Site.Host, Path: at.path(), Offset: at.offset(p), Note: note})
	}
	if p, note := w.apart(b); p >= 0 {
		found(p, note)
	}
	if mark {
		if p := bytes.Index(b, []byte("ptth")); p >= 0 && w.backwards(b) {
			found(p, noteReversed)
		}
		if p := w.coded(b); p >= 0 {
			found(p, noteCodes)
		}
		if p := w.digits(b); p >= 0 {
			found(p, noteDigits)
		}
	}
	if p := w.broken(b); p >= 0 {
		found(p, noteBroken)
	}
}

// apart returns where the scheme is alone as a value in a text that has the site's host alone as another one, or is joined
// with it; otherwise -1: {"scheme":"http","host":"ternrock.example"}, "http" + "://ternrock.example".
func (w *worker) apart(b []byte) (at int, note string) {
	at = -1
	for p := 0; at < 0; {
		n := bytes.Index(b[p:], []byte("http"))
		if n < 0 {
			return -1, ""
		}
		n += p
		p = n + 4
		if p < len(b) && (b[p] == 's' || whole(b, p)) {
			continue // by far the most
		}
		if after := text.Tail(b, p, guardMax); joint.MatchString(after) {
			for _, host := range w.rules.Site.Hosts() {
				if strings.Contains(after, host) {
					return n, noteJoined
				}
			}
		}
		rest := text.Tail(b, p, 4)
		rest = strings.TrimPrefix(strings.TrimPrefix(rest, ":"), "//")
		if p < len(b) && (rest == "" || strings.IndexByte("\"'\r\n,;<&", rest[0]) < 0) {
			continue
		}
		if head := strings.TrimRight(text.Head(b, n, 8), " "); head != "" && strings.IndexByte("\"'=:>", head[len(head)-1]) >= 0 {
			at = n
		}
	}
	for _, host := range w.rules.Site.Hosts() {
		for p := 0; ; {
			n := bytes.Index(b[p:], []byte(host))
			if n < 0 {
				break
			}
			n += p
			p = n + len(host)
			if head := strings.TrimRight(text.Head(b, n, 4), " "); head != "" && strings.IndexByte("\"'=:>", head[len(head)-1]) >= 0 && (p == len(b) || !isAlnum(b[p]) && b[p] != '.' && b[p] != '-') {
				return at, noteApart
			}
		}
	}
	return -1, ""
}

// whole reports whether a colon, two slashes and the beginning of a name are at p, in any spelling.
func whole(b []byte, p int) bool {
	for _, want := range "://" {
		if p >= len(b) {
			return false
		}
		c, end, _ := text.Unit(b, p)
		if c != want {
			return false
		}
		p = end
	}
	return p < len(b) && isAlnum(b[p])
}

// backwards reports whether a text holds an address of the site that is written backwards.
func (w *worker) backwards(b []byte) bool {
	for _, host := range w.rules.Site.Hosts() {
		turned := []byte("http://" + host)
		for i, j := 0, len(turned)-1; i < j; i, j = i+1, j-1 {
			turned[i], turned[j] = turned[j], turned[i]
		}
		if bytes.Contains(bytes.ReplaceAll(b, []byte(`\/`), []byte("/")), turned) {
			return true
		}
	}
	return false
}

// codes are the codes of http:// in decimal or hexadecimal numbers, with what is between two of them.
var codes = regexp.MustCompile(strings.ReplaceAll(`(?i)\b(104~116~116~112~58~47~47|0x68\W{1,6}0x74\W{1,6}0x74\W{1,6}0x70\W{1,6}0x3a\W{1,6}0x2f\W{1,6}0x2f)\b`, "~", `(?:\\u00[0-9a-f]{2}|%[0-9a-f]{2}|&#\d{1,3};|\D){1,12}`))

// code is one of the numbers, escaped is what may be between two of them and has digits of its own.
var (
	code    = regexp.MustCompile(`0x[0-9a-fA-F]{2}|\d+`)
	escaped = regexp.MustCompile(`(?i)\\u00[0-9a-f]{2}|%[0-9a-f]{2}|&#\d{1,3};`)
)

// codeMax is how many bytes after its scheme the codes of an address are read.
const codeMax = 2048

// coded returns where a text has an address of the site as character codes, or -1.
func (w *worker) coded(b []byte) int {
	if !bytes.Contains(b, []byte("104")) && !bytes.Contains(b, []byte("0x68")) {
		return -1
	}
	for _, m := range codes.FindAllIndex(b, 64) {
		var out strings.Builder
		for _, word := range code.FindAllString(escaped.ReplaceAllString(string(b[m[0]:min(len(b), m[1]+codeMax)]), " "), 80) {
			if c, err := strconv.ParseUint(word, 0, 8); err == nil {
				out.WriteByte(byte(c))
			}
		}
		for _, host := range w.rules.Site.Hosts() {
			if strings.HasPrefix(out.String(), "http://"+host) {
				return m[0]
			}
		}
	}
	return -1
}

// digits returns where a text has an address of the site in hexadecimal digits, two for each byte, or -1.
func (w *worker) digits(b []byte) int {
	if !bytes.Contains(b, []byte("68747470")) { // http: there are no letters among its digits
		return -1
	}
	low := bytes.ToLower(b)
	for _, host := range w.rules.Site.Hosts() {
		if p := bytes.Index(low, []byte(hex.EncodeToString([]byte("http://"+host)))); p >= 0 {
			return p
		}
	}
	return -1
}

// broken returns where an address of the site in quotes has a break or a tab inside, which browsers skip (URL §4.4), or
// -1: <img src="ht
// tp://ternrock.example/a.png">. In words, a break divides two of them.
func (w *worker) broken(b []byte) int {
	for _, first := range []byte("\n\t\r&%\\") {
		for p := 0; ; p++ {
			n := bytes.IndexByte(b[p:], first)
			if n < 0 {
				break
			}
			p += n
			if at := w.brokenAt(b, p); at >= 0 {
				return at
			}
		}
	}
	return -1
}

// brokenAt returns where an address begins that has a break or a tab at p, or -1.
func (w *worker) brokenAt(b []byte, p int) int {
	if p == 0 || p+1 >= len(b) || b[p-1] <= ' ' || strings.IndexByte("&%\\", b[p]) >= 0 && strings.IndexByte("#TN0ntrux\\2", b[p+1]) < 0 {
		return -1
	}
	begins := false
	for q := p - 1; q >= 0 && p-q < 60 && b[q] > ' ' && !begins; q-- {
		begins = b[q]|0x20 == 'h'
	}
	next := p
	for n := skipped(b, next); n > 0 && next < len(b); n = skipped(b, next) {
		next += n
	}
	if !begins || next == p {
		return -1
	}
	head := text.Head(b, p, 40)
	quote := strings.LastIndexAny(head, "\"'=(<")
	if quote < 0 {
		return -1
	}
	begun := strings.ToLower(strings.NewReplacer("\t", "", "\n", "", "\r", "").Replace(head[quote+1:]))
	for _, host := range w.rules.Site.Hosts() {
		url := "http://" + host
		if begun == "" || len(begun) == len(url) || !strings.HasPrefix(url, begun) {
			continue
		}
		rest := strings.NewReplacer("\t", "", "\n", "", "\r", "", " ", "").Replace(text.Tail(b, next, len(url)+8))
		if strings.HasPrefix(strings.ToLower(begun+rest), url) {
			return p - len(begun)
		}
	}
	return -1
}

// skipped returns how long a break or tab at p is, in any spelling; 0 if none is there.
func skipped(b []byte, p int) int {
	if p >= len(b) {
		return 0
	}
	if b[p] == '\\' && p+1 < len(b) && strings.IndexByte("tnr", b[p+1]) >= 0 {
		return 2
	}
	c, end, _ := text.Unit(b, p)
	if c == '\t' || c == '\n' || c == '\r' {
		return end - p
	}
	return 0
}

// placeholder is what is in the place of a host in a template.
var placeholder = regexp.MustCompile(`^(%[A-Za-z_{(]|[$#]?\{|\$|<[?%]|\[[A-Za-z]|@[A-Za-z]|__[A-Z]|<[A-Za-z_]+>)`)

// joint is how the string of a scheme is joined with what comes after it.
var joint = regexp.MustCompile(`^(//)?["']\s{0,4}([.+&]{1,3}|\|\||~)\s{0,4}["'$\w(]`)

// loose says what a scheme is part of that no host follows: an address in pieces or a pattern; "" if neither.
func (t *reading) loose(ref reference.Reference) (Reason, string) {
	after := text.Tail(t.b, ref.SchemeEnd, guardMax)
	rest, ok := strings.CutPrefix(after, ":")
	if !ok {
		rest = after // "http" + "://…"
		if !strings.HasPrefix(rest, `"`) && !strings.HasPrefix(rest, "'") {
			return "", ""
		}
	}
	if joint.MatchString(rest) {
		return Pieces, noteJoined
	}
	rest, ok = strings.CutPrefix(rest, "//")
	if !ok {
		rest = strings.TrimLeft(rest, `\/`)
	}
	if placeholder.MatchString(rest) {
		return Pieces, noteJoined
	}
	plain := strings.ReplaceAll(rest, `\`, "")
	for _, host := range t.rules.Site.Hosts() {
		if i := strings.Index(plain, host); i >= 0 && i < 24 && strings.ContainsAny(plain[:i], "()[]|*+?.^$") {
			return Rule, noteGuard
		}
	}
	return "", ""
}
