package report

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json"

	"trimlantern/core/mixed"
	"trimlantern/core/rewrite"
	"trimlantern/report/words"
	"trimlantern/work/checkup"
	"trimlantern/work/findings"
	"trimlantern/work/trace"
)

// Scan reports what a scan found.
func (t *Text) Scan(s *findings.Scan) {
	what := "Scanned"
	if s.AsHTTPS {
		what = "Read over HTTP and judged as if over HTTPS:"
	}
	t.printf("%s %s: %s, %s, %s.\n", what, s.Site, plural(s.Read, "page"), plural(s.Sheets, "style sheet"), plural(s.Others, "other thing"))
	if len(s.Culprits) > 0 {
		t.heading("Found")
		urls := map[mixed.Class]int{}
		for _, c := range s.Culprits {
			urls[c.Class]++
		}
		var rows [][]string
		for _, c := range mixed.Classes {
			if n := s.Classes[c]; n > 0 {
				rows = append(rows, []string{t.class(c), number(n), number(urls[c]), number(s.On[c])})
			}
		}
		t.rows([]string{"", ">findings", ">URLs", ">pages"}, rows)
		if s.Culprits[0].Places != nil {
			t.causes(s)
		}
		if s.Culprits[0].Places == nil || t.All {
			t.culprits(s)
		}
		t.hosts(s)
		t.pages(s)
	}
	t.accepted(s)
	t.compared(s)
	t.browser(s)
	t.coverage(s)
	if len(s.Broken) > 0 {
		t.heading("Loaded over HTTPS, but missing")
		t.unread(s.Broken, 5)
	}
	t.printf("\n")
	t.notes(s)
	switch {
	case len(s.Culprits) == 0 && !s.Complete():
		t.wrap("", t.care(except(asFarAsRead(s), s)+"."))
		t.next(nextRead(s))
	case len(s.Culprits) == 0 && s.Named > 0:
		t.printf("%s\n", t.good(except(fmt.Sprintf("%s read from the addresses given, all clean", plural(s.Read+s.Sheets, "document")), s)+"."))
		t.next("trimlantern scan")
	case len(s.Culprits) == 0 && s.AsHTTPS:
		t.printf("%s\n", t.good(except("Every page would be clean over HTTPS", s)+"."))
		t.next("trimlantern status")
	case len(s.Culprits) == 0 && len(s.Accepted)+len(s.Coverage.Accepted()) > 0:
		t.printf("%s\n", t.good(except("Every page is clean", s)+"."))
		t.next("trimlantern status")
	case len(s.Culprits) == 0:
		t.printf("%s\n", t.good("Every page is clean: nothing insecure is loaded, sent, or named as the site's."))
		t.next("trimlantern status")
	case s.Culprits[0].Places == nil:
		t.next("trimlantern scan --trace, which says where each of them is stored")
	case slices.ContainsFunc(s.Culprits, func(c findings.Culprit) bool { return slices.ContainsFunc(c.Places, changes) }):
		t.next("trimlantern preview")
	default:
		t.next("follow the advice for each place above, then run trimlantern scan")
	}
}

// except adds to a good verdict what the owner accepts.
func except(verdict string, s *findings.Scan) string {
	urls := map[string]bool{}
	for _, a := range s.Accepted {
		urls[a.URL] = true
	}
	gaps := 0
	for _, l := range s.Coverage.Accepted() {
		gaps += l.Count
	}
	if gaps > 0 && s.Complete() {
		verdict += ", except for " + plural(gaps, "gap") + " that you accepted"
	}
	if len(urls) == 0 {
		return verdict
	}
	if gaps > 0 && s.Complete() {
		return verdict + ", and " + plural(len(urls), "insecure address")
	}
	said := " insecure address that you accepted"
	if len(urls) > 1 {
		said = " insecure addresses that you accepted"
	}
	return verdict + ", except for " + number(len(urls)) + said
}

// accepted lists what the owner accepts.
func (t *Text) accepted(s *findings.Scan) {
	if len(s.Accepted) == 0 {
		return
	}
	t.heading("Accepted: shown, and not counted")
	for i, a := range s.Accepted[:t.room(len(s.Accepted), mostHosts)] {
		if i > 0 && s.Accepted[i-1].URL == a.URL {
			continue
		}
		t.printf("  %s\n", t.clip(a.URL, 76))
		t.printf("    %s\n", t.faint(t.clip(shortClass[a.Class]+", on "+plural(a.Pages, "page")+": "+a.Because, 74)))
	}
	t.more(len(s.Accepted)-t.room(len(s.Accepted), mostHosts), "more address")
}

