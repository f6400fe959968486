//go:build real

package real

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/outside/browser"
	"trimlantern/outside/fetch"
	"trimlantern/work/scan"
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
	scan := run("scan", "--browser", asUser, "--quiet")
	temp, err := os.MkdirTemp("", "tl") // short, since the browser has sockets in it, and open to the browser's user
	require.NoError(t, err)
	defer os.RemoveAll(temp)
	require.NoError(t, os.Chmod(temp, os.ModeSticky|0o777))
	scan.Env = append(scan.Env, "TMPDIR="+temp)
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

// asUser has the browser run with its sandbox, which as root it does as another user.
var asUser = "--browser-user=" + map[bool]string{true: "nobody"}[os.Getuid() == 0]

// As root, the browser runs as another user, with its sandbox, or not at all.
func TestBrowserUser(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Log("nothing to do: only root can run it as another user")
		return
	}
	run := demoSite(t)
	out, err := run("scan", "--browser", asUser, "--quiet", "--looks", "3", "--format", "json").Output()
	require.ErrorContains(t, err, "exit status 1")
	var s struct {
		Browser struct {
			Pages, Reports, Known int
			Failed                []any
		}
	}
	require.NoError(t, json.Unmarshal(out, &s), tail(out))
	assert.Equal(t, 3, s.Browser.Pages)
	assert.Equal(t, s.Browser.Reports, s.Browser.Known)
	assert.Positive(t, s.Browser.Reports)
	for user, say := range map[string]string{"": "--browser-user nobody", "root": "--browser-user nobody", "nobody-of-that-name": "there is no user nobody-of-that-name on this machine"} {
		out, err := run("scan", "--browser", "--quiet", "--browser-user", user).CombinedOutput()
		require.Error(t, err)
		assert.Contains(t, string(out), say)
	}
}

// What a page does goes through our way out or nowhere: canaries on UDP and TCP of this machine hear nothing of WebRTC, of
// WebTransport, of names that are looked up ahead and of connections that are made ahead.
func TestBrowserCanaries(t *testing.T) {
	t.Parallel()
	udp, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer udp.Close()
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer tcp.Close()
	heard := make(chan string, 100)
	go func() {
		b := make([]byte, 2000)
		for {
			n, from, err := udp.ReadFrom(b)
			if err != nil {
				return
			}
			heard <- fmt.Sprintf("UDP from %v: %q", from, b[:n])
		}
	}()
	go func() {
		for {
			c, err := tcp.Accept()
			if err != nil {
				return
			}
			heard <- "TCP"
			c.Close()
		}
	}()
	u, p := udp.LocalAddr().String(), tcp.Addr().String()
	page := fmt.Sprintf(`<!doctype html><title>canary</title>
<link rel="dns-prefetch" href="//canary.example"><link rel="preconnect" href="https://%[2]s"><link rel="prefetch" href="https://%[2]s/a">
<script>
const pc = new RTCPeerConnection({iceServers: [{urls: ["stun:%[1]s"]}, {urls: ["turn:%[1]s", "turn:%[2]s?transport=tcp", "turns:%[2]s"], username: "a", credential: "b"}]});
pc.createDataChannel("a"); pc.createOffer().then(o => pc.setLocalDescription(o));
try { new WebTransport("https://%[1]s/"); new WebTransport("https://%[2]s/") } catch (e) {}
try { new WebSocket("wss://%[2]s/") } catch (e) {}
fetch("https://%[2]s/b", {mode: "no-cors"}).catch(() => {});
navigator.sendBeacon("https://%[2]s/c", "a");
</script>`, u, p)
	looked := false
	w := newNet(t, handler(func(rw http.ResponseWriter, r *http.Request) {
		rw.Header().Set("Content-Type", "text/html")
		looked = true
		_, _ = rw.Write([]byte(page)) // a browser that has gone misses nothing
	}))
	client, err := fetch.New(fetch.Options{Resolve: w.resolve, CA: w.ca, Own: []string{"ternrock.example"}})
	require.NoError(t, err)
	path, err := browser.Find("")
	require.NoError(t, err)
	for _, c := range []struct {
		flags []string
		hears bool
	}{
		// Without the policy the canary is heard: the test could fail.
		{[]string{"--allow-loopback-in-peer-connection", "--force-webrtc-ip-handling-policy=default", "--webrtc-ip-handling-policy=default"}, true},
		{[]string{"--allow-loopback-in-peer-connection"}, false},
	} {
		looked = false
		b, err := browser.Open(context.Background(), client, browser.Options{Path: path, NoSandbox: true, Pins: []string{w.pin}, Full: true, Flags: c.flags})
		require.NoError(t, err)
		_, err = b.Look(context.Background(), "https://ternrock.example/")
		require.NoError(t, err)
		what := ""
		select {
		case what = <-heard:
		case <-time.After(5 * time.Second):
		}
		b.Close()
		assert.True(t, looked)
		assert.Equal(t, c.hears, what != "", "%v: %s", c.flags, what)
		for len(heard) > 0 {
			<-heard
		}
	}
}

