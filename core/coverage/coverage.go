// Package coverage keeps the ledger of a scan: what became of every address that it came to know of,
// and whether that is enough to say that nothing is left.
package coverage

import (
	"cmp"
	"hash/maphash"
	"regexp"
	"slices"
	"strings"
)

// State is what became of an address.
type State string

// The states. Every address is in one of them.
const (
	Read        State = "read"        // its document was read
	NotPage     State = "not-a-page"  // asked for, and no document that could load anything
	Excluded    State = "excluded"    // known, and not asked for by a rule or a bound
	OffSite     State = "off-site"    // of another site
	Login       State = "needs-login" // the server wants to know who asks
	Undecodable State = "undecodable" // answered with something that cannot be read
	Failed      State = "failed"      // asked for, without a usable answer
	NotAsked    State = "not-asked"   // what a page loads, and nobody asked where it leads
)

// States lists all states, in the order of a report.
var States = []State{Read, NotPage, OffSite, Excluded, Login, Undecodable, Failed, NotAsked}

// Cause is why an address is in its state. Each cause belongs to one state.
type Cause string

// The causes.
const (
	AsDocument Cause = "document"   // Read
	Media      Cause = "media"      // NotPage: a picture, a film, a file
	Loaded     Cause = "loaded"     // NotPage: what a page loads; it was asked where it leads
	Moved      Cause = "moved"      // NotPage: redirects to an address with a line of its own
	Gone       Cause = "gone"       // NotPage: 404 or 410
	Unnamed    Cause = "unnamed"    // NotPage: another name of the site, which the DNS does not know
	Absent     Cause = "absent"     // NotPage: loaded by a page, and gives nothing
	Elsewhere  Cause = "elsewhere"  // OffSite
	Robots     Cause = "robots"     // Excluded by robots.txt
	Pattern    Cause = "pattern"    // Excluded by the user
	NoFollow   Cause = "nofollow"   // Excluded: all links to it say rel=nofollow
	Acting     Cause = "acting"     // Excluded: following it would do something: see Acts
	MaxPages   Cause = "pages"      // Excluded: past the number of pages
	MaxDepth   Cause = "depth"      // Excluded: past the number of links
	MaxTime    Cause = "time"       // Excluded: the time was up
	Sampled    Cause = "sample"     // Excluded: not in this sample
	Password   Cause = "password"   // Login: 401, or a redirect to a page that asks for a password
	Encoding   Cause = "encoding"   // Undecodable: a content coding that was not asked for
	Type       Cause = "type"       // Undecodable: a page, served as something that browsers download
	Cut        Cause = "cut"        // Undecodable: only its first part was read
	Malformed  Cause = "malformed"  // Undecodable: a site map that breaks off
	Refused    Cause = "refused"    // Failed: answers 400 or above
	NoAnswer   Cause = "no-answer"  // Failed: no connection, no certificate that counts, no answer in time
	Insecurely Cause = "insecurely" // Failed: leads back to HTTP
	Unlisted   Cause = "unlisted"   // Failed: the database, which could not be asked which pages it has
	Bare       Cause = "bare"       // NotAsked: the user wants it so
	MaxLoaded  Cause = "max-loaded" // NotAsked: past the number of things
	MaxKept    Cause = "max-ledger" // Excluded: past what the ledger can hold
)

// causes is the one table: the state of each cause, and whether an address with it stands in the way
// of a verdict on everything.
var causes = map[Cause]struct {
	state  State
	blocks bool
	rank   int // of two causes of one address the higher counts: it tells more
}{
	AsDocument: {Read, false, 9},
	Cut:        {Undecodable, true, 8}, Type: {Undecodable, true, 8}, Encoding: {Undecodable, true, 8}, Malformed: {Undecodable, true, 8},
	Password: {Login, true, 7}, Refused: {Failed, true, 7}, NoAnswer: {Failed, true, 7}, Insecurely: {Failed, true, 7}, Unlisted: {Failed, true, 7},
	Media: {NotPage, false, 6}, Moved: {NotPage, false, 6}, Gone: {NotPage, false, 6}, Unnamed: {NotPage, false, 6},
	Loaded: {NotPage, false, 5}, Absent: {NotPage, false, 5},
	MaxTime: {Excluded, true, 4}, MaxPages: {Excluded, true, 4}, Sampled: {Excluded, true, 4}, MaxDepth: {Excluded, true, 3}, MaxKept: {Excluded, true, 3},
	Robots: {Excluded, true, 4}, Pattern: {Excluded, true, 4},
	NoFollow: {Excluded, true, 2}, Acting: {Excluded, false, 2},
	Bare: {NotAsked, true, 1}, MaxLoaded: {NotAsked, true, 1},
	Elsewhere: {OffSite, false, 0},
}

// State returns the state that a cause belongs to; "" for one that is not known.
func (c Cause) State() State { return causes[c].state }

