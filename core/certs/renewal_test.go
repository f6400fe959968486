package certs

import (
	"crypto/x509"
	"math/big"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRenewAt(t *testing.T) {
	born := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	day := func(n int) time.Time { return born.AddDate(0, 0, n) }
	leaf := func(days int) *x509.Certificate {
		return &x509.Certificate{Raw: []byte{byte(days)}, NotBefore: born, NotAfter: day(days)}
	}
	assert.Equal(t, day(60), RenewAt(leaf(90), nil))
	assert.Equal(t, day(3), RenewAt(leaf(6), nil), "a short life: half of it")
	assert.Equal(t, day(60), RenewAt(leaf(90), &Window{day(80), day(85)}), "an authority cannot put it off")
	assert.Equal(t, day(60), RenewAt(leaf(90), &Window{day(20), day(10)}), "no window")
	assert.Equal(t, day(60), RenewAt(leaf(90), &Window{}), "no window")
	in := RenewAt(leaf(90), &Window{day(20), day(30)})
	assert.False(t, in.Before(day(20)) || in.After(day(30)))
	assert.Equal(t, in, RenewAt(leaf(90), &Window{day(20), day(30)}), "the same each time")
	assert.Equal(t, day(1), RenewAt(leaf(90), &Window{day(1), day(1).Add(time.Nanosecond)}).Truncate(time.Hour), "it is asked for at once, as after a revocation")
}

// The example of RFC 9773 §4.1.
func TestRenewalID(t *testing.T) {
	id, err := RenewalID(&x509.Certificate{SerialNumber: big.NewInt(0x87654321), AuthorityKeyId: []byte{0x69, 0x88, 0x5b, 0x6b, 0x87, 0x46, 0x40, 0x41, 0xe1, 0xb3, 0x7b, 0x84, 0x7b, 0xa0, 0xae, 0x2c, 0xde, 0x01, 0xc8, 0xd4}})
	require.NoError(t, err)
	assert.Equal(t, "aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE", id)
	_, err = RenewalID(&x509.Certificate{SerialNumber: big.NewInt(1)})
	assert.ErrorContains(t, err, "does not name its issuer's key")
}

func TestOrdered(t *testing.T) {
	for _, c := range []struct{ names, want []string }{
		{[]string{"a.example", "www.a.example", "a.example"}, []string{"a.example", "www.a.example"}},
		{[]string{"a.example", "www.a.example", "*.a.example"}, []string{"a.example", "*.a.example"}},
		{[]string{"x.www.a.example", "*.a.example"}, []string{"x.www.a.example", "*.a.example"}},
		{[]string{"*.a.example", "*.b.a.example"}, []string{"*.a.example", "*.b.a.example"}},
	} {
		assert.Equal(t, c.want, Ordered(c.names))
	}
}

func TestUncovered(t *testing.T) {
	c := &x509.Certificate{DNSNames: []string{"a.example", "*.a.example"}}
	assert.Empty(t, Uncovered(c, []string{"a.example", "www.a.example", "*.a.example"}))
	assert.Equal(t, []string{"x.www.a.example", "*.b.example", "b.example"}, Uncovered(c, []string{"x.www.a.example", "*.b.example", "b.example"}))
	assert.Equal(t, []string{"*.a.example"}, Uncovered(&x509.Certificate{DNSNames: []string{"www.a.example"}}, []string{"*.a.example"}))
}

func TestUsual(t *testing.T) {
	born := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	for days, want := range map[int]int{398: 21, 90: 21, 47: 11, 6: 1} {
		assert.Equal(t, want, int(Usual(&x509.Certificate{NotBefore: born, NotAfter: born.AddDate(0, 0, days)}).Hours()/24), days)
	}
}

func TestKeys(t *testing.T) {
	for _, kind := range []string{"ecdsa", "rsa"} {
		key, err := NewKey(kind)
		require.NoError(t, err)
		b, err := KeyPEM(key)
		require.NoError(t, err)
		back, err := ReadKey(append([]byte("text before\n"), b...))
		require.NoError(t, err)
		assert.True(t, sameKey(key.Public(), back.Public()))
		der, err := Asking(key, []string{"a.example", "*.a.example"})
		require.NoError(t, err)
		csr, err := x509.ParseCertificateRequest(der)
		require.NoError(t, err)
		assert.NoError(t, csr.CheckSignature())
		assert.Equal(t, []string{"a.example", "*.a.example"}, csr.DNSNames)
	}
	_, err := NewKey("dsa")
	assert.ErrorContains(t, err, `not "dsa"`)
	_, err = ReadKey([]byte("nothing"))
	assert.Error(t, err)
}
