package pack

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"errors"
	"io"
	"os"
	"time"

	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Writer packs a text. Of an archive it takes one part behind the other.
type Writer interface {
	io.Writer
	Next() error  // the next part begins
	Close() error // all is there
}

// Write returns a Writer that packs a changed text of the source into w: in the source's own way where the
// name is that of an archive and the source is one, else as the name says. base is the name of the one text
// in a new archive.
func (s *Source) Write(w io.Writer, name, base string) (Writer, error) {
	p, archive := Named(name)
	var packer io.WriteCloser
	var err error
	if p != Zip {
		if packer, err = pack(w, p); err != nil {
			return nil, err
		}
	}
	switch {
	case !archive && s.UTF16:
		return &single{w: s.wide.NewEncoder().Writer(packer), packer: packer}, nil
	case !archive:
		return &single{w: packer, packer: packer}, nil
	}
	a := &archiver{source: s, base: base, packer: packer, at: -1}
	if p == Zip {
		a.zip = zip.NewWriter(w)
	} else {
		a.tar = tar.NewWriter(packer)
	}
	return a, a.Next()
}

// pack returns what packs into w.
func pack(w io.Writer, p Packing) (io.WriteCloser, error) {
	switch p {
	case Gzip:
		return gzip.NewWriter(w), nil
	case Zstd:
		return zstd.NewWriter(w, zstd.WithLowerEncoderMem(true))
	case Bzip2:
		return bzip2.NewWriter(w, nil)
	case XZ:
		return xz.NewWriter(w)
	}
	return open{w}, nil
}

type open struct{ io.Writer }

func (open) Close() error { return nil }

// single is one text; the parts of an archive become one.
type single struct {
	w      io.Writer
	packer io.Closer
}

func (s *single) Write(b []byte) (int, error) { return s.w.Write(b) }
func (s *single) Next() error                 { return nil }
func (s *single) Close() error {
	if c, ok := s.w.(io.Closer); ok && c != s.packer {
		if err := c.Close(); err != nil {
			return err
		}
	}
	return s.packer.Close()
}

// archiver is an archive with the files of the source, or with one text.
type archiver struct {
	source *Source
	base   string
	packer io.WriteCloser // of a tar
	zip    *zip.Writer
	tar    *tar.Writer
	at     int
	w      io.Writer
	spool  *os.File // the part of a tar that is being written, whose size is not known before its end
	inner  io.WriteCloser
}

func (a *archiver) Write(b []byte) (int, error) { return a.w.Write(b) }

// part returns the part that is being written.
func (a *archiver) part() Part {
	if a.source.Archive {
		return a.source.Parts[a.at]
	}
	return Part{Name: a.base, mode: 0o644, at: time.Now()}
}

func (a *archiver) Next() error {
	if err := a.finish(); err != nil {
		return err
	}
	a.at++
	if a.source.Archive && a.at >= len(a.source.Parts) || !a.source.Archive && a.at > 0 {
		return errors.New("the archive has fewer parts")
	}
	this := a.part()
	if err := a.begin(this); err != nil {
		return err
	}
	a.inner = nil
	if p, _ := Named(this.Name); p != Plain && p != Zip { // packed once more
		var err error
		if a.inner, err = pack(a.w, p); err != nil {
			return err
		}
		a.w = a.inner
	}
	return nil
}

// begin makes room for a file. The size of one in a tar is not known before its end, so it waits in a file
// without a name.
func (a *archiver) begin(p Part) (err error) {
	if a.zip != nil {
		h := &zip.FileHeader{Name: p.Name, Method: zip.Deflate, Modified: p.at}
		h.SetMode(p.mode)
		a.w, err = a.zip.CreateHeader(h)
		return err
	}
	if a.spool, err = os.CreateTemp("", "trimlantern-*"); err == nil {
		err = os.Remove(a.spool.Name())
	}
	a.w = a.spool
	return err
}

// end puts a file into the archive.
func (a *archiver) end(p Part) error {
	if a.spool == nil {
		return nil
	}
	spool := a.spool
	a.spool = nil
	size, err := spool.Seek(0, io.SeekCurrent)
	if err == nil {
		_, err = spool.Seek(0, io.SeekStart)
	}
	if err == nil {
		err = a.tar.WriteHeader(&tar.Header{Name: p.Name, Typeflag: tar.TypeReg, Mode: int64(p.mode), ModTime: p.at, Size: size})
	}
	if err == nil {
		_, err = io.Copy(a.tar, spool)
	}
	return errors.Join(err, spool.Close())
}

// finish ends the part that is being written.
func (a *archiver) finish() error {
	if a.at < 0 {
		return nil
	}
	if a.inner != nil {
		if err := a.inner.Close(); err != nil {
			return err
		}
	}
	return a.end(a.part())
}

func (a *archiver) Close() error {
	if err := a.finish(); err != nil {
		return err
	}
	if a.source.Archive {
		if err := a.others(); err != nil {
			return err
		}
	}
	if a.zip != nil {
		return a.zip.Close()
	}
	if err := a.tar.Close(); err != nil {
		return err
	}
	return a.packer.Close()
}

// others copies the files of the source that are no dumps.
func (a *archiver) others() error {
	f, err := a.source.open()
	if err != nil {
		return err
	}
	defer f.Close()
	return a.source.each(f, func(e entry) error {
		if isDump(e.name) {
			return nil
		}
		in, err := e.open()
		if err != nil {
			return err
		}
		p := Part{Name: e.name, mode: e.mode, at: e.at}
		if err := a.begin(p); err != nil {
			return err
		}
		_, err = io.Copy(a.w, in)
		return errors.Join(err, a.end(p))
	})
}
