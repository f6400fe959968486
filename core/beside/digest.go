// Package beside finds what is next to a value and says something about it: its length, or a digest of it. If the value
// changes, these must change with it.
//
// Nothing is found by its name alone. A digest counts if the old value reproduces it; a length counts if it fits, and
// if the syntax around it (a number directly before the text that it measures, a header, a key that means length) or a
// second number of the same kind confirms it. For example, in
//
//	{"url":"http://ternrock.example/x","width":25,"hash":"52e0…"}
//
// hash is recomputed if it is, say, the MD5 of the address; 25 is the length of the address only by chance.
package beside

import (
	"bytes"
	"crypto/md5"  //nolint:gosec // what others have used
	"crypto/sha1" //nolint:gosec // the same
	"crypto/sha256"
	"crypto/sha512"
	"encoding/binary"
	"hash"
	"hash/adler32"
	"hash/crc32"
	"hash/fnv"
)

// Algorithm is a way in which digests are computed. To add one, add a row.
type Algorithm struct {
	Name string
	size int // bytes of its digests
	sum  func([]byte) []byte
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// algorithms is the one table of them.
var algorithms = []Algorithm{
	{"MD5", 16, func(b []byte) []byte { s := md5.Sum(b); return s[:] }},    //nolint:gosec // the same
	{"SHA-1", 20, func(b []byte) []byte { s := sha1.Sum(b); return s[:] }}, //nolint:gosec // the same
	{"SHA-256", 32, func(b []byte) []byte { s := sha256.Sum256(b); return s[:] }},
	{"SHA-512", 64, func(b []byte) []byte { s := sha512.Sum512(b); return s[:] }},
	{"SHA-384", 48, func(b []byte) []byte { s := sha512.Sum384(b); return s[:] }},
	{"SHA-224", 28, func(b []byte) []byte { s := sha256.Sum224(b); return s[:] }},
	{"CRC-32", 4, func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)) }},
	{"CRC-32C", 4, func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, crc32.Checksum(b, castagnoli)) }},
	{"Adler-32", 4, func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, adler32.Checksum(b)) }},
	{"FNV-1a", 4, func(b []byte) []byte { return summed(fnv.New32a(), b) }},
	{"FNV-1", 4, func(b []byte) []byte { return summed(fnv.New32(), b) }},
	{"FNV-1a of 64 bits", 8, func(b []byte) []byte { return summed(fnv.New64a(), b) }},
	{"FNV-1 of 64 bits", 8, func(b []byte) []byte { return summed(fnv.New64(), b) }},
}

func summed(h hash.Hash, b []byte) []byte {
	h.Write(b) // a hash returns no error
	return h.Sum(nil)
}

// Book holds tokens, by their first bytes, so that a text is looked up in all of them at once.
type Book struct {
	tokens   []Token
	byHead   map[uint32][]int
	shortest int      // how many bytes of a digest the shortest token in hexadecimal digits has; 0: there is none
	exact    [65]bool // the sizes of the others
}

// NewBook returns a book of tokens. A token is known by its index in them.
func NewBook(tokens []Token) *Book {
	k := &Book{tokens: tokens, byHead: make(map[uint32][]int, len(tokens))}
	for i, t := range tokens {
		if t.form == lowHex || t.form == highHex {
			if size := (t.End - t.Start + 1) / 2; k.shortest == 0 || size < k.shortest {
				k.shortest = size
			}
		} else {
			k.exact[len(t.raw)] = true
		}
		if head, ok := headOf(t.raw); ok {
			k.byHead[head] = append(k.byHead[head], i)
		}
	}
	return k
}

func headOf(raw []byte) (uint32, bool) {
	if len(raw) < 4 {
		return 0, false
	}
	return binary.BigEndian.Uint32(raw), true
}

// Match calls found for each token that is a digest of a text.
func (k *Book) Match(text []byte, found func(token int, by *Algorithm)) {
	for a := range algorithms {
		if size := algorithms[a].size; !k.exact[size] && (k.shortest == 0 || size < k.shortest) {
			continue
		}
		sum := algorithms[a].sum(text)
		head, _ := headOf(sum)
		for _, i := range k.byHead[head] {
			if k.tokens[i].is(sum) {
				found(i, &algorithms[a])
			}
		}
	}
}

// Write returns the digest of another text, the way the token of b is written.
func (a *Algorithm) Write(b []byte, t Token, text []byte) string { return t.write(b, a.sum(text)) }

// Digest is how a digest of a value is written beside it.
type Digest struct {
	Algorithm string
	by        *Algorithm
	token     Token
	like      []byte // the text that holds it
}

// Of returns the digest of another value, with what is written around it; nil if it is uncertain how that is written.
func (d Digest) Of(value []byte) []byte {
	if d.token.Start == d.token.End {
		return d.by.sum(value)
	}
	written := d.by.Write(d.like, d.token, value)
	if written == "" {
		return nil
	}
	out := append([]byte(nil), d.like[:d.token.Start]...)
	out = append(out, written...)
	return append(out, d.like[d.token.End:]...)
}

// The lengths of a text that may hold a digest and little besides: `W/"…"`, "{SHA256}…".
const (
	leastDigest = leastDigits - 1
	mostDigest  = 128 + 24
)

// MayBeDigest reports whether a text of some bytes is of a length that a digest can have.
func MayBeDigest(size int) bool { return size >= leastDigest && size <= mostDigest }

// FindDigest reports whether a text holds a digest of a value, and how it is written.
func FindDigest(text, value []byte) (d Digest, ok bool) {
	if !MayBeDigest(len(text)) {
		return d, false
	}
	if tokens := Tokens(text); len(tokens) > 0 {
		NewBook(tokens).Match(value, func(i int, by *Algorithm) {
			if !ok {
				d, ok = Digest{by.Name, by, tokens[i], text}, true
			}
		})
		return d, ok
	}
	for a := range algorithms { // as bytes: 16 at least, since fewer are equal by chance too often
		if sum := algorithms[a].sum(value); len(sum) >= 16 && bytes.Equal(sum, text) {
			return Digest{algorithms[a].Name, &algorithms[a], Token{}, text}, true
		}
	}
	return d, false
}

// MayHold reports whether a text may hold a digest: a first look, which skips what is too short for one.
func MayHold(b []byte) bool {
	return longRun(b, isHex, leastDigits-1, func(from, to int) bool { return len(appendRun(nil, b, from, to)) > 0 }) ||
		longRun(b, isBase64, shortBase64, func(from, to int) bool { return len(appendBase64(nil, b, from, to)) > 0 })
}

// shortBase64 is how many characters of base64 the shortest digest has that is written so.
const shortBase64 = 22

// longRun reports whether a text has a run of bytes of a kind, at least so long, of which is says that it counts.
func longRun(b []byte, kind uint8, least int, is func(from, to int) bool) bool {
	for p := least - 1; p < len(b); {
		if byteKinds[b[p]]&kind == 0 {
			p += least
			continue
		}
		from, to := p, p+1
		for from > 0 && byteKinds[b[from-1]]&kind != 0 {
			from--
		}
		for to < len(b) && byteKinds[b[to]]&kind != 0 {
			to++
		}
		if to-from >= least && is(from, to) {
			return true
		}
		p = to + least
	}
	return false
}
