//go:build real

package real

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var killsWanted = flag.Int("kills", 12, "how often apply, and how often undo, is killed on each system")

// Killed at random moments, apply and undo go on with the same command, and end as
// undisturbed.
func TestKilledAnywhere(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		const rows = 6000
		s.fill(rows)
		before := s.dump()
		s.init()
		p := s.preview()
		sameDump(t, before, s.dump(), "preview changes nothing")
		assert.Equal(t, s.cells(rows), p.Cells)
		assert.Equal(t, 2*((rows+39)/40), p.Left["taken"], "what a unique index would refuse is found before")
		code, said := 0, ""
		timed := func(args ...string) time.Duration {
			began := time.Now()
			code, said = s.try(args...)
			require.Contains(t, []int{0, 1}, code, said)
			return time.Since(began)
		}
		whole := timed("apply", "--offline")
		after := s.dump()
		require.NotEqual(t, before, after)
		back := timed("undo")
		sameDump(t, before, s.dump(), "undo gives the dump of before")

		kills := map[string]int{}
		runs := 0
		// upTo runs one command again and again, killing it, until it is done.
		upTo := func(command string, d time.Duration, done string, args ...string) {
			for {
				code, said := s.killedAfter(time.Duration(rand.Int64N(int64(d))), append([]string{command}, args...)...)
				if code == -1 {
					kills[command]++
					continue
				}
				// Killed behind its last change it is done, and says so.
				require.True(t, code == 0 || code == 1 || code == 2 && strings.Contains(said, done), "exit %d\n%s", code, said)
				return
			}
		}
		for kills["apply"] < *killsWanted || kills["undo"] < *killsWanted {
			upTo("apply", whole+whole/8, "was applied already", "--offline")
			sameDump(t, after, s.dump(), "killed %v times, apply ends as undisturbed", kills)
			upTo("undo", back+back/8, "there is nothing to undo")
			sameDump(t, before, s.dump(), "killed %v times, undo gives the dump of before", kills)
			if runs++; runs > 50+*killsWanted*10 {
				t.Fatalf("only %v kills in %d runs", kills, runs)
			}
		}
		t.Logf("%s: %d cells; apply killed %d times, undo %d times, in %d rounds: 0 differences", s.name, p.Cells, kills["apply"], kills["undo"], runs)
	})
}

// The server is killed in the middle and started again: the same command goes on.
func TestServerKilled(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		if s.stop == nil || s.engine == "MyISAM" {
			t.Log("nothing to do: no server, or tables that do not survive its death in any hands")
			return
		}
		s.fill(8000)
		before := s.dump()
		s.init()
		s.preview()
		hits := 0
		for range 6 {
			c := exec.Command(s.program, "apply", "--offline", "--rate", "9000")
			c.Dir = s.dir
			var said strings.Builder
			c.Stdout, c.Stderr = &said, &said
			require.NoError(t, c.Start())
			time.Sleep(200*time.Millisecond + time.Duration(rand.IntN(400))*time.Millisecond)
			s.stop()
			_ = c.Wait() // its exit code is looked at
			s.start()
			if c.ProcessState.ExitCode() == 3 {
				hits++
				assert.Contains(t, said.String(), "go on with the same command")
				continue
			}
			break
		}
		assert.Positive(t, hits, "the server must go away in the middle")
		code, said := s.try("apply", "--offline")
		require.Contains(t, []int{1, 2}, code, said)
		assert.Zero(t, s.previewCells())
		s.tool(0, "undo")
		sameDump(t, before, s.dump())
		t.Logf("%s: the server was killed %d times in the middle", s.name, hits)
	})
}

// previewCells makes a preview and returns how many cells are left to change.
func (s *store) previewCells() int {
	_, out := s.try("preview", "--offline", "--format", "json", "--quiet")
	var p struct{ Cells int }
	require.NoError(s.t, json.Unmarshal([]byte(out), &p), out)
	return p.Cells
}

