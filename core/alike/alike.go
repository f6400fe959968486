// Package alike tells whether two answers show the same page: one over HTTP and one over HTTPS, or one
// from each of a name's addresses. It compares what a visitor sees, not bytes: pages carry dates, tokens
// and their own addresses.
package alike

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"hash/maphash"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// Page is what one answer shows, as far as two are compared.
type Page struct {
	Status    int    `json:"status"`
	Type      string `json:"type"`                // media type, without parameters
	Title     string `json:"title,omitempty"`     // of an HTML page
	Canonical string `json:"canonical,omitempty"` // host and path that the page calls itself by
	Words     int    `json:"words"`               // of its text

	parts         []string // its texts, and the paths of its links and pictures, as they come
	runs, singles []uint64 // the smallest hashes of its runs of words and of its words, sorted
}

// A sketch of the smallest hashes estimates how many runs of words two texts share (Broder, 1997).
const (
	run    = 3   // words
	few    = 40  // words: texts below it are compared word by word
	sketch = 256 // hashes
	most   = 1 << 20
)

var seed = maphash.MakeSeed()

// Read reads an answer. base is the address that it was got from, typ its media type.
func Read(base *url.URL, status int, typ string, body []byte) (p Page) {
	p = Page{Status: status, Type: typ}
	if typ != "text/html" && typ != "application/xhtml+xml" {
		p.whole(body)
		return p
	}
	if len(body) > most {
		defer func() { p.whole(body[most:]) }()
	}
	var words []string
	var title strings.Builder
	hidden, titled := 0, false
	z := html.NewTokenizer(bytes.NewReader(body[:min(len(body), most)]))
	for {
		switch z.Next() {
		case html.ErrorToken:
			if p.Title = strings.Join(strings.Fields(title.String()), " "); p.Title != "" {
				p.part(p.Title)
			}
			p.Words, p.runs, p.singles = len(words), sketched(words, run), sketched(words, 1)
			return p
		case html.StartTagToken:
			t := z.Token()
			switch t.DataAtom {
			case atom.Script, atom.Style, atom.Template, atom.Noscript:
				hidden++
			case atom.Title:
				titled = title.Len() == 0
			}
			p.canonical(base, t)
			p.leads(base, t)
		case html.SelfClosingTagToken:
			t := z.Token()
			p.canonical(base, t)
			p.leads(base, t)
		case html.EndTagToken:
			switch z.Token().DataAtom {
			case atom.Script, atom.Style, atom.Template, atom.Noscript:
				hidden = max(hidden-1, 0)
			case atom.Title:
				titled = false
			}
		case html.TextToken:
			text := string(z.Text())
			if titled {
				title.WriteString(text)
			} else if hidden == 0 {
				p.part(strings.Join(strings.Fields(text), " "))
				words = append(words, strings.FieldsFunc(text, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })...)
			}
		}
	}
}

// whole adds bytes that are not read as a page, by their hash.
func (p *Page) whole(body []byte) {
	body = bytes.ReplaceAll(body, []byte("https:"), []byte("http:"))
	p.parts = append(p.parts, fmt.Sprintf("%d bytes (%.8x)", len(body), sha256.Sum256(body)))
}

// shown reports whether visitors read the value of an input.
func shown(t html.Token) bool {
	for _, a := range t.Attr {
		if a.Key == "type" {
			return strings.EqualFold(a.Val, "submit") || strings.EqualFold(a.Val, "button")
		}
	}
	return false
}

// part adds a part of what the page shows. A text that names its own address is the same with either scheme.
func (p *Page) part(s string) {
	if s = strings.ReplaceAll(s, "https://", "http://"); s != "" {
		p.parts = append(p.parts, s)
	}
}

