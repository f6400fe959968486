//go:build real

package real

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"flag"
	"io"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
	"trimlantern/core/envelope"
	"trimlantern/core/rewrite"
)

var (
	mutatedValues = flag.Int("mutated-values", 4_000, "how many values of each class are mutated")
	mendedValues  = flag.Int("mended-values", 4_000, "how many broken values of each class are mended")
	layerValues   = flag.Int("layer-values", 200, "how many random values of each class of layers PHP judges")
	mixedValues   = flag.Int("mixed-values", 20_000, "how many random values in layers of random order PHP judges")
)

// PHP wraps texts in layers, in every order that practice has, and unwraps what
// becomes of each: secure, or as it was and named.
func TestLayersJudged(t *testing.T) {
	t.Parallel()
	names, seed := classes(t, "layers.php"), seedOf(t)
	require.Greater(t, len(names), 80)
	left := 0
	for _, name := range names {
		v := judgedByPHP(t, "layers.php", seed, *layerValues, name)
		left += v.Left
		if v.Left > 0 {
			t.Logf("%s: %d of %d left and named", name, v.Left, v.Values)
		}
	}
	t.Logf("%d classes of %d values: %d left and named", len(names), *layerValues, left)
	v := judgedByPHP(t, "layers.php", seed, *mixedValues, "mixed")
	assert.Less(t, v.Left, v.Values/20, "mixed values that are left")
	t.Logf("%d mixed values: %d changed, %d left and named, %d wrong; %v", v.Values, v.Changed, v.Left, v.Wrong, v.Where)
}

// Of values whose bytes were changed at random PHP reads afterwards what it could read before,
// and what it could not read is not touched.
func TestMutatedJudged(t *testing.T) {
	t.Parallel()
	names, seed := classes(t, "mutate.php"), seedOf(t)
	require.NotEmpty(t, names)
	values, broken := 0, 0
	for _, name := range names {
		v := judgedByPHP(t, "mutate.php", seed, *mutatedValues, name)
		values, broken = values+v.Values, broken+v.Left
	}
	assert.Greater(t, broken, values/4)
	t.Logf("%d mutated values, %d of which PHP cannot read", values, broken)
}

// Values that a careless replacement broke come out as a careful one would have made them, or as
// they were and named.
func TestMendJudged(t *testing.T) {
	t.Parallel()
	seed := seedOf(t)
	values, restored := 0, 0
	defer func() {
		assert.GreaterOrEqual(t, restored*100, values*99, "at least 99 % restored exactly")
	}()
	for _, name := range classes(t, "mend.php") {
		v := judgedByPHP(t, "mend.php", seed, *mendedValues, name)
		values, restored = values+v.Values, restored+v.Changed
		assert.GreaterOrEqual(t, v.Changed*1000, v.Values*988, "%s: restored exactly", name)
		t.Logf("%s: %d of %d restored exactly, %d left and named, %d wrong; %v", name, v.Changed, v.Values, v.Left, v.Wrong, v.Where)
	}
}

func classes(t *testing.T, script string) []string {
	out, err := exec.Command("php", script, "1", "1", "1", "list").Output()
	require.NoError(t, err)
	return strings.Fields(string(out))
}

func seedOf(t *testing.T) int64 {
	seed := *phpSeed
	if seed == 0 {
		seed = time.Now().UnixNano() % 1_000_000_007
	}
	t.Logf("seed %d", seed)
	return seed
}

// layerVerdict is what PHP says in the end.
type layerVerdict struct {
	Values, Changed, Left, Missed, Wrong int
	Where                                map[string]int
}

// answer appends what became of a value, and whether something was named, for PHP.
func answer(to, after []byte, named bool) []byte {
	to = binary.LittleEndian.AppendUint32(to, uint32(len(after)))
	to = append(to, after...)
	if named {
		return append(to, 1)
	}
	return append(to, 0)
}

func judgedByPHP(t *testing.T, script string, seed int64, count int, class string) layerVerdict {
	t.Helper()
	const batch = 200
	site, err := address.Parse("https://ternrock.example", "www.ternrock.example")
	require.NoError(t, err)
	rules := &rewrite.Rules{Site: site}
	c := exec.Command("php", "-d", "memory_limit=1G", "-d", "error_reporting=1", "-d", "display_errors=stderr", script, strconv.FormatInt(seed, 10), strconv.Itoa(count), strconv.Itoa(batch), class)
	in, err := c.StdinPipe()
	require.NoError(t, err)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	var errs bytes.Buffer
	c.Stderr = &errs
	require.NoError(t, c.Start())
	from, to := bufio.NewReaderSize(out, 1<<20), bufio.NewWriterSize(in, 1<<20)
	for done := 0; done < count; {
		var answers []byte
		for n := 0; n < batch && done < count; n++ {
			var size [4]byte
			_, err := io.ReadFull(from, size[:])
			require.NoError(t, err, errs.String())
			value := make([]byte, binary.LittleEndian.Uint32(size[:]))
			_, err = io.ReadFull(from, value)
			require.NoError(t, err)
			if script == "mend.php" {
				edits, broken, merr := rules.Mend(value, envelope.Cause{Was: "http://", Now: "https://"})
				after, err := rewrite.Apply(value, edits)
				require.NoError(t, err)
				answers = answer(answers, after, broken && merr != nil)
				done++
				continue
			}
			res := rules.Value(value)
			after, err := rewrite.Apply(value, res.Edits)
			require.NoError(t, err)
			require.Empty(t, rules.Value(after).Edits, "%q %s: rewriting twice equals rewriting once: %q", rules.Value(after).Edits, class, value)
			named := slices.ContainsFunc(res.Left, func(f rewrite.Finding) bool { return f.Reason.NeedsPerson() })
			answers = answer(answers, after, named)
			done++
		}
		_, err := to.Write(answers)
		require.NoError(t, err)
		require.NoError(t, to.Flush())
	}
	require.NoError(t, c.Wait(), errs.String())
	lines := bytes.Split(bytes.TrimSpace(errs.Bytes()), []byte("\n"))
	var v layerVerdict
	require.NoError(t, json.Unmarshal(lines[len(lines)-1], &v), errs.String())
	assert.Equal(t, count, v.Values)
	assert.Greater(t, v.Changed, count/8, "%s: many values hold a reference that can be changed", class)
	assert.Zero(t, v.Wrong, "%s: %d wrong, of these %d missed\n%s", class, v.Wrong, v.Missed, errs.String())
	return v
}
