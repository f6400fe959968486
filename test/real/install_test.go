//go:build real

package real

import (
	"context"
	"crypto/tls"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/rules"
)

var (
	ruleFiles = flag.Int("rule-files", 15, "how many random files of each server rules are put into")
	ruleSeed  = flag.Uint64("rule-seed", 16, "where they begin; 0: anywhere")
)

// visit is what a visitor meets in the end.
type visit struct {
	status    int
	url, body string
	hops      int
	err       string
}

// visits asks as a browser would, by a client of the test's own.
func (w *web) visits(u string) visit {
	jar, err := cookiejar.New(nil)
	require.NoError(w.t, err)
	v := visit{}
	c := &http.Client{Timeout: 10 * time.Second, Jar: jar, Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: w.pool},
		DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			to := w.secure
			if strings.HasSuffix(addr, ":80") {
				to = w.plain
			}
			return (&net.Dialer{}).DialContext(ctx, network, to)
		}},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			v.hops = len(via)
			if len(via) > 9 {
				return fmt.Errorf("a loop")
			}
			return nil
		}}
	res, err := c.Get(u)
	if err != nil {
		v.err = err.Error()
		return v
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		v.err = err.Error()
	}
	v.status, v.url, v.body = res.StatusCode, res.Request.URL.String(), string(b)
	return v
}

// visited are the paths that the judge asks for.
var visited = []string{"/", "/visit/?from=map", "/visit/", "/media/lens.svg", "/old/page", "/lamp%20room/", "/shop/", "/.well-known/acme-challenge/trimlantern-test", "/nothing/at/all"}

// meets asks for all of them under one scheme and name.
func (w *web) meets(base string) map[string]visit {
	out := map[string]visit{}
	for _, p := range visited {
		out[p] = w.visits(base + p)
	}
	return out
}

// judged holds what visitors meet after the rules were put in against what HTTPS gave them before.
func (w *web) judged(t *testing.T, file string, before map[string]visit) bool {
	ok := true
	for _, name := range []string{host, "www." + host} {
		for p, after := range w.meets("http://" + name) {
			was := before[p]
			switch {
			case after.err != "":
				ok = assert.Fail(t, "a visitor is stranded", "http://%s%s: %s\n%s", name, p, after.err, file)
			case p == "/.well-known/acme-challenge/trimlantern-test":
				if after.status != was.status {
					ok = assert.Fail(t, "the proof is gone", "%d in place of %d\n%s", after.status, was.status, file)
				}
			case !strings.HasPrefix(after.url, "https://"+host+"/"):
				ok = assert.Fail(t, "a visitor ends up elsewhere", "http://%s%s: %s\n%s", name, p, after.url, file)
			case after.status != was.status || was.status == 200 && after.body != was.body:
				ok = assert.Fail(t, "a visitor sees another page", "http://%s%s: %d %q in place of %d %q\n%s", name, p, after.status, after.body, was.status, was.body, file)
			}
		}
	}
	return ok
}

