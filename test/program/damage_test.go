package program

import (
	"bytes"
	"encoding/binary"
	"flag"
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"trimlantern/core/change"
)

var flips = flag.Int("flips", 40, "how many bits of each kind of file in the logbook are flipped")

// keep remembers files, and puts them back.
type keep map[string][]byte

func keepFiles(t testing.TB, folders ...string) keep {
	k := keep{}
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		require.NoError(t, err)
		for _, e := range entries {
			if e.Type().IsRegular() {
				path := filepath.Join(folder, e.Name())
				k[path], err = os.ReadFile(path)
				require.NoError(t, err)
			}
		}
	}
	return k
}

func (k keep) restore(t testing.TB, folders ...string) {
	for _, folder := range folders {
		entries, err := os.ReadDir(folder)
		require.NoError(t, err)
		for _, e := range entries {
			path := filepath.Join(folder, e.Name())
			if _, ok := k[path]; !ok && e.Type().IsRegular() {
				require.NoError(t, os.Remove(path))
			}
		}
	}
	for path, b := range k {
		if now, err := os.ReadFile(path); err != nil || string(now) != string(b) {
			require.NoError(t, os.WriteFile(path, b, 0o600))
		}
	}
}

// flip turns one bit of a file and returns what the file is then.
func flip(t testing.TB, r *rand.Rand, path string) (now []byte, bit int) {
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	bit = r.IntN(8 * len(b))
	b[bit/8] ^= 1 << (bit % 8)
	require.NoError(t, os.WriteFile(path, b, 0o600))
	return b, bit
}

func only(t testing.TB, pattern string) string {
	found, err := filepath.Glob(pattern)
	require.NoError(t, err)
	require.Len(t, found, 1, pattern)
	return found[0]
}

// One flipped bit in a file that decides what is changed is noticed, or does no harm: nothing is written that is not
// what was meant, nothing is called good that was not, and no byte of a journal is cut.
func TestFlippedBits(t *testing.T) {
	dir := bare(t, 12)
	book := logbookOf(dir)
	db := filepath.Join(dir, "site.db")
	before := dump(t, db)
	want(t, 0, dir, "preview", "--offline")
	sheet := only(t, filepath.Join(book, "*.sheet.*"))
	previewed := keepFiles(t, dir, book)
	want(t, 0, dir, "apply", "--offline")
	after := dump(t, db)
	applied := keepFiles(t, dir, book)
	journal := only(t, filepath.Join(book, "*.journal.*"))
	good := "byte for byte"
	require.Contains(t, want(t, 0, dir, "undo").out, good)
	require.Equal(t, before, dump(t, db))

	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 1))
	say := func(bit int, what result) string {
		return fmt.Sprintf("seed %d, bit %d\n%s\n%s", seed, bit, what.out, what.errs)
	}
	t.Run("journal", func(t *testing.T) {
		refused := 0
		for range *flips {
			applied.restore(t, dir, book)
			is, bit := flip(t, r, journal)
			got := run(t, dir, "undo")
			if strings.Contains(got.out, good) {
				require.Equal(t, before, dump(t, db), say(bit, got))
				continue
			}
			refused++
			require.Equal(t, 2, got.code, say(bit, got))
			require.Contains(t, got.errs, "damaged at byte ", say(bit, got))
			require.Equal(t, after, dump(t, db), say(bit, got))
			now, err := os.ReadFile(journal)
			require.NoError(t, err)
			require.Equal(t, is, now, "no byte is cut or changed")
			for _, args := range [][]string{{"apply", "--offline"}, {"status", "--offline"}, {"show", "journal"}} {
				if again := run(t, dir, args...); again.code != 2 && again.code != 3 && args[0] != "apply" {
					require.Fail(t, args[0]+" says nothing", say(bit, again))
				}
			}
			check := run(t, dir, "history", "--check")
			require.Equal(t, 1, check.code, say(bit, check))
		}
		assert.Positive(t, refused)
	})
	t.Run("sheet", func(t *testing.T) {
		for range *flips {
			previewed.restore(t, dir, book)
			_, bit := flip(t, r, sheet)
			got := run(t, dir, "apply", "--offline")
			if got.code == 0 {
				require.Equal(t, after, dump(t, db), say(bit, got))
				continue
			}
			require.Equal(t, 2, got.code, say(bit, got))
			require.Equal(t, before, dump(t, db), say(bit, got))
		}
	})
	t.Run("site file", func(t *testing.T) {
		for range *flips {
			previewed.restore(t, dir, book)
			_, bit := flip(t, r, siteFile(dir))
			got := run(t, dir, "apply", "--offline")
			require.Contains(t, got.errs, "trimlantern", say(bit, got))
			if got.code == 0 {
				require.Contains(t, got.errs, "was edited", say(bit, got))
				require.Equal(t, after, dump(t, db), say(bit, got))
				continue
			}
			require.Equal(t, before, dump(t, db), say(bit, got))
		}
	})
	t.Run("others", func(t *testing.T) {
		applied.restore(t, dir, book)
		want(t, 0, dir, "backup")
		whole := keepFiles(t, dir, book)
		folder := only(t, filepath.Join(filepath.Dir(book), "backups", "*"))
		kept := keepFiles(t, folder)
		require.Contains(t, want(t, 0, dir, "history", "--check").out, "Nothing is damaged.")
		var all []string
		for path := range whole {
			if name := filepath.Base(path); filepath.Dir(path) == book && !strings.HasPrefix(name, "lock") && name != ".htaccess" {
				all = append(all, path)
			}
		}
		for path := range kept {
			all = append(all, path)
		}
		slices.Sort(all)
		for _, path := range all {
			for range max(2, *flips/len(all)) {
				_, bit := flip(t, r, path)
				got := run(t, dir, "history", "--check")
				if got.code == 0 { // of the frame of a packed file: what is in it is the same
					require.True(t, strings.HasSuffix(path, ".zst"), path+" "+say(bit, got))
				} else {
					require.Contains(t, got.out+got.errs, "damaged", path+" "+say(bit, got))
				}
				whole.restore(t, dir, book)
				kept.restore(t, folder)
			}
		}
	})
}

