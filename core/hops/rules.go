package hops

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Rule is the redirect that a site needs.
type Rule struct {
	Server string   // one of Servers
	Host   string   // the one name that everybody ends up on; an address's host, checked
	Proxy  bool     // TLS ends at a proxy in front, which says so in X-Forwarded-Proto
	Paths  []string // only these folders or pages; empty: the whole site
	HSTS   int      // seconds for which browsers shall remember; 0: none
	Safety bool     // a Content-Security-Policy that lets browsers upgrade what is left
}

// Servers are what rules can be written for: "php" is a front file for hosts that
// offer neither of the others.
var Servers = []string{"apache", "nginx", "php"}

// The lines that mark the rules, so that they are found again.
const (
	markBegin = "trimlantern redirect: begin"
	markEnd   = "trimlantern redirect: end"
)

var plainPath = regexp.MustCompile(`^/[A-Za-z0-9._~/-]*$`)

// Text returns the rules as they stand in a file, between their marks.
func (r Rule) Text() (string, error) {
	for _, p := range r.Paths {
		if !plainPath.MatchString(p) {
			return "", fmt.Errorf("the path %q: write it like /shop/, in letters, digits and . _ ~ -", p)
		}
	}
	if !regexp.MustCompile(`^[a-z0-9.-]+$`).MatchString(r.Host) {
		return "", fmt.Errorf("%q is no host name", r.Host)
	}
	lines := map[string]func() []string{"apache": r.apache, "nginx": r.nginx, "php": r.php}[r.Server]
	if lines == nil {
		return "", errors.New("rules are written for " + strings.Join(Servers, ", "))
	}
	comment := "# "
	if r.Server == "php" {
		comment = "// "
	}
	body := append([]string{comment + markBegin}, lines()...)
	return strings.Join(append(body, comment+markEnd), "\n") + "\n", nil
}

// alternatives returns literal beginnings as a part of a regular expression.
func alternatives(literals []string) string {
	var out []string
	for _, l := range literals {
		out = append(out, regexp.QuoteMeta(strings.TrimSuffix(l, "/")))
	}
	return "^(?:" + strings.Join(out, "|") + ")(?:/|$)"
}

var proofs = alternatives(ProofFolders)

