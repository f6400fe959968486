//go:build real

package real

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/certs"
	"trimlantern/core/point"
	"trimlantern/outside/probe"
)

// holder is a certificate with its key.
type holder struct {
	*x509.Certificate
	key crypto.Signer
}

// mint makes a certificate for a key; without an issuer it signs itself.
func mint(t *testing.T, by *holder, key crypto.Signer, change func(*x509.Certificate)) *holder {
	t.Helper()
	if key == nil {
		var err error
		key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
	}
	number, err := rand.Int(rand.Reader, big.NewInt(1<<60))
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: number, NotBefore: time.Now().Add(-48 * time.Hour), NotAfter: time.Now().Add(60 * 24 * time.Hour), BasicConstraintsValid: true,
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
	return &holder{parsed, key}
}

// office makes the certificate of an authority.
func office(t *testing.T, by *holder, key crypto.Signer, name string, change func(*x509.Certificate)) *holder {
	return mint(t, by, key, func(c *x509.Certificate) {
		c.Subject.CommonName, c.IsCA, c.KeyUsage, c.ExtKeyUsage = name, true, x509.KeyUsageCertSign|x509.KeyUsageCRLSign, nil
		c.NotBefore, c.NotAfter = time.Now().AddDate(-3, 0, 0), time.Now().AddDate(5, 0, 0)
		if change != nil {
			change(c)
		}
	})
}

// offices are the authorities of the test: a root that the browser trusts, an old one that it does not, and what they issued.
type offices struct {
	root, old, between, stranger, strangerBetween *holder
	rsa1024, rsa2048                              *rsa.PrivateKey
}

func someOffices(t *testing.T) *offices {
	o := &offices{root: office(t, nil, nil, "Rock Root", nil), old: office(t, nil, nil, "Old Root", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, -1, 0) })}
	o.between = office(t, o.root, nil, "Rock Between", nil)
	o.stranger = office(t, nil, nil, "Strange Root", nil)
	o.strangerBetween = office(t, o.stranger, nil, "Strange Between", nil)
	var err error
	o.rsa1024, err = rsa.GenerateKey(rand.Reader, 1024)
	require.NoError(t, err)
	o.rsa2048, err = rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	return o
}

// leafKind is one way in which the site's own certificate is made.
type leafKind struct {
	what   string
	key    func(t *testing.T, o *offices) crypto.Signer
	change func(c *x509.Certificate, name string)
}

