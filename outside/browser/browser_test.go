package browser

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/outside/fetch"
)

func TestFind(t *testing.T) {
	_, err := Find("/nowhere/chromium")
	assert.ErrorIs(t, err, ErrMissing)
	t.Setenv("PATH", t.TempDir())
	_, err = Find("")
	assert.ErrorIs(t, err, ErrMissing)
}

func TestQuotedInsecure(t *testing.T) {
	for text, want := range map[string]string{
		"The page at 'https://a.example/' asked for 'http://b.example/x'. Blocked.": "http://b.example/x",
		"nothing": "", "'https://a.example/'": "", "'ws://a.example/'": "ws://a.example/",
	} {
		assert.Equal(t, want, quotedInsecure(text), text)
	}
}

// The browser's way out goes where --resolve says, and into no private network.
func TestProxy(t *testing.T) {
	there := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write([]byte(r.Host)) }))
	t.Cleanup(there.Close)
	client, err := fetch.New(fetch.Options{Resolve: []string{"ternrock.example:80:" + strings.TrimPrefix(there.URL, "http://")}})
	require.NoError(t, err)
	p, err := startProxy(client)
	require.NoError(t, err)
	t.Cleanup(func() { p.Close() })
	stranger := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: p.addr, User: url.UserPassword(proxyUser, "guess")})}}
	refused, err := stranger.Get("http://ternrock.example/")
	require.NoError(t, err)
	refused.Body.Close()
	assert.Equal(t, http.StatusProxyAuthRequired, refused.StatusCode, "whoever does not know the password is not served")
	_, err = stranger.Get("https://ternrock.example/")
	assert.ErrorContains(t, err, "Proxy Authentication Required")
	through := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: p.addr, User: url.UserPassword(proxyUser, p.password)})}}
	res, err := through.Get("http://ternrock.example/")
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusOK, res.StatusCode)
	res, err = through.Get(there.URL) // on this machine, and nobody's own name
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusBadGateway, res.StatusCode)
	_, err = through.Get(strings.Replace(there.URL, "http:", "https:", 1))
	assert.ErrorContains(t, err, "Bad Gateway")
	res, err = http.Get("http://" + p.addr + "/")
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusBadRequest, res.StatusCode)
}
