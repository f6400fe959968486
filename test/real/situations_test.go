//go:build real

package real

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// say is what a command must come to: its exit code, words of its output, and words that must not be there
// (with a ! before them). Blanks and line ends are equal.
type say struct {
	code  int
	words []string
}

// situation is one way in which a site may be set up on a real server, and what each command must say of it.
type situation struct {
	what   string
	plain  string   // directives of the server block for port 80
	secure string   // and for port 443
	more   string   // further server blocks; $PLAIN and $SECURE are the ports
	args   []string // network flags in place of the usual ones
	bare   bool     // www is not among the site's names
	first  func(w *web)
	ready  *say
	test   *say
	check  *say
	status *say
}

// Parts of server blocks.
const (
	serves     = "root $ROOT;\nindex index.html;\nlocation / { try_files $uri $uri/ =404; }\n"
	elsewhere  = "root $OTHER;\nindex index.html;\nlocation / { try_files $uri $uri/ =404; }\n"
	goesSecure = "location / { if ($request_method !~ ^(GET|HEAD)$) { return 308 https://ternrock.example$request_uri; } return 301 https://ternrock.example$request_uri; }\n" +
		"location /.well-known/ { root $ROOT; }\n"
	oneName = "if ($host != ternrock.example) { return 301 https://ternrock.example$request_uri; }\n" + serves
)

func is(code int, words ...string) *say { return &say{code, words} }

