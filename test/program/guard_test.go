//go:build unix

package program

import (
	"bytes"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// guarded is a site whose server reads its rules only when it is told to.
type guarded struct {
	front
	file, live string
	harmful    bool
}

// rulesHere is the mark by which the server knows the rules.
const rulesHere = "trimlantern redirect"

func guardedSite(t *testing.T, harmful bool) *guarded {
	g := &guarded{harmful: harmful}
	g.front = serve(t, func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(2 * time.Millisecond)
		b, _ := os.ReadFile(g.live) // none: no rules
		switch on := bytes.Contains(b, []byte(rulesHere)); {
		case on && r.TLS == nil:
			http.Redirect(w, r, "https://"+r.Host+r.URL.RequestURI(), http.StatusMovedPermanently)
		case on && harmful && r.URL.Path != "/":
			http.Error(w, "no", http.StatusInternalServerError)
		case r.Host != "ternrock.example":
			http.Redirect(w, r, "https://ternrock.example"+r.URL.RequestURI(), http.StatusMovedPermanently)
		default:
			page(w, r)
		}
	}, nil)
	g.file, g.live = filepath.Join(g.dir, "rules"), filepath.Join(g.dir, "live")
	require.NoError(t, os.WriteFile(g.file, []byte("# the museum's own\n"), 0o644))
	require.NoError(t, os.WriteFile(g.live, []byte("# the museum's own\n"), 0o644))
	_, err := open(t, filepath.Join(g.dir, "site.db")).Exec("CREATE TABLE m (a INTEGER PRIMARY KEY, b TEXT)")
	require.NoError(t, err)
	want(t, 0, g.dir, "init", "--here", "--site", "https://ternrock.example", "--also", "www.ternrock.example", "--database", "sqlite:site.db",
		"--ca", filepath.Join(g.dir, "ca.pem"), "--resolve", "*:80:"+g.plain, "--resolve", "*:443:"+g.secure)
	return g
}

func (g *guarded) install() []string {
	return []string{"redirect", "install", "apache", g.file, "--after", "cp " + g.file + " " + g.live, "--quiet"}
}

// guardOf returns the process that guards a run: its child; 0: there is none by now.
func guardOf(t *testing.T, process int) int {
	out, err := exec.Command("pgrep", "-P", strconv.Itoa(process), "-f", "trimlantern.* guard ").Output()
	if err != nil {
		return 0 // none
	}
	n, err := strconv.Atoi(strings.Fields(string(out))[0])
	require.NoError(t, err)
	return n
}

// Whatever ends an installation at whatever moment, untested rules do not stay: the run itself, its guard, or
// the next command of any kind puts the file back and has the server read it.
func TestCutInstallation(t *testing.T) {
	r := rand.New(rand.NewPCG(rand.Uint64(), 1))
	kinds := []string{"INT", "TERM", "HUP", "KILL", "KILL both"}
	for _, harmful := range []bool{true, false} {
		g := guardedSite(t, harmful)
		began := time.Now()
		run(t, g.dir, g.install()...)
		whole := time.Since(began)
		kept, back, cut := 0, 0, 0
		for n := range *moments * len(kinds) {
			kind := kinds[n%len(kinds)]
			if !harmful && rulesIn(t, g.file) {
				want(t, 0, g.dir, "redirect", "remove", g.file, "--after", "cp "+g.file+" "+g.live)
			}
			c := exec.Command(program, g.install()...)
			c.Dir, c.Env = g.dir, environment(g.dir)
			var out bytes.Buffer
			c.Stdout, c.Stderr = &out, &out
			require.NoError(t, c.Start())
			time.Sleep(time.Duration(r.Int64N(int64(whole))))
			guard := 0
			switch kind {
			case "INT", "TERM", "HUP":
				_ = c.Process.Signal(map[string]syscall.Signal{"INT": syscall.SIGINT, "TERM": syscall.SIGTERM, "HUP": syscall.SIGHUP}[kind]) // it may have ended
			case "KILL both": // as where the machine goes down
				if guard = guardOf(t, c.Process.Pid); guard > 0 {
					_ = syscall.Kill(guard, syscall.SIGKILL) // the same
				}
				_ = c.Process.Kill() // the same
			default:
				guard = guardOf(t, c.Process.Pid)
				_ = c.Process.Kill() // the same
			}
			_ = c.Wait() // its code is looked at
			if c.ProcessState.ExitCode() == -1 {
				cut++
			}
			if guard > 0 && kind == "KILL" { // by the guard alone
				for end := time.Now().Add(20 * time.Second); syscall.Kill(guard, 0) == nil && time.Now().Before(end); {
					time.Sleep(20 * time.Millisecond)
				}
			} else {
				want(t, 0, g.dir, "history")
			}
			on := rulesIn(t, g.file)
			assert.Equal(t, on, rulesIn(t, g.live), "%s: the server has read what is there\n%s", kind, out.String())
			if harmful {
				require.False(t, on, "%s: harmful rules stay\n%s", kind, out.String())
			}
			if on {
				kept++
				assert.NotContains(t, run(t, g.dir, "history").errs, "cut off")
			} else {
				back++
			}
			require.NoFileExists(t, filepath.Join(logbookOf(g.dir), "unconfirmed.json"), kind)
			want(t, 0, g.dir, "history", "--check")
		}
		t.Logf("harmful %v: %d kept, %d as before, %d killed", harmful, kept, back, cut)
		if !harmful {
			run(t, g.dir, g.install()...)
			assert.True(t, rulesIn(t, g.file))
			want(t, 0, g.dir, "undo", "--file", g.file)
			assert.False(t, rulesIn(t, g.live), "undo has the server read the file too")
		}
	}
}

func rulesIn(t *testing.T, file string) bool {
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	return bytes.Contains(b, []byte(rulesHere))
}
