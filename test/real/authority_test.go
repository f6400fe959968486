//go:build real

package real

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/demo/authority"
	"trimlantern/outside/dns"
)

// port is a web server of the site with a real test authority that fetches proofs from it.
type port struct {
	*web
	directory  string
	management string               // of the test authority
	standIn    *authority.Authority // in its place
	challenges string               // where the authority's own name server takes records
	names      string               // where that answers
}

// authorities are the real test authority and our stand-in: what holds with the one holds with the other.
var authorities = []struct {
	name  string
	start func(w *web, dns string, binding bool) *port
}{{"test authority", (*web).authority}, {"stand-in", (*web).standIn}}

const bindingKey = "zWNDZM6eQGHWpSRTPal5eIUYFTu7EajVIoguysqZ9wG44nMEtx3MUAsUDkMTQ12W"

// nameServer starts a name server that has the site's address for every name, and takes other records.
func (p *port) nameServer() string {
	ip, _, err := net.SplitHostPort(p.plain)
	require.NoError(p.t, err)
	p.names, p.challenges = "127.0.0.1:"+freePort(p.t), "127.0.0.1:"+freePort(p.t)
	p.daemon("pebble-challtestsrv", "-http01", "", "-https01", "", "-tlsalpn01", "", "-dns01", p.names, "-management", p.challenges, "-defaultIPv6", "", "-defaultIPv4", ip)
	return p.names
}

// standIn starts our own stand-in for an authority.
func (w *web) standIn(server string, binding bool) *port {
	p := &port{web: w}
	if server == "" {
		server = p.nameServer()
	}
	o := authority.Options{Base: "https://127.0.0.1:" + freePort(w.t), Terms: "https://authority.example/terms",
		Dial: func(ctx context.Context, network, addr string) (net.Conn, error) {
			to := w.plain
			if strings.HasSuffix(addr, ":443") {
				to = w.secure
			}
			return (&net.Dialer{}).DialContext(ctx, network, to)
		},
		TXT: func(ctx context.Context, name string) ([]string, error) {
			c, err := dns.New(server)
			if err != nil {
				return nil, err
			}
			return c.TXT(ctx, server, name)
		},
	}
	n := 0
	o.Fault = func(step string) *authority.Problem {
		if n++; step != "directory" && step != "nonce" && step != "validation" && n%5 == 0 {
			return &authority.Problem{Status: 400, Type: "urn:ietf:params:acme:error:badNonce", Detail: "one in five is refused"}
		}
		return nil
	}
	if binding {
		key, err := base64.RawURLEncoding.DecodeString(bindingKey)
		require.NoError(w.t, err)
		o.Bindings = map[string][]byte{"keeper": key}
	}
	ca, err := authority.New(o)
	require.NoError(w.t, err)
	own, err := ca.Serve(24*time.Hour, "127.0.0.1")
	require.NoError(w.t, err)
	at, err := tls.Listen("tcp", strings.TrimPrefix(o.Base, "https://"), &tls.Config{Certificates: []tls.Certificate{*own}})
	require.NoError(w.t, err)
	handler := &http.Server{Handler: ca, ReadHeaderTimeout: time.Minute}
	go func() { _ = handler.Serve(at) }() // ends with the test
	w.t.Cleanup(func() { _ = handler.Close() })
	p.directory, p.standIn = ca.Directory(), ca
	for _, name := range []string{"trust.pem", "root.pem"} {
		require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, name), ca.Root(), 0o600))
	}
	return p
}

// revoked reports whether the authority revoked a certificate.
func (p *port) revoked(file string) bool {
	if p.standIn == nil {
		serial := strings.TrimPrefix(strings.TrimSpace(string(p.run(p.dir, "openssl", "x509", "-in", file, "-noout", "-serial"))), "serial=")
		return strings.Contains(string(p.managed("/cert-status-by-serial/"+strings.ToLower(serial))), "Revoked")
	}
	b, err := os.ReadFile(file)
	require.NoError(p.t, err)
	block, _ := pem.Decode(b)
	c, err := x509.ParseCertificate(block.Bytes)
	require.NoError(p.t, err)
	return p.standIn.Revoked(c)
}