// museumFiles lays out the little site; PHP answers what is no file.
func (w *web) museumFiles() string {
	root := filepath.Join(w.dir, "root")
	for name, text := range map[string]string{"index.php": "<?php\necho '<title>Tern Rock Light</title><p>Page ', htmlspecialchars(strtok($_SERVER['REQUEST_URI'], '?'));\n", "index.html": "<title>Tern Rock Light</title><p>The front page, with the hours of the lamp room and the boat.",
		"visit/index.html": "<title>Visit</title><p>How to reach the rock.", "media/lens.svg": "<svg/>", "shop/index.html": "<title>Shop</title><p>Mugs.", "lamp room/index.html": "<title>Lamp</title><p>Up the stairs.",
		".well-known/acme-challenge/trimlantern-test": "proof"} {
		path := filepath.Join(root, name)
		require.NoError(w.t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(w.t, os.WriteFile(path, []byte(text), 0o644))
	}
	return root
}

func (w *web) net() []string {
	return []string{"--ca", "cert.pem", "--resolve", "*:80:" + w.plain, "--resolve", "*:443:" + w.secure}
}

func newWeb(t *testing.T) *web {
	// An address of its own has the usual ports free: servers name others in their redirects.
	ip := fmt.Sprintf("127.%d.%d.%d", 1+rand.IntN(250), rand.IntN(250), 2+rand.IntN(250))
	w := &web{bench: newBench(t), plain: ip + ":80", secure: ip + ":443"}
	w.openToServer()
	w.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--database", "sqlite:"+emptySite(w.bench))
	return w
}

// apacheParts are rules as they are found in the wild.
var apacheParts = []string{
	"RewriteEngine On\nRewriteBase /\nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /index.php [L]\n",
	"RewriteEngine On\nRewriteCond %{HTTP_HOST} ^ternrock\\.example$ [NC]\nRewriteRule ^(.*)$ http://www.ternrock.example/$1 [R=301,L]\n",
	"RewriteEngine On\nRewriteCond %{HTTP_HOST} ^www\\.ternrock\\.example$ [NC]\nRewriteRule ^(.*)$ http://ternrock.example/$1 [R=301,L]\n",
	"RewriteEngine On\nRewriteCond %{HTTP_HOST} !^www\\.\nRewriteRule ^(.*)$ https://www.%{HTTP_HOST}/$1 [R=301,L]\n",
	"RewriteEngine On\nRewriteCond %{HTTP_HOST} ^www\\.(.+)$ [NC]\nRewriteRule ^ https://%1%{REQUEST_URI} [R=301,L]\n",
	"RewriteEngine On\nRewriteCond %{HTTPS} off\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]\n",
	"RewriteEngine On\nRewriteCond %{SERVER_PORT} !^443$\nRewriteRule ^(.*)$ https://ternrock.example/$1 [R=302,L]\n",
	"RewriteEngine On\nRewriteCond %{HTTPS} on\nRewriteRule ^(.*)$ http://%{HTTP_HOST}/$1 [R=301,L]\n",
	"RewriteEngine On\nRewriteCond %{REQUEST_SCHEME} =https\nRewriteCond %{REQUEST_URI} ^/shop\nRewriteRule ^ http://%{HTTP_HOST}%{REQUEST_URI} [R=302,L]\n",
	"RewriteEngine On\nRewriteCond %{HTTPS} =on [OR]\nRewriteCond %{HTTP_HOST} ^www\nRewriteRule ^visit/ /shop/ [L]\n",
	"RewriteEngine Off\n",
	"RewriteEngine On\nRewriteOptions Inherit\n",
	"RewriteEngine On\nRewriteRule ^old/(.*)$ /visit/ [R=301,L]\n",
	"RewriteEngine On\nRewriteRule ^old/(.*)$ http://ternrock.example/visit/ [R=301,L]\n",
	"RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^(.*[^/])$ /$1/ [R=301,L]\n",
	"RewriteEngine On\nRewriteCond %{HTTP_USER_AGENT} Mobile\nRewriteRule ^ http://m.ternrock.example/ [R=302,L]\n",
	"RewriteEngine On\nRewriteCond %{HTTP_REFERER} !^$\nRewriteCond %{HTTP_REFERER} !ternrock\nRewriteRule \\.svg$ - [F]\n",
	"RewriteEngine On\nRewriteRule ^$ /visit/ [R=302,L]\n",
	"RewriteEngine On\nRewriteCond %{ENV:REDIRECT_STATUS} ^$\nRewriteRule ^shop/?$ /index.html [END]\n",
	"RewriteEngine On\nRewriteRule ^\\.well-known/ - [L]\n",
	"RewriteEngine On\nRewriteRule ^ - [E=TO_HTTPS:1]\n",
	"RewriteEngine On\nRewriteRule (^|/)\\. - [F]\n",
	"RewriteEngine On\nRewriteRule . /index.php [L]\n",
	"Redirect 301 /old/page /visit/\n",
	"Redirect permanent /shop/ http://ternrock.example/visit/\n",
	"Redirect 301 / http://www.ternrock.example/\n",
	"RedirectMatch 302 ^/old/.*$ https://ternrock.example/visit/\n",
	"ErrorDocument 404 /index.html\n",
	"ErrorDocument 404 \"not here\"\n",
	"Options -Indexes\n", "Options +FollowSymLinks\n", "DirectoryIndex index.html index.php\n", "DirectoryIndex index.php\n",
	"Header set X-Frame-Options SAMEORIGIN\n", "Header always set Strict-Transport-Security \"max-age=300\"\n",
	"SetEnvIf X-Forwarded-Proto https HTTPS=on\n", "SetEnv HTTPS on\n",
	"<IfModule mod_expires.c>\nExpiresActive On\n</IfModule>\n", "<Files secret.txt>\nRequire all denied\n</Files>\n", "<FilesMatch \"\\.svg$\">\nHeader set Cache-Control \"max-age=60\"\n</FilesMatch>\n",
	"<If \"%{HTTPS} != 'on'\">\nRedirect 302 /shop/ https://ternrock.example/shop/\n</If>\n", "<If \"%{HTTP_HOST} == 'www.ternrock.example'\">\nRedirect 301 / http://ternrock.example/\n</If>\n",
	"# a comment with https://ternrock.example\n", "AddType image/svg+xml .svg\n", "AddDefaultCharset UTF-8\n", "FileETag None\n", "php_value memory_limit 64M\n",
	"RewriteEngine On\nRewriteCond %{HTTP:X-Forwarded-Proto} !https\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]\n",
	"RewriteEngine On\n\tRewriteCond  %{HTTPS}  !=on\t\n  RewriteRule ^ https://ternrock.example%{REQUEST_URI} \\\n    [R=301,L]\n",
	"Nonsense here\n",
}

func randomFile(r *rand.Rand, parts []string) string {
	var out strings.Builder
	for range r.IntN(5) {
		part := parts[r.IntN(len(parts))]
		if r.IntN(4) == 0 && strings.Contains(part, "Rewrite") {
			part = "<IfModule mod_rewrite.c>\n" + part + "</IfModule>\n"
		}
		out.WriteString(part)
	}
	text := out.String()
	switch r.IntN(12) {
	case 0:
		text = strings.ReplaceAll(text, "\n", "\r\n")
	case 1:
		text = strings.TrimSuffix(text, "\n")
	}
	return text
}

// Random files of common rules: after install what visitors meet is what it should be, or the file is as it
// was, byte for byte. Real servers judge, through a client of the test's own.
func TestInstallIntoAnyApacheFile(t *testing.T) {
	t.Parallel()
	installInto(t, "apache", apacheParts)
}

func installInto(t *testing.T, server string, parts []string) {
	seed := *ruleSeed
	if seed == 0 {
		seed = rand.Uint64()
	}
	w := newWeb(t)
	root := w.museumFiles()
	file := filepath.Join(root, ".htaccess")
	lay := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o644)) }
	args := []string{"redirect", "install", server, file, "--quiet"}
	reload, valid := func() {}, func() bool { return true }
	switch server {
	case "apache":
		lay("")
		w.apache(root)
	case "nginx":
		file = filepath.Join(w.dir, "nginx.conf")
		command := fmt.Sprintf("nginx -c %s -p %s -s reload", file, w.dir)
		args = append(args, "--after", command)
		args[3] = file
		w.certificate()
		lay(w.nginxFile(root, "", ""))
		w.daemon("nginx", "-c", file, "-p", w.dir)
		reload = func() {
			w.run(w.dir, "sh", "-c", command)
			time.Sleep(300 * time.Millisecond)
		}
		valid = func() bool {
			return exec.Command("nginx", "-t", "-q", "-c", file, "-p", w.dir).Run() == nil
		}
	}
	args = append(args, w.net()...)
	w.await(server, func() bool { return w.visits("http://"+host+"/media/lens.svg").status == 200 })
	kinds := map[string]int{}
	for i := range *ruleFiles {
		r := rand.New(rand.NewPCG(seed, uint64(i)))
		var text string
		if server == "nginx" {
			text = w.nginxFile(root, randomFile(r, parts), randomFile(r, parts))
			text = strings.ReplaceAll(text, "\r\n", "\n")
		} else {
			text = randomFile(r, parts)
		}
		lay(text)
		if !valid() {
			kinds["no configuration"]++
			continue
		}
		reload()
		before := w.meets("https://" + host)
		code, said := w.try(args...)
		now, err := os.ReadFile(file)
		require.NoError(t, err)
		changed := string(now) != text
		switch {
		case code == 0 && changed:
			kinds["installed"]++
			if !w.judged(t, string(now), before) {
				t.Logf("seed %d, file %d", seed, i)
			}
			w.tool(0, "redirect", "remove", file)
			holds(t, file, text)
		case changed && strings.Contains(said, "the rules do not reach"):
			kinds["kept, with exceptions"]++
			for address, met := range w.meets("https://" + host) {
				assert.Equal(t, before[address], met, "%s: what is secure stays as it is: %s", address, text)
			}
			w.tool(0, "redirect", "remove", file)
			holds(t, file, text)
			reload()
		case code == 0:
			assert.Fail(t, "nothing was done, and nothing said", text)
		case changed:
			assert.Fail(t, "the file was not put back", "%s\n%s\n%s", text, now, said)
		case strings.Contains(said, "Not installed"):
			kinds["refused"]++
		case strings.Contains(said, "Taken back"):
			kinds["taken back"]++
			_, why, _ := strings.Cut(said, "before.")
			kinds[strings.Join(strings.Fields(why), " ")[:60]]++
		default:
			kinds["refused in words"]++
		}
		if code != 0 {
			assert.Equal(t, before, w.meets("https://"+host), "and visitors meet what they met: %s", text)
		}
		if t.Failed() && i > 20 {
			t.Logf("seed %d, file %d", seed, i)
			break
		}
	}
	t.Logf("%s: seed %d, %v", server, seed, kinds)
	if server != "" {
		assert.Greater(t, kinds["installed"], *ruleFiles/5)
	}
}

