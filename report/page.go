package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"net/url"
	"slices"
	"strings"

	"trimlantern/core/mixed"
	"trimlantern/report/words"
	"trimlantern/work"
	"trimlantern/work/findings"
)

//go:embed page.html
var pageText string

//go:embed page.css
var pageStyle string

//go:embed summary.html
var summaryText string

//go:embed fleet.html
var fleetText string

// The pages: each is one file that holds all it needs.
var (
	styled          = template.Must(template.New("style").Parse(pageStyle))
	pageTemplate    = template.Must(template.Must(styled.Clone()).New("page").Parse(pageText))
	summaryTemplate = template.Must(template.Must(styled.Clone()).New("summary").Parse(summaryText))
	fleetTemplate   = template.Must(template.Must(styled.Clone()).New("fleet").Parse(fleetText))
)

// What a page shows at the most.
const (
	mostCulprits = 60 // of one class
	mostOpen     = 3  // shown opened
	mostListed   = 40
	mostPlaces   = 6
)

// matchWords say how a place belongs to what was found, where it is not the address itself.
var matchWords = map[findings.Match]string{
	findings.Scaled:   "the picture of which it is a smaller copy",
	findings.Joined:   "is put together here",
	findings.Prefix:   "holds the start of the address",
	findings.Piece:    "may come from here: contains part of it",
	findings.Address:  "may come from here: the site's own address",
	findings.Document: "stands here",
}

// meanings say in a sentence what a class means for a visitor.
var meanings = map[mixed.Class]string{
	mixed.Blocked:  "Browsers refuse to load these: something is missing on the page.",
	mixed.Upgraded: "Browsers ask for these over HTTPS instead. Where the host has none, a picture is missing.",
	mixed.Form:     "What a visitor types is sent unprotected, and browsers warn of it.",
	mixed.Download: "Browsers refuse to download these from a secure page.",
	mixed.Masked:   "The page's policy has browsers ask over HTTPS. Browsers and programs that do not know it load these insecurely.",
	mixed.Possible: "Written out in scripts, or in attributes that scripts read: they may be loaded.",
	mixed.Link:     "Only named or linked: nothing breaks, and each visit costs a redirect.",
}

type (
	pageData struct {
		Site, When, Verdict, Facts, Tool, ID, Compared, Browser, PagesNote string
		Clean, AsHTTPS                                                     bool
		Notes, Missing, New, Gone, Unseen, Unconfirmed                     []string
		Sites                                                              []siteData
		Causes                                                             []causeData
		CausesNote                                                         string
		Classes                                                            []classData
		Groups                                                             []groupData
		Hosts                                                              []hostData
		Worst                                                              []rowData
		Unread                                                             []findings.Unread
	}
	causeData struct{ Class, Where, Words, Count, Pages, Do, Example string }
	siteData  struct{ Host, Pages, Findings string }
	classData struct {
		Class, Words, Count, Then, URLs, Pages string
		Part, ThenPart                         int
		Bare                                   bool // without a bar
	}
	groupData struct {
		Class, Words, Meaning, More string
		Culprits                    []culpritData
	}
	culpritData struct {
		Class, URL, Count, By, On, Link, At, Via string
		Open, Traced                             bool
		Places                                   []placeData
	}
	placeData struct{ Where, Text, Page, Match, Do string }
	hostData  struct{ Host, Word, Tone, Why, Findings string }
	rowData   struct {
		Path, Link, Title, Sum, Words string
		Width                         int
		Parts                         []classData
	}
)

