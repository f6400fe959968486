package program

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// front is a web server with certificates of our own making.
type front struct {
	dir           string // holds ca.pem
	plain, secure string
	root          *x509.Certificate
	rootKey       *ecdsa.PrivateKey
}

// serve starts a server on loopback; cert changes its certificate.
func serve(t *testing.T, handler http.HandlerFunc, cert func(*x509.Certificate)) front {
	t.Helper()
	f := front{dir: t.TempDir()}
	make := func(c *x509.Certificate, parent *x509.Certificate, signer *ecdsa.PrivateKey) (*x509.Certificate, *ecdsa.PrivateKey) {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		if parent == nil {
			parent, signer = c, key
		}
		der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, signer)
		require.NoError(t, err)
		parsed, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return parsed, key
	}
	root, rootKey := make(&x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Rock Root"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign}, nil, nil)
	f.root, f.rootKey = root, rootKey
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), DNSNames: []string{"ternrock.example", "www.ternrock.example"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 2, 0), ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	if cert != nil {
		cert(leaf)
	}
	signed, key := make(leaf, root, rootKey)
	require.NoError(t, os.WriteFile(filepath.Join(f.dir, "ca.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.Raw}), 0o600))
	quiet := log.New(io.Discard, "", 0)
	plain := httptest.NewServer(handler)
	t.Cleanup(plain.Close)
	secure := httptest.NewUnstartedServer(handler)
	secure.Config.ErrorLog = quiet
	secure.TLS = &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{signed.Raw}, PrivateKey: key}}}
	secure.StartTLS()
	t.Cleanup(secure.Close)
	f.plain, f.secure = strings.TrimPrefix(plain.URL, "http://"), strings.TrimPrefix(secure.URL, "https://")
	return f
}

func (f front) args(command ...string) []string {
	return append(command, "--site", "https://ternrock.example", "--also", "www.ternrock.example", "--ca", filepath.Join(f.dir, "ca.pem"),
		"--resolve", "*:80:"+f.plain, "--resolve", "*:443:"+f.secure)
}

func page(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, "<p>Tern Rock Light") }

func TestReady(t *testing.T) {
	for _, c := range []struct {
		what    string
		code    int
		handler http.HandlerFunc
		cert    func(*x509.Certificate)
		say     []string
	}{
		{"all is well", 0, page, nil, []string{"Ready to switch.", "good for 6", "[x] https://ternrock.example/ leads to"}},
		{"soon", 1, page, func(c *x509.Certificate) {
			c.NotBefore, c.NotAfter = time.Now().AddDate(0, 0, -80), time.Now().Add(9*24*time.Hour+time.Hour)
		}, []string{"ends in 9 days", "Ready to switch; what is marked [!] needs attention."}},
		{"ended", 1, page, func(c *x509.Certificate) { c.NotAfter = time.Now().Add(-time.Minute) }, []string{"[-] the certificate for ternrock.example", "it expired on", "Not yet"}},
		{"only one name", 1, page, func(c *x509.Certificate) { c.DNSNames = c.DNSNames[:1] }, []string{"it is for ternrock.example, not for www.ternrock.example", "for all names: ternrock.example, www.ternrock.example"}},
		{"HSTS and a cookie", 0, func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Strict-Transport-Security", "max-age=9")
			http.SetCookie(w, &http.Cookie{Name: "session", Value: "secret-of-the-session"})
			w.Header().Set("Via", "1.1 front")
			page(w, r)
		}, nil, []string{"the site already sends HSTS", `cookie "session" comes without Secure`, "a proxy or cache stands in front (Via: 1.1 front)"}},
		{"a loop", 1, func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "https://ternrock.example"+r.URL.Path, http.StatusFound)
		}, nil, []string{"redirects in a loop", "the usual cause is a proxy that ends TLS", "use the rule for a proxy"}},
		{"back to HTTP", 1, func(w http.ResponseWriter, r *http.Request) {
			if r.TLS != nil {
				http.Redirect(w, r, "http://ternrock.example/", http.StatusMovedPermanently)
				return
			}
			page(w, r)
		}, nil, []string{"redirects back to HTTP", "apply the changes (trimlantern apply)"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			f := serve(t, c.handler, c.cert)
			r := want(t, c.code, f.dir, f.args("ready")...)
			flat := strings.Join(strings.Fields(r.out), " ")
			for _, s := range c.say {
				assert.Contains(t, flat, s)
			}
			assert.NotContains(t, r.out, "\x1b")
			assert.NotContains(t, r.out, "secret-of-the-session")
			for line := range strings.Lines(r.out) {
				assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 80, line)
			}
			support := want(t, c.code, f.dir, f.args("ready", "--for-support")...).out
			assert.True(t, strings.HasPrefix(support, "Hello,\n"))
			assert.NotContains(t, strings.ToLower(support), "trimlantern", "the host has none of our commands")
		})
	}
}

