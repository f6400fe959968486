package program

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var names = []string{"--site", "https://ternrock.example", "--also", "www.ternrock.example"}

func certArgs(args ...string) []string { return append(append([]string{"cert"}, args...), names...) }

// From a request to the server's files: the key and request are made, an authority
// signs, the files come back mixed, and are sorted.
func TestCertPapers(t *testing.T) {
	for _, kind := range []string{"ecdsa", "rsa"} {
		t.Run(kind, func(t *testing.T) {
			dir := t.TempDir()
			out := want(t, 0, dir, certArgs("request", "--key", kind)...).out
			assert.Contains(t, out, "ternrock.example.csr.pem")
			key, csr := filepath.Join(dir, "ternrock.example.key.pem"), filepath.Join(dir, "ternrock.example.csr.pem")
			info, err := os.Stat(key)
			require.NoError(t, err)
			assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
			keyText, err := os.ReadFile(key)
			require.NoError(t, err)
			assert.NotContains(t, out, string(keyText)[40:80])
			if _, err := exec.LookPath("openssl"); err == nil { // an outside judge
				said, err := exec.Command("openssl", "req", "-in", csr, "-noout", "-verify", "-text").CombinedOutput()
				require.NoError(t, err, string(said))
				assert.Contains(t, string(said), "DNS:ternrock.example, DNS:www.ternrock.example")
			}
			assert.Contains(t, want(t, 2, dir, certArgs("request")...).errs, "already exists")

			// The authority.
			csrText, err := os.ReadFile(csr)
			require.NoError(t, err)
			block, _ := pem.Decode(csrText)
			request, err := x509.ParseCertificateRequest(block.Bytes)
			require.NoError(t, err)
			root, rootKey := signing(t, nil, nil, "Rock Root")
			between, betweenKey := signing(t, root, rootKey, "Rock Between")
			der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{SerialNumber: big.NewInt(9), Subject: request.Subject, DNSNames: request.DNSNames,
				NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 3, 0), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}, between, request.PublicKey, betweenKey)
			require.NoError(t, err)
			leaf := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
			file := func(name string, parts ...[]byte) string {
				require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(strings.Join(toStrings(parts), "some words between\n")), 0o644))
				return name
			}
			file("ca.pem", coded(root))
			mixed := file("mixed.pem", coded(root), coded(between), leaf)
			derFile := file("leaf.der", der)
			check := func(code int, args ...string) string {
				return strings.Join(strings.Fields(want(t, code, dir, certArgs(append([]string{"check", "--ca", "ca.pem"}, args...)...)...).out), " ")
			}
			said := check(0, mixed, "ternrock.example.key.pem", "--write", ".")
			assert.Contains(t, said, "the key belongs to the certificate")
			assert.Contains(t, said, `an intermediate certificate "Rock Between", from "Rock Root"`)
			chain, err := os.ReadFile(filepath.Join(dir, "ternrock.example.chain.pem"))
			require.NoError(t, err)
			assert.Equal(t, string(leaf)+string(coded(between)), string(chain), "the site's own first, no root")
			assert.Contains(t, check(1, derFile, "ternrock.example.key.pem"), "chain incomplete")
			assert.Contains(t, check(1, mixed), "no key is among the files")
			other := filepath.Join(dir, "other")
			require.NoError(t, os.Mkdir(other, 0o755))
			want(t, 0, other, certArgs("request")...)
			assert.Contains(t, check(1, mixed, "other/ternrock.example.key.pem"), "the key does not belong to the certificate")
			if _, err := exec.LookPath("openssl"); err == nil {
				require.NoError(t, exec.Command("openssl", "pkey", "-in", key, "-aes256", "-passout", "pass:x", "-out", filepath.Join(dir, "locked.pem")).Run())
				assert.Contains(t, check(1, mixed, "locked.pem"), "is locked with a password")
				openssl := func(args ...string) {
					c := exec.Command("openssl", args...)
					c.Dir = dir
					said, err := c.CombinedOutput()
					require.NoError(t, err, string(said))
				}
				file("clean.pem", leaf)
				require.NoError(t, os.WriteFile(filepath.Join(dir, "clean.pem"), append(leaf, coded(between)...), 0o644))
				openssl("crl2pkcs7", "-nocrl", "-certfile", "clean.pem", "-outform", "DER", "-out", "bundle.p7b")
				openssl("crl2pkcs7", "-nocrl", "-certfile", "clean.pem", "-out", "bundle.pem")
				assert.Contains(t, check(0, "bundle.p7b", "ternrock.example.key.pem"), "the key belongs to the certificate")
				assert.Contains(t, check(0, "bundle.pem", "ternrock.example.key.pem"), "Rock Between")
				openssl("pkcs12", "-export", "-inkey", "ternrock.example.key.pem", "-in", "clean.pem", "-passout", "pass:a lamp", "-out", "all.p12")
				require.NoError(t, os.WriteFile(filepath.Join(dir, "lamp.txt"), []byte("a lamp\n"), 0o600))
				assert.Contains(t, want(t, 2, dir, certArgs("check", "all.p12")...).errs, "none of the files holds a certificate")
				assert.Contains(t, check(0, "all.p12", "--password-file", "lamp.txt"), "the key belongs to the certificate")
			}
			// Last year's certificate among the files, and last year's files where the new ones are to go.
			parsed, err := x509.ParseCertificate(der)
			require.NoError(t, err)
			older := *parsed
			older.SerialNumber, older.NotBefore, older.NotAfter = big.NewInt(8), time.Now().AddDate(0, -4, 0), time.Now().AddDate(0, 0, -3)
			oldDER, err := x509.CreateCertificate(rand.Reader, &older, between, request.PublicKey, betweenKey)
			require.NoError(t, err)
			lastYear := file("old.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: oldDER}))
			assert.NotContains(t, check(0, lastYear, mixed, "ternrock.example.key.pem"), "expired")
			assert.Contains(t, check(1, lastYear, string(file("between.pem", coded(between))), "ternrock.example.key.pem", "--write", "."), "was not replaced")
			newer := older
			newer.SerialNumber, newer.NotBefore, newer.NotAfter = big.NewInt(10), time.Now().Add(-time.Hour), time.Now().AddDate(0, 4, 0)
			newDER, err := x509.CreateCertificate(rand.Reader, &newer, between, request.PublicKey, betweenKey)
			require.NoError(t, err)
			assert.Contains(t, check(0, mixed, file("new.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: newDER})), "ternrock.example.key.pem", "--write", "."), "the previous one is kept")
			kept, err := filepath.Glob(filepath.Join(dir, "ternrock.example.chain.pem.*.old"))
			require.NoError(t, err)
			require.Len(t, kept, 1)
			b, err := os.ReadFile(kept[0])
			require.NoError(t, err)
			assert.Equal(t, string(chain), string(b))
			for name, c := range map[string]struct {
				text []byte
				say  string
			}{
				"rubbish.pem": {[]byte("rubbish\x1b[2J"), "holds no certificate, key or request"},
				"empty.pem":   {nil, "holds no certificate, key or request"},
				"key.pem":     {keyText, "none of the files holds a certificate"},
				"large.pem":   {make([]byte, 5<<20), "is too large for a certificate"},
			} {
				r := want(t, 2, dir, certArgs("check", file(name, c.text))...)
				assert.Contains(t, r.errs, c.say, name)
				assert.NotContains(t, r.errs, "\x1b")
			}
			broken := file("broken.pem", []byte("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"), leaf, coded(between))
			assert.Contains(t, check(1, broken), "cannot be read")
			assert.Contains(t, want(t, 2, dir, certArgs("check", "nothing.pem")...).errs, "nothing.pem")
		})
	}
}

