package logbook

import (
	"bytes"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
)

// Every bit that is flipped in a result or in the diary is noticed, or what is read is the same.
func TestFlippedResults(t *testing.T) {
	book := Open(filepath.Join(t.TempDir(), "trimlantern.yaml"))
	type result struct{ Site, Note string }
	is := result{"https://ternrock.example", "42 pages"}
	require.NoError(t, book.WriteJSON("r.json", is))
	for _, id := range []string{"one", "two", "three"} {
		require.NoError(t, book.Note(map[string]string{"id": id}))
	}
	flips := func(name string, read func() (any, error)) {
		path := filepath.Join(book.Path(), name)
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		good, err := read()
		require.NoError(t, err)
		for bit := range 8 * len(b) {
			flipped := bytes.Clone(b)
			flipped[bit/8] ^= 1 << (bit % 8)
			require.NoError(t, os.WriteFile(path, flipped, 0o600))
			if now, err := read(); err == nil {
				require.Equal(t, good, now, "%s, bit %d: %q", name, bit, flipped)
			}
		}
		for n := range len(b) { // cut off
			require.NoError(t, os.WriteFile(path, b[:n], 0o600))
			_, _ = read() // it does not panic; a diary may end in a line that a crash cut
		}
		require.NoError(t, os.WriteFile(path, b, 0o600))
	}
	flips("r.json", func() (any, error) {
		var r result
		return r, book.ReadJSON("r.json", &r)
	})
	flips(diary, func() (any, error) {
		var lines []string
		err := book.Notes(func(line []byte) { lines = append(lines, string(line)) })
		return lines, err
	})
}

// A line of the diary that a crash cut off is left out, and the next one begins after it. Lines of earlier versions are read.
func TestDiaryAfterCrash(t *testing.T) {
	book := Open(filepath.Join(t.TempDir(), "trimlantern.yaml"))
	require.NoError(t, book.Ensure())
	path := filepath.Join(book.Path(), diary)
	require.NoError(t, os.WriteFile(path, []byte("{\"id\":\"old\"}\n{\"id\":\"cut\n{\"id\":\"older\"}\n"), 0o600))
	require.NoError(t, book.Note(map[string]string{"id": "new"}))
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, b[:len(b)-4], 0o600))
	require.NoError(t, book.Note(map[string]string{"id": "last"}))
	var lines []string
	require.NoError(t, book.Notes(func(line []byte) { lines = append(lines, string(line)) }))
	assert.Equal(t, []string{`{"id":"old"}`, `{"id":"older"}`, `{"id":"last"}`}, lines)
}

// Names differ though many ask at once, and also if the clock goes back.
func TestNextTime(t *testing.T) {
	file := filepath.Join(t.TempDir(), "trimlantern.yaml")
	now := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	seen := map[time.Time]bool{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			got, err := Open(file).NextTime(now)
			mu.Lock()
			defer mu.Unlock()
			assert.NoError(t, err)
			assert.False(t, seen[got], got)
			seen[got] = true
		})
	}
	wg.Wait()
	back, err := Open(file).NextTime(now.Add(-time.Hour))
	require.NoError(t, err)
	assert.False(t, back.Before(now.Add(19*time.Millisecond)))
}

// What was not written to its end is kept in the journal; whole blocks that are missing at the end of a finished one
// are noticed.
func TestSealedJournal(t *testing.T) {
	book := Open(filepath.Join(t.TempDir(), "trimlantern.yaml"))
	j, err := book.CreateJournal(change.JournalHeader{ID: "j"})
	require.NoError(t, err)
	require.NoError(t, j.Append(change.Record{Entry: &change.Entry{Table: "one"}}))
	size := j.chain.Size
	require.NoError(t, j.Append(change.Record{Mark: change.Finished}))
	require.NoError(t, j.Seal())
	require.NoError(t, j.Close())
	read := func() error {
		_, err := book.ReadJournal("j", func(change.Block) error { return nil })
		return err
	}
	require.NoError(t, read())
	path := book.JournalPath("j")
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	var damaged *change.Damaged
	for _, n := range []int64{size, size + 3} {
		require.NoError(t, os.WriteFile(path, b[:n], 0o600))
		require.ErrorAs(t, read(), &damaged)
		assert.Contains(t, damaged.Error(), "its end is missing")
		_, _, ok := book.Glance("j")
		assert.False(t, ok)
	}

	j, err = book.CreateJournal(change.JournalHeader{ID: "k"})
	require.NoError(t, err)
	require.NoError(t, j.Append(change.Record{Entry: &change.Entry{Table: "one"}}))
	require.NoError(t, j.Append(change.Record{Entry: &change.Entry{Table: "torn"}}))
	require.NoError(t, j.Close())
	b, err = os.ReadFile(book.JournalPath("k"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(book.JournalPath("k"), b[:len(b)-5], 0o600))
	r, err := book.ReadJournal("k", func(change.Block) error { return nil })
	require.ErrorIs(t, err, change.ErrTorn)
	j, err = book.ReopenJournal("k", r)
	require.NoError(t, err)
	require.NoError(t, j.Close())
	var torn []byte
	_, err = book.ReadJournal("k", func(b change.Block) error {
		for _, rec := range b.Records {
			if rec.Torn != nil {
				torn = rec.Torn.Bytes
			}
		}
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, b[r.Chain.Size:len(b)-5], torn, "no byte is dropped")
	assert.NoFileExists(t, filepath.Join(book.Path(), "k"+tornEnd))
}
