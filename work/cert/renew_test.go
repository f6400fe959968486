package cert

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/certs"
	"trimlantern/demo/authority"
	"trimlantern/outside/certfolder"
	"trimlantern/work"
)

type silence struct{}

func (silence) At(string, int64, int64) {}
func (silence) End()                    {}

// year is a site, its server and an authority, in days that the test counts.
type year struct {
	t         *testing.T
	job       *work.Job
	authority *authority.Authority
	now       time.Time
	random    *rand.Rand
	failing   bool
	asked     int // orders

	mu     sync.Mutex
	loaded *tls.Certificate
	dir    string
}

// clock is read from several goroutines.
func (y *year) clock() time.Time {
	y.mu.Lock()
	defer y.mu.Unlock()
	return y.now
}

func newYear(t *testing.T, o authority.Options) *year {
	y := &year{t: t, now: time.Now().Truncate(time.Second), random: rand.New(rand.NewPCG(20261126, 1)), dir: t.TempDir()}
	root := filepath.Join(y.dir, "www")
	require.NoError(t, os.Mkdir(root, 0o755))
	quiet := log.New(io.Discard, "", 0)
	plain := httptest.NewServer(http.FileServer(http.Dir(root)))
	t.Cleanup(plain.Close)
	secure := httptest.NewUnstartedServer(http.NotFoundHandler())
	secure.Config.ErrorLog = quiet
	secure.TLS = &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		y.mu.Lock()
		defer y.mu.Unlock()
		if y.loaded == nil {
			return nil, errors.New("no certificate")
		}
		return y.loaded, nil
	}}
	secure.StartTLS()
	t.Cleanup(secure.Close)
	at := func(s *httptest.Server) string { _, addr, _ := strings.Cut(s.URL, "://"); return addr }

	ca := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { y.authority.ServeHTTP(w, r) }))
	ca.Config.ErrorLog = quiet
	o.Base, o.Now = "https://"+ca.Listener.Addr().String(), y.clock
	o.Dial = func(ctx context.Context, network, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, network, at(plain))
	}
	o.Fault = func(step string) *authority.Problem {
		y.mu.Lock()
		defer y.mu.Unlock()
		if step == "order" {
			y.asked++
		}
		if !y.failing || step == "nonce" || y.random.IntN(5) > 0 {
			return nil
		}
		return []*authority.Problem{
			{Status: 503, Type: "urn:ietf:params:acme:error:serverInternal", Detail: "down", Header: http.Header{"Retry-After": {"3600"}}},
			{Status: 403, Type: "urn:ietf:params:acme:error:unauthorized", Detail: "not today"},
			{Raw: func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }},
			{Raw: func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<p>Welcome") }},
		}[y.random.IntN(4)]
	}
	var err error
	y.authority, err = authority.New(o)
	require.NoError(t, err)
	own, err := y.authority.Serve(24*time.Hour, "127.0.0.1")
	require.NoError(t, err)
	ca.TLS = &tls.Config{Certificates: []tls.Certificate{*own}}
	ca.StartTLS()
	t.Cleanup(ca.Close)
	trust := filepath.Join(y.dir, "ca.pem")
	require.NoError(t, os.WriteFile(trust, y.authority.Root(), 0o600))

	y.job, err = work.OpenAddress("https://ternrock.example", []string{"www.ternrock.example"}, nil, silence{})
	require.NoError(t, err)
	y.job.Keep(filepath.Join(y.dir, "home"))
	require.NotNil(t, y.job.Book)
	y.job.Now, y.job.CA, y.job.Resolve = y.clock, trust, []string{"*:80:" + at(plain), "*:443:" + at(secure)}
	y.load()
	return y
}

// files are the server's.
func (y *year) files() (cert, key string) {
	return filepath.Join(y.dir, "site.pem"), filepath.Join(y.dir, "site.key")
}

// load gives the server a first certificate, and has it read its files when it is told to.
func (y *year) load() {
	first, err := y.authority.Serve(48*time.Hour, "ternrock.example")
	require.NoError(y.t, err)
	cert, key := y.files()
	der, err := x509.MarshalPKCS8PrivateKey(first.PrivateKey)
	require.NoError(y.t, err)
	require.NoError(y.t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: first.Certificate[0]}), 0o644))
	require.NoError(y.t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
	y.loaded = first
	ctx, stop := context.WithCancel(context.Background())
	y.t.Cleanup(stop)
	go func() {
		reload := filepath.Join(y.dir, "reload")
		for ctx.Err() == nil {
			time.Sleep(2 * time.Millisecond)
			if _, err := os.Stat(reload); err != nil {
				continue
			}
			if pair, err := tls.LoadX509KeyPair(cert, key); err == nil {
				y.mu.Lock()
				y.loaded = &pair
				y.mu.Unlock()
			}
			_ = os.Remove(reload) // the command waits for it
		}
	}()
}

func (y *year) options() ObtainOptions {
	cert, key := y.files()
	reload := filepath.Join(y.dir, "reload")
	return ObtainOptions{Accept: true, Plan: certfolder.Plan{Directory: y.authority.Directory(), Roots: []string{filepath.Join(y.dir, "www")}, Install: []string{cert, key},
		After: "touch " + reload + " && while [ -e " + reload + " ]; do sleep 0.005; done"}}
}

