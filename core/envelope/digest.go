package envelope

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"hash/crc32"
)

// Digest is how a digest of a value is written beside it: its algorithm and its form.
type Digest struct {
	Algorithm string // "MD5", "SHA-1", "SHA-224", "SHA-256", "SHA-384", "SHA-512" or "CRC-32"
	prefix    string // what stands before it, like "sha256-"
	encode    func([]byte) []byte
	sum       func([]byte) []byte
}

// Of returns the digest of a value, in the same form.
func (d Digest) Of(value []byte) []byte {
	return append([]byte(d.prefix), d.encode(d.sum(value))...)
}

// digests are the algorithms, by the length of their digests in bytes.
var digests = []struct {
	name string
	size int
	sum  func([]byte) []byte
}{
	{"CRC-32", 4, func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)) }},
	{"MD5", 16, func(b []byte) []byte { s := md5.Sum(b); return s[:] }},
	{"SHA-1", 20, func(b []byte) []byte { s := sha1.Sum(b); return s[:] }},
	{"SHA-224", 28, func(b []byte) []byte { s := sha256.Sum224(b); return s[:] }},
	{"SHA-256", 32, func(b []byte) []byte { s := sha256.Sum256(b); return s[:] }},
	{"SHA-384", 48, func(b []byte) []byte { s := sha512.Sum384(b); return s[:] }},
	{"SHA-512", 64, func(b []byte) []byte { s := sha512.Sum512(b); return s[:] }},
}

// letters are what a text is made of.
type letters uint8

const (
	lowHex  letters = 1 << iota // 0-9 a-f alone
	highHex                     // 0-9 A-F alone
	sixBits                     // letters of one of the alphabets of base64 alone, some of them low and some high, as in each digest
	noText                      // a byte that is no printable ASCII, as in each digest but one of ten million
)

// lettersOf tells of what a text is made. It is a first look: sums cost more.
func lettersOf(text []byte) (is letters) {
	is = lowHex | highHex | sixBits
	low, high := false, false
	for _, c := range bytes.TrimRight(text, "=") {
		digit, lower, upper := c >= '0' && c <= '9', c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z'
		low, high = low || lower, high || upper
		if !digit && !(lower && c <= 'f') {
			is &^= lowHex
		}
		if !digit && !(upper && c <= 'F') {
			is &^= highHex
		}
		if !digit && !lower && !upper && bytes.IndexByte([]byte("+/-_"), c) < 0 {
			is &^= sixBits
		}
		if c < ' ' || c > '~' {
			is |= noText
		}
	}
	if !low || !high {
		is &^= sixBits
	}
	return is
}

// digestForms are the ways in which a digest is written. CRC-32 counts in hexadecimal digits alone: four bytes are too few.
var digestForms = []struct {
	of     letters
	length func(size int) int
	encode func([]byte) []byte
	least  int // bytes of a digest that may be written so
}{
	{lowHex, func(n int) int { return 2 * n }, func(b []byte) []byte { return hex.AppendEncode(nil, b) }, 4},
	{highHex, func(n int) int { return 2 * n }, func(b []byte) []byte { return bytes.ToUpper(hex.AppendEncode(nil, b)) }, 4},
	{noText, func(n int) int { return n }, func(b []byte) []byte { return b }, 16},
	{sixBits, base64.StdEncoding.EncodedLen, func(b []byte) []byte { return base64.StdEncoding.AppendEncode(nil, b) }, 16},
	{sixBits, base64.RawStdEncoding.EncodedLen, func(b []byte) []byte { return base64.RawStdEncoding.AppendEncode(nil, b) }, 16},
	{sixBits, base64.URLEncoding.EncodedLen, func(b []byte) []byte { return base64.URLEncoding.AppendEncode(nil, b) }, 16},
	{sixBits, base64.RawURLEncoding.EncodedLen, func(b []byte) []byte { return base64.RawURLEncoding.AppendEncode(nil, b) }, 16},
}

// The lengths that a digest can have, with what may stand before it: "sha512-", "{SHA256}".
const (
	leastDigest = 8
	mostDigest  = 128 + mostPrefix
	mostPrefix  = 10
)

// MayBeDigest reports whether a text of some bytes is of a length that a digest can have.
func MayBeDigest(size int) bool { return size >= leastDigest && size <= mostDigest }

// FindDigest reports whether a text is the digest of a value, and how it is written.
func FindDigest(text, value []byte) (d Digest, ok bool) {
	if !MayBeDigest(len(text)) {
		return d, false
	}
	starts := []int{0}
	if prefix := bytes.LastIndexAny(text[:min(len(text), mostPrefix)], ":}-$") + 1; prefix > 0 {
		starts = append(starts, prefix)
	}
	for _, from := range starts {
		rest := text[from:]
		is := lettersOf(rest)
		if is == 0 {
			continue
		}
		for _, s := range digests {
			var sum []byte
			for _, f := range digestForms {
				if is&f.of == 0 || len(rest) != f.length(s.size) || s.size < f.least {
					continue
				}
				if sum == nil {
					sum = s.sum(value)
				}
				if bytes.Equal(f.encode(sum), rest) {
					return Digest{Algorithm: s.name, prefix: string(text[:from]), encode: f.encode, sum: s.sum}, true
				}
			}
		}
	}
	return d, false
}
