package report

import (
	"fmt"
	"slices"
	"strings"

	"trimlantern/core/coverage"
	"trimlantern/report/words"
	"trimlantern/work/findings"
)

// causeWords say why addresses were not looked at, or do not count, and what to do about it.
var causeWords = map[coverage.Cause]struct{ words, do string }{
	coverage.MaxPages:   {"beyond the --pages limit", "trimlantern scan --pages 100000"},
	coverage.MaxDepth:   {"beyond the --depth limit", "trimlantern scan --depth 1000"},
	coverage.MaxTime:    {"not reached within --for", "trimlantern scan, with a longer --for or none"},
	coverage.MaxKept:    {"too many to track", "scan a part of the site: trimlantern scan --except PATTERN"},
	coverage.Robots:     {"excluded by robots.txt", "trimlantern scan, without --robots"},
	coverage.Pattern:    {"excluded by --except", "trimlantern scan, without --except"},
	coverage.NoFollow:   {"linked with nofollow only", "trimlantern scan --follow nofollow"},
	coverage.Sampled:    {"not in this sample", "trimlantern scan"},
	coverage.Password:   {"behind a password", "trimlantern scan --credentials FILE"},
	coverage.Encoding:   {"compressed in a format that cannot be decoded", "configure the server to compress only as requested (Accept-Encoding), then run trimlantern scan"},
	coverage.Type:       {"pages served as downloads", "configure the server to send text/html, then run trimlantern scan"},
	coverage.Cut:        {"too large to read completely", "make the page smaller; accept it: --accept-gap cut"},
	coverage.Malformed:  {"sitemap cannot be parsed", "fix the sitemap, then run trimlantern scan"},
	coverage.Refused:    {"answered with an error", "open the address in a browser and fix it, then run trimlantern scan"},
	coverage.NoAnswer:   {"no usable response", "open the address in a browser and fix it, then run trimlantern scan"},
	coverage.Unlisted:   {"a list of addresses that cannot be read", "open the address in a browser, or fix database in the site file, then run trimlantern scan"},
	coverage.Insecurely: {"redirected to HTTP", "trimlantern redirect test, which follows each address"},
	coverage.Bare:       {"redirects not checked (--bare)", "trimlantern scan, without --bare"},
	coverage.MaxLoaded:  {"beyond the request limit", "trimlantern scan --pages 100000"},

	coverage.Unrun:    {"scripts not run", "trimlantern scan on a machine with Chromium (Debian: apt-get install chromium; as root: --browser-user nobody)"},
	coverage.Unlooked: {"the browser did not look to the end", "trimlantern scan --tabs 1"},
	coverage.Differs:  {"other visitors see another page", "open the address as such a visitor; accept what cannot be read: --accept-gap identity"},
	coverage.Alike:    {"the same words under many addresses", "open the addresses in a browser: is that the page, or does something stop us?"},
	coverage.Funnel:   {"many addresses lead here", "open the address in a browser: does something stop us?"},
	coverage.SignIn:   {"asks for a password in place of a page", "trimlantern scan --credentials FILE, or --accept-gap walls"},
	coverage.Reloads:  {"says little and loads itself again", "open the address in a browser: does something stop us?"},
	coverage.Gate:     {"redirected to a page that wants something first", "trimlantern scan --credentials FILE, or --accept-gap walls"},

	coverage.Acting:    {"not followed, because it does something", "trimlantern scan --follow acting on a copy of the site, or --accept-gap acting"},
	coverage.Session:   {"not followed: for those who have signed in", ""},
	coverage.Gone:      {"broken link (404)", ""},
	coverage.Absent:    {"loaded over HTTPS, but missing", ""},
	coverage.Unnamed:   {"alias that cannot be resolved", ""},
	coverage.Elsewhere: {"of another site", ""},
	coverage.Moved:     {"redirects to another address of the site", ""},
	coverage.Media:     {"a picture or a file", ""},
	coverage.Loaded:    {"loaded by pages; redirects checked", ""},
}

// kindWords name the kinds of addresses.
var kindWords = map[string]string{"page": "page", "part": "other document", "thing": "thing that pages load"}

// countWords returns a line of the ledger in words: "4 pages: past the bound of --pages".
func countWords(l coverage.Line) string {
	if l.Kind == "thing" && l.Count != 1 {
		return fmt.Sprintf("%s things that pages load: %s", number(l.Count), causeWords[l.Cause].words)
	}
	return plural(l.Count, kindWords[l.Kind]) + ": " + causeWords[l.Cause].words
}

// exampleWords returns an address of a line, with what happened.
func exampleWords(e coverage.Example) string {
	if e.Note == "" {
		return e.URL
	}
	return e.URL + ": " + e.Note
}

