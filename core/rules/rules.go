// Package rules writes the server rules that redirect every address of a site to its secure one in a single
// step, puts them into a server's file and takes them out again, and reads the directives that are there
// already: Apache's, nginx's, and where PHP code may stand.
package rules

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"trimlantern/core/address"
	"trimlantern/core/hops"
)

// Rule is the redirect that a site needs, and each of its sisters.
type Rule struct {
	Server  string   // one of Servers
	Targets []Target // each name of the site and its sisters, and where it leads; other names are left alone
	Proxy   bool     // TLS ends at a proxy in front, which says so in a header
	Says    []string // the headers in which it says so, where they are other than the usual ones
	Paths   []string // only these folders or pages; empty: the whole site
	HSTS    int      // seconds for which browsers shall remember; 0: none
	Safety  bool     // a Content-Security-Policy that lets browsers upgrade what is left
}

// Target is one host that visitors end up on, and the names that lead there, its own among them.
type Target struct {
	Host  string
	Names []string
}

// TargetsOf returns the targets of a site and its sisters. Sites in folders of one host share one.
func TargetsOf(site address.Site) (targets []Target) {
	at := map[string]int{}
	taken := map[string]bool{}
	for _, one := range site.Network() {
		i, ok := at[one.Host]
		if !ok {
			i = len(targets)
			at[one.Host] = i
			targets = append(targets, Target{Host: one.Host})
		}
		for _, n := range one.Hosts() {
			if !taken[n] {
				taken[n] = true
				targets[i].Names = append(targets[i].Names, n)
			}
		}
	}
	return targets
}

// Servers are what rules can be written for: "php" is a front file for hosts that
// offer neither of the others.
var Servers = []string{"apache", "nginx", "php"}

// The lines that mark the rules, so that they are found again.
const (
	markBegin = "trimlantern redirect: begin"
	markEnd   = "trimlantern redirect: end"
)