// No room for the journal: nothing is changed that is not in it, and the same
// command goes on.
func TestJournalDiskFull(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		if s.name == "SQLite" {
			t.Log("nothing to do: the bound would hit the database file itself")
			return
		}
		s.fill(8000)
		before := s.dump()
		s.init()
		p := s.preview()
		c := exec.Command("bash", "-c", `ulimit -f 60; exec "$0" apply --offline --rate 100000`, s.program)
		c.Dir = s.dir
		said, _ := c.CombinedOutput() // its exit code is looked at
		require.Equal(t, 3, c.ProcessState.ExitCode(), string(said))
		assert.Contains(t, string(said), "the journal cannot be written")
		journals, err := filepath.Glob(filepath.Join(s.dir, ".trimlantern", "*.journal.jsonl.zst"))
		require.NoError(t, err)
		require.Len(t, journals, 1)
		info, err := os.Stat(journals[0])
		require.NoError(t, err)
		assert.LessOrEqual(t, info.Size(), int64(60*1024))
		s.tool(1, "apply", "--offline")
		assert.Contains(t, s.tool(1, "status"), strings.TrimSpace(fmt.Sprintf("%d cells changed, 0 skipped", p.Cells)))
		s.tool(0, "undo")
		sameDump(t, before, s.dump())
	})
}

// Writers are at work during apply: none of their writes is lost, every skipped
// cell is named, and a second round finishes the rest.
func TestEditedMeanwhile(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		const rows = 4000
		s.fill(rows)
		s.init()
		s.preview()
		edits := 0
		done := make(chan string, 1)
		go func() {
			_, out := s.try("apply", "--offline", "--format", "json", "--quiet", "--rate", "6000")
			done <- out
		}()
		out := ""
		for n := 0; out == ""; n++ {
			id := 1 + n*37%rows
			statement := []string{
				fmt.Sprintf("UPDATE m_int SET v = 'edited %d, see http://ternrock.example/e' WHERE id = %d;", n, id),
				fmt.Sprintf("DELETE FROM m_int WHERE id = %d;", id),
				fmt.Sprintf("INSERT INTO m_pair VALUES ('new', %d, 'http://ternrock.example/new%d');", 100000+n, n),
			}[n%3]
			if s.name == "SQLite" {
				statement = ".timeout 10000\n" + statement
			}
			s.sql(statement)
			edits++
			select {
			case out = <-done:
			case <-time.After(10 * time.Millisecond):
			}
		}
		var applied struct {
			Planned, Changed int
			Skipped          []struct{ Table, Column, Why string }
			Second           struct{ Cells int } `json:"second_preview"`
		}
		require.NoError(t, json.Unmarshal([]byte(out), &applied), out)
		assert.Equal(t, applied.Planned, applied.Changed+len(applied.Skipped))
		assert.NotEmpty(t, applied.Skipped, "writers came between")
		for _, skip := range applied.Skipped {
			assert.Contains(t, []string{"changed since the preview", "the row is gone"}, skip.Why)
		}
		// Each write is there, made secure or not.
		for n := range edits {
			id := 1 + n*37%rows
			if edits > rows {
				break // the same row comes again
			}
			switch n % 3 {
			case 0:
				assert.Contains(t, s.sql(fmt.Sprintf("SELECT v FROM m_int WHERE id = %d;", id)), fmt.Sprintf("edited %d,", n))
			case 1:
				assert.Empty(t, strings.TrimSpace(s.sql(fmt.Sprintf("SELECT v FROM m_int WHERE id = %d;", id))))
			case 2:
				assert.Contains(t, s.sql(fmt.Sprintf("SELECT v FROM m_pair WHERE b = %d;", 100000+n)), fmt.Sprintf("/new%d", n))
			}
		}
		s.try("preview", "--offline")
		s.try("apply", "--offline")
		assert.Zero(t, s.previewCells(), "a second round finishes the rest")
		t.Logf("%s: %d writes during apply, %d of %d cells skipped", s.name, edits, len(applied.Skipped), applied.Planned)
	})
}
