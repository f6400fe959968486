//go:build real

package real

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/coverage"
	"trimlantern/core/mixed"
	"trimlantern/work/findings"
)

// A network of three sites in one database, real from end to end: each site's own
// tables and addresses, a choice of sites, cached copies removed and put back.
func TestNetworkOfSites(t *testing.T) {
	t.Parallel()
	b := setUp(t)
	b.makeNetwork()
	insecure := regexp.MustCompile(`(?i)http(:|%3A)(\\?/|%2F){2}((www|shop|stories)\.)?ternrock\.example([^.\w-]|\.\W)`)
	pages := map[string]string{"https://ternrock.example/": "", "https://shop.ternrock.example/": "", "https://stories.ternrock.example/": ""}
	for p := range pages {
		body, code := b.getURL(p)
		require.Equal(t, 200, code, "%s: %s", p, tail([]byte(body)))
		require.NotEmpty(t, insecure.FindString(body), "%s begins insecure", p)
	}

	said := b.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, b.system)
	assert.Contains(t, said, "sister site https://shop.ternrock.example: site 2 in the same database")
	assert.Contains(t, said, "stories.ternrock.example")
	before := b.dump()
	type preview struct {
		Cells, Drops int
		Left         map[string]int
		Addresses    []struct {
			Site   int
			Name   string
			Change bool
		}
		Tables []struct {
			Table string
			Cells int
		}
	}
	look := func(args ...string) (p preview) {
		require.NoError(t, json.Unmarshal([]byte(b.tool(0, append([]string{"preview", "--offline", "--format", "json"}, args...)...)), &p))
		return p
	}
	one := look("--sites", "2")
	for _, table := range one.Tables {
		assert.True(t, strings.HasPrefix(table.Table, prefix+"2_"), table.Table)
	}
	require.Len(t, one.Addresses, 2)
	assert.Equal(t, 2, one.Addresses[0].Site)
	public := look("--only", "public")
	assert.Equal(t, 3, public.Left["not-chosen"], "the core addresses of three sites")
	all := look()
	require.Len(t, all.Addresses, 6)
	assert.Equal(t, public.Cells+3, all.Cells)
	assert.GreaterOrEqual(t, all.Drops, 5, "transients of all three sites and of the network")
	assert.Greater(t, all.Left["identifier"], 60, "permanent identifiers of all sites")

	// Killed at random moments, it ends as it must, cached copies removed.
	var kills int
	for try := range 41 {
		code, out := b.killedAfter(killMoment(try), "apply", "--offline", "--drop-caches", "--rate", "5000")
		if code == -1 {
			kills++
			continue
		}
		require.Contains(t, []int{0, 2}, code, out)
		break
	}
	after := look()
	assert.Zero(t, after.Cells)
	assert.Zero(t, after.Drops, "removed: %s", b.sql("SELECT option_name FROM museum."+prefix+"2_options WHERE option_name LIKE '\\_transient%'"))
	removed := b.dump()
	assert.NotContains(t, removed, "network_news','see http")
	for p := range pages {
		body, code := b.getURL(p)
		require.Equal(t, 200, code, "%s: %s", p, tail([]byte(body)))
		assert.Empty(t, insecure.FindString(body), p)
	}
	for try := range 41 {
		code, out := b.killedAfter(killMoment(try), "undo", "--rate", "5000")
		if code == -1 {
			kills++
			continue
		}
		// What the system wrote anew while its pages were asked for is left.
		require.Contains(t, []int{0, 1, 2}, code, out)
		break
	}
	lost := 0
	have := map[string]bool{}
	for l := range strings.Lines(strings.ReplaceAll(b.dump(), "),(", ")\n(")) {
		have[strings.TrimRight(l, ",;\n")] = true
	}
	for l := range strings.Lines(strings.ReplaceAll(before, "),(", ")\n(")) {
		if !have[strings.TrimRight(l, ",;\n")] && !strings.Contains(l, "_transient_") && !strings.Contains(l, "'cron'") && !strings.Contains(l, "AUTO_INCREMENT=") {
			t.Log(l[:min(len(l), 300)])
			lost++
		}
	}
	assert.Zero(t, lost, "undo puts back all but what the system makes anew by itself")
	t.Logf("%d cells in three sites, %d cached rows removed, killed %d times", all.Cells, all.Drops, kills)
}

// An address that the configuration file holds is named with file and line.
func TestLockedAddress(t *testing.T) {
	t.Parallel()
	b := &bench{t: t, dir: t.TempDir()}
	b.socket, b.system, b.program = filepath.Join(b.dir, "db.sock"), filepath.Join(b.dir, "www"), filepath.Join(b.dir, "trimlantern")
	b.program = built
	b.startMariaDB()
	b.copySystem()
	config := filepath.Join(b.system, "wp-config.php")
	text, err := os.ReadFile(config)
	require.NoError(t, err)
	locked := strings.Replace(string(text), "$table_prefix", "define('WP_HOME', 'http://ternrock.example');\n$table_prefix", 2)
	locked = strings.Replace(locked, "/* define('WP_HOME', 'http://ternrock.example');\n", "/* ", 1)
	require.NoError(t, os.WriteFile(config, []byte(locked), 0o644))
	line := strings.Count(locked[:strings.Index(locked, "define('WP_HOME'")], "\n") + 1
	place := "wp-config.php:" + itoa(line) + " (WP_HOME)"
	assert.Contains(t, b.tool(0, "init", "--here", "--site", "https://"+host, b.system), "public address: WP_HOME in www/wp-config.php, line "+itoa(line))
	var p struct {
		Addresses []struct{ Name, Locked string }
	}
	require.NoError(t, json.Unmarshal([]byte(b.tool(0, "preview", "--offline", "--format", "json")), &p))
	require.Len(t, p.Addresses, 2)
	assert.Equal(t, place, p.Addresses[0].Locked)
	assert.Empty(t, p.Addresses[1].Locked)
	assert.Contains(t, strings.Join(strings.Fields(b.tool(0, "preview", "--offline")), " "), "is held by "+place+": change it there, the database does not count")
}

