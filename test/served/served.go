// Package served lays out small sites for tests: what they answer over HTTP and over HTTPS is a handler each.
package served

import (
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"trimlantern/work"
)

// Quiet is a progress without anyone to show it to.
type Quiet struct{}

// At does nothing.
func (Quiet) At(string, int64, int64) {}

// End does nothing.
func (Quiet) End() {}

// Host is the name that the certificates of test servers are for.
const Host = "example.com"

// Site serves https://example.com to the jobs of one test, and returns a job that finds it and trusts its certificate.
// plain answers over HTTP; nil: nothing listens there.
func Site(t testing.TB, plain, secure http.Handler) *work.Job {
	t.Helper()
	s := httptest.NewTLSServer(secure)
	t.Cleanup(s.Close)
	j, err := work.OpenAddress("https://"+Host, nil, nil, Quiet{})
	require.NoError(t, err)
	j.CA, j.Offline = authority(t, s.Certificate()), true
	j.Resolve = []string{"*:443:" + strings.TrimPrefix(s.URL, "https://")}
	if plain != nil {
		p := httptest.NewServer(plain)
		t.Cleanup(p.Close)
		j.Resolve = append(j.Resolve, "*:80:"+strings.TrimPrefix(p.URL, "http://"))
	}
	return j
}

// authority writes a certificate that the job is to trust.
func authority(t testing.TB, c *x509.Certificate) (file string) {
	t.Helper()
	file = filepath.Join(t.TempDir(), "ca.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw}), 0o600))
	return file
}
