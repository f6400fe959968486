package mirror

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
	"trimlantern/outside/database"
	"trimlantern/outside/dump"
)

const text = "/*!40101 SET NAMES utf8mb4 */;\nCREATE TABLE `t` (`id` int, `n` decimal(9,3), `a` varchar(30), `b` longblob, `e` enum('x','y'), PRIMARY KEY (`id`), UNIQUE KEY `k` (`a`(5)));\n" +
	"INSERT INTO `t` VALUES (1,1.500,'http://a','\\0\xff','x'),(2,-2.000,NULL,0x00ff,'y'),(3,0.000,'HTTP://b','','x');\n" +
	"CREATE TABLE `keyless` (`a` text);\nINSERT INTO `keyless` VALUES ('it\\'s'),('it\\'s');\nCREATE VIEW `v` AS SELECT 'http://x' AS `a`;\n"

func opened(t *testing.T, c Config) *Store {
	t.Helper()
	s, err := Open(context.Background(), c)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestStore(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	file := filepath.Join(dir, "museum.sql")
	require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
	c := Config{Dump: file, Copy: filepath.Join(dir, "copy.db"), Beside: func(p *dump.Passage) []change.Left { return []change.Left{{Note: string(p.Text)}} }}
	s := opened(t, c)
	tables, err := s.Tables(ctx, "")
	require.NoError(t, err)
	require.Len(t, tables, 2)
	keyless, table := tables[0], tables[1]
	assert.Equal(t, "rowid", keyless.Key[0].Name)
	assert.Equal(t, "id", table.Key[0].Name)
	a, _ := table.Column("a")
	e, _ := table.Column("e")
	assert.Equal(t, int64(30), a.MaxChars)
	assert.Equal(t, database.List, e.Kind)
	rows, err := s.Rows(ctx, table, []string{"id", "n", "a", "b"}, 9)
	require.NoError(t, err)
	var got []string
	for _, r := range rows {
		line := ""
		for _, v := range r {
			if v.Null {
				line += "|NULL"
			} else {
				line += "|" + string(v.Bytes)
			}
		}
		got = append(got, line)
	}
	assert.ElementsMatch(t, []string{"|1|1.500|http://a|\x00\xff", "|2|-2.000|NULL|\x00\xff", "|3|0.000|HTTP://b|"}, got, "numbers stay as they are written")
	require.Len(t, s.About.Left, 1)
	assert.Contains(t, s.About.Left[0].Note, "CREATE VIEW")
	assert.Equal(t, 6, s.About.Left[0].Line)

	// A unique key compares as a collation may, and as much as it counts.
	index := table.Unique[1]
	for v, want := range map[string]bool{"http:xx": true, "https://": false} {
		taken, err := s.Taken(ctx, table, index, [][]byte{[]byte("2")}, "a", database.Value{Bytes: []byte(v)})
		require.NoError(t, err)
		assert.Equal(t, want, taken, v)
	}
	taken, err := s.Taken(ctx, table, index, [][]byte{[]byte("3")}, "a", database.Value{Bytes: []byte("http://c")})
	require.NoError(t, err)
	assert.False(t, taken, "its own key, in other letters")

	// The copy is made anew when the dump changes, and only then.
	was := s.Identity()
	info, err := os.Stat(c.Copy)
	require.NoError(t, err)
	again := opened(t, c)
	now, err := os.Stat(c.Copy)
	require.NoError(t, err)
	assert.Equal(t, info.ModTime(), now.ModTime())
	assert.Equal(t, was, again.Identity())
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(text, "http://a", "http://c", 1)), 0o600))
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(time.Second)))
	assert.NotEqual(t, was, opened(t, c).Identity())

	// So it is when it is to be read in another way.
	for _, other := range []Config{{Charset: "latin1"}, {Charset: "latin1", Rules: "www.ternrock.example"}} {
		other.Dump, other.Copy = c.Dump, c.Copy
		other.Beside = func(*dump.Passage) []change.Left { return []change.Left{{Note: "anew"}} }
		assert.Equal(t, "anew", opened(t, other).About.Left[0].Note)
		other.Beside = nil
		assert.Equal(t, "anew", opened(t, other).About.Left[0].Note, "it is made once")
	}

	// Of a copy of some tables the others are empty; it is no copy of the dump.
	some := c
	some.Rows = func(table string) bool { return table == "keyless" }
	s = opened(t, some)
	for _, want := range []struct {
		table database.Table
		rows  int
	}{{keyless, 2}, {table, 0}} {
		rows, err := s.Rows(ctx, want.table, []string{"a"}, 9)
		require.NoError(t, err)
		assert.Len(t, rows, want.rows)
	}
	s = opened(t, c)
	rows, err = s.Rows(ctx, table, []string{"a"}, 9)
	require.NoError(t, err)
	assert.Len(t, rows, 3)
}

