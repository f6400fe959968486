package certfolder

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"math/big"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A version goes, with its key, once another has been in its place for long enough; the one in use and the one held stay.
func TestExpire(t *testing.T) {
	folder, err := Open(filepath.Join(t.TempDir(), "certificates"))
	require.NoError(t, err)
	set, err := folder.Set("ternrock.example")
	require.NoError(t, err)
	day := func(n int) time.Time { return time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC).AddDate(0, 0, n) }
	var names []string
	var certs []*x509.Certificate
	for i, n := range []int{0, 60, 120, 180} {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		c := &x509.Certificate{SerialNumber: big.NewInt(int64(i + 1)), NotBefore: day(n), NotAfter: day(n + 90), DNSNames: []string{"ternrock.example"}}
		der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
		require.NoError(t, err)
		parsed, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		name, err := set.Add([]*x509.Certificate{parsed}, key, day(n))
		require.NoError(t, err)
		names, certs = append(names, name), append(certs, parsed)
	}
	require.NoError(t, set.Use(names[3]))
	assert.Equal(t, [][]byte{certs[2].Raw, certs[1].Raw, certs[0].Raw}, set.Earlier(certs[3]))
	left := func() (all []int) {
		for i, name := range names {
			if v, err := set.Read(name); err == nil && v != nil {
				all = append(all, i)
			}
		}
		return all
	}
	require.NoError(t, set.Expire(day(50), ""))
	assert.Equal(t, []int{0, 1, 2, 3}, left(), "the first was in use till day 60")
	require.NoError(t, set.Expire(day(150), names[0]))
	assert.Equal(t, []int{0, 2, 3}, left(), "one is held")
	require.NoError(t, set.Expire(day(1000), ""))
	assert.Equal(t, []int{3}, left())
}
