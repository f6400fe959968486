package work

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"trimlantern/core/change"
	"trimlantern/core/point"
	"trimlantern/core/rewrite"
)

// InsecureAddress is the finding under which an owner accepts one insecure URL, wherever it is stored and
// whatever page holds it.
const InsecureAddress = "insecure-address"

// ByAddress are the reasons that are about a URL, and not about the place that holds it.
var ByAddress = map[rewrite.Reason]bool{rewrite.NoHTTPS: true, rewrite.NoVerdict: true, rewrite.Possible: true, rewrite.Subdomain: true,
	rewrite.OtherPort: true, rewrite.Private: true, rewrite.Outside: true}

// SameURL returns the form of a URL by which two writings of it are equal: scheme and host in lower case,
// without the scheme's own port.
func SameURL(raw string) string {
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		return raw
	}
	host := strings.ToLower(u.Host)
	if u.Scheme == "http" {
		host = strings.TrimSuffix(host, ":80")
	}
	_, rest, _ := strings.Cut(raw, "://")
	if i := strings.IndexAny(rest, "/?#"); i >= 0 {
		return strings.ToLower(u.Scheme) + "://" + host + rest[i:]
	}
	return strings.ToLower(u.Scheme) + "://" + host
}

// About returns what a finding of preview is about, as decisions name it: a URL, or a place.
func About(l *change.Left) (finding, of string) {
	if l.URL != "" && ByAddress[l.Reason] {
		return InsecureAddress, SameURL(l.URL)
	}
	return string(l.Reason), placeID(l)
}

// placeID names a place from one run to the next: a file, or a row by its key, and the path inside the value.
func placeID(l *change.Left) string {
	if l.File != "" {
		return fmt.Sprintf("%s %s", l.File, l.URL)
	}
	id := CellPlace(l.Table, l.Column, l.Key)
	if l.Path != "" {
		id += " " + l.Path
	}
	if l.URL != "" {
		id += " " + l.URL
	}
	return id
}

// EditStale is the note of a finding about a text whose edit, decided by the owner, cannot be made.
const EditStale = "your edit cannot be made: the text was changed since, or the logbook holds yours no more"

// CellPlace names a cell from one run to the next, as decisions do: by its table, its column and the key of its row.
func CellPlace(table, column string, key []change.Value) string {
	var b strings.Builder
	b.WriteString(table)
	if column != "" {
		b.WriteString("." + column)
	}
	for _, k := range key {
		fmt.Fprintf(&b, " %q", string(k))
	}
	return b.String()
}

// Replacements are the URLs that stand in the place of others, by the owner's decision.
type Replacements struct {
	by     map[string]string // by the URL in its usual form
	counts map[string]int    // how often each was rewritten
}

// Replacements returns the URLs that the site file puts in the place of others.
func (j *Job) Replacements() *Replacements {
	r := &Replacements{by: map[string]string{}, counts: map[string]int{}}
	for _, one := range j.File.Replaced {
		r.by[SameURL(one.From)] = one.To
	}
	return r
}

// to returns what stands in the place of a URL.
func (r *Replacements) to(url string) (string, bool) {
	to, ok := r.by[SameURL(url)]
	return to, ok
}

// Rule sets the rules of a rewriting up. Without any replacement they stay as fast as they are.
func (r *Replacements) Rule(rules *rewrite.Rules) {
	if len(r.by) == 0 {
		return
	}
	rules.Replace = r.to
	rules.Rewritten = func(f rewrite.Finding) {
		if f.By != "" {
			r.counts[SameURL(f.URL)]++
		}
	}
}

// Replacement is one URL that stands in the place of another, and how often a sheet puts it there.
type Replacement struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Count int    `json:"count"`
}

// List returns those that were used.
func (r *Replacements) List(j *Job) []Replacement {
	out := []Replacement{}
	for _, one := range j.File.Replaced {
		if n := r.counts[SameURL(one.From)]; n > 0 {
			out = append(out, Replacement{one.From, one.To, n})
		}
	}
	return out
}

// Settled turns a finding that the owner accepted into one that needs nobody.
func (j *Job) Settled(l *change.Left) {
	if len(j.File.Accepted) == 0 || !l.Reason.NeedsPerson() {
		return
	}
	finding, of := About(l)
	if because := j.Accepted(finding, of); because != "" {
		l.Note, l.Reason = string(l.Reason)+", accepted: "+because, rewrite.Kept
	}
}

