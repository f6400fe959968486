//go:build real

package real

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"crypto/tls"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// web is one real web server with a small site, set up with rules.
type web struct {
	*bench
	plain, secure string // where it listens; with a proxy, where the proxy does
	override      string // what Apache lets .htaccess override; "": all
	reuse         string // how often the test authority believes a proof again, in percent
}

// layOut writes the site's files.
func (w *web) layOut(rules, php string) string {
	root := filepath.Join(w.dir, "root")
	require.NoError(w.t, os.MkdirAll(filepath.Join(root, ".well-known", "acme-challenge"), 0o755))
	files := map[string]string{".well-known/acme-challenge/trimlantern-test": "proof", ".htaccess": rules}
	if php == "" {
		files["index.html"] = "<p>Tern Rock Light"
	} else {
		files["index.php"] = "<?php\n" + php + "echo '<p>Tern Rock Light, ', empty($_SERVER['HTTPS']) ? 'insecure' : 'secure', ' ', $_SERVER['REQUEST_METHOD'];\n"
		files[".htaccess"] = "FallbackResource /index.php\n"
	}
	for name, text := range files {
		require.NoError(w.t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	return root
}

func (w *web) apache(root string) {
	cert, key := w.certificate("beacon.example")
	w.openToServer()
	var conf strings.Builder
	fmt.Fprintf(&conf, "ServerRoot %[1]s\nPidFile %[1]s/apache.pid\nErrorLog %[1]s/apache-error.log\nServerName %[2]s\nUser www-data\nGroup www-data\nListen %[3]s\nListen %[4]s\n", w.dir, host, w.plain, w.secure)
	for _, m := range []string{"mpm_prefork", "authz_core", "dir", "mime", "rewrite", "headers", "setenvif", "socache_shmcb", "ssl"} {
		fmt.Fprintf(&conf, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", m, m)
	}
	php, err := filepath.Glob("/usr/lib/apache2/modules/libphp*.so")
	require.NoError(w.t, err)
	require.NotEmpty(w.t, php)
	fmt.Fprintf(&conf, "LoadModule php_module %s\nTypesConfig /etc/mime.types\nStartServers 2\nDocumentRoot %[2]s\nDirectoryIndex index.php index.html\n<Directory %[2]s>\n\tRequire all granted\n\tAllowOverride %[3]s\n</Directory>\n<FilesMatch \"\\.php$\">\n\tSetHandler application/x-httpd-php\n</FilesMatch>\n", php[0], root, cmp.Or(w.override, "All"))
	fmt.Fprintf(&conf, "<VirtualHost %s>\n\tSSLEngine on\n\tSSLCertificateFile %s\n\tSSLCertificateKeyFile %s\n</VirtualHost>\n", w.secure, cert, key)
	path := filepath.Join(w.dir, "apache.conf")
	require.NoError(w.t, os.WriteFile(path, []byte(conf.String()), 0o644))
	w.daemon("apache2", "-f", path, "-DFOREGROUND")
	w.t.Cleanup(func() {
		if w.t.Failed() {
			log, err := os.ReadFile(filepath.Join(w.dir, "apache-error.log"))
			w.t.Log(tail(log), err)
		}
	})
}

// openToServer lets the server's own user read below the test's folder.
func (w *web) openToServer() {
	for d := w.dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(w.t, os.Chmod(d, 0o755))
	}
}

// tempPaths keeps nginx's own files in the test's folder.
func (w *web) tempPaths() (lines string) {
	for _, name := range []string{"client_body", "proxy", "fastcgi", "uwsgi", "scgi"} {
		lines += fmt.Sprintf("%s_temp_path %s/%s;\n", name, w.dir, name)
	}
	return lines
}

func (w *web) nginx(root, rules string) {
	cert, key := w.certificate()
	w.openToServer()
	temp := w.tempPaths()
	conf := fmt.Sprintf(`daemon off;
pid %[1]s/nginx.pid;
error_log %[1]s/nginx-error.log;
events {}
http {
%[2]saccess_log off;
server {
	listen %[3]s;
	server_name %[6]s www.%[6]s;
	root %[5]s;
%[7]s}
server {
	listen %[4]s ssl;
	server_name %[6]s www.%[6]s;
	ssl_certificate %[8]s;
	ssl_certificate_key %[9]s;
	root %[5]s;
%[7]s}
}
`, w.dir, temp, w.plain, w.secure, root, host, rules, cert, key)
	path := filepath.Join(w.dir, "nginx.conf")
	require.NoError(w.t, os.WriteFile(path, []byte(conf), 0o644))
	w.daemon("nginx", "-c", path, "-p", w.dir)
}

// proxy puts a server that ends TLS in front of what listens at plain.
func (w *web) proxy() { w.behind("X-Forwarded-Proto") }

type journeys struct {
	Journeys []struct {
		Typed, Method, Landing string
		Problems               []string
		Hops                   []struct{ Status int }
	}
}

func (w *web) redirects(code int) (r journeys) {
	out := w.tool(code, "redirect", "test", "--site", "https://"+host, "--also", "www."+host, "--ca", "cert.pem", "--resolve", "*:80:"+w.plain, "--resolve", "*:443:"+w.secure, "--format", "json", "--quiet")
	require.NoError(w.t, json.Unmarshal([]byte(out), &r))
	require.GreaterOrEqual(w.t, len(r.Journeys), 20)
	return r
}

func (r journeys) problems() map[string]int {
	out := map[string]int{}
	for _, j := range r.Journeys {
		for _, p := range j.Problems {
			out[p]++
		}
	}
	return out
}

// Each rule that redirect show prints is installed on a real server, with and
// without a proxy in front that ends TLS, and passes redirect test.
func TestRedirectRules(t *testing.T) {
	t.Parallel()
	for _, server := range []string{"apache", "nginx", "php"} {
		for _, behind := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, proxy %v", server, behind), func(t *testing.T) {
				w := &web{bench: newBench(t), plain: "127.0.0.1:" + freePort(t), secure: "127.0.0.1:" + freePort(t)}
				args := []string{"redirect", "show", server, "--site", "https://" + host, "--also", "www." + host, "--safety-net", "--hsts"}
				if behind {
					args = append(args, "--proxy")
				}
				rules := w.tool(0, args...)
				switch server {
				case "apache":
					w.apache(w.layOut(rules, ""))
				case "nginx":
					w.nginx(w.layOut("", ""), rules)
				case "php":
					w.apache(w.layOut("", rules))
				}
				direct := w.plain
				w.await(server, func() bool {
					res, err := http.Get("http://" + direct + "/.well-known/acme-challenge/trimlantern-test")
					if err == nil {
						res.Body.Close()
					}
					return err == nil && res.StatusCode == 200
				})
				if behind {
					w.proxy()
				}
				r := w.redirects(0)
				for _, j := range r.Journeys {
					if strings.Contains(j.Typed, "http:") && !strings.Contains(j.Typed, "well-known") {
						assert.Equal(t, map[string]int{"GET": 301, "POST": 308}[j.Method], j.Hops[0].Status, "%s %s", j.Method, j.Typed)
					}
				}
				if server == "php" {
					client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: w.pool, ServerName: host}}}
					req, err := http.NewRequest("GET", "https://"+w.secure+"/", nil)
					require.NoError(t, err)
					req.Host = host
					res, err := client.Do(req)
					require.NoError(t, err)
					defer res.Body.Close()
					assert.Equal(t, "upgrade-insecure-requests", res.Header.Get("Content-Security-Policy"))
				}
			})
		}
	}
}