// Of a damaged journal all other blocks can be put back, from a copy.
func TestRepairedJournal(t *testing.T) {
	dir := bare(t, 4000)
	book := logbookOf(dir)
	before := dump(t, filepath.Join(dir, "site.db"))
	want(t, 0, dir, "preview", "--offline")
	want(t, 0, dir, "apply", "--offline")
	journal := only(t, filepath.Join(book, "*.journal.*"))
	b, err := os.ReadFile(journal)
	require.NoError(t, err)
	b[len(b)/2] ^= 4
	require.NoError(t, os.WriteFile(journal, b, 0o600))
	id := strings.TrimSuffix(filepath.Base(journal), ".journal.jsonl.zst")
	assert.Contains(t, want(t, 2, dir, "undo").errs, "history --repair "+id)
	assert.Contains(t, want(t, 1, dir, "history", "--check").out, "history --repair "+id)
	r := want(t, 0, dir, "history", "--repair", id)
	_, copied, _ := strings.Cut(r.out, "Next: trimlantern undo ")
	copied = strings.TrimSpace(copied)
	assert.NotEmpty(t, copied, r.out)
	now, err := os.ReadFile(journal + ".damaged")
	require.NoError(t, err)
	assert.Equal(t, b, now, "the damaged one stays as it is")
	undone := want(t, 1, dir, "undo", copied)
	assert.NotContains(t, undone.out, "byte for byte")
	assert.Contains(t, undone.out, "bytes of the damaged journal could not")
	after := dump(t, filepath.Join(dir, "site.db"))
	assert.NotEqual(t, before, after, "a block is missing")
	assert.Greater(t, strings.Count(after, "http://"), strings.Count(before, "http://")/2)
	want(t, 2, dir, "history", "--repair", copied)
}

// Twenty commands at once lose nothing: each decision that was accepted is there, each run has a name of its own.
func TestManyAtOnce(t *testing.T) {
	dir := bare(t, 5)
	book := logbookOf(dir)
	for range 3 {
		var wg sync.WaitGroup
		results := make([]result, 24)
		for i := range results {
			wg.Go(func() {
				switch i % 6 {
				case 4:
					results[i] = run(t, dir, "preview", "--offline")
				case 5:
					results[i] = run(t, dir, "backup")
				default:
					results[i] = run(t, dir, "decide", []string{"leave", "insecure"}[i%2], fmt.Sprintf("host%d.example", i))
				}
			})
		}
		wg.Wait()
		file, err := os.ReadFile(siteFile(dir))
		require.NoError(t, err)
		previews, backups := 0, 0
		for i, r := range results {
			switch {
			case i%6 == 4:
				require.Equal(t, 0, r.code, r.errs)
				previews++
			case i%6 == 5 && r.code == 0:
				backups++
			case i%6 == 5:
				require.Equal(t, 3, r.code, r.errs)
				require.Contains(t, r.errs, "trimlantern backup, process ")
			default:
				require.Equal(t, 0, r.code, r.errs)
				require.Contains(t, string(file), fmt.Sprintf("host%d.example: ", i))
			}
		}
		sheets, err := filepath.Glob(filepath.Join(book, "*.sheet.*"))
		require.NoError(t, err)
		require.Len(t, sheets, previews)
		for _, s := range sheets {
			require.NoError(t, os.Remove(s))
		}
		made, err := filepath.Glob(filepath.Join(filepath.Dir(book), "backups", "*"))
		require.NoError(t, err)
		require.Len(t, made, backups)
		require.NoError(t, os.RemoveAll(filepath.Join(filepath.Dir(book), "backups")))
		left, err := filepath.Glob(filepath.Join(book, ".trimlantern-*"))
		require.NoError(t, err)
		require.Empty(t, left)
		require.Contains(t, want(t, 0, dir, "preview", "--offline").out, "host")
		for _, s := range []string{only(t, filepath.Join(book, "*.sheet.*"))} {
			require.NoError(t, os.Remove(s))
		}
	}
}

