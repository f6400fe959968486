package probe

import (
	"context"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/rewrite"
	"trimlantern/outside/fetch"
)

func TestHost(t *testing.T) {
	handler := func(scheme string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "image/png")
			switch r.Host + r.URL.Path {
			case "example.com/back":
				http.Redirect(w, r, "http://example.com/", http.StatusFound)
			case "example.com/only-plain":
				if scheme == "https" {
					http.NotFound(w, r)
				}
			case "example.com/other-thing":
				if scheme == "https" {
					w.Header().Set("Content-Type", "text/html")
				}
			case "example.com/gone":
				http.NotFound(w, r)
				return
			case "example.com/only-secure.png", "example.com/only-secure":
				if scheme == "http" {
					w.WriteHeader(http.StatusForbidden)
				}
			case "example.com/parked.png":
				if scheme == "https" {
					w.Header().Set("Content-Type", "text/html")
				} else {
					w.WriteHeader(http.StatusForbidden)
				}
			case "example.com/other-format":
				if scheme == "https" {
					w.Header().Set("Content-Type", "image/webp")
				}
			case "example.com/front.png":
				if scheme == "http" {
					w.Header().Set("Content-Type", "text/html")
				}
			case "example.com/shut":
				w.WriteHeader(map[string]int{"https": 404, "http": 500}[scheme])
			}
			fmt.Fprint(w, "x")
		}
	}
	plain, secure := httptest.NewServer(handler("http")), httptest.NewTLSServer(handler("https"))
	t.Cleanup(plain.Close)
	t.Cleanup(secure.Close)
	ca := filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: secure.Certificate().Raw}), 0o600))
	at := func(s *httptest.Server) string { _, a, _ := strings.Cut(s.URL, "://"); return a }
	nobody, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed := nobody.Addr().String()
	require.NoError(t, nobody.Close())
	client := func(ca, https string) *fetch.Client {
		c, err := fetch.New(fetch.Options{CA: ca, Resolve: []string{"*:80:" + at(plain), "*:443:" + https}, Timeout: 2 * time.Second})
		require.NoError(t, err)
		return c
	}
	good := client(ca, at(secure)) // its certificate is for example.com
	for _, c := range []struct {
		client *fetch.Client
		url    string
		answer string
		why    string
	}{
		{good, "http://example.com/a.png", "secure", "serves image/png over HTTPS, as the page needs it"},
		{good, "http://example.com/a", "secure", "serves the same"},
		{good, "http://example.com/only-secure.png", "secure", "as the page needs it"},
		{good, "http://example.com/only-secure", "secure", "HTTP gives no usable response"},
		{good, "http://example.com/parked.png", "insecure", "serves text/html over HTTPS where the page needs image"},
		{good, "http://example.com/other-format", "secure", "serves the same"},
		{good, "http://example.com/front.png", "secure", "as the page needs it"},
		{good, "http://example.com/shut", "unknown", "answers 404 over HTTPS; HTTP gives no usable response"},
		{good, "http://example.com/gone", "secure", "answers 404 over HTTPS and HTTP alike"},
		{good, "http://example.com/back", "insecure", "sends back to HTTP"},
		{good, "http://example.com/only-plain", "insecure", "answers 404 over HTTPS and 200 over HTTP"},
		{good, "http://example.com/other-thing", "insecure", "serves text/html over HTTPS and image/png over HTTP"},
		{good, "http://another.example/a.png", "insecure", "for another name"},
		{client("", at(secure)), "http://example.com/a.png", "insecure", "not trusted"},
		{client(ca, at(plain)), "http://example.com/a.png", "insecure", "does not speak TLS"},
		{client(ca, closed), "http://example.com/a.png", "insecure", "nothing listens"},
	} {
		v := Host(context.Background(), c.client, "h", c.url, time.Now())
		assert.Equal(t, c.answer, v.Answer, "%s: %s", c.url, v.Why)
		assert.Contains(t, v.Why, c.why)
	}
}

func TestMeaning(t *testing.T) {
	for answer, want := range map[string]rewrite.Verdict{"secure": rewrite.Secure, "insecure": rewrite.Insecure, "leave": rewrite.Keep, "unknown": rewrite.Unknown, "": rewrite.Unknown} {
		assert.Equal(t, want, Verdict{Answer: answer}.Meaning(), answer)
	}
}
