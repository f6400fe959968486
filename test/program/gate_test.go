package program

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Nothing is changed while HTTPS does not work for the site, by whichever command; status never advises it. Where the site
// cannot be reached, or whoever runs it wants it anyway, it is changed.
func TestGate(t *testing.T) {
	closed, err := net.Listen("tcp", "127.0.0.1:0") // over HTTP something answers, over HTTPS nothing does
	require.NoError(t, err)
	shut := closed.Addr().String()
	require.NoError(t, closed.Close())
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<title>Tern Rock Light</title>Open") }))
	t.Cleanup(site.Close)
	plain := site.Listener.Addr().String()
	for _, c := range []struct {
		what    string
		network []string // how the site is reached
		before  []string // a command that comes first
		command []string
		code    int
		says    string
	}{
		{"nothing was asked before", []string{"--resolve", "*:443:" + shut, "--resolve", "*:80:" + plain}, nil, []string{"apply"}, 1, "HTTPS does not work for the site yet"},
		{"ready blocks", []string{"--resolve", "*:443:" + shut, "--resolve", "*:80:" + plain}, []string{"ready"}, []string{"apply"}, 1, "--anyway"},
		{"ready blocks, offline", []string{"--resolve", "*:443:" + shut, "--resolve", "*:80:" + plain}, []string{"ready"}, []string{"apply", "--offline"}, 1, "HTTPS does not work"},
		{"of a fleet", []string{"--resolve", "*:443:" + shut, "--resolve", "*:80:" + plain}, nil, []string{"fleet", "apply"}, 1, "HTTPS does not work"},
		{"whoever knows better", []string{"--resolve", "*:443:" + shut, "--resolve", "*:80:" + plain}, []string{"ready"}, []string{"apply", "--anyway", "--offline"}, 0, ""},
		{"offline, never asked", nil, nil, []string{"apply", "--offline"}, 0, "was not looked at (--offline)"},
		{"a name that is not there", nil, nil, []string{"apply", "--offline"}, 0, ""},
		{"a site that is down", []string{"--resolve", "*:443:" + shut, "--resolve", "*:80:" + shut}, nil, []string{"apply"}, 0, "cannot be reached from here"},
		{"the server redirects, and the system sends back", looping(t, true), []string{"ready"}, []string{"apply"}, 0, ""},
		{"HTTPS leads round and round", looping(t, false), []string{"ready"}, []string{"apply"}, 1, "HTTPS does not work for the site yet"},
	} {
		t.Run(c.what, func(t *testing.T) {
			dir := t.TempDir()
			db := filepath.Join(dir, "site.db")
			siteDB(t, db)
			want(t, 0, dir, append([]string{"init", "--site", "https://ternrock.example", "--database", "sqlite:" + db}, c.network...)...)
			want(t, 0, dir, "preview", "--offline")
			if c.before != nil {
				want(t, 1, dir, c.before...)
				said := want(t, 1, dir, "status").out
				advised := strings.Contains(said[strings.Index(said, "Next:"):], "apply")
				assert.Equal(t, c.code == 0 && !slices.Contains(c.command, "--anyway"), advised, said)
			}
			r := run(t, dir, c.command...)
			assert.Equal(t, c.code, r.code, "%s%s", r.out, r.errs)
			assert.Contains(t, strings.Join(strings.Fields(r.out+r.errs), " "), c.says)
			assert.Equal(t, c.code == 0, strings.Contains(want(t, 1, dir, "status").out, "[x] apply"))
		})
	}
}

// looping is how a site is reached whose HTTPS leads round and round: back to HTTP, which leads to HTTPS, or by itself.
func looping(t *testing.T, back bool) (network []string) {
	f := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.TLS == nil && !back:
			fmt.Fprint(w, "<title>Tern Rock Light</title>Open")
		case r.TLS == nil, !back:
			http.Redirect(w, r, "https://ternrock.example/", http.StatusMovedPermanently)
		default:
			http.Redirect(w, r, "http://ternrock.example/", http.StatusFound)
		}
	}, nil)
	return []string{"--ca", filepath.Join(f.dir, "ca.pem"), "--resolve", "*:443:" + f.secure, "--resolve", "*:80:" + f.plain}
}
