package certs

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"trimlantern/core/point"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

type issued struct {
	*x509.Certificate
	key crypto.Signer
}

// issue makes a certificate; by nil it signs itself.
func issue(t *testing.T, by *issued, change func(*x509.Certificate), key crypto.Signer) *issued {
	t.Helper()
	if key == nil {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		key = k
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), NotBefore: now.AddDate(0, -1, 0), NotAfter: now.AddDate(0, 2, 0), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	change(c)
	parent, signer := c, key
	if by != nil {
		parent, signer = by.Certificate, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, key.Public(), signer)
	require.NoError(t, err)
	parsed, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return &issued{parsed, key}
}

func authority(t *testing.T, by *issued, name string, key ...crypto.Signer) *issued {
	return issue(t, by, func(c *x509.Certificate) {
		c.Subject.CommonName, c.IsCA, c.KeyUsage, c.ExtKeyUsage = name, true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign, nil
		c.NotBefore, c.NotAfter = now.AddDate(-2, 0, 0), now.AddDate(8, 0, 0)
	}, append(key, nil)[0])
}

func TestJudge(t *testing.T) {
	root := authority(t, nil, "Rock Root")
	between := authority(t, root, "Rock Between")
	stranger := authority(t, nil, "Nobody's Root")
	roots := x509.NewCertPool()
	roots.AddCert(root.Certificate)
	site := func(change func(*x509.Certificate)) *issued {
		return issue(t, between, func(c *x509.Certificate) {
			c.Subject = pkix.Name{CommonName: "ternrock.example"}
			c.DNSNames = []string{"ternrock.example", "www.ternrock.example"}
			c.IssuingCertificateURL = []string{"http://authority.example/between.crt"}
			if change != nil {
				change(c)
			}
		}, nil)
	}
	good := site(nil)
	weak, err := rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(t, err)
	self := issue(t, nil, func(c *x509.Certificate) { c.DNSNames = good.DNSNames }, nil)
	old := authority(t, root, "Old Between")
	old.NotAfter = now.AddDate(0, 0, -3)
	old = issue(t, root, func(c *x509.Certificate) {
		c.Subject.CommonName, c.IsCA, c.KeyUsage = "Old Between", true, x509.KeyUsageCertSign
		c.NotBefore, c.NotAfter = now.AddDate(-3, 0, 0), now.AddDate(0, 0, -3)
	}, nil)
	forOther := issue(t, root, func(c *x509.Certificate) {
		c.Subject.CommonName, c.IsCA, c.KeyUsage, c.ExtKeyUsage = "For Other", true, x509.KeyUsageCertSign, nil
		c.PermittedDNSDomainsCritical, c.PermittedDNSDomains = true, []string{"other.example"}
	}, nil)
	byOther := issue(t, forOther, func(c *x509.Certificate) { c.DNSNames = good.DNSNames }, nil)
	none := issue(t, root, func(c *x509.Certificate) { c.Subject.CommonName = "No Authority" }, nil)
	byNone := issue(t, none, func(c *x509.Certificate) { c.DNSNames = good.DNSNames }, nil)
	byOld := issue(t, old, func(c *x509.Certificate) { c.DNSNames = good.DNSNames }, nil)
	for _, cs := range []struct {
		what  string
		chain []*issued
		want  map[string]point.Grade // what is not good
		say   string
	}{
		{"good", []*issued{good, between}, nil, "covers: [ternrock.example www.ternrock.example]"},
		{"with its root", []*issued{good, between, root}, nil, "in-date: [] of [], 0 bits, number 0, 61 days, 2027-01-23"},
		{"a wildcard covers no bare name", []*issued{site(func(c *x509.Certificate) { c.DNSNames = []string{"*.ternrock.example"} }), between}, map[string]point.Grade{"names": point.Stop}, "names-missing: [ternrock.example] of"},
		{"wildcard and bare name", []*issued{site(func(c *x509.Certificate) { c.DNSNames = []string{"*.ternrock.example", "ternrock.example"} }), between}, nil, ""},
		{"only www", []*issued{site(func(c *x509.Certificate) { c.DNSNames = []string{"www.ternrock.example"} }), between}, map[string]point.Grade{"names": point.Stop}, "of [ternrock.example www.ternrock.example]"},
		{"only the bare name", []*issued{site(func(c *x509.Certificate) { c.DNSNames = c.DNSNames[:1] }), between}, map[string]point.Grade{"names": point.Stop}, "names-missing: [www.ternrock.example]"},
		{"wrong host", []*issued{site(func(c *x509.Certificate) { c.DNSNames = []string{"other.example"} }), between}, map[string]point.Grade{"names": point.Stop}, "other-names: [other.example] of [ternrock.example www.ternrock.example]"},
		{"an address", []*issued{site(func(c *x509.Certificate) { c.DNSNames, c.IPAddresses = nil, []net.IP{net.IPv4(192, 0, 2, 1)} }), between}, map[string]point.Grade{"names": point.Stop}, "other-names: [192.0.2.1]"},
		{"a common name alone", []*issued{site(func(c *x509.Certificate) { c.DNSNames = nil }), between}, map[string]point.Grade{"names": point.Stop}, "other-names: [] of"},
		{"expired", []*issued{site(func(c *x509.Certificate) { c.NotAfter = now.AddDate(0, 0, -1) }), between}, map[string]point.Grade{"dates": point.Stop}, "expired: [] of [], 0 bits, number 0, 0 days, 2026-11-22"},
		{"not yet", []*issued{site(func(c *x509.Certificate) { c.NotBefore = now.AddDate(0, 0, 2) }), between}, map[string]point.Grade{"dates": point.Stop}, "not-yet: [] of [], 0 bits, number 0, 0 days, 2026-11-25"},
		{"soon", []*issued{site(func(c *x509.Certificate) { c.NotAfter = now.AddDate(0, 0, 9) }), between}, map[string]point.Grade{"dates": point.Care}, "ends-soon: [] of [], 0 bits, number 0, 9 days"},
		{"missing intermediate", []*issued{good}, map[string]point.Grade{"chain": point.Stop}, "http://authority.example/between.crt"},
		{"wrong order", []*issued{good, root, between}, map[string]point.Grade{"order": point.Care}, "out-of-order: [] of [], 0 bits, number 1"},
		{"another leaf first", []*issued{between, good}, map[string]point.Grade{"first": point.Stop, "names": point.Stop, "order": point.Care}, "not-first: [] of [], 0 bits, number 2"},
		{"self-signed", []*issued{self}, map[string]point.Grade{"trust": point.Stop}, "self-signed"},
		{"an unknown authority", []*issued{issue(t, stranger, func(c *x509.Certificate) { c.DNSNames = good.DNSNames }, nil), stranger}, map[string]point.Grade{"trust": point.Stop}, "Nobody's Root"},
		{"weak key", []*issued{issue(t, between, func(c *x509.Certificate) { c.DNSNames = good.DNSNames }, weak), between}, map[string]point.Grade{"key": point.Stop}, "short-rsa: [] of [], 1024 bits"},
		{"for people, not for servers", []*issued{site(func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }), between}, map[string]point.Grade{"purpose": point.Stop}, "other-purpose"},
		{"for both", []*issued{site(func(c *x509.Certificate) {
			c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}
		}), between}, nil, ""},
		{"for 1,500 days", []*issued{site(func(c *x509.Certificate) { c.NotAfter = c.NotBefore.AddDate(0, 0, 1500) }), between}, map[string]point.Grade{"life": point.Care}, "long-life: [] of [], 0 bits, number 0, 1500 days"},
		{"for 398 days, before they were too many", []*issued{site(func(c *x509.Certificate) {
			c.NotBefore = now.AddDate(0, 0, -300)
			c.NotAfter = c.NotBefore.AddDate(0, 0, 398)
		}), between}, nil, ""},
		{"must staple, and nothing is stapled", []*issued{site(func(c *x509.Certificate) {
			c.ExtraExtensions = []pkix.Extension{{Id: tlsFeature, Value: []byte{0x30, 0x03, 0x02, 0x01, 0x05}}}
		}), between}, map[string]point.Grade{"staple": point.Stop}, "no-staple"},
		{"revoked", []*issued{site(func(c *x509.Certificate) { c.SerialNumber = big.NewInt(666) }), between}, map[string]point.Grade{"revoked": point.Stop}, "revoked: [] of [], 0 bits, number 0, 0 days, 2026-11-20"},
		{"a key that may not sign", []*issued{site(func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageKeyAgreement }), between}, map[string]point.Grade{"purpose": point.Stop}, "no-signing"},
		{"an authority's own", []*issued{site(func(c *x509.Certificate) {
			c.IsCA, c.KeyUsage = true, x509.KeyUsageCertSign|x509.KeyUsageDigitalSignature
		}), between}, map[string]point.Grade{"own": point.Note}, "of-authority"},
		{"with an intermediate of others that ended", []*issued{good, between, old}, map[string]point.Grade{"extra": point.Note}, "extra: [] of [], 0 bits, number 3"},
		{"with a root of others", []*issued{good, between, stranger}, map[string]point.Grade{"extra": point.Note}, "Nobody's Root"},
		{"an intermediate that ended, and its successor", []*issued{byOld, old, authority(t, root, "Old Between", old.key)}, map[string]point.Grade{"order": point.Care}, "out-of-order: [] of [], 0 bits, number 1"},
		{"an intermediate that may not issue for it", []*issued{byOther, forOther}, map[string]point.Grade{"chain": point.Stop}, "issuer-forbids: [ternrock.example www.ternrock.example]"},
		{"an intermediate that is no authority", []*issued{byNone, none}, map[string]point.Grade{"chain": point.Stop}, "issuer-unfit"},
		{"an intermediate that ended", []*issued{byOld, old}, map[string]point.Grade{"dates-chain": point.Stop}, "issuer-expired: [] of [], 0 bits, number 0, 0 days, 2026-11-20"},
	} {
		lists := []*x509.RevocationList{revocations(t, between, 666), revocations(t, stranger, 1, 2, 3, 4, 5, 6, 7, 8, 9)}
		var chain []*x509.Certificate
		for _, c := range cs.chain {
			chain = append(chain, c.Certificate)
		}
		found := Sent{Chain: chain, Names: []string{"ternrock.example", "www.ternrock.example"}, Roots: roots, Now: now, Soon: 21 * 24 * time.Hour, Served: true, Lists: lists}.Judge()
		got := map[string]point.Grade{}
		all := ""
		for _, f := range found {
			all += fmt.Sprintf("%s: %v of %v, %d bits, number %d, %d days, %s %s %s %s\n", f.Code, f.Names, f.Wanted, f.Bits, f.Number, f.Days, f.When.Format("2006-01-02"), f.Subject, f.Issuer, f.URL)
			if f.Grade() != point.Good {
				got[f.ID()] = f.Grade()
			}
		}
		if cs.want == nil {
			cs.want = map[string]point.Grade{}
		}
		assert.Equal(t, cs.want, got, "%s\n%s", cs.what, all)
		assert.Contains(t, all, cs.say, cs.what)
		againstOpenSSL(t, cs.what, root, chain, got)
	}
}

