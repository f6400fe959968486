package rewrite

import (
	"bytes"
	"regexp"
	"strings"

	"trimlantern/core/beside"
)

const noteSigned = "signed: a token of which the key is not known covers it"

// means says why a reference is left that would otherwise become secure: it is part of a rule, or of what is signed.
func (n nearby) means() (Reason, string) {
	switch {
	case n.isSigned():
		return Protected, noteSigned
	case n.guarded():
		return Rule, noteGuard
	case n.twinned():
		return Rule, noteTwin
	}
	return "", ""
}

// maxBlocks bounds how many signed blocks of a text are looked for.
const maxBlocks = 100

// signedSpans returns the stretches of a text that a signature in it covers: blocks between marks (RFC 9580 §7), and the
// message that headers before it sign (RFC 6376, RFC 9421).
func signedSpans(b []byte) (all []beside.Span) {
	if bytes.Contains(b, []byte("-----BEGIN")) {
		for p := 0; len(all) < maxBlocks; {
			mark := signedMark.FindIndex(b[p:])
			if mark == nil {
				break
			}
			from := p + mark[0]
			end := bytes.Index(b[from:], []byte("-----END"))
			if end < 0 {
				end = len(b) - from
			}
			all = append(all, beside.Span{From: from, To: from + end})
			p = from + end
		}
	}
	if body, headers := headersOf(b); body > 0 {
		for _, line := range headers {
			name, value, _ := strings.Cut(line, ":")
			if signsBody.MatchString(name) && token.MatchString(value) && !explains(value, b[body:]) {
				return append(all, beside.Span{From: 0, To: len(b)})
			}
		}
	}
	return all
}

// signedMark begins a signed message.
var signedMark = regexp.MustCompile(`SIGNED( |\+|%20|&#32;)MESSAGE-----`)

// signsBody is the name of a header that signs what follows.
var signsBody = regexp.MustCompile(`(?i)^\s*([\w-]*-)?(signature|digest|hmac|sha\d+|md5|checksum)(-[\w-]*)?$`)

// token is a stretch that may be a digest or a signature.
var token = regexp.MustCompile(`[0-9a-fA-F]{32,}|[A-Za-z0-9+/_-]{27,}={0,2}`)

// explains reports whether a header holds a digest of the body, which can be computed again.
func explains(value string, body []byte) bool {
	for _, word := range strings.FieldsFunc(value, func(c rune) bool { return strings.ContainsRune(" ;,:", c) }) {
		for _, part := range []string{word, word[strings.IndexByte(word, '=')+1:]} {
			for _, text := range [][]byte{body, bytes.TrimRight(body, "\r\n")} {
				if _, ok := beside.FindDigest([]byte(part), text); ok {
					return true
				}
			}
		}
	}
	return false
}

// headersMost bounds how long the headers of a message may be.
const headersMost = 16 << 10

// header is a line of a message's headers, or the first line of an HTTP message.
var header = regexp.MustCompile(`^([A-Za-z][A-Za-z0-9-]{1,60}: |HTTP/\d|(GET|POST|PUT|PATCH) \S+ HTTP/\d)`)

// headersOf returns where the body of a message begins and its headers, unfolded; 0 if the text is not a message.
func headersOf(b []byte) (body int, headers []string) {
	if len(b) == 0 || b[0] < 'A' || b[0] > 'z' {
		return 0, nil
	}
	for p := 0; p < len(b) && p < headersMost; {
		n := bytes.IndexByte(b[p:], '\n')
		if n < 0 {
			return 0, nil
		}
		line := strings.TrimSuffix(string(b[p:p+n]), "\r")
		p += n + 1
		switch {
		case line == "" && len(headers) > 0:
			return p, headers
		case len(headers) > 0 && (line != "" && (line[0] == ' ' || line[0] == '\t')):
			headers[len(headers)-1] += line
		case header.MatchString(line):
			headers = append(headers, line)
		default:
			return 0, nil
		}
	}
	return 0, nil
}