var situations = []situation{
	// Before the switch.
	{what: "the same pages over both", plain: serves, secure: serves, ready: is(0, "Ready to switch", "the same over HTTP and HTTPS (1 page compared)", "!does not"),
		test: is(1, "ends up on HTTP", "install the redirect"), check: is(1, "ends up on HTTP")},
	{what: "HTTPS shows another folder", plain: serves, secure: elsewhere, ready: is(1, "Not yet", `shows a different page ("Welcome") than over HTTP ("Tern Rock Light")`), check: is(1, "shows a different page")},
	{what: "HTTPS knows no page", plain: serves, secure: "root $EMPTY;\nlocation / { return 404; }\n", ready: is(1, "Not yet", "answers 404, and over HTTP 200")},
	{what: "HTTPS fails", plain: serves, secure: "location / { return 500; }\n", ready: is(1, "Not yet", "answers 500, and over HTTP 200"), check: is(1, "is down", "answers 500")},
	{what: "HTTPS forbids", plain: serves, secure: "location / { return 403; }\n", ready: is(1, "Not yet", "answers 403, and over HTTP 200")},
	{what: "HTTPS redirects and does not say where to", plain: serves, secure: "location / { return 301 ''; }\n", ready: is(1, "Not yet", "without a Location")},
	{what: "HTTPS leads to another port", plain: serves, secure: "location / { return 301 https://ternrock.example:8443$request_uri; }\n", ready: is(1, "Not yet", "8443")},
	{what: "HTTPS leads to another host", plain: serves, secure: "location / { return 301 https://panel.example/; }\n", ready: is(1, "Not yet", "panel.example")},
	{what: "HTTPS sends back to HTTP", plain: serves, secure: "location / { return 301 http://$host$request_uri; }\n", ready: is(1, "redirects back to HTTP", "trimlantern apply"), test: is(1, "is sent back from HTTPS to HTTP")},
	{what: "HTTPS goes round", plain: serves, secure: "location / { return 302 https://$host$request_uri; }\n", ready: is(1, "Not yet", "in a loop"), test: is(1, "in a loop"), check: is(1, "is down")},
	{what: "both go round", plain: "location / { return 302 https://$host$request_uri; }\n", secure: "location / { return 302 https://$host$request_uri; }\n", ready: is(1, "Not yet", "in a loop"), test: is(1, "in a loop")},
	{what: "HTTPS is being looked after", plain: serves, secure: "location / { return 503; }\n", ready: is(1, "answers 503"), check: is(1, "is down")},
	{what: "HTTPS gives a download", plain: serves, secure: "root $ROOT;\ntypes { }\ndefault_type application/zip;\n", ready: is(1, "is application/zip, and over HTTP text/html")},
	{what: "a folder is missing over HTTPS", plain: serves, secure: "root $ROOT;\nindex index.html;\nlocation /shop/ { return 404; }\n", first: scanned, ready: is(1, "https://ternrock.example/shop/", "answers 404, and over HTTP 200")},
	{what: "a folder is another one over HTTPS", plain: serves, secure: "root $ROOT;\nindex index.html;\nlocation /shop/ { root $OTHER; }\n", first: scanned, ready: is(1, "https://ternrock.example/shop/", "shows a different page")},
	{what: "an error page everywhere but on the front page", plain: serves, secure: "root $ROOT;\nindex index.html;\nlocation = / { }\nlocation = /index.html { }\nlocation / { return 500; }\n", first: scanned, ready: is(1, "answers 500 at /")},
	{what: "a second server is dead", plain: serves, secure: serves, args: twoServers("127.0.0.9:1"), ready: is(1, "Not yet", "server 127.0.0.9:1"), test: is(1)},
	{what: "a second server has another site", plain: serves, secure: serves, more: server("127.0.0.2:$SECURE ssl", elsewhere), args: twoServers("127.0.0.2:$SECURE"), ready: is(1, "shows a different page at 127.0.0.2")},
	{what: "a second server fails", plain: serves, secure: serves, more: server("127.0.0.2:$SECURE ssl", "location / { return 502; }\n"), args: twoServers("127.0.0.2:$SECURE"), ready: is(1, "answers 502", "(server 127.0.0.2")},
	{what: "www is not there", plain: serves, secure: serves, bare: true, ready: is(0, "there is no www.ternrock.example: visitors who type it get no answer")},
	{what: "www is there, and nobody named it", plain: serves, secure: serves, bare: true, args: []string{"--resolve", "www.ternrock.example:443:127.0.0.1:$SECURE", "--resolve", "*:80:127.0.0.1:$PLAIN", "--resolve", "ternrock.example:443:127.0.0.1:$SECURE"},
		ready: is(1, "www.ternrock.example resolves, but is not one of the site's names", "--also www.ternrock.example")},
	{what: "port 80 is closed", plain: serves, secure: serves, args: []string{"--resolve", "*:80:127.0.0.9:1"}, ready: is(1, "nothing listens on port 80"), test: is(1, "gets no answer")},
	{what: "port 443 is closed", plain: serves, secure: serves, args: []string{"--resolve", "*:443:127.0.0.9:1"}, ready: is(1, "Not yet", "no TLS for ternrock.example"), test: is(1), check: is(1, "is down", "nothing listens")},
	{what: "port 443 speaks plain HTTP", plain: serves, secure: serves, args: []string{"--resolve", "*:443:127.0.0.1:$PLAIN"}, ready: is(1, "Not yet", "port 443 speaks plain HTTP")},
	{what: "HSTS before the switch", plain: serves, secure: "add_header Strict-Transport-Security 'max-age=31536000; includeSubDomains; preload' always;\n" + serves,
		ready: is(0, "365 more days", "every name below", "takes months to undo", "!Not yet")},
	{what: "a cookie for everybody", plain: serves, secure: "add_header Set-Cookie 'seen=1; Path=/';\n" + serves, ready: is(0, `the cookie "seen" comes without Secure`)},
	{what: "a cache in front", plain: serves, secure: "add_header Via '1.1 cache';\n" + serves, ready: is(0, "a proxy or cache stands in front")},
	{what: "a password for everybody", plain: "location / { return 401; }\n", secure: "location / { return 401; }\n", ready: is(0, "asks for a password: it was not compared")},
	{what: "an error over both", plain: "location / { return 500; }\n", secure: "location / { return 500; }\n", ready: is(1, "Not yet", "answers 500, and over HTTP 500")},
	{what: "a page with the time in it", plain: "add_header X-T $msec;\n" + serves, secure: "sub_filter 'Open' 'Open $msec';\nsub_filter_once off;\n" + serves, ready: is(0, "the same over HTTP and HTTPS")},

	// After the switch.
	{what: "one permanent redirect", plain: goesSecure, secure: oneName, ready: is(0, "HTTP redirects there"), test: is(0, "all 26 addresses lead to the secure one"), check: is(0)},
	{what: "308 for everything", plain: "location / { return 308 https://ternrock.example$request_uri; }\n", secure: oneName, test: is(0), check: is(0)},
	{what: "302", plain: "location / { return 302 https://ternrock.example$request_uri; }\n", secure: oneName, test: is(1, "temporarily", "make it permanent"), check: is(1, "temporarily")},
	{what: "307", plain: "location / { return 307 https://ternrock.example$request_uri; }\n", secure: oneName, test: is(1, "temporarily")},
	{what: "301 for forms too, as panels do it", plain: "location / { return 301 https://ternrock.example$request_uri; }\n", secure: oneName, test: is(0, "loses a form"), check: is(0)},
	{what: "302 for forms alone", plain: "location / { if ($request_method = POST) { return 302 https://ternrock.example$request_uri; } return 301 https://ternrock.example$request_uri; }\n", secure: oneName, test: is(0, "loses a form", "!temporarily")},
	{what: "the path is lost", plain: "location / { return 301 https://ternrock.example/; }\n", secure: oneName, test: is(1, "loses the path", "loses the query"), check: is(1, "loses the path")},
	{what: "the query is lost", plain: "location / { return 301 https://ternrock.example$uri; }\n", secure: oneName, test: is(1, "loses the query", "!loses the path")},
	{what: "scheme first, then name", plain: "location / { return 301 https://$host$request_uri; }\n", secure: oneName, test: is(0, "redirected twice"), check: is(0)},
	{what: "name first, then scheme", plain: "location / { if ($host != ternrock.example) { return 301 http://ternrock.example$request_uri; } return 301 https://ternrock.example$request_uri; }\n", secure: oneName, test: is(0, "redirected twice")},
	{what: "a chain", plain: "location / { return 301 https://www.ternrock.example$request_uri; }\n", secure: "if ($host = www.ternrock.example) { return 301 http://other.ternrock.example$request_uri; }\n" + serves,
		more: server("127.0.0.1:$PLAIN", "return 301 https://ternrock.example$request_uri;\n", "other.ternrock.example"), test: is(1, "chain of redirects", "from HTTPS to HTTP")},
	{what: "to another host", plain: "location / { return 301 https://shop.example$request_uri; }\n", secure: serves, test: is(1, "another host"), check: is(1)},
	{what: "www stays what it is", plain: "location / { return 301 https://$host$request_uri; }\n", secure: serves, test: is(1, "another name of the site")},
	{what: "proofs are redirected too", plain: "location / { return 301 https://ternrock.example$request_uri; }\n", secure: oneName, test: is(0, "authorities follow that")},
	{what: "proofs are led away", plain: "location / { return 301 https://ternrock.example$request_uri; }\nlocation /.well-known/ { return 301 https://ternrock.example/; }\n", secure: oneName, test: is(1, "redirected away")},
	{what: "percent digits in lower case", plain: "location / { return 301 https://ternrock.example$request_uri; }\nlocation /lamp { return 301 'https://ternrock.example/lamp%20room/caf%c3%a9/?$args'; }\n", secure: oneName, test: is(0)},
	{what: "the front page has a language", plain: goesSecure, secure: "location = / { return 302 /en/; }\n" + oneName, test: is(0, "redirected further by the site itself"), check: is(0)},
	{what: "to the language at once", plain: "location = / { return 301 https://ternrock.example/en/; }\nlocation / { return 301 https://ternrock.example$request_uri; }\n", secure: oneName, test: is(0, "redirected further by the site itself")},
	{what: "the site's own picture in place of the icon", plain: goesSecure, secure: "location = /favicon.ico { return 302 https://ternrock.example/media/lens.svg; }\n" + oneName, test: is(0, "redirected further by the site itself"), check: is(0)},
	{what: "the usual port is named", plain: "location / { return 301 https://ternrock.example:443$request_uri; }\n", secure: oneName, test: is(0)},
	{what: "another port", plain: "location / { return 301 https://ternrock.example:8443$request_uri; }\n", secure: oneName, test: is(1, "8443"), check: is(1)},
	{what: "a redirect that does not say where to", plain: "location / { return 301 ''; }\n", secure: oneName, test: is(1, "without a Location")},
	{what: "the secure front page is missing", plain: goesSecure, secure: "location / { return 404; }\n", test: is(1, "a page that is not there"), ready: is(1, "answers 404"), check: is(1)},
	{what: "the secure site fails", plain: goesSecure, secure: "location / { return 500; }\n", test: is(1, "an error page"), ready: is(1), check: is(1, "is down")},
	{what: "a known folder is missing", plain: goesSecure, secure: "location /shop/ { return 404; }\n" + oneName, first: scannedBefore, test: is(1, "https://ternrock.example/shop/", "not there"), check: is(1)},
	{what: "a link that leads nowhere", plain: goesSecure, secure: "location /shop/ { return 404; }\n" + oneName, ready: is(0, "HTTP redirects there"), test: is(0)},
	{what: "every page is the front page", plain: goesSecure, secure: "location /shop/ { return 302 /; }\n" + oneName, first: scannedBefore, test: is(1, "loses the path")},
	{what: "only the shop is secure", plain: serves + "location /shop/ { return 301 https://ternrock.example$request_uri; }\n", secure: serves, test: is(1, "ends up on HTTP")},
	{what: "a second server does not redirect", plain: goesSecure, secure: oneName, more: server("127.0.0.2:$PLAIN", serves) + server("127.0.0.2:$SECURE ssl", oneName), args: twoServers("127.0.0.2:$SECURE"),
		test: is(1, "ends up on HTTP", "(server 127.0.0.2")},
	{what: "a password over HTTPS", plain: goesSecure, secure: "location / { return 401; }\n", test: is(0, "asked for a password")},
	{what: "a cookie first", plain: goesSecure, secure: "set $first '';\nif ($cookie_seen = '') { set $first 1; }\nlocation = / { if ($first) { add_header Set-Cookie 'seen=1; Path=/'; return 302 https://$host/; } try_files /index.html =404; }\n" + serves2,
		test: is(1, "another name", "!loop")},
	{what: "no forms are taken", plain: goesSecure, secure: oneName + "if ($request_method = POST) { return 501; }\n", test: is(0)},
	{what: "a fault that is accepted", plain: "location / { return 302 https://ternrock.example$request_uri; }\n", secure: oneName, first: accepting, test: is(0, "accepted: the host's panel does that"), check: is(0)},
	{what: "the same fault at another address", plain: "location / { return 302 https://ternrock.example$request_uri; }\n", secure: oneName, first: func(w *web) {
		accepting(w)
		w.sitefile(func(s string) string {
			return strings.Replace(s, "      - http://ternrock.example/favicon.ico\n", "", 1)
		})
	}, test: is(1, "1 address", "accepted:")},
	{what: "an editor pastes a link", plain: goesSecure, secure: oneName, first: func(w *web) {
		w.tool(0, "checkup", "--quiet", "--expires-within", "1h")
		w.page("visit/index.html", "<p>Visit us <img src=http://ternrock.example/media/lens.svg>")
	}, check: is(1, "Insecure since last time", "http://ternrock.example/media/lens.svg")},

	// What the road says, and how old its evidence is.
	{what: "never looked", plain: goesSecure, secure: oneName, status: is(1, "not checked yet", "not tested", "Next: trimlantern ready")},
	{what: "all looked at", plain: goesSecure, secure: oneName, first: looked, status: is(1, "[x] ready", "all 26 addresses", "[x] scan")},
	{what: "looked at last month", plain: goesSecure, secure: oneName, first: func(w *web) {
		looked(w)
		w.aged("ready.json", 40)
		w.aged("redirects.json", 40)
	}, status: is(1, "checked 40 days ago", "tested 40 days ago", "Next: trimlantern ready")},
	{what: "the certificate ran out since", plain: goesSecure, secure: oneName, first: func(w *web) {
		looked(w)
		w.edited("ready.json", func(m map[string]any) { m["until"] = time.Now().Add(-time.Hour).UTC().Format(time.RFC3339) })
	}, status: is(1, "the certificate expired on", "renew the certificate", "!is on HTTPS")},
	{what: "the rules were changed since", plain: goesSecure, secure: oneName, first: func(w *web) {
		looked(w)
		time.Sleep(1100 * time.Millisecond)
		w.tool(0, "redirect", "install", "apache", ".htaccess", "--anyway")
	}, status: is(1, "older than the last change of the rules")},
	{what: "of another site", plain: goesSecure, secure: oneName, first: func(w *web) {
		looked(w)
		w.sitefile(func(s string) string {
			return strings.Replace(s, "site: https://ternrock.example", "site: https://beacon.example", 1)
		})
	}, status: is(1, "not checked yet", "not tested", "!all 26 addresses")},
	{what: "a fault counts until it is accepted", plain: "location / { return 302 https://ternrock.example$request_uri; }\n", secure: oneName, first: looked, status: is(1, "9 of 26 addresses do not lead")},
}