// revocations is a list of an authority.
func revocations(t *testing.T, by *issued, serials ...int64) *x509.RevocationList {
	l := &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: now.AddDate(0, 0, -1), NextUpdate: now.AddDate(0, 0, 7)}
	for _, n := range serials {
		l.RevokedCertificateEntries = append(l.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: big.NewInt(n), RevocationTime: now.AddDate(0, 0, -3)})
	}
	der, err := x509.CreateRevocationList(rand.Reader, l, by.Certificate, by.key)
	require.NoError(t, err)
	list, err := x509.ParseRevocationList(der)
	require.NoError(t, err)
	return list
}

// An OCSP answer that comes along is read.
func TestStapled(t *testing.T) {
	root := issue(t, nil, func(c *x509.Certificate) { c.IsCA, c.KeyUsage = true, x509.KeyUsageCertSign }, nil)
	leaf := issue(t, root, func(c *x509.Certificate) {
		c.DNSNames = []string{"ternrock.example"}
		c.ExtraExtensions = []pkix.Extension{{Id: tlsFeature, Value: []byte{0x30, 0x03, 0x02, 0x01, 0x05}}}
	}, nil)
	roots := x509.NewCertPool()
	roots.AddCert(root.Certificate)
	for _, c := range []struct {
		status int
		until  time.Time
		want   string
	}{{ocsp.Good, now.AddDate(0, 0, 1), ""}, {ocsp.Good, now.AddDate(0, 0, -1), "staple"}, {ocsp.Revoked, now.AddDate(0, 0, 1), "revoked"}, {-1, now, "staple"}} {
		answer := []byte("no answer")
		if c.status >= 0 {
			var err error
			answer, err = ocsp.CreateResponse(root.Certificate, root.Certificate, ocsp.Response{Status: c.status, SerialNumber: leaf.SerialNumber, ThisUpdate: now.AddDate(0, 0, -2), NextUpdate: c.until, RevokedAt: now.AddDate(0, 0, -1)}, root.key)
			require.NoError(t, err)
		}
		got := ""
		for _, f := range (Sent{Chain: []*x509.Certificate{leaf.Certificate}, Names: []string{"ternrock.example"}, Roots: roots, Now: now, Served: true, Staple: answer}).Judge() {
			if f.Grade().Fault() {
				got += f.ID()
			}
		}
		assert.Equal(t, c.want, got, "%+v", c)
	}
}

