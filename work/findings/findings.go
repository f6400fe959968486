// Package findings holds what scans found, as the logbook keeps it, and where trace found it stored.
package findings

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/klauspost/compress/zstd"

	"trimlantern/core/change"
	"trimlantern/core/coverage"
	"trimlantern/core/mixed"
	"trimlantern/core/rewrite"
	"trimlantern/outside/disk"
	"trimlantern/outside/logbook"
	"trimlantern/outside/probe"
	"trimlantern/work"
)

// Origin is one place that can produce a reference.
type Origin struct {
	Table  string         `json:"table,omitempty"`
	Key    []change.Value `json:"key,omitempty"`
	Column string         `json:"column,omitempty"`
	Label  string         `json:"label,omitempty"` // what the row is called: "setting logo_url"
	Path   string         `json:"path,omitempty"`  // inside the value
	Page   string         `json:"page,omitempty"`  // the page that the row is shown on
	File   string         `json:"file,omitempty"`
	Line   int            `json:"line,omitempty"`
	Col    int            `json:"col,omitempty"`
	Text   string         `json:"text,omitempty"` // the line of the file
	Match  Match          `json:"match"`
	Reason rewrite.Reason `json:"reason,omitempty"` // why preview leaves it; "" where it changes it
	Count  int            `json:"count"`            // references in this place
	Do     string         `json:"do"`
}

// Match is how a place and a reference belong together.
type Match string

// The matches: the first two stand here, the third is put together here, the others may come from here.
const (
	Exact    Match = "exact"    // the same address
	Scaled   Match = "scaled"   // the picture that it is a smaller copy of
	Joined   Match = "joined"   // pieces of it are put together here
	Prefix   Match = "prefix"   // the beginning of it, to which the rest is added
	Piece    Match = "piece"    // a piece of it
	Address  Match = "address"  // the site's own address, from which it is made
	Document Match = "document" // the style sheet, script or frame of another host that holds it
)

// Scan is what a scan found. Its pages are kept in a file: see EachPage.
type Scan struct {
	Site     string              `json:"site"`
	ID       string              `json:"id"`
	Time     time.Time           `json:"time"`
	AsHTTPS  bool                `json:"as_https,omitempty"`
	Resumed  bool                `json:"resumed,omitempty"`
	Read     int                 `json:"pages_read"`
	Sheets   int                 `json:"style_sheets"`
	Others   int                 `json:"others"`         // scripts, images and the like that were asked for
	Classes  map[mixed.Class]int `json:"classes"`        // findings that count, by class
	On       map[mixed.Class]int `json:"documents_with"` // documents that have them
	Clean    int                 `json:"documents_clean"`
	Culprits []Culprit           `json:"culprits"` // the findings by URL, the gravest first
	More     int                 `json:"more_culprits,omitempty"`
	Worst    []PageCount         `json:"worst"`           // documents with the most
	Hosts    []HostState         `json:"hosts"`           // other hosts that pages load from insecurely
	Outward  int                 `json:"links_elsewhere"` // insecure links and names of other hosts
	Coverage coverage.Summary    `json:"coverage"`        // what became of all addresses
	Sites    []SiteState         `json:"sites"`           // where the site has several names under which pages were read
	Unread   []Unread            `json:"unread"`          // documents that could not be read
	Dead     int                 `json:"dead_links"`
	Broken   []Unread            `json:"broken,omitempty"`       // loaded securely, and gives nothing
	LeftOut  int                 `json:"left_out"`               // addresses past the bounds, or that a rule keeps out
	Sample   int                 `json:"sample,omitempty"`       // it was to read only so many pages
	Stored   int                 `json:"pages_stored,omitempty"` // pages that the database knows of
	Named    int                 `json:"named,omitempty"`        // addresses that it began at, instead of the front page and the site map
	Browser  *BrowserState       `json:"browser,omitempty"`
	Compared *Comparison         `json:"compared,omitempty"`
	FailOn   string              `json:"fail_on,omitempty"`
	Accepted []AcceptedURL       `json:"accepted"` // findings that the owner accepts: they do not count

	pages string // the file that holds the pages
	loose bool   // which belongs to no logbook
}

// ScannedPage is one document.
type ScannedPage struct {
	URL      string          `json:"url"`
	Title    string          `json:"title,omitempty"`
	Kind     string          `json:"kind,omitempty"` // "" a page; "style", "script", "frame", "feed" …, "browser" what the browser saw of it
	Findings []mixed.Finding `json:"findings"`
}

// Culprit is one insecure URL on however many pages.
type Culprit struct {
	Number    int             `json:"number,omitempty"` // by which show, trace and decide know it
	URL       string          `json:"url"`
	By        string          `json:"by"`
	Class     mixed.Class     `json:"class"`
	Certainty mixed.Certainty `json:"certainty"`
	Ours      bool            `json:"ours"`
	Via       string          `json:"via,omitempty"`
	Pages     int             `json:"pages"` // documents that hold it
	On        string          `json:"on"`    // one of them
	Line      int             `json:"line"`  // there
	Col       int             `json:"column"`
	Around    string          `json:"around,omitempty"` // the markup there
	In        string          `json:"in,omitempty"`     // what kind of document that is: see ScannedPage
	Places    []Origin        `json:"places,omitempty"` // where it lives, the likeliest first
}

