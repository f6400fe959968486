package system

import (
	"regexp"
	"strconv"
	"strings"
)

type phpKind uint8

const (
	phpWord phpKind = iota
	phpVariable
	phpString
	phpNumber
	phpMark
)

type phpToken struct {
	kind phpKind
	text string
	line int
	open bool // of a string: text is only its beginning, a variable follows
}

// phpTokens splits PHP source as far as literals need it: comments and what
// stands outside of <?php go, strings are decoded.
func phpTokens(s string) []phpToken {
	var out []phpToken
	line, php := 1, false
	count := func(t string) { line += strings.Count(t, "\n") }
	cut := func(end string) { // over everything up to and with end
		i := strings.Index(s, end)
		if i < 0 {
			i, end = len(s), ""
		}
		count(s[:i+len(end)])
		s = s[i+len(end):]
	}
	for s != "" {
		if !php {
			i := strings.Index(s, "<?")
			if i < 0 {
				return out
			}
			count(s[:i])
			if s = s[i+2:]; strings.HasPrefix(s, "php") {
				s, php = s[3:], true
			} else if strings.HasPrefix(s, "=") {
				s, php = s[1:], true
			}
			continue
		}
		c := s[0]
		switch {
		case strings.HasPrefix(s, "?>"):
			out = append(out, phpToken{phpMark, ";", line, false}) // it ends a statement
			s, php = s[2:], false
		case strings.HasPrefix(s, "/*"):
			cut("*/")
		case strings.HasPrefix(s, "//"), c == '#' && !strings.HasPrefix(s, "#["):
			if i, j := strings.Index(s, "\n"), strings.Index(s, "?>"); j >= 0 && (i < 0 || j < i) {
				s = s[j:]
			} else {
				cut("\n")
			}
		case strings.HasPrefix(s, "<<<"):
			label, _, _ := strings.Cut(s[3:], "\n")
			at := line
			cut("\n" + strings.Trim(strings.TrimSpace(label), `'"`))
			out = append(out, phpToken{phpString, "", at, true}) // its text is not needed
		case c == '\'' || c == '"':
			text, n, open := phpStringAt(s)
			out = append(out, phpToken{phpString, text, line, open})
			count(s[:n])
			s = s[n:]
		case c == '\n':
			line++
			s = s[1:]
		case c == ' ' || c == '\t' || c == '\r':
			s = s[1:]
		case c == '$' && len(s) > 1 && wordByte(s[1]):
			n := 1
			for n < len(s) && wordByte(s[n]) {
				n++
			}
			out = append(out, phpToken{phpVariable, s[:n], line, false})
			s = s[n:]
		case wordByte(c) || c == '\\':
			n := 1
			for n < len(s) && (wordByte(s[n]) || s[n] == '\\') {
				n++
			}
			kind := phpWord
			if c >= '0' && c <= '9' {
				kind = phpNumber
			}
			out = append(out, phpToken{kind, s[:n], line, false})
			s = s[n:]
		default:
			out = append(out, phpToken{phpMark, s[:1], line, false})
			s = s[1:]
		}
	}
	return out
}

func wordByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c >= 0x80
}

// numbered are characters of a string that are written by their numbers: \x68, \150, \u{68}.
var numbered = regexp.MustCompile(`^(?:x([0-9A-Fa-f]{1,2})|([0-7]{1,3})|u\{([0-9A-Fa-f]{1,6})\})`)

// phpNumbered decodes the character whose number follows a backslash, and returns how many bytes it takes; 0: none follows.
func phpNumbered(s string) (text string, n int) {
	m := numbered.FindStringSubmatch(s[:min(len(s), 9)])
	if m == nil {
		return "", 0
	}
	base := 16
	if m[2] != "" {
		base = 8
	}
	code, err := strconv.ParseUint(m[1]+m[2]+m[3], base, 32)
	switch {
	case err != nil:
		return "", 0
	case m[3] != "":
		return string(rune(code)), len(m[0])
	}
	return string([]byte{byte(code)}), len(m[0])
}

// phpStringAt decodes the quoted string at the beginning of s and returns how many bytes it takes. open
// says that it holds a variable: then text is what stands before that.
func phpStringAt(s string) (text string, n int, open bool) {
	quote := s[0]
	var out strings.Builder
	put := func(c byte) {
		if !open {
			out.WriteByte(c)
		}
	}
	for n = 1; n < len(s); n++ {
		switch {
		case s[n] == quote:
			return out.String(), n + 1, open
		case quote == '"' && n+1 < len(s) && (s[n] == '$' && (wordByte(s[n+1]) && !(s[n+1] >= '0' && s[n+1] <= '9') || s[n+1] == '{') || s[n] == '{' && s[n+1] == '$'):
			open = true
		case s[n] == '\\' && n+1 < len(s):
			n++
			if quote == '"' {
				if i := strings.IndexByte("nrtvef", s[n]); i >= 0 {
					put("\n\r\t\v\x1b\f"[i])
					continue
				}
				if text, more := phpNumbered(s[n:]); more > 0 {
					for _, c := range []byte(text) {
						put(c)
					}
					n += more - 1
					continue
				}
			}
			if s[n] != quote && s[n] != '\\' && (quote == '\'' || s[n] != '$') {
				put('\\')
			}
			put(s[n])
		default:
			put(s[n])
		}
	}
	return "", n, true // it has no end: PHP would not run this
}
