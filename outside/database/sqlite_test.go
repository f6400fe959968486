package database

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func made(t *testing.T, script string) Database {
	path := filepath.Join(t.TempDir(), "x.db")
	raw, err := sql.Open("sqlite", "file:"+path)
	require.NoError(t, err)
	_, err = raw.Exec(script)
	require.NoError(t, err)
	require.NoError(t, raw.Close())
	db, err := Open(context.Background(), Config{Kind: "sqlite", File: path})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, db.Close()) })
	return db
}

func TestSQLiteTables(t *testing.T) {
	db := made(t, `CREATE TABLE a_one (id INTEGER PRIMARY KEY, t TEXT, n INT, b BLOB, x, g TEXT GENERATED ALWAYS AS (t || '!'));
		CREATE TABLE a_two (k TEXT, l TEXT, v VARCHAR(9), PRIMARY KEY (l, k)) WITHOUT ROWID;
		CREATE TABLE a_three (v TEXT);
		CREATE TABLE aXfour (v TEXT);
		CREATE VIEW a_view AS SELECT 1 AS t;`)
	tables, err := db.Tables(context.Background(), "a_")
	require.NoError(t, err)
	var got []string
	for _, table := range tables {
		var key []string
		for _, k := range table.Key {
			key = append(key, k.Name)
		}
		line := table.Name + " " + fmt.Sprint(key)
		for _, c := range table.Columns {
			line += " " + c.Name
		}
		got = append(got, line)
	}
	assert.Equal(t, []string{"a_one [id] t n b x", "a_three [rowid] v", "a_two [l k] k l v"}, got)
}

// Rows come in key order, over the bounds of pages, whatever the key is; values
// keep their storage class and their NUL bytes.
func TestSQLiteCandidates(t *testing.T) {
	db := made(t, `CREATE TABLE t (k TEXT, l INTEGER, v TEXT, b BLOB, PRIMARY KEY (k, l)) WITHOUT ROWID;
		WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1700)
			INSERT INTO t SELECT i % 7, i, CASE i % 3 WHEN 0 THEN 'nothing' ELSE 'see HtTp://x ' || i END, NULL FROM n;
		INSERT INTO t VALUES ('007', 1, NULL, CAST('a' || char(0) || 'http:' AS BLOB)), ('7.0', 2, char(0) || 'ws:', NULL);`)
	ctx := context.Background()
	tables, err := db.Tables(ctx, "")
	require.NoError(t, err)
	require.Len(t, tables, 1)
	n, exact, err := db.Count(ctx, tables[0])
	require.NoError(t, err)
	assert.True(t, exact)
	assert.EqualValues(t, 1702, n)
	seen := map[string]bool{}
	var blob, nul Row
	var read int64
	require.NoError(t, db.Candidates(ctx, tables[0], References, func(r Row) error {
		id := string(r.Key[0]) + "/" + string(r.Key[1])
		require.False(t, seen[id], id)
		seen[id] = true
		if r.Values[2].As == 'b' {
			blob = r
		} else if strings.HasPrefix(string(r.Values[1].Bytes), "\x00") {
			nul = r
		}
		return nil
	}, func(n int64) { read = n }))
	assert.Equal(t, 1134+2, len(seen))
	assert.Positive(t, read)
	require.Equal(t, "a\x00http:", string(blob.Values[2].Bytes))
	require.Equal(t, "\x00ws:", string(nul.Values[1].Bytes))

	for _, row := range []Row{blob, nul} { // what is read is found again, and written as it was
		tx, err := db.Begin(ctx)
		require.NoError(t, err)
		values, err := tx.Read(ctx, tables[0], [][][]byte{row.Key}, []string{"v", "b"})
		require.NoError(t, err)
		require.NotNil(t, values[0], "%q", row.Key)
		assert.Equal(t, row.Values[1:], values[0])
		refused, err := tx.Write(ctx, tables[0], []Update{{Key: row.Key, Columns: []string{"v", "b"}, Values: values[0]}})
		require.NoError(t, err)
		assert.Equal(t, []error{nil}, refused)
		require.NoError(t, tx.Commit())
	}
	tx, err := db.Begin(ctx)
	require.NoError(t, err)
	none, err := tx.Read(ctx, tables[0], [][][]byte{{[]byte("7"), []byte("1")}}, []string{"v"})
	require.NoError(t, err)
	assert.Nil(t, none[0], "a text key is not a number")
	require.NoError(t, tx.Rollback())
	v, key, found, err := db.Lookup(ctx, tables[0], "v", "l", "5")
	require.NoError(t, err)
	assert.True(t, found)
	assert.Equal(t, "see HtTp://x 5", string(v.Bytes))
	assert.Equal(t, [][]byte{[]byte("5"), []byte("5")}, key)
}

func TestKeyBehind(t *testing.T) {
	for _, d := range []dialect{
		{quote: quoteSQL, place: func(int, Column) string { return "?" }, param: func(_ Column, v Value) any { return string(v.Bytes) }},
	} {
		q := &query{d: &d}
		q.behind(Table{Key: []Column{{Name: "a"}, {Name: "b"}, {Name: "c"}}}, [][]byte{[]byte("x"), []byte("y"), []byte("z")})
		assert.Equal(t, `("a" > ?) OR ("a" = ? AND "b" > ?) OR ("a" = ? AND "b" = ? AND "c" > ?)`, q.String())
		assert.Equal(t, []any{"x", "x", "y", "x", "y", "z"}, q.args)
	}
}

func TestOpenRefuses(t *testing.T) {
	ctx := context.Background()
	_, err := Open(ctx, Config{Kind: "sqlite", File: filepath.Join(t.TempDir(), "no.db")})
	assert.ErrorIs(t, err, ErrAbsent)
	_, err = Open(ctx, Config{Kind: "mysql", Socket: "/nowhere.sock", User: "keeper", Password: "lamp-oil", Name: "m"})
	assert.ErrorIs(t, err, ErrAbsent)
	assert.NotContains(t, err.Error(), "lamp-oil")
	_, err = Open(ctx, Config{Kind: "cards"})
	assert.ErrorContains(t, err, "known are mysql, postgres and sqlite")
}
