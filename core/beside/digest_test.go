package beside

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A digest of a value is known in whatever form it is written, and written in the same form for another value. The
// digests of "lamp" are those of the usual programs.
func TestFindDigest(t *testing.T) {
	sum := sha256.Sum256([]byte("lamp"))
	for text, want := range map[string]string{
		"cb7f8a33ab0efc4cbc4ac3a8ddcd5a1f": "", // of something else
		"4684b2ca":                         "",
		fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte("lamp"))): "CRC-32",
		fmt.Sprintf("%x", sum): "SHA-256",
		fmt.Sprintf("%X", sum): "SHA-256",
		string(sum[:]):         "SHA-256",
		"sha256-" + base64.StdEncoding.EncodeToString(sum[:]):     "SHA-256",
		"sha256:" + fmt.Sprintf("%x", sum):                        "SHA-256",
		"{SHA256}" + base64.RawStdEncoding.EncodeToString(sum[:]): "SHA-256",
		base64.RawURLEncoding.EncodeToString(sum[:]):              "SHA-256",
		"61c1f6b3c1fd6eed1a3ab1b2e5d57b81f4bd6de2":                "",
		"":     "",
		"lamp": "",
		"http://ternrock.example/a-long-address-with-a-path-of-its-own": "",
	} {
		d, ok := FindDigest([]byte(text), []byte("lamp"))
		require.Equal(t, want != "", ok, "%q", text)
		assert.Equal(t, want, d.Algorithm, "%q", text)
		if !ok {
			continue
		}
		assert.Equal(t, text, string(d.Of([]byte("lamp"))))
		next := d.Of([]byte("lens"))
		assert.Len(t, next, len(text), "the same form")
		_, fits := FindDigest(next, []byte("lens"))
		assert.True(t, fits, "%q", next)
		_, fits = FindDigest(next, []byte("lamp"))
		assert.False(t, fits)
	}
	for value, sums := range map[string][]string{ // by md5sum, sha1sum, sha512sum
		"":    {"d41d8cd98f00b204e9800998ecf8427e", "da39a3ee5e6b4b0d3255bfef95601890afd80709"},
		"abc": {"900150983cd24fb0d6963f7d28e17f72", "a9993e364706816aba3e25717850c26c9cd0d89d", "23097d223405d8228642a477bda255b32aadbce4bda0b3f7e36c9da7", "cb00753f45a35e8bb5a03d699ac65007272c32ab0eded1631a8b605a43ff5bed8086072ba1e7cc2358baeca134c825a7"},
	} {
		for i, s := range sums {
			d, ok := FindDigest([]byte(s), []byte(value))
			assert.True(t, ok, s)
			assert.Equal(t, []string{"MD5", "SHA-1", "SHA-224", "SHA-384"}[i], d.Algorithm)
		}
	}
}

func FuzzFindDigest(f *testing.F) {
	f.Add([]byte("900150983cd24fb0d6963f7d28e17f72"), []byte("abc"))
	f.Add([]byte("sha1:"), []byte(""))
	f.Fuzz(func(t *testing.T, text, value []byte) {
		if d, ok := FindDigest(text, value); ok {
			require.Equal(t, string(text), string(d.Of(value)))
			require.True(t, MayBeDigest(len(text)))
		}
	})
}
