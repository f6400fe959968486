// Package pack reads texts out of what they are packed in (gzip, zstd, bzip2, xz, zip, tar; UTF-16), as
// streams that can be read more than once, and packs a changed text in the same way again.
package pack

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/unicode"
)

// Packing is how a file is packed.
type Packing string

// The ways of packing.
const (
	Plain Packing = ""
	Gzip  Packing = "gzip"
	Zstd  Packing = "zstd"
	Bzip2 Packing = "bzip2"
	XZ    Packing = "xz"
	Zip   Packing = "zip"
)

// packings are the ways of packing with how a file of each begins and what its name ends with.
var packings = []struct {
	is    Packing
	magic string
	ends  []string
}{
	{Gzip, "\x1f\x8b", []string{".gz", ".tgz"}},
	{Zstd, "\x28\xb5\x2f\xfd", []string{".zst", ".tzst"}},
	{Bzip2, "BZh", []string{".bz2", ".tbz2"}},
	{XZ, "\xfd7zXZ\x00", []string{".xz", ".txz"}},
	{Zip, "PK\x03\x04", []string{".zip"}},
}

// Foreign says that a file is packed, or written, in a way that is not read here, and what to do.
type Foreign struct{ What, Do string }

func (f *Foreign) Error() string { return f.What }

// foreign are other ways in which people pack and export databases.
var foreign = []struct {
	magic    string
	what, do string
}{
	{"7z\xbc\xaf\x27\x1c", "this is an archive of the 7z format", "unpack it, and give the SQL file in it"},
	{"Rar!", "this is an archive of the rar format", "unpack it, and give the SQL file in it"},
	{"\x04\x22\x4d\x18", "this is packed with lz4", "unpack it (lz4 -d), and give the SQL file"},
	{"PGDMP", "this is a dump in PostgreSQL's custom format", "make SQL of it: pg_restore -f site.sql FILE"},
	{"SQLite format 3\x00", "this is an SQLite database, not a dump of one", "use it as it is (trimlantern init --database sqlite:FILE), or dump it: sqlite3 FILE .dump > site.sql"},
	{"%PDF-", "this is a PDF document", "export the database as SQL"},
}

// ErrPacked says that something packed cannot be unpacked.
var ErrPacked = errors.New("cannot be unpacked")

// Bounds of memory.
const (
	keepSize  = 32 << 20 // how much of a stream is kept in memory; more goes to a file
	maxWindow = 64 << 20
	maxFiles  = 100_000 // of an archive
)

// Part is one text of several in an archive.
type Part struct {
	Name string
	Size int64 // of its text as it is read; known when all was read once

	mode fs.FileMode
	at   time.Time
}

// Source is a text that can be read again and again: a file, or a stream that is kept for it.
type Source struct {
	Packing Packing
	Archive bool // zip, or a tar in whatever packing
	UTF16   bool
	Parts   []Part // the texts, in order; one where it is no archive
	Others  int    // files of an archive that are no dumps

	open  func() (io.ReadSeekCloser, error)
	size  int64
	wide  encoding.Encoding
	close func() error
}

// Open opens a file, or keeps a stream where path is empty. Close it.
func Open(name string, stream io.Reader) (*Source, error) {
	s := &Source{close: func() error { return nil }}
	if name != "" {
		info, err := os.Stat(name)
		if err != nil {
			return nil, err
		}
		if !info.Mode().IsRegular() {
			if info.IsDir() {
				return nil, &fs.PathError{Op: "read", Path: name, Err: errors.New("is a folder")}
			}
			f, err := os.Open(name) // a pipe
			if err != nil {
				return nil, err
			}
			defer f.Close()
			stream, name = f, ""
		}
		s.size = info.Size()
	}
	if name != "" {
		s.open = func() (io.ReadSeekCloser, error) { return os.Open(name) }
	} else if err := s.keep(stream); err != nil {
		return nil, err
	}
	if err := s.look(); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

// Close forgets what was kept.
func (s *Source) Close() error { return s.close() }

// Size returns how long the file or stream is, packed.
func (s *Source) Size() int64 { return s.size }

// keep keeps a stream: in memory, or where it is long in a file without a name.
func (s *Source) keep(stream io.Reader) error {
	head, err := io.ReadAll(io.LimitReader(stream, keepSize+1))
	if err != nil {
		return err
	}
	if s.size = int64(len(head)); s.size <= keepSize {
		s.open = func() (io.ReadSeekCloser, error) { return nopCloser{bytes.NewReader(head)}, nil }
		return nil
	}
	f, err := os.CreateTemp("", "trimlantern-*")
	if err != nil {
		return err
	}
	err = os.Remove(f.Name()) // it stays as long as it is open
	if _, werr := f.Write(head); err == nil {
		err = werr
	}
	n, cerr := io.Copy(f, stream)
	if err = errors.Join(err, cerr); err != nil {
		return errors.Join(err, f.Close())
	}
	s.size += n
	size := s.size
	s.open = func() (io.ReadSeekCloser, error) { return nopCloser{io.NewSectionReader(f, 0, size)}, nil }
	s.close = f.Close
	return nil
}

type nopCloser struct{ io.ReadSeeker }

func (nopCloser) Close() error { return nil }

// look finds out how the source is packed and what is in it.
func (s *Source) look() error {
	f, err := s.open()
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return err
	}
	head = head[:n]
	for _, k := range foreign {
		if bytes.HasPrefix(head, []byte(k.magic)) {
			return &Foreign{k.what, k.do}
		}
	}
	s.Packing = told(head)
	if s.Packing == Zip {
		s.Archive = true
		return s.list(f)
	}
	if s.Packing == XZ {
		if err := wholeXZ(f); err != nil {
			return err
		}
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	in, closeIn, err := unpack(f, s.Packing)
	if err != nil {
		return err
	}
	defer closeIn()
	inner := bufio.NewReaderSize(in, 512)
	head, err = inner.Peek(512)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if len(head) == 512 && string(head[257:262]) == "ustar" {
		s.Archive = true
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return err
		}
		return s.list(f)
	}
	s.Parts = []Part{{}}
	return s.utf16(head)
}