// AcceptedURLs are the insecure URLs that the owner accepts, with the reasons.
func (j *Job) AcceptedURLs() map[string]string { return j.acceptedOf(InsecureAddress) }

// AcceptedGaps are the clauses of a scan's verdict, and the causes of gaps, that the owner accepts, with the reasons.
func (j *Job) AcceptedGaps() map[string]string { return j.acceptedOf(UnseenGap) }

// acceptedOf returns what a finding is accepted for, with the reasons.
func (j *Job) acceptedOf(finding string) map[string]string {
	all := map[string]string{}
	if j.File == nil {
		return all
	}
	for _, a := range j.File.Accepted {
		if a.Finding == finding {
			for _, about := range a.About {
				all[about] = a.Because
			}
		}
	}
	return all
}

// UnseenGap is the finding under which an owner accepts that a clause of a scan's verdict stays open, or a cause of that;
// about names which.
const UnseenGap = "scan gap"

// DecisionFault turns an error of the site file into a user's words.
func (j *Job) DecisionFault(err error) error {
	if refused := Untrusted(err); refused != nil {
		return refused
	}
	return Failed(err, "the decision cannot be written to the site file", "make "+j.File.Path+" writable")
}

// Today is how decisions are dated.
func (j *Job) Today() string { return j.Now().Format("2006-01-02") }

// numbersFile keeps the number of each fault that was shown, so that it stays the same.
const numbersFile = "numbers.json"

// numbers are the numbers of faults by their keys.
type numbers struct {
	Last int            `json:"last"`
	Of   map[string]int `json:"of"`
}

// Accepted returns the owner's reason for accepting a finding about one thing, or "".
func (j *Job) Accepted(id, about string) string {
	for _, a := range j.File.Accepted {
		if a.Finding == id && (len(a.About) == 0 && about == "" || slices.Contains(a.About, about)) {
			return a.Because
		}
	}
	return ""
}

// WithDecisions marks accepted faults and numbers all faults for a decision. A fault that is accepted for some of
// its addresses only is split in two.
func (j *Job) WithDecisions(points []point.Point) ([]point.Point, error) {
	var out []point.Point
	for _, p := range points {
		if p.About == nil {
			p.About = []string{}
		}
		if p.Grade != point.Care { // what stops visitors counts whatever anybody accepts
			out = append(out, p)
			continue
		}
		if len(p.About) == 0 {
			p.Accepted = j.Accepted(p.ID, "")
			out = append(out, p)
			continue
		}
		rest := p
		rest.About = []string{}
		taken := p
		taken.About = []string{}
		for _, about := range p.About {
			if because := j.Accepted(p.ID, about); because != "" {
				taken.About, taken.Accepted = append(taken.About, about), because
			} else {
				rest.About = append(rest.About, about)
			}
		}
		for _, part := range []point.Point{rest, taken} {
			if len(part.About) > 0 {
				out = append(out, part)
			}
		}
	}
	return out, j.number(out)
}

// number gives each fault the number that it had, or a new one.
func (j *Job) number(points []point.Point) error {
	if j.Book == nil || j.File.Path == "" {
		return nil // there is no site file for a decision
	}
	var faults []*point.Point
	var keys []string
	for i := range points {
		if points[i].Grade.Fault() {
			faults, keys = append(faults, &points[i]), append(keys, points[i].Key())
		}
	}
	all, err := j.Numbered(keys)
	for i := range all {
		faults[i].Number = all[i]
	}
	return err
}

// Numbered returns the numbers under which things with these keys were shown, or new ones. They stay the same
// from one run to the next.
func (j *Job) Numbered(keys []string) ([]int, error) {
	var out []int
	err := j.Book.Change(func() (err error) {
		out, err = j.numbered(keys)
		return err
	})
	if err != nil {
		return nil, Failed(err, "the result cannot be kept in the logbook", "make the folder of the site file writable")
	}
	return out, nil
}

func (j *Job) numbered(keys []string) ([]int, error) {
	var known numbers
	if err := j.Book.ReadJSON(numbersFile, &known); err != nil {
		known = numbers{} // a broken file starts again
	}
	if known.Of == nil {
		known.Of = map[string]int{}
	}
	was := known.Last
	out := make([]int, len(keys))
	for i, key := range keys {
		if known.Of[key] == 0 {
			known.Last++
			known.Of[key] = known.Last
		}
		out[i] = known.Of[key]
	}
	if known.Last == was {
		return out, nil
	}
	return out, j.Book.WriteJSON(numbersFile, known)
}
