package mirror

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/sheet"
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
	c := Config{Dump: file, Copy: filepath.Join(dir, "copy.db"), Beside: func(p *dump.Passage) []sheet.Left { return []sheet.Left{{Note: string(p.Text)}} }}
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
}

func TestRefuses(t *testing.T) {
	dir := t.TempDir()
	for in, want := range map[string]error{
		"INSERT INTO `t` VALUES (1);\n":                        ErrRows,
		"CREATE TABLE `t` (`a` int);\nUPDATE `t` SET `a`=1;\n": ErrUpdates,
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