var leafKinds = []leafKind{
	{"as usual", nil, nil},
	{"RSA of 2048 bits", func(_ *testing.T, o *offices) crypto.Signer { return o.rsa2048 }, nil},
	{"RSA of 1024 bits", func(_ *testing.T, o *offices) crypto.Signer { return o.rsa1024 }, nil},
	{"P-384", curve(elliptic.P384()), nil},
	{"P-521", curve(elliptic.P521()), nil},
	{"Ed25519", func(t *testing.T, _ *offices) crypto.Signer {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		return key
	}, nil},
	{"a wildcard", nil, func(c *x509.Certificate, _ string) { c.DNSNames = []string{"*.ternrock.example"} }},
	{"a wildcard of a wildcard", nil, func(c *x509.Certificate, _ string) { c.DNSNames = []string{"*.*.example"} }},
	{"part of a label as a wildcard", nil, func(c *x509.Certificate, name string) { c.DNSNames = []string{name[:2] + "*" + name[4:]} }},
	{"capital letters", nil, func(c *x509.Certificate, name string) { c.DNSNames = []string{strings.ToUpper(name)} }},
	{"another name", nil, func(c *x509.Certificate, _ string) { c.DNSNames = []string{"other.example"} }},
	{"among many names", nil, func(c *x509.Certificate, name string) {
		c.DNSNames = []string{"other.example", "a.example", name, "b.example"}
	}},
	{"a common name alone", nil, func(c *x509.Certificate, name string) { c.DNSNames, c.Subject.CommonName = nil, name }},
	{"a common name of another site", nil, func(c *x509.Certificate, name string) { c.Subject.CommonName = "other.example" }},
	{"an address alone", nil, func(c *x509.Certificate, name string) {
		c.DNSNames, c.IPAddresses = nil, []net.IP{net.IPv4(127, 0, 0, 1)}
	}},
	{"expired", nil, func(c *x509.Certificate, _ string) { c.NotAfter = time.Now().Add(-time.Hour) }},
	{"ends soon", nil, func(c *x509.Certificate, _ string) { c.NotAfter = time.Now().Add(30 * time.Hour) }},
	{"not yet", nil, func(c *x509.Certificate, _ string) { c.NotBefore = time.Now().Add(24 * time.Hour) }},
	{"no extended usage", nil, func(c *x509.Certificate, _ string) { c.ExtKeyUsage = nil }},
	{"any extended usage", nil, func(c *x509.Certificate, _ string) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageAny} }},
	{"for clients", nil, func(c *x509.Certificate, _ string) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }},
	{"for clients and servers", nil, func(c *x509.Certificate, _ string) {
		c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth, x509.ExtKeyUsageServerAuth}
	}},
	{"for code", nil, func(c *x509.Certificate, _ string) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageCodeSigning} }},
	{"no key usage", nil, func(c *x509.Certificate, _ string) { c.KeyUsage = 0 }},
	{"key usage: agreement", nil, func(c *x509.Certificate, _ string) { c.KeyUsage = x509.KeyUsageKeyAgreement }},
	{"key usage: encipherment", nil, func(c *x509.Certificate, _ string) { c.KeyUsage = x509.KeyUsageKeyEncipherment }},
	{"key usage: signature and encipherment", nil, func(c *x509.Certificate, _ string) {
		c.KeyUsage = x509.KeyUsageDigitalSignature | x509.KeyUsageKeyEncipherment
	}},
	{"key usage: commitment", nil, func(c *x509.Certificate, _ string) { c.KeyUsage = x509.KeyUsageContentCommitment }},
	{"RSA, key usage: encipherment", func(_ *testing.T, o *offices) crypto.Signer { return o.rsa2048 }, func(c *x509.Certificate, _ string) { c.KeyUsage = x509.KeyUsageKeyEncipherment }},
	{"RSA, no key usage", func(_ *testing.T, o *offices) crypto.Signer { return o.rsa2048 }, func(c *x509.Certificate, _ string) { c.KeyUsage = 0 }},
	{"an authority's own", nil, func(c *x509.Certificate, _ string) {
		c.IsCA, c.KeyUsage = true, x509.KeyUsageCertSign|x509.KeyUsageDigitalSignature
	}},
	{"an authority's, that may not sign", nil, func(c *x509.Certificate, _ string) { c.IsCA = true }},
	{"may sign, and is no authority", nil, func(c *x509.Certificate, _ string) {
		c.KeyUsage = x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature
	}},
	{"no basic constraints", nil, func(c *x509.Certificate, _ string) { c.BasicConstraintsValid = false }},
	{"an unknown extension", nil, func(c *x509.Certificate, _ string) {
		c.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{1, 2, 3, 4, 5}, Value: []byte{5, 0}}}
	}},
	{"an unknown extension that is critical", nil, func(c *x509.Certificate, _ string) {
		c.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{1, 2, 3, 4, 5}, Critical: true, Value: []byte{5, 0}}}
	}},
	{"issued for 900 days", nil, func(c *x509.Certificate, _ string) { c.NotAfter = c.NotBefore.AddDate(0, 0, 900) }},
}

func curve(c elliptic.Curve) func(*testing.T, *offices) crypto.Signer {
	return func(t *testing.T, _ *offices) crypto.Signer {
		key, err := ecdsa.GenerateKey(c, rand.Reader)
		require.NoError(t, err)
		return key
	}
}

// chainKind is one way in which a certificate is issued, and what the server sends with it.
type chainKind struct {
	what string
	send func(t *testing.T, o *offices, leaf func(by *holder) *holder) []*holder
}

// through sends a certificate of an intermediate that is made as told.
func through(what string, change func(*x509.Certificate)) chainKind {
	return chainKind{what, func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		between := office(t, o.root, nil, "Between that "+what, change)
		return []*holder{leaf(between), between}
	}}
}

// alongside sends the usual chain and something more.
func alongside(what string, more func(t *testing.T, o *offices) []*holder) chainKind {
	return chainKind{what, func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		return append([]*holder{leaf(o.between), o.between}, more(t, o)...)
	}}
}

