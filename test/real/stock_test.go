//go:build real

package real

import (
	"crypto/tls"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stock is one way in which the stock system may be set up.
type stock struct {
	what    string
	server  string
	folder  string // of the web root that the system is in
	network string // "", "sub-domains" or "mapped"
	proxy   string // the header by which a proxy in front tells how visitors came; "": there is none
	long    bool   // only with -stock-all: much the same as another one
}

var stockAll = flag.Bool("stock-all", false, "take the stock system through every set-up")

var stocks = []stock{
	{what: "Apache", server: "apache"},
	{what: "Apache, in a folder", server: "apache", folder: "museum", long: true},
	{what: "Apache, a network of sub-domains", server: "apache", network: "sub-domains", long: true},
	{what: "Apache, a network with a domain of its own", server: "apache", network: "mapped", long: true},
	{what: "Apache, behind X-Forwarded-Proto", server: "apache", proxy: "X-Forwarded-Proto"},
	{what: "Apache, behind Forwarded", server: "apache", proxy: "Forwarded", long: true},
	{what: "Apache, behind X-Forwarded-Ssl", server: "apache", proxy: "X-Forwarded-Ssl", long: true},
	{what: "Apache, behind X-Forwarded-Port", server: "apache", proxy: "X-Forwarded-Port", long: true},
	{what: "Apache, behind two proxies", server: "apache", proxy: "two", long: true},
	{what: "nginx", server: "nginx"},
	{what: "nginx, in a folder", server: "nginx", folder: "museum", long: true},
	{what: "nginx, a network with a domain of its own", server: "nginx", network: "mapped", long: true},
	{what: "nginx, behind X-Forwarded-Proto", server: "nginx", proxy: "X-Forwarded-Proto", long: true},
	{what: "nginx, behind Forwarded", server: "nginx", proxy: "Forwarded", long: true},
	{what: "a PHP front file", server: "php"},
	{what: "a PHP front file, behind X-Forwarded-Proto", server: "php", proxy: "X-Forwarded-Proto", long: true},
}

// tells sets what a proxy of a kind says of a visitor who came over scheme.
func tells(h http.Header, kind, scheme string) {
	secure := scheme == "https"
	switch kind {
	case "Forwarded":
		h.Set("Forwarded", `for=192.0.2.7;proto="`+scheme+`";by=203.0.113.1`)
	case "X-Forwarded-Ssl", "Front-End-Https", "X-Is-Secure":
		h.Set(kind, map[bool]string{true: "on", false: "off"}[secure])
	case "X-Forwarded-Port":
		h.Set(kind, map[bool]string{true: "443", false: "80"}[secure])
	case "X-Visitor": // as an object
		h.Set(kind, `{"country":"no","scheme":"`+scheme+`"}`)
	case "two":
		h.Set("X-Forwarded-Proto", scheme+", http")
	case "none":
	default:
		h.Set(kind, scheme)
	}
}

// behind puts a proxy that ends TLS in front of the server.
func (w *web) behind(kind string) {
	to, err := url.Parse("http://" + w.plain)
	require.NoError(w.t, err)
	handler := func(scheme string) http.Handler {
		return &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(to)
			r.Out.Host = r.In.Host
			for _, name := range []string{"Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Proto"} {
				r.Out.Header.Del(name)
			}
			tells(r.Out.Header, kind, scheme)
		}}
	}
	front := httptest.NewServer(handler("http"))
	w.t.Cleanup(front.Close)
	secure := httptest.NewUnstartedServer(handler("https"))
	cert, err := tls.LoadX509KeyPair(filepath.Join(w.dir, "cert.pem"), filepath.Join(w.dir, "key.pem"))
	require.NoError(w.t, err)
	secure.TLS = &tls.Config{Certificates: []tls.Certificate{cert}}
	secure.StartTLS()
	w.t.Cleanup(secure.Close)
	w.plain, w.secure = strings.TrimPrefix(front.URL, "http://"), strings.TrimPrefix(secure.URL, "https://")
}

