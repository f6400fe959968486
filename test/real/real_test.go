//go:build real

// Package real takes a real content-managed system on a real MariaDB, with PHP
// and Apache, from HTTP to HTTPS and back, with the built program.
package real

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/test/contract"
)

const (
	host   = "ternrock.example"
	prefix = "lamp_"
)

// built is the program, and emptyMaria the data of a MariaDB that nobody has written to: made once for all tests.
var (
	built      string
	emptyMaria = sync.OnceValues(func() (string, error) {
		data := filepath.Join(filepath.Dir(built), "data")
		out, err := exec.Command("mariadb-install-db", "--no-defaults", mariaUser(), "--datadir="+data, "--auth-root-authentication-method=normal", "--skip-test-db").CombinedOutput()
		if err != nil {
			err = fmt.Errorf("mariadb-install-db: %w\n%s", err, tail(out))
		}
		return data, err
	})
)

func mariaUser() string {
	if os.Getuid() == 0 {
		return "--user=root"
	}
	return "--user=" + os.Getenv("USER")
}

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "trimlantern")
	if err != nil {
		panic(err)
	}
	built = filepath.Join(dir, "trimlantern")
	c := exec.Command("go", "build", "-o", built, "./cmd/trimlantern")
	c.Dir = "../.."
	if out, err := c.CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	if err := os.RemoveAll(dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	os.Exit(code)
}

// bench is the private world of one test: server, database, system, program.
type bench struct {
	t       *testing.T
	dir     string
	socket  string
	system  string // the system's folder
	looks   bool   // its scans look with the browser too
	program string
	charset string // that the system's configuration names
	// More flags of the servers, and where PostgreSQL listens.
	mariaFlags    []string
	postgresFlags func(dir string) string
	postgresPort  string
	http          string
	https         string
	pool          *x509.CertPool
	validFor      time.Duration // of the certificates that are made; 0: a day
}

// setUp is a world with the system installed in it.
func setUp(t *testing.T) *bench { return setUpWith(t, "utf8mb4") }

// setUpWith has the system's configuration name a charset.
func setUpWith(t *testing.T, charset string) *bench {
	dir := t.TempDir()
	for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755)) // Apache's own user reads below it
	}
	b := &bench{t: t, dir: dir, socket: filepath.Join(dir, "db.sock"), system: filepath.Join(dir, "www"), program: built, charset: charset}
	b.startMariaDB()
	b.copySystem()
	b.startApache()
	return b
}

// run runs a command and wants it to succeed; it returns standard output.
func (b *bench) run(dir, name string, args ...string) []byte {
	b.t.Helper()
	c := exec.Command(name, args...)
	c.Dir = dir
	var errs bytes.Buffer
	c.Stderr = &errs
	out, err := c.Output()
	require.NoError(b.t, err, "%s %s\n%s\n%s", name, strings.Join(args, " "), tail(out), tail(errs.Bytes()))
	return out
}

func tail(b []byte) string { return string(b[max(0, len(b)-4000):]) }

// daemon runs a server until the test ends.
func (b *bench) daemon(name string, args ...string) {
	log, err := os.Create(filepath.Join(b.dir, filepath.Base(name)+".log"))
	require.NoError(b.t, err)
	c := exec.Command(name, args...)
	c.Stdout, c.Stderr = log, log
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(b.t, c.Start())
	b.t.Cleanup(func() {
		_ = c.Process.Signal(syscall.SIGTERM) // gone already: nothing to do
		done := make(chan struct{})
		go func() { _ = c.Wait(); close(done) }() // a signal's exit code is no fault
		select {
		case <-done:
		case <-time.After(20 * time.Second):
			_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL) // the same
		}
		log.Close()
		if b.t.Failed() {
			text, err := os.ReadFile(log.Name())
			b.t.Logf("%s (%v):\n%s", name, err, tail(text))
		}
	})
}