// changes reports whether preview changes a place.
func changes(o findings.Origin) bool {
	return o.Reason == "" && (o.Match == findings.Exact || o.Match == findings.Scaled || o.Match == findings.Prefix || o.Match == findings.Address)
}

func (t *Text) unread(list []findings.Unread, most int) {
	for i, u := range list {
		if i == most {
			t.printf("  %s\n", t.faint(fmt.Sprintf("and %d more; --format json lists them", len(list)-most)))
			break
		}
		t.printf("  %s\n", t.clip(u.URL+": "+u.Why, 76))
	}
}

// How much of each list a screen has room for, where not all is asked for.
const (
	mostOfGrave, mostOfMild = 3, 2 // addresses of a class
	mostCauses              = 9
	mostHosts               = 5
	mostPages               = 4
)

// room returns how much of a list of n is shown.
func (t *Text) room(n, most int) int {
	if t.All {
		return n
	}
	return min(n, most)
}

// more says how many are not shown, and how to see them.
func (t *Text) more(n int, what string) {
	if n > 0 {
		t.printf("  %s\n", t.faint("and "+plural(n, what)+": --all lists them, --report scan.html shows them"))
	}
}

// causes writes what makes the insecure addresses: one line of code, one setting, one row.
func (t *Text) causes(s *findings.Scan) {
	causes, rest := s.Causes()
	t.heading("By cause, the gravest first")
	shown := causes[:t.room(len(causes), mostCauses)]
	for _, c := range shown {
		t.printf("  %s\n", t.clip(originWords(c.Place), 76))
		t.printf("    %s %s\n", t.class(c.Class), t.faint("in "+plural(c.Addresses, "address")+", on "+plural(c.Pages, "page")+" or more"))
		t.wrap("    ", Clean(c.Place.Do))
	}
	t.more(len(causes)-len(shown), "more cause")
	if rest > 0 {
		t.wrap("  ", t.care(plural(rest, "address")+" with no certain place: trimlantern trace NUMBER examines one."))
	}
}

// culprits writes each insecure URL once, by class, however many pages it is on.
func (t *Text) culprits(s *findings.Scan) {
	t.heading("By address, the gravest first")
	var rows [][]string
	left := 0
	for _, class := range mixed.Classes {
		most := mostOfGrave
		if class == mixed.Possible || class == mixed.Link {
			most = mostOfMild
		}
		n := 0
		for _, c := range s.Culprits {
			if c.Class != class {
				continue
			}
			if n++; n > most && !t.All {
				left++
				continue
			}
			rows = append(rows, []string{numbered(c.Number), t.short(c.Class), t.clip(c.URL, 40), t.clip(c.By, 15), number(c.Pages)})
		}
	}
	t.rows([]string{">", "", "address", "held by", ">pages"}, rows)
	t.more(left, "more address")
}