// againstOpenSSL holds a judgement against that of openssl verify, where it is there.
func againstOpenSSL(t *testing.T, what string, root *issued, chain []*x509.Certificate, got map[string]point.Grade) {
	if _, err := exec.LookPath("openssl"); err != nil {
		t.Log("no openssl here to compare with")
		return
	}
	dir := t.TempDir()
	file := func(name string, certs ...*x509.Certificate) string {
		var b []byte
		for _, c := range certs {
			b = append(b, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
		}
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, b, 0o600))
		return path
	}
	args := []string{"verify", "-attime", "1795435200", "-verify_hostname", "ternrock.example", "-auth_level", "2", "-CAfile", file("root.pem", root.Certificate), "-untrusted", file("rest.pem", chain...), file("leaf.pem", chain[0])}
	out, err := exec.Command("openssl", args...).CombinedOutput()
	if what == "an address" || what == "a common name alone" {
		return // openssl still takes the common name for a host's; browsers do not
	}
	stops := got["dates"] == point.Stop || got["dates-chain"] == point.Stop || got["chain"] == point.Stop || got["trust"] == point.Stop || got["key"] == point.Stop || got["names"] == point.Stop && what != "only the bare name"
	assert.Equal(t, stops, err != nil, "%s: openssl says\n%s", what, out)
}