func (b *bench) await(what string, ready func() bool) {
	b.t.Helper()
	for range 300 {
		if ready() {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	b.t.Fatalf("%s is not there after 30 seconds", what)
}

// nextPort is where the search for the next free port begins. It is below the range from which the
// kernel takes ports for outgoing connections, so that between the look and the server's own bind
// nothing but another test can take it; and each port is given once.
var nextPort atomic.Int32

func freePort(t *testing.T) string {
	nextPort.CompareAndSwap(0, int32(20000+os.Getpid()%8000))
	for range 4000 {
		port := strconv.Itoa(int(nextPort.Add(1)))
		if l, err := net.Listen("tcp", ":"+port); err == nil {
			l.Close()
			return port
		}
	}
	t.Fatal("4,000 ports in a row are in use")
	return ""
}

func (b *bench) startMariaDB() {
	data := filepath.Join(b.dir, "data")
	empty, err := emptyMaria()
	require.NoError(b.t, err)
	b.run(b.dir, "cp", "-r", empty, data)
	b.launchMariaDB()
	b.sql("CREATE DATABASE museum CHARACTER SET utf8mb4; CREATE USER 'keeper'@'localhost' IDENTIFIED BY 'a secret'; GRANT ALL ON museum.* TO 'keeper'@'localhost'")
}

// launchMariaDB starts the server on the data that is there.
func (b *bench) launchMariaDB() {
	data, tmp := filepath.Join(b.dir, "data"), filepath.Join(b.dir, "tmp")
	require.NoError(b.t, os.MkdirAll(tmp, 0o755)) // of its own: a server that starts empties it
	b.daemon("mariadbd", append([]string{"--no-defaults", mariaUser(), "--datadir=" + data, "--socket=" + b.socket, "--port=" + freePort(b.t), "--bind-address=127.0.0.1",
		"--pid-file=" + filepath.Join(b.dir, "db.pid"), "--tmpdir=" + tmp, "--innodb-buffer-pool-size=64M"}, b.mariaFlags...)...)
	b.await("MariaDB", func() bool {
		return exec.Command("mariadb-admin", "--no-defaults", "--socket="+b.socket, "-uroot", "ping").Run() == nil
	})
}

func (b *bench) sql(query string) string {
	b.t.Helper()
	return string(b.run(b.dir, "mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "-N", "-e", query))
}

func (b *bench) copySystem() {
	b.run(b.dir, "cp", "-rL", "/usr/share/wordpress", b.system)
	b.configure()
	out := b.run(".", "php", "fill.php", b.system)
	b.t.Logf("installed and filled: %s", tail(bytes.TrimSpace(out)))
}

// configure writes the system's configuration.
func (b *bench) configure() {
	config := fmt.Sprintf(`<?php
// The museum's own configuration. define('DB_NAME', 'not this one');
define( 'DB_NAME', 'museum' );
define( 'DB_USER', 'keeper' );
define( "DB_PASSWORD", 'a secret' ); # define('DB_PASSWORD', 'nor this');
define( 'DB_HOST', 'localhost:%s' );
define( 'DB_CHARSET', '%s' );
/* $table_prefix = 'wp_'; */
$table_prefix = '%s';
define( 'DISABLE_WP_CRON', true );
define( 'WP_HTTP_BLOCK_EXTERNAL', true );
define( 'AUTOMATIC_UPDATER_DISABLED', true );
if ( ! defined( 'ABSPATH' ) ) { define( 'ABSPATH', __DIR__ . '/' ); }
require_once ABSPATH . 'wp-settings.php';
`, b.socket, cmp.Or(b.charset, "utf8mb4"), prefix)
	require.NoError(b.t, os.WriteFile(filepath.Join(b.system, "wp-config.php"), []byte(config), 0o644))
	require.NoError(b.t, os.RemoveAll(filepath.Join(b.system, ".htaccess")))
}

// stockSystem puts the system into a folder of the web root as its own installer leaves it, with a few pages.
func (b *bench) stockSystem(folder, address string) {
	b.system = filepath.Join(b.dir, "www", folder)
	require.NoError(b.t, os.MkdirAll(filepath.Dir(b.system), 0o755))
	b.run(b.dir, "cp", "-rL", "/usr/share/wordpress", b.system)
	b.configure()
	b.run(".", "php", "stock.php", b.system, address)
}

func (b *bench) startApache() {
	cert, key := b.certificate()
	modules, err := filepath.Glob("/usr/lib/apache2/modules/libphp*.so")
	require.NoError(b.t, err)
	require.NotEmpty(b.t, modules, "Apache's PHP module")
	b.http, b.https = "127.0.0.1:"+freePort(b.t), "127.0.0.1:"+freePort(b.t)
	conf := fmt.Sprintf(`ServerRoot %[1]s
PidFile %[1]s/apache.pid
ErrorLog %[1]s/apache-error.log
ServerName %[2]s
Listen %[3]s
Listen %[4]s
User www-data
Group www-data
LoadModule mpm_prefork_module /usr/lib/apache2/modules/mod_mpm_prefork.so
LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so
LoadModule dir_module /usr/lib/apache2/modules/mod_dir.so
LoadModule mime_module /usr/lib/apache2/modules/mod_mime.so
LoadModule socache_shmcb_module /usr/lib/apache2/modules/mod_socache_shmcb.so
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
LoadModule php_module %[5]s
TypesConfig /etc/mime.types
StartServers 4
DocumentRoot %[6]s
DirectoryIndex index.php
<Directory %[6]s>
	Require all granted
</Directory>
<FilesMatch "\.php$">
	SetHandler application/x-httpd-php
</FilesMatch>
<VirtualHost %[4]s>
	SSLEngine on
	SSLCertificateFile %[7]s
	SSLCertificateKeyFile %[8]s
</VirtualHost>
`, b.dir, host, b.http, b.https, modules[0], b.system, cert, key)
	path := filepath.Join(b.dir, "apache.conf")
	require.NoError(b.t, os.WriteFile(path, []byte(conf), 0o644))
	b.daemon("apache2", "-f", path, "-DFOREGROUND")
	b.await("Apache", func() bool { _, code := b.get("/wp-login.php"); return code == 200 })
}

// certificate makes an authority and a certificate for the site's names.
func (b *bench) certificate(more ...string) (certFile, keyFile string) {
	return b.certificateUntil(time.Now().Add(max(b.validFor, 24*time.Hour)), more...)
}

// certificateUntil makes one that ends at a time.
func (b *bench) certificateUntil(end time.Time, more ...string) (certFile, keyFile string) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(b.t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(7), Subject: pkix.Name{CommonName: host}, DNSNames: append([]string{host, "*." + host}, more...), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: end.AddDate(0, 0, -90), NotAfter: end, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(b.t, err)
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(b.t, err)
	certFile, keyFile = filepath.Join(b.dir, "cert.pem"), filepath.Join(b.dir, "key.pem")
	certPEM := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	require.NoError(b.t, os.WriteFile(certFile, certPEM, 0o644))
	require.NoError(b.t, os.WriteFile(keyFile, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: keyDER}), 0o600))
	b.pool = x509.NewCertPool()
	b.pool.AppendCertsFromPEM(certPEM)
	return certFile, keyFile
}

// get asks for a page of the site over HTTPS.
func (b *bench) get(path string) (string, int) { return b.getURL("https://" + host + path) }

// getURL asks for a page of any of the site's names.
func (b *bench) getURL(url string) (string, int) {
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{RootCAs: b.pool},
		DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			to := b.https
			if strings.HasSuffix(addr, ":80") {
				to = b.http
			}
			return (&net.Dialer{}).DialContext(ctx, network, to)
		}}}
	res, err := client.Get(url)
	if err != nil {
		return err.Error(), 0
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		return err.Error(), 0
	}
	return string(body), res.StatusCode
}

