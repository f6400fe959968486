// Package point is the common form of what a check finds: about a certificate, a redirect, a server. It keeps
// faults, notes and accepted faults apart.
package point

import (
	"slices"
	"strings"
)

// Grade says how much a point matters. The values are stable names.
type Grade string

// The grades, from the best to the worst.
const (
	Good Grade = "good"
	Note Grade = "note" // what the system or the host does by itself: shown, and no fault
	Care Grade = "care" // a fault that visitors can live with
	Stop Grade = "stop" // a fault that stops visitors
)

var grades = []Grade{Good, Note, Care, Stop}

// Worse reports whether g is worse than other.
func (g Grade) Worse(other Grade) bool {
	return slices.Index(grades, g) > slices.Index(grades, other)
}

// Fault reports whether g is one.
func (g Grade) Fault() bool { return g.Worse(Note) }

// Point is one thing that was looked at. What it is about and its ID name it from one check to the next.
type Point struct {
	ID    string   `json:"id"`    // a stable name of its kind
	About []string `json:"about"` // what it is about: hosts, addresses; nil where that is the site as a whole
	Grade Grade    `json:"grade"`
	What  string   `json:"what"`          // what was seen
	Why   string   `json:"why,omitempty"` // why it matters
	Do    string   `json:"do,omitempty"`  // what to do

	Number   int    `json:"number,omitempty"`   // by which the owner decides on it
	Accepted string `json:"accepted,omitempty"` // the owner's reason: it counts no more
}

// Key names the point from one check to the next.
func (p Point) Key() string { return strings.Join(append([]string{p.ID}, p.About...), " ") }

// Counts reports whether the point is a fault that nobody accepted.
func (p Point) Counts() bool { return p.Grade.Fault() && p.Accepted == "" }

// Worst returns the worst grade of what counts: Good, Care or Stop. Where nothing counts and there are
// notes it is Note.
func Worst(points []Point) Grade {
	worst := Good
	for _, p := range points {
		if g := p.Grade; (p.Counts() || g == Note) && g.Worse(worst) {
			worst = g
		}
	}
	return worst
}
