package rules

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// NginxDirective is one directive of an nginx configuration.
type NginxDirective struct {
	Name   string
	Args   []string // without quotes
	Line   int      // from 1
	Block  bool     // it opens a block
	Inside []NginxDirective

	from, open, close int // bytes: where it begins, behind its {, at its }
}

// ParseNginx reads the directives of an nginx configuration, or of a part that another file includes.
// What cannot be read is left out.
func ParseNginx(text string) []NginxDirective {
	p := &nginxParser{text: text, line: 1}
	var out []NginxDirective
	for p.at < len(p.text) {
		out = append(out, p.block()...)
		p.at++ // a } too many
	}
	return out
}

type nginxParser struct {
	text     string
	at, line int
}

const maxNginxDepth = 32

// block reads directives up to the end of the block, or of the text.
func (p *nginxParser) block() (out []NginxDirective) { return p.blockAt(0) }

func (p *nginxParser) blockAt(depth int) (out []NginxDirective) {
	for {
		words, from, line := p.words()
		if p.at >= len(p.text) {
			return out
		}
		switch p.text[p.at] {
		case '}':
			return out
		case ';':
			p.at++
			if len(words) > 0 {
				out = append(out, NginxDirective{Name: words[0], Args: words[1:], Line: line, from: from})
			}
		case '{':
			p.at++
			d := NginxDirective{Block: true, Line: line, from: from, open: p.at}
			if len(words) > 0 {
				d.Name, d.Args = words[0], words[1:]
			}
			if depth < maxNginxDepth {
				d.Inside = p.blockAt(depth + 1)
			}
			d.close = p.at
			if p.at < len(p.text) && p.text[p.at] == '}' {
				p.at++
			}
			out = append(out, d)
		}
	}
}

// words reads the words of a directive up to its ; { or }.
func (p *nginxParser) words() (words []string, from, line int) {
	from, line = p.at, p.line
	for p.at < len(p.text) {
		switch c := p.text[p.at]; {
		case c == '\n':
			p.line++
			p.at++
		case c == ' ' || c == '\t' || c == '\r':
			p.at++
		case c == '#':
			for p.at < len(p.text) && p.text[p.at] != '\n' {
				p.at++
			}
		case c == ';' || c == '{' || c == '}':
			return words, from, line
		default:
			if len(words) == 0 {
				from, line = p.at, p.line
			}
			words = append(words, p.word())
		}
	}
	return words, from, line
}

func (p *nginxParser) word() string {
	if q := p.text[p.at]; q == '"' || q == '\'' {
		var out strings.Builder
		for p.at++; p.at < len(p.text) && p.text[p.at] != q; p.at++ {
			if p.text[p.at] == '\\' && p.at+1 < len(p.text) {
				p.at++
			}
			if p.text[p.at] == '\n' {
				p.line++
			}
			out.WriteByte(p.text[p.at])
		}
		p.at++
		return out.String()
	}
	from := p.at
	for p.at < len(p.text) {
		switch c := p.text[p.at]; {
		case c == '\\' && p.at+1 < len(p.text):
			p.at += 2
			continue
		case c == '$' && strings.HasPrefix(p.text[p.at:], "${"):
			if end := strings.IndexByte(p.text[p.at:], '}'); end > 0 {
				p.at += end + 1
				continue
			}
		case strings.IndexByte(" \t\r\n;{}", c) >= 0:
			return p.text[from:p.at]
		}
		p.at++
	}
	return p.text[from:min(p.at, len(p.text))]
}

// installNginx puts the rules into each server block of the site's names, and their headers into each
// location that has some of its own.
func (r Rule) installNginx(file, rules string) (string, error) {
	var names []string
	for _, t := range r.Targets {
		names = append(names, t.Names...)
	}
	servers := serverBlocks(ParseNginx(file), names)
	if len(servers) == 0 {
		return "", &Misplaced{Why: "has no server block whose server_name is one of " + strings.Join(names, ", ") + ": name the file that has"}
	}
	type insert struct {
		at   int
		text string
	}
	var all []insert
	for _, s := range servers {
		at, err := behindLine(file, s)
		if err != nil {
			return "", err
		}
		all = append(all, insert{at, rules})
		for _, l := range locations(s.Inside) {
			lines := r.nginxInside(l)
			if len(lines) == 0 {
				continue
			}
			at, err := behindLine(file, l)
			if err != nil {
				return "", err
			}
			all = append(all, insert{at, r.between(lines)})
		}
	}
	slices.SortStableFunc(all, func(a, b insert) int { return b.at - a.at })
	for _, one := range all {
		file = file[:one.at] + lineEnds(one.text, file) + file[one.at:]
	}
	return file, nil
}

// behindLine returns where the line of a block's { ends.
func behindLine(file string, d NginxDirective) (int, error) {
	rest := restOfLine.FindString(file[d.open:])
	if rest == "" {
		return 0, &Misplaced{Why: fmt.Sprintf("has more behind the { of %s in the same line: begin a new line there", d.Name), Line: d.Line}
	}
	return d.open + len(rest), nil
}

// serverBlocks returns the server blocks that answer for one of the names.
func serverBlocks(all []NginxDirective, names []string) (out []NginxDirective) {
	for _, d := range all {
		switch {
		case d.Name == "http" && d.Block:
			out = append(out, serverBlocks(d.Inside, names)...)
		case d.Name == "server" && d.Block && serves(d, names):
			out = append(out, d)
		}
	}
	return out
}

// serves reports whether a server block names one of the names, as nginx compares them: exactly, with a *
// at its beginning or end, with a dot before it, or as a regular expression.
func serves(server NginxDirective, names []string) bool {
	for _, d := range server.Inside {
		if d.Name != "server_name" {
			continue
		}
		for _, n := range names {
			for _, pattern := range d.Args {
				if nginxName(strings.ToLower(pattern), n) {
					return true
				}
			}
		}
	}
	return false
}

func nginxName(pattern, name string) bool {
	switch {
	case pattern == name:
		return true
	case strings.HasPrefix(pattern, "~"):
		re, err := regexp.Compile("(?i)" + strings.TrimPrefix(strings.TrimPrefix(pattern, "~"), "*"))
		return err == nil && re.MatchString(name)
	case strings.HasPrefix(pattern, "*."):
		return strings.HasSuffix(name, pattern[1:])
	case strings.HasPrefix(pattern, "."):
		return name == pattern[1:] || strings.HasSuffix(name, pattern)
	case strings.HasSuffix(pattern, ".*"):
		return strings.HasPrefix(name, pattern[:len(pattern)-1])
	}
	return false
}

// locations returns all location blocks, also those in others.
func locations(all []NginxDirective) (out []NginxDirective) {
	for _, d := range all {
		if d.Block && (d.Name == "location" || d.Name == "if") {
			out = append(append(out, d), locations(d.Inside)...)
		}
	}
	return out
}
