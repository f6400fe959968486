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
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/address"
	"trimlantern/core/rewrite"
)

var (
	phpValues = flag.Int("php-values", 200_000, "how many random values PHP judges")
	phpSeed   = flag.Int64("php-seed", 0, "where the random values begin; 0: the time")
)

// PHP writes random nested values, and judges what becomes of each.
func TestPHPJudges(t *testing.T) {
	const batch = 500
	seed := *phpSeed
	if seed == 0 {
		seed = time.Now().UnixNano() % 1_000_000_007
	}
	t.Logf("seed %d", seed)
	site, err := address.Parse("https://ternrock.example", "www.ternrock.example")
	require.NoError(t, err)
	rules := &rewrite.Rules{Site: site}
	c := exec.Command("php", "-d", "memory_limit=1G", "judge.php", strconv.FormatInt(seed, 10), strconv.Itoa(*phpValues), strconv.Itoa(batch))
	in, err := c.StdinPipe()
	require.NoError(t, err)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	var errs bytes.Buffer
	c.Stderr = &errs
	require.NoError(t, c.Start())
	from, to := bufio.NewReaderSize(out, 1<<20), bufio.NewWriterSize(in, 1<<20)
	send := func(b []byte) {
		_, err := to.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(b))))
		require.NoError(t, err)
		_, err = to.Write(b)
		require.NoError(t, err)
	}
	for done := 0; done < *phpValues; {
		var answers [][]byte
		for ; len(answers) < batch && done < *phpValues; done++ {
			var size [4]byte
			_, err := io.ReadFull(from, size[:])
			require.NoError(t, err, errs.String())
			value := make([]byte, binary.LittleEndian.Uint32(size[:]))
			_, err = io.ReadFull(from, value)
			require.NoError(t, err)
			after, err := rewrite.Apply(value, rules.Value(value).Edits)
			require.NoError(t, err)
			answers = append(answers, after)
		}
		for _, a := range answers {
			send(a)
		}
		require.NoError(t, to.Flush())
	}
	require.NoError(t, c.Wait(), errs.String())
	lines := bytes.Split(bytes.TrimSpace(errs.Bytes()), []byte("\n"))
	var verdict struct{ Values, Changed, Wrong int }
	require.NoError(t, json.Unmarshal(lines[len(lines)-1], &verdict), errs.String())
	assert.Equal(t, *phpValues, verdict.Values)
	assert.Greater(t, verdict.Changed, *phpValues/3, "most values hold a reference")
	assert.Zero(t, verdict.Wrong, "%s", errs.String())
	t.Logf("%d values, %d changed, %d wrong", verdict.Values, verdict.Changed, verdict.Wrong)
}
