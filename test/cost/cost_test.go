// Package cost measures what the readers of foreign input cost: each fragment of a language, alone and in pairs, repeated in
// each of its surroundings, at two sizes. A reader whose time grows faster than its input is found by construction, and not
// by remembering which input was slow once.
package cost

import (
	"bytes"
	"context"
	"encoding/base64"
	"flag"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"trimlantern/core/address"
	"trimlantern/core/alike"
	"trimlantern/core/certs"
	"trimlantern/core/change"
	"trimlantern/core/envelope"
	"trimlantern/core/markup"
	"trimlantern/core/mixed"
	"trimlantern/core/pieces"
	"trimlantern/core/rewrite"
	"trimlantern/core/rules"
	"trimlantern/outside/dump"
	"trimlantern/outside/fetch"
	"trimlantern/outside/sitefile"
	"trimlantern/outside/system"
)

var pairs = flag.Int("cost-pairs", 1, "how many pairs of fragments are repeated in each surrounding of each reader")

// reader is one reader of foreign input.
type reader struct {
	name   string
	read   func(t testing.TB, b []byte)
	tokens []string
	around [][2]string // what comes before and after

	perMB time.Duration // see perMB; 0: that
	alone bool          // fragments are repeated alone, not in pairs
}

func words(s string) []string { return strings.Fields(s) }

