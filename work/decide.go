package work

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"trimlantern/core/point"
	"trimlantern/outside/sitefile"
)

// numbersFile keeps the number of each fault that was shown, so that it stays the same.
const numbersFile = "numbers.json"

// numbers are the numbers of faults by their keys.
type numbers struct {
	Last int            `json:"last"`
	Of   map[string]int `json:"of"`
}

// accepted returns the owner's reason for accepting a finding about one thing, or "".
func (j *Job) accepted(id, about string) string {
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
			p.Accepted = j.accepted(p.ID, "")
			out = append(out, p)
			continue
		}
		rest := p
		rest.About = []string{}
		taken := p
		taken.About = []string{}
		for _, about := range p.About {
			if because := j.accepted(p.ID, about); because != "" {
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
	all, err := j.numbered(keys)
	for i := range all {
		faults[i].Number = all[i]
	}
	return err
}

// numbered returns the numbers under which things with these keys were shown, or new ones. They stay the same
// from one run to the next.
func (j *Job) numbered(keys []string) ([]int, error) {
	var known numbers
	if err := j.Book.ReadJSON(numbersFile, &known); err != nil {
		known = numbers{} // a broken file numbers anew
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
	if err := j.Book.WriteJSON(numbersFile, known); err != nil {
		return nil, Failed(err, "the result cannot be kept in the logbook", "make the folder of the site file writable")
	}
	return out, nil
}

// Decision is what the owner decided about a finding.
type Decision struct {
	Number  int      `json:"number"`
	Finding string   `json:"finding"`
	About   []string `json:"about"`
	What    string   `json:"what"`
	Because string   `json:"because"`
	Path    string   `json:"path"` // of the site file that keeps it
}

// Code is the exit code that it comes to.
func (*Decision) Code() int { return Clean }

// Accept records in the site file that the owner accepts a finding, named by its number or its URL, with a
// reason: it is shown from then on, and does not count.
func (j *Job) Accept(what, because string) (*Decision, error) {
	if strings.TrimSpace(because) == "" {
		return nil, BadUse(nil, "a decision needs a reason", `write it for those who look after the site next: --because "the host's panel does that"`)
	}
	points, err := j.lastPoints()
	if err != nil {
		return nil, err
	}
	number, bad := strconv.Atoi(what)
	i := -1
	if bad == nil {
		i = slices.IndexFunc(points, func(p point.Point) bool { return p.Number == number && p.Grade.Fault() })
	}
	entry := sitefile.Accepted{Because: strings.TrimSpace(because), Date: j.today()}
	d := &Decision{Number: number, Because: entry.Because, Path: j.File.Path}
	if i < 0 {
		item, err := j.item(what)
		if err != nil {
			return nil, err
		}
		if item == nil {
			return nil, BadUse(nil, what+" is nothing that preview or the last scan found", "trimlantern show lists what needs a decision")
		}
		entry.Finding, d.Number = item.Finding, item.Number
		entry.About, d.What = []string{strings.TrimPrefix(item.key, item.Finding+" ")}, cmp.Or(item.URL, strings.Join(item.Places, ", "))
	} else {
		p := points[i]
		if p.Grade == point.Stop {
			return nil, BadUse(nil, fmt.Sprintf("fault %d stops visitors, and cannot be accepted: %s", number, p.What), "fix it; what cannot be fixed now keeps the site from being ready")
		}
		if p.Accepted != "" {
			return nil, BadUse(nil, fmt.Sprintf("fault %d is accepted already: %s", number, p.Accepted), "edit accepted in "+j.File.Path+" to change the reason")
		}
		entry.Finding, entry.About, d.What = p.ID, p.About, p.What
	}
	d.Finding, d.About = entry.Finding, entry.About
	if err := j.File.Add("accepted", entry); err != nil {
		return nil, j.decisionFault(err)
	}
	return d, nil
}

// lastPoints are the faults that the last ready and the last redirect test showed, by their numbers.
func (j *Job) lastPoints() ([]point.Point, error) {
	var ready Ready
	var redirects RedirectTest
	if err := j.Book.ReadJSON(ReadyFile, &ready); err != nil {
		return nil, Failed(err, "the logbook cannot be read", "remove the broken file")
	}
	if err := j.Book.ReadJSON(RedirectsFile, &redirects); err != nil {
		return nil, Failed(err, "the logbook cannot be read", "remove the broken file")
	}
	return j.WithDecisions(append(ready.Points, redirects.Points...))
}