func (r Rule) apache() []string {
	insecure := "RewriteCond %{HTTPS} !=on [OR]"
	if r.Proxy {
		insecure = "RewriteCond %{HTTP:X-Forwarded-Proto} !=https [OR]"
	}
	when := func(methods string) []string {
		out := []string{"\tRewriteCond %{REQUEST_METHOD} " + methods, "\tRewriteCond %{REQUEST_URI} !" + proofs}
		if len(r.Paths) > 0 {
			out = append(out, "\tRewriteCond %{REQUEST_URI} "+alternatives(r.Paths))
		}
		return append(out, "\t"+insecure, fmt.Sprintf("\tRewriteCond %%{HTTP_HOST} !^%s(?::[0-9]+)?$ [NC]", regexp.QuoteMeta(r.Host)),
			// The path as it was typed, letter by letter; the query is added by itself.
			`	RewriteCond %{THE_REQUEST} "^\S+ (?:https?://[^/ ]+)?(/[^ ?]*)"`)
	}
	out := []string{"<IfModule mod_rewrite.c>", "\tRewriteEngine On"}
	out = append(append(out, when("^(?:GET|HEAD)$")...), "\tRewriteRule ^ https://"+r.Host+"%1 [R=301,L,NE]")
	out = append(append(out, when("!^(?:GET|HEAD)$")...), "\tRewriteRule ^ https://"+r.Host+"%1 [R=308,L,NE]", "</IfModule>")
	if r.Proxy { // the system behind must know that the visitor came over HTTPS
		out = append(out, "<IfModule mod_setenvif.c>", "\tSetEnvIf X-Forwarded-Proto ^https$ HTTPS=on", "</IfModule>")
	}
	secure := "%{HTTPS} == 'on'"
	if r.Proxy {
		secure = "%{HTTP:X-Forwarded-Proto} == 'https'"
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

func (r Rule) nginx() []string {
	scheme := "$scheme"
	if r.Proxy {
		scheme = "$http_x_forwarded_proto"
	}
	out := []string{"# inside each server block of the site, for port 80 and for port 443",
		`set $to_https "";`,
		"if (" + scheme + ` != "https") { set $to_https "1"; }`,
		`if ($host != "` + r.Host + `") { set $to_https "1"; }`,
		`if ($uri ~ "` + proofs + `") { set $to_https ""; }`}
	if len(r.Paths) > 0 {
		out = append(out, `if ($uri !~ "`+alternatives(r.Paths)+`") { set $to_https ""; }`)
	}
	out = append(out, `set $to_https "$to_https$request_method";`,
		`if ($to_https ~ "^1(?:GET|HEAD)$") { return 301 https://`+r.Host+`$request_uri; }`,
		`if ($to_https ~ "^1") { return 308 https://`+r.Host+`$request_uri; }`)
	for _, h := range r.headers() {
		out = append(out, fmt.Sprintf("add_header %s %q always;", h[0], h[1]))
	}
	return out
}

func (r Rule) php() []string {
	secure := `!empty($_SERVER['HTTPS']) && $_SERVER['HTTPS'] !== 'off'`
	if r.Proxy {
		secure = `($_SERVER['HTTP_X_FORWARDED_PROTO'] ?? '') === 'https'`
	}
	out := []string{"// in front of everything else in the first file that runs, behind its <?php",
		"(static function () {", "\t$secure = " + secure + ";"}
	if r.Proxy {
		out = append(out, "\tif ($secure) $_SERVER['HTTPS'] = 'on';")
	}
	out = append(out,
		"\t$host = strtolower(preg_replace('/:[0-9]+$/', '', $_SERVER['HTTP_HOST'] ?? ''));",
		"\t$uri = preg_replace('#^https?://[^/]*#i', '', $_SERVER['REQUEST_URI'] ?? '/');",
		"\t$path = rawurldecode(strtok($uri, '?'));",
		"\tif (preg_match('#"+proofs+"#', $path)) return;")
	if len(r.Paths) > 0 {
		out = append(out, "\tif (!preg_match('#"+alternatives(r.Paths)+"#', $path)) return;")
	}
	out = append(out,
		"\tif (!$secure || $host !== '"+r.Host+"') {",
		"\t\t$get = in_array($_SERVER['REQUEST_METHOD'] ?? 'GET', ['GET', 'HEAD'], true);",
		"\t\theader('Location: https://"+r.Host+"' . '/' . ltrim($uri, '/'), true, $get ? 301 : 308);",
		"\t\texit;", "\t}")
	for _, h := range r.headers() {
		out = append(out, "\theader('"+h[0]+": "+h[1]+"');")
	}
	return append(out, "})();")
}

// marked finds the marked block in a file: from the line of its begin to that of
// its end, both included.
func marked(text string) (start, end int, err error) {
	start = strings.Index(text, markBegin)
	if start < 0 {
		return -1, -1, nil
	}
	start = strings.LastIndexByte(text[:start], '\n') + 1
	end = strings.Index(text[start:], markEnd)
	if end < 0 {
		return 0, 0, errors.New("holds the beginning of our rules, and not their end: mend it by hand")
	}
	end += start
	if nl := strings.IndexByte(text[end:], '\n'); nl >= 0 {
		return start, end + nl + 1, nil
	}
	return start, len(text), nil
}

// Install puts rules into the text of a file, at the place where they count: first
// of all, or in PHP behind its opening tag. Rules that are there already are
// replaced where they stand. The line ends of the file are kept.
func (r Rule) Install(file string) (string, error) {
	rules, err := r.Text()
	if err != nil {
		return "", err
	}
	if r.Server == "nginx" {
		return "", errors.New("nginx has no file of its own for a site: put what redirect show prints into its server blocks")
	}
	if strings.Contains(file, "\r\n") {
		rules = strings.ReplaceAll(rules, "\n", "\r\n")
	}
	start, end, err := marked(file)
	if err != nil {
		return "", err
	}
	if start >= 0 {
		return file[:start] + rules + file[end:], nil
	}
	at := 0
	if r.Server == "php" {
		open := regexp.MustCompile(`(?i)^(?:\xEF\xBB\xBF)?(?:#![^\n]*\n)?<\?php[ \t]*\r?\n`).FindStringIndex(file)
		if open == nil {
			return "", errors.New("does not begin with <?php and a line end: name the first PHP file that runs")
		}
		if strings.Contains(file, "declare(strict_types") {
			return "", errors.New("begins with a declaration that must stand first: put what redirect show prints behind it by hand")
		}
		at = open[1]
	}
	return file[:at] + rules + file[at:], nil
}

// Remove takes the rules out of the text of a file; it reports whether they were
// there.
func Remove(file string) (string, bool, error) {
	start, end, err := marked(file)
	if err != nil || start < 0 {
		return file, false, err
	}
	return file[:start] + file[end:], true, nil
}

// others find redirects to HTTPS that are not ours.
var others = []*regexp.Regexp{
	regexp.MustCompile(`(?i)^\s*RewriteRule\s+\S+\s+"?https://\S*.*\bR\b`),
	regexp.MustCompile(`(?i)^\s*RewriteRule\s+\S+\s+"?https://`),
	regexp.MustCompile(`(?i)^\s*Redirect(?:Match|Permanent|Temp)?\s.*\bhttps://`),
	regexp.MustCompile(`(?i)^\s*(?:return|rewrite)\s.*\bhttps://`),
	regexp.MustCompile(`(?i)header\s*\(\s*['"]Location:\s*https://`),
}

// Others returns the lines of a file, from 1, that redirect to HTTPS without being
// ours: two redirects at once are a known trap.
func Others(file string) (lines []int) {
	start, end, err := marked(file)
	at := 0
	for i, line := range strings.SplitAfter(file, "\n") {
		ours := err == nil && start >= 0 && at >= start && at < end
		if !ours && slices.ContainsFunc(others, func(re *regexp.Regexp) bool { return re.MatchString(line) }) {
			lines = append(lines, i+1)
		}
		at += len(line)
	}
	return lines
}
