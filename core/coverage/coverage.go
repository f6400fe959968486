// Package coverage keeps the ledger of a scan: what became of every address that it came to know of,
// and whether that is enough to say that nothing is left.
package coverage

import (
	"cmp"
	"hash/maphash"
	"maps"
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
	Unseen      State = "unseen"      // read, but not as each visitor sees it: an address may be in such lines besides its own
)

// States lists all states, in the order of a report.
var States = []State{Read, NotPage, OffSite, Excluded, Login, Undecodable, Failed, NotAsked, Unseen}

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
	Unlisted   Cause = "unlisted"   // Failed: a list of addresses that could not be read: of the database, robots.txt, a site map
	Bare       Cause = "bare"       // NotAsked: the user wants it so
	MaxLoaded  Cause = "max-loaded" // NotAsked: past the number of things
	MaxKept    Cause = "max-ledger" // Excluded: past what the ledger can hold
	Session    Cause = "session"    // Excluded: a link that does something for those alone who have signed in
	Gate       Cause = "gate"       // Login: redirects to a page that wants something first, and is told where to go back to
	Unrun      Cause = "unrun"      // Unseen: its scripts were not run
	Unlooked   Cause = "unlooked"   // Unseen: the browser did not look at it, or not to its end
	Differs    Cause = "differs"    // Unseen: others see another page, by device, language or cookie
	Alike      Cause = "alike"      // Unseen: the same page under many addresses, as of a wall
	Funnel     Cause = "funnel"     // Unseen: many addresses lead to this one
	SignIn     Cause = "sign-in"    // Unseen: asks for a password where a page was to be
	Reloads    Cause = "reloads"    // Unseen: says little, and loads itself again, as while a browser is examined
)

// Clause is one part of what a verdict on a whole site claims.
type Clause string

// The clauses.
const (
	Addresses Clause = "addresses" // every address that is known was asked for
	Parts     Clause = "parts"     // all that pages load was read, or asked where it leads
	Scripts   Clause = "scripts"   // the scripts of all pages were run
	Browser   Clause = "browser"   // the browser looked at each page, to its end
	Identity  Clause = "identity"  // who else asks sees the same: another device, language or cookie
	Walls     Clause = "walls"     // nothing is in the way of a page: a password, a question, a challenge
)

// Clauses lists all clauses, in the order of a report.
var Clauses = []Clause{Addresses, Parts, Scripts, Browser, Identity, Walls}

// causes is the one table: the state of each cause, whether an address with it blocks
// a verdict on everything, and of which clause of it; "": of Addresses for a page, of Parts for what it loads.
var causes = map[Cause]struct {
	state  State
	blocks bool
	rank   int // of two causes of one address the higher counts: it tells more
	clause Clause
}{
	AsDocument: {Read, false, 9, ""},
	Cut:        {Undecodable, true, 8, ""}, Type: {Undecodable, true, 8, ""}, Encoding: {Undecodable, true, 8, ""}, Malformed: {Undecodable, true, 8, Addresses},
	Password: {Login, true, 7, Walls}, Gate: {Login, true, 7, Walls}, Refused: {Failed, true, 7, ""}, NoAnswer: {Failed, true, 7, ""}, Insecurely: {Failed, true, 7, ""}, Unlisted: {Failed, true, 7, Addresses},
	Media: {NotPage, false, 6, ""}, Moved: {NotPage, false, 6, ""}, Gone: {NotPage, false, 6, ""}, Unnamed: {NotPage, false, 6, ""},
	Loaded: {NotPage, false, 5, ""}, Absent: {NotPage, false, 5, ""},
	MaxTime: {Excluded, true, 4, ""}, MaxPages: {Excluded, true, 4, ""}, Sampled: {Excluded, true, 4, ""}, MaxDepth: {Excluded, true, 3, ""}, MaxKept: {Excluded, true, 3, ""},
	Robots: {Excluded, true, 4, ""}, Pattern: {Excluded, true, 4, ""},
	NoFollow: {Excluded, true, 2, ""}, Acting: {Excluded, true, 2, ""}, Session: {Excluded, false, 2, ""},
	Bare: {NotAsked, true, 1, ""}, MaxLoaded: {NotAsked, true, 1, ""},
	Elsewhere: {OffSite, false, 0, ""},
	Unrun:     {Unseen, true, 0, Scripts}, Unlooked: {Unseen, true, 0, Browser}, Differs: {Unseen, true, 0, Identity},
	Alike: {Unseen, true, 0, Walls}, Funnel: {Unseen, true, 0, Walls}, SignIn: {Unseen, true, 0, Walls}, Reloads: {Unseen, true, 0, Walls},
}