// nginxFile is a configuration with random directives in the server blocks for port 80 and for port 443.
func (w *web) nginxFile(root, plain, secure string) string {
	temp := w.tempPaths()
	block := func(listen, more, body string) string {
		fallback := "location / {\n\ttry_files $uri $uri/ /index.html;\n}\n"
		if strings.Contains(body, "location / {") {
			fallback = ""
		}
		if strings.Count(body, "location / {") > 1 || strings.Count(body, "location /shop/ {") > 1 || strings.Count(body, "location /old/ {") > 1 || strings.Count(body, "location = / {") > 1 {
			body, fallback = "", "location / {\n\ttry_files $uri $uri/ /index.html;\n}\n" // nginx takes none twice
		}
		return "server {\n\tlisten " + listen + ";\n\tserver_name ternrock.example www.ternrock.example;\n" + more + "root " + root + ";\nindex index.html;\n" + body + fallback + "}\n"
	}
	cert := fmt.Sprintf("\tssl_certificate %s/cert.pem;\n\tssl_certificate_key %s/key.pem;\n", w.dir, w.dir)
	return fmt.Sprintf("daemon off;\nworker_processes 1;\npid %[1]s/nginx.pid;\nerror_log %[1]s/nginx-error.log;\nevents {}\nhttp {\n%[2]saccess_log off;\nabsolute_redirect off;\ntypes { text/html html; image/svg+xml svg; }\n", w.dir, temp) +
		block(w.plain, "", plain) + block(w.secure+" ssl", cert, secure) + "}\n"
}