// numbered is the number of a finding; "" where it has none.
func numbered(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

// short is a class in one word.
func (t *Text) short(c mixed.Class) string {
	switch c {
	case mixed.Blocked:
		return t.bad(shortClass[c])
	case mixed.Link, mixed.Possible:
		return shortClass[c]
	}
	return t.care(shortClass[c])
}

// hosts writes the other hosts that pages load from, and what they can do.
func (t *Text) hosts(s *findings.Scan) {
	if len(s.Hosts) == 0 {
		return
	}
	t.heading("Other hosts that pages load from")
	shown := s.Hosts[:t.room(len(s.Hosts), mostHosts)]
	for _, h := range shown {
		word := t.care("cannot be determined")
		switch h.Verdict.Answer {
		case "secure":
			word = t.good("has HTTPS")
		case "insecure":
			word = t.bad("has no HTTPS")
		case "leave":
			word = "left by your decision"
		}
		why := ""
		if h.Verdict.Answer != "secure" && h.Verdict.Why != "" {
			why = t.faint(": " + t.clip(h.Verdict.Why, 26))
		}
		t.printf("  %s  %s%s\n", t.clip(h.Host, 30), word, why)
	}
	t.more(len(s.Hosts)-len(shown), "more host")
}

// shortClass is a class as the head of a column.
var shortClass = map[mixed.Class]string{mixed.Blocked: "blocked", mixed.Upgraded: "upgraded", mixed.Form: "form", mixed.Download: "download", mixed.Masked: "masked", mixed.Possible: "possible", mixed.Link: "link"}

func (t *Text) pages(s *findings.Scan) {
	t.heading("By page")
	header := []string{"page"}
	var classes []mixed.Class
	for _, c := range mixed.Classes {
		if s.Classes[c] > 0 {
			classes = append(classes, c)
			header = append(header, ">"+shortClass[c])
		}
	}
	var rows [][]string
	for i, p := range s.Worst {
		if i == t.room(len(s.Worst), mostPages) {
			break
		}
		row := []string{t.clip(cmp.Or(strings.TrimPrefix(strings.TrimPrefix(p.URL, s.Site), "https://"), "/"), 74-len(classes)*9)}
		for _, c := range classes {
			row = append(row, number(p.Classes[c]))
		}
		rows = append(rows, row)
	}
	t.rows(header, rows)
	if len(s.Worst) > len(rows) {
		t.printf("  %s\n", t.faint("and more: --all lists them"))
	}
	if s.Clean > 0 {
		t.printf("  %s\n", t.good(plural(s.Clean, "document")+" clean"))
	}
}

func (t *Text) compared(s *findings.Scan) {
	c := s.Compared
	if c == nil {
		return
	}
	t.heading("Compared with the scan of " + c.Time.UTC().Format("2006-01-02 15:04") + " UTC")
	t.printf("  %s\n", comparedWords(c))
	for _, part := range []struct {
		word string
		list []findings.Culprit
	}{{t.bad("new "), c.New}, {t.good("gone"), c.Gone}, {t.care("not looked at"), c.Unseen}} {
		for i, one := range part.list {
			if i == 8 {
				t.printf("  %s\n", t.faint(fmt.Sprintf("and %d more; --format json lists them", len(part.list)-8)))
				break
			}
			t.printf("  %s  %s\n", part.word, t.clip(one.URL, 70))
		}
	}
}

// comparedWords is a comparison in numbers.
func comparedWords(c *findings.Comparison) string {
	said := fmt.Sprintf("%d new, %d gone, %d as before", len(c.New), len(c.Gone), len(c.Still))
	if len(c.Unseen) > 0 {
		said += fmt.Sprintf(", %d on pages that were not read again", len(c.Unseen))
	}
	return said
}

func (t *Text) browser(s *findings.Scan) {
	b := s.Browser
	if b == nil {
		return
	}
	t.heading("What " + t.clip(b.Version, 40) + " says")
	t.wrap("  ", fmt.Sprintf("%s looked at: %s of mixed content, %d known already, %d seen only by it", plural(b.Pages, "page"), plural(b.Reports, "report"), b.Known, b.New))
	if len(b.Unconfirmed) > 0 {
		t.printf("  read in the page, and not reported by the browser:\n")
		t.unread(b.Unconfirmed, 5)
	}
	t.unread(b.Failed, 5)
	if b.LeftOut > 0 {
		t.printf("  %s\n", t.care(plural(b.LeftOut, "page")+" not looked at; see --looks"))
	}
}

// ScanJSON writes a scan with all its documents, which are read from the disk one by
// one.
func ScanJSON(w io.Writer, s *findings.Scan) error {
	var head bytes.Buffer
	if err := JSON(&head, s); err != nil {
		return err
	}
	summary := bytes.TrimSuffix(head.Bytes(), []byte("\n}\n"))
	if _, err := fmt.Fprintf(w, "%s,\n  \"pages\": [", summary); err != nil {
		return err
	}
	comma := ""
	err := s.EachPage(func(p findings.ScannedPage) error {
		if p.Findings == nil {
			p.Findings = []mixed.Finding{}
		}
		b, err := json.Marshal(p, stable)
		if err != nil {
			return err
		}
		_, err = fmt.Fprintf(w, "%s\n    %s", comma, shown(string(b)))
		comma = ","
		return err
	})
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, "\n  ]\n}\n")
	return err
}