var chainKinds = []chainKind{
	{"whole", func(_ *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		return []*holder{leaf(o.between), o.between}
	}},
	{"by the root itself", func(_ *testing.T, o *offices, leaf func(*holder) *holder) []*holder { return []*holder{leaf(o.root)} }},
	{"nothing but the leaf", func(_ *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		return []*holder{leaf(o.between)}
	}},
	{"out of order", func(_ *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		return []*holder{leaf(o.between), o.root, o.between}
	}},
	{"the leaf twice", func(_ *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		l := leaf(o.between)
		return []*holder{l, l, o.between}
	}},
	{"self-signed", func(_ *testing.T, _ *offices, leaf func(*holder) *holder) []*holder { return []*holder{leaf(nil)} }},
	{"of a stranger", func(_ *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		return []*holder{leaf(o.strangerBetween), o.strangerBetween, o.stranger}
	}},
	{"of a stranger, without a root", func(_ *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		return []*holder{leaf(o.strangerBetween), o.strangerBetween}
	}},
	{"of another intermediate", func(_ *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		return []*holder{leaf(o.between), o.strangerBetween}
	}},
	{"by a long way", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		a := office(t, o.root, nil, "Between A", nil)
		b := office(t, a, nil, "Between B", nil)
		c := office(t, b, nil, "Between C", nil)
		return []*holder{leaf(c), c, b, a}
	}},
	{"by a way that is too long", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		a := office(t, o.root, nil, "Short A", func(c *x509.Certificate) { c.MaxPathLen, c.MaxPathLenZero = 0, true })
		b := office(t, a, nil, "Short B", nil)
		return []*holder{leaf(b), b, a}
	}},
	alongside("with its root", func(_ *testing.T, o *offices) []*holder { return []*holder{o.root} }),
	alongside("with a stranger's root", func(_ *testing.T, o *offices) []*holder { return []*holder{o.stranger} }),
	alongside("with an old root", func(_ *testing.T, o *offices) []*holder { return []*holder{o.old} }),
	alongside("with an expired intermediate of others", func(t *testing.T, o *offices) []*holder {
		return []*holder{office(t, o.stranger, nil, "Other Between", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, -1, 0) })}
	}),
	alongside("with a weak certificate of others", func(t *testing.T, o *offices) []*holder {
		return []*holder{office(t, nil, o.rsa1024, "Weak Root", nil)}
	}),
	alongside("with an old signature of others", func(t *testing.T, o *offices) []*holder {
		weak := office(t, nil, o.rsa2048, "RSA Root", nil)
		return []*holder{office(t, weak, nil, "Old Signature", func(c *x509.Certificate) { c.SignatureAlgorithm = x509.SHA1WithRSA })}
	}),
	alongside("with a root that an older one signed, which expired", func(t *testing.T, o *offices) []*holder {
		return []*holder{office(t, o.old, o.root.key, "Rock Root", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, -1, 0) })}
	}),
	alongside("with a root that a stranger signed", func(t *testing.T, o *offices) []*holder {
		return []*holder{office(t, o.stranger, o.root.key, "Rock Root", nil)}
	}),
	alongside("with its intermediate as it was", func(t *testing.T, o *offices) []*holder {
		return []*holder{office(t, o.root, o.between.key, "Rock Between", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, -1, 0) })}
	}),
	{"with its intermediate as it was, before", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		was := office(t, o.root, o.between.key, "Rock Between", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, -1, 0) })
		return []*holder{leaf(o.between), was, o.between}
	}},
	{"signed by the root only through a cross-signed one", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		next := office(t, nil, nil, "Next Root", nil)
		cross := office(t, o.root, next.key, "Next Root", nil)
		between := office(t, next, nil, "Next Between", nil)
		return []*holder{leaf(between), between, cross}
	}},
	{"signed by the root only through an expired cross-signed one", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		next := office(t, nil, nil, "Next Root", nil)
		cross := office(t, o.root, next.key, "Next Root", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, -1, 0) })
		between := office(t, next, nil, "Next Between", nil)
		return []*holder{leaf(between), between, cross}
	}},
	through("ended", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, 0, -1) }),
	through("ends soon", func(c *x509.Certificate) { c.NotAfter = time.Now().AddDate(0, 0, 2) }),
	through("begins tomorrow", func(c *x509.Certificate) { c.NotBefore = time.Now().AddDate(0, 0, 1) }),
	through("is no authority", func(c *x509.Certificate) { c.IsCA = false; c.KeyUsage = x509.KeyUsageDigitalSignature }),
	through("has no right to sign", func(c *x509.Certificate) { c.KeyUsage = x509.KeyUsageDigitalSignature }),
	through("is for clients", func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }),
	through("is for servers", func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} }),
	through("may issue for others only", func(c *x509.Certificate) {
		c.PermittedDNSDomainsCritical, c.PermittedDNSDomains = true, []string{"other.example"}
	}),
	through("may issue for this site", func(c *x509.Certificate) {
		c.PermittedDNSDomainsCritical, c.PermittedDNSDomains = true, []string{"ternrock.example"}
	}),
	through("may not issue for this site", func(c *x509.Certificate) {
		c.PermittedDNSDomainsCritical, c.ExcludedDNSDomains = true, []string{"ternrock.example"}
	}),
	through("has a critical extension", func(c *x509.Certificate) {
		c.ExtraExtensions = []pkix.Extension{{Id: asn1.ObjectIdentifier{1, 2, 3, 4, 5}, Critical: true, Value: []byte{5, 0}}}
	}),
	{"through a weak intermediate", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		between := office(t, o.root, o.rsa1024, "Weak Between", nil)
		return []*holder{leaf(between), between}
	}},
	{"through an RSA intermediate", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		between := office(t, o.root, o.rsa2048, "RSA Between", nil)
		return []*holder{leaf(between), between}
	}},
	{"through an intermediate with an old signature", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		up := office(t, o.root, o.rsa2048, "RSA Up", nil)
		between := office(t, up, nil, "Old Signature", func(c *x509.Certificate) { c.SignatureAlgorithm = x509.SHA1WithRSA })
		return []*holder{leaf(between), between, up}
	}},
	{"with an old signature and a new one of the same intermediate", func(t *testing.T, o *offices, leaf func(*holder) *holder) []*holder {
		up := office(t, o.root, o.rsa2048, "RSA Up", nil)
		between := office(t, up, nil, "Both Signatures", nil)
		old := office(t, up, between.key, "Both Signatures", func(c *x509.Certificate) { c.SignatureAlgorithm = x509.SHA1WithRSA })
		return []*holder{leaf(between), old, between, up}
	}},
}