// nginxParts are directives of a server block as they are found in the wild.
var nginxParts = []string{
	"location /old/ {\n\treturn 301 /visit/;\n}\n",
	"location /shop/ {\n\tadd_header X-Shop open;\n}\n",
	"location /shop/ {\n\treturn 302 http://$host/visit/;\n}\n",
	"location /shop/ {\n\tif ($scheme = http) {\n\t\treturn 301 https://$host$request_uri;\n\t}\n}\n",
	"location ~ \\.svg$ {\n\texpires 1h;\n\tadd_header Cache-Control public;\n}\n",
	"location ~ /\\.(?!well-known) {\n\tdeny all;\n}\n",
	"location = / {\n\treturn 302 /visit/;\n}\n",
	"location / {\n\treturn 301 https://$host$request_uri;\n}\n",
	"location / {\n\treturn 301 http://www.ternrock.example$request_uri;\n}\n",
	"location / {\n\ttry_files $uri $uri/ /index.html?q=$uri;\n}\n",
	"location ^~ /.well-known/ {\n\tallow all;\n}\n",
	"if ($host = www.ternrock.example) {\n\treturn 301 http://ternrock.example$request_uri;\n}\n",
	"if ($host != www.ternrock.example) {\n\treturn 301 $scheme://www.ternrock.example$request_uri;\n}\n",
	"if ($scheme = https) {\n\treturn 301 http://$host$request_uri;\n}\n",
	"if ($scheme != https) {\n\trewrite ^ https://ternrock.example$uri permanent;\n}\n",
	"if ($http_user_agent ~* mobile) {\n\treturn 302 http://m.ternrock.example/;\n}\n",
	"rewrite ^/old/(.*)$ /visit/ last;\n",
	"rewrite ^/old/(.*)$ /visit/ permanent;\n",
	"rewrite ^([^.]*[^/])$ $1/ permanent;\n",
	"rewrite ^/visit/$ /shop/ break;\n",
	"error_page 404 /index.html;\n",
	"error_page 404 =200 /index.html;\n",
	"add_header X-Frame-Options SAMEORIGIN;\n",
	"charset utf-8;\n", "autoindex off;\n", "client_max_body_size 8m;\n", "# return 301 https://ternrock.example;\n", "set $to_https 1;\n",
	"gzip on;\n", "keepalive_timeout 5;\n",
}