// The authority's list of what it revoked is fetched and believed.
func TestReadyRevoked(t *testing.T) {
	var list []byte
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Host == "authority.example" {
			if list == nil {
				http.NotFound(w, r)
			}
			_, _ = w.Write(list) // the judge says what came
			return
		}
		page(w, r)
	}, func(c *x509.Certificate) {
		c.CRLDistributionPoints = []string{"http://authority.example/list.crl"}
	})
	flat := strings.Join(strings.Fields(want(t, 0, f.dir, f.args("ready")...).out), " ")
	assert.Contains(t, flat, "whether the certificate for ternrock.example was revoked is not known: http://authority.example/list.crl answers 404")
	key := f.rootKey
	var err error
	list, err = x509.CreateRevocationList(rand.Reader, &x509.RevocationList{Number: big.NewInt(1), ThisUpdate: time.Now(), NextUpdate: time.Now().Add(time.Hour),
		RevokedCertificateEntries: []x509.RevocationListEntry{{SerialNumber: big.NewInt(2), RevocationTime: time.Now().Add(-time.Minute)}}}, f.root, key)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(strings.Fields(want(t, 1, f.dir, f.args("ready")...).out), " "), "its authority revoked it on")
}

func TestReadyFlags(t *testing.T) {
	f := serve(t, page, nil)
	assert.Contains(t, want(t, 1, f.dir, f.args("ready", "--expires-within", "90d")...).out, "ends in")
	assert.Contains(t, want(t, 2, f.dir, f.args("ready", "--expires-within", "soon")...).errs, "write it like 21d or 36h")
	assert.Contains(t, want(t, 1, f.dir, f.args("ready", "--origin", f.plain)...).out, "does not speak TLS")
	flat := strings.Join(strings.Fields(want(t, 0, f.dir, f.args("ready", "--origin", f.secure)...).out), " ")
	assert.Contains(t, flat, "has a valid certificate of its own")
	var r struct {
		Days   int
		Points []struct{ ID, Grade string }
	}
	require.NoError(t, json.Unmarshal([]byte(want(t, 0, f.dir, f.args("ready", "--format", "json")...).out), &r))
	assert.Greater(t, r.Days, 50)
	assert.NotEmpty(t, r.Points)
	began := time.Now() // a wait ends when its time is over
	f.secure = closedPort(t)
	want(t, 1, f.dir, f.args("ready", "--wait", "2s", "--quiet")...)
	assert.Greater(t, time.Since(began), 2*time.Second)
}

func closedPort(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// Servers that misbehave cost a bounded time, and are named in clear words.
func TestReadyHostile(t *testing.T) {
	t.Parallel()
	hostile := func(do func(net.Conn)) string {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go do(c)
			}
		}()
		return l.Addr().String()
	}
	for what, c := range map[string]struct {
		do  func(net.Conn)
		say string
	}{
		"hangs in the handshake": {func(c net.Conn) { time.Sleep(time.Minute); c.Close() }, "gave no answer in time"},
		"garbage":                {func(c net.Conn) { io.WriteString(c, "\x1b[2Jgarbage\n"); c.Close() }, "does not speak TLS"},
		"resets": {func(c net.Conn) {
			if t, ok := c.(*net.TCPConn); ok {
				_ = t.SetLinger(0) // so that closing resets
			}
			c.Close()
		}, "no TLS for ternrock.example"},
		"speaks plain HTTP": {func(c net.Conn) { io.WriteString(c, "HTTP/1.1 400 Bad Request\r\n\r\n"); c.Close() }, "port 443 speaks plain HTTP"},
		"an old alert":      {func(c net.Conn) { c.Write([]byte{21, 3, 1, 0, 2, 2, 40}); c.Close() }, "refuses TLS for this name"},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			f := front{dir: t.TempDir(), plain: closedPort(t), secure: hostile(c.do)}
			began := time.Now()
			r := want(t, 1, f.dir, "ready", "--site", "https://ternrock.example", "--resolve", "*:80:"+f.plain, "--resolve", "*:443:"+f.secure)
			assert.Contains(t, strings.Join(strings.Fields(r.out), " "), c.say)
			assert.Less(t, time.Since(began), time.Minute)
			assert.NotContains(t, r.out, "\x1b")
		})
	}
}