// authority starts the test authority. It looks names up at dns, host:port, or at a name server of its own that has
// the site's address for every name.
func (w *web) authority(dns string, binding bool) *port {
	p := &port{web: w}
	if dns == "" {
		dns = p.nameServer()
	}
	own := &bench{t: w.t, dir: filepath.Join(w.dir, "authority")}
	require.NoError(w.t, os.MkdirAll(own.dir, 0o755))
	cert, key := own.certificate()
	var root []byte
	for try := 1; len(root) == 0; try++ { // a port that was free may be taken by another test before the authority is up
		require.LessOrEqual(w.t, try, 3, "the authority does not come up")
		root = p.launch(own.dir, cert, key, dns, binding)
	}
	server, err := os.ReadFile(cert)
	require.NoError(w.t, err)
	require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, "trust.pem"), append(server, root...), 0o600))
	require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, "root.pem"), root, 0o600))
	return p
}

// launch starts the test authority on ports that are free now, and returns its root; nil: it does not come up.
func (p *port) launch(dir, cert, key, dns string, binding bool) (root []byte) {
	listen, management := "127.0.0.1:"+freePort(p.t), "127.0.0.1:"+freePort(p.t)
	config := map[string]any{"listenAddress": listen, "managementListenAddress": management, "certificate": cert, "privateKey": key, "httpPort": 80, "tlsPort": 443, "ocspResponderURL": "", "certificateValidityPeriod": 90 * 24 * 3600, "externalAccountBindingRequired": binding}
	if binding {
		config["externalAccountMACKeys"] = map[string]string{"keeper": bindingKey}
	}
	b, err := json.Marshal(map[string]any{"pebble": config})
	require.NoError(p.t, err)
	file := filepath.Join(dir, "config.json")
	require.NoError(p.t, os.WriteFile(file, b, 0o644))
	p.daemon("env", "PEBBLE_VA_NOSLEEP=1", "PEBBLE_WFE_NONCEREJECT=20", "PEBBLE_ALTERNATE_ROOTS=2", "PEBBLE_AUTHZREUSE="+cmp.Or(p.reuse, "50"), "pebble", "-config", file, "-dnsserver", dns, "-strict")
	p.directory, p.management = "https://"+listen+"/dir", "https://"+management
	for range 150 {
		if root = p.managed("/roots/0"); len(root) > 0 {
			return root
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil
}

// managed asks the authority's management.
func (p *port) managed(path string) []byte {
	client := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	res, err := client.Get(p.management + path)
	if err != nil {
		return nil
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != http.StatusOK {
		return nil
	}
	return b
}

func (p *port) net() []string {
	return []string{"--ca", "trust.pem", "--resolve", "*:80:" + p.plain, "--resolve", "*:443:" + p.secure}
}

// obtains runs cert obtain with what every run needs.
func (p *port) obtains(code int, args ...string) string {
	p.t.Helper()
	out := p.tool(code, append(append([]string{"cert", "obtain", "--directory", p.directory, "--accept-terms", "--quiet", "--format", "json"}, args...), p.net()...)...)
	assert.NotContains(p.t, out, "PRIVATE KEY")
	return out
}

// judged has openssl and our own judge look at what is served; names are those that it must be good for.
func (p *port) serves(names ...string) {
	p.t.Helper()
	for _, name := range names {
		c := exec.Command("openssl", "s_client", "-connect", p.secure, "-servername", name, "-verify_hostname", name, "-CAfile", filepath.Join(p.dir, "root.pem"), "-verify_return_error")
		out, err := c.CombinedOutput()
		assert.NoError(p.t, err, "%s", tail(out))
		assert.Contains(p.t, string(out), "Verify return code: 0 (ok)")
	}
	out := p.tool(0, append([]string{"ready", "--quiet"}, p.net()...)...)
	assert.Contains(p.t, strings.Join(strings.Fields(out), " "), "is complete, trusted and good for")
}

// started waits until the web server answers for plain HTTP.
func (p *port) started(path string) {
	p.t.Helper()
	p.await("the web server", func() bool { return p.visits("http://"+host+path).status != 0 })
}

const systemRules = "# BEGIN system\nRewriteEngine On\nRewriteBase /\nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /index.php [L]\n# END system\n"

// Apache with a system's rewrite rules and our redirect: a file in the web root proves the names, also behind a
// redirect to HTTPS with a certificate that nobody trusts. Renewal and revocation.
func TestObtainApache(t *testing.T) {
	for _, a := range authorities {
		t.Run(a.name, func(t *testing.T) { t.Parallel(); obtainApache(t, a.start) })
	}
}

func obtainApache(t *testing.T, start func(*web, string, bool) *port) {
	w := newWeb(t)
	root := w.museumFiles()
	require.NoError(t, os.RemoveAll(filepath.Join(root, ".well-known")))
	require.NoError(t, os.WriteFile(filepath.Join(root, ".htaccess"), []byte("RewriteEngine On\nRewriteCond %{HTTPS} off\nRewriteRule ^ https://ternrock.example%{REQUEST_URI} [R=301,L]\n"+systemRules), 0o644))
	w.apache(root) // with a self-signed certificate
	p := start(w, "", false)
	p.started("/media/lens.svg")
	reload := "kill -USR1 $(cat apache.pid)"
	out := p.obtains(0, "--root", root, "--server-file", "cert.pem", "--server-file", "key.pem", "--after", reload)
	assert.Contains(t, out, `"way": "file"`)
	assert.NoDirExists(t, filepath.Join(root, ".well-known"))
	p.serves(host, "www."+host)
	first, err := os.ReadFile(filepath.Join(w.dir, "cert.pem"))
	require.NoError(t, err)

	require.NoError(t, os.WriteFile(filepath.Join(root, ".htaccess"), []byte(systemRules), 0o644))
	w.tool(0, append([]string{"redirect", "install", "apache", filepath.Join(root, ".htaccess"), "--quiet"}, p.net()...)...)
	w.tool(0, append([]string{"cert", "renew", "--again", "--quiet"}, p.net()...)...)
	p.serves(host, "www."+host)
	second, err := os.ReadFile(filepath.Join(w.dir, "cert.pem"))
	require.NoError(t, err)
	assert.NotEqual(t, string(first), string(second))
	assert.Empty(t, w.tool(0, append([]string{"cert", "renew", "--quiet"}, p.net()...)...), "nothing is due")

	versions, err := filepath.Glob(filepath.Join(w.dir, "certificates", host, "2*"))
	require.NoError(t, err)
	require.Len(t, versions, 2)
	w.tool(0, append([]string{"cert", "revoke", "--version", filepath.Base(versions[0]), "--quiet"}, p.net()...)...)
	assert.True(t, p.revoked(filepath.Join(versions[0], "certificate.pem")))
	assert.False(t, p.revoked(filepath.Join(versions[1], "certificate.pem")))
}

// nginx that reads the link to the newest certificate, an authority that wants accounts bound, RSA.
func TestObtainNginx(t *testing.T) {
	for _, a := range authorities {
		t.Run(a.name, func(t *testing.T) { t.Parallel(); obtainNginx(t, a.start) })
	}
}

func obtainNginx(t *testing.T, start func(*web, string, bool) *port) {
	w := newWeb(t)
	root := w.layOut("", "")
	require.NoError(t, os.RemoveAll(filepath.Join(root, ".well-known")))
	w.nginx(root, w.tool(0, "redirect", "show", "nginx", "--hsts"))
	p := start(w, "", true)
	p.started("/")
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "eab.key"), []byte(bindingKey+"\n"), 0o600))
	p.tool(2, append([]string{"cert", "obtain", "--directory", p.directory, "--accept-terms", "--root", root, "--quiet"}, p.net()...)...)
	p.obtains(0, "--root", root, "--key", "rsa", "--eab-id", "keeper", "--eab-key-file", "eab.key")
	conf, err := os.ReadFile(filepath.Join(w.dir, "nginx.conf"))
	require.NoError(t, err)
	current := filepath.Join(w.dir, "certificates", host, "current")
	text := strings.NewReplacer(filepath.Join(w.dir, "cert.pem")+";", filepath.Join(current, "certificate-with-chain.pem")+";", filepath.Join(w.dir, "key.pem")+";", filepath.Join(current, "key.pem")+";").Replace(string(conf))
	require.NotEqual(t, string(conf), text)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "nginx.conf"), []byte(text), 0o644))
	reload := "nginx -c " + filepath.Join(w.dir, "nginx.conf") + " -p " + w.dir + " -s reload"
	out := p.obtains(0, "--after", reload)
	assert.Contains(t, out, `"state": "kept"`)
	p.serves2(host, "www."+host)
	out = p.obtains(0, "--again")
	assert.Contains(t, out, `"state": "issued"`)
	p.serves2(host, "www."+host)
	// A server that does not take the reload: the link leads to the certificate of before again.
	was, err := os.Readlink(current)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "nginx.conf"), []byte(text+"nonsense;\n"), 0o644))
	out = p.obtains(1, "--again")
	assert.Contains(t, out, `"state": "back"`)
	now, err := os.Readlink(current)
	require.NoError(t, err)
	assert.Equal(t, was, now)
	p.serves2(host, "www."+host)
}