// scanHTML writes one page that holds all it needs and asks for nothing.
func scanHTML(w io.Writer, s *findings.Scan) error {
	d := &pageData{Site: Clean(s.Site), When: s.Time.UTC().Format("2006-01-02 15:04") + " UTC", ID: s.ID, Tool: Clean(work.Tool), AsHTTPS: s.AsHTTPS,
		Clean: len(s.Culprits) == 0 && (s.Complete() || s.Code() == work.Clean), Verdict: verdict(s),
		Facts: fmt.Sprintf("%s, %s and %s were read.", plural(s.Read, "page"), plural(s.Sheets, "style sheet"), plural(s.Others, "other thing"))}
	for _, a := range s.Accepted {
		d.Notes = append(d.Notes, Clean(fmt.Sprintf("Accepted, %s on %s: %s (%s)", shortClass[a.Class], plural(a.Pages, "page"), a.URL, a.Because)))
	}
	for _, note := range coverageNotes(s) {
		d.Notes = append(d.Notes, Clean(note))
	}
	if d.Missing = coverageFacts(s); len(d.Missing) > 0 {
		d.Facts += " Read: " + readWords(s.Coverage) + "."
	}
	for _, one := range s.Sites {
		found := 0
		for _, n := range one.Classes {
			found += n
		}
		d.Sites = append(d.Sites, siteData{Clean(one.Host), number(one.Read) + " of " + number(one.Known), number(found)})
	}
	d.classes(s)
	d.causes(s)
	d.culprits(s)
	d.hosts(s)
	d.pages(s)
	if c := s.Compared; c != nil {
		d.Compared = fmt.Sprintf("Compared with the scan of %s UTC: %s.", c.Time.UTC().Format("2006-01-02 15:04"), comparedWords(c))
		d.New, d.Gone, d.Unseen = urls(c.New), urls(c.Gone), urls(c.Unseen)
	}
	if b := s.Browser; b != nil {
		d.Browser = fmt.Sprintf("%s looked at %s: %s of mixed content, %d known from reading, %d seen only by it.", Clean(b.Version), plural(b.Pages, "page"), plural(b.Reports, "report"), b.Known, b.New)
		for _, u := range b.Unconfirmed {
			d.Unconfirmed = append(d.Unconfirmed, Clean(u.URL+", "+u.Why))
		}
	}
	for i, u := range s.Unread {
		if i == mostListed {
			d.Unread = append(d.Unread, findings.Unread{URL: "…", Why: fmt.Sprintf("and %d more", len(s.Unread)-i)})
			break
		}
		d.Unread = append(d.Unread, findings.Unread{URL: Clean(u.URL), Why: Clean(u.Why)})
	}
	return pageTemplate.Execute(w, d)
}

// verdict is the scan in one sentence.
func verdict(s *findings.Scan) string {
	n := func(c mixed.Class) int { return s.Classes[c] }
	switch {
	case len(s.Culprits) == 0 && s.Whole() && s.AsHTTPS:
		return except("Every page would be clean over HTTPS", s)
	case len(s.Culprits) == 0 && s.Whole():
		return except("Every page is clean", s)
	case len(s.Culprits) == 0 && s.Complete():
		return except("The pages read from the addresses given are clean", s)
	case len(s.Culprits) == 0:
		return except(asFarAsRead(s), s)
	case n(mixed.Blocked) > 0 && n(mixed.Upgraded) > 0:
		return fmt.Sprintf("Not clean: browsers block %s and upgrade %s", plural(n(mixed.Blocked), "load"), plural(n(mixed.Upgraded), "other"))
	case n(mixed.Blocked) > 0:
		return "Not clean: browsers block " + plural(n(mixed.Blocked), "load")
	case n(mixed.Upgraded) > 0:
		return "Not clean: browsers upgrade " + plural(n(mixed.Upgraded), "load") + broken(s)
	case n(mixed.Form)+n(mixed.Download) > 0:
		return "Not clean: forms or downloads still go over HTTP"
	}
	return "Nothing is blocked; some insecure addresses remain"
}