// State returns the state that a cause belongs to; "" for one that is not known.
func (c Cause) State() State { return causes[c].state }

// Blocks reports whether an address with this cause stands in the way of a verdict on everything.
func (c Cause) Blocks() bool { return causes[c].blocks }

// clause returns the clause that an address of a kind with this cause belongs to.
func (c Cause) clause(k Kind) Clause {
	if of := causes[c].clause; of != "" {
		return of
	}
	if k == Page {
		return Addresses
	}
	return Parts
}

// Names reports whether a name is one of a clause, or of a cause that keeps one open: a gap can be
// accepted by either.
func Names(name string) bool {
	return slices.Contains(Clauses, Clause(name)) || causes[Cause(name)].blocks
}

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
	also  map[Cause]map[uint64]Example // lines of Unseen, in which an address may be besides its own
}

// line is all addresses of one group and kind with one cause.
type line struct {
	group    string
	kind     Kind
	cause    Cause
	count    int
	examples []Example
	patterns map[string]int // of what is past a bound: see Shape
}

// Shape is what many addresses have in common: an endless calendar, a filter in every order. Digits are
// written as #, and values of parameters as …
type Shape struct {
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
	return &Ledger{seed: maphash.MakeSeed(), of: map[uint64]uint16{}, group: group, also: map[Cause]map[uint64]Example{}}
}

