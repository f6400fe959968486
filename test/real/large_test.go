//go:build real

package real

import (
	"fmt"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Rows of any size take at most four times the memory of the largest one beside that of the program, however many there
// are. SQLite is a part of the program: what it holds itself is in the figure.
func TestLargeRows(t *testing.T) {
	const mb, rows, base = 66, 3, 60
	t.Parallel()
	for _, s := range stores {
		if s.name == "MyISAM" {
			continue // the same server
		}
		t.Run(s.name, func(t *testing.T) {
			t.Parallel()
			times := 4
			b := newBench(t)
			s := s.make(b)
			text := "REPEAT('the lamp of the tower ', %d)"
			sum, fields := "md5(v)", "id INT PRIMARY KEY, v TEXT"
			switch s.name {
			case "InnoDB":
				s.sql("SET GLOBAL max_allowed_packet = 1073741824; SET GLOBAL innodb_log_file_size = 1073741824;")
				fields = "id INT PRIMARY KEY, v LONGTEXT"
			case "SQLite":
				times = 6
				text, sum = "REPLACE(HEX(ZEROBLOB(%d)), '00', 'the lamp of the tower ')", "hex(sha3(v))"
			}
			s.sql("CREATE TABLE m_posts (" + fields + ");")
			for i := range rows {
				s.sql(fmt.Sprintf("INSERT INTO m_posts SELECT %d, %s;", i, joined(s.name, "'<a href=\"http://ternrock.example/\">'", fmt.Sprintf(text, mb<<20/22), "'<a href=\"http://ternrock.example/b\">'")))
			}
			raw := func() string { return s.sql("SELECT " + sum + " FROM m_posts ORDER BY id;") }
			before := raw()
			s.tool(0, "init", "--here", "--site", "https://ternrock.example", "--database", s.url, "--prefix", "m_", "--system", "generic")
			for _, args := range [][]string{{"preview", "--offline", "--judge", "none"}, {"apply", "--offline"}, {"undo"}} {
				c := exec.Command(b.program, args...)
				c.Env, c.Dir = b.environment(), b.dir
				out, err := c.CombinedOutput()
				require.NoError(t, err, tail(out))
				memory := c.ProcessState.SysUsage().(*syscall.Rusage).Maxrss >> 10
				t.Logf("%s %s: %d MB for rows of %d MB", s.name, args[0], memory, mb)
				assert.LessOrEqual(t, memory, int64(times*mb+base), "%s %s", s.name, args[0])
				if args[0] == "apply" {
					assert.NotEqual(t, before, raw())
				}
			}
			assert.Equal(t, before, raw())
		})
	}
}

// joined puts texts together in SQL.
func joined(store string, texts ...string) string {
	if store == "InnoDB" {
		return "CONCAT(" + strings.Join(texts, ", ") + ")"
	}
	return strings.Join(texts, " || ")
}