// readWords returns how much was read: "2 of 6 pages, 3 of 3 other documents".
func readWords(c coverage.Summary) string {
	said := fmt.Sprintf("%s of %s", number(c.PagesRead), plural(c.PagesKnown, "page"))
	if c.PartsRead < c.PartsKnown {
		said += fmt.Sprintf(", %s of %s", number(c.PartsRead), plural(c.PartsKnown, "other document"))
	}
	if c.NotAsked > 0 {
		said += fmt.Sprintf(", %s not checked", plural(c.NotAsked, "thing"))
	}
	return said
}

// asFarAsRead is the verdict on a scan that found nothing in what it read.
func asFarAsRead(s *findings.Scan) string {
	if s.Sample > 0 && !slices.ContainsFunc(s.Coverage.Blocking(), func(l coverage.Line) bool { return l.Cause != coverage.Sampled }) {
		return "The sample is clean: " + readWords(s.Coverage)
	}
	return "Clean as far as read: " + readWords(s.Coverage) + words.Open(s.Coverage)
}

// nextRead is what to do so that the next scan reads more.
func nextRead(s *findings.Scan) string {
	for _, l := range s.Coverage.Blocking() {
		if l.Cause != coverage.Sampled {
			return causeWords[l.Cause].do
		}
	}
	return "trimlantern scan"
}

// coverage writes what was not looked at, and what does not count.
func (t *Text) coverage(s *findings.Scan) {
	blocking := s.Coverage.Blocking()
	if len(blocking) > 0 {
		t.heading("Not looked at")
		t.printf("  Read: %s\n", t.care(readWords(s.Coverage)))
	}
	const most = 6
	for i, l := range blocking {
		if i == most {
			t.printf("  %s\n", t.faint(fmt.Sprintf("and %d more kinds; --format json lists them", len(blocking)-most)))
			break
		}
		t.printf("  %s\n", t.care(t.clip(countWords(l), 76)))
		shown := 2
		if l.State == coverage.Failed || l.State == coverage.Undecodable || l.State == coverage.Login {
			shown = 6
		}
		for _, p := range l.Patterns {
			t.printf("    %s\n", t.care(t.clip(number(p.Count)+" like "+p.Pattern, 74)))
		}
		if len(l.Patterns) > 0 {
			t.printf("    %s\n", t.faint("endless pages, such as a calendar? Exclude them: --except '/PATH/*'"))
		}
		for i, e := range l.Examples {
			if i == shown {
				t.printf("    %s\n", t.faint(fmt.Sprintf("and %s more", number(l.Count-shown))))
				break
			}
			t.printf("    %s\n", t.faint(t.clip(exampleWords(e), 74)))
		}
	}
	if len(s.Sites) > 0 {
		t.heading("By host name")
		var rows [][]string
		for _, one := range s.Sites {
			found := 0
			for _, n := range one.Classes {
				found += n
			}
			rows = append(rows, []string{t.clip(one.Host, 44), number(one.Read) + " of " + number(one.Known), number(found)})
		}
		t.rows([]string{"", ">pages read", ">findings"}, rows)
	}
}

// notes writes what was met and does not count.
func (t *Text) notes(s *findings.Scan) {
	for _, note := range coverageNotes(s) {
		t.wrap("", t.faint(note))
	}
}

// coverageNotes are sentences on what does not stand in the way of a verdict.
func coverageNotes(s *findings.Scan) (out []string) {
	c := s.Coverage
	if n := c.Count(coverage.Session); n > 0 {
		out = append(out, "Not followed: "+plural(n, "link")+" for those who have signed in (--follow acting).")
	}
	for _, l := range c.Accepted() {
		out = append(out, "Accepted: "+countWords(l)+" ("+l.Accepted+").")
	}
	if n := c.CountPages(coverage.Gone); n > 0 {
		out = append(out, "Not counted: "+plural(n, "broken link")+" (404).")
	}
	if n := c.Count(coverage.Unnamed); n > 0 {
		out = append(out, "Cannot be resolved: "+plural(n, "alias")+" of the site.")
	}
	if s.Outward > 0 {
		out = append(out, fmt.Sprintf("Not counted: %s to other hosts.", plural(s.Outward, "insecure link")))
	}
	if s.Stored > 0 {
		out = append(out, "Also checked: "+plural(s.Stored, "page")+" listed in the database, linked or not.")
	}
	if s.AsHTTPS {
		out = append(out, "Read over HTTP: this shows what would break, not that HTTPS works.")
	}
	return out
}

// coverageFacts are the lines that stand in the way of "clean", each with an example.
func coverageFacts(s *findings.Scan) (out []string) {
	for _, l := range s.Coverage.Blocking() {
		line := countWords(l)
		if len(l.Examples) > 0 {
			line += ", for example " + exampleWords(l.Examples[0])
		}
		out = append(out, Clean(strings.TrimSpace(line)))
	}
	return out
}
