//go:build real

package real

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/mixed"
	"trimlantern/work/findings"
)

// seenScan is what a scan of the real system came to.
type seenScan struct {
	Classes  map[mixed.Class]int
	Culprits []findings.Culprit
	Unread   []findings.Unread
	Browser  *findings.BrowserState
	Pages    []findings.ScannedPage
}

// dashboard are pages that only keepers see.
var dashboard = []string{"/wp-admin/", "/wp-admin/edit.php", "/wp-admin/upload.php", "/wp-admin/options-general.php"}

// logIn writes keeper.txt, which --credentials takes: who the system takes for its administrator. Changing
// the addresses logs everybody out.
func (b *bench) logIn() {
	header := b.run(".", "php", "keeper.php", b.system)
	require.NoError(b.t, os.WriteFile(filepath.Join(b.dir, "keeper.txt"), header, 0o600))
}

func (s seenScan) sum() (n int) {
	for _, c := range s.Classes {
		n += c
	}
	return n
}

// The real system, scanned at each step of the road: what is found falls to what truly
// remains, a browser agrees on every page, and everything that was planted is traced to
// its place.
var looksAll = flag.Bool("looks-all", false, "look with the browser at everything, and not at a part of it")

// looks is how many pages are looked at in a run as it is done after each change, and in a long one.
func looks(usual, all int) int {
	if *looksAll {
		return all
	}
	return usual
}

