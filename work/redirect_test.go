package work

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"trimlantern/core/hops"
	"trimlantern/core/point"
)

// What this machine could not follow is not called right, and where that is everything nothing is shown.
func TestUnfollowed(t *testing.T) {
	seen := JourneySeen{Journey: hops.Journey{Typed: "https://ternrock.example/", Method: "GET"}}
	far := JourneySeen{Journey: hops.Journey{Typed: "http://ternrock.example/", Method: "GET", Far: true}, Problems: []hops.Problem{hops.TooFar}}
	some := &RedirectTest{Journeys: []JourneySeen{seen, far}}
	some.Points = causes(some.Journeys)
	assert.Equal(t, Clean, some.Code())
	assert.Equal(t, 1, some.right())
	none := &RedirectTest{Journeys: []JourneySeen{far}}
	none.Points = causes(none.Journeys)
	assert.Equal(t, Remain, none.Code())
	assert.Equal(t, point.Note, none.Worst())
}