// wholeXZ looks at the end of an xz file, of which a part would read like the whole.
func wholeXZ(f io.ReadSeeker) error {
	end := make([]byte, 2)
	if _, err := f.Seek(-int64(len(end)), io.SeekEnd); err != nil {
		return err
	}
	if _, err := io.ReadFull(f, end); err != nil {
		return err
	}
	if string(end) != "YZ" {
		return fmt.Errorf("xz: %w: it is cut off", ErrPacked)
	}
	return nil
}

// utf16 looks whether a text is UTF-16, and then whether it can be written again as it was.
func (s *Source) utf16(head []byte) error {
	switch {
	case bytes.HasPrefix(head, []byte{0xff, 0xfe}) && !bytes.HasPrefix(head, []byte{0xff, 0xfe, 0, 0}):
		s.wide = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM)
	case bytes.HasPrefix(head, []byte{0xfe, 0xff}):
		s.wide = unicode.UTF16(unicode.BigEndian, unicode.ExpectBOM)
	case len(head) > 3 && (head[0] == 0 && head[2] == 0 || head[1] == 0 && head[3] == 0):
		return &Foreign{"this is text in UTF-16 without its mark", "save it as UTF-8, or export the database again as UTF-8"}
	default:
		return nil
	}
	s.UTF16 = true
	was, again := sha256.New(), sha256.New()
	r, closeRaw, err := s.raw()
	if err != nil {
		return err
	}
	defer closeRaw()
	back := s.wide.NewEncoder().Writer(again)
	if _, err := io.Copy(back, s.wide.NewDecoder().Reader(io.TeeReader(r, was))); err != nil {
		return fmt.Errorf("the text in UTF-16: %w", err)
	}
	if !bytes.Equal(was.Sum(nil), again.Sum(nil)) {
		return &Foreign{"this text is in UTF-16, and parts of it are not valid", "export the database again as UTF-8"}
	}
	return nil
}

// told tells the packing from the beginning of a file.
func told(head []byte) Packing {
	for _, p := range packings {
		if bytes.HasPrefix(head, []byte(p.magic)) {
			return p.is
		}
	}
	return Plain
}

// Named tells from a file's name how it is to be packed, and whether it is an archive.
func Named(name string) (p Packing, archive bool) {
	name = strings.ToLower(path.Base(name))
	for _, k := range packings {
		for _, end := range k.ends {
			if before, ok := strings.CutSuffix(name, end); ok {
				return k.is, k.is == Zip || end[1] == 't' || strings.HasSuffix(before, ".tar")
			}
		}
	}
	return Plain, strings.HasSuffix(name, ".tar")
}

// unpack returns what is packed in r. Decoders hold back no more than maxWindow of memory.
func unpack(r io.Reader, p Packing) (io.Reader, func(), error) {
	none := func() {}
	failed := func(err error) (io.Reader, func(), error) {
		return nil, none, fmt.Errorf("%s: %w: %w", p, ErrPacked, err)
	}
	r = bufio.NewReaderSize(r, 1<<16)
	switch p {
	case Gzip:
		z, err := gzip.NewReader(r)
		if err != nil {
			return failed(err)
		}
		return &packed{z, p}, none, nil
	case Zstd:
		z, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(1<<30), zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderLowmem(true))
		if err != nil {
			return failed(err)
		}
		return &packed{z, p}, z.Close, nil
	case Bzip2:
		z, err := bzip2.NewReader(r, nil)
		if err != nil {
			return failed(err)
		}
		return &packed{z, p}, none, nil
	case XZ:
		z, err := xz.ReaderConfig{DictCap: maxWindow}.NewReader(r)
		if err != nil {
			return failed(err)
		}
		return &packed{z, p}, none, nil
	}
	return r, none, nil
}

// packed names what could not be unpacked.
type packed struct {
	r io.Reader
	p Packing
}

func (z *packed) Read(b []byte) (int, error) {
	n, err := z.r.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		err = fmt.Errorf("%s: %w: %w", z.p, ErrPacked, err)
	}
	return n, err
}

