package dump

import (
	"bytes"
	"slices"
	"unicode"

	"golang.org/x/text/cases"
	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"
)

// Folded returns as much of a value as a key counts, equal for values that a collation may take for equal:
// without the case of letters, their accents and blanks at the end.
func Folded(v []byte, prefix int) []byte {
	if prefix > 0 {
		letters := bytes.Runes(v)
		v = []byte(string(letters[:min(len(letters), prefix)]))
	}
	v = bytes.TrimRight(v, " ")
	if slices.ContainsFunc(v, func(c byte) bool { return c >= 0x80 }) {
		bare, _, err := transform.Bytes(transform.Chain(norm.NFKD, runes.Remove(runes.In(unicode.Mn))), v)
		if err == nil {
			v = bare
		}
	}
	return cases.Fold().Bytes(v)
}
