package rules

import (
	"slices"
	"strings"
)

// maxNamed bounds the paths that a file names.
const maxNamed = 16

// Named returns the literal paths that a server file's directives mention: the server may treat them
// differently.
func (r Rule) Named(file string) (paths []string) {
	add := func(pattern string) {
		p := literal(pattern)
		if p != "" && p != "/" && !slices.Contains(paths, p) && len(paths) < maxNamed {
			paths = append(paths, p)
		}
	}
	file, _, err := Remove(file)
	if err != nil {
		return nil
	}
	switch r.Server {
	case "apache":
		for _, d := range ParseApache(file) {
			switch d.Name {
			case "rewriterule", "redirect", "redirectmatch", "redirectpermanent", "redirecttemp":
				for _, a := range d.Args[:min(len(d.Args), 2)] {
					if !absolute(a) {
						add(a)
					}
				}
			case "rewritecond":
				if len(d.Args) > 1 && strings.EqualFold(d.Args[0], "%{REQUEST_URI}") {
					add(d.Args[1])
				}
			case "<location", "<locationmatch":
				for _, a := range d.Args {
					add(a)
				}
			}
		}
	case "nginx":
		var walk func(all []NginxDirective)
		walk = func(all []NginxDirective) {
			for _, d := range all {
				if (d.Name == "location" || d.Name == "rewrite") && len(d.Args) > 0 {
					at := 0
					if d.Name == "location" {
						at = len(d.Args) - 1
					}
					add(d.Args[at])
				}
				walk(d.Inside)
			}
		}
		walk(ParseNginx(file))
	}
	return paths
}

// literal returns a path that fits the pattern: what is literal at its beginning, up to the last slash or
// to its end.
func literal(pattern string) string {
	pattern = strings.TrimPrefix(strings.TrimPrefix(pattern, "!"), "^")
	var out strings.Builder
	for i := 0; i < len(pattern); i++ {
		c := pattern[i]
		if c == '\\' && i+1 < len(pattern) && strings.IndexByte(".-/_~", pattern[i+1]) >= 0 {
			i++
			out.WriteByte(pattern[i])
			continue
		}
		if c == '$' && i == len(pattern)-1 {
			break
		}
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-_~/", c) >= 0) {
			if c == '?' { // the character before may be missing
				text := out.String()
				return slashed(text[:max(0, len(text)-1)])
			}
			text := out.String()
			return slashed(text[:strings.LastIndexByte(text, '/')+1])
		}
		out.WriteByte(c)
	}
	return slashed(out.String())
}

func slashed(path string) string {
	if path == "" || path[0] == '/' {
		return path
	}
	return "/" + path
}