var (
	scriptTokens = append(words("/ /a/ /* // ' \" ` ${ } { ( ) [ ] ; , . = => < > <!-- --> \\ a 0 return function class if else async await import export new typeof in of => : ? ?. + - * http:// =/ )/ ]/ }/ /[/ /\\ `${ case do while"), "\n", " ", "a/b/", "a=/b", "(/", "http://a.example/", "\\u0041", "if(a)/", "a++/", "{}/")
	htmlTokens   = append(words(`< > </ <a <a> </a> <b <p <div> </div> <script> </script> <style> </style> <!-- --> <!--> <! <? <![CDATA[ ]]> <svg> </svg> <math> <template> </template> <table> <tr> <td> <select> <option> <form> <button> <p> <li> <ul> <textarea> <title> <noscript> <iframe> <frameset> <body> <html> <head> <base> <link> <meta> <img> <a/ = ' " a= a=' &amp; &#x68; & &#`), " ", "\n", "\x00", "http://a.example/", `<a href="http://a.example/">`, `<img src=http://a.example/b>`, `<img srcset="http://a.example/a 1x,`, ` a="`, ` style="background:url(http://a.example/)"`, `<i>`, `<font>`, `<b><i>`, `<a><b>`)
	cssTokens    = append(words(`{ } ( ) [ ] ; : , ' " /* */ \ url( url(' @import @media @font-face @namespace @charset @ # . a -- \0000 \a <!-- --> ! http://a.example/ image-set( var( calc(`), " ", "\n", "a:url(http://a.example/);", "a{b:c}", "@import url(http://a.example/);", "\\68 ttp://")
	xmlTokens    = append(words(`< > </ <a> </a> <a <a/> <!-- --> <![CDATA[ ]]> <? ?> <!DOCTYPE <!ENTITY [ ] & &amp; &a; ' " = a="b" a="`), " ", "\n", "http://a.example/", `<a xmlns:b="http://a.example/">`)
	coded        = base64.StdEncoding.EncodeToString([]byte(`see <a href="http://ternrock.example/lamp">the lamp</a> of the tower`))
	other        = base64.StdEncoding.EncodeToString([]byte(`nothing of ours, but http://other.example/ all the same`))
	valueTokens  = append(words(`a:1:{ a:9:{i:0; i:0; s:5:" s:5: "; } O:1:"a":1:{ b:0; N; {" [" "] {} "a":1, "a":" \" \\ \/ http:// http:\/\/ http%3A%2F%2F http&#58;// aHR0cDov H4sI eJw= = % %25 &amp; &amp;amp; \u0068 < <a <a href=" </a> ( ) , : ; ' / // ? # 0 a é`), " ", "\n", "\x00", "http://ternrock.example/", "s:23:\"http://ternrock.example\";", "\\\"", "\\\\\\\"", "a:1:{s:1:\"a\";", "s:5:\"http:\";", "=\n", "=3D", "aHR0cDovL3Rlcm5yb2NrLmV4YW1wbGUv", "\x1f\x8b\x08", "x\x9c", "b:1;", "i:1;s:1:\"a\";")
	valuePhrases = []string{
		coded + " ", `"` + coded + `",`, "d=" + coded + "&", "d=" + other + "&", "d%3D" + coded + "%26", "d%3D" + other + "%26", other + `\n`, other + "=\n",
		`<img src="http://cdn.example/a.png"> `, `{"u":"http:\/\/ternrock.example\/"} `, `[{"u":"http:\/\/ternrock.example\/"}],`, `s:24:"http://ternrock.example/"; `, `s:25:"http://ternrock.example/"; `,
		`a:1:{s:1:"a";s:24:"http://ternrock.example/";} `, `a:2:{s:1:"a";s:24:"http://ternrock.example/";} `, `a:1:{s:1:&quot;a&quot;;s:24:&quot;http://ternrock.example/&quot;;} `,
		`s:9:\"http://ternrock.example/\"; `, `\"a:1:{s:1:\\\"a\\\";s:24:\\\"http://ternrock.example/\\\";}\" `, `{"a":"`, `%7B%22u%22%3A%22http%3A%2F%2Fternrock.example%22%7D `,
		`http://ternrock.example?x=http%3A%2F%2Fternrock.example%2F&sig=0123456789abcdef0123456789abcdef `, `<script>`, `<!--`, `url(`, `eyJhbGciOiJIUzI1NiJ9.`,
		`24:http://ternrock.example/,`, `&quot;;`, `%22%3B`, `s:1:`, "%1F%8B%08", `''`, `'a:1:{s:1:"a";s:24:"http://ternrock.example/";}',`, `('a:1:{s:1:"a";s:26:"http://ternrock.example/''";}');`,
		`C:11:"ArrayObject":60:{x:i:0;a:1:{s:1:"u";s:24:"http://ternrock.example/";};m:a:0:{}} `, `x|s:24:"http://ternrock.example/";`, `INSERT INTO t VALUES ('a:1:{s:1:\"a\";s:24:\"http://ternrock.example/\";}'); `,
	}
	sqlTokens  = append(words(`( ) , ; ' " \ -- # /* */ /*! ' $$ $a$ E' X' 0x NULL INSERT INTO VALUES CREATE TABLE t a int text PRIMARY KEY UNIQUE DEFAULT CHECK REFERENCES ALTER UPDATE SET COPY FROM stdin; \. \N DELIMITER USE BEGIN COMMIT REPLACE( char(10) || :: [ ] 1 -1 1e9 = . CONSTRAINT GENERATED ALWAYS AS COLLATE PARTITION BY`), " ", "\n", "`", "\t", "(1,'http://ternrock.example/'),", "a int,\n", "'a',", "INSERT INTO t VALUES (1,'a');\n", "CREATE TABLE t (a int, b text);\n", "CREATE TABLE `a` (\n `b` text\n);\n", "COPY t (a) FROM stdin;\n", "\\.\n", "/*!50003 ", "DELIMITER ;;\n")
	confTokens = append(words("server { } location / = ~ ; ' \" \\ # <VirtualHost *:80> </VirtualHost> <IfModule a> </IfModule> RewriteRule RewriteCond RewriteEngine On [R=301,L] ^(.*)$ https:// %{HTTP_HOST} $host return 301 include listen 80 if ( ) rewrite map geo"), " ", "\n", "\\\n", "RewriteRule ^ https://a.example/ [R=301,L]\n", "location / {\n", "server {\n", "<IfModule a>\n")
	phpTokens  = append(words(`<?php ?> $a = ; ' " \ define( ( ) , . if else { } [ ] => // # /* */ <<<A <<<'A' A; array( return include require __DIR__ getenv( ?: ?? ! && || 'a' "b" "$a" "{$a}" function class`), " ", "\n", "define('A','b');\n", "$a='b'.", "if(1){", "<<<A\n", "A;\n", "$a[", "(", "((", "'.'", "?:", "A.")
	yamlTokens = append(words("a: - [ ] { } & * ! | > ' \" # , ? : --- ... &a *a !!str << 1"), " ", "\n", "  ", "a:\n ", "- ", "[[", "{a: ", "&a [", "*a, ", "\n- - ")
)

func page(t testing.TB) *url.URL {
	u, err := url.Parse("https://ternrock.example/a/")
	require.NoError(t, err)
	return u
}

func site(t testing.TB) address.Site {
	s, err := address.Parse("https://ternrock.example")
	require.NoError(t, err)
	return s
}

