package text

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// Edits after edits are, composed, the same edits at once.
func TestCompose(t *testing.T) {
	for seed := range uint64(20_000) {
		g := rand.New(rand.NewPCG(seed, 1))
		some := func(b []byte) (edits []Edit) {
			for p := g.IntN(4); p <= len(b); {
				n := min(g.IntN(3), len(b)-p)
				e := Edit{Offset: p, Removed: string(b[p : p+n]), Inserted: "XYZ"[:g.IntN(4)]}
				if e.Removed != e.Inserted {
					edits = append(edits, e)
				}
				p += n + 1 + g.IntN(5)
			}
			return edits
		}
		b := []byte("abcdefghijkl")[:g.IntN(13)]
		first := some(b)
		mid, err := Apply(b, first)
		require.NoError(t, err)
		second := some(mid)
		want, err := Apply(mid, second)
		require.NoError(t, err)
		got, err := Apply(b, Compose(b, mid, first, second))
		require.NoError(t, err, "%q %v %v", b, first, second)
		require.Equal(t, string(want), string(got), "%q %v %v", b, first, second)
	}
}
