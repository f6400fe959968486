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

// What the checkup mails night after night: nothing while all is well; else first what is down, and then each
// thing once, in lines that fit. The report is written whatever fails.
func TestNights(t *testing.T) {
	t.Parallel()
	w := &web{bench: newBench(t), plain: "127.0.0.1:" + freePort(t), secure: "127.0.0.1:" + freePort(t)}
	w.openToServer()
	w.certificateUntil(time.Now().AddDate(0, 0, 60))
	front := "<h1>Tern Rock Light</h1><p>Open from Easter to October, every day but Monday.<ul><li><a href=/visit/>Visit</a></ul>"
	w.page("index.html", front)
	w.page("visit/index.html", "<p>How to reach the rock: by boat, weather permitting.")
	well := situation{plain: goesSecure, secure: oneName}
	w.serve(well)
	w.tool(0, append([]string{"init", "--here", "--site", "https://" + host, "--also", "www." + host, "--database", "sqlite:" + emptySite(w.bench)}, w.net()...)...)
	night := func(what string, code int, words ...string) string {
		c, mail := w.try("checkup", "--quiet")
		t.Logf("%s (exit %d):\n%s", what, c, mail)
		assert.Equal(t, code, c, what)
		assert.Equal(t, code == 0, mail == "", what)
		flat := strings.Join(strings.Fields(mail), " ")
		for _, s := range words {
			assert.Contains(t, flat, s, what)
		}
		for line := range strings.Lines(mail) {
			assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), 100, line)
		}
		return flat
	}
	night("all is well", 0)
	w.serve(situation{plain: serves, secure: oneName})
	night("the redirect was removed", 1, "needs attention", "the visitor ends up on HTTP", "install the redirect")
	w.serve(well)
	w.page("visit/index.html", "<p>How to reach the rock: <img src=http://ternrock.example/media/boat.jpg alt=>")
	night("an editor pasted a link", 1, "Insecure since last time", "http://ternrock.example/media/boat.jpg", "https://ternrock.example/visit/")
	night("and the night after", 1, "Still insecure")
	w.page("visit/index.html", "<p>How to reach the rock: <img src=/media/boat.jpg alt=>")
	night("the link is gone", 0)
	w.certificateUntil(time.Now().Add(9*24*time.Hour + time.Hour))
	w.serve(well)
	night("the certificate ends soon", 1, "it ends in 9 days", "renew it now")
	w.certificateUntil(time.Now().Add(-time.Minute))
	w.serve(well)
	said := night("the certificate ended", 1, "is down", "it expired on")
	assert.True(t, strings.HasPrefix(said, "https://ternrock.example is down"), "what is down comes first")
	w.certificateUntil(time.Now().AddDate(0, 0, 60))
	w.serve(situation{plain: goesSecure, secure: "location / { return 502; }\n"})
	night("the system behind the server is dead", 1, "is down", "answers 502")
	w.run(w.dir, "nginx", "-c", filepath.Join(w.dir, "nginx.conf"), "-p", w.dir, "-s", "stop")
	time.Sleep(500 * time.Millisecond)
	night("the server is dead", 1, "is down", "nothing listens")
	require.NoError(t, os.RemoveAll(filepath.Join(w.dir, "nginx.conf")))
	w.serve(well)
	night("and all is well again", 0)
}