// signedMax is how many characters around an address the address is looked for that it is an argument of.
const signedMax = 600

// expires is the name of an argument that says until when a signed address is good.
var expires = regexp.MustCompile(`(?i)^(x-[\w-]*-)?(e|exp|expires|expiry|deadline|until|valid(_?until)?|date|ts?|time(stamp)?)$`)

// isSigned reports whether a token in a URL signs the reference: in the query of its own, or in the query or path of
// another address of which it is an argument.
func (n nearby) isSigned() bool {
	ref, tail := n.ref, n.tail
	if _, query, ok := strings.Cut(tail, "?"); ok && signsWhole(query) {
		return true
	}
	if ref.Start == 0 || strings.IndexByte("=/&;,|2fFdD:+", n.b[ref.Start-1]) < 0 {
		return false
	}
	head := n.before(signedMax)
	if i := strings.LastIndexAny(head, " \t\r\n\"'<>()"); i >= 0 {
		head = head[i+1:]
	}
	outer := head
	if i := strings.Index(head, "://"); i >= 0 {
		_, outer, _ = strings.Cut(head[i+3:], "/")
	} else if !strings.Contains(head, "?") {
		return false
	}
	path, query, isQuery := strings.Cut(outer, "?")
	own := ref.Plain() + tail
	for _, part := range strings.Split(path, "/") {
		if token.FindString(part) == part && part != "" && mixed(part) && !explainsAddress(part, own) {
			return true
		}
	}
	if !isQuery {
		return false
	}
	rest := n.after(signedMax)
	if i := strings.IndexAny(rest, " \t\r\n\"'<>"); i >= 0 {
		rest = rest[:i]
	}
	for _, part := range strings.FieldsFunc(query+rest, func(c rune) bool { return c == '&' || c == ';' }) {
		name, value, _ := strings.Cut(part, "=")
		if isToken(name, value) && !explainsAddress(value, own) {
			return true
		}
	}
	return false
}

// mixed reports whether a segment of a path is not made of words: it has digits, or small and capital letters in turn.
func mixed(s string) bool {
	turns := 0
	for i := 1; i < len(s); i++ {
		if s[i] >= 'A' && s[i] <= 'Z' && s[i-1] >= 'a' && s[i-1] <= 'z' {
			turns++
		}
	}
	return len(s) >= 20 && (strings.ContainsAny(s, "0123456789") || turns > 3)
}

// isToken reports whether an argument of a query may be a signature of the others.
func isToken(name, value string) bool {
	if isSeal([]byte(name), []byte(value)) {
		return true
	}
	return token.FindString(value) == value && value != "" && mixed(value) && isDigest([]byte(value))
}

// explainsAddress reports whether a token is a digest of an address, or of it up to its next argument.
func explainsAddress(value, url string) bool {
	cut, _, _ := strings.Cut(url, "&")
	for _, text := range []string{url, cut} {
		if _, ok := beside.FindDigest([]byte(value), []byte(text)); ok {
			return true
		}
	}
	return false
}

// signsWhole reports whether a query signs the address that it belongs to: it has an argument that is named as a signature,
// or a token and the time until when it is good. We must not take ?ver=5d41402abc4b2a76b9719d911017c592 for one.
func signsWhole(query string) bool {
	timed, coded := false, false
	for _, part := range strings.FieldsFunc(query, func(c rune) bool { return c == '&' || c == ';' }) {
		name, value, ok := strings.Cut(part, "=")
		if !ok {
			continue
		}
		if isSeal([]byte(name), []byte(value)) {
			return true
		}
		timed = timed || expires.MatchString(name) && len(value) >= 8 && strings.Trim(value, "0123456789TZ") == ""
		coded = coded || len(value) >= 16 && isDigest([]byte(value))
	}
	return timed && coded
}
