// Package words is the catalogue: what the program found out, by its codes, in a user's words. It knows the core and
// nothing else, so that the jobs can name a sentence, and only here it is written.
//
// A sentence says what was seen, then what that means, then what to do: a command that works when pasted, or a plain
// step for a person.
package words

import (
	"fmt"
	"strings"

	"trimlantern/core/point"
)

// Sentence is what one code of a check says. What, Why and Do may hold places for values, by their numbers: %[1]s.
type Sentence struct {
	ID    string // of the points that it makes; several sentences may share one
	Grade point.Grade
	What  string // what was seen
	Why   string // why it matters; "" where that is plain
	Do    string // what to do; "" where there is nothing to do
}

// Point returns the sentence about something, with values in its places.
func (s Sentence) Point(about []string, values ...any) point.Point {
	if about == nil {
		about = []string{}
	}
	return point.Point{ID: s.ID, About: about, Grade: s.Grade, What: Fill(s.What, values...), Why: Fill(s.Why, values...), Do: Fill(s.Do, values...)}
}

// Fill returns a sentence with values in its places.
func Fill(sentence string, values ...any) string {
	if !strings.Contains(sentence, "%[") {
		return sentence
	}
	return fmt.Sprintf(sentence, values...)
}

// Count returns a number and its noun: "1 page", "2 pages".
func Count(n int, noun string) string {
	switch {
	case n == 1:
		return "1 " + noun
	case strings.HasSuffix(noun, "ss"):
		noun += "e"
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
