package rules

import (
	"regexp"
	"slices"
	"strings"
)

// ApacheDirective is one directive of an Apache configuration.
type ApacheDirective struct {
	Name string   // lower case; a section's begins with "<"
	Args []string // without quotes
	Line int      // from 1
	In   []string // the sections around it, as "<name args"
}

// ParseApache reads the directives of an .htaccess, or of another file of the server.
func ParseApache(text string) (out []ApacheDirective) {
	var in []string
	deeper := 0 // sections that are open and too deep
	lines := strings.Split(text, "\n")
	for i := 0; i < len(lines); i++ {
		first := i
		line := strings.TrimRight(lines[i], "\r")
		if strings.HasSuffix(line, `\`) && i+1 < len(lines) {
			var joined strings.Builder
			for strings.HasSuffix(line, `\`) && i+1 < len(lines) {
				joined.WriteString(strings.TrimSuffix(line, `\`))
				i++
				line = strings.TrimRight(lines[i], "\r")
			}
			joined.WriteString(line)
			line = joined.String()
		}
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
			continue
		case strings.HasPrefix(line, "</"):
			if deeper > 0 {
				deeper--
			} else if len(in) > 0 {
				in = in[:len(in)-1]
			}
			continue
		}
		section := line[0] == '<'
		words := apacheWords(strings.TrimSuffix(line, ">"))
		if !section {
			words = apacheWords(line)
		}
		if len(words) == 0 {
			continue
		}
		d := ApacheDirective{Name: strings.ToLower(words[0]), Args: words[1:], Line: first + 1, In: slices.Clone(in)}
		out = append(out, d)
		if section && len(in) == maxSections {
			deeper++
		} else if section {
			in = append(in, d.Name+" "+strings.Join(d.Args, " "))
		}
	}
	return out
}

// maxSections bounds how many sections around a directive are kept: no server's configuration has hundreds of <IfModule a>
// in each other.
const maxSections = 50

// apacheWords splits a line as the server does: at blanks outside of quotes.
func apacheWords(line string) (words []string) {
	for line = strings.TrimSpace(line); line != ""; line = strings.TrimSpace(line) {
		if q := line[0]; q == '"' || q == '\'' {
			var out strings.Builder
			i := 1
			for ; i < len(line) && line[i] != q; i++ {
				if line[i] == '\\' && i+1 < len(line) && (line[i+1] == q || line[i+1] == '\\') {
					i++
				}
				out.WriteByte(line[i])
			}
			words = append(words, out.String())
			line = line[min(i+1, len(line)):]
			continue
		}
		i := strings.IndexAny(line, " \t")
		if i < 0 {
			i = len(line)
		}
		words = append(words, line[:i])
		line = line[i:]
	}
	return words
}

// Redirect is a redirect in the file that is not ours.
type Redirect struct {
	Line  int    `json:"line"`
	To    string `json:"to"`    // as it is written
	Clash bool   `json:"clash"` // it takes secure visitors of the site's own name away again: with our rules that is a loop
}

// Others returns the redirects of an Apache file that are not ours, and whether they clash with the rules.
func (r Rule) Others(file string) (out []Redirect) {
	ours, err := marked(file)
	if err != nil {
		return nil
	}
	starts := []int{0}
	for i := range file {
		if file[i] == '\n' {
			starts = append(starts, i+1)
		}
	}
	var conds []ApacheDirective
	for _, d := range ParseApache(file) {
		at := starts[d.Line-1]
		if slices.ContainsFunc(ours, func(s span) bool { return at >= s.from && at < s.to }) {
			continue
		}
		switch d.Name {
		case "rewritecond":
			conds = append(conds, d)
		case "rewriterule":
			if to, ok := redirects(d); ok {
				out = append(out, Redirect{d.Line, to, slices.ContainsFunc(r.Targets, func(t Target) bool { return r.clashes(d, conds, t.Host, to) })})
			}
			conds = nil
		case "redirect", "redirectpermanent", "redirectmatch", "redirecttemp":
			args := d.Args
			if d.Name == "redirect" || d.Name == "redirectmatch" {
				if len(args) == 3 {
					args = args[1:]
				}
			}
			if len(args) != 2 || !absolute(args[1]) {
				continue
			}
			away := len(d.In) == 0 && slices.Contains([]string{"/", "^", "^/", "(.*)", "^(.*)$", "^/(.*)$"}, args[0]) &&
				slices.ContainsFunc(r.Targets, func(t Target) bool { return leaves(args[1], t.Host) })
			out = append(out, Redirect{d.Line, args[1], away})
		}
	}
	return out
}

func absolute(to string) bool {
	return len(to) > 7 && (strings.EqualFold(to[:7], "http://") || len(to) > 8 && strings.EqualFold(to[:8], "https://"))
}

// redirects reports whether a RewriteRule sends visitors to an absolute address.
func redirects(d ApacheDirective) (to string, ok bool) {
	if len(d.Args) < 2 || !absolute(d.Args[1]) {
		return "", false
	}
	return d.Args[1], true
}

// leaves reports whether a target is outside the secure host, as far as that can be told.
func leaves(to, host string) bool {
	scheme, rest, _ := strings.Cut(to, "://")
	rest = strings.NewReplacer("%{HTTP_HOST}", host, "%{SERVER_NAME}", host).Replace(rest)
	end := strings.IndexAny(rest, "/?#$%")
	name, open := rest, false
	if end >= 0 {
		name, open = rest[:end], strings.IndexByte("$%", rest[end]) >= 0 && !strings.HasPrefix(rest, host)
	}
	if strings.EqualFold(scheme, "http") {
		return true
	}
	return !open && !strings.EqualFold(strings.TrimSuffix(name, ":443"), host)
}

// clashes reports whether a rule certainly redirects a visitor of https://host: elsewhere, or to the same
// address over and over.
func (r Rule) clashes(d ApacheDirective, conds []ApacheDirective, host, to string) bool {
	if !leaves(to, host) && !strings.Contains(to, "%{REQUEST_URI}") && !strings.Contains(to, "$1") || slices.ContainsFunc(d.In, func(s string) bool { return !strings.HasPrefix(s, "<ifmodule") }) {
		return false
	}
	if re, err := regexp.Compile(strings.TrimPrefix(d.Args[0], "!")); err != nil || re.MatchString("visit/") == strings.HasPrefix(d.Args[0], "!") {
		return false
	}
	met := true
	for i := 0; i < len(conds); i++ {
		any := r.holds(conds[i], host)
		for i+1 < len(conds) && orNext(conds[i]) {
			i++
			any = any || r.holds(conds[i], host)
		}
		met = met && any
	}
	return met
}

func flags(d ApacheDirective) string {
	if len(d.Args) < 3 {
		return ""
	}
	return "," + strings.ToUpper(strings.Trim(d.Args[2], "[]")) + ","
}

func orNext(d ApacheDirective) bool {
	return strings.Contains(flags(d), ",OR,") || strings.Contains(flags(d), ",ORNEXT,")
}

// holds reports whether a condition certainly holds for a visitor who asks for https://host/visit/.
func (r Rule) holds(d ApacheDirective, host string) bool {
	if len(d.Args) < 2 {
		return false
	}
	https, port, scheme := "on", "443", "https"
	if r.Proxy { // which speaks plain HTTP to the server, and says how the visitor came
		https, port, scheme = "off", "80", "http"
	}
	value, known := map[string]string{"%{HTTPS}": https, "%{HTTP_HOST}": host, "%{SERVER_NAME}": host, "%{SERVER_PORT}": port, "%{REQUEST_SCHEME}": scheme, "%{HTTP:X-FORWARDED-PROTO}": "https",
		"%{REQUEST_URI}": "/visit/", "%{REQUEST_METHOD}": "GET", "%{QUERY_STRING}": ""}[strings.ToUpper(d.Args[0])]
	if !known {
		return false
	}
	pattern, not := d.Args[1], false
	if strings.HasPrefix(pattern, "!") {
		pattern, not = pattern[1:], true
	}
	nocase := strings.Contains(flags(d), ",NC,") || strings.Contains(flags(d), ",NOCASE,")
	if strings.HasPrefix(pattern, "=") {
		same := value == pattern[1:] || nocase && strings.EqualFold(value, pattern[1:])
		return same != not
	}
	if strings.HasPrefix(pattern, "-") || strings.HasPrefix(pattern, "<") || strings.HasPrefix(pattern, ">") {
		return false
	}
	if nocase {
		pattern = "(?i)" + pattern
	}
	re, err := regexp.Compile(pattern)
	return err == nil && re.MatchString(value) != not
}