func TestLookingAtRealSystem(t *testing.T) {
	t.Parallel()
	b := setUp(t)
	b.looks = true
	b.withoutAvatars()
	var planted []struct{ URL, Page, Place string }
	require.NoError(t, json.Unmarshal(b.run(".", "php", "plant.php", b.system), &planted))
	require.Len(t, planted, 8)
	b.get("/") // lets the system write what it writes at first
	b.tool(0, "init", "--here", "--site", "https://"+host, "--also", "www."+host, "--ca", "cert.pem", "--resolve", "*:80:"+b.http, "--resolve", "*:443:"+b.https, b.system)
	list := "https://" + host + "/\n"
	for _, p := range planted {
		list += "https://" + host + p.Page + "\n"
	}
	for n := 10; n < looks(13, 30); n++ {
		list += fmt.Sprintf("https://%s/?p=%d\n", host, n)
	}
	list += "https://" + host + "/wp-login.php\n"
	for _, p := range dashboard {
		list += "https://" + host + p + "\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(b.dir, "list.txt"), []byte(list), 0o644))
	scan := func(code int, args ...string) (s seenScan) {
		b.logIn()
		out := b.tool(code, append([]string{"scan", "--list", "list.txt", "--credentials", "keeper.txt", "--depth", "0", "--browser", asUser, "--format", "json", "--quiet"}, args...)...)
		require.NoError(t, json.Unmarshal([]byte(out), &s))
		assert.Empty(t, s.Unread)
		assert.Empty(t, s.Browser.Failed)
		for _, p := range dashboard { // the page itself, and not a login page in its place
			i := slices.IndexFunc(s.Pages, func(one findings.ScannedPage) bool { return strings.TrimPrefix(one.URL, "https://"+host) == p })
			if assert.GreaterOrEqual(t, i, 0, "%s was read", p) {
				assert.NotContains(t, s.Pages[i].Title, "Log In")
			}
		}
		assert.Equal(t, s.Browser.Reports, s.Browser.Known, "the browser reports nothing that was not read: %+v", s.Culprits)
		assert.Empty(t, s.Browser.Unconfirmed, "and everything that is certain")
		return s
	}

	before := scan(1, "--trace")
	assert.Greater(t, before.Browser.Reports, looks(40, 150))
	for _, p := range planted {
		found := false
		for _, c := range before.Culprits {
			if c.URL != p.URL || c.Class == mixed.Link {
				continue
			}
			found = true
			if assert.NotEmpty(t, c.Places, p.URL) {
				o := c.Places[0]
				got := strings.TrimPrefix(fmt.Sprintf("%s:%d", o.File, o.Line), "www/")
				if o.File == "" {
					got = o.Column + ", " + o.Label
					if o.Path != "" {
						got += ", at " + o.Path
					}
				}
				assert.True(t, strings.HasPrefix(got, p.Place), "%s: first of %d places is %s, and should be %s", p.URL, len(c.Places), got, p.Place)
			}
		}
		assert.True(t, found, "%s is seen on %s", p.URL, p.Page)
	}
	for _, c := range before.Culprits {
		assert.NotEmpty(t, c.Places, "%s (%s on %s) stands somewhere", c.URL, c.By, c.On)
	}

	// Only the addresses, as one does it by hand.
	b.sql(fmt.Sprintf("UPDATE museum.%soptions SET option_value = 'https://%s' WHERE option_name IN ('home', 'siteurl')", prefix, host))
	addresses := scan(1)
	b.tool(0, "preview", "--except", "file:*", "--quiet")
	b.tool(0, "apply", "--quiet")
	content := scan(1)
	b.tool(0, "preview", "--quiet")
	b.tool(0, "apply", "--quiet")
	time.Sleep(3 * time.Second) // PHP looks only now and then whether its code has changed
	all := scan(1)
	t.Logf("findings before %d, after the addresses %d, after the content %d, after the files %d; blocked %d, %d, %d, %d; the browser's reports %d, %d, %d, %d",
		before.sum(), addresses.sum(), content.sum(), all.sum(), before.Classes[mixed.Blocked], addresses.Classes[mixed.Blocked], content.Classes[mixed.Blocked], all.Classes[mixed.Blocked],
		before.Browser.Reports, addresses.Browser.Reports, content.Browser.Reports, all.Browser.Reports)
	// Over HTTPS this system makes its addresses secure by itself: what is stored remains.
	assert.LessOrEqual(t, addresses.Classes[mixed.Blocked], before.Classes[mixed.Blocked])
	assert.LessOrEqual(t, addresses.Browser.Reports, before.Browser.Reports)
	for _, c := range addresses.Culprits { // the dashboard has shown one link more: which one is to be seen if it does so again
		if addresses.sum() > before.sum() && !slices.ContainsFunc(before.Culprits, func(o findings.Culprit) bool { return o.URL == c.URL && o.On == c.On }) {
			t.Logf("only after the addresses: %s %s on %s", c.Class, c.URL, c.On)
		}
	}
	assert.Less(t, content.sum(), addresses.sum())
	assert.Less(t, all.sum(), content.sum())
	var left []string
	for _, c := range all.Culprits {
		left = append(left, c.URL)
	}
	assert.Equal(t, []string{"http://charts.tideoffice.example/today.png"}, left, "what truly remains: the host without HTTPS")
}

// The made-up site: a browser agrees on every page, before and after.
func TestLookingAtDemo(t *testing.T) {
	t.Parallel()
	command := demoSite(t)
	run := func(code int, args ...string) []byte {
		c := command(args...)
		out, err := c.Output()
		require.Equal(t, code, c.ProcessState.ExitCode(), "%v: %v\n%s", args, err, tail(out))
		return out
	}
	scan := func() (s seenScan) {
		require.NoError(t, json.Unmarshal(run(1, "scan", "--browser", asUser, "--looks", itoa(looks(14, 1000)), "--format", "json", "--quiet"), &s))
		assert.GreaterOrEqual(t, s.Browser.Pages, looks(14, 41))
		assert.Empty(t, s.Browser.Failed)
		assert.Equal(t, s.Browser.Reports, s.Browser.Known, "%+v", s.Browser)
		assert.Empty(t, s.Browser.Unconfirmed)
		return s
	}
	before := scan()
	run(0, "preview", "--except", "file:*", "--quiet")
	run(0, "apply", "--anyway", "--quiet") // its certificate is not for all of its names
	content := scan()
	run(0, "preview", "--quiet")
	run(0, "apply", "--anyway", "--quiet") // its certificate is not for all of its names
	all := scan()
	t.Logf("findings before %d, after the content %d, after the files %d; the browser's reports %d, %d, %d", before.sum(), content.sum(), all.sum(), before.Browser.Reports, content.Browser.Reports, all.Browser.Reports)
	assert.Less(t, content.sum(), before.sum())
	require.Len(t, all.Culprits, 1)
	assert.Equal(t, "http://charts.tideoffice.example/today.svg", all.Culprits[0].URL)
	assert.Equal(t, 1, all.Browser.Reports)
}