// stockNginx serves the system through PHP's own process manager.
func (w *web) stockNginx(folder string) string {
	cert, key := w.certificate("beacon.example")
	fpm, err := filepath.Glob("/usr/sbin/php-fpm*")
	require.NoError(w.t, err)
	require.NotEmpty(w.t, fpm)
	pool := filepath.Join(w.dir, "fpm.conf")
	require.NoError(w.t, os.WriteFile(pool, []byte(fmt.Sprintf("[global]\npid = %[1]s/fpm.pid\nerror_log = %[1]s/fpm-error.log\n[www]\nuser = www-data\ngroup = www-data\nlisten = %[1]s/fpm.sock\nlisten.mode = 0666\npm = static\npm.max_children = 4\n", w.dir)), 0o644))
	w.daemon(fpm[0], "--nodaemonize", "-R", "-y", pool)
	temp := w.tempPaths()
	base := "/"
	if folder != "" {
		base = "/" + folder + "/"
	}
	block := func(listen, more string) string {
		return fmt.Sprintf("server {\n\tlisten %s;\n\tserver_name ternrock.example www.ternrock.example *.ternrock.example beacon.example;\n%s\troot %s/www;\n\tindex index.php;\n\tlocation %s {\n\t\ttry_files $uri $uri/ %sindex.php?$args;\n\t}\n\tlocation ~ \\.php$ {\n\t\tinclude /etc/nginx/fastcgi_params;\n\t\tfastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;\n\t\tfastcgi_pass unix:%s/fpm.sock;\n\t}\n\tlocation ~ \\.png$ {\n\t\tadd_header Cache-Control \"max-age=60\";\n\t}\n}\n", listen, more, w.dir, base, base, w.dir)
	}
	conf := fmt.Sprintf("daemon off;\nworker_processes 1;\nuser www-data;\npid %[1]s/nginx.pid;\nerror_log %[1]s/nginx-error.log;\nevents {}\nhttp {\n%[2]saccess_log off;\ninclude /etc/nginx/mime.types;\n", w.dir, temp) +
		block(w.plain, "") + block(w.secure+" ssl", fmt.Sprintf("\tssl_certificate %s;\n\tssl_certificate_key %s;\n", cert, key)) + "}\n"
	path := filepath.Join(w.dir, "nginx.conf")
	require.NoError(w.t, os.WriteFile(path, []byte(conf), 0o644))
	w.daemon("nginx", "-c", path, "-p", w.dir)
	return path
}

// The stock system, from HTTP to all green with the printed commands alone, and back: on each server, in a
// folder, as a network, behind proxies that tell in each way how visitors came.
func TestStockSystem(t *testing.T) {
	t.Parallel()
	for _, s := range stocks {
		if s.long && !*stockAll {
			continue
		}
		t.Run(s.what, func(t *testing.T) {
			t.Parallel()
			ip := fmt.Sprintf("127.%d.%d.%d", 1+rand.IntN(250), rand.IntN(250), 2+rand.IntN(250))
			w := &web{bench: newBench(t), plain: ip + ":80", secure: ip + ":443"}
			w.openToServer()
			w.looks = true
			w.takeThrough(s)
		})
	}
}

// stand sets the system up as it is before the switch. It returns its address, the file that rules go into, and the
// server behind the proxy, where there is one.
func (w *web) stand(s stock) (address, file, direct string) {
	t := w.t
	address = "http://" + host
	base := "/"
	if s.folder != "" {
		address += "/" + s.folder
		base = "/" + s.folder + "/"
	}
	w.startMariaDB()
	w.stockSystem(s.folder, address)
	w.withoutAvatars()
	if s.network != "" {
		w.makeNetwork()
		if s.network == "mapped" {
			w.sql("UPDATE museum." + prefix + "blogs SET domain = 'beacon.example' WHERE blog_id = 3; UPDATE museum." + prefix + "3_options SET option_value = 'http://beacon.example' WHERE option_name IN ('home', 'siteurl')")
		}
	}
	htaccess := filepath.Join(w.system, ".htaccess")
	block := "# BEGIN the system's own\nRewriteEngine On\nRewriteBase " + base + "\nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . " + base + "index.php [L]\n# END\n"
	file = htaccess
	if s.server == "nginx" {
		file = w.stockNginx(s.folder)
	} else {
		w.certificate("beacon.example")
		require.NoError(t, os.WriteFile(htaccess, []byte(block), 0o644))
		w.apache(filepath.Join(w.dir, "www"))
	}
	direct = w.plain
	w.await("the server", func() bool { return w.visits(address+"/wp-login.php").status == 200 })
	w.run(w.dir, "chown", "-R", "www-data", w.system)
	for _, u := range []string{address + "/", address + "/visit/", address + "/wp-login.php"} { // lets the system write what it writes at first
		require.Equal(t, 200, w.visits(u).status, u)
	}
	return address, file, direct
}