func TestRedirectCommand(t *testing.T) {
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasPrefix(r.URL.Path, "/.well-known/"):
			page(w, r)
		case r.TLS == nil:
			http.Redirect(w, r, "https://ternrock.example/", http.StatusFound)
		default:
			page(w, r)
		}
	}, nil)
	r := want(t, 1, f.dir, f.args("redirect", "test", "http://ternrock.example/visit/?from=map\x1b")...)
	for _, s := range []string{"loses the path", "loses the query", "loses a form sent to the insecure address", "is redirected temporarily", "ends up on another name", "make it permanent"} {
		assert.Contains(t, r.out, s)
	}
	assert.NotContains(t, r.out, "\x1b")
	for _, c := range []struct {
		args []string
		say  string
	}{
		{[]string{"redirect", "test", "ternrock.example"}, "has no scheme"},
		{[]string{"redirect", "show", "teapot"}, "is no server that rules are written for"},
		{[]string{"redirect", "show"}, "needs the server"},
		{[]string{"redirect", "show", "apache", "--path", "shop"}, "write it like /shop/"},
	} {
		assert.Contains(t, want(t, 2, f.dir, append(c.args, "--site", "https://ternrock.example")...).errs, c.say)
	}
	assert.Contains(t, want(t, 0, f.dir, "redirect", "show", "nginx", "--site", "https://ternrock.example", "--hsts").out, "max-age=300")
	dir := bare(t, 1)
	file := filepath.Join(dir, "x", ".htaccess")
	for _, server := range []string{"apache", "php"} {
		assert.Contains(t, want(t, 2, dir, "redirect", "install", server, file).errs, "there is no folder")
	}
	require.NoError(t, os.Mkdir(filepath.Dir(file), 0o755))
	want(t, 0, dir, "redirect", "install", "apache", file, "--anyway")
	assert.FileExists(t, file)
	want(t, 0, dir, "redirect", "remove", file)
	assert.NoFileExists(t, file, "it was not there before")
	assert.Contains(t, want(t, 2, dir, "redirect", "remove", file).errs, "there is no file")
	require.NoError(t, os.WriteFile(file, []byte("Options -Indexes\n"), 0o640))
	want(t, 0, dir, "redirect", "install", "apache", file, "--anyway")
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm(), "the mode stays")
	assert.Contains(t, want(t, 0, dir, "history").out, "redirect")
	assert.Contains(t, want(t, 0, dir, "undo").out, "as before: ")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "Options -Indexes\n", string(b), "undo gives the file of before, byte for byte")
	want(t, 0, dir, "redirect", "install", "apache", file, "--anyway")
	require.NoError(t, os.WriteFile(file, []byte("somebody's\n"), 0o640))
	assert.Contains(t, want(t, 1, dir, "undo").out, "changed by somebody since")
}

// The demo's road as a timer sees it: quiet when all is well, a text when not, and
// what is new told from what is old.
func TestCheckup(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	first := want(t, 1, dir, "checkup", "--quiet").out
	assert.Contains(t, first, "needs attention")
	assert.Contains(t, first, "Redirects\n")
	assert.Contains(t, first, "Insecure since last time")
	second := want(t, 1, dir, "checkup", "--quiet", "--expires-within", "90d").out
	assert.Contains(t, second, "Still insecure")
	assert.NotContains(t, second, "Insecure since last time")
	assert.Contains(t, strings.Join(strings.Fields(second), " "), "it ends in 89 days")
	want(t, 0, dir, "apply", "--offline", "--quiet", sheetOf(t, dir))
	want(t, 0, dir, "redirect", "install", "apache", ".htaccess")
	third := want(t, 1, dir, "checkup", "--quiet").out
	assert.Contains(t, third, "No longer insecure")
	assert.NotContains(t, third, "Redirects\n")
	for _, file := range []string{"theme/header.html", "theme/footer.html"} {
		path := filepath.Join(dir, file)
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, []byte(strings.NewReplacer("http://type", "https://type", "http://www", "https://www").Replace(string(b))), 0o644))
	}
	var r struct {
		Well  bool
		Still []struct{ URL string }
	}
	require.NoError(t, json.Unmarshal([]byte(want(t, 1, dir, "checkup", "--format", "json", "--quiet").out), &r))
	require.Len(t, r.Still, 1, "the tide chart's host has no HTTPS")
	assert.False(t, r.Well)
}

func sheetOf(t *testing.T, dir string) string {
	var p struct{ Sheet string }
	require.NoError(t, json.Unmarshal([]byte(want(t, 0, dir, "preview", "--quiet", "--format", "json").out), &p))
	return p.Sheet
}

