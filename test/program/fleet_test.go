package program

import (
	"crypto/x509"
	"flag"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var fleetSites = flag.Int("fleet-sites", 30, "how many sites TestFleet looks after")

// TestFleet takes thirty sites through everything at once; three of them are broken in different ways, and stop no other.
func TestFleet(t *testing.T) {
	began := time.Now()
	defer func() { t.Logf("%d sites: %s", *fleetSites, time.Since(began).Round(time.Second)) }()
	model, _, _ := served(t)
	sites := *fleetSites
	width := len(fmt.Sprint(sites - 1))
	firstTen := "site" + strings.Repeat("0", width-1) + "*"
	root := filepath.Join(t.TempDir(), "www")
	b, err := os.ReadFile(filepath.Join(model, "site.db"))
	require.NoError(t, err)
	var names []string
	for i := range sites {
		name := fmt.Sprintf("site%0*d.example", width, i)
		names = append(names, name)
		dir := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(dir, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "site.db"), b, 0o644))
		db := open(t, filepath.Join(dir, "site.db"))
		for _, q := range []string{"UPDATE tr_options SET option_value = 'http://%s' WHERE option_name IN ('home', 'siteurl')", "UPDATE tr_posts SET post_content = replace(post_content, 'ternrock.example', '%s')"} {
			_, err := db.Exec(fmt.Sprintf(q, name))
			require.NoError(t, err)
		}
	}
	var slow atomic.Bool
	front := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if slow.Load() {
			time.Sleep(100 * time.Millisecond)
		}
		if r.URL.Path != "/" {
			http.NotFound(w, r)
			return
		}
		w.Header().Set("Content-Type", "text/html")
		if r.TLS == nil {
			http.Redirect(w, r, "https://"+r.Host+r.RequestURI, http.StatusMovedPermanently)
			return
		}
		io.WriteString(w, "<title>"+r.Host+"</title><p>Welcome to "+r.Host)
		if r.Host == names[7] {
			io.WriteString(w, `<script src="http://cdn.example/x.js"></script>`)
		}
	}, func(c *x509.Certificate) { c.DNSNames = names })
	network := []string{"--ca", filepath.Join(front.dir, "ca.pem"), "--resolve", "*:80:" + front.plain, "--resolve", "*:443:" + front.secure}

	assert.Contains(t, want(t, 2, root, "fleet", "status").errs, "trimlantern fleet init")
	assert.Contains(t, want(t, 2, root, "fleet", "init").errs, "needs a folder")
	assert.Contains(t, want(t, 2, root, "fleet", "init", "nowhere").errs, "there is no nowhere")
	r := want(t, 0, root, append([]string{"fleet", "init", root}, network...)...)
	assert.Contains(t, r.out, fmt.Sprintf("%d sites, %d done.", sites, sites))
	r = want(t, 0, root, "fleet", "init", root)
	assert.Contains(t, r.out, fmt.Sprintf("%d sites, %d done.", sites, sites), "what is there stays")

	// Three are broken now.
	home := homeOf(root)
	require.NoError(t, os.Remove(filepath.Join(root, names[3], "site.db")))
	require.NoError(t, os.WriteFile(filepath.Join(home, names[11], "trimlantern.yaml"), []byte("site: ["), 0o600))
	_, err = open(t, filepath.Join(root, names[20], "site.db")).Exec("DROP TABLE tr_options")
	require.NoError(t, err)

	r = want(t, 3, root, "fleet", "preview")
	assert.Contains(t, r.out, fmt.Sprintf("%d sites, %d done.", sites, sites-3))
	for _, bad := range []int{3, 11, 20} {
		assert.Contains(t, r.out, "[-] "+names[bad])
	}
	assert.Equal(t, 3, strings.Count(r.out, "What to do: "), "each says what to do")
	r = want(t, 1, root, "fleet", "apply", "--only", firstTen)
	assert.Contains(t, r.out, "10 sites, 9 done.")
	assert.Contains(t, r.out, "cells changed")
	assert.Contains(t, dump(t, filepath.Join(root, names[4], "site.db")), "https://"+names[4])
	assert.NotContains(t, dump(t, filepath.Join(root, names[15], "site.db")), "https://"+names[15], "only those that were named")

	r = run(t, root, "fleet", "scan", "--only", firstTen, "--report", "sites.html")
	assert.Contains(t, r.out, "Not clean: browsers block 41 loads")
	page, err := os.ReadFile(filepath.Join(root, "sites.html"))
	require.NoError(t, err)
	assert.Equal(t, 11, strings.Count(string(page), "<tr>"), "a row for each, and a head")
	assert.Contains(t, string(page), names[7])

	head, all := lines(t, run(t, root, "fleet", "status", "--format", "json").out)
	assert.Equal(t, "fleet status", head["show"])
	assert.Len(t, all, sites)
	for _, one := range all {
		assert.Contains(t, []any{0.0, 1.0, 2.0, 3.0}, one["code"])
		assert.NotEmpty(t, one["began"])
	}
	assert.Contains(t, want(t, 2, root, "fleet", "status", "--only", "nothing*").errs, "there is no such site")
	assert.Contains(t, want(t, 2, root, "fleet", "status", "--parallel", "0").errs, "--parallel 0")

	// Interrupted, it goes on: what was asked is not asked again.
	slow.Store(true)
	c := exec.Command(program, "fleet", "scan", "--parallel", "2")
	c.Dir, c.Env = root, environment(root)
	require.NoError(t, c.Start())
	kept := filepath.Join(home, "fleet-scan.json")
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if b, err := os.ReadFile(kept); err == nil && strings.Count(string(b), `"seconds"`) > 5 {
			break
		}
	}
	require.NoError(t, c.Process.Signal(os.Interrupt))
	_ = c.Wait()
	assert.Equal(t, 3, c.ProcessState.ExitCode())
	slow.Store(false)
	r = run(t, root, "fleet", "scan", "--resume")
	assert.Equal(t, 1, r.code, "the worst is a site file that cannot be read")
	assert.Regexp(t, `\d+ sites were asked by the run before`, r.out)
	assert.Contains(t, r.out, fmt.Sprintf("%d sites, ", sites))
	assert.NoFileExists(t, kept, "there is nothing to go on with")
	want(t, 0, root, "fleet", "scan", "--only", names[1], "--quiet")
}