func TestInstallIntoAnyNginxFile(t *testing.T) {
	t.Parallel()
	installInto(t, "nginx", nginxParts)
}

// What would take a site down is refused, or taken back at once, with the reason; the file is as it was.
func TestInstallGuarded(t *testing.T) {
	t.Parallel()
	const toWWW = "RewriteEngine On\nRewriteCond %{HTTP_HOST} ^ternrock\\.example$ [NC]\nRewriteRule ^(.*)$ http://www.ternrock.example/$1 [R=301,L]\n"
	for _, c := range []struct {
		what     string
		override string // AllowOverride
		file     string // that the rules go into; "": .htaccess
		before   string
		proxy    string // that stands in front; "none": one that tells nothing
		args     []string
		server   string
		code     int
		say      string
		kept     bool // what the rules reach is better than before, and nothing is worse
	}{
		{what: "a redirect to the other name", before: toWWW, code: 1, say: "line 3 of the file redirects visitors of the secure address to http://www.ternrock.example/$1"},
		{what: "nothing listens for HTTPS", args: []string{"--resolve", "*:443:127.0.0.9:1"}, code: 1, say: "nothing listens there"},
		{what: "overriding is forbidden", override: "None", code: 1, say: "the rules had no effect: the server reads no .htaccess"},
		{what: "rewriting may not be overridden", override: "Options", code: 1, say: "it forbids rules like these in .htaccess (AllowOverride)"},
		{what: "PHP rules for .htaccess", server: "php", before: "Options -Indexes\n", code: 2, say: "does not begin with <?php"},
		{what: "Apache rules for PHP", file: "index.php", code: 2, say: "write php in place of apache"},
		{what: "a front file with declarations", server: "php", file: "index.php", before: "<?php\ndeclare( strict_types = 1 );\nnamespace Museum;\necho '<title>Tern Rock Light</title><p>Page ', \\htmlspecialchars(\\strtok($_SERVER['REQUEST_URI'], '?'));\n", code: 1, say: "the rules do not reach", kept: true},
		{what: "a proxy that tells nothing", proxy: "none", args: []string{"--proxy"}, code: 1, say: "the proxy does not tell the server how visitors came"},
		{what: "a proxy, and rules for none", proxy: "X-Forwarded-Proto", code: 1, say: "a proxy in front ends TLS (then install with --proxy)"},
		{what: "a proxy that tells", proxy: "X-Forwarded-Proto", args: []string{"--proxy", "--hsts", "--safety-net"}, code: 0, say: "Tested: all"},
		{what: "all is well", args: []string{"--hsts", "--safety-net"}, code: 0, say: "Tested: all"},
	} {
		t.Run(c.what, func(t *testing.T) {
			w := newWeb(t)
			root := w.museumFiles()
			file := filepath.Join(root, ".htaccess")
			if c.file != "" {
				file = filepath.Join(root, c.file)
			}
			if c.before != "" {
				require.NoError(t, os.WriteFile(file, []byte(c.before), 0o644))
			}
			before, err := os.ReadFile(file)
			there := err == nil
			w.override = c.override
			w.apache(root)
			w.await("Apache", func() bool { return w.visits("http://www."+host+"/media/lens.svg").err == "" })
			if c.proxy != "" {
				w.behind(c.proxy)
			}
			args := []string{"redirect", "install", "apache", file}
			if c.server != "" {
				args[2] = c.server
			}
			net := w.net()
			if strings.Contains(strings.Join(c.args, " "), ":443:") {
				net = net[:4]
			}
			c1 := exec.Command(w.program, append(append(args, net...), c.args...)...)
			c1.Env = w.environment()
			c1.Dir = w.dir
			out, _ := c1.CombinedOutput() // its exit code is asserted
			said := strings.Join(strings.Fields(string(out)), " ")
			assert.Equal(t, c.code, c1.ProcessState.ExitCode(), said)
			assert.Contains(t, said, c.say)
			if c.kept {
				assert.Equal(t, "https://"+host+"/", w.visits("http://"+host+"/").url)
				assert.Equal(t, "http://"+host+"/media/lens.svg", w.visits("http://"+host+"/media/lens.svg").url)
				assert.NotEqual(t, string(before), must(t, file))
				return
			}
			if c.code != 0 {
				now, err := os.ReadFile(file)
				assert.Equal(t, there, err == nil)
				assert.Equal(t, string(before), string(now), "the file is as it was")
				return
			}
			for _, path := range []string{"/", "/media/lens.svg", "/nothing/"} { // headers go with secure answers alone
				assert.Equal(t, "max-age=300", w.header("https://"+host+path, "Strict-Transport-Security"), path)
				assert.Equal(t, "upgrade-insecure-requests", w.header("https://"+host+path, "Content-Security-Policy"), path)
				assert.Empty(t, w.header("http://"+host+path, "Strict-Transport-Security"), path)
			}
		})
	}
}