// What comes into sight on the way down, on a telephone alone, at the first gesture, at a first or a second visit, in a worker
// or after some seconds, is seen.
func TestBrowserSeesAll(t *testing.T) {
	t.Parallel()
	w := newNet(t, handler(func(rw http.ResponseWriter, r *http.Request) {
		rw.Header().Set("Content-Type", "text/html")
		if r.Host != "ternrock.example" {
			return
		}
		fmt.Fprint(rw, `<!DOCTYPE html><meta name="viewport" content="width=device-width"><title>Long</title><style>p { height: 2500px; margin: 0 }</style>`)
		for n := range 6 {
			fmt.Fprintf(rw, `<p>%d</p><img loading="lazy" width="20" height="20" src="http://assets.example/lazy%d.png"><i data-n="%d" style="display:block;height:20px"></i>`, n, n, n)
		}
		fmt.Fprint(rw, `<picture><source media="(max-width: 500px)" srcset="http://assets.example/phone.png"><img src="https://assets.example/wide.png"></picture>
<script>
const seen = new IntersectionObserver(all => { for (const one of all) if (one.isIntersecting) { seen.unobserve(one.target); new Image().src = "ht" + "tp://assets.example/sight" + one.target.dataset.n + ".png" } })
document.querySelectorAll("i").forEach(i => seen.observe(i))
setTimeout(() => { new Image().src = "ht" + "tp://assets.example/late.png" }, 6000)
const load = name => { new Image().src = "ht" + "tp://assets.example/" + name + ".png" }
for (const kind of ["mousemove", "wheel", "keydown", "touchstart"]) addEventListener(kind, () => load(kind), { once: true })
if (/Android.*Mobile/.test(navigator.userAgent) && navigator.maxTouchPoints > 0 && "ontouchstart" in window) load("telephone")
if (localStorage.seen) load("again"); else load("first")
localStorage.seen = 1
new Worker(URL.createObjectURL(new Blob(['fetch("ht" + "tp://assets.example/worker.json").catch(() => {})'])))
const made = document.createElement("a"); made.href = "/made"; made.textContent = "made"; document.body.append(made)
</script>`)
	}))
	client, err := fetch.New(fetch.Options{Resolve: w.resolve, CA: w.ca, Own: []string{"ternrock.example"}})
	require.NoError(t, err)
	path, err := browser.Find("")
	require.NoError(t, err)
	b, err := browser.Open(context.Background(), client, browser.Options{Path: path, NoSandbox: true, Pins: []string{w.pin}, Full: true})
	require.NoError(t, err)
	defer b.Close()
	began := time.Now()
	_, err = b.Look(context.Background(), "https://ternrock.example/") // what it keeps does not count for the next
	require.NoError(t, err)
	seen, err := b.Look(context.Background(), "https://ternrock.example/")
	require.NoError(t, err)
	assert.Equal(t, []string{"https://ternrock.example/made"}, seen.Links)
	var found []string
	for _, f := range scan.Reports(seen) {
		found = append(found, strings.TrimPrefix(f.URL, "http://assets.example/"))
	}
	slices.Sort(found)
	want := []string{"late.png", "phone.png", "mousemove.png", "wheel.png", "keydown.png", "touchstart.png", "telephone.png", "again.png", "first.png", "worker.json"}
	for n := range 6 {
		want = append(want, fmt.Sprintf("lazy%d.png", n), fmt.Sprintf("sight%d.png", n))
	}
	slices.Sort(want)
	assert.Equal(t, want, found)
	assert.Equal(t, "Long", seen.Title)
	t.Logf("%.1f s", time.Since(began).Seconds())
}

// A scan that is interrupted while the browser looks goes on where it was, and ends as an undisturbed one.
func TestBrowserResumes(t *testing.T) {
	t.Parallel()
	command := demoSite(t)
	type scan struct {
		Resumed bool
		Browser struct{ Pages, Reports, Known, New int }
	}
	look := func(args ...string) (s scan, said string) {
		c := command(append([]string{"scan", "--browser", asUser, "--looks", itoa(looks(24, 100)), "--format", "json"}, args...)...)
		var errs strings.Builder
		c.Stderr = &errs
		out, _ := c.Output() // what it found is no failure
		require.Equal(t, 1, c.ProcessState.ExitCode(), errs.String())
		require.NoError(t, json.Unmarshal(out, &s))
		return s, errs.String()
	}
	whole, _ := look("--quiet")
	c := command("scan", "--browser", asUser, "--looks", itoa(looks(24, 100)), "--tabs", "1")
	says, err := c.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	for lines := bufio.NewScanner(says); lines.Scan(); {
		if strings.Contains(lines.Text(), "looking with the browser") {
			break
		}
	}
	time.Sleep(6 * time.Second)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	_ = c.Wait() // its code is what counts
	require.Equal(t, 3, c.ProcessState.ExitCode())
	resumed, _ := look("--resume", "--quiet")
	assert.True(t, resumed.Resumed)
	assert.Equal(t, whole.Browser.Pages, resumed.Browser.Pages)
	assert.Equal(t, resumed.Browser.Reports, resumed.Browser.Known)
	if *looksAll { // else one page may be in the place of another
		assert.Equal(t, whole.Browser, resumed.Browser)
	}
}