// serves2 waits for a server that replaces its workers.
func (p *port) serves2(names ...string) {
	p.t.Helper()
	p.await("the new certificate", func() bool {
		c := exec.Command("openssl", "s_client", "-connect", p.secure, "-servername", host, "-verify_hostname", host, "-CAfile", filepath.Join(p.dir, "root.pem"), "-verify_return_error")
		return c.Run() == nil
	})
	p.serves(names...)
}

// serveCurrent starts a web server with the newest certificate, and has it judged for names.
func (p *port) serveCurrent(names ...string) {
	p.t.Helper()
	p.openToServer()
	current := filepath.Join(p.dir, "certificates", host, "current")
	conf := fmt.Sprintf("daemon off;\npid %[1]s/nginx.pid;\nerror_log %[1]s/nginx-error.log;\nevents {}\nhttp {\n%[2]saccess_log off;\nserver {\nlisten %[3]s;\nlisten %[4]s ssl;\nssl_certificate %[5]s/certificate-with-chain.pem;\nssl_certificate_key %[5]s/key.pem;\nlocation / { return 200 \"<title>Tern Rock Light</title>\"; }\n}\n}\n",
		p.dir, p.tempPaths(), p.plain, p.secure, current)
	require.NoError(p.t, os.WriteFile(filepath.Join(p.dir, "current.conf"), []byte(conf), 0o644))
	p.daemon("nginx", "-c", filepath.Join(p.dir, "current.conf"), "-p", p.dir)
	p.serves2(names...)
}

