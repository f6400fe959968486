//go:build real

package real

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/test/person"
)

// switching takes the stock system through the guided run, with the safe answers and those given.
func (w *web) switching(code int, address, answers string, more ...string) string {
	require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, "answers.yaml"), []byte(answers), 0o600))
	return w.tool(code, append([]string{"switch", "--yes", "--answers", "answers.yaml", "--site", strings.Replace(address, "http:", "https:", 1), "--also", "www." + host, w.system}, append(w.net(), more...)...)...)
}

// walked is the guided run as a person takes it, on a terminal: the default at each question, but for the redirect, which
// goes where the run suggests: into file. Without a file it stops where it asks what to do about a site that is not
// ready. It names a file that is not there once. It stops with Ctrl-C at the question named stop, with -stock-all at each
// question, and goes on with the same command. It returns what came, without the terminal's controls.
func (w *web) walked(code int, address, file, stop string) (said string) {
	w.t.Helper()
	seen, wrong := map[string]bool{}, false
	for {
		c := exec.Command(w.program, append([]string{"switch", "--site", strings.Replace(address, "http:", "https:", 1), "--also", "www." + host, w.system}, w.net()...)...)
		c.Dir, c.Env = w.dir, w.environment()
		x := person.Start(w.t, c)
		stopped := false
		for { // one question after the other
			asked := x.Question("")
			if asked == "" {
				break
			}
			if asked == stop || *stockAll && !seen[asked] {
				if seen[asked] = true; asked == stop {
					stop = ""
				}
				stopped = true
				x.Keys(person.CtrlC)
				break
			}
			if asked == "What now?" && file == "" { // it is not ready
				x.Keys(person.Quit)
				break
			}
			keys := person.Enter
			switch {
			case asked == "Put the redirect in place?":
				keys = person.First + keys
			case asked == "Into which file?" && !wrong: // it is appended to the suggestion; asked again, the suggestion is taken
				wrong, keys = true, "/nowhere"+keys
			}
			x.Answer(asked, keys)
		}
		ended := x.Ends()
		said = x.All()
		if stopped {
			require.Equal(w.t, 1, ended, said)
			continue
		}
		require.Equal(w.t, code, ended, said)
		require.Empty(w.t, stop, "it was never asked")
		return said
	}
}

// TestSwitchReal takes the real system through the guided run, in several set-ups, and back.
func TestSwitchReal(t *testing.T) {
	for _, s := range []stock{{what: "alone", server: "apache"}, {what: "a network", server: "apache", network: "mapped", long: true}, {what: "behind a proxy", server: "apache", proxy: "X-Forwarded-Proto", long: true}} {
		if s.long && !*stockAll {
			continue // check-long takes it
		}
		t.Run(s.what, func(t *testing.T) {
			t.Parallel()
			w := newWeb(t)
			w.validFor, w.looks = 60*24*time.Hour, true
			address, file, _ := w.stand(s)
			if s.proxy != "" {
				w.behind(s.proxy)
			}
			require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "trimlantern.yaml"))) // that of other tests
			before := must(t, file)
			said := w.walked(0, address, file, "Make these changes now?")
			assert.Contains(t, said, "The site is on HTTPS, and every page that was scanned is clean.")
			assert.Equal(t, "https://"+host+"/visit/", w.visits(address+"/visit/").url)
			again := w.switching(0, address, "")
			assert.Contains(t, again, "Nothing is left to change.")
			t.Log(w.tool(0, "history"))
			w.tool(0, "undo", "--file", file)
			holds(t, file, before)
			w.tool(0, "undo")
			assert.Equal(t, address, w.setting("siteurl"))
		})
	}
	t.Run("a locked address", func(t *testing.T) {
		t.Parallel()
		w := newWeb(t)
		w.validFor, w.looks = 60*24*time.Hour, *looksAll
		address, file, _ := w.stand(stock{server: "apache"})
		config := filepath.Join(w.system, "wp-config.php")
		text := must(t, config)
		locked := strings.Replace(text, "require_once", "define( 'WP_HOME', '"+address+"' );\ndefine( 'WP_SITEURL', '"+address+"' );\nrequire_once", 1)
		require.NoError(t, os.WriteFile(config, []byte(locked), 0o644))
		said := w.walked(1, address, file, "Put the redirect in place?")
		assert.Contains(t, said, "WP_HOME")
		assert.Contains(t, said, "The site is not done yet. What is left:")
		assert.Contains(t, said, "Next: change line")
		require.NoError(t, os.WriteFile(config, []byte(strings.ReplaceAll(locked, "'"+address+"'", "'"+strings.Replace(address, "http:", "https:", 1)+"'")), 0o644))
		said = w.switching(0, address, "redirect: apache\nrule-file: "+file+"\n", "--accept-gap", "scripts", "--because", "they are looked at elsewhere")
		assert.Contains(t, said, "The site is on HTTPS")
	})
	t.Run("no HTTPS yet", func(t *testing.T) {
		t.Parallel()
		w := newWeb(t)
		w.validFor = 60 * 24 * time.Hour
		address, _, _ := w.stand(stock{server: "apache"})
		w.secure = "127.0.0.1:" + freePort(t) // nobody listens there
		said := w.walked(1, address, "", "")
		assert.Contains(t, said, "Not ready: what is marked [-] would stop visitors.")
		assert.Contains(t, said, "Stopped at: certificate and server. The same command continues from there.")
		assert.Equal(t, address, w.setting("siteurl"), "nothing was changed")
	})
}

// setting returns a setting of the first site.
func (w *web) setting(name string) string {
	return strings.TrimSpace(w.sql("SELECT option_value FROM museum." + prefix + "options WHERE option_name = '" + name + "'"))
}

func must(t *testing.T, file string) string {
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	return string(b)
}
