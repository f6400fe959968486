//go:build real

package real

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shapes are tables of all shapes: keys of every kind, columns that stamp
// themselves, columns too short, a table without a key.
const shapes = `
CREATE TABLE m_int (id BIGINT UNSIGNED AUTO_INCREMENT PRIMARY KEY, v LONGTEXT, t TIMESTAMP DEFAULT '2020-01-01 00:00:00' ON UPDATE CURRENT_TIMESTAMP) ENGINE=%[1]s;
CREATE TABLE m_pair (a VARCHAR(40), b INT, v TEXT, PRIMARY KEY (a, b)) ENGINE=%[1]s CHARSET utf8mb4;
CREATE TABLE m_bytes (k VARBINARY(16) PRIMARY KEY, v BLOB) ENGINE=%[1]s;
CREATE TABLE m_unique (k VARCHAR(40) NOT NULL, v TEXT, UNIQUE KEY (k)) ENGINE=%[1]s CHARSET latin1;
CREATE TABLE m_keyless (v TEXT) ENGINE=%[1]s;
CREATE TABLE m_short (id INT PRIMARY KEY, v VARCHAR(30), g VARCHAR(60) AS (CONCAT(v, '!'))) ENGINE=%[1]s;
CREATE VIEW m_view AS SELECT v FROM m_int;
INSERT INTO m_keyless VALUES ('http://ternrock.example/'), ('nothing');
INSERT INTO m_short (id, v) VALUES (1, 'http://ternrock.example/123456'), (2, 'http://ternrock.example/1'), (3, NULL);
`