// No web server at all: a little listener proves the names; and a program of the user's own, with a wildcard.
func TestObtainListener(t *testing.T) {
	for _, a := range authorities {
		t.Run(a.name, func(t *testing.T) { t.Parallel(); obtainListener(t, a.start) })
	}
}

func obtainListener(t *testing.T, start func(*web, string, bool) *port) {
	w := newWeb(t)
	p := start(w, "", false)
	out := p.obtains(0, "--listen", w.plain)
	var said struct{ Certificates []struct{ Names []string } }
	assert.Contains(t, out, `"way": "listener"`)

	hook := filepath.Join(w.dir, "hook")
	require.NoError(t, os.WriteFile(hook, []byte(`#!/bin/sh
echo "$@" >> calls
case $1 in
add) curl -sf -d "{\"host\":\"$2.\",\"value\":\"$3\"}" http://`+p.challenges+`/set-txt ;;
remove) curl -sf -d "{\"host\":\"$2.\"}" http://`+p.challenges+`/clear-txt ;;
esac
`), 0o755))
	out = p.obtains(0, "--again", "--name", "*."+host, "--dns-program", hook, "--resolver", p.names)
	assert.Contains(t, out, `"way": "dns-program"`)
	p.serveCurrent(host, "www."+host, "boat."+host)
	require.NoError(t, json.Unmarshal([]byte(out), &said))
	assert.Equal(t, []string{host, "*." + host}, said.Certificates[0].Names, "the wildcard covers www")
	calls, err := os.ReadFile(filepath.Join(w.dir, "calls"))
	require.NoError(t, err)
	assert.Equal(t, strings.Count(string(calls), "add "), strings.Count(string(calls), "remove "))
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\necho the zone is locked >&2\nexit 4\n"), 0o755))
	out = p.obtains(3, "--again")
	assert.Contains(t, out, "the zone is locked")
}