// environment gives each world a home of its own: what one site's scans found is no other's.
func (b *bench) environment() []string {
	env := append(os.Environ(), "TRIMLANTERN_HOME="+filepath.Join(b.dir, "home"))
	if !b.looks {
		env = append(env, "TRIMLANTERN_CHROMIUM=none")
	}
	return env
}

// tool runs the built program and wants an exit code.
func (b *bench) tool(code int, args ...string) (stdout string) {
	b.t.Helper()
	c := exec.Command(b.program, args...)
	c.Env = b.environment()
	c.Dir = b.dir
	var out, errs bytes.Buffer
	c.Stdout, c.Stderr = &out, &errs
	err := c.Run()
	require.Equal(b.t, code, c.ProcessState.ExitCode(), "trimlantern %s (%v)\n%s\n%s", strings.Join(args, " "), err, tail(out.Bytes()), tail(errs.Bytes()))
	assert.NotContains(b.t, out.String()+errs.String(), "a secret", "the password is never printed")
	contract.Check(b.t, b.program, args, code, out.String(), errs.String())
	return out.String()
}

func (b *bench) dump() string {
	return string(b.run(b.dir, "mariadb-dump", "--no-defaults", "--socket="+b.socket, "-uroot", "--skip-dump-date", "--hex-blob", "--order-by-primary", "museum"))
}

