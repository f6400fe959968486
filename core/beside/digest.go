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
	sum  func([]byte) []byte
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// algorithms is the one table of them.
var algorithms = []Algorithm{
	{"MD5", func(b []byte) []byte { s := md5.Sum(b); return s[:] }},    //nolint:gosec // the same
	{"SHA-1", func(b []byte) []byte { s := sha1.Sum(b); return s[:] }}, //nolint:gosec // the same
	{"SHA-256", func(b []byte) []byte { s := sha256.Sum256(b); return s[:] }},
	{"SHA-512", func(b []byte) []byte { s := sha512.Sum512(b); return s[:] }},
	{"SHA-384", func(b []byte) []byte { s := sha512.Sum384(b); return s[:] }},
	{"SHA-224", func(b []byte) []byte { s := sha256.Sum224(b); return s[:] }},
	{"CRC-32", func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)) }},
	{"CRC-32C", func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, crc32.Checksum(b, castagnoli)) }},
	{"Adler-32", func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, adler32.Checksum(b)) }},
	{"FNV-1a", func(b []byte) []byte { return summed(fnv.New32a(), b) }},
	{"FNV-1", func(b []byte) []byte { return summed(fnv.New32(), b) }},
	{"FNV-1a of 64 bits", func(b []byte) []byte { return summed(fnv.New64a(), b) }},
	{"FNV-1 of 64 bits", func(b []byte) []byte { return summed(fnv.New64(), b) }},
}

func summed(h hash.Hash, b []byte) []byte {
	h.Write(b) // a hash returns no error
	return h.Sum(nil)
}

// Tried is how many digests are computed of one text, at about one step for each byte.
var Tried = len(algorithms)

// Book holds tokens, by their first bytes, so that a text is looked up in all of them at once.
type Book struct {
	tokens []Token
	byHead map[uint32][]int
}

// NewBook returns a book of tokens. A token is known by its index in them.
func NewBook(tokens []Token) *Book {
	k := &Book{tokens: tokens, byHead: make(map[uint32][]int, len(tokens))}
	for i, t := range tokens {
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

// Of returns the digest of another value, with what is written around it.
func (d Digest) Of(value []byte) []byte {
	if d.token.Start == d.token.End {
		return d.by.sum(value)
	}
	out := append([]byte(nil), d.like[:d.token.Start]...)
	out = append(out, d.by.Write(d.like, d.token, value)...)
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

// MayHold reports whether a text may hold a digest, or name a length: a first look.
func MayHold(b []byte) bool {
	hex, run := 0, 0
	for _, c := range b {
		kind := byteKinds[c]
		if kind&isBase64 == 0 {
			hex, run = 0, 0
			continue
		}
		run++
		if hex++; kind&isHex == 0 {
			hex = 0
		}
		if hex >= leastDigits-1 || run >= shortBase64 {
			return true
		}
	}
	for _, w := range lengthWords {
		if bytes.Contains(b, []byte(w[1:])) { // its first letter may be a capital
			return true
		}
	}
	return false
}

// shortBase64 is how many characters of base64 the shortest digest has that is written so.
const shortBase64 = 22
