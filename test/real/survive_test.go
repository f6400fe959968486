//go:build real

package real

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var killsWanted = flag.Int("kills", 4, "how often apply, and how often undo, is killed on each system")

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

// A row that somebody holds meanwhile, and that nothing is to be changed in, does not stop apply:
// it holds no other rows than those it changes, and waits for no others.
func TestOtherRowsStayFree(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		if s.name != "InnoDB" && s.name != "PostgreSQL" {
			t.Log("nothing to do: nobody can hold a row")
			return
		}
		const rows = 700 // few enough that a database likes to read all of them
		var script strings.Builder
		fmt.Fprintf(&script, "CREATE TABLE m_few (id INT PRIMARY KEY, v TEXT)%s;\nINSERT INTO m_few VALUES (0, 'nothing')", s.options())
		for i := 1; i < rows; i++ {
			fmt.Fprintf(&script, ",\n(%d, 'http://ternrock.example/%s')", i, strings.Repeat("tern", 4))
		}
		s.sql(script.String() + ";")
		s.sql(map[string]string{"InnoDB": "ANALYZE TABLE m_few;", "PostgreSQL": "ANALYZE m_few;"}[s.name])
		before := s.dump()
		s.init()
		s.preview()
		held := make(chan struct{})
		go func() {
			defer close(held)
			wait := map[string]string{"InnoDB": "DO SLEEP(8)", "PostgreSQL": "SELECT pg_sleep(8)"}[s.name]
			s.sql("BEGIN; SELECT id FROM m_few WHERE id = 0 FOR UPDATE; " + wait + "; COMMIT;")
		}()
		time.Sleep(time.Second)
		for _, command := range [][]string{{"apply", "--offline"}, {"undo"}} {
			code, said := s.try(command...)
			assert.Contains(t, []int{0, 1}, code, said)
		}
		select {
		case <-held:
			t.Error("apply and undo waited for a row that is none of theirs")
		default:
		}
		<-held
		sameDump(t, before, s.dump())
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
				assert.Contains(t, said.String(), "continue with the same command")
				continue
			}
			break
		}
		assert.Positive(t, hits, "the server must go away in the middle")
		code, said := s.try("apply", "--offline")
		require.Contains(t, []int{0, 2}, code, said)
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

// No room for the journal, or for SQLite's database itself: nothing is changed that is
// not in the journal, and the same command goes on.
func TestJournalDiskFull(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		s.fill(8000)
		before := s.dump()
		s.init()
		p := s.preview()
		bound := 60 // in kilobytes, of each file that is written
		if s.name == "SQLite" {
			// The database is a file too: it may grow by a little, the journal by what is left.
			info, err := os.Stat(filepath.Join(s.dir, "site.db"))
			require.NoError(t, err)
			bound = int(info.Size()>>10) + 8
		}
		c := exec.Command("bash", "-c", fmt.Sprintf(`ulimit -f %d; exec "$0" apply --offline --rate 100000`, bound), s.program)
		c.Dir = s.dir
		said, _ := c.CombinedOutput() // its exit code is looked at
		require.Equal(t, 3, c.ProcessState.ExitCode(), string(said))
		if s.name == "SQLite" {
			assert.Contains(t, string(said), "the database failed after")
			assert.Contains(t, string(said), "continue with the same command")
		} else {
			assert.Contains(t, string(said), "the journal cannot be written")
		}
		journals, err := filepath.Glob(filepath.Join(s.dir, ".trimlantern", "*.journal.jsonl.zst"))
		require.NoError(t, err)
		require.Len(t, journals, 1)
		info, err := os.Stat(journals[0])
		require.NoError(t, err)
		assert.LessOrEqual(t, info.Size(), int64(bound*1024))
		s.tool(0, "apply", "--offline")
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

// The system's own functions write while apply is at work, and apply is killed on
// top: no write is lost, a second round finishes the rest, and undo leaves what was
// edited and says so.
func (b *bench) editedMeanwhile(t *testing.T, before string) {
	b.tool(0, "preview", "--offline", "--quiet")
	stop, list := filepath.Join(b.dir, "stop"), filepath.Join(b.dir, "edits.json")
	editor := exec.Command("php", "edit.php", b.system, stop)
	var must, errs strings.Builder
	editor.Stdout, editor.Stderr = &must, &errs
	require.NoError(t, editor.Start())
	kills, said := 0, ""
	for done := false; !done; {
		var code int
		wait := 200 + rand.IntN(300) // in the middle, surely; later kills may come too late
		if kills > 0 {
			wait = 300 + rand.IntN(1500)
		}
		code, said = b.killedAfter(time.Duration(wait)*time.Millisecond, "apply", "--offline", "--rate", "700", "--format", "json", "--quiet")
		if done = code != -1; !done {
			kills++
			require.Less(t, kills, 60)
			continue
		}
		require.Contains(t, []int{0, 1, 2}, code, said)
	}
	require.NoError(t, os.WriteFile(stop, nil, 0o600))
	require.NoError(t, editor.Wait(), errs.String())
	require.NoError(t, os.WriteFile(list, []byte(must.String()), 0o600))
	var marks map[string]string
	require.NoError(t, json.Unmarshal([]byte(must.String()), &marks))
	require.Greater(t, len(marks), 20)
	assert.Positive(t, kills)
	assert.JSONEq(t, "[]", string(b.run(".", "php", "edit.php", b.system, "-", list)), "no write is lost")
	var applied struct {
		Planned, Changed int
		Skipped          []struct{ Table, Column, Why string }
	}
	if json.Unmarshal([]byte(said), &applied) == nil { // else it was done when it was killed last
		assert.Equal(t, applied.Planned, applied.Changed+len(applied.Skipped))
		assert.NotEmpty(t, applied.Skipped, "writers came between")
	}
	b.tool(0, "preview", "--offline", "--quiet")
	b.tool(0, "apply", "--offline", "--quiet")
	var again struct{ Cells int }
	require.NoError(t, json.Unmarshal([]byte(b.tool(0, "preview", "--offline", "--format", "json", "--quiet")), &again))
	assert.Zero(t, again.Cells, "a second round finishes the rest")
	assert.JSONEq(t, "[]", string(b.run(".", "php", "edit.php", b.system, "-", list)), "nor by the second round")
	for range 2 {
		code, out := b.try("undo")
		require.Contains(t, []int{0, 1}, code, out)
	}
	assert.JSONEq(t, "[]", string(b.run(".", "php", "edit.php", b.system, "-", list)), "nor by undo")
	// What nobody edited is as before.
	now := map[string]bool{}
	for l := range strings.Lines(strings.ReplaceAll(b.dump(), "),(", ")\n(")) {
		now[strings.TrimRight(l, ",;\n")] = true
	}
	lost := 0
	for l := range strings.Lines(strings.ReplaceAll(before, "),(", ")\n(")) {
		if !now[strings.TrimRight(l, ",;\n")] && strings.Contains(l, "http://") {
			lost++
		}
	}
	t.Logf("%d places edited meanwhile, apply killed %d times, %d cells skipped in its last run; %d rows with references differ in the end", len(marks), kills, len(applied.Skipped), lost)
	assert.Less(t, lost, 4*len(marks), "only what was edited, with what the system keeps of it")
}

// valve is a socket between the tool and a server whose connections can be cut.
type valve struct {
	mu   sync.Mutex
	open []net.Conn
}

// newValve listens at path for the server at target.
func newValve(t *testing.T, path, target string) *valve {
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	v := &valve{}
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial("unix", target)
			if err != nil {
				in.Close()
				continue
			}
			v.mu.Lock()
			v.open = append(v.open, in, out)
			v.mu.Unlock()
			for _, way := range [][2]net.Conn{{in, out}, {out, in}} {
				go func() {
					_, _ = io.Copy(way[0], way[1]) // ends when either is closed
					way[0].Close()
				}()
			}
		}
	}()
	return v
}