// AcceptedURL is an insecure URL that the owner accepts, on however many documents.
type AcceptedURL struct {
	URL     string      `json:"url"`
	Class   mixed.Class `json:"class"`
	Pages   int         `json:"pages"`
	Because string      `json:"because"`
}

// PageCount is how much one document has.
type PageCount struct {
	URL     string              `json:"url"`
	Title   string              `json:"title,omitempty"`
	Classes map[mixed.Class]int `json:"classes"`
	Sum     int                 `json:"sum"`
}

// HostState is another host that pages load from over HTTP.
type HostState struct {
	Host     string        `json:"host"`
	Findings int           `json:"findings"`
	Verdict  probe.Verdict `json:"verdict"`
}

// Unread is a document that could not be read.
type Unread struct {
	URL string `json:"url"`
	Why string `json:"why"`
}

// SiteState is what was found under one of the site's names.
type SiteState struct {
	Host     string              `json:"host"`
	Complete bool                `json:"complete"`
	Read     int                 `json:"pages_read"`
	Known    int                 `json:"pages_known"`
	Classes  map[mixed.Class]int `json:"classes"`
}

// Complete reports whether all that the scan came to know of was looked at: only then nothing found
// means that nothing is there.
func (s *Scan) Complete() bool { return s.Coverage.Complete }

// Whole reports whether the scan is complete and of the whole site, and not of pages that the user named.
func (s *Scan) Whole() bool { return s.Complete() && s.Named == 0 }

// Proven reports whether the scan shows that the whole site is clean over HTTPS.
func (s *Scan) Proven() bool {
	return s.Whole() && !s.AsHTTPS && s.Sample == 0 && len(s.Classes) == 0 && len(s.Culprits) == 0
}

// Code is the exit code that the scan comes to.
func (s *Scan) Code() int {
	if s.Read == 0 {
		return work.Remain
	}
	for _, l := range s.Coverage.Blocking() {
		if s.FailOn != "none" && (s.Sample == 0 || l.Cause != coverage.Sampled) {
			return work.Remain
		}
	}
	for _, c := range mixed.Classes {
		if s.Classes[c] > 0 && s.FailOn != "none" {
			return work.Remain
		}
		if string(c) == s.FailOn {
			break
		}
	}
	return work.Clean
}

// Read reads a scan of the logbook.
func Read(j *work.Job, id string) (*Scan, error) {
	var s Scan
	if err := j.Book.ReadJSON(logbook.ScanName(id), &s); err != nil {
		return nil, work.BookFault(err)
	}
	s.KeptIn(j.Book.PagesPath(id), false)
	s.forgotten(j.AcceptedURLs())
	s.Coverage.Accept(j.AcceptedGaps())
	return &s, nil
}

// forgotten has findings count again that were accepted when the scan was made, and are no more.
func (s *Scan) forgotten(accepted map[string]string) {
	s.Accepted = slices.DeleteFunc(s.Accepted, func(a AcceptedURL) bool {
		if accepted[work.SameURL(a.URL)] != "" {
			return false
		}
		s.Classes[a.Class] += a.Pages
		s.Culprits = append(s.Culprits, Culprit{URL: a.URL, Class: a.Class, Pages: a.Pages})
		return true
	})
}

// Because returns the owner's reason for accepting a URL, or "".
func (s *Scan) Because(url string) string {
	for _, a := range s.Accepted {
		if a.URL == url {
			return a.Because
		}
	}
	return ""
}

// IDs lists the scans of the logbook, the oldest first.
func IDs(j *work.Job) ([]string, error) { return j.Book.Scans() }

// Weightiest returns the newest scan that says something of the whole site: one that found something,
// or was of all of it. Where there is none, the newest of any kind.
func Weightiest(j *work.Job) (*Scan, error) {
	ids, err := j.Book.Scans()
	if err != nil {
		return nil, err
	}
	var newest *Scan
	for i := len(ids) - 1; i >= 0; i-- {
		s, err := Read(j, ids[i])
		if err != nil {
			return nil, err
		}
		if s.Site != j.Site.String() {
			continue // of another site whose logbook this was
		}
		if newest == nil {
			newest = s
		}
		if len(s.Culprits) > 0 || s.Sample == 0 && s.Named == 0 && !s.AsHTTPS {
			return s, nil
		}
	}
	return newest, nil
}

// Last returns the newest scan of the logbook; nil where there is none.
func Last(j *work.Job) (*Scan, error) {
	ids, err := j.Book.Scans()
	if err != nil || len(ids) == 0 {
		return nil, err
	}
	return Read(j, ids[len(ids)-1])
}

