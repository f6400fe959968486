package preview

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What waits for PHP is done in order, whether PHP was asked about it or not.
func TestJudgingWithoutPHP(t *testing.T) {
	g := &judging{out: &Opinion{}}
	var done []int
	for i, v := range []string{`plain`, `a:0:{}`, `s:1:"x";`} {
		assert.NoError(t, g.later([]byte(v), []byte(v), func(loads bool) error {
			assert.True(t, loads)
			done = append(done, i)
			return nil
		}))
	}
	assert.NoError(t, g.drain())
	assert.Equal(t, []int{0, 1, 2}, done)
	assert.Equal(t, 2, g.out.Unjudged)
	var none *judging
	assert.NoError(t, none.drain())
	none.close()
}
