package report

import (
	"cmp"
	"encoding/csv"
	"encoding/xml"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"

	"trimlantern/core/coverage"
	"trimlantern/core/mixed"
	"trimlantern/work/findings"
)

// ScanFormats are the formats of a scan besides text and JSON.
var ScanFormats = []string{"csv", "junit", "sarif", "html"}

// endings are the formats by a file's ending.
var endings = []struct{ end, format string }{
	{".html", "html"}, {".json", "json"}, {".csv", "csv"}, {".xml", "junit"}, {".sarif", "sarif"}, {".txt", "text"},
}

// Endings lists the endings that tell a format.
func Endings() (out []string) {
	for _, e := range endings {
		out = append(out, e.end)
	}
	return out
}

// FormatOf tells a format from a file's name, or returns "".
func FormatOf(file string) string {
	for _, e := range endings {
		if strings.EqualFold(filepath.Ext(file), e.end) {
			return e.format
		}
	}
	return ""
}

// ScanAs writes a scan in one of the formats.
func ScanAs(w io.Writer, format string, s *findings.Scan) error {
	switch format {
	case "json":
		return ScanJSON(w, s)
	case "csv":
		return scanCSV(w, s)
	case "junit":
		return scanJUnit(w, s)
	case "sarif":
		return scanSARIF(w, s)
	case "html":
		return scanHTML(w, s)
	}
	t := &Text{W: w, Whole: true, All: true}
	t.Scan(s)
	return t.Err()
}

// cell makes a text safe for a spreadsheet, which would run what looks like a formula.
func cell(s string) string {
	s = Clean(s)
	if s != "" && strings.ContainsRune("=+-@", rune(s[0])) {
		return "'" + s
	}
	return s
}

// scanCSV writes one line for each finding (RFC 4180).
func scanCSV(w io.Writer, s *findings.Scan) error {
	out := csv.NewWriter(w)
	row := []string{"page", "title", "class", "certainty", "url", "held by", "line", "column", "via", "place", "what to do"}
	if err := out.Write(row); err != nil {
		return err
	}
	type id struct {
		url   string
		class mixed.Class
	}
	places := map[id]findings.Origin{}
	for _, c := range s.Culprits {
		if len(c.Places) > 0 {
			places[id{c.URL, c.Class}] = c.Places[0]
		}
	}
	err := s.EachPage(func(p findings.ScannedPage) error {
		for _, f := range p.Findings {
			o, ok := places[id{f.URL, f.Class}]
			where := ""
			if ok {
				where = originWords(o)
			}
			do := o.Do
			if because := s.Because(f.URL); because != "" {
				do = "accepted: " + because
			}
			for i, v := range []string{p.URL, p.Title, string(f.Class), string(f.Certainty), f.URL, f.By, strconv.Itoa(f.Line), strconv.Itoa(f.Col), f.Via, where, do} {
				row[i] = cell(v)
			}
			if err := out.Write(row); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, l := range s.Coverage.Blocking() {
		for _, e := range l.Examples {
			for i, v := range []string{e.URL, "", "not looked at", string(l.Cause), "", "", "", "", "", "", cmp.Or(e.Note, causeWords[l.Cause].words)} {
				row[i] = cell(v)
			}
			if err := out.Write(row); err != nil {
				return err
			}
		}
		if more := l.Count - len(l.Examples); more > 0 {
			for i, v := range []string{fmt.Sprintf("and %d more", more), "", "not looked at", string(l.Cause), "", "", "", "", "", "", causeWords[l.Cause].words} {
				row[i] = cell(v)
			}
			if err := out.Write(row); err != nil {
				return err
			}
		}
	}
	out.Flush()
	return out.Error()
}

// originWords says in one line where a place is.
func originWords(o findings.Origin) string {
	switch {
	case o.Match == findings.Document:
		return fmt.Sprintf("%s, line %d", o.Page, o.Line)
	case o.File != "":
		return fmt.Sprintf("%s:%d:%d", o.File, o.Line, max(o.Col, 1))
	}
	where := o.Table + "." + o.Column
	if o.Label != "" {
		where += ", " + o.Label
	}
	if o.Path != "" {
		where += ", at " + o.Path
	}
	return where
}

// The elements of JUnit's XML that programs agree on.
type (
	junitSuites struct {
		XMLName xml.Name   `xml:"testsuites"`
		Name    string     `xml:"name,attr"`
		Tests   int        `xml:"tests,attr"`
		Fails   int        `xml:"failures,attr"`
		Errors  int        `xml:"errors,attr"`
		Suite   junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name   string      `xml:"name,attr"`
		Tests  int         `xml:"tests,attr"`
		Fails  int         `xml:"failures,attr"`
		Errors int         `xml:"errors,attr"`
		Time   string      `xml:"timestamp,attr"`
		Cases  []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name  string     `xml:"name,attr"`
		Class string     `xml:"classname,attr"`
		Fail  *junitWord `xml:"failure"`
		Error *junitWord `xml:"error"`
	}
	junitWord struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr"`
		Text    string `xml:",chardata"`
	}
)

// maxCases bounds the clean pages that JUnit's XML names one by one.
const maxCases = 20000

// scanJUnit writes one test case for each document: it fails where a finding counts.
func scanJUnit(w io.Writer, s *findings.Scan) error {
	suite := junitSuite{Name: "trimlantern scan " + s.Site, Time: s.Time.UTC().Format("2006-01-02T15:04:05")}
	counts := map[mixed.Class]bool{}
	for _, c := range mixed.Classes {
		if s.FailOn != "none" {
			counts[c] = true
		}
		if string(c) == s.FailOn {
			break
		}
	}
	err := s.EachPage(func(p findings.ScannedPage) error {
		c := junitCase{Name: Clean(p.URL), Class: "pages"}
		if p.Kind != "" {
			c.Class = p.Kind
		}
		var lines []string
		for _, f := range p.Findings {
			if counts[f.Class] && s.Because(f.URL) == "" {
				lines = append(lines, Clean(fmt.Sprintf("%s: %s by %s, line %d column %d", f.Class, f.URL, f.By, f.Line, f.Col)))
			}
		}
		if len(lines) > 0 {
			c.Fail = &junitWord{Message: fmt.Sprintf("%d insecure", len(lines)), Type: "insecure", Text: strings.Join(lines, "\n")}
			suite.Fails++
		}
		if suite.Tests++; c.Fail != nil || suite.Tests <= maxCases {
			suite.Cases = append(suite.Cases, c)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, l := range s.Coverage.Blocking() {
		if s.Sample > 0 && l.Cause == coverage.Sampled {
			continue // as the user wants it
		}
		for _, e := range l.Examples {
			suite.Tests, suite.Errors = suite.Tests+1, suite.Errors+1
			suite.Cases = append(suite.Cases, junitCase{Name: Clean(e.URL), Class: "coverage", Error: &junitWord{Message: Clean(cmp.Or(e.Note, causeWords[l.Cause].words)), Type: string(l.Cause)}})
		}
		if more := l.Count - len(l.Examples); more > 0 || len(l.Examples) == 0 {
			suite.Tests, suite.Errors = suite.Tests+1, suite.Errors+1
			suite.Cases = append(suite.Cases, junitCase{Name: countWords(l), Class: "coverage", Error: &junitWord{Message: readWords(s.Coverage) + " read", Type: string(l.Cause)}})
		}
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	err = e.Encode(junitSuites{Name: "trimlantern", Tests: suite.Tests, Fails: suite.Fails, Errors: suite.Errors, Suite: suite})
	if err != nil {
		return err
	}
	_, err = io.WriteString(w, "\n")
	return err
}