func TestMariaDBShapes(t *testing.T) {
	for _, engine := range []string{"InnoDB", "MyISAM"} {
		t.Run(engine, func(t *testing.T) {
			b := &bench{t: t, dir: t.TempDir()}
			b.socket, b.program = filepath.Join(b.dir, "db.sock"), filepath.Join(b.dir, "trimlantern")
			b.run("../..", "go", "build", "-o", b.program, "./cmd/trimlantern")
			b.startMariaDB()
			var script strings.Builder
			fmt.Fprintf(&script, shapes, engine)
			for i := range 4000 {
				v := fmt.Sprintf(`a:1:{s:3:"url";s:%d:"http://ternrock.example/%d";}`, 24+len(fmt.Sprint(i)), i)
				fmt.Fprintf(&script, "INSERT INTO m_int (v) VALUES ('%s');\n", v)
				if i%4 == 0 {
					fmt.Fprintf(&script, "INSERT INTO m_pair VALUES ('k%d''ä', %d, 'http://www.ternrock.example/%d');\nINSERT INTO m_bytes VALUES (0x%08xff00, 'x\\0http://ternrock.example/');\nINSERT INTO m_unique VALUES ('ü%d', 'é http://ternrock.example/');\n", i%7, i, i, i, i)
				}
			}
			load := exec.Command("mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "--default-character-set=utf8mb4", "museum")
			load.Stdin = strings.NewReader("SET autocommit=0;\n" + script.String() + "COMMIT;\n")
			out, err := load.CombinedOutput()
			require.NoError(t, err, tail(out))
			before := b.dump()
			b.tool(0, "init", "--site", "https://"+host, "--also", "www."+host, "--database", "mysql://root@/museum?socket="+b.socket, "--prefix", "m_")
			var preview struct {
				Cells int
				Left  map[string]int
			}
			require.NoError(t, json.Unmarshal([]byte(b.tool(1, "preview", "--offline", "--format", "json")), &preview))
			assert.Equal(t, 4000+3*1000+1, preview.Cells)
			assert.Equal(t, map[string]int{"no-key": 1, "too-long": 1}, preview.Left)

			// Killed at random moments, apply goes on and ends as it must; so does undo.
			kills := b.killed("apply", "--offline")
			if !strings.Contains(b.tool(1, "status"), "7001 cells changed, 0 skipped") {
				b.tool(1, "apply", "--offline")
			}
			for query, want := range map[string]string{
				"SELECT COUNT(*) FROM museum.m_int WHERE v LIKE '%s:2_:\"https://ternrock%' AND t = '2020-01-01 00:00:00'": "4000",
				"SELECT COUNT(*) FROM museum.m_pair WHERE v LIKE 'https://www.ternrock.example/%'":                         "1000",
				"SELECT COUNT(*) FROM museum.m_bytes WHERE v = CONCAT('x', CHAR(0), 'https://ternrock.example/')":          "1000",
				"SELECT COUNT(*) FROM museum.m_unique WHERE v = 'é https://ternrock.example/'":                             "1000",
				"SELECT v FROM museum.m_short WHERE id = 1":                                                                "http://ternrock.example/123456",
				"SELECT v FROM museum.m_short WHERE id = 2":                                                                "https://ternrock.example/1",
				"SELECT COUNT(*) FROM museum.m_keyless WHERE v LIKE 'http:%'":                                              "1",
			} {
				assert.Equal(t, want, strings.TrimSpace(b.sql("SET NAMES utf8mb4; "+query)), query)
			}
			kills += b.killed("undo")
			c := exec.Command(b.program, "undo") // unless it came to its end before
			c.Dir = b.dir
			said, _ := c.CombinedOutput() // its exit code is asserted
			assert.Contains(t, []int{0, 2}, c.ProcessState.ExitCode(), string(said))
			after := b.dump()
			require.True(t, before == after, "undo gives the dump of before, byte for byte")
			t.Logf("%s: killed %d times", engine, kills)
			assert.Positive(t, kills, "the test must catch it at work")
		})
	}
}

// killed runs a command some times and kills it at random moments, until one run
// comes to its end. It returns how many were killed.
func (b *bench) killed(args ...string) int {
	kills := 0
	for range 8 {
		c := exec.Command(b.program, args...)
		c.Dir = b.dir
		var errs bytes.Buffer
		c.Stderr = &errs
		require.NoError(b.t, c.Start())
		time.Sleep(time.Duration(20+rand.IntN(400)) * time.Millisecond)
		_ = c.Process.Signal(syscall.SIGKILL) // too late: it has ended
		_ = c.Wait()                          // its state is looked at
		if c.ProcessState.Exited() {
			require.NotEqual(b.t, 3, c.ProcessState.ExitCode(), errs.String())
			return kills
		}
		kills++
	}
	return kills
}

// The server goes away in the middle, and comes back: the same command goes on.
func TestServerGoesAway(t *testing.T) {
	b := &bench{t: t, dir: t.TempDir()}
	b.socket, b.program = filepath.Join(b.dir, "db.sock"), filepath.Join(b.dir, "trimlantern")
	b.run("../..", "go", "build", "-o", b.program, "./cmd/trimlantern")
	b.startMariaDB()
	b.sql("CREATE TABLE museum.m_x (id INT PRIMARY KEY, v TEXT)")
	var rows strings.Builder
	rows.WriteString("INSERT INTO m_x VALUES (0,'http://ternrock.example')")
	for i := 1; i < 20000; i++ {
		fmt.Fprintf(&rows, ",(%d,'http://ternrock.example/%d')", i, i)
	}
	load := exec.Command("mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "museum")
	load.Stdin = strings.NewReader(rows.String())
	require.NoError(t, load.Run())
	before := b.dump()
	b.tool(0, "init", "--site", "https://"+host, "--database", "mysql://root@/museum?socket="+b.socket, "--prefix", "m_")
	b.tool(1, "preview", "--offline")
	c := exec.Command(b.program, "apply", "--offline")
	c.Dir = b.dir
	var errs bytes.Buffer
	c.Stderr = &errs
	require.NoError(t, c.Start())
	time.Sleep(300 * time.Millisecond)
	pid, err := os.ReadFile(filepath.Join(b.dir, "db.pid"))
	require.NoError(t, err)
	b.run(b.dir, "kill", "-STOP", strings.TrimSpace(string(pid))) // a connection that hangs
	time.Sleep(200 * time.Millisecond)
	b.run(b.dir, "kill", "-CONT", strings.TrimSpace(string(pid)))
	for _, id := range strings.Fields(b.sql("SELECT id FROM information_schema.processlist WHERE db = 'museum'")) {
		_ = exec.Command("mariadb", "--no-defaults", "--socket="+b.socket, "-uroot", "-e", "KILL "+id).Run() // it may be gone
	}
	_ = c.Wait() // its exit code is looked at
	if code := c.ProcessState.ExitCode(); code != 0 {
		assert.Equal(t, 3, code)
		again := exec.Command(b.program, "apply", "--offline")
		again.Dir = b.dir
		said, _ := again.CombinedOutput()       // its exit code is asserted
		if again.ProcessState.ExitCode() == 2 { // cut behind its last change
			assert.Contains(t, string(said), "was applied already")
		} else {
			assert.Contains(t, errs.String(), "go on with the same command")
			assert.Equal(t, 0, again.ProcessState.ExitCode(), string(said))
		}
	} else {
		t.Log("it was done before the connection was cut")
	}
	assert.Equal(t, "20000", strings.TrimSpace(b.sql("SELECT COUNT(*) FROM museum.m_x WHERE v LIKE 'https:%'")))
	b.tool(0, "undo")
	assert.True(t, before == b.dump())
}
