package envelope

import (
	"crypto/hmac"
	"crypto/md5"  // #nosec: the systems' own choice, not ours
	"crypto/sha1" // #nosec: the same
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"hash"
)

// Hashed is a value with a keyed hash of it beside it, as a system's description tells: two
// fields of the same object.
type Hashed struct {
	Value, Hash string // the names of the fields
	Base64      bool   // the value is written in base64, and the hash is of what that holds
	Algorithm   string // hmac-md5, hmac-sha1 or hmac-sha256, in hexadecimal digits
	Key         []byte // never shown
}

// hashes are the algorithms.
var hashes = map[string]func() hash.Hash{"hmac-md5": md5.New, "hmac-sha1": sha1.New, "hmac-sha256": sha256.New}

// KnowsHash reports whether an algorithm is one of those that Hashed has.
func KnowsHash(algorithm string) bool { return hashes[algorithm] != nil }

// Open returns the text that a value holds, where the hash that stands beside it is right.
func (h Hashed) Open(value, sum []byte) (text []byte, ok bool) {
	text = value
	if h.Base64 {
		var err error
		if text, err = base64.StdEncoding.DecodeString(string(value)); err != nil {
			return nil, false
		}
	}
	return text, len(h.Key) > 0 && hmac.Equal([]byte(h.sum(text)), sum)
}

// Seal returns the value and the hash for another text.
func (h Hashed) Seal(text []byte) (value, sum string) {
	value = string(text)
	if h.Base64 {
		value = base64.StdEncoding.EncodeToString(text)
	}
	return value, h.sum(text)
}

func (h Hashed) sum(text []byte) string {
	make, ok := hashes[h.Algorithm]
	if !ok {
		return ""
	}
	mac := hmac.New(make, h.Key)
	mac.Write(text)
	return hex.EncodeToString(mac.Sum(nil))
}