func changedAt(t *testing.T, file string) time.Time {
	info, err := os.Stat(file)
	require.NoError(t, err)
	return info.ModTime()
}

// Of the chains that an authority offers the one is taken that leads to the root which is named; where none does, the usual
// one, and the names of the others are told.
func TestAlternateChains(t *testing.T) {
	t.Parallel()
	w := newWeb(t)
	p := w.authority("", false)
	trusted, err := os.ReadFile(filepath.Join(w.dir, "trust.pem"))
	require.NoError(t, err)
	root := func(n int) (name string) {
		text := p.managed(fmt.Sprintf("/roots/%d", n))
		block, _ := pem.Decode(text)
		require.NotNil(t, block)
		c, err := x509.ParseCertificate(block.Bytes)
		require.NoError(t, err)
		trusted = append(trusted, text...)
		return c.Subject.CommonName
	}
	usual, second, third := root(0), root(1), root(2)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "trust.pem"), trusted, 0o600))
	issuer := func() string {
		chains, err := filepath.Glob(filepath.Join(w.dir, "kept", host, "*", "intermediates.pem"))
		require.NoError(t, err)
		require.NotEmpty(t, chains)
		newest := slices.MaxFunc(chains, func(a, b string) int { return changedAt(t, a).Compare(changedAt(t, b)) })
		block, _ := pem.Decode([]byte(must(t, newest)))
		c, err := x509.ParseCertificate(block.Bytes)
		require.NoError(t, err)
		return c.Issuer.CommonName
	}
	p.obtains(0, "--listen", w.plain, "--folder", "kept")
	assert.Equal(t, usual, issuer())
	for _, name := range []string{second, strings.ToUpper(third)} {
		p.obtains(0, "--again", "--chain", name)
		assert.Equal(t, strings.ToLower(name), strings.ToLower(issuer()))
	}
	out := p.obtains(1, "--again", "--chain", "Tern Rock Root")
	assert.Equal(t, usual, issuer())
	for _, name := range []string{usual, second, third} {
		assert.Contains(t, out, name)
	}
}

// A real name server takes dynamic updates: a wildcard beside the bare name, whose two proofs stand side by side; by
// hand, where the record comes late; and a name server that refuses.
func TestObtainDNS(t *testing.T) {
	for _, a := range authorities {
		t.Run(a.name, func(t *testing.T) { t.Parallel(); obtainDNS(t, a.start) })
	}
}