// sternly are leaves that we refuse for what other browsers refuse: Chromium takes short keys of authorities that its user added.
var sternly = []string{"RSA of 1024 bits", "through a weak intermediate"}

// servedChain is one name with what its server sends.
type servedChain struct {
	what, name string
	chain      []*holder
	says       string // the browser's answer
}

// aChain makes what one server sends.
func aChain(t *testing.T, o *offices, n int, kind leafKind, way chainKind) *servedChain {
	s := &servedChain{what: kind.what + "; " + way.what, name: fmt.Sprintf("name%d.ternrock.example", n)}
	var key crypto.Signer
	if kind.key != nil {
		key = kind.key(t, o)
	}
	s.chain = way.send(t, o, func(by *holder) *holder {
		return mint(t, by, key, func(c *x509.Certificate) {
			c.DNSNames = []string{s.name}
			if kind.change != nil {
				kind.change(c, s.name)
			}
		})
	})
	return s
}

// pair returns the certificates as a server has them.
func (s *servedChain) pair() *tls.Certificate {
	p := &tls.Certificate{PrivateKey: s.chain[0].key}
	for _, c := range s.chain {
		p.Certificate = append(p.Certificate, c.Raw)
	}
	return p
}

// What is sent is judged as Chromium judges it: each way to make a certificate, each way to issue it, and pairs of both.
func TestChromiumCertificates(t *testing.T) {
	o := someOffices(t)
	var all []*servedChain
	for _, kind := range leafKinds {
		all = append(all, aChain(t, o, len(all), kind, chainKinds[0]))
	}
	for _, way := range chainKinds[1:] {
		all = append(all, aChain(t, o, len(all), leafKinds[0], way))
	}
	for i := range 80 {
		all = append(all, aChain(t, o, len(all), leafKinds[1+(i*7)%(len(leafKinds)-1)], chainKinds[1+(i*5)%(len(chainKinds)-1)]))
	}
	byName := map[string]*servedChain{}
	for _, s := range all {
		byName[s.name] = s
	}
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
		if s := byName[hello.ServerName]; s != nil {
			return s.pair(), nil
		}
		return nil, fmt.Errorf("no certificate for %q", hello.ServerName)
	}})
	require.NoError(t, err)
	quietly := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Access-Control-Allow-Origin", "*")
		fmt.Fprint(w, "in")
	}), ErrorLog: log.New(io.Discard, "", 0)}
	go quietly.Serve(listener) //nolint:errcheck // closed by the test
	defer quietly.Close()
	askChromium(t, o.root, all, listener.Addr().String())

	roots := x509.NewCertPool()
	roots.AddCert(o.root.Certificate)
	refused, wrong := 0, 0
	for _, s := range all {
		seen := probe.Handshake(t.Context(), listener.Addr().String(), s.name)
		var said []string
		stops := seen.Err != ""
		if !stops {
			for _, f := range (certs.Sent{Chain: seen.Chain, Names: []string{s.name}, Roots: roots, Now: time.Now(), Served: true, Staple: seen.Staple}).Judge() {
				stops = stops || f.Grade() == point.Stop
				if f.Grade() != point.Good {
					said = append(said, fmt.Sprint(f.Code, "=", f.Grade()))
				}
			}
		}
		if s.says != "in" {
			refused++
		}
		if stops && slices.ContainsFunc(sternly, func(kind string) bool { return strings.Contains(s.what, kind) }) {
			assert.Contains(t, said, "short-rsa=stop", s.what)
			continue
		}
		if !assert.Equal(t, s.says != "in", stops, "%s: Chromium says %q; we say %v %s", s.what, s.says, said, seen.Err) {
			wrong++
		}
	}
	t.Logf("%d servers, %d refused by Chromium, %d judged otherwise", len(all), refused, wrong)
}