func inFile(t testing.TB, b []byte, read func(file string)) {
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, b, 0o600))
	read(file)
	require.NoError(t, os.Remove(file))
}

func readDump(t testing.TB, b []byte) {
	in := bytes.NewReader(b)
	s, err := dump.Look(context.Background(), in, dump.Options{})
	if err != nil {
		return
	}
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return
	}
	_ = s.Rewrite(context.Background(), in, io.Discard, dump.Handler{Row: func(int, *dump.Row) {}, Beside: func(int, *dump.Passage) {}}, dump.Output{})
}

func readers(t testing.TB) []reader {
	u, of := page(t), site(t)
	r := &rewrite.Rules{Site: of, Verdict: func(string, string) rewrite.Verdict { return rewrite.Secure }}
	return []reader{
		{"script", func(_ testing.TB, b []byte) { markup.WalkScript(b, false, func(markup.ScriptPart, int, int) {}) }, scriptTokens, [][2]string{{"", ""}, {"a=`", "`"}, {"(", ")"}, {"/", "/"}, {"`${", "}`"}}, 0, false},
		{"style sheet", func(_ testing.TB, b []byte) { mixed.CSS(b, u) }, cssTokens, [][2]string{{"", ""}, {"a{b:", "}"}, {"@import ", ";"}, {"a{b:url(", ")}"}}, 0, false},
		{"page", func(_ testing.TB, b []byte) { mixed.HTML(b, u) }, htmlTokens, [][2]string{{"", ""}, {"<!doctype html><body>", ""}, {"<table>", "</table>"}, {`<a href="`, `">`}, {"<svg>", "</svg>"}, {"<p ", ">"}}, 0, false},
		{"script of a page", func(_ testing.TB, b []byte) { mixed.HTML(b, u) }, scriptTokens, [][2]string{{"<script>", "</script>"}, {`<a onclick="`, `">`}, {"<script type=module>", "</script>"}}, 0, false},
		{"style of a page", func(_ testing.TB, b []byte) { mixed.HTML(b, u) }, cssTokens, [][2]string{{"<style>", "</style>"}, {`<a style="`, `">`}}, 0, false},
		{"feed", func(_ testing.TB, b []byte) {
			mixed.Read(mixed.Answer{URL: u, Type: "application/rss+xml", Body: b})
			_, _, _ = fetch.Sitemap(b, 1000)
		}, xmlTokens, [][2]string{{"", ""}, {"<urlset>", "</urlset>"}, {"<rss><channel>", ""}, {"<a b='", "'/>"}}, 0, false},
		{"alike", func(_ testing.TB, b []byte) {
			p := alike.Read(u, 200, "text/html", b)
			alike.Compare(p, p)
			alike.Links(b)
		}, htmlTokens, [][2]string{{"", ""}, {"<p>", "</p>"}}, 0, false},
		{"value", func(_ testing.TB, b []byte) { r.Value(b) }, valueTokens, [][2]string{{"", ""}, {`{"a":"`, `"}`}, {`<p a="`, `">`}, {"a:1:{i:0;s:9:\"", "\";}"}, {"http://ternrock.example/?a=", ""}}, 0, true},
		{"broken value", func(_ testing.TB, b []byte) { _, _, _ = r.Mend(b, envelope.Cause{Was: "http://", Now: "https://"}) }, valueTokens, [][2]string{{"", ""}, {"a:1:{i:0;s:9:\"", "\";}"}, {`<p a="`, `">`}}, 0, true},
		{"phrases of a value", func(_ testing.TB, b []byte) { r.Value(b) }, valuePhrases, [][2]string{{"", ""}}, 0, true},
		{"phrases of a broken value", func(_ testing.TB, b []byte) { _, _, _ = r.Mend(b, envelope.Cause{Was: "http://", Now: "https://"}) }, valuePhrases, [][2]string{{"", ""}}, 0, true},
		{"pieces", func(_ testing.TB, b []byte) { pieces.New(u, "").Find(b, 10) }, valueTokens, [][2]string{{"", ""}}, 0, false},
		{"export", readDump, sqlTokens, [][2]string{{"", ""}, {"CREATE TABLE `t` (\n", "\n);\n"}, {"INSERT INTO `t` VALUES ", ";\n"}, {"INSERT INTO `t` VALUES ('", "');\n"}, {"-- PostgreSQL database dump\nCOPY t (a) FROM stdin;\n", "\n\\.\n"}, {"-- PostgreSQL database dump\nCREATE TABLE t (", ");"}, {"PRAGMA foreign_keys=OFF;\nCREATE TABLE t(", ");"}}, 0, false},
		{"server rules", func(_ testing.TB, b []byte) {
			rules.ParseApache(string(b))
			rules.ParseNginx(string(b))
			_, _, _ = rules.Remove(string(b))
		}, confTokens, [][2]string{{"", ""}, {"server {", "}"}, {"<VirtualHost *:80>\n", "\n</VirtualHost>\n"}}, 0, false},
		{"configuration in PHP", func(t testing.TB, b []byte) {
			inFile(t, b, func(file string) { _, _ = system.ReadPHP(file, "wp-settings.php") })
		}, phpTokens, [][2]string{{"<?php ", ""}, {"<?php define('A', ", ");"}, {"<?php $a = ", ";"}}, 0, false},
		{"system description", func(_ testing.TB, b []byte) { _, _ = system.Parse(b) }, yamlTokens, [][2]string{{"", ""}, {"name: a\ntables: ", ""}, {"a: [", "]"}}, 0, false},
		{"site file", func(t testing.TB, b []byte) { inFile(t, b, func(file string) { _, _ = sitefile.Read(file) }) }, yamlTokens, [][2]string{{"", ""}, {"site: https://a.example\nalso: ", ""}}, 0, false},
		{"certificate", func(_ testing.TB, b []byte) { _, _ = certs.Read("a.pem", b, "") }, append(words("-----BEGIN CERTIFICATE----- -----END CERTIFICATE----- -----BEGIN -----END PKCS7----- ----- - MIIB AAAA = :"), "\n", "0\x80", "0\x82\xff\xff", "\xa0\x80", "1\x80", "\x24\x80", "-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", "\x30\x80\x06\x09*\x86H\x86\xf7\r\x01\x07\x02"), [][2]string{{"", ""}, {"-----BEGIN CERTIFICATE-----\n", "\n-----END CERTIFICATE-----\n"}, {"-----BEGIN PKCS7-----\n", "\n-----END PKCS7-----\n"}, {"\x30\x80\x06\x09*\x86H\x86\xf7\r\x01\x07\x02\xa0\x80", ""}}, 0, false},
		{"robots.txt", func(_ testing.TB, b []byte) { fetch.Robots(200, b) }, append(words("User-agent: * a Disallow: / Allow: $ Sitemap: http://a.example/ # : *"), "\n", " ", "/*", "User-agent: *\nDisallow: /a*b$\n"), [][2]string{{"", ""}, {"User-agent: *\nDisallow: ", ""}}, 0, false},
		{"srcset", func(_ testing.TB, b []byte) { mixed.SrcSet(string(b)) }, append(words("a , 1x 2w ( ) http://a.example/ data:,a"), " ", ",,", "( ", "a 1x,"), [][2]string{{"", ""}}, 0, false},
		{"sheet and journal", func(_ testing.TB, b []byte) {
			if s, err := change.NewReader(bytes.NewReader(b)); err == nil {
				_ = s.Each(change.Visit{})
				s.Close()
			}
			_, _ = change.EachBlock(bytes.NewReader(b), func(change.Block) error { return nil })
			_, _ = change.Salvage(bytes.NewReader(b), int64(len(b)), func([]change.Record) error { return nil })
		}, []string{"\x5d\x2a\x4d\x18", "\x5e\x2a\x4d\x18", "\x28\xb5\x2f\xfd", "\x00", "\xff", "a", "\x5e\x2a\x4d\x18\x0c\x00\x00\x00", "\x5d\x2a\x4d\x18\x38\x00\x00\x00\x08\x00\x00\x00\x00\x00\x00\x00"}, [][2]string{{"", ""}}, 0, false},
	}
}

