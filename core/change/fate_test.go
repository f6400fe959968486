package change

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What becomes of a thing follows from what it holds, in both directions, and a second run finds what the first one left.
func TestCheck(t *testing.T) {
	a, b, c := Holds([]byte("a")), Holds([]byte("b")), Holds(nil)
	for _, from := range []State{a, b, c, Gone} {
		for _, to := range []State{a, b, c, Gone} {
			for _, now := range []State{a, b, c, Gone} {
				want := Other
				if now == from {
					want = Due
				}
				if now == to {
					want = Done
				}
				assert.Equal(t, want, Check(now, from, to))
			}
			assert.Equal(t, Done, Check(to, from, to), "carried out twice is carried out once")
			assert.Equal(t, Done, Check(from, to, from), "taken back twice is taken back once")
		}
	}
	assert.NotEqual(t, Gone, Holds(nil), "an empty file is there")
}
