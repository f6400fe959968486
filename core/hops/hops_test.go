package hops

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// way makes a journey of "STATUS URL" steps, the first asked with method.
func way(method, typed string, steps ...string) Journey {
	j := Journey{Typed: typed, Method: method}
	at := typed
	for i := 0; i < len(steps); i++ {
		status := map[string]int{"200": 200, "301": 301, "302": 302, "308": 308, "404": 404, "500": 500}[steps[i]]
		h := Hop{URL: at, Method: method, Status: status}
		if status/100 == 3 {
			i++
			h.Location, at = steps[i], steps[i]
			if status < 307 && method == "POST" {
				method = "GET"
			}
		}
		j.Hops = append(j.Hops, h)
	}
	return j
}

func TestJudge(t *testing.T) {
	const s = "https://ternrock.example"
	for _, c := range []struct {
		what string
		j    Journey
		want []Problem
	}{
		{"as it should be", way("GET", "http://ternrock.example/a?b=1", "301", s+"/a?b=1", "200"), nil},
		{"there already", way("GET", s+"/", "200"), nil},
		{"a slash more is no loss", way("GET", "http://ternrock.example/a", "301", s+"/a/", "200"), nil},
		{"no page of that name is no fault", way("GET", s+"/nothing", "404"), nil},
		{"an error is", way("GET", s+"/", "500"), []Problem{Broken}},
		{"POST kept", way("POST", "http://ternrock.example/", "308", s+"/", "200"), nil},
		{"POST lost", way("POST", "http://ternrock.example/", "301", s+"/", "200"), []Problem{Post}},
		{"two redirects", way("GET", "http://ternrock.example/", "301", s+"/", "301", s+"/x", "200"), []Problem{PathLost, Chain}},
		{"for the time being", way("GET", "http://ternrock.example/", "302", s+"/", "200"), []Problem{Temporary}},
		{"insecure", way("GET", "http://ternrock.example/", "200"), []Problem{Insecure}},
		{"back to HTTP", way("GET", s+"/", "301", "http://ternrock.example/", "200"), []Problem{Downgrade, Insecure}},
		{"round and round", way("GET", s+"/", "301", s+"/", "301", s+"/"), []Problem{Loop}},
		{"path lost", way("GET", "http://ternrock.example/a", "301", s+"/", "200"), []Problem{PathLost}},
		{"query lost", way("GET", "http://ternrock.example/a?b", "301", s+"/a", "200"), []Problem{QueryLost}},
		{"percent signs count", way("GET", "http://ternrock.example/a%20b", "301", s+"/a%2520b", "200"), []Problem{PathLost}},
		{"another host", way("GET", "http://ternrock.example/", "301", "https://other.example/", "200"), []Problem{Elsewhere}},
		{"another name", way("GET", "http://www.ternrock.example/", "301", "https://www.ternrock.example/", "200"), []Problem{Mixed}},
		{"nothing", Journey{Typed: s, Err: "nothing listens"}, []Problem{Failed}},
		{"nothing behind a redirect", Journey{Typed: "http://ternrock.example/", Method: "GET", Err: "refused",
			Hops: []Hop{{"http://ternrock.example/", "GET", 301, s + "/"}, {URL: s + "/", Method: "GET"}}}, []Problem{Failed}},
	} {
		got := c.j.Judge("ternrock.example", []string{"www.ternrock.example"})
		if c.want == nil {
			c.want = []Problem{}
		}
		assert.Equal(t, c.want, got, c.what)
	}
	proof := way("GET", "http://ternrock.example/.well-known/acme-challenge/x", "200")
	proof.Proof = true
	assert.Empty(t, proof.Judge("ternrock.example", nil), "a proof stays on HTTP")
	proof = way("GET", "http://ternrock.example/.well-known/acme-challenge/x", "301", s+"/.well-known/acme-challenge/x", "200")
	proof.Proof = true
	assert.Equal(t, []Problem{ProofLost}, proof.Judge("ternrock.example", nil))
	for _, p := range Order {
		assert.NotEmpty(t, p.Words(), p)
		assert.NotEmpty(t, p.Do(), p)
	}
	assert.Len(t, Order, len(problems))
}