const (
	small = 24 << 10
	large = 4 * small

	// cheap is a time for the large input that is not looked at further: 20 ms for 96 KB are 0.2 s a MB.
	cheap = 20 * time.Millisecond
	// slope is the highest power of the input's size with which a reader's time may grow.
	slope = 1.3
	hung  = 60 * time.Second
	// perMB bounds the time of the worst input, whatever its slope: 2 s on a common machine. The race of other tests on a slow
	// one is in it.
	perMB = 10 * time.Second
)

// costly is the input that has cost its reader most so far.
type costly struct {
	took   time.Duration
	token  string
	around [2]string
}

var worst = map[string]costly{}

func repeated(token string, size int) string { return strings.Repeat(token, size/len(token)+1) }

// cpuTime is what the process has used of its processors: what else the machine does does not count.
func cpuTime() time.Duration {
	var u unix.Rusage
	if err := unix.Getrusage(unix.RUSAGE_SELF, &u); err != nil {
		return 0
	}
	return time.Duration(u.Utime.Nano())
}

// timed returns how long a reader takes, the shorter of two times; it gives up on one that hangs.
func timed(t testing.TB, r reader, in string) time.Duration {
	best := time.Duration(math.MaxInt64)
	for range 2 {
		done := make(chan time.Duration, 1)
		go func() {
			began := cpuTime()
			r.read(t, []byte(in))
			done <- cpuTime() - began
		}()
		select {
		case took := <-done:
			best = min(best, took)
		case <-time.After(hung):
			t.Fatalf("hangs: %d bytes of %.40q…", len(in), in)
		}
		if best < cheap/4 {
			break
		}
	}
	return best
}

