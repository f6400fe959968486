//go:build real

package real

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// switching takes the stock system through the guided run, with the safe answers and those given.
func (w *web) switching(code int, address, answers string) string {
	require.NoError(w.t, os.WriteFile(filepath.Join(w.dir, "answers.yaml"), []byte(answers), 0o600))
	return w.tool(code, append([]string{"switch", "--yes", "--answers", "answers.yaml", "--site", strings.Replace(address, "http:", "https:", 1), "--also", "www." + host, w.system}, w.net()...)...)
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
			w.validFor = 60 * 24 * time.Hour
			address, file, _ := w.stand(s)
			if s.proxy != "" {
				w.behind(s.proxy)
			}
			require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "trimlantern.yaml"))) // that of other tests
			before := must(t, file)
			said := w.switching(0, address, "redirect: apache\nrule-file: "+file+"\n")
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
		w.validFor = 60 * 24 * time.Hour
		address, file, _ := w.stand(stock{server: "apache"})
		config := filepath.Join(w.system, "wp-config.php")
		text := must(t, config)
		locked := strings.Replace(text, "require_once", "define( 'WP_HOME', '"+address+"' );\ndefine( 'WP_SITEURL', '"+address+"' );\nrequire_once", 1)
		require.NoError(t, os.WriteFile(config, []byte(locked), 0o644))
		said := w.switching(1, address, "redirect: apache\nrule-file: "+file+"\n")
		assert.Contains(t, said, "WP_HOME")
		assert.Contains(t, said, "The site is not done yet. What is left:")
		assert.Contains(t, said, "Next: change line")
		require.NoError(t, os.WriteFile(config, []byte(strings.ReplaceAll(locked, "'"+address+"'", "'"+strings.Replace(address, "http:", "https:", 1)+"'")), 0o644))
		said = w.switching(0, address, "redirect: apache\nrule-file: "+file+"\n")
		assert.Contains(t, said, "The site is on HTTPS")
	})
	t.Run("no HTTPS yet", func(t *testing.T) {
		t.Parallel()
		w := newWeb(t)
		w.validFor = 60 * 24 * time.Hour
		address, _, _ := w.stand(stock{server: "apache"})
		w.secure = "127.0.0.1:" + freePort(t) // nobody listens there
		said := w.switching(1, address, "")
		assert.Contains(t, said, "Not ready: what is marked [-] would stop visitors.")
		assert.Contains(t, said, "Stopped at: certificate and server. The same command goes on from there.")
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