// The classic loop: a proxy ends TLS, and the origin behind it redirects by its own
// scheme. It is seen, and gone with our rule.
func TestRedirectLoop(t *testing.T) {
	t.Parallel()
	w := &web{bench: newBench(t), plain: "127.0.0.1:" + freePort(t), secure: "127.0.0.1:" + freePort(t)}
	site := []string{"--site", "https://" + host}
	w.tool(0, append([]string{"init", "--here", "--database", "sqlite:" + emptySite(w.bench), "--also", "www." + host}, site...)...)
	root := w.layOut("# somebody's rules\nRewriteEngine On\nRewriteCond %{HTTPS} !=on\nRewriteRule ^ https://ternrock.example%{REQUEST_URI} [R=302,L]\n", "")
	htaccess := filepath.Join(root, ".htaccess")
	before, err := os.ReadFile(htaccess)
	require.NoError(t, err)
	w.apache(root)
	direct := w.plain
	w.await("Apache", func() bool {
		res, err := http.Get("http://" + direct + "/index.html")
		if err == nil {
			res.Body.Close()
		}
		return err == nil || strings.Contains(err.Error(), host) // the redirect leads to a name that nobody has
	})
	w.proxy()
	seen := w.redirects(1).problems()
	assert.Equal(t, 20, seen["loop"], "%v", seen)
	net := []string{"--ca", "cert.pem", "--resolve", "*:80:" + w.plain, "--resolve", "*:443:" + w.secure}
	ready := append([]string{"ready", "--site", "https://" + host, "--origin", direct, "--expires-within", "1h"}, net...)
	said := w.tool(1, ready...)
	assert.Contains(t, said, "redirects in a loop", "ready sees it too")
	assert.Contains(t, strings.Join(strings.Fields(said), " "), "redirects to HTTPS even when told that the visitor came over HTTPS")
	install := append([]string{"redirect", "install", "apache", htaccess, "--proxy"}, net...)
	said = strings.Join(strings.Fields(w.tool(1, install...)), " ")
	assert.Contains(t, said, "Not installed")
	assert.Contains(t, said, "line 4 of the file redirects visitors of the secure address to https://ternrock.example")
	holds(t, htaccess, string(before))
	// The other one goes, as we said, and the loop with it.
	require.NoError(t, os.WriteFile(htaccess, []byte("# nothing\n"), 0o644))
	assert.Contains(t, w.tool(0, install...), "Tested: all 20 addresses")
	installed, err := os.ReadFile(htaccess)
	require.NoError(t, err)
	w.tool(0, install...)
	holds(t, htaccess, string(installed))
	w.redirects(0)
	said = strings.Join(strings.Fields(w.tool(0, ready...)), " ")
	assert.NotContains(t, said, "loop.")
	assert.Contains(t, said, "behind the proxy knows when a visitor came over HTTPS")
	w.tool(0, "redirect", "remove", htaccess)
	holds(t, htaccess, "# nothing\n")
}