// Rows of many shapes and tables, from all workers, come over whole.
func TestManyRows(t *testing.T) {
	var in strings.Builder
	in.WriteString("/*!40101 SET NAMES utf8mb4 */;\nCREATE TABLE `a` (`id` int, `x` text, `y` text, PRIMARY KEY (`id`));\nCREATE TABLE `b` (`x` longtext, `y` text);\n")
	for i := range 3000 {
		fmt.Fprintf(&in, "INSERT INTO `a` (`id`,`y`,`x`) VALUES (%d,'y%d','x%d');\nINSERT INTO `b` VALUES ('%s','y%d');\nINSERT INTO `a` VALUES (%d,'x%d','y%d');\n", 2*i, i, i, strings.Repeat("x", i), i, 2*i+1, i, i)
	}
	file := filepath.Join(t.TempDir(), "many.sql")
	require.NoError(t, os.WriteFile(file, []byte(in.String()), 0o600))
	s := opened(t, Config{Dump: file, Copy: file + ".db"})
	tables, err := s.Tables(context.Background(), "")
	require.NoError(t, err)
	rows, err := s.Rows(context.Background(), tables[0], []string{"id", "x", "y"}, 9000)
	require.NoError(t, err)
	require.Len(t, rows, 6000)
	for _, r := range rows {
		id, err := strconv.Atoi(string(r[0].Bytes))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("x%d y%d", id/2, id/2), string(r[1].Bytes)+" "+string(r[2].Bytes))
	}
	rows, err = s.Rows(context.Background(), tables[1], []string{"x", "y"}, 9000)
	require.NoError(t, err)
	require.Len(t, rows, 3000)
	for _, r := range rows {
		assert.Equal(t, fmt.Sprint("y", len(r[0].Bytes)), string(r[1].Bytes))
	}
}

func TestRefuses(t *testing.T) {
	dir := t.TempDir()
	for in, want := range map[string]error{
		"INSERT INTO `t` VALUES (1);\n":                                    ErrRows,
		"CREATE TABLE `t` (`a` int);\nUPDATE `t` SET `a`=1;\n":             ErrUpdates,
		"CREATE TABLE `t` (`a` int);\nINSERT INTO `t` VALUES (1),(2,3);\n": ErrValues,
		"EXPORT x;\n": dump.ErrDialect,
	} {
		file := filepath.Join(dir, "in.sql")
		require.NoError(t, os.WriteFile(file, []byte(in), 0o600))
		_, err := Open(context.Background(), Config{Dump: file, Copy: filepath.Join(dir, "copy.db")})
		assert.ErrorIs(t, err, want, in)
		entries, err := filepath.Glob(filepath.Join(dir, "copy.db*"))
		require.NoError(t, err)
		assert.Empty(t, entries, "no half of a copy stays")
	}
	_, err := Open(context.Background(), Config{Dump: filepath.Join(dir, "nothing.sql"), Copy: filepath.Join(dir, "copy.db")})
	assert.ErrorIs(t, err, database.ErrAbsent)
}
