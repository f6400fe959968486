package rewrite

import (
	"bytes"
	"regexp"
	"strings"

	"trimlantern/core/envelope"
	"trimlantern/core/markup"
	"trimlantern/core/reference"
	"trimlantern/core/text"
)

// A rule is an address whose meaning is that it is insecure: a condition that tests for it, or one side of a pair whose
// other side is its secure twin. If it changed, the rule would no longer do what it is for, or would send visitors in a
// circle:
//
//	RewriteCond %{HTTP_REFERER} !^http://ternrock.example/
//	http://ternrock.example/visit => https://ternrock.example/visit

// Notes of what kind of rule an address is part of.
const (
	noteGuard = "a condition or pattern that tests for it"
	noteTwin  = "one side of a pair: the other side is its secure twin"
)

// guardMax is how many characters before and after an address are looked at for a condition.
const guardMax = 100

// guard is what is directly before an address that is compared or searched for, without the quotes between.
type guard struct {
	before *regexp.Regexp
	quoted bool // it counts only if the address is in quotes
}

// guards is the one table of them. To add one, add a row.
var guards = []guard{
	{regexp.MustCompile(`\^\(?$`), false},                   // ^http://… of a pattern, [href^="http://…
	{regexp.MustCompile(`[\[\s\w][*$|~!^]=$`), true},        // [href*="http://…, $base != "http://…
	{regexp.MustCompile(`(===?|!==|<>|~\*?|=~)\s?$`), true}, // $base == 'http://…, ~* "http://…
	{regexp.MustCompile(`(?i)\b(r?like|ilike|regexp|case|contains)\s+$`), true},
	{regexp.MustCompile(`(?i)\b(` + strings.Join(searches, "|") + `)\s?\(\s?$`), true},                   // startsWith("http://…
	{regexp.MustCompile(`(?i)\b(` + strings.Join(searches, "|") + `)\s?\([^()"']{1,60},\s{0,4}$`), true}, // strpos($url, 'http://…
	{regexp.MustCompile(`(?i)(^|\n)\s{0,40}(rewritecond|setenvif|setenvifnocase|valid_referers|browsermatch)\s[^\n]{0,60}$`), false},
	{regexp.MustCompile(`(?i)http_referer\W{1,8}$`), false},
}

// searches are functions that compare a text with another one, or search for it.
var searches = []string{"strn?(case)?cmp", "str(i)?pos", "str(i)?str", "strr(i)?pos", "str_(starts|ends)_with", "str_contains", "str_i?replace", "substr_count", "preg_\\w{1,20}",
	"ereg\\w{0,8}", "mb_str(i)?pos", "(last)?indexof", "(starts|ends)[-_]?with", "has(prefix|suffix)", "includes", "match(es|all)?", "test", "in_array", "fnmatch", "instr", "locate", "replace(all)?", "ltrim", "re\\.\\w{1,10}"}

// replaces is a call that searches only if it has a second argument: location.replace("http://…") goes there.
var replaces = regexp.MustCompile(`(?i)\breplace(all)?\s?\(\s?$`)

// argument is what follows an address in quotes if another argument does.
var argument = regexp.MustCompile(`^[^"']{0,80}["']\s{0,4},`)

// guardMarks are the characters that are directly before an address in a condition, without quotes, blanks and opening
// brackets: the last letter of like, case, contains, a function, or a sign.
const guardMarks = "(^=,~>%|+enpsrENPSR)"

// comparisons are what follows an address that is compared with what comes after it.
var comparisons = regexp.MustCompile(`^[/\w.-]{0,60}["']\s?(===?|!==?|<>)`)

// nearby is a reference with what is around it.
type nearby struct {
	*reading
	ref  reference.Reference
	tail string // what follows its authority
}

// before returns up to size characters before the reference, in plain spelling.
func (n nearby) before(size int) string {
	s := text.Head(n.b, n.ref.Start, size)
	if n.ref.Spelling&text.Percented != 0 { // in a form, a plus sign is a blank
		s = strings.ReplaceAll(s, "+", " ")
	}
	return s
}

// after returns up to size characters after the host of the reference, in plain spelling.
func (n nearby) after(size int) string {
	s := text.Tail(n.b, n.ref.HostEnd, size)
	if n.ref.Spelling&text.Percented != 0 {
		s = strings.ReplaceAll(s, "+", " ")
	}
	return s
}