func obtainDNS(t *testing.T, start func(*web, string, bool) *port) {
	w := newWeb(t)
	ip, _, err := net.SplitHostPort(w.plain)
	require.NoError(t, err)
	key := string(w.run(w.dir, "tsig-keygen", "keeper"))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "update.key"), []byte(key), 0o600))
	zone := fmt.Sprintf("$TTL 300\n@ IN SOA ns1 keeper 1 3600 600 86400 1\n@ IN NS ns1\nns1 IN A %[1]s\n@ IN A %[1]s\nwww IN A %[1]s\n", ip)
	w.reuse = "0" // what is proven once is asked for again
	server := w.updatable(ip, zone, key)
	p := start(w, server, false)
	update := []string{"--dns-update", server, "--dns-update-key", "update.key", "--resolver", server}
	out := p.obtains(0, append(update, "--name", "*."+host)...)
	assert.Contains(t, out, `"way": "dns-update"`)
	left := string(w.run(w.dir, "dig", "+short", "-p", strings.Split(server, ":")[1], "@127.0.0.1", "_acme-challenge."+host, "TXT"))
	assert.Empty(t, strings.TrimSpace(left), "no record is left")
	p.serveCurrent(host, "www."+host, "boat."+host)

	other := strings.Replace(key, `"keeper"`, `"stranger"`, 1)
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "other.key"), []byte(other), 0o600))
	out = p.obtains(3, "--again", "--dns-update", server, "--dns-update-key", "other.key")
	assert.Contains(t, out, "NOTAUTH")
	assert.NotContains(t, out, strings.Split(strings.Split(key, `secret "`)[1], `"`)[0], "the key's secret is never printed")

	// A key that every user of the machine can read is none.
	require.NoError(t, os.Chmod(filepath.Join(w.dir, "update.key"), 0o644))
	out = p.obtains(2, append([]string{"--again"}, update...)...)
	assert.Contains(t, out, "is to be kept secret")
	require.NoError(t, os.Chmod(filepath.Join(w.dir, "update.key"), 0o600))

	// By hand: first nobody makes the records; then somebody does, while the command waits.
	out = p.obtains(1, "--again", "--proof", "dns-by-hand", "--wait", "2s")
	var said struct {
		Certificates []struct {
			State   string
			Records []struct{ Name, Value string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &said))
	require.Equal(t, "waiting", said.Certificates[0].State)
	records := said.Certificates[0].Records
	require.NotEmpty(t, records)
	done := make(chan error, 1)
	go func() {
		time.Sleep(4 * time.Second)
		c := exec.Command("nsupdate", "-k", filepath.Join(w.dir, "update.key"))
		text := "server 127.0.0.1 " + strings.Split(server, ":")[1] + "\nzone " + host + "\n"
		for _, r := range records {
			text += fmt.Sprintf("update add %s 60 TXT %q\n", r.Name, r.Value)
		}
		c.Stdin = strings.NewReader(text + "send\n")
		said, err := c.CombinedOutput()
		if err != nil {
			err = fmt.Errorf("%w: %s", err, said)
		}
		done <- err
	}()
	out = p.obtains(0, "--wait", "1m")
	require.NoError(t, <-done)
	assert.Contains(t, out, `"state": "issued"`)
	require.NoError(t, json.Unmarshal([]byte(out), &said))
	assert.ElementsMatch(t, records, said.Certificates[0].Records, "the same records as before the break")
}

// updatable starts a real name server that takes updates signed with a key. Its zone is asked at ip too.
func (b *bench) updatable(ip, zone, key string) string {
	dir := filepath.Join(b.dir, "named")
	require.NoError(b.t, os.MkdirAll(dir, 0o755))
	require.NoError(b.t, os.WriteFile(filepath.Join(dir, "zone"), []byte(zone), 0o644))
	port := freePort(b.t)
	conf := fmt.Sprintf("%s\noptions { directory %q; pid-file \"named.pid\"; session-keyfile \"session.key\"; listen-on port %s { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; dnssec-validation no; };\ncontrols { };\nzone %q { type primary; file \"zone\"; update-policy { grant keeper subdomain %s. TXT; }; };\n", key, dir, port, host, host)
	require.NoError(b.t, os.WriteFile(filepath.Join(dir, "named.conf"), []byte(conf), 0o600))
	b.daemon("/usr/sbin/named", "-g", "-c", filepath.Join(dir, "named.conf"))
	b.relay(ip, port)
	return "127.0.0.1:" + port
}