// What another user could have put in the way of the logbook is refused, and what it leads to is not touched.
func TestLogbookInTheWay(t *testing.T) {
	if os.Getuid() != 0 {
		t.Fatal("this test gives files to another user: run it as root, as make check does")
	}
	const keeper = 4711
	victim := filepath.Join(t.TempDir(), "victim")
	attacks := []struct {
		name string
		lay  func(t *testing.T, dir, book string)
		say  string
	}{
		{"the lock is a link", func(t *testing.T, _, book string) {
			require.NoError(t, os.Remove(filepath.Join(book, "lock-change")))
			require.NoError(t, os.Symlink(victim, filepath.Join(book, "lock-change")))
			require.NoError(t, os.Remove(filepath.Join(book, "lock")))
			require.NoError(t, os.Symlink(victim, filepath.Join(book, "lock")))
		}, "symbolic link"},
		{"the clock is a link", func(t *testing.T, _, book string) {
			require.NoError(t, os.Remove(filepath.Join(book, "clock")))
			require.NoError(t, os.Symlink(victim, filepath.Join(book, "clock")))
		}, ""},
		{"the logbook is a link", func(t *testing.T, _, book string) {
			require.NoError(t, os.Rename(book, book+"-kept"))
			require.NoError(t, os.Symlink(book+"-kept", book))
		}, "is a symbolic link"},
		{"the logbook is another user's", func(t *testing.T, _, book string) {
			require.NoError(t, os.Chown(book, keeper, keeper))
		}, "belongs to the user"},
		{"the logbook can be written by others", func(t *testing.T, _, book string) {
			require.NoError(t, os.Chmod(book, 0o770))
			require.NoError(t, os.Chown(book, 0, keeper))
		}, "can be written by other users"},
		{"the folder above can be written by all", func(t *testing.T, dir, _ string) {
			require.NoError(t, os.Chmod(dir, 0o777))
		}, "can be written by other users"},
		{"the folder above belongs to a group of several", func(t *testing.T, dir, _ string) {
			require.NoError(t, os.Chown(dir, 0, keeper))
			require.NoError(t, os.Chmod(dir, 0o775))
		}, "can be written by other users"},
		{"the journal is another user's pipe", func(t *testing.T, _, book string) {
			journal := only(t, filepath.Join(book, "*.journal.*"))
			require.NoError(t, os.Remove(journal))
			require.NoError(t, syscall.Mkfifo(journal, 0o666))
		}, "not a regular file"},
		{"the site file is another user's", func(t *testing.T, dir, _ string) {
			require.NoError(t, os.Chown(siteFile(dir), keeper, keeper))
		}, "belongs to the user"},
	}
	for _, a := range attacks {
		t.Run(a.name, func(t *testing.T) {
			require.NoError(t, os.WriteFile(victim, []byte("untouched"), 0o600))
			dir := bare(t, 3)
			want(t, 0, dir, "preview", "--offline")
			want(t, 0, dir, "apply", "--offline")
			before := dump(t, filepath.Join(dir, "site.db"))
			a.lay(t, dir, logbookOf(dir))
			said := ""
			for _, args := range [][]string{{"undo"}, {"apply", "--offline"}, {"decide", "leave", "host.example"}, {"backup"}} {
				r := run(t, dir, args...)
				require.NotEqual(t, 1, r.code, r.out)
				said += r.errs
				if args[0] == "undo" && a.name != "the clock is a link" { // undo names no run
					require.NotEqual(t, 0, r.code, r.out)
				}
			}
			if a.say != "" {
				assert.Contains(t, said, a.say)
			}
			if a.name != "the clock is a link" {
				assert.Equal(t, before, dump(t, filepath.Join(dir, "site.db")))
			}
			b, err := os.ReadFile(victim)
			require.NoError(t, err)
			assert.Equal(t, "untouched", string(b))
		})
	}
}