func TestInstall(t *testing.T) {
	rule := Rule{Server: "apache", Host: "ternrock.example"}
	php := Rule{Server: "php", Host: "ternrock.example", Proxy: true}
	for _, c := range []struct {
		what   string
		rule   Rule
		before string
		at     string // what stands right before the rules
	}{
		{"an empty file", rule, "", ""},
		{"other people's rules", rule, "# BEGIN cms\nRewriteRule . /index.php [L]\n# END cms\n", ""},
		{"line ends of another kind", rule, "Options -Indexes\r\n", ""},
		{"no line end at the end", rule, "Options -Indexes", ""},
		{"PHP", php, "<?php\n// the first file\nrequire 'x';\n", "<?php\n"},
		{"PHP with a line for the shell", php, "#!/usr/bin/php\n<?php \necho 1;", "#!/usr/bin/php\n<?php \n"},
	} {
		once, err := c.rule.Install(c.before)
		require.NoError(t, err, c.what)
		assert.True(t, strings.HasPrefix(once, c.at), c.what)
		assert.Contains(t, once[len(c.at):][:40], markBegin, c.what)
		assert.Equal(t, strings.Contains(c.before, "\r\n"), strings.Contains(once, "end\r\n"), c.what)
		twice, err := c.rule.Install(once)
		require.NoError(t, err)
		assert.Equal(t, once, twice, "%s: two installs equal one", c.what)
		other := c.rule
		other.HSTS = 300
		changed, err := other.Install(once)
		require.NoError(t, err)
		assert.NotEqual(t, once, changed)
		for _, text := range []string{once, changed} {
			back, was, err := Remove(text)
			require.NoError(t, err)
			assert.True(t, was)
			assert.Equal(t, c.before, back, "%s: removed, byte for byte", c.what)
		}
		assert.Empty(t, Others(once), c.what)
	}
	back, was, err := Remove("nothing of ours\n")
	require.NoError(t, err)
	assert.False(t, was)
	assert.Equal(t, "nothing of ours\n", back)
	for what, c := range map[string]struct {
		rule   Rule
		before string
		say    string
	}{
		"cut in the middle":  {rule, "# " + markBegin + "\nRewriteEngine On\n", "not their end"},
		"no PHP":             {php, "<html>", "does not begin with <?php"},
		"a declaration":      {php, "<?php\ndeclare(strict_types=1);\n", "must stand first"},
		"nginx":              {Rule{Server: "nginx", Host: "ternrock.example"}, "", "put what redirect show prints"},
		"an unknown server":  {Rule{Server: "other", Host: "ternrock.example"}, "", "rules are written for apache, nginx, php"},
		"a path with quotes": {Rule{Server: "apache", Host: "ternrock.example", Paths: []string{`/a" b`}}, "", "write it like /shop/"},
		"a host with quotes": {Rule{Server: "apache", Host: `x" y`}, "", "is no host name"},
	} {
		_, err := c.rule.Install(c.before)
		assert.ErrorContains(t, err, c.say, what)
	}
}

func TestOthers(t *testing.T) {
	file := "RewriteEngine On\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]\n# RewriteRule ^ https://x\nRedirect permanent / https://ternrock.example/\n  return 301 https://$host$request_uri;\nheader('Location: https://ternrock.example');\nRewriteRule . /index.php\n"
	assert.Equal(t, []int{2, 4, 5, 6}, Others(file))
}

func FuzzInstall(f *testing.F) {
	f.Add("RewriteEngine On\n", false)
	f.Add("<?php\necho 1;\n", true)
	f.Add("# "+markBegin+"\n# "+markEnd, false)
	f.Fuzz(func(t *testing.T, file string, php bool) {
		if strings.Contains(file, "trimlantern redirect:") {
			return // marks of ours that we did not write
		}
		rule := Rule{Server: "apache", Host: "ternrock.example"}
		if php {
			rule.Server = "php"
		}
		once, err := rule.Install(file)
		if err != nil {
			return
		}
		twice, err := rule.Install(once)
		require.NoError(t, err)
		require.Equal(t, once, twice)
		back, was, err := Remove(once)
		require.NoError(t, err)
		require.True(t, was)
		require.Equal(t, file, back)
		Others(once)
	})
}
