package redirect

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"trimlantern/core/hops"
	"trimlantern/core/point"
	"trimlantern/work"
)

// What this machine could not follow is not called right, and where that is everything nothing is shown.
func TestUnfollowed(t *testing.T) {
	seen := Journey{Journey: hops.Journey{Typed: "https://ternrock.example/", Method: "GET"}}
	far := Journey{Journey: hops.Journey{Typed: "http://ternrock.example/", Method: "GET", Far: true}, Problems: []hops.Problem{hops.TooFar}}
	some := &Tested{Journeys: []Journey{seen, far}}
	some.Points = causes(some.Journeys)
	assert.Equal(t, work.Clean, some.Code())
	assert.Equal(t, 1, some.right())
	none := &Tested{Journeys: []Journey{far}}
	none.Points = causes(none.Journeys)
	assert.Equal(t, work.Remain, none.Code())
	assert.Equal(t, point.Note, none.Worst())
}