func FuzzRead(f *testing.F) {
	key, request, err := Request("ecdsa", []string{"ternrock.example"})
	require.NoError(f, err)
	f.Add(key)
	f.Add(append(request, key...))
	f.Add([]byte("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"))
	f.Add([]byte("0\x82\x01\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		papers, err := Read("x", b, "")
		if err != nil {
			require.Empty(t, papers)
			return
		}
		for _, p := range papers {
			require.NotEmpty(t, p.What)
		}
		if bundle, err := Sort(papers, []string{"ternrock.example"}); err == nil {
			require.NotEmpty(t, bundle.Chain)
			Sent{Chain: bundle.Chain, Names: []string{"ternrock.example"}, Roots: x509.NewCertPool(), Now: now}.Judge()
		}
	})
}

// Authorities that all sign each other are looked at so often, and no longer.
func TestCircle(t *testing.T) {
	first := authority(t, nil, "Ring")
	chain := []*x509.Certificate{issue(t, first, func(c *x509.Certificate) { c.DNSNames = []string{"ternrock.example"} }, nil).Certificate}
	for range 30 {
		chain = append(chain, authority(t, first, "Ring", first.key).Certificate)
	}
	var stops []Code
	for _, f := range (Sent{Chain: chain, Names: []string{"ternrock.example"}, Roots: x509.NewCertPool(), Now: now}).Judge() {
		if f.Grade() == point.Stop {
			stops = append(stops, f.Code)
		}
	}
	assert.Equal(t, []Code{Unknown}, stops)
}