// askChromium opens each name in a real browser that trusts the root, and keeps what became of it.
func askChromium(t *testing.T, root *holder, all []*servedChain, at string) {
	home := t.TempDir()
	store := filepath.Join(home, ".pki", "nssdb")
	require.NoError(t, os.MkdirAll(store, 0o700))
	file := filepath.Join(home, "root.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.Raw}), 0o600))
	for _, args := range [][]string{{"-N", "--empty-password"}, {"-A", "-t", "C,,", "-n", "rock", "-i", file}} {
		out, err := exec.Command("certutil", append([]string{"-d", "sql:" + store}, args...)...).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	var names []string
	for _, s := range all {
		names = append(names, s.name)
	}
	list, err := json.Marshal(names)
	require.NoError(t, err)
	page := `<script>
const names = ` + string(list) + `, says = {};
async function one(name) {
  try { says[name] = await (await fetch("https://" + name + "/", {cache: "no-store"})).text(); } catch (e) { says[name] = "" + e; }
}
(async () => {
  for (let i = 0; i < names.length; i += 8) await Promise.all(names.slice(i, i + 8).map(one));
  await fetch("/says", {method: "POST", body: JSON.stringify(says)});
})();
</script>`
	got := make(chan map[string]string, 1)
	plain, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	asked := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			says := map[string]string{}
			body, err := io.ReadAll(r.Body)
			if err == nil && json.Unmarshal(body, &says) == nil {
				got <- says
			}
			return
		}
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, page)
	})}
	go asked.Serve(plain) //nolint:errcheck // closed by the test
	defer asked.Close()
	args := []string{"--headless=new", "--no-first-run", "--disable-gpu", "--disable-background-networking", "--user-data-dir=" + filepath.Join(home, "profile"),
		"--host-resolver-rules=MAP *.ternrock.example " + at + ", MAP start.example " + plain.Addr().String(), "--disable-features=HttpsUpgrades,LocalNetworkAccessChecks,PrivateNetworkAccessChecks",
		"--remote-debugging-port=0"}
	if os.Getuid() == 0 {
		args = append(args, "--no-sandbox")
	}
	c := exec.Command("chromium", append(args, "http://start.example/")...)
	c.Env = append(os.Environ(), "HOME="+home)
	require.NoError(t, c.Start())
	defer func() { _ = c.Process.Kill(); _ = c.Wait() }() // ended by us
	select {
	case says := <-got:
		for _, s := range all {
			s.says = says[s.name]
		}
	case <-time.After(4 * time.Minute):
		t.Fatal("the browser did not answer")
	}
}
