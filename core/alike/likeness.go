package alike

import (
	"bytes"
	"hash/fnv"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// Likeness is what is remembered of a page, so that another day tells whether it is the same page still. It changes little
// where only dates, tokens, comments and news change.
type Likeness struct {
	Title  string   `json:"title,omitempty"`
	Words  int      `json:"words"`            // of its text
	Text   []uint32 `json:"text"`             // the smallest hashes of its runs of three words
	Links  []uint32 `json:"links"`            // the smallest hashes of the paths that it links to
	Hosts  []string `json:"hosts,omitempty"`  // other hosts that its scripts, frames and forms lead to
	Hidden []uint32 `json:"hidden,omitempty"` // hashes of scripts that hide what they do
	Fault  string   `json:"fault,omitempty"`  // words of an error that visitors read
	Stock  string   `json:"stock,omitempty"`  // words of a page that a server or a host shows without a site
}

// remembered is how many hashes of each kind are kept.
const remembered = 48

// faults are words that visitors read when a system fails:
//
//	Fatal error: Uncaught Error: Call to undefined function tide() in /var/www/ternrock/tide.php on line 12
//	Error establishing a database connection
//	Traceback (most recent call last)
var faults = regexp.MustCompile(`(?i)\b(?:fatal|parse|syntax) error: .{0,200}|\b(?:warning|notice|deprecated): .{1,200}? on line \d+|uncaught (?:\w+ )?(?:error|exception)\b.{0,80}|error establishing a database connection|could not connect to (?:the )?database|traceback \(most recent call last\)|there has been a critical error|internal server error|service unavailable|bad gateway|database error|sqlstate\[\w+\]|allowed memory size of \d+ bytes exhausted|maximum execution time of \d+ seconds`)

// stocks are words of pages that servers and hosts show without a site: on a fresh server, for a name that is for sale, for a
// closed account.
var stocks = regexp.MustCompile(`(?i)\bdefault (?:web ?)?(?:page|site)\b|welcome to nginx|\bit works!|^index of /|\b(?:domain|name) (?:\w+ ){0,3}(?:is|may be) for sale|buy this domain|\bdomain (?:is |has been |was )?(?:parked|expired|registered)|parked (?:domain|page)|account (?:has been |is )?suspended|(?:web)?site (?:has been |is )?(?:suspended|disabled)|web server is (?:running|working)|future home of|test page for|no (?:web)?site (?:is )?configured`)

// hiding is how a script hides what it does:
//
//	eval(atob("dmFyIGE9MQ=="))
//	document.write(unescape("%3Cscript"))
//	String.fromCharCode(104,116,116,112)
var hiding = regexp.MustCompile(`\beval\s*\(|\batob\s*\(|\bunescape\s*\(|fromCharCode|(?:\\x[0-9a-fA-F]{2}){6}|\bFunction\s*\(\s*["']`)

// literals are texts and numbers of a script, which change from one visit to the next: nonces, times.
var literals = regexp.MustCompile("\"(?:[^\"\\\\\n]|\\\\.)*\"|'(?:[^'\\\\\n]|\\\\.)*'|`(?:[^`\\\\]|\\\\.)*`|\\b[0-9][0-9a-zA-Z.]*")

// named finds hosts in scripts.
var named = regexp.MustCompile(`(?i)(?:https?:)?\\?/\\?/([a-z0-9](?:[a-z0-9-]*[a-z0-9])?(?:\.[a-z0-9-]+)*\.[a-z]{2,24})\b`)

// Remember reads what is remembered of an HTML page. own are the names of its site.
func Remember(base *url.URL, body []byte, own []string) Likeness {
	m := &memory{base: base, own: own}
	var words []string
	var title strings.Builder
	in := atom.Atom(0)
	z := html.NewTokenizer(bytes.NewReader(body[:min(len(body), most)]))
	for {
		switch z.Next() {
		case html.ErrorToken:
			return m.finish(title.String(), words)
		case html.StartTagToken, html.SelfClosingTagToken:
			t := z.Token()
			m.tag(t)
			switch t.DataAtom {
			case atom.Script, atom.Style, atom.Template, atom.Noscript, atom.Title:
				in = t.DataAtom
			}
		case html.EndTagToken:
			if z.Token().DataAtom == in {
				in = 0
			}
		case html.TextToken:
			switch text := string(z.Text()); in {
			case 0:
				words = append(words, strings.Fields(text)...)
			case atom.Title:
				title.WriteString(text)
			case atom.Script:
				m.script(text)
			}
		}
	}
}

// memory is a page while it is read.
type memory struct {
	Likeness
	base *url.URL
	own  []string
}

// tag takes where a tag leads.
func (m *memory) tag(t html.Token) {
	for _, a := range t.Attr {
		u, err := m.base.Parse(strings.TrimSpace(a.Val))
		if err != nil {
			continue
		}
		switch {
		case t.DataAtom == atom.A && a.Key == "href":
			m.Links = append(m.Links, hash32(strings.TrimSuffix(u.Hostname()+u.Path, "/")))
		case a.Key == "src" && (t.DataAtom == atom.Script || t.DataAtom == atom.Iframe), a.Key == "action" && t.DataAtom == atom.Form, a.Key == "formaction":
			m.host(u.Hostname())
		}
	}
}

// script takes the hosts that a script names, and whether it hides what it does.
func (m *memory) script(text string) {
	for _, found := range named.FindAllStringSubmatch(text, 50) {
		m.host(found[1])
	}
	if hiding.MatchString(text) {
		names := strings.Map(func(r rune) rune {
			if unicode.IsLetter(r) {
				return r
			}
			return -1
		}, literals.ReplaceAllString(text, ""))
		m.Hidden = append(m.Hidden, hash32(names))
	}
}

func (m *memory) host(name string) {
	name = strings.ToLower(name)
	if name != "" && len(m.Hosts) < 100 && !slices.Contains(m.own, name) && !slices.Contains(m.Hosts, name) {
		m.Hosts = append(m.Hosts, name)
	}
}

func (m *memory) finish(title string, words []string) Likeness {
	m.Title = strings.Join(strings.Fields(title), " ")
	m.Words = len(words)
	text := strings.Join(words, " ")
	m.Fault = faults.FindString(text)
	if m.Stock = stocks.FindString(m.Title); m.Stock == "" && len(words) < 400 {
		m.Stock = stocks.FindString(text)
	}
	for i := 0; i+run <= len(words); i++ {
		m.Text = append(m.Text, hash32(strings.Join(words[i:i+run], " ")))
	}
	m.Text, m.Links = smallest(m.Text), smallest(m.Links)
	slices.Sort(m.Hosts)
	slices.Sort(m.Hidden)
	m.Hidden = slices.Compact(m.Hidden)
	return m.Likeness
}

func hash32(s string) uint32 {
	h := fnv.New64a()
	h.Write([]byte(s))
	n := h.Sum64()
	n ^= n >> 33 // the smallest are to be any
	n *= 0xff51afd7ed558ccd
	return uint32(n >> 32)
}

func smallest(all []uint32) []uint32 {
	slices.Sort(all)
	all = slices.Compact(all)
	return slices.Clone(all[:min(len(all), remembered)])
}

// Change is what became of a page. The values are stable names.
type Change string

// The changes that matter.
const (
	Emptied  Change = "empty"   // it has no text any more
	Failing  Change = "error"   // visitors read an error in it
	Stock    Change = "default" // a server's or a host's own page is in its place
	Replaced Change = "another" // it has another title, another text and other links
)

// Changes compares a page with what is remembered of it; "": it is the same page still, whatever is new in it.
func (was Likeness) Changes(now Likeness) Change {
	switch {
	case now.Fault != "" && was.Fault == "":
		return Failing
	case now.Stock != "" && was.Stock == "":
		return Stock
	case now.Words < 3 && was.Words >= 8:
		return Emptied
	case was.Words < 8 || len(was.Text) < 4:
		return ""
	case now.Title != was.Title && common(was.Text, now.Text) < 0.1 && common(was.Links, now.Links) < 0.34:
		return Replaced
	case common(was.Text, now.Text) < 0.02 && common(was.Links, now.Links) < 0.1 && len(was.Links) > 0:
		return Replaced
	}
	return ""
}

// common estimates which part of the smaller of two sets is in the other one, by their smallest hashes.
func common(a, b []uint32) float64 {
	if len(a) == 0 || len(b) == 0 {
		return 0
	}
	// Where a sketch is full, hashes above its largest are not known of.
	bound := ^uint32(0)
	for _, s := range [][]uint32{a, b} {
		if len(s) == remembered {
			bound = min(bound, s[len(s)-1])
		}
	}
	shared, na, nb := 0, 0, 0
	for _, h := range a {
		if h <= bound {
			if na++; slices.Contains(b, h) {
				shared++
			}
		}
	}
	for _, h := range b {
		if h <= bound {
			nb++
		}
	}
	if min(na, nb) == 0 {
		return 0
	}
	return float64(shared) / float64(min(na, nb))
}