// values lets PHP read every cell; see values.php.
func (b *bench) values(mode string) string {
	return string(b.run(".", "php", "values.php", b.socket, "museum", prefix, mode))
}

// ownInsecure finds insecure references of the site in a page, in the spellings
// that this system writes, but for permanent identifiers of feeds.
func ownInsecure(page string) []string {
	page = regexp.MustCompile(`(?s)<guid .*?</guid>`).ReplaceAllString(page, "")
	return regexp.MustCompile(`(?i)http(:|%3A|&#0?58;)(\\?/|%2F|&#0?47;){2}(www\.)?ternrock\.example([^.\w-]|\.\W)`).FindAllString(page, -1)
}

func TestRealSystem(t *testing.T) {
	t.Parallel()
	b := setUp(t)
	pages := []string{"/", "/?p=7", "/?feed=rss2", "/wp-login.php", "/?page_id=5", "/?s=lamp"}
	insecure := 0
	for _, p := range pages { // also lets the system write what it writes at first
		body, code := b.get(p)
		require.Equal(t, 200, code, "%s: %s", p, tail([]byte(body)))
		insecure += len(ownInsecure(body))
	}
	require.Greater(t, insecure, 20, "the pages begin insecure")

	b.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--ca", "cert.pem", "--resolve", "*:80:"+b.http, "--resolve", "*:443:"+b.https, b.system)
	site, err := os.ReadFile(filepath.Join(b.dir, "trimlantern.yaml"))
	require.NoError(t, err)
	assert.NotContains(t, string(site), "a secret")
	assert.Contains(t, string(site), "prefix: "+prefix)
	b.tool(1, "scan", "--pages", "60", "--quiet")

	before, expected := b.dump(), b.values("expected")
	var preview struct {
		Sheet      string         `json:"sheet"`
		Cells      int            `json:"cells"`
		References int            `json:"references"`
		Left       map[string]int `json:"left"`
	}
	require.NoError(t, json.Unmarshal([]byte(b.tool(0, "preview", "--offline", "--format", "json")), &preview))
	require.Equal(t, before, b.dump(), "preview changes nothing")
	assert.Greater(t, preview.Cells, 1000)
	assert.Equal(t, 1, preview.Left["unsound"], "the value that was broken before is named")
	assert.Greater(t, preview.Left["identifier"], 300)
	assert.Greater(t, preview.Left["look-alike"], 50)
	assert.Greater(t, preview.Left["sub-domain"], 50)
	assert.Equal(t, 3, preview.Left["cached"], "the transients")

	var applied struct {
		Planned, Changed, References int
		Skipped                      []any
		Second                       struct{ Cells int } `json:"second_preview"`
	}
	require.NoError(t, json.Unmarshal([]byte(b.tool(0, "apply", "--offline", "--format", "json")), &applied))
	assert.Equal(t, preview.Cells, applied.Planned)
	assert.Equal(t, preview.Cells, applied.Changed)
	assert.Equal(t, preview.References, applied.References)
	assert.Empty(t, applied.Skipped)
	assert.Zero(t, applied.Second.Cells, "a second preview finds nothing")

	after := b.values("plain")
	require.Equal(t, strings.Count(expected, "\n"), strings.Count(after, "\n"))
	if expected != after { // say which cells, not two files
		want, got := strings.Split(expected, "\n"), strings.Split(after, "\n")
		for i := range want {
			require.Equal(t, want[i], got[i])
		}
	}
	for _, p := range pages {
		body, code := b.get(p)
		require.Equal(t, 200, code, "%s", p)
		assert.Empty(t, ownInsecure(body), "own insecure references on %s", p)
	}
	var scan struct {
		Pages    []any
		Culprits []struct{ URL string }
		Unread   []struct{ URL, Why string }
	}
	out := b.tool(1, "scan", "--pages", "150", "--quiet", "--format", "json") // not all of it is read
	require.NoError(t, json.Unmarshal([]byte(out), &scan))
	assert.Greater(t, len(scan.Pages), 100)
	assert.Empty(t, scan.Culprits)
	b.tool(0, "undo")
	after = b.dump()
	if before != after {
		want, got := strings.Split(before, "\n"), strings.Split(after, "\n")
		for i := range want {
			require.Equal(t, want[i], got[i], "after undo, line %d of the dump", i)
		}
	}
	t.Logf("%d cells, %d references; %d cells read by PHP before and after", preview.Cells, preview.References, strings.Count(expected, "\n"))

	t.Run("edited meanwhile", func(t *testing.T) { b.editedMeanwhile(t, before) })
	t.Run("wrong password", func(t *testing.T) {
		config := filepath.Join(b.system, "wp-config.php")
		text, err := os.ReadFile(config)
		require.NoError(t, err)
		wrong := strings.Replace(string(text), "'a secret'", "'a wrong secret'", 1)
		require.NoError(t, os.WriteFile(config, []byte(wrong), 0o644))
		defer func() { require.NoError(t, os.WriteFile(config, text, 0o644)) }()
		c := exec.Command(b.program, "preview")
		c.Env = b.environment()
		c.Dir = b.dir
		out, _ := c.CombinedOutput() // its exit code is asserted
		assert.Equal(t, 3, c.ProcessState.ExitCode())
		assert.Contains(t, string(out), "refused the user name or password")
		assert.Contains(t, string(out), "What to do: ")
		assert.NotContains(t, string(out), "wrong secret")
	})
	t.Run("no such database", func(t *testing.T) {
		c := exec.Command(b.program, "init", "--config", "other.yaml", "--site", "https://"+host, "--database", "mysql://root@/nothing?socket="+b.socket)
		c.Env = b.environment()
		c.Dir = b.dir
		out, _ := c.CombinedOutput() // the same
		assert.Equal(t, 3, c.ProcessState.ExitCode())
		assert.Contains(t, string(out), "the database is not there")
		assert.NoFileExists(t, filepath.Join(b.dir, "other.yaml"))
	})
	t.Run("nobody listens", func(t *testing.T) {
		c := exec.Command(b.program, "init", "--config", "other.yaml", "--site", "https://"+host, "--database", "mysql://root@127.0.0.1:"+freePort(t)+"/museum")
		c.Env = b.environment()
		c.Dir = b.dir
		out, _ := c.CombinedOutput() // the same
		assert.Equal(t, 3, c.ProcessState.ExitCode())
		assert.Contains(t, string(out), "the database is not there")
	})
	t.Run("locked", func(t *testing.T) {
		hold := exec.Command("mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "museum", "-e", "SELECT GET_LOCK('trimlantern:museum', 0); SELECT SLEEP(60)")
		require.NoError(t, hold.Start())
		defer func() { _ = hold.Process.Kill(); _ = hold.Wait() }() // ended by us
		b.await("the lock", func() bool {
			return strings.TrimSpace(b.sql("SELECT IS_USED_LOCK('trimlantern:museum') IS NOT NULL")) == "1"
		})
		b.tool(0, "preview", "--offline")
		c := exec.Command(b.program, "apply", "--offline")
		c.Env = b.environment()
		c.Dir = b.dir
		out, _ := c.CombinedOutput() // the same
		assert.Equal(t, 3, c.ProcessState.ExitCode())
		assert.Contains(t, string(out), "another run holds the lock")
	})
}