const serves2 = "root $ROOT;\nindex index.html;\n"

// server is one more server block.
func server(listen, body string, names ...string) string {
	name := "ternrock.example www.ternrock.example"
	if len(names) > 0 {
		name = strings.Join(names, " ")
	}
	return "server {\nlisten " + listen + ";\nserver_name " + name + ";\n$CERT" + body + "}\n"
}

// twoServers lets the site's name have two addresses.
func twoServers(second string) []string {
	plain := strings.Replace(second, "$SECURE", "$PLAIN", 1)
	return []string{"--resolve", "ternrock.example:443:127.0.0.1:$SECURE", "--resolve", "ternrock.example:443:" + second,
		"--resolve", "ternrock.example:80:127.0.0.1:$PLAIN", "--resolve", "ternrock.example:80:" + plain, "--resolve", "www.ternrock.example:443:127.0.0.1:$SECURE", "--resolve", "www.ternrock.example:80:127.0.0.1:$PLAIN"}
}

// scanned reads the site as it is over HTTP, so that its folders are known.
func scanned(w *web) {
	w.try("scan", "--as-https", "--quiet")
}

// scannedBefore keeps a scan of the time when all was well.
func scannedBefore(w *web) {
	w.serve(situation{plain: goesSecure, secure: oneName})
	w.try("scan", "--quiet")
}

