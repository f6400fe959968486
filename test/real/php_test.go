//go:build real

package real

import (
	"flag"
	"testing"

	"github.com/stretchr/testify/assert"
)

var (
	phpValues = flag.Int("php-values", 60_000, "how many random values PHP judges")
	phpSeed   = flag.Int64("php-seed", 1926, "where the random values begin; 0: the time")
)

// PHP writes random nested values, and judges what becomes of each.
func TestPHPJudges(t *testing.T) {
	t.Parallel()
	v := judgedByPHP(t, "judge.php", seedOf(t), *phpValues, "")
	assert.Greater(t, v.Changed, *phpValues/3, "most values hold a reference")
	assert.LessOrEqual(t, v.Left, *phpValues/250, "left and named: a length seems to be before it, or the secure twin beside it")
	t.Logf("%d values, %d changed, %d left and named, %d wrong", v.Values, v.Changed, v.Left, v.Wrong)
}
