//go:build real

package real

import (
	"bufio"
	"encoding/json"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// demoSite lays the made-up site out and keeps its server up; run runs the program in it.
func demoSite(t *testing.T) (run func(args ...string) *exec.Cmd) {
	site := filepath.Join(t.TempDir(), "ternrock")
	stay := exec.Command(built, "demo", "--stay", site)
	says, err := stay.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, stay.Start())
	t.Cleanup(func() { _ = stay.Process.Kill(); _ = stay.Wait() }) // ended by us
	var initLine string
	for lines := bufio.NewScanner(says); lines.Scan() && !strings.HasSuffix(lines.Text(), "https://ternrock.example/"); {
		if after, ok := strings.CutPrefix(lines.Text(), "  trimlantern init "); ok {
			initLine = after
		}
	}
	run = func(args ...string) *exec.Cmd {
		c := exec.Command(built, args...)
		c.Dir, c.Env = site, append(os.Environ(), "TRIMLANTERN_HOME="+site+".home")
		return c
	}
	out, err := run(append([]string{"init"}, strings.Fields(strings.ReplaceAll(initLine, "'", ""))...)...).CombinedOutput()
	require.NoError(t, err, tail(out))
	return run
}

// below returns a process with all those below it.
func below(pid int) (all []int) {
	all = []int{pid}
	threads, _ := filepath.Glob("/proc/" + strconv.Itoa(pid) + "/task/*/children") // the pattern is well formed
	for _, thread := range threads {
		kids, _ := os.ReadFile(thread) // gone already: none
		for _, kid := range strings.Fields(string(kids)) {
			if n, err := strconv.Atoi(kid); err == nil {
				all = append(all, below(n)...)
			}
		}
	}
	return all
}

// listening returns the TCP ports on which processes listen.
func listening(t *testing.T, pids []int) (ports []string) {
	out, err := exec.Command("ss", "-Hltnp").Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(out)) {
		for _, pid := range pids {
			if strings.Contains(line, "pid="+strconv.Itoa(pid)+",") {
				if port := regexp.MustCompile(`:(\d+)\s`).FindStringSubmatch(line); port != nil {
					ports = append(ports, port[1])
				}
			}
		}
	}
	return ports
}

// No other user of the machine can use the browser: it has no port, and its way out asks for a
// password. Killed, the program leaves neither browser nor profile behind.
func TestBrowserIsPrivate(t *testing.T) {
	t.Parallel()
	run := demoSite(t)
	scan := run("scan", "--browser", "--quiet")
	scan.Env = append(scan.Env, "TMPDIR="+t.TempDir())
	require.NoError(t, scan.Start())
	profiles := func() []string {
		found, err := filepath.Glob(filepath.Join(strings.TrimPrefix(scan.Env[len(scan.Env)-1], "TMPDIR="), "trimlantern-browser-*"))
		require.NoError(t, err)
		return found
	}
	var all []int
	for range 600 { // until the browser is at work
		if all = below(scan.Process.Pid); len(all) > 5 {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	require.Greater(t, len(all), 5, "the browser's processes")
	require.Len(t, profiles(), 1)
	assert.Empty(t, listening(t, all[1:]), "the browser listens nowhere")
	ours := listening(t, all[:1])
	require.Len(t, ours, 1, "the way out")
	proxy := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "http", Host: "127.0.0.1:" + ours[0]})}}
	res, err := proxy.Get("http://ternrock.example/")
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, http.StatusProxyAuthRequired, res.StatusCode)
	require.NoError(t, scan.Process.Kill())
	_ = scan.Wait() // killed
	left := func() (n int) {
		for _, pid := range all[1:] {
			if state, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat"); err == nil && !strings.Contains(string(state), ") Z ") {
				n++
			}
		}
		return n
	}
	assert.Eventually(t, func() bool { return left() == 0 && len(profiles()) == 0 }, 30*time.Second, 100*time.Millisecond, "browser and profile go too")
}

// As root, the browser can run as another user, with its sandbox; without that, the result says so.
func TestBrowserUser(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Log("nothing to do: only root can run it as another user")
		return
	}
	run := demoSite(t)
	for _, user := range []string{"", "nobody"} {
		out, err := run("scan", "--browser", "--quiet", "--looks", "3", "--format", "json", "--browser-user", user).Output()
		require.ErrorContains(t, err, "exit status 1")
		var s struct {
			Browser struct {
				Pages, Reports, Known int
				Unprotected           bool
				Failed                []any
			}
		}
		require.NoError(t, json.Unmarshal(out, &s), tail(out))
		assert.Equal(t, user == "", s.Browser.Unprotected)
		assert.Equal(t, 3, s.Browser.Pages)
		assert.Equal(t, s.Browser.Reports, s.Browser.Known)
		assert.Positive(t, s.Browser.Reports)
	}
	out, _ := run("scan", "--browser", "--quiet", "--browser-user", "nobody-of-that-name").CombinedOutput() // its exit code is no success
	assert.Contains(t, string(out), "there is no user nobody-of-that-name on this machine")
}
