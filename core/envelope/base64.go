package envelope

import (
	"bytes"
	"encoding/base64"
	"strings"

	"trimlantern/core/seek"
)

// base64Schemes are the schemes that are looked for inside base64, with what can
// begin the colon behind them, as two characters.
var (
	base64Schemes = []string{"http", "HTTP", "Http", "ws", "WS"}
	base64Colons  = []string{":/", `:\`, ":%", ":&", "%3", "%2", "&#", "&c", "&a", `\u`, `\x`, `\3`, `\:`, `\\`}
)

// base64Marks are what the schemes become in base64 (RFC 4648) at each of the
// three places in a group of three bytes: the characters that do not depend on
// what stands before. The two alphabets agree on them.
var base64Marks = func() []string {
	seen := map[string]bool{}
	var marks []string
	for _, scheme := range base64Schemes {
		for _, colon := range base64Colons {
			text := scheme + colon
			if len(scheme) == 4 {
				text = scheme // long enough by itself
			}
			for before := range 3 {
				bits := 8 * (before + len(text))
				coded := base64.RawStdEncoding.EncodeToString(append(make([]byte, before), text...))
				mark := coded[(8*before+5)/6 : bits/6]
				if !seen[mark] && !strings.ContainsAny(mark, "+/") {
					seen[mark] = true
					marks = append(marks, mark)
				}
			}
		}
	}
	return marks
}()

// Base64Marks returns what a text must contain one of for base64 in it to hold a
// reference. Letter case counts.
func Base64Marks() []string { return base64Marks }

// base64Starts are the first two characters of the marks.
var base64Starts = func() (starts [1 << 16]bool) {
	for _, m := range base64Marks {
		starts[int(m[0])<<8|int(m[1])] = true
	}
	return starts
}()

// NextBase64 returns the place of the first mark at or after from that stands in
// a run of base64 long enough to hold a reference, or -1.
func NextBase64(b []byte, from int) int {
	for {
		start, end := seek.Run(b, from)
		if start < 0 {
			return -1
		}
		if mark := markIn(b, start, end); mark >= 0 {
			return mark
		}
		from = end
	}
}

// markIn returns the place of the first mark in the run b[start:end], or -1. A run
// without one is decoded, since what is in it may be base64 again.
func markIn(b []byte, start, end int) int {
	for i := start; i+3 < end; i++ {
		if base64Starts[int(b[i])<<8|int(b[i+1])] && isMark(b[i:end]) {
			return i
		}
	}
	if end-start >= 2*minBase64 {
		if x, ok := OpenBase64(b, start, start); ok && NextBase64(x.Text, 0) >= 0 {
			return start
		}
	}
	return -1
}

func isMark(b []byte) bool {
	for _, m := range base64Marks {
		if len(b) >= len(m) && string(b[:len(m)]) == m {
			return true
		}
	}
	return false
}

// Base64 is a stretch of base64 inside a text: how it was written, and what it
// holds.
type Base64 struct {
	Start, End int
	Text       []byte // decoded
	alphabet   *base64.Encoding
	padding    int    // = signs at the end
	wrap       int    // characters in a line; 0: one line
	newline    string // what ends a line
}

// minBase64 is how many characters make it worth looking: the shortest reference.
const minBase64 = seek.MinRun

// OpenBase64 finds the base64 that the mark at offset mark is part of, begins
// looking no further left than floor, and decodes it. It reports ok == false
// where what stands there cannot be written again exactly as it was.
func OpenBase64(b []byte, mark, floor int) (Base64, bool) {
	start, end := mark, mark
	for start > floor && (seek.IsBase64(b[start-1]) || wrapped(b, start-1)) {
		start--
	}
	for end < len(b) && (seek.IsBase64(b[end]) || b[end] == '\n' || b[end] == '\r') {
		end++
	}
	for end < len(b) && b[end] == '=' {
		end++
	}
	for end > mark && (b[end-1] == '\n' || b[end-1] == '\r') {
		end--
	}
	// A path's slash and a name's dash are of the alphabet too: try again behind
	// each of them.
	for s, tries := start, 0; tries < maxTries; tries++ {
		if x, ok := decodeBase64(b, s, end); ok {
			return x, true
		}
		// Lines need not be wrapped base64: it may end with its line.
		if nl := bytes.IndexByte(b[s:end], '\n'); nl >= 0 && s+nl > mark {
			if x, ok := decodeBase64(b, s, s+len(bytes.TrimRight(b[s:s+nl], "\r"))); ok {
				return x, true
			}
		}
		next := bytes.IndexAny(b[s:mark], "/-_+=\n")
		if next < 0 {
			break
		}
		s += next + 1
	}
	return Base64{End: end}, false
}

// maxTries bounds at how many places of one run base64 may begin.
const maxTries = 24

// wrapped reports whether the line break at p stands inside wrapped base64.
func wrapped(b []byte, p int) bool {
	return (b[p] == '\n' || b[p] == '\r') && p >= 40 && seek.IsBase64(b[p-40])
}

// decodeBase64 decodes b[start:end] where writing it again gives the same.
func decodeBase64(b []byte, start, end int) (Base64, bool) {
	raw := b[start:end]
	if len(raw) < minBase64 {
		return Base64{}, false
	}
	x := Base64{Start: start, End: end}
	flat := raw
	if i := bytes.IndexByte(raw, '\n'); i >= 0 {
		x.newline, x.wrap = "\n", i
		if i > 0 && raw[i-1] == '\r' {
			x.newline, x.wrap = "\r\n", i-1
		}
		flat = bytes.ReplaceAll(raw, []byte(x.newline), nil)
	}
	x.padding = len(flat) - len(bytes.TrimRight(flat, "="))
	if x.padding > 2 {
		return Base64{}, false
	}
	x.alphabet = base64.RawStdEncoding
	if bytes.ContainsAny(flat, "-_") {
		x.alphabet = base64.RawURLEncoding
	}
	text, err := x.alphabet.Strict().DecodeString(string(flat[:len(flat)-x.padding]))
	if err != nil {
		return Base64{}, false
	}
	x.Text = text
	return x, x.Seal(text) == string(raw)
}

// Seal writes a text as the base64 was written: same alphabet, padding and lines.
func (x Base64) Seal(text []byte) string {
	s := x.alphabet.EncodeToString(text)
	if x.padding > 0 {
		s += strings.Repeat("=", (4-len(s)%4)%4)
	} else if len(x.Text)%3 == 0 && len(s)%4 != 0 && x.alphabet == base64.RawStdEncoding {
		// Nothing told whether it is padded; the standard alphabet is.
		s += strings.Repeat("=", (4-len(s)%4)%4)
	}
	if x.wrap == 0 {
		return s
	}
	var out strings.Builder
	for len(s) > x.wrap {
		out.WriteString(s[:x.wrap] + x.newline)
		s = s[x.wrap:]
	}
	return out.String() + s
}