// EachLine calls visit for the JSON of each whole line of a crawl's log, verifies it, and returns where the last one ends.
func EachLine(r io.Reader, visit func([]byte) error) (end int64, err error) {
	in := bufio.NewReaderSize(r, 1<<16)
	for {
		b, err := in.ReadBytes('\n')
		if err == io.EOF {
			return end, nil
		}
		if err != nil {
			return end, err
		}
		text, err := logbook.OpenLine(bytes.TrimSuffix(b, []byte("\n")))
		if err != nil {
			return end, fmt.Errorf("the log of the scan, at byte %d: %w", end, err)
		}
		if err := visit(text); err != nil {
			return end, err
		}
		end += int64(len(b))
	}
}

// KeptIn says which file holds the pages; loose: it is the log of a crawl that belongs to no logbook.
func (s *Scan) KeptIn(file string, loose bool) { s.pages, s.loose = file, loose }

// IsKept reports whether a file holds the pages.
func (s *Scan) IsKept() bool { return s.pages != "" }

// EachPage calls visit for each document that was read, in the order of reading.
func (s *Scan) EachPage(visit func(ScannedPage) error) error {
	f, err := os.Open(s.pages)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // of a scan whose pages were cleared away the summary stays
	}
	if err != nil {
		return err
	}
	defer f.Close()
	if s.loose {
		_, err := EachLine(f, func(b []byte) error {
			var l struct { // a line of the crawl's log
				Doc *ScannedPage `json:"doc"`
			}
			if err := json.Unmarshal(b, &l); err != nil || l.Doc == nil {
				return err
			}
			return visit(*l.Doc)
		})
		return err
	}
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return err
	}
	defer z.Close()
	for d := json.NewDecoder(z); ; {
		var p ScannedPage
		if err := d.Decode(&p); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		if err := visit(p); err != nil {
			return err
		}
	}
}

// Forget removes the documents of a scan that belongs to no logbook.
func (s *Scan) Forget() {
	if s.loose {
		disk.RemoveTemp(filepath.Dir(s.pages)) // what stays goes with the next scan
	}
}

// Comparison is a scan held against an earlier one.
type Comparison struct {
	With   string              `json:"with"`
	Time   time.Time           `json:"time"`
	New    []Culprit           `json:"new"`
	Gone   []Culprit           `json:"gone"`          // all pages that held it were looked at again
	Still  []Culprit           `json:"still"`         // found then and now
	Unseen []Culprit           `json:"not_looked_at"` // a page that held it was not looked at again
	Then   map[mixed.Class]int `json:"then"`          // its findings by class
}

// Cause is one place that makes insecure addresses: one line of a template, one setting, one row.
type Cause struct {
	Place     Origin      `json:"place"`
	Class     mixed.Class `json:"class"`     // the gravest of what it makes
	Addresses int         `json:"addresses"` // how many it makes
	Pages     int         `json:"pages"`     // on at least so many documents
	Example   string      `json:"example"`   // the gravest address
}

// Causes groups what a traced scan found by the likeliest place of each, the gravest and the widest first.
// rest is how many addresses have no place that holds them.
func (s *Scan) Causes() (causes []Cause, rest int) {
	at := map[string]int{}
	for _, c := range s.Culprits {
		if len(c.Places) == 0 || c.Places[0].Match == Piece {
			rest++
			continue
		}
		p := c.Places[0]
		id := fmt.Sprint(p.Table, p.Column, p.Key, p.Path, p.File, p.Line)
		if p.Match == Document {
			id = p.Page
		}
		n, ok := at[id]
		if !ok {
			n = len(causes)
			at[id] = n
			causes = append(causes, Cause{Place: p, Class: c.Class, Example: c.URL})
		}
		one := &causes[n]
		one.Addresses++
		one.Pages = max(one.Pages, c.Pages)
		if Rank(c.Class) < Rank(one.Class) {
			one.Class, one.Example = c.Class, c.URL
		}
	}
	slices.SortStableFunc(causes, func(a, b Cause) int {
		return cmp.Or(Rank(a.Class)-Rank(b.Class), b.Pages-a.Pages, b.Addresses-a.Addresses)
	})
	return causes, rest
}

// Rank orders classes, the gravest first.
func Rank(c mixed.Class) int { return slices.Index(mixed.Classes, c) }

// BrowserState is what a real browser said, held against what was read.
type BrowserState struct {
	Version     string   `json:"version"`
	Pages       int      `json:"pages"`
	Reports     int      `json:"reports"`               // of mixed content
	Known       int      `json:"known"`                 // of them, those that had been read already
	New         int      `json:"new"`                   // and those that only the browser saw
	Unconfirmed []Unread `json:"unconfirmed,omitempty"` // read as certain, and not reported by the browser
	Failed      []Unread `json:"failed,omitempty"`
	LeftOut     int      `json:"left_out,omitempty"`
}
