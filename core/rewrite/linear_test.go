package rewrite

import (
	"encoding/base64"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"trimlantern/core/envelope"
)

// The cost is linear, for hostile input too: sixteen times the input takes about sixteen times as long; quadratic cost
// would take 256 times as long.
func TestValueIsLinear(t *testing.T) {
	coded := base64.StdEncoding.EncodeToString([]byte(`see <a href="http://ternrock.example/lamp">the lamp</a> of the tower`))
	other := base64.StdEncoding.EncodeToString([]byte(`nothing of ours, but http://other.example/ all the same`))
	r := rules(t)
	r.Verdict = func(string, string) Verdict { return Secure }
	cost := func(work func([]byte), piece string, size int) time.Duration {
		b := []byte(strings.Repeat(piece, size/len(piece)))
		best := time.Hour
		for range 2 {
			start := time.Now()
			work(b)
			best = min(best, time.Since(start))
		}
		return best
	}
	for _, piece := range []string{
		`http://ternrock.example/a `, `<img src="http://cdn.example/a.png"> `, coded + " ", `"` + coded + `",`, "d=" + coded + "&", "d=" + other + "&", "d%3D" + coded + "%26", "d%3D" + other + "%26", other + `\n`, other + "=\n",
		`{"u":"http:\/\/ternrock.example\/"} `, `[{"u":"http:\/\/ternrock.example\/"}],`, `s:24:"http://ternrock.example/"; `, `s:25:"http://ternrock.example/"; `,
		`a:1:{s:1:"a";s:24:"http://ternrock.example/";} `, `a:2:{s:1:"a";s:24:"http://ternrock.example/";} `, `a:1:{`, `s:5:"`, `&quot;`, `a:1:{s:1:&quot;a&quot;;s:24:&quot;http://ternrock.example/&quot;;} `,
		`s:9:\"http://ternrock.example/\"; `, `\"a:1:{s:1:\\\"a\\\";s:24:\\\"http://ternrock.example/\\\";}\" `, `{"a":`, `{"a":"`, `[`, `%7B%22u%22%3A%22http%3A%2F%2Fternrock.example%22%7D `,
		`http://ternrock.example?x=http%3A%2F%2Fternrock.example%2F&sig=0123456789abcdef0123456789abcdef `, `<script>`, `<!--`, `url(`, `'`, `"`, `\`, `%25`, `&amp;`, `http://`, `eyJhbGciOiJIUzI1NiJ9.`,
		`24:http://ternrock.example/,`, `&quot;;`, `%22%3B`, `s:1:`, "\x00", "\x1f\x8b\x08", "eJz", "H4sI", "%1F%8B%08", `''`, `'a:1:{s:1:"a";s:24:"http://ternrock.example/";}',`, `('a:1:{s:1:"a";s:26:"http://ternrock.example/''";}');`,
		`C:11:"ArrayObject":60:{x:i:0;a:1:{s:1:"u";s:24:"http://ternrock.example/";};m:a:0:{}} `, `x|s:24:"http://ternrock.example/";`, `INSERT INTO t VALUES ('a:1:{s:1:\"a\";s:24:\"http://ternrock.example/\";}'); `,
	} {
		for name, work := range map[string]func([]byte){
			"rewriting": func(b []byte) { r.Value(b) },
			"mending":   func(b []byte) { _, _, _ = Mend(b, envelope.Cause{Was: "http://", Now: "https://"}) },
		} {
			little, much := cost(work, piece, 20_000), cost(work, piece, 320_000)
			assert.Less(t, much, 100*max(little, time.Millisecond), "%s %q: %v, %v", name, piece, little, much)
		}
	}
}