// An old server that supports only what browsers no longer accept, and one whose addresses
// show different certificates.
func TestReadyOldTLS(t *testing.T) {
	f := serve(t, page, nil)
	cert, err := tls.X509KeyPair(certPair(t))
	require.NoError(t, err)
	old := httptest.NewUnstartedServer(http.HandlerFunc(page))
	old.Config.ErrorLog = log.New(io.Discard, "", 0)
	old.TLS = &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS10, MaxVersion: tls.VersionTLS11,
		CipherSuites: []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA}}
	old.StartTLS()
	t.Cleanup(old.Close)
	f.secure = strings.TrimPrefix(old.URL, "https://")
	r := want(t, 1, f.dir, f.args("ready")...)
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "), "supports only TLS 1.1")
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "), "it is self-signed")
}

// certPair makes a certificate that signed itself.
func certPair(t *testing.T) (cert, key []byte) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(3), DNSNames: []string{"ternrock.example", "www.ternrock.example"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(0, 2, 0)}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &k.PublicKey, k)
	require.NoError(t, err)
	keyDER, err := x509.MarshalPKCS8PrivateKey(k)
	require.NoError(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER})
}

// Cached files on disk are named, emptied with consent, and put back by undo.
func TestCacheFiles(t *testing.T) {
	dir, initArgs := museum(t)
	want(t, 0, dir, initArgs...)
	cache := filepath.Join(dir, "wp-content", "cache")
	require.NoError(t, os.MkdirAll(filepath.Join(cache, "pages"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(cache, "pages", "front.html"), []byte("<p>cached http://ternrock.example/"), 0o644))
	assert.Contains(t, strings.Join(strings.Fields(want(t, 0, dir, "preview", "--offline").out), " "), "wp-content/cache: 1 file; trimlantern apply --drop-caches empties it")
	want(t, 0, dir, "apply", "--offline")
	assert.FileExists(t, filepath.Join(cache, "pages", "front.html"), "not without consent")
	want(t, 0, dir, "undo")
	want(t, 0, dir, "preview", "--offline")
	assert.Contains(t, want(t, 0, dir, "apply", "--offline", "--drop-caches").out, "emptied, 1 file kept for undo")
	assert.DirExists(t, cache)
	assert.NoDirExists(t, filepath.Join(cache, "pages"))
	assert.Contains(t, want(t, 0, dir, "undo").out, "filled again: ")
	b, err := os.ReadFile(filepath.Join(cache, "pages", "front.html"))
	require.NoError(t, err)
	assert.Contains(t, string(b), "cached")
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "apply", "--offline", "--drop-caches")
	require.NoError(t, os.WriteFile(filepath.Join(cache, "new.html"), nil, 0o644))
	assert.Contains(t, want(t, 1, dir, "undo").out, "the system has filled it again")
	assert.FileExists(t, filepath.Join(cache, "new.html"))
}

// A name with two addresses that show different certificates: one of them would meet
// some visitors only.
func TestReadyTwoAddresses(t *testing.T) {
	one, two := serve(t, page, nil), serve(t, page, nil)
	ca := filepath.Join(t.TempDir(), "both.pem")
	var pems []byte
	for _, f := range []front{one, two} {
		b, err := os.ReadFile(filepath.Join(f.dir, "ca.pem"))
		require.NoError(t, err)
		pems = append(pems, b...)
	}
	require.NoError(t, os.WriteFile(ca, pems, 0o600))
	args := []string{"ready", "--site", "https://ternrock.example", "--ca", ca, "--resolve", "*:80:" + one.plain, "--resolve", "ternrock.example:443:" + one.secure}
	assert.NotContains(t, run(t, t.TempDir(), args...).out, "another certificate")
	// The second answers at an address of the newer Internet Protocol.
	six, err := net.Listen("tcp", "[::1]:0")
	if err != nil {
		t.Logf("this machine has no IPv6 of its own (%v): a second address of the older protocol stands in", err)
		six, err = net.Listen("tcp", "127.0.0.2:0")
	}
	require.NoError(t, err)
	t.Cleanup(func() { six.Close() })
	go func() {
		for {
			here, err := six.Accept()
			if err != nil {
				return // the test has ended
			}
			there, err := net.Dial("tcp", two.secure)
			if err != nil {
				here.Close()
				continue
			}
			go func() { _, _ = io.Copy(there, here); there.Close() }() // either side may hang up
			go func() { _, _ = io.Copy(here, there); here.Close() }()
		}
	}()
	r := run(t, t.TempDir(), append(args, "--resolve", "ternrock.example:443:"+six.Addr().String())...)
	assert.Contains(t, strings.Join(strings.Fields(r.out), " "), "shows another certificate at "+six.Addr().String()+" than at "+one.secure)
	// The second is bad by itself: that is told, although the first is good.
	expired := serve(t, page, func(c *x509.Certificate) { c.NotAfter = time.Now().Add(-time.Minute) })
	r = run(t, t.TempDir(), append(args, "--resolve", "ternrock.example:443:"+expired.secure)...)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.out, expired.secure)
	// Where the first address is dead, the second is taken, as browsers do.
	dead := []string{"scan", "--site", "https://ternrock.example", "--ca", ca, "--resolve", "ternrock.example:443:127.0.0.1:1", "--resolve", "ternrock.example:443:" + one.secure}
	assert.NotContains(t, run(t, t.TempDir(), dead...).errs, "nothing listens")
}