// broken says how many of the upgraded loads come from hosts without HTTPS.
func broken(s *findings.Scan) string {
	n := 0
	for _, c := range s.Culprits {
		for _, h := range s.Hosts {
			if c.Class == mixed.Upgraded && h.Verdict.Answer == "insecure" && strings.HasPrefix(c.URL, "http://"+h.Host+"/") {
				n++
			}
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", and for %d of them the host has no HTTPS", n)
}

// part is a share in per cent, never 0 where there is something.
func part(n, of int) int {
	if n == 0 || of == 0 {
		return 0
	}
	return max(1, n*100/of)
}

func (d *pageData) classes(s *findings.Scan) {
	urls, most := map[mixed.Class]int{}, 0
	for _, c := range s.Culprits {
		urls[c.Class]++
	}
	then := map[mixed.Class]int{}
	if s.Compared != nil {
		then = s.Compared.Then
	}
	for _, c := range mixed.Classes {
		if c != mixed.Link { // links are many, and would leave the rest no room
			most = max(most, s.Classes[c], then[c])
		}
	}
	for _, c := range mixed.Classes {
		if s.Classes[c]+then[c] > 0 {
			d.Classes = append(d.Classes, classData{Class: string(c), Words: words.Class(c), Count: number(s.Classes[c]), Then: number(then[c]), URLs: number(urls[c]), Pages: number(s.On[c]),
				Part: part(s.Classes[c], most), ThenPart: part(then[c], most), Bare: c == mixed.Link})
		}
	}
}

// mostOfCauses is how many causes a page names.
const mostOfCauses = 25

func (d *pageData) causes(s *findings.Scan) {
	if len(s.Culprits) == 0 || s.Culprits[0].Places == nil {
		return
	}
	causes, rest := s.Causes()
	for _, c := range causes[:min(len(causes), mostOfCauses)] {
		d.Causes = append(d.Causes, causeData{string(c.Class), Clean(originWords(c.Place)), words.Class(c.Class), number(c.Addresses), number(c.Pages), Clean(c.Place.Do), Clean(c.Example)})
	}
	if more := len(causes) - len(d.Causes); more > 0 {
		d.CausesNote = "And " + plural(more, "more cause") + ". "
	}
	if rest > 0 {
		d.CausesNote += plural(rest, "address") + " with no certain place."
	}
}

func (d *pageData) culprits(s *findings.Scan) {
	open := 0
	for _, class := range mixed.Classes {
		g := groupData{Class: string(class), Words: words.Class(class), Meaning: meanings[class]}
		more := 0
		for _, c := range s.Culprits {
			if c.Class != class {
				continue
			}
			if len(g.Culprits) == mostCulprits {
				more++
				continue
			}
			one := culpritData{Class: string(class), URL: Clean(c.URL), Count: plural(c.Pages, "page"), By: Clean(c.By), On: Clean(c.On), Link: secureLink(c.On), Via: Clean(c.Via), Traced: c.Places != nil}
			if c.Line > 0 {
				one.At = fmt.Sprintf("line %d, column %d", c.Line, c.Col)
			}
			if one.Open = open < mostOpen; one.Open {
				open++
			}
			for i, o := range c.Places {
				if i == mostPlaces {
					break
				}
				one.Places = append(one.Places, placeData{Clean(originWords(o)), Clean(o.Text), Clean(o.Page), matchWords[o.Match], Clean(o.Do)})
			}
			g.Culprits = append(g.Culprits, one)
		}
		if more > 0 {
			g.More = fmt.Sprintf("And %s; the JSON and CSV reports list all.", plural(more, "more address"))
			if more > 1 {
				g.More = fmt.Sprintf("And %d more addresses; the JSON and CSV reports list all.", more)
			}
		}
		if len(g.Culprits) > 0 {
			d.Groups = append(d.Groups, g)
		}
	}
}

// secureLink returns an address that is safe to link to, or nothing.
func secureLink(raw string) string {
	if u, err := url.Parse(raw); err == nil && u.Scheme == "https" {
		return raw
	}
	return "#"
}

func (d *pageData) hosts(s *findings.Scan) {
	for i, h := range s.Hosts {
		if i == mostListed {
			break
		}
		one := hostData{Host: Clean(h.Host), Word: "cannot be determined", Tone: "upgraded", Why: Clean(h.Verdict.Why), Findings: number(h.Findings)}
		switch h.Verdict.Answer {
		case "secure":
			one.Word, one.Tone = "yes", "good"
		case "insecure":
			one.Word, one.Tone = "no", "blocked"
		case "leave":
			one.Word, one.Tone = "left", "link"
		}
		d.Hosts = append(d.Hosts, one)
	}
}

func (d *pageData) pages(s *findings.Scan) {
	most := 0
	for _, p := range s.Worst {
		most = max(most, p.Sum)
	}
	for _, p := range s.Worst {
		r := rowData{Path: Clean(strings.TrimPrefix(p.URL, s.Site)), Link: secureLink(p.URL), Title: Clean(p.Title), Sum: number(p.Sum), Width: part(p.Sum, most)}
		if r.Path == "" {
			r.Path = Clean(p.URL)
		}
		var said []string
		for _, c := range mixed.Classes {
			if n := p.Classes[c]; n > 0 {
				said = append(said, fmt.Sprintf("%d %s", n, shortClass[c]))
				r.Parts = append(r.Parts, classData{Class: string(c), Part: part(n, p.Sum)})
			}
		}
		r.Words = strings.Join(said, ", ")
		d.Worst = append(d.Worst, r)
	}
	d.PagesNote = fmt.Sprintf("The pages with the gravest findings first; %s clean", plural(s.Clean, "document"))
	if s.Clean == 1 {
		d.PagesNote += " is"
	}
}

func urls(list []findings.Culprit) (out []string) {
	for i, c := range list {
		if len(out) == mostListed {
			return append(out, fmt.Sprintf("and %d more", len(list)-i))
		}
		if u := Clean(c.URL); !slices.Contains(out, u) { // of several classes
			out = append(out, u)
		}
	}
	return out
}