// cut closes all connections.
func (v *valve) cut() {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, c := range v.open {
		c.Close()
	}
	v.open = nil
}

// cutLater closes all connections some time after one was made, unless ended is closed before.
func (v *valve) cutLater(after time.Duration, ended <-chan struct{}) {
	for open := false; ; {
		select {
		case <-ended:
			return
		case <-time.After(10 * time.Millisecond):
		}
		v.mu.Lock()
		now := len(v.open) > 0
		v.mu.Unlock()
		switch {
		case open && after <= 0:
			v.cut()
			return
		case open:
			after -= 10 * time.Millisecond
		}
		open = open || now
	}
}

// The connection is cut again and again while the server lives: the same command
// goes on, and the end is as undisturbed.
func TestConnectionCut(t *testing.T) {
	eachStore(t, func(t *testing.T, s *store) {
		if s.stop == nil {
			t.Log("nothing to do: a database without a connection")
			return
		}
		_, socket, _ := strings.Cut(s.url, "socket=")
		dir, name := t.TempDir(), "db.sock"
		if s.name == "PostgreSQL" {
			name = ".s.PGSQL.5432"
			s.url = strings.Replace(s.url, socket, dir, 1)
			socket = filepath.Join(socket, name)
		} else {
			s.url = strings.Replace(s.url, socket, filepath.Join(dir, name), 1)
		}
		v := newValve(t, filepath.Join(dir, name), socket)
		s.fill(8000)
		before := s.dump()
		s.init()
		s.preview()
		s.tool(0, "apply", "--offline")
		after := s.dump()
		s.tool(0, "undo")
		sameDump(t, before, s.dump())
		s.preview()
		cuts := map[string]int{}
		upTo := func(args ...string) {
			for range 40 {
				c := exec.Command(s.program, args...)
				c.Dir = s.dir
				var said strings.Builder
				c.Stdout, c.Stderr = &said, &said
				require.NoError(t, c.Start())
				v.cut() // what is left of the run before
				ended := make(chan struct{})
				switch first := cuts[args[0]] == 0; {
				case first: // until one has hit: on a busy machine an early one meets no connection
					go func() {
						for {
							v.cutLater(150*time.Millisecond, ended)
							select {
							case <-ended:
								return
							default:
							}
						}
					}()
				case cuts[args[0]] < 5:
					go v.cutLater(50*time.Millisecond+time.Duration(rand.IntN(900))*time.Millisecond, ended)
				}
				_ = c.Wait() // its exit code is looked at
				close(ended)
				switch code := c.ProcessState.ExitCode(); code {
				case 3:
					cuts[args[0]]++
					assert.Contains(t, said.String(), "the same command")
				default:
					require.Contains(t, []int{0, 1, 2}, code, said.String())
					return
				}
			}
			t.Fatalf("%s does not come to an end", args[0])
		}
		upTo("apply", "--offline", "--rate", "7000")
		sameDump(t, after, s.dump(), "cut %v times, apply ends as undisturbed", cuts)
		upTo("undo", "--rate", "7000")
		sameDump(t, before, s.dump(), "cut %v times, undo gives the dump of before", cuts)
		assert.Positive(t, cuts["apply"])
		assert.Positive(t, cuts["undo"])
		t.Logf("%s: the connection was cut %d times in apply and %d times in undo", s.name, cuts["apply"], cuts["undo"])
	})
}