var (
	plainPath = regexp.MustCompile(`^/[A-Za-z0-9._~/-]*$`)
	plainHost = regexp.MustCompile(`^[a-z0-9._:-]+$`)

	plainHeader = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]{0,99}$`)
)

// check says what of a rule cannot be written.
func (r Rule) check() error {
	for _, p := range r.Paths {
		if !plainPath.MatchString(p) {
			return fmt.Errorf("the path %q: write it like /shop/, in letters, digits and . _ ~ -", p)
		}
	}
	if len(r.Targets) == 0 {
		return errors.New("no host is named")
	}
	for _, t := range r.Targets {
		for _, n := range append([]string{t.Host}, t.Names...) {
			if !plainHost.MatchString(n) {
				return fmt.Errorf("%q is no host name", n)
			}
		}
	}
	for _, h := range r.Says {
		if !plainHeader.MatchString(h) {
			return fmt.Errorf("%q cannot be the name of a header: write it like X-Forwarded-Proto, in letters, digits and dashes", h)
		}
	}
	return nil
}

// Text returns the rules as they stand in a file, between their marks.
func (r Rule) Text() (string, error) {
	if err := r.check(); err != nil {
		return "", err
	}
	lines := map[string]func() []string{"apache": r.apache, "nginx": r.nginx, "php": r.php}[r.Server]
	if lines == nil {
		return "", errors.New("rules are written for " + strings.Join(Servers, ", "))
	}
	return r.between(lines()), nil
}

// between puts lines between the marks.
func (r Rule) between(lines []string) string {
	comment := "# "
	if r.Server == "php" {
		comment = "// "
	}
	body := append([]string{comment + markBegin}, lines...)
	return strings.Join(append(body, comment+markEnd), "\n") + "\n"
}

// alternatives returns literal beginnings as a part of a regular expression.
func alternatives(literals []string) string {
	var out []string
	for _, l := range literals {
		out = append(out, regexp.QuoteMeta(strings.TrimSuffix(l, "/")))
	}
	return "(?:" + strings.Join(out, "|") + ")"
}

// The addresses that are left out or alone meant are told from the request as the visitor sent it: what the
// server makes of it inside is no matter.
var proofs = alternatives(hops.ProofFolders) + "(?:/|$)"

func (r Rule) paths() string { return alternatives(r.Paths) }

// saysHTTP and saysHTTPS are the ways in which a proxy tells how the visitor came: the header and what it
// says (X-Forwarded-…, and RFC 7239). Of several proxies the first one counts. None of them holds a quote or
// a blank, which each server would read in its own way.
var (
	saysHTTP = [][2]string{{"X-Forwarded-Proto", `^\s*http\s*(?:,|$)`}, {"Forwarded", `^[^,]*\bproto=\W?http\W?(?:[;,\s]|$)`},
		{"X-Forwarded-Ssl", `^\s*off`}, {"X-Forwarded-Port", `^\s*80\s*(?:,|$)`}, {"X-Forwarded-Scheme", `^\s*http\s*(?:,|$)`}, {"Front-End-Https", `^\s*off`}}
	saysHTTPS = [][2]string{{"X-Forwarded-Proto", `^\s*https\s*(?:,|$)`}, {"Forwarded", `^[^,]*\bproto=\W?https\W?(?:[;,\s]|$)`},
		{"X-Forwarded-Ssl", `^\s*on`}, {"X-Forwarded-Port", `^\s*443\s*(?:,|$)`}, {"X-Forwarded-Scheme", `^\s*https\s*(?:,|$)`}, {"Front-End-Https", `^\s*on`}}
)

// What a header of another name says: the scheme as a word, also inside of JSON, a yes or no, or a port.
//
//	https, http
//	{"scheme":"https"}
//	on
const (
	anyHTTP  = `^\s*(?:(?:off|no|false|0|80)\s*(?:[,;]|$)|\{.*\bhttp\b|[^{,]*\bhttp\b)`
	anyHTTPS = `^\s*(?:(?:on|yes|true|1|443)\s*(?:[,;]|$)|\{.*\bhttps\b|[^{,]*\bhttps\b)`
)

// says returns the headers and what they say of a visitor who came over HTTP, and over HTTPS.
func (r Rule) says() (http, https [][2]string) {
	if len(r.Says) == 0 {
		return saysHTTP, saysHTTPS
	}
	for _, h := range r.Says {
		http, https = append(http, [2]string{h, anyHTTP}), append(https, [2]string{h, anyHTTPS})
	}
	return http, https
}

// Told returns the headers by which a proxy of any usual kind says over which scheme a visitor came.
func Told(scheme string) map[string][]string {
	yes, port := "off", "80"
	if scheme == "https" {
		yes, port = "on", "443"
	}
	return map[string][]string{"X-Forwarded-Proto": {scheme}, "Forwarded": {"proto=" + scheme}, "X-Forwarded-Ssl": {yes}, "X-Forwarded-Port": {port},
		"X-Forwarded-Scheme": {scheme}, "Front-End-Https": {yes}}
}

// headers are what goes along with secure answers.
func (r Rule) headers() (out [][2]string) {
	if r.HSTS > 0 {
		out = append(out, [2]string{"Strict-Transport-Security", fmt.Sprintf("max-age=%d", r.HSTS)})
	}
	if r.Safety {
		out = append(out, [2]string{"Content-Security-Policy", "upgrade-insecure-requests"})
	}
	return out
}

// HeaderNames returns the names of the headers that go along with secure answers.
func (r Rule) HeaderNames() (names []string) {
	for _, h := range r.headers() {
		names = append(names, h[0])
	}
	return names
}

// apache writes the rules for mod_rewrite. Behind a proxy a visitor is redirected only where the proxy says
// that they came over HTTP: without the header nothing happens, and nothing loops.
func (r Rule) apache() []string {
	out := []string{"<IfModule mod_rewrite.c>", "\tRewriteEngine On"}
	saysHTTP, saysHTTPS := r.says()
	if r.Proxy {
		out = append(out, "\tRewriteRule ^ - [E=TO_HTTPS:]")
		for _, h := range saysHTTP {
			out = append(out, fmt.Sprintf("\tRewriteCond %%{HTTP:%s} \"%s\" [NC]", h[0], h[1]), "\tRewriteRule ^ - [E=TO_HTTPS:1]")
		}
		for _, h := range saysHTTPS {
			out = append(out, fmt.Sprintf("\tRewriteCond %%{HTTP:%s} \"%s\" [NC]", h[0], h[1]), "\tRewriteRule ^ - [E=TO_HTTPS:]")
		}
	}
	const asked = `%{THE_REQUEST} `
	const line = `^\S+ (?:https?://[^/ ]+)?`
	for _, t := range r.Targets {
		for _, m := range []struct{ methods, status string }{{"^(?:GET|HEAD)$", "301"}, {"!^(?:GET|HEAD)$", "308"}} {
			out = append(out, "\tRewriteCond %{REQUEST_METHOD} "+m.methods,
				"\tRewriteCond %{HTTP_HOST} ^"+alternatives(t.Names)+`\.?(?::[0-9]+)?$ [NC]`,
				"\tRewriteCond "+asked+`"!`+line+alternatives(hops.ProofFolders)+`(?:[/? ]|$)"`)
			if len(r.Paths) > 0 {
				out = append(out, "\tRewriteCond "+asked+`"`+line+r.paths()+`(?:[/? ]|$)"`)
			}
			insecure := "\tRewriteCond %{HTTPS} !=on"
			if r.Proxy {
				insecure = "\tRewriteCond %{ENV:TO_HTTPS} =1"
			}
			if len(t.Names) > 1 {
				out = append(out, insecure+" [OR]", "\tRewriteCond %{HTTP_HOST} !^"+regexp.QuoteMeta(t.Host)+"(?::[0-9]+)?$ [NC]")
			} else {
				out = append(out, insecure)
			}
			// The path as it was typed, letter by letter; the query is added by itself.
			out = append(out, "\tRewriteCond "+asked+`"`+line+`(/[^ ?]*)"`, "\tRewriteRule ^ https://"+t.Host+"%1 [R="+m.status+",L,NE]")
		}
	}
	out = append(out, "</IfModule>")
	secure := "%{HTTPS} == 'on'"
	if r.Proxy { // the system behind must know that the visitor came over HTTPS
		out = append(out, "<IfModule mod_setenvif.c>")
		for _, h := range saysHTTPS {
			out = append(out, fmt.Sprintf("\tSetEnvIfNoCase %s \"%s\" HTTPS=on", h[0], h[1]))
		}
		out = append(out, "</IfModule>")
		secure = "reqenv('HTTPS') == 'on'"
	}
	var headers []string
	for _, h := range r.headers() {
		headers = append(headers, fmt.Sprintf("\tHeader always set %s %q \"expr=%s\"", h[0], h[1], secure))
	}
	if headers != nil {
		out = append(append(append(out, "<IfModule mod_headers.c>"), headers...), "</IfModule>")
	}
	return out
}

// nginx writes the rules for a server block. Variables that stay empty make no header.
func (r Rule) nginx() []string {
	out := []string{"# inside each server block of the site, for port 80 and for port 443",
		`set $to_https "";`, `set $to_host "";`, `set $is_https "";`}
	for _, t := range r.Targets {
		out = append(out, `if ($host ~* "^`+alternatives(t.Names)+`$") { set $to_host "`+t.Host+`"; }`)
	}
	if r.Proxy {
		saysHTTP, saysHTTPS := r.says()
		variable := func(header string) string {
			return "$http_" + strings.ToLower(strings.ReplaceAll(header, "-", "_"))
		}
		for _, h := range saysHTTP {
			out = append(out, fmt.Sprintf(`if (%s ~* %s) { set $to_https "1"; }`, variable(h[0]), nginxQuoted(h[1])))
		}
		for _, h := range saysHTTPS {
			out = append(out, fmt.Sprintf(`if (%s ~* %s) { set $is_https "1"; }`, variable(h[0]), nginxQuoted(h[1])))
		}
		out = append(out, `if ($is_https) { set $to_https ""; }`, `set $told_https "";`, `if ($is_https) { set $told_https "on"; }`)
	} else {
		out = append(out, `if ($scheme = "https") { set $is_https "1"; }`, `if ($scheme = "http") { set $to_https "1"; }`)
	}
	out = append(out, `if ($host != $to_host) { set $to_https "1"; }`,
		`if ($to_host = "") { set $to_https ""; }`,
		`if ($request_uri ~ "^`+strings.Replace(proofs, "(?:/|$)", "(?:[/?]|$)", 1)+`") { set $to_https ""; }`)
	if len(r.Paths) > 0 {
		out = append(out, `if ($request_uri !~ "^`+r.paths()+`(?:[/?]|$)") { set $to_https ""; }`)
	}
	out = append(out, `set $to_https "$to_https$request_method";`,
		`if ($to_https ~ "^1(?:GET|HEAD)$") { return 301 https://$to_host$request_uri; }`,
		`if ($to_https ~ "^1") { return 308 https://$to_host$request_uri; }`)
	for i, h := range r.headers() {
		out = append(out, fmt.Sprintf(`set $secure_%d "";`, i), fmt.Sprintf(`if ($is_https) { set $secure_%d %q; }`, i, h[1]))
	}
	return append(out, r.nginxHeaders()...)
}

// nginxInside are the lines that a location needs of its own: headers where it has some already, and what
// tells PHP behind a proxy that the visitor came over HTTPS.
func (r Rule) nginxInside(location NginxDirective) (out []string) {
	has := func(name string) bool {
		return slices.ContainsFunc(location.Inside, func(d NginxDirective) bool { return d.Name == name })
	}
	if has("add_header") {
		out = r.nginxHeaders()
	}
	if r.Proxy && has("fastcgi_pass") {
		out = append(out, "fastcgi_param HTTPS $told_https if_not_empty;")
	}
	return out
}

// nginxHeaders are the lines that each location with an add_header of its own needs too: nginx inherits
// none of them there.
func (r Rule) nginxHeaders() (out []string) {
	for i, h := range r.headers() {
		out = append(out, fmt.Sprintf("add_header %s $secure_%d always;", h[0], i))
	}
	return out
}

// nginxQuoted quotes a regular expression; none of ours holds a '.
func nginxQuoted(re string) string { return "'" + re + "'" }

func (r Rule) php() []string {
	out := []string{"// before everything else in the first file that runs",
		"(static function () {", "\t$host = preg_replace('/\\.?(?::[0-9]+)?$/', '', strtolower($_SERVER['HTTP_HOST'] ?? ''));"}
	var hosts []string
	for _, t := range r.Targets {
		for _, n := range t.Names {
			hosts = append(hosts, "'"+n+"' => '"+t.Host+"'")
		}
	}
	out = append(out, "\t$to = ["+strings.Join(hosts, ", ")+"][$host] ?? null;")
	if r.Proxy {
		saysHTTP, saysHTTPS := r.says()
		says := func(how [][2]string) string {
			var all []string
			for _, h := range how {
				all = append(all, "'HTTP_"+strings.ToUpper(strings.ReplaceAll(h[0], "-", "_"))+"' => '/"+strings.ReplaceAll(h[1], "/", `\/`)+"/i'")
			}
			return "[" + strings.Join(all, ", ") + "]"
		}
		out = append(out, "\t$says = static function (array $how) {",
			"\t\tforeach ($how as $name => $as) if (preg_match($as, $_SERVER[$name] ?? '')) return true;", "\t\treturn false;", "\t};",
			"\t$secure = $says("+says(saysHTTPS)+");",
			"\t$insecure = !$secure && $says("+says(saysHTTP)+");",
			"\tif ($secure) $_SERVER['HTTPS'] = 'on';")
	} else {
		out = append(out, "\t$secure = !empty($_SERVER['HTTPS']) && $_SERVER['HTTPS'] !== 'off';", "\t$insecure = !$secure;")
	}
	out = append(out, "\t$uri = preg_replace('#^https?://[^/]*#i', '', $_SERVER['REQUEST_URI'] ?? '/');",
		"\t$path = rawurldecode(explode('?', $uri, 2)[0]);",
		"\t$apart = PHP_SAPI === 'cli' || preg_match('#^"+proofs+"#', $path);")
	if len(r.Paths) > 0 {
		out = append(out, "\t$apart = $apart || !preg_match('#^"+r.paths()+"(?:/|$)#', $path);")
	}
	out = append(out, "\tif ($to !== null && !$apart && ($insecure || $host !== $to)) {",
		"\t\t$get = in_array($_SERVER['REQUEST_METHOD'] ?? 'GET', ['GET', 'HEAD'], true);",
		"\t\theader('Location: https://' . $to . '/' . ltrim($uri, '/'), true, $get ? 301 : 308);",
		"\t\texit;", "\t}")
	for _, h := range r.headers() {
		out = append(out, "\tif ($secure) header('"+h[0]+": "+h[1]+"');")
	}
	return append(out, "})();")
}