func toStrings(parts [][]byte) (out []string) {
	for _, p := range parts {
		out = append(out, string(p))
	}
	return out
}

func coded(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}

// signing makes an authority.
func signing(t *testing.T, by *x509.Certificate, byKey *ecdsa.PrivateKey, name string) (*x509.Certificate, *ecdsa.PrivateKey) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0)}
	c.Subject.CommonName = name
	if by == nil {
		by, byKey = c, key
	}
	der, err := x509.CreateCertificate(rand.Reader, c, by, &key.PublicKey, byKey)
	require.NoError(t, err)
	out, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return out, key
}

func TestCertProof(t *testing.T) {
	root := t.TempDir()
	files := http.FileServer(http.Dir(root))
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.Host, "www.") {
			http.NotFound(w, r)
			return
		}
		files.ServeHTTP(w, r)
	}, nil)
	r := want(t, 1, f.dir, f.args("cert", "proof", root)...)
	assert.Contains(t, r.out, "[x] http://ternrock.example/.well-known/acme-challenge/trimlantern-")
	assert.Contains(t, r.out, "answers 404")
	left, err := os.ReadDir(root)
	require.NoError(t, err)
	assert.Empty(t, left, "nothing stays")
	want(t, 1, f.dir, f.args("cert", "proof", "--keep", "--pki-folder", root, "token.txt", "the content")...)
	b, err := os.ReadFile(filepath.Join(root, ".well-known", "pki-validation", "token.txt"))
	require.NoError(t, err)
	assert.Equal(t, "the content", string(b))
	assert.Contains(t, want(t, 3, f.dir, f.args("cert", "proof", "--pki-folder", root, "token.txt", "x")...).errs, "already exists")
	assert.FileExists(t, filepath.Join(root, ".well-known", "pki-validation", "token.txt"), "what was there stays")
	for _, c := range []struct {
		args []string
		say  string
	}{
		{[]string{"cert", "proof", root, "../x", "y"}, "is not a file name"}, {[]string{"cert", "proof", root, ".htaccess", "y"}, "is not a file name"},
		{[]string{"cert", "proof", root + "/nothing"}, "is not a folder"}, {[]string{"cert", "proof", root, "x"}, "needs the folder ROOT"},
	} {
		assert.Contains(t, want(t, 2, f.dir, f.args(c.args...)...).errs, c.say)
	}
}