// up holds that the site serves a certificate that is good at this moment.
func (y *year) up() bool {
	y.mu.Lock()
	defer y.mu.Unlock()
	leaf, err := x509.ParseCertificate(y.loaded.Certificate[0])
	return err == nil && !y.now.Before(leaf.NotBefore) && y.now.Before(leaf.NotAfter) && leaf.VerifyHostname("www.ternrock.example") == nil
}

// Over a year, or as many renewals, with an authority that fails at one request in five, the site is never without a valid certificate,
// and the authority is not asked for more than it has to.
func TestYearOfRenewals(t *testing.T) {
	for name, c := range map[string]struct {
		o    authority.Options
		most int // certificates in the year
		runs int // of renew in a day
		days int
	}{
		"by its dates": {authority.Options{}, 7, 1, 365},
		"when the authority says": {authority.Options{Window: func(leaf *x509.Certificate) (time.Time, time.Time) {
			return leaf.NotBefore.AddDate(0, 0, 28), leaf.NotBefore.AddDate(0, 0, 32)
		}}, 1 + 365/28, 1, 365},
		"of six days": {authority.Options{Life: 6 * 24 * time.Hour}, 25, 4, 60},
		"an authority that puts off": {authority.Options{Window: func(leaf *x509.Certificate) (time.Time, time.Time) {
			return leaf.NotAfter, leaf.NotAfter.AddDate(1, 0, 0)
		}}, 4, 1, 150},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			y := newYear(t, c.o)
			r, err := Obtain(context.Background(), y.job, y.options())
			require.NoError(t, err)
			require.Equal(t, work.Clean, r.Code(), "%+v", r.Certificates)
			require.True(t, y.up())
			y.mu.Lock()
			y.failing = true
			y.mu.Unlock()
			failed := 0
			for range c.runs * c.days {
				y.mu.Lock()
				y.now = y.now.Add(24 * time.Hour / time.Duration(c.runs))
				y.mu.Unlock()
				r, err := Renew(context.Background(), y.job, ObtainOptions{pause: time.Millisecond})
				require.NoError(t, err)
				if r.Code() != work.Clean {
					failed++
				}
				require.True(t, y.up(), "on %s: %+v", y.clock(), r.Certificates)
			}
			t.Logf("%d certificates from %d orders, %d of %d runs failed", len(y.authority.Issued()), y.asked, failed, c.runs*c.days)
			assert.Greater(t, failed, 0)
			assert.LessOrEqual(t, len(y.authority.Issued()), c.most)
			assert.NoFileExists(t, filepath.Join(y.dir, "www", ".well-known"))
			trouble, err := Renewals(y.job)
			require.NoError(t, err)
			require.Len(t, trouble, 1)
		})
	}
}

func TestRenewalTrouble(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	day := func(n int) time.Time { return now.AddDate(0, 0, n) }
	for _, c := range []struct {
		what string
		r    Renewal
		say  string
	}{
		{"all is well", Renewal{Host: "h.example", Due: day(20), Until: day(50), Ran: day(-1)}, ""},
		{"failed, not due any more", Renewal{Host: "h.example", Due: day(20), Until: day(50), Ran: day(-1), Failed: day(-1), Why: "down"}, ""},
		{"failed", Renewal{Host: "h.example", Due: day(-1), Until: day(29), Ran: day(-1), Failed: day(-1), Why: "down"}, "the renewal of the certificate for h.example failed on 2026-11-25: down"},
		{"revoked", Renewal{Host: "h.example", Due: day(20), Until: day(50), Ran: day(-1), Revoked: true}, "that is in use was revoked"},
		{"nothing renewed it", Renewal{Host: "h.example", Due: day(-6), Until: day(20)}, "was due for renewal on 2026-11-20, and nothing renewed it"},
		{"nobody looked", Renewal{Host: "h.example", Due: day(20), Until: day(50), Ran: day(-9)}, "nothing has checked since 2026-11-17"},
	} {
		assert.Contains(t, c.r.Trouble(now), c.say, c.what)
		assert.Equal(t, c.say == "", c.r.Trouble(now) == "", c.what)
	}
}

func TestHolds(t *testing.T) {
	ca, err := authority.New(authority.Options{Base: "https://authority.example"})
	require.NoError(t, err)
	pair, err := ca.Serve(time.Hour, "ternrock.example")
	require.NoError(t, err)
	var chain []*x509.Certificate
	for _, der := range pair.Certificate {
		c, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		chain = append(chain, c)
	}
	key, err := certs.NewKey("ecdsa")
	require.NoError(t, err)
	texts, err := certfolder.Texts(chain, key)
	require.NoError(t, err)
	for text, want := range map[string]string{
		string(texts["key"]): "key", string(texts["certificate"]): "alone", string(texts["certificate-with-chain"]): "certificate-with-chain", string(texts["intermediates"]): "intermediates",
		string(texts["key"]) + string(texts["certificate-with-chain"]): "all", string(texts["certificate"]) + string(texts["key"]): "all", "": "", "nothing": "",
	} {
		assert.Equal(t, want, holds([]byte(text)), text)
	}
}