// Set notes what became of an address. One that has a line already changes it only for one that tells
// more: what was read was read.
func (l *Ledger) Set(m Mark) {
	to := causes[m.Cause]
	if to.state == "" {
		return
	}
	id := maphash.String(l.seed, m.URL)
	if to.state == Unseen {
		if l.also[m.Cause] == nil {
			l.also[m.Cause] = map[uint64]Example{}
		}
		e := Example{}
		if len(l.also[m.Cause]) < maxExamples {
			e = Example{m.URL, m.Note}
		}
		if _, ok := l.also[m.Cause][id]; !ok {
			l.also[m.Cause][id] = e
		}
		return
	}
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

// Clear takes an address out of a line of Unseen: a browser has looked at it.
func (l *Ledger) Clear(u string, of Cause) { delete(l.also[of], maphash.String(l.seed, u)) }

// Has reports whether an address is in a line of Unseen.
func (l *Ledger) Has(u string, of Cause) bool {
	_, ok := l.also[of][maphash.String(l.seed, u)]
	return ok
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

	Clauses []ClauseState `json:"clauses"` // what the verdict claims, each part closed or not
}

// ClauseState is the state of one clause of a verdict.
type ClauseState struct {
	Clause   Clause `json:"clause"`
	Closed   bool   `json:"closed"`   // nothing is left open that is not accepted
	Open     int    `json:"open"`     // addresses that keep it open
	Accepted int    `json:"accepted"` // and those of which the owner accepts that they do
}

// Line is all addresses of one kind that are in one state for one cause.
type Line struct {
	State    State     `json:"state"`
	Cause    Cause     `json:"cause"`
	Kind     string    `json:"kind"` // "page", "part" or "thing"
	Count    int       `json:"count"`
	Blocks   bool      `json:"blocks"`             // it keeps "complete" false
	Clause   Clause    `json:"clause"`             // the part of the verdict that it keeps open
	Accepted string    `json:"accepted,omitempty"` // the owner's reason for accepting that
	Examples []Example `json:"examples"`
	Patterns []Shape   `json:"patterns"` // that most of it has in common, where it has
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
	for _, x := range append(slices.Clone(l.lines), l.unseen()...) {
		if x.count == 0 || !wanted(x.group) {
			continue
		}
		state, blocks := x.cause.State(), x.cause.Blocks()
		read := state == Read
		switch {
		case state == Unseen: // its addresses are in a line of their own
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
		if state != Unseen {
			s.Addresses += x.count
		}
		n := slices.IndexFunc(s.Lines, func(l Line) bool { return l.Kind == x.kind.String() && l.Cause == x.cause })
		if n < 0 {
			n = len(s.Lines)
			s.Lines = append(s.Lines, Line{State: state, Cause: x.cause, Kind: x.kind.String(), Blocks: blocks, Clause: x.cause.clause(x.kind), Examples: []Example{}, Patterns: []Shape{}})
		}
		at := &s.Lines[n]
		at.Count += x.count
		for p, n := range x.patterns {
			if n >= minPattern {
				at.Patterns = append(at.Patterns, Shape{p, n})
			}
		}
		at.Examples = append(at.Examples, x.examples[:min(most-len(at.Examples), len(x.examples))]...)
	}
	for i := range s.Lines {
		p := s.Lines[i].Patterns
		slices.SortFunc(p, func(a, b Shape) int { return cmp.Or(b.Count-a.Count, strings.Compare(a.Pattern, b.Pattern)) })
		s.Lines[i].Patterns = p[:min(len(p), mostPatterns)]
	}
	slices.SortFunc(s.Lines, func(a, b Line) int {
		if a.State != b.State {
			return slices.Index(States, a.State) - slices.Index(States, b.State)
		}
		return b.Count - a.Count
	})
	s.Accept(nil)
	return s
}

// unseen returns the lines of Unseen, by groups.
func (l *Ledger) unseen() (out []line) {
	for _, c := range slices.Sorted(maps.Keys(l.also)) {
		at := map[string]int{}
		for _, e := range l.also[c] {
			group := ""
			if e.URL != "" {
				group = l.group(e.URL)
			}
			n, ok := at[group]
			if !ok {
				n = len(out)
				at[group] = n
				out = append(out, line{group: group, kind: Page, cause: c})
			}
			out[n].count++
			if e.URL != "" {
				out[n].examples = append(out[n].examples, e)
			}
		}
	}
	for _, x := range out {
		slices.SortFunc(x.examples, func(a, b Example) int { return strings.Compare(a.URL, b.URL) })
	}
	return out
}

// Accept closes what the owner accepts: by the name of a clause, or of one cause, with the reason. It opens again what
// was accepted before, and is not now. Nothing read is never complete.
func (s *Summary) Accept(because map[string]string) {
	s.Complete = s.PagesRead > 0
	s.Clauses = []ClauseState{}
	for _, c := range Clauses {
		one := ClauseState{Clause: c}
		for i := range s.Lines {
			l := &s.Lines[i]
			if !l.Blocks || l.Clause != c {
				continue
			}
			if l.Accepted = cmp.Or(because[string(l.Cause)], because[string(l.Clause)]); l.Accepted != "" {
				one.Accepted += l.Count
			} else {
				one.Open += l.Count
			}
		}
		one.Closed = one.Open == 0
		s.Complete = s.Complete && one.Closed
		s.Clauses = append(s.Clauses, one)
	}
}

// Accepted returns the lines that keep a clause open, and that the owner accepts.
func (s Summary) Accepted() (out []Line) {
	for _, l := range s.Lines {
		if l.Blocks && l.Accepted != "" {
			out = append(out, l)
		}
	}
	return out
}

// Blocking returns the lines that keep a clause open, and are not accepted.
func (s Summary) Blocking() (out []Line) {
	for _, l := range s.Lines {
		if l.Blocks && l.Accepted == "" {
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