// withoutAvatars has the system show no pictures of a host that cannot be reached from here: what cannot be read stays a gap.
func (b *bench) withoutAvatars() {
	b.sql("UPDATE museum." + prefix + "options SET option_value = '0' WHERE option_name = 'show_avatars'")
}

// takeThrough takes one stock system there and back.
func (w *web) takeThrough(s stock) {
	t := w.t
	address, file, direct := w.stand(s)
	install := []string{"redirect", "install", s.server, file}
	if s.server == "php" {
		file = filepath.Join(w.system, "wp-config.php")
		install[3] = file
	}
	if s.server == "nginx" {
		install = append(install, "--hsts", "--after", fmt.Sprintf("nginx -c %s -p %s -s reload", file, w.dir))
	}
	ready := []string{"ready", "--expires-within", "1h"}
	if s.proxy != "" {
		w.behind(s.proxy)
		install = append(install, "--proxy")
		ready = append(ready, "--origin", direct)
	}
	w.tool(0, append([]string{"init", "--here", "--site", strings.Replace(address, "http:", "https:", 1), "--also", "www." + host, w.system}, w.net()...)...)
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	code, said := w.try(ready...)
	if s.proxy == "" {
		assert.Equal(t, 0, code, said)
	} else if code != 0 { // the server behind does not redirect yet, and is told so
		assert.NotContains(t, said, "Not yet", said)
	}
	w.try("preview", "--quiet")
	w.try("apply", "--quiet") // a style sheet of the theme names a host that is not there
	if s.proxy == "" {        // behind one, the system itself loops until it is told how visitors came
		w.tool(0, append([]string{"ready", "--expires-within", "1h"}, "--quiet")...)
	}
	said = w.tool(0, install...)
	assert.Contains(t, said, "Tested: all")
	code, said = w.try("redirect", "test")
	assert.Equal(t, 0, code, said)
	code, said = w.try(ready...)
	assert.Equal(t, 0, code, said)
	code, said = w.try("scan", "--quiet")
	assert.Equal(t, 0, code, said)
	code, said = w.try("status")
	assert.Equal(t, 0, code, said)
	code, said = w.try("checkup", "--quiet", "--expires-within", "1h")
	assert.Equal(t, 0, code, said)
	assert.Empty(t, said)
	if s.network == "mapped" {
		for _, u := range []string{"http://beacon.example/", "http://shop.ternrock.example/"} {
			v := w.visits(u)
			assert.Equal(t, strings.Replace(u, "http:", "https:", 1), v.url, "each site keeps its own host")
		}
	}
	if s.server == "nginx" || s.server == "apache" {
		assert.Equal(t, 200, w.visits(strings.Replace(address, "http:", "https:", 1)+"/history/history-in-detail/").status)
	}
	if s.server == "nginx" { // which drops headers where a location has its own
		png := strings.Replace(address, "http:", "https:", 1) + "/wp-includes/images/media/default.png"
		assert.Equal(t, "max-age=300", w.header(png, "Strict-Transport-Security"))
		assert.Equal(t, "max-age=60", w.header(png, "Cache-Control"))
		assert.Empty(t, w.header(address+"/", "Strict-Transport-Security"))
	}
	// And back.
	w.tool(0, "undo", "--file", file)
	holds(t, file, string(before))
	if s.server == "nginx" {
		w.run(w.dir, "sh", "-c", install[6])
	}
	w.try("undo", "--quiet")
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(before), string(b))
}
