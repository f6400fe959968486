package pack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"
)

// packedAs packs a text by the packer that writes the results.
func packedAs(t *testing.T, p Packing, text string) []byte {
	var out bytes.Buffer
	w, err := pack(&out, p)
	require.NoError(t, err)
	_, err = io.WriteString(w, text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

func tarOf(t *testing.T, files ...string) string {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "folder/", Typeflag: tar.TypeDir, Mode: 0o755}))
	for i := 0; i < len(files); i += 2 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: files[i], Typeflag: tar.TypeReg, Mode: 0o640, Size: int64(len(files[i+1])), ModTime: time.Unix(1e9, 0)}))
		_, err := io.WriteString(w, files[i+1])
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.String()
}

func zipOf(t *testing.T, files ...string) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for i := 0; i < len(files); i += 2 {
		f, err := w.Create(files[i])
		require.NoError(t, err)
		_, err = io.WriteString(f, files[i+1])
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

// source opens bytes as a file or, without a name, as a stream.
func source(t *testing.T, name string, b []byte) (*Source, error) {
	if name == "" {
		return Open("", bytes.NewReader(b))
	}
	path := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(path, b, 0o600))
	return Open(path, nil)
}

func textOf(t *testing.T, s *Source) string {
	r, end, err := s.Text()
	require.NoError(t, err)
	defer end()
	b, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(b)
}

func TestReads(t *testing.T) {
	const text = "CREATE TABLE t (a text);\nINSERT INTO t VALUES ('café');\n"
	wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
	require.NoError(t, err)
	gz := string(packedAs(t, Gzip, text))
	for name, b := range map[string][]byte{
		"plain.sql":      []byte(text),
		"a.sql.gz":       []byte(gz),
		"a.sql.zst":      packedAs(t, Zstd, text),
		"a.sql.bz2":      packedAs(t, Bzip2, text),
		"a.sql.xz":       packedAs(t, XZ, text),
		"two.sql.gz":     append([]byte(gz), packedAs(t, Gzip, "")...), // as cat joins them
		"a.zip":          zipOf(t, "readme.txt", "x", "site/museum.sql", text, "__MACOSX/._museum.sql", "y"),
		"inner.zip":      zipOf(t, "museum.sql.gz", gz),
		"a.tar":          []byte(tarOf(t, "readme", "x", "museum.sql", text)),
		"a.tar.gz":       packedAs(t, Gzip, tarOf(t, "museum.sql", text)),
		"a.tar.xz":       packedAs(t, XZ, tarOf(t, "parts/1.sql", text[:30], "parts/2.sql", text[30:])),
		"misnamed.txt":   packedAs(t, Zstd, text),
		"windows-16.sql": []byte(wide),
	} {
		for _, as := range []string{name, ""} {
			s, err := source(t, as, b)
			require.NoError(t, err, name)
			assert.Equal(t, text, textOf(t, s), name)
			assert.Equal(t, text, textOf(t, s), "%s, once more", name)
			// What is written again, under the same name, reads the same.
			var out bytes.Buffer
			w, err := s.Write(&out, name, "base.sql")
			require.NoError(t, err)
			for i, p := range s.Parts {
				if i > 0 {
					require.NoError(t, w.Next())
				}
				from := 0
				for _, q := range s.Parts[:i] {
					from += int(q.Size)
				}
				to := from + int(p.Size)
				if !s.Archive {
					to = len(text)
				}
				_, err = io.WriteString(w, text[from:to])
				require.NoError(t, err)
			}
			require.NoError(t, w.Close())
			again, err := source(t, name, out.Bytes())
			require.NoError(t, err, name)
			assert.Equal(t, text, textOf(t, again), name)
			assert.Equal(t, s.Others, again.Others, name)
			assert.Len(t, again.Parts, len(s.Parts), name)
			if name != "misnamed.txt" && name != "two.sql.gz" {
				assert.Equal(t, s.Packing, again.Packing, name)
			}
			assert.Equal(t, s.UTF16, again.UTF16, name)
			require.NoError(t, s.Close())
		}
	}
}

func TestRefuses(t *testing.T) {
	gz := packedAs(t, Gzip, strings.Repeat("CREATE TABLE t;\n", 1000))
	for name, c := range map[string]struct {
		b   []byte
		say string
	}{
		"seven.7z":      {[]byte("7z\xbc\xaf\x27\x1c rest"), "7z format"},
		"custom.dump":   {[]byte("PGDMP\x01\x0e"), "custom format"},
		"site.db":       {[]byte("SQLite format 3\x00"), "an SQLite database"},
		"no-dump.zip":   {zipOf(t, "a.txt", "x"), "no file called .sql"},
		"pg.tar":        {[]byte(tarOf(t, "toc.dat", "x", "restore.sql", "y")), "tar format"},
		"sheet.ods":     {zipOf(t, "mimetype", "x", "content.xml", "y"), "office document"},
		"no-mark.sql":   {[]byte("C\x00R\x00E\x00A\x00T\x00E\x00"), "without its mark"},
		"half-wide.sql": {[]byte("\xff\xfeA\x00\x00\xd8B\x00"), "not valid"},
	} {
		_, err := source(t, name, c.b)
		var f *Foreign
		require.ErrorAs(t, err, &f, name)
		assert.Contains(t, f.What, c.say, name)
		assert.NotEmpty(t, f.Do, name)
	}
	for name, b := range map[string][]byte{"torn.gz": gz[:len(gz)/2], "torn.zip": zipOf(t, "a.sql", "x")[:20], "torn.xz": packedAs(t, XZ, "text")[:14], "bad.bz2": []byte("BZh9rubbish rubbish")} {
		s, err := source(t, name, b)
		if err == nil {
			var r io.Reader
			var end func()
			if r, end, err = s.Text(); err == nil {
				_, err = io.ReadAll(r)
				end()
			}
		}
		assert.ErrorIs(t, err, ErrPacked, name)
	}
	_, err := Open(filepath.Join(t.TempDir(), "nothing"), nil)
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, err = Open(t.TempDir(), nil)
	assert.ErrorContains(t, err, "is a folder")
	_, err = Open("", failing{})
	assert.ErrorContains(t, err, "no line")
}

type failing struct{}

func (failing) Read([]byte) (int, error) { return 0, errors.New("no line") }

// A stream that is longer than what is kept in memory goes through a file that nobody sees.
func TestLongStream(t *testing.T) {
	tmp := t.TempDir()
	t.Setenv("TMPDIR", tmp)
	line := strings.Repeat("x", 1<<20)
	s, err := Open("", strings.NewReader(strings.Repeat(line, keepSize>>20+1)))
	require.NoError(t, err)
	defer s.Close()
	entries, err := os.ReadDir(tmp)
	require.NoError(t, err)
	assert.Empty(t, entries)
	assert.Equal(t, int64(keepSize+1<<20), s.Size())
	for range 2 {
		r, end, err := s.Text()
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, r)
		require.NoError(t, err)
		assert.Equal(t, s.Size(), n)
		end()
	}
}

func FuzzOpenText(f *testing.F) {
	f.Add([]byte("plain"))
	f.Add([]byte("\x1f\x8b\x08"))
	f.Add([]byte("PK\x03\x04"))
	f.Add([]byte("\xff\xfea\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := Open("", bytes.NewReader(b))
		if err != nil {
			return
		}
		if r, end, err := s.Text(); err == nil {
			_, _ = io.Copy(io.Discard, io.LimitReader(r, 1<<20)) // it may be torn
			end()
		}
		require.NoError(t, s.Close())
	})
}