// looked looks at everything that the road wants to see.
func looked(w *web) {
	w.try("ready", "--quiet", "--expires-within", "1h")
	w.try("redirect", "test", "--quiet")
	w.try("scan", "--quiet")
}

// accepting accepts the one fault of the redirect.
func accepting(w *web) {
	var r struct {
		Points []struct {
			Number int
			Grade  string
		}
	}
	_, out := w.try("redirect", "test", "--quiet", "--format", "json")
	require.NoError(w.t, json.Unmarshal([]byte(out), &r))
	for _, p := range r.Points {
		if p.Number > 0 {
			said := w.tool(0, "decide", "accept", fmt.Sprint(p.Number), "--because", "the host's panel does that")
			assert.Contains(w.t, said, "no longer counts")
		}
	}
}

func (w *web) page(name, html string) {
	path := filepath.Join(w.dir, "root", name)
	require.NoError(w.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(w.t, os.WriteFile(path, []byte("<!doctype html><title>Tern Rock Light</title>"+html), 0o644))
}

func (w *web) sitefile(change func(string) string) {
	path := filepath.Join(w.dir, "trimlantern.yaml")
	b, err := os.ReadFile(path)
	require.NoError(w.t, err)
	after := change(string(b))
	require.NotEqual(w.t, string(b), after)
	require.NoError(w.t, os.WriteFile(path, []byte(after), 0o600))
}

func (w *web) edited(name string, change func(map[string]any)) {
	path := filepath.Join(w.dir, ".trimlantern", name)
	b, err := os.ReadFile(path)
	require.NoError(w.t, err)
	var m map[string]any
	require.NoError(w.t, json.NewDecoder(bytes.NewReader(b)).Decode(&m)) // its checksum comes after it
	change(m)
	b, err = json.Marshal(m)
	require.NoError(w.t, err)
	require.NoError(w.t, os.WriteFile(path, b, 0o600))
}

// aged makes evidence older than it is.
func (w *web) aged(name string, days int) {
	w.edited(name, func(m map[string]any) { m["time"] = time.Now().AddDate(0, 0, -days).UTC().Format(time.RFC3339) })
}

// serve writes the server's configuration and starts it, or lets it read it again.
func (w *web) serve(s situation) {
	cert, key := filepath.Join(w.dir, "cert.pem"), filepath.Join(w.dir, "key.pem")
	_, plain, err := net.SplitHostPort(w.plain)
	require.NoError(w.t, err)
	_, secure, err := net.SplitHostPort(w.secure)
	require.NoError(w.t, err)
	certs := fmt.Sprintf("ssl_certificate %s;\nssl_certificate_key %s;\n", cert, key)
	fill := strings.NewReplacer("$ROOT", filepath.Join(w.dir, "root"), "$OTHER", filepath.Join(w.dir, "other"), "$EMPTY", filepath.Join(w.dir, "empty"), "$PLAIN", plain, "$SECURE", secure, "$CERT", "")
	more := ""
	for _, block := range strings.SplitAfter(s.more, "\n}\n") {
		if strings.Contains(block, " ssl;") {
			block = strings.Replace(block, "$CERT", certs, 1)
		}
		more += block
	}
	temp := w.tempPaths()
	conf := fmt.Sprintf("daemon off;\nworker_processes 1;\npid %[1]s/nginx.pid;\nerror_log %[1]s/nginx-error.log;\nevents {}\nhttp {\n%[2]saccess_log off;\nabsolute_redirect off;\ntypes { text/html html; image/svg+xml svg; text/plain txt; }\n", w.dir, temp) +
		fill.Replace(server("127.0.0.1:$PLAIN", s.plain)+strings.Replace(server("127.0.0.1:$SECURE ssl", s.secure), "$CERT", certs, 1)+more) + "}\n"
	path := filepath.Join(w.dir, "nginx.conf")
	_, err = os.Stat(path)
	running := err == nil
	require.NoError(w.t, os.WriteFile(path, []byte(conf), 0o644))
	if running {
		w.run(w.dir, "nginx", "-c", path, "-p", w.dir, "-s", "reload")
		time.Sleep(700 * time.Millisecond) // old workers end by themselves
		return
	}
	out, err := exec.Command("nginx", "-t", "-c", path, "-p", w.dir).CombinedOutput()
	require.NoError(w.t, err, "%s\n%s", out, conf)
	w.daemon("nginx", "-c", path, "-p", w.dir)
	w.await("nginx", func() bool {
		c, err := net.DialTimeout("tcp", w.secure, time.Second)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

func (w *web) says(name string, want *say, args ...string) {
	if want == nil {
		return
	}
	code, out := w.try(args...)
	flat := strings.Join(strings.Fields(out), " ")
	assert.Equal(w.t, want.code, code, "%s: %s", name, out)
	for _, words := range want.words {
		if not, ok := strings.CutPrefix(words, "!"); ok {
			assert.NotContains(w.t, flat, not, name)
		} else {
			assert.Contains(w.t, flat, words, name)
		}
	}
	if name == "checkup" {
		assert.Equal(w.t, code == 0, out == "", "checkup is silent when all is well, and only then")
	}
	for line := range strings.Lines(out) {
		assert.LessOrEqual(w.t, len([]rune(strings.TrimRight(line, "\n"))), 200, "%s: %s", name, line)
	}
}

// Each situation is set up on a real server, and ready, redirect test, checkup and status say of it what is
// so: no wrong good, no wrong bad.
func TestSituations(t *testing.T) {
	t.Parallel()
	require.GreaterOrEqual(t, len(situations), 60)
	for _, s := range situations {
		t.Run(s.what, func(t *testing.T) {
			w := &web{bench: newBench(t), plain: "127.0.0.1:" + freePort(t), secure: "127.0.0.1:" + freePort(t)}
			w.openToServer()
			w.certificate()
			front := "<h1>Tern Rock Light</h1><p>Open from Easter to October, every day but Monday, from ten to five. The lamp is lit at dusk by the keepers of the rock, who show the lens room to visitors in groups of eight.<ul><li><a href=/visit/>Visit</a><li><a href=/shop/>Shop</a><li><a href=/en/>English</a></ul>"
			w.page("index.html", front)
			w.page("en/index.html", front)
			w.page("visit/index.html", "<p>How to reach the rock: by boat, weather permitting, from the east quay.")
			w.page("shop/index.html", "<p>Mugs, charts and lenses; the shop opens with the tower.")
			w.page("media/lens.svg", "<svg/>")
			require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "root/.well-known/acme-challenge"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(w.dir, "root/.well-known/acme-challenge/trimlantern-test"), []byte("proof"), 0o644))
			require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "other", "shop"), 0o755))
			require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "empty"), 0o755))
			welcome := []byte("<!doctype html><title>Welcome</title><p>This server is set up and waits for its content.")
			require.NoError(t, os.WriteFile(filepath.Join(w.dir, "other/index.html"), welcome, 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(w.dir, "other/shop/index.html"), welcome, 0o644))
			_, plain, err := net.SplitHostPort(w.plain)
			require.NoError(t, err)
			_, secure, err := net.SplitHostPort(w.secure)
			require.NoError(t, err)
			args := []string{"init", "--here", "--site", "https://" + host, "--ca", "cert.pem", "--database", "sqlite:" + emptySite(w.bench)}
			if !s.bare {
				args = append(args, "--also", "www."+host)
			}
			var said string
			for _, a := range s.args {
				a = strings.NewReplacer("$PLAIN", plain, "$SECURE", secure).Replace(a)
				args, said = append(args, a), said+a
			}
			for port, at := range map[string]string{"80": w.plain, "443": w.secure} {
				if !strings.Contains(said, ":"+port+":") {
					args = append(args, "--resolve", "*:"+port+":"+at)
				}
			}
			w.tool(0, args...)
			if s.first != nil {
				w.serve(situation{plain: s.plain, secure: s.secure, more: s.more})
				s.first(w)
			}
			w.serve(s)
			w.says("ready", s.ready, "ready", "--quiet", "--expires-within", "1h")
			w.says("redirect test", s.test, "redirect", "test", "--quiet")
			w.says("checkup", s.check, "checkup", "--quiet", "--expires-within", "1h")
			w.says("status", s.status, "status", "--quiet")
		})
	}
}