// The names lead to different servers: what is set up on one may be missing on the other.
func TestReadyNamesDisagree(t *testing.T) {
	f := serve(t, page, nil)
	args := []string{"ready", "--site", "https://ternrock.example", "--also", "www.ternrock.example", "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:80:" + f.plain,
		"--resolve", "ternrock.example:443:" + f.secure, "--resolve", "www.ternrock.example:443:" + strings.Replace(f.secure, "127.0.0.1", "127.0.0.2", 1)}
	r := run(t, t.TempDir(), args...)
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.out, "lead to different addresses")
	assert.NotContains(t, run(t, t.TempDir(), f.args("ready")...).out, "different addresses")
}

// What ready says of a certificate that is served, openssl s_client says too.
func TestReadyAsOpenSSL(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	require.NoError(t, err, "install openssl")
	for name, cert := range map[string]func(*x509.Certificate){
		"good":           nil,
		"expired":        func(c *x509.Certificate) { c.NotAfter = time.Now().Add(-time.Minute) },
		"not yet":        func(c *x509.Certificate) { c.NotBefore = time.Now().Add(time.Hour) },
		"another name":   func(c *x509.Certificate) { c.DNSNames = []string{"other.example"} },
		"only the other": func(c *x509.Certificate) { c.DNSNames = []string{"www.ternrock.example"} },
		"wildcard":       func(c *x509.Certificate) { c.DNSNames = []string{"ternrock.example", "*.ternrock.example"} },
	} {
		f := serve(t, page, cert)
		for _, host := range []string{"ternrock.example", "www.ternrock.example"} {
			c := exec.Command(openssl, "s_client", "-connect", f.secure, "-servername", host, "-CAfile", filepath.Join(f.dir, "ca.pem"), "-verify_hostname", host, "-verify_return_error")
			out, _ := c.CombinedOutput() // its exit code is what counts
			sound := c.ProcessState.ExitCode() == 0
			var ready struct {
				Points []struct{ ID, Grade, What string }
			}
			decode(t, run(t, t.TempDir(), "ready", "--site", "https://"+host, "--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:80:"+f.plain, "--resolve", "*:443:"+f.secure, "--format", "json"), &ready)
			ours := slices.ContainsFunc(ready.Points, func(p struct{ ID, Grade, What string }) bool { return p.ID == "certificate" && p.Grade == "good" })
			assert.Equal(t, sound, ours, "%s for %s: %+v\n%s", name, host, ready.Points, out)
		}
	}
}

// A server that answers by name only, and knows one of the two.
func TestReadyByNameOnly(t *testing.T) {
	f := serve(t, page, nil)
	cert, err := tls.X509KeyPair(certPair(t))
	require.NoError(t, err)
	named := httptest.NewUnstartedServer(http.HandlerFunc(page))
	named.Config.ErrorLog = log.New(io.Discard, "", 0)
	named.TLS = &tls.Config{GetConfigForClient: func(hello *tls.ClientHelloInfo) (*tls.Config, error) {
		if hello.ServerName != "ternrock.example" {
			return nil, fmt.Errorf("no site is called %q", hello.ServerName)
		}
		return &tls.Config{Certificates: []tls.Certificate{cert}}, nil
	}}
	named.StartTLS()
	t.Cleanup(named.Close)
	f.secure = strings.TrimPrefix(named.URL, "https://")
	out := strings.Join(strings.Fields(want(t, 1, f.dir, f.args("ready")...).out), " ")
	assert.Contains(t, out, "the certificate for ternrock.example at "+f.secure+": it is self-signed")
	assert.Contains(t, out, "no TLS for www.ternrock.example at "+f.secure)
	assert.NotContains(t, out, "no TLS for ternrock.example")
}