// makeNetwork makes the system one of three sites.
func (b *bench) makeNetwork() {
	b.run(".", "php", "network.php", b.system, "network")
	config := filepath.Join(b.system, "wp-config.php")
	text, err := os.ReadFile(config)
	require.NoError(b.t, err)
	network := "define( 'MULTISITE', true );\ndefine( 'SUBDOMAIN_INSTALL', true );\ndefine( 'DOMAIN_CURRENT_SITE', 'ternrock.example' );\n" +
		"define( 'PATH_CURRENT_SITE', '/' );\ndefine( 'SITE_ID_CURRENT_SITE', 1 );\ndefine( 'BLOG_ID_CURRENT_SITE', 1 );\nrequire_once"
	require.NoError(b.t, os.WriteFile(config, []byte(strings.Replace(string(text), "require_once", network, 1)), 0o644))
	b.run(".", "php", "network.php", b.system, "sites")
}

// Each site of the network is crawled and judged by itself, and a browser agrees, before the switch, after
// that of the addresses alone, and after apply.
func TestLookingAtNetwork(t *testing.T) {
	t.Parallel()
	b := setUp(t)
	b.makeNetwork()
	names := []string{"shop.ternrock.example", "stories.ternrock.example", host}
	for _, of := range []string{"", "2_", "3_"} { // this server rewrites nothing
		b.sql("UPDATE museum." + prefix + of + "options SET option_value = '' WHERE option_name = 'permalink_structure'")
	}
	time.Sleep(3 * time.Second) // PHP looks only now and then whether its code has changed
	for _, n := range names {
		b.getURL("https://" + n + "/") // lets the system write what it writes at first
	}
	b.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--ca", "cert.pem", "--resolve", "*:80:"+b.http, "--resolve", "*:443:"+b.https, b.system)
	b.looks = true
	type networkScan struct {
		seenScan
		Read     int `json:"pages_read"`
		Stored   int `json:"pages_stored"`
		Sites    []findings.SiteState
		Coverage coverage.Summary
	}
	look := func(args ...string) (s networkScan) {
		code, out := b.try(append([]string{"scan", "--format", "json", "--quiet"}, args...)...)
		require.Contains(t, []int{0, 1}, code, out)
		require.NoError(t, json.Unmarshal([]byte(out), &s), out)
		return s
	}
	var list string
	for _, n := range names {
		list += "https://" + n + "/\nhttps://" + n + "/wp-login.php\nhttps://" + n + "/?p=5\nhttps://" + n + "/?p=20\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "list.txt"), []byte(list), 0o644))
	agree := func() (found int) {
		s := look("--list", "list.txt", "--depth", "0", "--browser", asUser)
		assert.Empty(t, s.Browser.Failed)
		assert.Equal(t, s.Browser.Reports, s.Browser.Known, "the browser reports nothing that was not read: %+v", s.Culprits)
		assert.Empty(t, s.Browser.Unconfirmed)
		return s.Browser.Reports
	}
	step := func(name string) (networkScan, int) {
		s := look("--no-browser")
		require.Len(t, s.Sites, 3, "%s: %+v", name, s.Coverage)
		require.Greater(t, s.Stored, 60)
		for i, one := range s.Sites {
			assert.Equal(t, names[i], one.Host, name)
			assert.Greater(t, one.Read, 20, "%s: %s", name, one.Host)
		}
		reports := agree()
		t.Logf("%s: %d pages, %d findings, %d reports of the browser; %+v", name, s.Read, s.sum(), reports, s.Sites)
		return s, reports
	}
	before, reported := step("before")
	for _, one := range before.Sites {
		assert.NotEmpty(t, one.Classes, one.Host)
	}
	assert.Positive(t, reported)
	for i, options := range []string{"", "2_", "3_"} {
		name := []string{host, names[0], names[1]}[i]
		b.sql("UPDATE museum." + prefix + options + "options SET option_value = 'https://" + name + "' WHERE option_name IN ('home', 'siteurl')")
	}
	addresses, _ := step("after the addresses")
	assert.LessOrEqual(t, addresses.sum(), before.sum())
	b.tool(0, "preview", "--quiet")
	b.try("apply", "--quiet")
	time.Sleep(3 * time.Second) // PHP looks only now and then whether its code has changed
	after, reported := step("after apply")
	assert.Less(t, after.sum(), addresses.sum())
	assert.Zero(t, after.Classes[mixed.Blocked]+after.Classes[mixed.Upgraded], "%+v", after.Culprits)
	assert.Zero(t, reported)
	for _, c := range after.Culprits {
		t.Logf("remains: %s %s by %s on %s", c.Class, c.URL, c.By, c.On)
	}
	for _, l := range after.Coverage.Blocking() {
		t.Logf("not looked at: %+v", l)
	}
}

func itoa(n int) string { return strconv.Itoa(n) }

// randomly returns a random time up to so many milliseconds.
// killMoment is when the run of that number is killed; the last one is not, however slow the machine is.
func killMoment(try int) time.Duration {
	if try == 40 {
		return time.Hour
	}
	return randomly(900)
}

func randomly(ms int) time.Duration { return time.Duration(rand.IntN(ms)) * time.Millisecond }
