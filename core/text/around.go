package text

import (
	"strings"
	"unicode/utf8"
)

// Head returns up to size characters before p in plain spelling, however they are written there: before the address in
//
//	%3Cimg%20src%3D%22http%3A%2F%2Fternrock.example
//
// they are `<img src="`.
func Head(b []byte, p, size int) string {
	if size <= 0 {
		return ""
	}
	var reversed [1024]rune
	n, opens := 0, p
	for n < min(size, len(reversed)) && p > 0 {
		if p <= opens { // where the next escape before p may begin
			for opens = p - 1; opens >= 0 && p-opens <= size+backMax && escapes[b[opens]] == nil; opens-- {
			}
		}
		if c := b[p-1]; c < utf8.RuneSelf && p-opens > backMax+1 {
			reversed[n] = rune(c)
			n++
			p--
			continue
		}
		c, start, ok := Before(b, p)
		if !ok {
			break
		}
		reversed[n] = c
		n++
		if p = start; c == '/' || c == '"' || c == '\'' {
			for p > 0 && b[p-1] == '\\' { // how many layers escape it is of no account
				p--
			}
		}
	}
	var out strings.Builder
	out.Grow(n + 8)
	for n--; n >= 0; n-- {
		out.WriteRune(reversed[n])
	}
	return out.String()
}

// Tail returns up to size characters from p on in plain spelling.
func Tail(b []byte, p, size int) string {
	var out strings.Builder
	out.Grow(size + 8)
	for n := 0; n < size && p < len(b); n++ {
		c, end, _ := Unit(b, p)
		if c == utf8.RuneError && end == p+1 {
			out.WriteByte(b[p])
		} else {
			out.WriteRune(c)
		}
		p = end
	}
	return out.String()
}