// The rules are right for each server, in whichever words the proxy in front tells it how visitors came; where those are words
// that they do not know, nothing is kept.
func TestInstallBehindAnyProxy(t *testing.T) {
	t.Parallel()
	kinds := []struct{ header, named string }{{"X-Forwarded-Proto", ""}, {"Forwarded", ""}, {"X-Forwarded-Ssl", ""}, {"X-Forwarded-Port", ""}, {"X-Forwarded-Scheme", ""}, {"Front-End-Https", ""}, {"two", ""},
		{"X-Visitor", "X-Visitor"}, {"X-Is-Secure", "X-Is-Secure"}, {"X-Scheme", "X-Scheme"}, {"X-Visitor", ""}, {"none", ""}}
	for _, server := range rules.Servers {
		t.Run(server, func(t *testing.T) {
			w := newWeb(t)
			root := w.museumFiles()
			file, reload, page := filepath.Join(root, ".htaccess"), "", "/lamp/"
			switch server {
			case "php":
				file, page = filepath.Join(root, "index.php"), "/" // others are not its own here
				fallthrough
			case "apache":
				w.apache(root)
			default:
				w.certificate()
				file, reload = filepath.Join(w.dir, "nginx.conf"), fmt.Sprintf("nginx -c %s -p %s -s reload", filepath.Join(w.dir, "nginx.conf"), w.dir)
				require.NoError(t, os.WriteFile(file, []byte(w.nginxFile(root, "", "")), 0o644))
				w.daemon("nginx", "-c", file, "-p", w.dir)
			}
			w.await(server, func() bool { return w.visits("http://"+host+"/").status == 200 })
			before, _ := os.ReadFile(file) // there may be none
			plain, secure := w.plain, w.secure
			for _, k := range kinds {
				w.plain, w.secure = plain, secure
				w.behind(k.header)
				args := append([]string{"redirect", "install", server, file, "--proxy", "--after", reload}, w.net()...)
				if k.named != "" {
					args = append(args, "--proxy-header", k.named)
				}
				c := exec.Command(w.program, args...)
				c.Env, c.Dir = w.environment(), w.dir
				out, _ := c.CombinedOutput() // its exit code is asserted
				what, there := fmt.Sprintf("%s with %q: %s", k.header, k.named, tail(out)), w.visits("http://"+host+page+"?a=1")
				if k.header == "none" || k.header == "X-Visitor" && k.named == "" {
					assert.Equal(t, 1, c.ProcessState.ExitCode(), what)
					now, _ := os.ReadFile(file)
					assert.Equal(t, string(before), string(now), what)
					assert.Equal(t, "http://"+host+page+"?a=1", there.url, what)
					continue
				}
				assert.Equal(t, "https://"+host+page+"?a=1", there.url, what)
				assert.Equal(t, "https://"+host+page, w.visits("https://"+host+page).url, what)
				out, err := func() ([]byte, error) {
					c := exec.Command(w.program, "redirect", "remove", file, "--after", reload)
					c.Env, c.Dir = w.environment(), w.dir
					return c.CombinedOutput()
				}()
				require.NoError(t, err, tail(out))
				w.await("the file of before", func() bool { return w.visits("http://"+host+page).url == "http://"+host+page }) // PHP looks again after two seconds
				if server == "php" {
					time.Sleep(3 * time.Second) // in each of its processes
				}
			}
		})
	}
}

// header asks once and returns a header of the answer.
func (w *web) header(u, name string) string {
	to := w.secure
	if strings.HasPrefix(u, "http:") {
		to = w.plain
	}
	c := &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: w.pool},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, to)
		}}
	req, err := http.NewRequest(http.MethodGet, u, nil)
	require.NoError(w.t, err)
	res, err := c.RoundTrip(req)
	require.NoError(w.t, err)
	res.Body.Close()
	return res.Header.Get(name)
}