// fault says what is wrong with the time that a repeated fragment takes; "" if nothing is.
func fault(t testing.TB, r reader, around [2]string, token string) string {
	in := func(size int) string { return around[0] + repeated(token, size) + around[1] }
	long := timed(t, r, in(large))
	if w := worst[r.name]; long > w.took {
		worst[r.name] = costly{long, token, around}
	}
	if long < cheap {
		return ""
	}
	power := func(short, long time.Duration) float64 {
		return math.Log2(float64(long)/float64(max(short, time.Microsecond))) / 2
	}
	grows := power(timed(t, r, in(small)), long)
	if grows > slope && long < 5*time.Second { // caches and memory make small inputs cheaper than they are
		grows = power(long, timed(t, r, in(4*large)))
	}
	if grows <= slope && long < max(r.perMB, perMB)*large>>20 {
		return ""
	}
	return fmt.Sprintf("%s: %q repeated in %q: %v for %d KB, slope %.2f", r.name, token, around, long.Round(time.Millisecond), large>>10, grows)
}

// The time of every reader, as the processor counts it, grows as its input does, whatever is repeated in it.
func TestScaling(t *testing.T) {
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 1))
	for _, r := range readers(t) {
		t.Run(r.name, func(t *testing.T) {
			for _, around := range r.around {
				tokens := append([]string(nil), r.tokens...)
				for range *pairs {
					if r.alone {
						break
					}
					a, b := r.tokens[random.IntN(len(r.tokens))], r.tokens[random.IntN(len(r.tokens))]
					if tokens = append(tokens, a+b); random.IntN(3) == 0 {
						tokens[len(tokens)-1] += r.tokens[random.IntN(len(r.tokens))]
					}
				}
				for _, token := range tokens {
					if f := fault(t, r, around, token); f != "" {
						if f = fault(t, r, around, token); f != "" { // not what else the machine did at that moment
							t.Error(f)
						}
					}
				}
			}
			w := worst[r.name]
			t.Logf("worst: %.2f s a MB, %.40q repeated in %q", w.took.Seconds()*(1<<20)/large, w.token, w.around)
		})
	}
}

// Nothing that is mutated makes a reader panic or hang.
func TestMutated(t *testing.T) {
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 2))
	t.Logf("seed %d", seed)
	for _, r := range readers(t) {
		for range 500 + 20**pairs {
			var in strings.Builder
			around := r.around[random.IntN(len(r.around))]
			in.WriteString(around[0])
			for range random.IntN(40) {
				token := r.tokens[random.IntN(len(r.tokens))]
				for range 1 + random.IntN(3) {
					in.WriteString(token)
				}
			}
			if random.IntN(2) == 0 {
				in.WriteString(around[1])
			}
			b := []byte(in.String())
			for range random.IntN(3) {
				if len(b) > 0 {
					b[random.IntN(len(b))] = byte(random.Uint32())
				}
			}
			done := make(chan struct{})
			go func() {
				defer close(done)
				defer func() {
					if p := recover(); p != nil {
						t.Errorf("%s: panic %v on %q", r.name, p, b)
					}
				}()
				r.read(t, b)
			}()
			select {
			case <-done:
			case <-time.After(hung):
				t.Fatalf("%s hangs on %q", r.name, b)
			}
		}
	}
}
