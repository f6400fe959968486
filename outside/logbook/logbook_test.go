package logbook

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
)

func TestLock(t *testing.T) {
	book := Open(filepath.Join(t.TempDir(), "trimlantern.yaml"))
	release, err := book.Lock("apply")
	require.NoError(t, err)
	_, err = Open(filepath.Join(filepath.Dir(book.Path()), "trimlantern.yaml")).Lock("undo")
	assert.ErrorIs(t, err, ErrBusy)
	assert.ErrorContains(t, err, "trimlantern apply, process ")
	release()
	release, err = book.Lock("apply")
	require.NoError(t, err)
	release()
	info, err := os.Stat(book.Path())
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}

func TestPending(t *testing.T) {
	book := Open(filepath.Join(t.TempDir(), "trimlantern.yaml"))
	list, err := book.Sheets()
	require.NoError(t, err)
	assert.Empty(t, list, "a logbook that is not there is empty")
	p, err := book.NewSheet("2")
	require.NoError(t, err)
	list, err = book.Sheets()
	require.NoError(t, err)
	assert.Empty(t, list, "an incomplete file has no name")
	require.NoError(t, p.Commit())
	p.Discard()
	p, err = book.NewSheet("1")
	require.NoError(t, err)
	p.Discard()
	for _, id := range []string{"3", "0"} {
		p, err = book.NewSheet(id)
		require.NoError(t, err)
		require.NoError(t, p.Commit())
	}
	list, err = book.Sheets()
	require.NoError(t, err)
	assert.Equal(t, []string{"0", "2", "3"}, list)
	info, err := os.Stat(book.SheetPath("2"))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestJSON(t *testing.T) {
	book := Open(filepath.Join(t.TempDir(), "trimlantern.yaml"))
	v := map[string]int{"kept": 1}
	require.NoError(t, book.ReadJSON("x.json", &v))
	assert.Equal(t, 1, v["kept"], "what is not there changes nothing")
	require.NoError(t, book.WriteJSON("x.json", map[string]int{"new": 2}))
	require.NoError(t, book.ReadJSON("x.json", &v))
	assert.Equal(t, 2, v["new"])
	require.NoError(t, os.WriteFile(filepath.Join(book.Path(), "x.json"), []byte("{"), 0o600))
	assert.ErrorContains(t, book.ReadJSON("x.json", &v), "x.json in the logbook")
}

// A journal that a crash cut off goes on behind its last whole block.
func TestJournalAfterCrash(t *testing.T) {
	book := Open(filepath.Join(t.TempDir(), "trimlantern.yaml"))
	j, err := book.CreateJournal(change.JournalHeader{ID: "j"})
	require.NoError(t, err)
	require.NoError(t, j.Append(change.Record{Entry: &change.Entry{Table: "one"}}))
	require.NoError(t, j.Append(change.Record{Entry: &change.Entry{Table: "torn"}}))
	require.NoError(t, j.Close())
	_, err = book.CreateJournal(change.JournalHeader{ID: "j"})
	assert.ErrorIs(t, err, os.ErrExist, "a journal is never written over")
	info, err := os.Stat(book.JournalPath("j"))
	require.NoError(t, err)
	require.NoError(t, os.Truncate(book.JournalPath("j"), info.Size()-3))
	read := func() (tables []string, end Read, err error) {
		end, err = book.ReadJournal("j", func(b change.Block) error {
			for _, r := range b.Records {
				if r.Entry != nil {
					tables = append(tables, r.Entry.Table)
				}
			}
			return nil
		})
		return tables, end, err
	}
	tables, end, err := read()
	assert.ErrorIs(t, err, change.ErrTorn)
	assert.Equal(t, []string{"one"}, tables)
	j, err = book.ReopenJournal("j", end)
	require.NoError(t, err)
	require.NoError(t, j.Append(change.Record{Entry: &change.Entry{Table: "two"}}))
	require.NoError(t, j.Close())
	tables, _, err = read()
	require.NoError(t, err)
	assert.Equal(t, []string{"one", "two"}, tables)
}