// leads adds what an element leads to or loads, without what differs from one visit to another.
func (p *Page) leads(base *url.URL, t html.Token) {
	for _, a := range t.Attr {
		switch a.Key {
		case "alt", "value", "placeholder":
			if t.DataAtom != atom.Input || a.Key != "value" || shown(t) {
				p.part(strings.Join(strings.Fields(a.Val), " "))
			}
		case "href", "src", "poster", "data", "action":
			if u, err := base.Parse(strings.TrimSpace(a.Val)); err == nil && u.Host != "" && !strings.EqualFold(u.Hostname(), base.Hostname()) {
				p.part("//" + u.Hostname() + u.Path)
			} else if err == nil && u.Path != "" {
				p.part(u.Path)
			}
		}
	}
}

// Shows reports whether two answers show the same in every part.
func Shows(a, b Page) bool { return slices.Equal(a.parts, b.parts) }

// canonical takes the address that the page calls itself by.
func (p *Page) canonical(base *url.URL, t html.Token) {
	if t.DataAtom != atom.Link || p.Canonical != "" {
		return
	}
	var rel, href string
	for _, a := range t.Attr {
		switch a.Key {
		case "rel":
			rel = a.Val
		case "href":
			href = a.Val
		}
	}
	if u, err := base.Parse(strings.TrimSpace(href)); err == nil && href != "" && slices.ContainsFunc(strings.Fields(rel), func(r string) bool { return strings.EqualFold(r, "canonical") }) {
		p.Canonical = u.Hostname() + strings.TrimSuffix(u.Path, "/")
		if u.RawQuery != "" {
			p.Canonical += "?" + u.RawQuery
		}
	}
}

// Links returns what the links of an HTML page lead to, as they are written.
func Links(body []byte) (links []string) {
	for z := html.NewTokenizer(bytes.NewReader(body[:min(len(body), most)])); ; {
		switch z.Next() {
		case html.ErrorToken:
			return links
		case html.StartTagToken:
			if t := z.Token(); t.DataAtom == atom.A {
				for _, a := range t.Attr {
					if a.Key == "href" {
						links = append(links, strings.TrimSpace(a.Val))
					}
				}
			}
		}
	}
}

func sketched(words []string, length int) (all []uint64) {
	for i := range words {
		if end := i + length; end <= len(words) {
			all = append(all, maphash.String(seed, strings.Join(words[i:end], " ")))
		}
	}
	slices.Sort(all)
	all = slices.Compact(all)
	return all[:min(len(all), sketch)]
}

// Verdict says how two answers stand to each other. The values are stable names.
type Verdict string

// The verdicts.
const (
	Same      Verdict = "same"
	Status    Verdict = "status"    // one is an error, or another one
	Type      Verdict = "type"      // of another media type
	Title     Verdict = "title"     // other title and other text
	Text      Verdict = "text"      // the same title, and hardly a word in common
	Canonical Verdict = "canonical" // calls itself another page
)

// How much of their text two pages share: below other they are two pages, whatever they are called, and
// from like on they are one.
const (
	other = 0.1
	like  = 0.5
)

// Compare compares two answers.
func Compare(a, b Page) Verdict {
	shared := Shared(a, b)
	switch {
	case a.Status/100 != b.Status/100 || a.Status >= 400 && a.Status != b.Status:
		return Status
	case a.Status >= 400: // the same error
		return Same
	case a.Type != b.Type:
		return Type
	case a.Canonical != "" && b.Canonical != "" && a.Canonical != b.Canonical:
		return Canonical
	case a.Title != b.Title && shared < like:
		return Title
	case shared < other:
		return Text
	}
	return Same
}

// Shared estimates the fraction of text that two pages share, from 0 to 1. Two pages without text share 1.
func Shared(a, b Page) float64 {
	x, y := a.runs, b.runs
	if min(a.Words, b.Words) < few {
		x, y = a.singles, b.singles
	}
	union := slices.Compact(slices.Sorted(slices.Values(slices.Concat(x, y))))
	if len(union) == 0 {
		return 1
	}
	union = union[:min(len(union), max(len(x), len(y)))]
	both := 0
	for _, h := range union {
		_, inX := slices.BinarySearch(x, h)
		_, inY := slices.BinarySearch(y, h)
		if inX && inY {
			both++
		}
	}
	return float64(both) / float64(len(union))
}
