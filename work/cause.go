package work

import (
	"cmp"
	"fmt"
	"slices"

	"trimlantern/core/mixed"
)

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

func Rank(c mixed.Class) int { return slices.Index(mixed.Classes, c) }
