package dns

import (
	"strings"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestReadKey(t *testing.T) {
	k, err := ReadKey("# made by the name server\nkey \"keeper\" {\n\talgorithm hmac-sha256;\n\tsecret \"c2VjcmV0LXNlY3JldA==\";\n};\n")
	require.NoError(t, err)
	assert.Equal(t, Key{"keeper.", dns.HmacSHA256, "c2VjcmV0LXNlY3JldA=="}, k)
	k, err = ReadKey("key Keeper.Ternrock.example. { secret c2VjcmV0LXNlY3JldA==; algorithm \"hmac-sha512\"; }")
	require.NoError(t, err)
	assert.Equal(t, Key{"keeper.ternrock.example.", dns.HmacSHA512, "c2VjcmV0LXNlY3JldA=="}, k)
	for text, say := range map[string]string{
		"": "holds no key", "c2VjcmV0LXNlY3JldA==": "holds no key", `key "a" { algorithm hmac-md5; secret "c2VjcmV0LXNlY3JldA=="; };`: "names no algorithm that is taken",
		`key "a" { algorithm hmac-sha256; };`: "holds no secret", `key "a" { algorithm hmac-sha256; secret "c2VjcmV0LXN"; };`: "no base64",
	} {
		_, err := ReadKey(text)
		assert.ErrorContains(t, err, say, text)
		assert.NotContains(t, err.Error(), "c2VjcmV0", "the secret is not repeated")
	}
}

func FuzzReadKey(f *testing.F) {
	f.Add("key \"keeper\" {\n\talgorithm hmac-sha256;\n\tsecret \"c2VjcmV0LXNlY3JldA==\";\n};\n")
	f.Add("key a{algorithm hmac-sha384;secret x;}")
	f.Fuzz(func(t *testing.T, text string) {
		k, err := ReadKey(text)
		if err != nil {
			return
		}
		if !strings.Contains(text, k.secret) || k.algorithm == "" || k.Name == "" {
			t.Errorf("%q is read as %+v", text, k)
		}
	})
}