// holds compares a file with what it must be, byte for byte.
func holds(t *testing.T, file, want string) {
	t.Helper()
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, want, string(b))
}

// emptySite makes a database for commands that need a site file.
func emptySite(b *bench) string {
	b.run(b.dir, "sqlite3", "site.db", "CREATE TABLE notes (id INTEGER PRIMARY KEY, v TEXT)")
	return filepath.Join(b.dir, "site.db")
}

// The real content-managed system, with TLS at its own server and behind a proxy
// that ends TLS. There a rule by the server's own scheme sends everybody round in a
// loop; with the rule for a proxy the loop is gone.
func TestSystemBehindProxy(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.system = filepath.Join(b.dir, "www")
	b.startMariaDB()
	b.copySystem()
	w := &web{bench: b, plain: "127.0.0.1:" + freePort(t), secure: "127.0.0.1:" + freePort(t)}
	w.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, b.system)
	w.tool(0, "preview", "--offline")
	w.tool(0, "apply", "--offline")
	w.apache(b.system)
	direct := w.plain
	w.await("Apache", func() bool {
		res, err := http.Get("http://" + direct + "/wp-includes/images/media/default.png")
		if err == nil {
			res.Body.Close()
		}
		return err == nil && res.StatusCode == 200
	})
	// Without a proxy, TLS at the server: what the system does itself, and our rule.
	htaccess := filepath.Join(b.system, ".htaccess")
	net := func() []string {
		return []string{"--ca", "cert.pem", "--resolve", "*:80:" + w.plain, "--resolve", "*:443:" + w.secure}
	}
	w.tool(0, append([]string{"redirect", "install", "apache", htaccess}, net()...)...)
	w.redirects(0)
	w.tool(0, "undo")
	require.NoFileExists(t, htaccess)

	// With a proxy in front, a rule by the server's own scheme loops: it is taken back at once.
	w.proxy()
	said := strings.Join(strings.Fields(w.tool(1, append([]string{"redirect", "install", "apache", htaccess}, net()...)...)), " ")
	assert.Contains(t, said, "https://ternrock.example cannot be loaded at /wp-login.php, /wp-admin/: redirects in a loop")
	require.NoFileExists(t, htaccess)
	w.tool(0, "redirect", "install", "apache", htaccess, "--anyway")
	seen := w.redirects(1).problems()
	assert.Positive(t, seen["loop"], "the classic loop, for real: %v", seen)
	ready := append([]string{"ready", "--site", "https://" + host, "--also", "www." + host, "--origin", direct, "--expires-within", "1h"}, net()...)
	assert.Contains(t, w.tool(1, ready...), "redirects in a loop")
	w.tool(0, append([]string{"redirect", "install", "apache", htaccess, "--proxy"}, net()...)...)
	w.redirects(0)
	assert.NotContains(t, w.tool(0, ready...), "redirects in a loop")
	w.tool(0, "undo")
	assert.Positive(t, w.redirects(1).problems()["loop"], "undo puts the looping rule back")
}