// Traced reports where a reference lives.
func (t *Text) Traced(r *trace.Traced) {
	t.printf("%s\n", t.clip(r.URL, 78))
	if r.On != "" {
		at := ""
		if r.Line > 0 {
			at = fmt.Sprintf(", line %d", r.Line)
		}
		t.printf("%s\n", t.faint(t.clip("on "+r.On+at, 78)))
		if r.Around != "" {
			t.printf("%s\n", t.faint("  "+clipEnd(around(r), 74)))
		}
	}
	if len(r.Places) == 0 {
		t.printf("\n")
		if r.On != "" {
			at := ""
			if r.Line > 0 {
				at = fmt.Sprintf(" at line %d", r.Line)
			}
			t.wrap("", fmt.Sprintf("The page contains it%s; no text in %s and %s matches, in any spelling or in pieces. It is probably generated by a plug-in outside the searched folders, by a program or by a cache. Search the system for the markup around it, clear all caches and scan again.", at, plural(r.Rows, "row"), plural(r.Files, "file")))
		} else {
			t.printf("Not found in %s and %s, in any spelling or in pieces.\n", plural(r.Rows, "row"), plural(r.Files, "file"))
			t.wrap("", "No page of the last scan has it either. If a page shows it, run trimlantern scan and trace it by its number.")
		}
		t.notRead(r.Skipped)
		t.unsearched(r)
		return
	}
	if r.On == "" && !slices.ContainsFunc(r.Places, func(o findings.Origin) bool { return o.Match == findings.Exact || o.Match == findings.Scaled }) {
		t.wrap("", t.care("No stored text contains this address, and no page of the last scan has it. These places could produce it:"))
	}
	t.heading(plural(len(r.Places), "place") + ", the likeliest first")
	t.origins(r.Places, 20)
	t.notRead(r.Skipped)
	if first := r.Places[0].Match; first != findings.Exact && first != findings.Scaled {
		t.unsearched(r)
	}
	switch first := r.Places[0]; {
	case slices.ContainsFunc(r.Places, changes):
		t.next("trimlantern preview")
	case first.Reason == rewrite.NoHTTPS:
		t.next("trimlantern decide adopt " + checkup.ShellWord(Clean(r.URL)))
	case first.Reason == rewrite.NoVerdict || first.Reason == rewrite.Possible:
		t.next("trimlantern show, which lists how it can be decided")
	case first.Do != "":
		t.next("follow the advice for the first place above, then run trimlantern scan")
	default:
		t.next("trimlantern show")
	}
}

// unsearched names what a trace did not search.
func (t *Text) unsearched(r *trace.Traced) {
	said := "the server's configuration, programs and files of languages (.mo)"
	if len(r.Folders) > 0 {
		said += ", all outside of " + strings.Join(r.Folders, ", ")
	} else {
		said += ", any file: name folders under files in the site file"
	}
	if n := len(r.Others); n > 0 {
		said += ", " + plural(n, "table") + " of others"
	}
	t.wrap("  ", t.faint("Not searched: "+Clean(said)+"."))
}

// around returns what stands around an address in a page, from a little before it.
func around(r *trace.Traced) string {
	at := strings.LastIndex(r.Around, r.URL)
	if at < 0 {
		return r.Around
	}
	start := strings.LastIndexByte(r.Around[:at], '<')
	return r.Around[max(start, at-60, 0):]
}

// origins writes places, most at the most.
func (t *Text) origins(places []findings.Origin, most int) {
	if len(places) == 0 {
		t.printf("    %s\n", t.faint("not found in database and files: a script, a program or a cache makes it"))
	}
	for i, o := range places {
		if i == most {
			t.printf("    %s\n", t.faint(fmt.Sprintf("and %s", plural(len(places)-most, "more place"))))
			break
		}
		where := ""
		switch {
		case o.Match == findings.Document:
			where = fmt.Sprintf("%s:%d", o.Page, o.Line)
		case o.File != "":
			where = fmt.Sprintf("%s:%d", o.File, o.Line)
			if o.Col > 0 {
				where += fmt.Sprintf(":%d", o.Col)
			}
		default:
			where = o.Table + "." + o.Column
			if o.Label != "" {
				where += ", " + o.Label
			}
			if o.Path != "" {
				where += ", at " + o.Path
			}
		}
		if o.Count > 1 {
			where += fmt.Sprintf(" (×%d)", o.Count)
		}
		t.printf("    %s\n", t.care(t.clip(where, 74)))
		if o.Text != "" {
			t.printf("      %s\n", t.faint(t.clip(o.Text, 72)))
		}
		if o.Page != "" && o.Match != findings.Document {
			t.printf("      %s\n", t.faint(t.clip("on "+o.Page, 72)))
		}
		if said := matchWords[o.Match]; said != "" {
			t.wrap("      ", said)
		}
		t.wrap("      ", Clean(o.Do))
	}
}

func (t *Text) class(c mixed.Class) string {
	switch c {
	case mixed.Blocked:
		return t.bad(words.Class(c))
	case mixed.Link, mixed.Possible:
		return words.Class(c)
	}
	return t.care(words.Class(c))
}
