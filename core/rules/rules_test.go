package rules

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
)

var museum = []Target{{"ternrock.example", []string{"ternrock.example", "www.ternrock.example"}}}

func TestInstall(t *testing.T) {
	rule := Rule{Server: "apache", Targets: museum}
	php := Rule{Server: "php", Targets: museum, Proxy: true}
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
		{"PHP with declarations", php, "<?php\n/** The front file. */\ndeclare( strict_types = 1 ); // strict\n\nnamespace Museum\\Front;\nuse X;\n", "<?php\n/** The front file. */\ndeclare( strict_types = 1 ); // strict\n\nnamespace Museum\\Front;\n"},
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
		assert.Empty(t, c.rule.Others(once), c.what)
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
		"cut in the middle":    {rule, "# " + markBegin + "\nRewriteEngine On\n", "not their end"},
		"no PHP":               {php, "<html>", "does not begin with <?php"},
		"code in braces":       {php, "<?php\nnamespace Museum {\n}\n", "in braces"},
		"behind a declaration": {php, "<?php\ndeclare(strict_types=1); echo 1;\n", "begin a new line"},
		"PHP for Apache":       {rule, "<?php\necho 1;\n", "write php in place of apache"},
		"the whole server":     {rule, "<VirtualHost *:80>\n</VirtualHost>\n", "into each <VirtualHost>"},
		"nginx for Apache":     {rule, "server {\n}\n", "write nginx in place"},
		"Apache for PHP":       {php, "RewriteEngine On\n", "does not begin with <?php"},
		"an unknown server":    {Rule{Server: "other", Targets: museum}, "", "rules are written for apache, nginx, php"},
		"a path with quotes":   {Rule{Server: "apache", Targets: museum, Paths: []string{`/a" b`}}, "", "write it like /shop/"},
		"a host with quotes":   {Rule{Server: "apache", Targets: []Target{{`x" y`, nil}}}, "", "is no host name"},
	} {
		_, err := c.rule.Install(c.before)
		assert.ErrorContains(t, err, c.say, what)
	}
}

// What others redirect is named; what surely clashes is told from what may be meant.
func TestOthers(t *testing.T) {
	rule := Rule{Server: "apache", Targets: museum}
	for file, want := range map[string][]Redirect{
		"RewriteEngine On\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]\n":                                    {{2, "https://%{HTTP_HOST}%{REQUEST_URI}", true}},
		"RewriteCond %{HTTPS} off\nRewriteRule (.*) https://ternrock.example/$1 [R]\n":                                      {{2, "https://ternrock.example/$1", false}},
		"RewriteCond %{HTTP_HOST} ^ternrock\\.example$ [NC]\nRewriteRule ^(.*)$ http://www.ternrock.example/$1 [R=301,L]\n": {{2, "http://www.ternrock.example/$1", true}},
		"RewriteCond %{HTTP_HOST} !^www\\.\nRewriteRule ^(.*)$ https://www.%{HTTP_HOST}/$1 [R=301,L]\n":                     {{2, "https://www.%{HTTP_HOST}/$1", true}},
		"RewriteCond %{HTTP_HOST} !^www\\.\nRewriteCond %{HTTPS} !=on\nRewriteRule ^ http://www.ternrock.example/ [R]\n":    {{3, "http://www.ternrock.example/", false}},
		"RewriteCond %{HTTPS} off [OR]\nRewriteCond %{HTTP_HOST} ^ternrock\nRewriteRule ^ http://x.example/ [R]\n":          {{3, "http://x.example/", true}},
		"RewriteCond %{HTTPS} =on\nRewriteRule ^ http://%{HTTP_HOST}%{REQUEST_URI} [L,R]\n":                                 {{2, "http://%{HTTP_HOST}%{REQUEST_URI}", true}},
		"RewriteCond %{REMOTE_ADDR} ^192\nRewriteRule ^ http://x.example/ [R]\n":                                            {{2, "http://x.example/", false}},
		"RewriteRule ^old/ http://x.example/ [R]\n":                                                                         {{1, "http://x.example/", false}},
		"<If \"true\">\nRewriteRule ^ http://x.example/ [R]\n</If>\n":                                                       {{2, "http://x.example/", false}},
		"<IfModule mod_rewrite.c>\nRewriteRule ^ \\\n  http://x.example/ [R]\n</IfModule>\n":                                {{2, "http://x.example/", true}},
		"Redirect permanent / https://ternrock.example/\n":                                                                  {{1, "https://ternrock.example/", false}},
		"Redirect 301 / http://www.ternrock.example/\n":                                                                     {{1, "http://www.ternrock.example/", true}},
		"RedirectMatch ^/a https://x.example/\n":                                                                            {{1, "https://x.example/", false}},
		"# RewriteRule ^ https://x\nRewriteRule . /index.php [L]\nRedirect 410 /old\n":                                      nil,
	} {
		assert.Equal(t, want, rule.Others(file), file)
	}
	behind := Rule{Server: "apache", Targets: museum, Proxy: true}
	const own = "RewriteCond %{HTTPS} !=on\nRewriteRule ^ https://ternrock.example%{REQUEST_URI} [R=302,L]\n"
	assert.True(t, behind.Others(own)[0].Clash, "behind a proxy that ends TLS it loops")
	assert.False(t, rule.Others(own)[0].Clash)
}