// guarded reports whether a reference is part of a condition.
func (n nearby) guarded() bool {
	near := n.before(12)
	sign := strings.TrimRight(near, "\"'\\ \t%")
	switch {
	case strings.HasSuffix(near, "(") || strings.HasSuffix(near, "%") || strings.HasSuffix(near, "^"):
	case sign == "" || strings.IndexByte(guardMarks, sign[len(sign)-1]) < 0 || sign == near:
		return n.compared()
	case len(sign) > 1 && sign[len(sign)-1] == '=' && isAlnum(sign[len(sign)-2]):
		return n.compared() // href="http://…, by far the most
	}
	head := n.before(guardMax)
	bare := strings.TrimRight(strings.TrimRight(head, "%"), `"'\`)
	quoted := len(bare) < len(head)
	for _, g := range guards {
		if (quoted || !g.quoted) && g.before.MatchString(bare) {
			return !replaces.MatchString(bare) || argument.MatchString(n.after(guardMax))
		}
	}
	return n.compared()
}

// compared reports whether an operator follows a reference in quotes.
func (n nearby) compared() bool {
	near := n.b[n.ref.HostEnd:min(len(n.b), n.ref.HostEnd+guardMax)]
	return (bytes.Contains(near, []byte("==")) || bytes.Contains(near, []byte("!=")) || bytes.Contains(near, []byte("<>"))) && comparisons.MatchString(n.after(guardMax))
}

// twinMax is how many characters before and after an address its secure twin is looked for.
const twinMax = 400

// gapMax is how many characters are at most between two addresses that are a pair.
const gapMax = 60

// between is what divides two elements of a pair in XML: </from><to>.
var between = regexp.MustCompile(`^</[\w:-]+>\s*<[\w:-]+>$`)

// width is what follows an address in a list of pictures: "http://…/a.png 300w, https://…/a.png".
var width = regexp.MustCompile(`^\s+\d+(\.\d+)?[wx],`)

// divides reports whether a text between two addresses makes them a pair: signs, and names of rules. We must not take the
// address and the text of a link for one, as in <a href="http://…">https://…</a>.
func divides(gap string) bool {
	gap = strings.TrimSpace(gap)
	switch {
	case len(gap) > gapMax || strings.Contains(gap, "\n\n") || width.MatchString(" "+gap):
		return false
	case strings.ContainsAny(gap, "<>") && !strings.Contains(gap, "=>") && !strings.Contains(gap, "->"):
		return between.MatchString(gap)
	case strings.ContainsAny(gap, "/?"):
		return false
	}
	for word := range strings.FieldsFuncSeq(gap, func(c rune) bool { return c < 128 && !isAlnum(byte(c)) && c != '_' }) {
		if !ruleName(word) {
			return false
		}
	}
	return true
}

// twinned reports whether the secure twin of a reference is next to it, so that the two are a pair.
func (n nearby) twinned() bool {
	ref, tail := n.ref, n.tail
	from, to := max(0, ref.Start-twinMax), min(len(n.b), ref.HostEnd+len(tail)+twinMax)
	if !bytes.Contains(n.b[ref.HostEnd:to], []byte("ttps")) && !bytes.Contains(n.b[from:ref.Start], []byte("ttps")) {
		return false
	}
	if !ref.Bare(n.b) {
		return false // somebody logs in there
	}
	if i := strings.Index(tail, "https://"); i > 0 { // s#http://…#https://…#, http://…,https://…
		tail = tail[:i-1]
	}
	tail = strings.TrimRight(tail, ":=")
	twin := strings.ToLower("https://" + strings.TrimPrefix(ref.Plain(), ref.Scheme+"://") + tail)
	head := n.before(twinMax)
	rest, ok := strings.CutPrefix(n.after(len(tail)+twinMax), tail)
	if i := strings.Index(rest, "https://"); ok && i >= 0 && isTwin(rest[i:], twin) && divides(rest[:i]) && (strings.TrimSpace(rest[:i]) != "" || fills(head, rest[i+len(twin):])) {
		return n.paired()
	}
	if i := strings.LastIndex(head, "https://"); i >= 0 && isTwin(head[i:], twin) && divides(head[i+len(twin):]) && (strings.TrimSpace(head[i+len(twin):]) != "" || fills(head[:i], rest)) {
		return n.paired()
	}
	return false
}

// directive is what a server's configuration writes before a source and its target.
var directive = regexp.MustCompile(`(?i)(^|\n|["'=>])\s*(redirect|rewrite|return)\w*\s[^\n]{0,20}$`)

// fills reports whether what is before and after two addresses is the beginning and the end of a line or of a text in quotes:
// with blanks alone between them, they are a pair only then, as a line of a map is.
func fills(before, after string) bool {
	return (before == "" || strings.IndexByte("\n\"'=>", before[len(before)-1]) >= 0 || directive.MatchString(before)) && (after == "" || strings.IndexByte("\r\n\"'<&", after[0]) >= 0)
}

// isTwin reports whether a text begins with an address and something that ends it.
func isTwin(s, twin string) bool {
	if len(s) < len(twin) || !strings.EqualFold(s[:len(twin)], twin) {
		return false
	}
	rest := s[len(twin):]
	return rest == "" || !isAlnum(rest[0]) && strings.IndexByte("/.-_?", rest[0]) < 0
}

// paired reports whether a reference with a twin may be one side of a pair: not if a page loads, opens or sends to it.
func (n nearby) paired() bool {
	switch n.useAt(n.ref) {
	case markup.Loads, markup.Opens, markup.Sends, markup.Names:
		return false
	}
	return true
}

// twins are the strings of a document that are rules since their secure twin is beside them, by their numbers.
type twins map[int]bool

// member is a string of a document, to look for twins.
type member struct {
	text     string
	box, up  int
	key      bool
	name     string
	position int // among the values of its box
}

// maxTwins bounds how long a string is at most that may be a side of a pair.
const maxTwins = 1024

// findTwins returns which strings are one side of a pair: a key and its value, two neighbours in a list or among rules,
// the same place of two lists beside each other.
func findTwins(all []member) twins {
	secure := map[string][]int{}
	for i, m := range all {
		if rest, ok := strings.CutPrefix(m.text, "http://"); ok && len(rest) > 0 && len(rest) < maxTwins && !strings.ContainsAny(rest, " \n<>\"") {
			secure["https://"+rest] = append(secure["https://"+rest], i)
		}
	}
	if len(secure) == 0 {
		return nil
	}
	var found twins
	for _, m := range all {
		if !strings.HasPrefix(m.text, "https://") {
			continue
		}
		for _, i := range secure[m.text] {
			if all[i].pairs(m) {
				if found == nil {
					found = twins{}
				}
				found[i] = true
			}
		}
	}
	return found
}

// pairs reports whether two members with the same address are a pair. We must not take two settings for one, such as
// {"siteurl":"https://ternrock.example","home":"http://ternrock.example"}, or a picture and the link around it.
func (m member) pairs(o member) bool {
	asset := markup.AssetKind(o.text) != ""
	switch {
	case m.key && o.name == m.text || o.key && m.name == o.text:
		return true
	case m.key || o.key:
		return false
	case m.box == o.box && (m.position-o.position == 1 || o.position-m.position == 1):
		return ruleName(m.name) && ruleName(o.name) || !asset && (ruleName(m.name) || ruleName(o.name))
	case m.box != o.box && m.up == o.up && m.position == o.position && m.name == o.name:
		return !asset && m.name != "url" && m.name != "link"
	}
	return false
}

// ruleNames are what the keys of a pair are called.
var ruleNames = []string{"source", "target", "from", "to", "search", "replace", "old", "new", "match", "redirect", "src", "dest", "destination", "pattern", "find", "with", "origin", "before", "after", "action", "key", "value"}

// ruleName reports whether a key is one of them, or a number.
func ruleName(name string) bool {
	if name == "" || name[0] >= '0' && name[0] <= '9' {
		return true
	}
	for part := range strings.FieldsFuncSeq(strings.ToLower(name), func(c rune) bool { return c == '_' || c == '-' }) {
		for _, n := range ruleNames {
			if part == n {
				return true
			}
		}
	}
	return false
}

// numbered gives each value its position in its box.
func numbered(all []member) []member {
	count := map[int]int{}
	for i := range all {
		if !all[i].key {
			all[i].position = count[all[i].box]
			count[all[i].box]++
		}
	}
	return all
}

// mayHaveTwins is a first look at a document.
func mayHaveTwins(b []byte) bool {
	return bytes.Contains(b, []byte("https:")) && bytes.Contains(b, []byte("http:"))
}

func phpTwins(b []byte, s *envelope.Serialized) twins {
	if !mayHaveTwins(b[:s.End]) {
		return nil
	}
	all := make([]member, 0, len(s.Texts))
	for _, t := range s.Texts {
		m := member{box: int(t.Up), up: -2, key: t.Key}
		if t.End-t.Start < maxTwins {
			m.text = string(b[t.Start:t.End])
		}
		if t.Up >= 0 {
			m.up = s.Containers[t.Up].Up
		}
		if !t.Key {
			m.name = string(b[t.NameStart:t.NameEnd])
		}
		all = append(all, m)
	}
	return findTwins(numbered(all))
}

func jsonTwins(b []byte, texts []envelope.JSONText) twins {
	if !mayHaveTwins(b) {
		return nil
	}
	all := make([]member, 0, len(texts))
	for _, t := range texts {
		m := member{box: t.Box, up: t.Around, key: t.Key, name: string(t.Name)}
		if t.End-t.Start < 2*maxTwins {
			r := readString(b, t)
			m.text = string(r.Text)
		}
		if t.Key {
			m.name = ""
		} else if bytes.IndexByte(t.Name, '\\') >= 0 {
			m.name = string(text.Decode(t.Name, text.Script))
		}
		all = append(all, m)
	}
	return findTwins(numbered(all))
}