// Rules for some paths alone redirect these, and nothing else.
func TestRedirectPaths(t *testing.T) {
	t.Parallel()
	for _, server := range []string{"apache", "nginx", "php"} {
		t.Run(server, func(t *testing.T) {
			w := &web{bench: newBench(t), plain: "127.0.0.1:" + freePort(t), secure: "127.0.0.1:" + freePort(t)}
			rules := w.tool(0, "redirect", "show", server, "--site", "https://"+host, "--path", "/visit", "--path", "/shop/")
			switch server {
			case "apache":
				w.apache(w.layOut(rules, ""))
			case "nginx":
				w.nginx(w.layOut("", ""), rules)
			case "php":
				w.apache(w.layOut("", rules))
			}
			const proof = "/.well-known/acme-challenge/trimlantern-test"
			ask := func(method, path string) (status int, location string) {
				req, err := http.NewRequest(method, "http://"+w.plain+path, nil)
				require.NoError(t, err)
				req.Host = host
				res, err := http.DefaultTransport.RoundTrip(req)
				if err != nil {
					return 0, err.Error()
				}
				res.Body.Close()
				return res.StatusCode, res.Header.Get("Location")
			}
			w.await(server, func() bool { status, _ := ask(http.MethodGet, proof); return status == 200 })
			for _, path := range []string{"/visit", "/visit/", "/visit/tides?day=7&x=%2F", "/shop/", "/shop/mugs"} {
				status, location := ask(http.MethodGet, path)
				assert.Equal(t, []any{301, "https://" + host + path}, []any{status, location}, path)
				status, location = ask(http.MethodPost, path)
				assert.Equal(t, []any{308, "https://" + host + path}, []any{status, location}, path)
			}
			for _, path := range []string{"/", "/visitors", "/about/visit", "/shopping", "/?p=/visit", proof} {
				status, location := ask(http.MethodGet, path)
				assert.Empty(t, location, path)
				assert.NotEqual(t, 3, status/100, path)
			}
		})
	}
}
