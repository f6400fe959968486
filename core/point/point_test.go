package point

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWorst(t *testing.T) {
	for _, c := range []struct {
		points []Point
		want   Grade
	}{
		{nil, Good},
		{[]Point{{Grade: Good}, {Grade: Note}}, Note},
		{[]Point{{Grade: Care}, {Grade: Note}}, Care},
		{[]Point{{Grade: Stop}, {Grade: Care}}, Stop},
		{[]Point{{Grade: Stop, Accepted: "the owner's"}, {Grade: Good}}, Good},
		{[]Point{{Grade: Care, Accepted: "the owner's"}, {Grade: Note}}, Note},
	} {
		assert.Equal(t, c.want, Worst(c.points), "%+v", c.points)
	}
	assert.False(t, Note.Fault())
	assert.True(t, Care.Fault())
	assert.Equal(t, "names shop.ternrock.example", Point{ID: "names", About: []string{"shop.ternrock.example"}}.Key())
	assert.Equal(t, "names", Point{ID: "names"}.Key())
}