// isDump reports whether a file of an archive is taken for a dump, by its name.
func isDump(name string) bool {
	base := strings.ToLower(path.Base(name))
	if strings.HasPrefix(base, ".") || strings.Contains(name, "__MACOSX/") {
		return false
	}
	if p, archive := Named(base); p != Plain && !archive {
		base = strings.TrimSuffix(base, path.Ext(base))
	}
	return strings.Contains(base, ".sql")
}

// list lists the dumps of an archive.
func (s *Source) list(f io.ReadSeeker) error {
	var others []string
	err := s.each(f, func(e entry) error {
		if isDump(e.name) {
			s.Parts = append(s.Parts, Part{Name: e.name, mode: e.mode, at: e.at})
		} else {
			others = append(others, e.name)
		}
		if len(s.Parts)+len(others) > maxFiles {
			return &Foreign{"this archive holds too many files", "unpack it, and give the SQL file in it"}
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.Others = len(others)
	if slices.Contains(others, "toc.dat") {
		return &Foreign{"this is a dump in PostgreSQL's tar format", "make SQL of it: pg_restore -f site.sql FILE"}
	}
	if len(s.Parts) == 0 {
		if slices.Contains(others, "content.xml") {
			return &Foreign{"this is an office document", "export the database as SQL"}
		}
		return &Foreign{"there is no file called .sql in this archive", "give an archive with the dump, or the dump itself"}
	}
	return nil
}

// entry is a regular file of an archive.
type entry struct {
	name string
	mode fs.FileMode
	at   time.Time
	open func() (io.Reader, error)
}

// each calls a function for every regular file of an archive, in order.
func (s *Source) each(f io.ReadSeeker, visit func(e entry) error) error {
	if s.Packing == Zip {
		size, err := f.Seek(0, io.SeekEnd)
		if err != nil {
			return err
		}
		z, err := zip.NewReader(&seeking{f}, size)
		if err != nil {
			return fmt.Errorf("zip: %w: %w", ErrPacked, err)
		}
		for _, file := range z.File {
			if file.Mode().IsDir() {
				continue
			}
			if file.Flags&1 != 0 {
				return &Foreign{"this archive is encrypted", "unpack it, and give the SQL file in it"}
			}
			open := func() (io.Reader, error) {
				r, err := file.Open()
				if err != nil {
					return nil, fmt.Errorf("zip: %w: %w", ErrPacked, err)
				}
				return &packed{r, Zip}, nil
			}
			if err := visit(entry{file.Name, file.Mode().Perm(), file.Modified, open}); err != nil {
				return err
			}
		}
		return nil
	}
	in, closeIn, err := unpack(f, s.Packing)
	if err != nil {
		return err
	}
	defer closeIn()
	t := tar.NewReader(in)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("tar: %w: %w", ErrPacked, err)
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		mode := h.FileInfo().Mode().Perm()
		if err := visit(entry{h.Name, mode, h.ModTime, func() (io.Reader, error) { return t, nil }}); err != nil {
			return err
		}
	}
}

// seeking reads at places of a seeker that nobody else moves.
type seeking struct{ f io.ReadSeeker }

func (s *seeking) ReadAt(b []byte, off int64) (int, error) {
	if _, err := s.f.Seek(off, io.SeekStart); err != nil {
		return 0, err
	}
	return io.ReadFull(s.f, b)
}

// raw returns the text without its packing.
func (s *Source) raw() (io.Reader, func(), error) {
	f, err := s.open()
	if err != nil {
		return nil, nil, err
	}
	if s.Packing == Plain {
		return f, func() { f.Close() }, nil
	}
	in, closeIn, err := unpack(f, s.Packing)
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return in, func() { closeIn(); f.Close() }, nil
}

// Text returns the text, in UTF-8 where it is UTF-16; of an archive, its dumps behind each other. Call the
// function when it is no longer read.
func (s *Source) Text() (io.Reader, func(), error) {
	if s.Archive {
		return s.parts()
	}
	r, end, err := s.raw()
	if err == nil && s.UTF16 {
		r = s.wide.NewDecoder().Reader(bufio.NewReaderSize(r, 1<<16))
	}
	return r, end, err
}

var errStopped = errors.New("nobody reads any more")

// parts reads the dumps of an archive behind each other, and notes how long each is.
func (s *Source) parts() (io.Reader, func(), error) {
	f, err := s.open()
	if err != nil {
		return nil, nil, err
	}
	r, w := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		i := 0
		err := s.each(f, func(e entry) error {
			if !isDump(e.name) {
				return nil
			}
			in, err := e.open()
			if err != nil {
				return err
			}
			if p, _ := Named(e.name); p != Plain { // packed once more
				inner, closeInner, err := unpack(in, p)
				if err != nil {
					return err
				}
				defer closeInner()
				in = inner
			}
			n, err := io.Copy(w, in)
			if i < len(s.Parts) {
				s.Parts[i].Size = n
			}
			i++
			return err
		})
		w.CloseWithError(err) // nil is the end
	}()
	return r, func() {
		r.CloseWithError(errStopped)
		<-done
		f.Close()
	}, nil
}