// Blocks reports whether an address with this cause stands in the way of a verdict on everything.
func (c Cause) Blocks() bool { return causes[c].blocks }

// Asked reports whether an address with this cause was asked for, and so far that what it held
// before is known to be there or not.
func (c Cause) Asked() bool { return c.State() == Read || c.State() == NotPage }

// Kind is what an address was wanted for.
type Kind uint8

// The kinds.
const (
	Page  Kind = iota // a document that visitors open
	Part              // a document that pages load: style sheet, script, frame; also feed and site map
	Thing             // a picture and the like, of which only counts where it leads
)

// String returns the kind as reports name it.
func (k Kind) String() string { return [...]string{"page", "part", "thing"}[k] }

// Mark is one line of the ledger.
type Mark struct {
	URL   string `json:"u"`
	Kind  Kind   `json:"k,omitempty"`
	Cause Cause  `json:"c"`
	Note  string `json:"n,omitempty"` // in words, what happened
}

// Ledger holds what became of each address. Of an address it keeps a hash, so that it stays small.
// Make it with New.
type Ledger struct {
	seed  maphash.Seed
	of    map[uint64]uint16 // the line that an address is in
	lines []line
	group func(u string) string
}

// line is all addresses of one group and kind with one cause.
type line struct {
	group    string
	kind     Kind
	cause    Cause
	count    int
	examples []Example
	patterns map[string]int // of what is past a bound: see Alike
}

// Alike is what many addresses have in common: an endless calendar, a filter in every order. Digits are
// written as #, and values of parameters as …
type Alike struct {
	Pattern string `json:"pattern"`
	Count   int    `json:"count"`
}

// Bounds of patterns: how many of a line are told apart, and how many addresses make one.
const (
	maxPatterns = 1000
	minPattern  = 10
)

// mostPatterns is how many patterns of a line a summary names.
const mostPatterns = 5

// digits is what differs between the pages of a calendar.
var digits = regexp.MustCompile(`[0-9]+`)

// pattern returns what an address has in common with others like it.
func pattern(u string) string {
	path, query, found := strings.Cut(u, "?")
	path = digits.ReplaceAllString(path, "#")
	if !found {
		return path
	}
	var names []string
	for pair := range strings.SplitSeq(query, "&") {
		name, _, _ := strings.Cut(pair, "=")
		names = append(names, digits.ReplaceAllString(name, "#")+"=…")
	}
	slices.Sort(names)
	return path + "?" + strings.Join(slices.Compact(names), "&")
}

// Example is one address of a line.
type Example struct {
	URL  string `json:"url"`
	Note string `json:"note,omitempty"`
}

// maxExamples is how many addresses of a line are kept by name.
const maxExamples = 500

// Bounds of a ledger. Past them addresses are counted, and not told apart.
const (
	maxAddresses = 20_000_000
	maxLines     = 60_000
)

// New makes an empty ledger. group tells which site an address belongs to, where there are several;
// nil: they are one.
func New(group func(u string) string) *Ledger {
	if group == nil {
		group = func(string) string { return "" }
	}
	return &Ledger{seed: maphash.MakeSeed(), of: map[uint64]uint16{}, group: group}
}

// Set notes what became of an address. One that has a line already changes it only for one that tells
// more: what was read was read.
func (l *Ledger) Set(m Mark) {
	to := causes[m.Cause]
	if to.state == "" {
		return
	}
	id := maphash.String(l.seed, m.URL)
	if n, ok := l.of[id]; ok {
		old := &l.lines[n]
		if causes[old.cause].rank >= to.rank {
			return
		}
		old.count--
		old.examples = slices.DeleteFunc(old.examples, func(e Example) bool { return e.URL == m.URL })
		m.Kind = min(m.Kind, old.kind) // a page that is framed too is a page
	} else if len(l.of) >= maxAddresses || len(l.lines) >= maxLines {
		id, m = 0, Mark{Cause: MaxKept}
	}
	group := ""
	if m.URL != "" && to.state != OffSite {
		group = l.group(m.URL)
	}
	n := slices.IndexFunc(l.lines, func(x line) bool { return x.kind == m.Kind && x.cause == m.Cause && x.group == group })
	if n < 0 {
		n = len(l.lines)
		l.lines = append(l.lines, line{group: group, kind: m.Kind, cause: m.Cause})
	}
	l.of[id] = uint16(n)
	at := &l.lines[n]
	at.count++
	if m.Cause == MaxPages || m.Cause == MaxDepth || m.Cause == MaxTime {
		if at.patterns == nil {
			at.patterns = map[string]int{}
		}
		if p := pattern(m.URL); at.patterns[p] > 0 || len(at.patterns) < maxPatterns {
			at.patterns[p]++
		}
	}
	if len(at.examples) < maxExamples && m.URL != "" {
		at.examples = append(at.examples, Example{m.URL, m.Note})
	}
}