// The names that another user's configuration gives are never options of a program, and reach no server.
func TestNamesOfAnotherUser(t *testing.T) {
	if os.Getuid() != 0 {
		t.Fatal("this test gives files to another user: run it as root, as make check does")
	}
	for _, c := range [][2]string{{"DB_NAME", "-A"}, {"DB_NAME", "--result-file=made.sql"}, {"DB_USER", "--defaults-file=x"}, {"DB_HOST", "-h evil.example"}} {
		dir := t.TempDir()
		require.NoError(t, os.Chmod(dir, 0o755))
		settings := map[string]string{"DB_NAME": "museum", "DB_USER": "keeper", "DB_PASSWORD": "lamp-oil", "DB_HOST": "127.0.0.1:1"}
		settings[c[0]] = c[1]
		config := "<?php\n"
		for name, value := range settings {
			config += fmt.Sprintf("define( '%s', '%s' );\n", name, value)
		}
		config += "$table_prefix = 'm_';\nrequire_once ABSPATH . 'wp-settings.php';\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, "wp-config.php"), []byte(config), 0o644))
		require.NoError(t, os.Chown(filepath.Join(dir, "wp-config.php"), 4711, 4711))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "trimlantern.yaml"), []byte("site: https://ternrock.example\nsystem: wordpress\ndatabase:\n  kind: mysql\n  config: wp-config.php\n  prefix: m_\n"), 0o600))
		for _, args := range [][]string{{"backup"}, {"preview", "--offline"}} {
			r := run(t, dir, args...)
			assert.Contains(t, []int{2, 3}, r.code, "%v\n%s%s", c, r.out, r.errs)
			assert.NotContains(t, r.errs, "lamp-oil")
		}
		assert.NoFileExists(t, filepath.Join(dir, "made.sql"))
	}
}

// asVersion1 writes a journal as version 1 did: without chain, and with a checksum of each frame alone. It returns where the
// blocks end.
func asVersion1(t *testing.T, path string) (ends []int) {
	b, err := os.ReadFile(path)
	require.NoError(t, err)
	const guard = 64 // of a block that is not sealed yet
	var out []byte
	_, err = change.EachBlock(bytes.NewReader(b), func(b change.Block) error {
		for i := range b.Records {
			if h := b.Records[i].Header; h != nil {
				h.Version, h.SheetSum, h.Folder = 1, "", ""
			}
			b.Records[i].Counts = nil
		}
		block, err := change.EncodeBlock(b.Records...)
		if err != nil {
			return err
		}
		frame := block[guard:]
		out = binary.LittleEndian.AppendUint32(out, 0x184D2A5E)
		out = binary.LittleEndian.AppendUint32(out, 12)
		out = binary.LittleEndian.AppendUint64(out, uint64(len(frame)))
		out = binary.LittleEndian.AppendUint32(out, crc32.Checksum(frame, crc32.MakeTable(crc32.Castagnoli)))
		out = append(out, frame...)
		ends = append(ends, len(out))
		return nil
	})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, out, 0o600))
	return ends
}

// A journal of an earlier version is undone byte for byte, and one of an interrupted run is gone on with.
func TestOlderJournal(t *testing.T) {
	dir := bare(t, 5000)
	db := filepath.Join(dir, "site.db")
	before := dump(t, db)
	want(t, 0, dir, "preview", "--offline")
	untouched, err := os.ReadFile(db)
	require.NoError(t, err)
	want(t, 0, dir, "apply", "--offline")
	after := dump(t, db)
	journal := only(t, filepath.Join(logbookOf(dir), "*.journal.*"))
	require.NoError(t, os.Remove(only(t, filepath.Join(logbookOf(dir), "*.seal.json"))))
	ends := asVersion1(t, journal)
	assert.Contains(t, want(t, 0, dir, "history", "--check").out, "of an earlier version")
	old := keepFiles(t, dir, logbookOf(dir))
	assert.Contains(t, want(t, 0, dir, "undo").out, "byte for byte")
	assert.Equal(t, before, dump(t, db))
	assert.Contains(t, want(t, 0, dir, "history").out, "undone")

	old.restore(t, dir, logbookOf(dir))
	whole, err := os.ReadFile(journal)
	require.NoError(t, err)
	require.Greater(t, len(ends), 3)
	for _, n := range []int{ends[0], ends[1], ends[1] + 7, ends[1] + 19} { // interrupted before anything was changed, between two blocks and in one
		old.restore(t, dir, logbookOf(dir))
		require.NoError(t, os.WriteFile(db, untouched, 0o644))
		require.NoError(t, os.WriteFile(journal, whole[:n], 0o600))
		want(t, 0, dir, "apply", "--offline")
		assert.Equal(t, after, dump(t, db))
		assert.Contains(t, want(t, 0, dir, "undo").out, "byte for byte")
		assert.Equal(t, before, dump(t, db))
	}
	old.restore(t, dir, logbookOf(dir))
	flipped := bytes.Clone(whole)
	flipped[ends[1]+40] ^= 1
	require.NoError(t, os.WriteFile(journal, flipped, 0o600))
	assert.Contains(t, want(t, 2, dir, "undo").errs, fmt.Sprintf("damaged at byte %d", ends[1]))
	assert.Equal(t, after, dump(t, db))
}