func TestNamed(t *testing.T) {
	for pattern, want := range map[string]string{"^old/(.*)$": "/old/", "^/shop": "/shop", "^shop/?$": "/shop", "^": "", ".": "", "(.*)": "", "^index\\.php$": "/index.php", "/old/page": "/old/page", "!^/visit/": "/visit/", "^(a|b)/": "", "\\.svg$": "/.svg", "-": "/-"} {
		assert.Equal(t, want, literal(pattern), pattern)
	}
	assert.Equal(t, []string{"/old/", "/visit/", "/shop"}, Rule{Server: "apache", Targets: museum}.Named("RewriteRule ^old/(.*)$ /visit/ [R]\nRewriteCond %{REQUEST_URI} ^/shop\nRewriteRule ^ http://%{HTTP_HOST}/ [R]\nRedirect /old/ https://x.example/\n"))
	assert.Equal(t, []string{"/old/", "/shop/", "/a/"}, Rule{Server: "nginx", Targets: museum}.Named("server {\nrewrite ^/old/(.*)$ /visit/ last;\nlocation ^~ /shop/ {\nlocation ~ /a/.*x { }\n}\n}\n"))
}

// A network's sites each keep their own host.
func TestTargets(t *testing.T) {
	parse := func(raw string, also ...string) address.Site {
		s, err := address.Parse(raw, also...)
		require.NoError(t, err)
		return s
	}
	site := parse("https://ternrock.example", "www.ternrock.example").WithSisters(parse("https://shop.ternrock.example"), parse("https://beacon.example", "www.beacon.example"))
	assert.Equal(t, []Target{{"ternrock.example", []string{"ternrock.example", "www.ternrock.example"}}, {"shop.ternrock.example", []string{"shop.ternrock.example"}},
		{"beacon.example", []string{"beacon.example", "www.beacon.example"}}}, TargetsOf(site))
	folders := parse("https://ternrock.example/museum").WithSisters(parse("https://ternrock.example/shop"))
	assert.Len(t, TargetsOf(folders), 1)
}

func TestNginx(t *testing.T) {
	const file = `# server { server_name ternrock.example; }
http {
	server { # plain
		listen 80;
		server_name www.ternrock.example "ternrock.example";
		location / { try_files $uri /index.php; }
		location ~ \.css$ {
			add_header Cache-Control "max-age=60; public";
		}
	}
	server {
		server_name other.example;
	}
	server {
		listen 443 ssl;
		server_name ~^(www\.)?ternrock\.example$;
		location /media/ {
			if ($x = "}") {
				add_header X-A ${b};
			}
		}
	}
}
`
	rule := Rule{Server: "nginx", Targets: museum, HSTS: 300}
	once, err := rule.Install(file)
	require.NoError(t, err)
	assert.Equal(t, 4, strings.Count(once, markBegin), "two servers, and two places with headers of their own: %s", once)
	assert.Equal(t, 2, strings.Count(once, "return 301"))
	twice, err := rule.Install(once)
	require.NoError(t, err)
	assert.Equal(t, once, twice)
	back, was, err := Remove(once)
	require.NoError(t, err)
	assert.True(t, was)
	assert.Equal(t, file, back)
	for text, say := range map[string]string{
		"server { server_name other.example; }":    "no server block",
		"server { server_name ternrock.example; }": "begin a new line",
		"": "no server block",
	} {
		_, err := rule.Install(text)
		assert.ErrorContains(t, err, say, text)
	}
}

func FuzzInstall(f *testing.F) {
	f.Add("RewriteEngine On\n", false)
	f.Add("<?php\necho 1;\n", true)
	f.Add("# "+markBegin+"\n# "+markEnd, false)
	f.Fuzz(func(t *testing.T, file string, php bool) {
		if strings.Contains(file, "trimlantern redirect:") {
			return // marks of ours that we did not write
		}
		rule := Rule{Server: "apache", Targets: museum}
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
		rule.Others(once)
		ParseNginx(file)
	})
}