// Of returns why an address is in its state; "" for one that is not known.
func (l *Ledger) Of(u string) Cause {
	if n, ok := l.of[maphash.String(l.seed, u)]; ok {
		return l.lines[n].cause
	}
	return ""
}

// Len returns how many addresses are known.
func (l *Ledger) Len() int { return len(l.of) }

// Summary is the ledger in numbers.
type Summary struct {
	Complete   bool   `json:"complete"` // all that the scan came to know of was looked at
	Addresses  int    `json:"addresses"`
	PagesRead  int    `json:"pages_read"`
	PagesKnown int    `json:"pages_known"` // read, and those that were not
	PartsRead  int    `json:"other_documents_read"`
	PartsKnown int    `json:"other_documents_known"`
	NotAsked   int    `json:"things_not_asked"`
	Lines      []Line `json:"lines"`
}

// Line is all addresses of one kind that are in one state for one cause.
type Line struct {
	State    State     `json:"state"`
	Cause    Cause     `json:"cause"`
	Kind     string    `json:"kind"` // "page", "part" or "thing"
	Count    int       `json:"count"`
	Blocks   bool      `json:"blocks"` // it stands in the way of "complete"
	Examples []Example `json:"examples"`
	Patterns []Alike   `json:"patterns"` // that most of it has in common, where it has
}

// Groups lists the groups that own addresses are in.
func (l *Ledger) Groups() (out []string) {
	for _, x := range l.lines {
		if x.count > 0 && x.cause != Elsewhere && !slices.Contains(out, x.group) {
			out = append(out, x.group)
		}
	}
	slices.Sort(out)
	return out
}

// Summary returns the ledger in numbers, with up to most examples in each line. Nothing read is not
// complete.
func (l *Ledger) Summary(most int) Summary {
	return l.summary(most, func(string) bool { return true })
}

// SummaryOf is Summary for the addresses of one group.
func (l *Ledger) SummaryOf(group string, most int) Summary {
	return l.summary(most, func(g string) bool { return g == group })
}

func (l *Ledger) summary(most int, wanted func(group string) bool) Summary {
	s := Summary{Lines: []Line{}}
	blocked := 0
	for _, x := range l.lines {
		if x.count == 0 || !wanted(x.group) {
			continue
		}
		state, blocks := x.cause.State(), x.cause.Blocks()
		read := state == Read
		switch {
		case x.kind == Page && (read || blocks):
			s.PagesKnown += x.count
			if read {
				s.PagesRead += x.count
			}
		case x.kind == Part && (read || blocks):
			s.PartsKnown += x.count
			if read {
				s.PartsRead += x.count
			}
		case x.kind == Thing && blocks:
			s.NotAsked += x.count
		}
		if blocks {
			blocked += x.count
		}
		s.Addresses += x.count
		n := slices.IndexFunc(s.Lines, func(l Line) bool { return l.Kind == x.kind.String() && l.Cause == x.cause })
		if n < 0 {
			n = len(s.Lines)
			s.Lines = append(s.Lines, Line{state, x.cause, x.kind.String(), 0, blocks, []Example{}, []Alike{}})
		}
		at := &s.Lines[n]
		at.Count += x.count
		for p, n := range x.patterns {
			if n >= minPattern {
				at.Patterns = append(at.Patterns, Alike{p, n})
			}
		}
		at.Examples = append(at.Examples, x.examples[:min(most-len(at.Examples), len(x.examples))]...)
	}
	for i := range s.Lines {
		p := s.Lines[i].Patterns
		slices.SortFunc(p, func(a, b Alike) int { return cmp.Or(b.Count-a.Count, strings.Compare(a.Pattern, b.Pattern)) })
		s.Lines[i].Patterns = p[:min(len(p), mostPatterns)]
	}
	s.Complete = blocked == 0 && s.PagesRead > 0
	slices.SortFunc(s.Lines, func(a, b Line) int {
		if a.State != b.State {
			return slices.Index(States, a.State) - slices.Index(States, b.State)
		}
		return b.Count - a.Count
	})
	return s
}

// Blocking returns the lines that stand in the way of "complete".
func (s Summary) Blocking() (out []Line) {
	for _, l := range s.Lines {
		if l.Blocks {
			out = append(out, l)
		}
	}
	return out
}

// CountPages returns how many pages are in the lines of a cause.
func (s Summary) CountPages(of Cause) (n int) {
	for _, l := range s.Lines {
		if l.Cause == of && l.Kind == Page.String() {
			n += l.Count
		}
	}
	return n
}

// Count returns how many addresses are in the lines of one of the causes.
func (s Summary) Count(of ...Cause) (n int) {
	for _, l := range s.Lines {
		if slices.Contains(of, l.Cause) {
			n += l.Count
		}
	}
	return n
}
