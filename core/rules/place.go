package rules

import (
	"errors"
	"regexp"
	"slices"
	"strings"
)

// span is a part of a text, from byte to byte.
type span struct{ from, to int }

// marked finds the marked blocks of a file: each from the line of its begin to that of its end, both
// included.
func marked(text string) (blocks []span, err error) {
	for at := 0; ; {
		i := strings.Index(text[at:], markBegin)
		if i < 0 {
			return blocks, nil
		}
		start := strings.LastIndexByte(text[:at+i], '\n') + 1
		end := strings.Index(text[start:], markEnd)
		if end < 0 {
			return nil, errors.New("holds the beginning of our rules, and not their end: fix it by hand")
		}
		end += start
		if nl := strings.IndexByte(text[end:], '\n'); nl >= 0 {
			end += nl + 1
		} else {
			end = len(text)
		}
		blocks = append(blocks, span{start, end})
		at = end
	}
}

// Misplaced says why rules cannot be put into a file.
type Misplaced struct {
	Why  string
	Line int // 0: the file as a whole
}

func (e *Misplaced) Error() string { return e.Why }

// Install puts rules into the text of a file, at the place where they count: first of all; in PHP behind its
// opening tag and declarations; for nginx into each server block of the site's names. Rules that are there
// already are replaced. The line ends of the file are kept. The error is a *Misplaced where they have no place.
func (r Rule) Install(file string) (string, error) {
	rules, err := r.Text()
	if err != nil {
		return "", err
	}
	blocks, err := marked(file)
	if err != nil {
		return "", err
	}
	if len(blocks) == 1 && r.Server != "nginx" { // where somebody put them
		return file[:blocks[0].from] + lineEnds(rules, file) + file[blocks[0].to:], nil
	}
	file, _, _ = Remove(file) // the marks were found whole
	switch r.Server {
	case "nginx":
		return r.installNginx(file, rules)
	case "php":
		at, err := phpPlace(file)
		if err != nil {
			return "", err
		}
		return file[:at] + lineEnds(rules, file) + file[at:], nil
	}
	if err := apachePlace(file); err != nil {
		return "", err
	}
	return lineEnds(rules, file) + file, nil
}

func lineEnds(rules, file string) string {
	if strings.Contains(file, "\r\n") {
		return strings.ReplaceAll(rules, "\n", "\r\n")
	}
	return rules
}

// Remove takes the rules out of the text of a file; it reports whether they were
// there.
func Remove(file string) (string, bool, error) {
	blocks, err := marked(file)
	if err != nil {
		return file, false, err
	}
	for _, b := range slices.Backward(blocks) {
		file = file[:b.from] + file[b.to:]
	}
	return file, len(blocks) > 0, nil
}

var phpOpen = regexp.MustCompile(`(?i)^(?:\xEF\xBB\xBF)?\s*(?:#![^\n]*\n)?<\?php\b`)

// apachePlace says whether a file is one that a folder's rules stand in.
func apachePlace(file string) error {
	if phpOpen.MatchString(file) || strings.HasPrefix(strings.TrimSpace(file), "<?") {
		return &Misplaced{Why: "is a PHP file, which the server does not read for rules: name the .htaccess of the site's folder, or write php in place of apache"}
	}
	for _, d := range ParseApache(file) {
		if d.Name == "<virtualhost" || d.Name == "listen" || d.Name == "documentroot" {
			return &Misplaced{Why: "is a configuration of the whole server: put what redirect show apache prints into each <VirtualHost> of the site by hand", Line: d.Line}
		}
	}
	for _, d := range ParseNginx(file) {
		if d.Name == "server" && d.Block {
			return &Misplaced{Why: "is a configuration of nginx: write nginx in place of apache", Line: d.Line}
		}
	}
	return nil
}

var (
	phpTag       = regexp.MustCompile(`(?i)^(?:\xEF\xBB\xBF)?(?:#![^\n]*\n)?<\?php[ \t]*\r?\n`)
	phpBlank     = regexp.MustCompile(`^(?:[ \t\r\n]+|//[^\n]*\n|#(?:[^\[\n][^\n]*)?\n|/\*(?s:.*?)\*/)+`)
	phpDeclare   = regexp.MustCompile(`(?i)^declare\s*\([^()]*\)\s*;`)
	phpNamespace = regexp.MustCompile(`(?i)^namespace\s+[\w\\\x80-\xff]+\s*;`)
	phpBraced    = regexp.MustCompile(`(?i)^namespace\b[^;{]*\{|^declare\s*\([^()]*\)\s*[{:]`)
	restOfLine   = regexp.MustCompile(`^[ \t]*(?:(?://|#)[^\n]*)?\r?\n`)
)

// phpPlace returns where code may stand that runs before all other: behind the opening tag, and behind the
// declarations that PHP wants first.
func phpPlace(file string) (int, error) {
	open := phpTag.FindStringIndex(file)
	if open == nil {
		return 0, &Misplaced{Why: "does not begin with <?php and a line end: name the first PHP file that runs"}
	}
	place, at := open[1], open[1]
	for {
		at += len(phpBlank.FindString(file[at:]))
		if phpBraced.MatchString(file[at:]) {
			return 0, &Misplaced{Why: "keeps its code in braces behind a declaration: put what redirect show php prints into a file of its own that runs first (auto_prepend_file)", Line: 1 + strings.Count(file[:at], "\n")}
		}
		declared := phpDeclare.FindString(file[at:])
		if declared == "" {
			declared = phpNamespace.FindString(file[at:])
		}
		if declared == "" {
			return place, nil
		}
		at += len(declared)
		rest := restOfLine.FindString(file[at:])
		if rest == "" {
			return 0, &Misplaced{Why: "goes on behind a declaration in the same line: begin a new line there", Line: 1 + strings.Count(file[:at], "\n")}
		}
		at += len(rest)
		place = at
	}
}
