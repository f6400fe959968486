//go:build real

package real

import (
	"cmp"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// internet is a small internet: every name of .example over HTTP and HTTPS.
type internet struct {
	ca      string // file of its authority
	pin     string
	resolve []string
}

// newNet serves one handler under all names.
func newNet(t *testing.T, h http.Handler) *internet {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	tmpl := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: "Tern Rock Test Authority"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(48 * time.Hour), DNSNames: []string{"ternrock.example", "*.example", "*.ternrock.example"},
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, tmpl, tmpl, &key.PublicKey, key)
	require.NoError(t, err)
	cert, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	sum := sha256.Sum256(cert.RawSubjectPublicKeyInfo)
	w := &internet{ca: filepath.Join(t.TempDir(), "ca.pem"), pin: base64.StdEncoding.EncodeToString(sum[:])}
	require.NoError(t, os.WriteFile(w.ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	plain := httptest.NewServer(h)
	t.Cleanup(plain.Close)
	secure := httptest.NewUnstartedServer(h)
	secure.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{der}, PrivateKey: key}}}
	secure.EnableHTTP2 = true
	secure.StartTLS()
	t.Cleanup(secure.Close)
	w.resolve = []string{"*:80:" + strings.TrimPrefix(plain.URL, "http://"), "*:443:" + secure.Listener.Addr().String()}
	return w
}

// served are the kinds of assets by ending.
var served = map[string][2]string{
	".png": {"image/png", "\x89PNG\r\n\x1a\n\x00\x00\x00\rIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x06\x00\x00\x00\x1f\x15\xc4\x89\x00\x00\x00\rIDATx\x9cc\xf8\xff\xff?\x00\x05\xfe\x02\xfe\xa75\x81\x84\x00\x00\x00\x00IEND\xaeB`\x82"},
	".css": {"text/css", "p { color: #123 }"}, ".js": {"text/javascript", "/* nothing */"}, ".html": {"text/html", "<p>Lens</p>"},
	".svg":   {"image/svg+xml", `<svg xmlns="http://www.w3.org/2000/svg" width="9" height="9"><g id="i"><rect width="9" height="9"/></g></svg>`},
	".woff2": {"font/woff2", "wOF2 no font"}, ".mp4": {"video/mp4", "no film"}, ".mp3": {"audio/mpeg", "no sound"}, ".vtt": {"text/vtt", "WEBVTT\n"},
	".json": {"application/json", "{}"}, ".xml": {"application/xml", "<x/>"}, ".zip": {"application/zip", "PK"}, ".txt": {"text/plain", "data: x\n\n"}, ".es": {"text/event-stream", "data: x\n\n"},
	".pdf": {"application/pdf", "%PDF-1.4"},
}

// judgePages serves the pages of the table: /N/ is case N, with its files below.
type judgePages struct{ cases []judgeCase }

func (j *judgePages) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Access-Control-Allow-Origin", "*")
	var n int
	rest := ""
	if _, err := fmt.Sscanf(r.URL.Path, "/%d/", &n); err == nil && n < len(j.cases) {
		_, rest, _ = strings.Cut(r.URL.Path[1:], "/")
		c := j.cases[n]
		if r.Host == "ternrock.example" {
			if rest == "" {
				for _, line := range c.headers {
					k, v, _ := strings.Cut(c.fill(line, n), ": ")
					w.Header().Add(k, v)
				}
				w.Header().Set("Content-Type", cmp.Or(c.typ, "text/html; charset=utf-8"))
				fmt.Fprint(w, c.page(n))
				return
			}
			if body, ok := c.files[rest]; ok {
				if to, ok := strings.CutPrefix(body, "=> "); ok {
					http.Redirect(w, r, c.fill(to, n), http.StatusFound)
					return
				}
				w.Header().Set("Content-Type", served[path.Ext(rest)][0])
				fmt.Fprint(w, c.fill(body, n))
				return
			}
		}
	}
	if kind, ok := served[path.Ext(r.URL.Path)]; ok {
		w.Header().Set("Content-Type", kind[0])
		fmt.Fprint(w, kind[1])
		return
	}
	http.NotFound(w, r)
}

// judgeCase is one way to load, send or name something.
type judgeCase struct {
	name    string
	body    string            // ¤ stands for the beginning of an insecure address, ~ for the page's own
	files   map[string]string // below the page; "=> URL" redirects
	headers []string
	script  bool   // only a script loads it: --browser finds it
	host    string // of the insecure address; "": assets.example
	whole   bool   // body is the whole document
	typ     string // its media type; "": HTML in UTF-8
}

func (c judgeCase) fill(s string, n int) string {
	host := c.host
	if host == "" {
		host = "assets.example"
	}
	s = strings.ReplaceAll(s, "¤", fmt.Sprintf("http://%s/%d", host, n))
	return strings.ReplaceAll(s, "~", fmt.Sprintf("https://ternrock.example/%d/", n))
}

func (c judgeCase) page(n int) string {
	if c.whole {
		return c.fill(c.body, n)
	}
	return "<!DOCTYPE html><html><head><meta charset=utf-8><title>" + fmt.Sprint(n) + "</title>\n" + c.fill(c.body, n) + "</body></html>"
}
