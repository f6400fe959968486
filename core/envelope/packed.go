package envelope

import (
	"bytes"
	"compress/bzip2"
	"compress/flate"
	"encoding/binary"
	"errors"
	"hash/adler32"
	"hash/crc32"
	"io"
	"sync"
)

// Packed is an opened compressed value.
type Packed struct {
	Kind string // "gzip", "zlib", "deflate", "COMPRESS", "bzip2"
	Text []byte
	head []byte // as it stands before the compressed data
}

// Errors of OpenPacked.
var (
	ErrNotPacked = errors.New("not compressed")
	ErrTooLarge  = errors.New("more than 64 MB when it is unpacked")
)

// maxUnpacked bounds what is unpacked of one value.
const maxUnpacked = 64 << 20

// packed reports whether b begins like a compressed value.
func packed(b []byte) bool {
	if len(b) < 8 {
		return false
	}
	return b[0] == 0x1f && b[1] == 0x8b || isZlib(b) || isZlib(b[4:]) || bytes.HasPrefix(b, []byte("BZh"))
}

// isZlib reports whether b begins as RFC 1950 has it, without a dictionary.
func isZlib(b []byte) bool {
	return len(b) > 6 && b[0] == 0x78 && (int(b[0])<<8|int(b[1]))%31 == 0 && b[1]&0x20 == 0
}

// OpenPacked opens a value that is compressed as a whole: gzip (RFC 1952), zlib (RFC
// 1950), the database's COMPRESS (a length in four bytes, then zlib), raw deflate (RFC 1951),
// bzip2. It returns ErrNotPacked where the value is none of these to its last byte.
func OpenPacked(b []byte) (Packed, error) {
	switch {
	case len(b) < 8:
		return Packed{}, ErrNotPacked
	case b[0] == 0x1f && b[1] == 0x8b:
		return openGzip(b)
	case bytes.HasPrefix(b, []byte("BZh")):
		t, err := unpack(bzip2.NewReader(bytes.NewReader(b)))
		return Packed{Kind: "bzip2", Text: t}, err
	}
	if isZlib(b) {
		if p, err := openZlib(b, 0, "zlib"); !errors.Is(err, ErrNotPacked) {
			return p, err
		}
	}
	if isZlib(b[4:]) {
		p, err := openZlib(b, 4, "COMPRESS")
		if err == nil && int(binary.LittleEndian.Uint32(b)&0x3fffffff) != len(p.Text) {
			err = ErrNotPacked
		}
		if !errors.Is(err, ErrNotPacked) {
			return p, err
		}
	}
	if isText(b) {
		return Packed{}, ErrNotPacked
	}
	t, n, err := inflate(b)
	if err != nil || n != len(b) || len(t) == 0 {
		if errors.Is(err, ErrTooLarge) {
			return Packed{}, err
		}
		return Packed{}, ErrNotPacked
	}
	return Packed{Kind: "deflate", Text: t}, nil
}

// opens reports whether b is a compressed value, to its last byte.
func opens(b []byte) bool {
	_, err := OpenPacked(b)
	return err == nil
}

// Stored reports whether raw deflate begins with a block that is stored as it is, which its length
// and the complement of that tell.
func Stored(b []byte) bool {
	return len(b) > 5 && b[0]&6 == 0 && b[1] == ^b[3] && b[2] == ^b[4]
}

// unpack reads all of r, within bounds.
func unpack(r io.Reader) ([]byte, error) {
	t, err := io.ReadAll(io.LimitReader(r, maxUnpacked+1))
	if err != nil {
		return nil, ErrNotPacked
	}
	if len(t) > maxUnpacked {
		return nil, ErrTooLarge
	}
	return t, nil
}

// counted tells how much of a value was read.
type counted struct {
	*bytes.Reader
}

// inflaters are readers of deflate that were done with.
var inflaters = sync.Pool{New: func() any { return flate.NewReader(bytes.NewReader(nil)) }}

// deflaters reuses deflate writers, which take more than half a megabyte each.
var deflaters = sync.Pool{New: func() any {
	w, err := flate.NewWriter(io.Discard, flate.DefaultCompression)
	if err != nil {
		panic(err) // cannot happen: the level is valid
	}
	return w
}}

// inflate reads raw deflate; n is how many bytes of b it took.
func inflate(b []byte) (t []byte, n int, err error) {
	r := counted{bytes.NewReader(b)} // a ByteReader, so that no byte too much is read
	z := inflaters.Get().(io.ReadCloser)
	defer inflaters.Put(z)
	if err := z.(flate.Resetter).Reset(r, nil); err != nil {
		return nil, 0, err
	}
	t, err = unpack(z)
	return t, len(b) - r.Len(), err
}

// Parts of a gzip header (RFC 1952 §2.3.1).
const (
	gzipCRC     = 2
	gzipExtra   = 4
	gzipName    = 8
	gzipComment = 16
)

// gzipHead returns how long the header is that b begins with.
func gzipHead(b []byte) (int, error) {
	if len(b) < 18 || b[2] != 8 || b[3] > 31 {
		return 0, ErrNotPacked
	}
	p := 10
	if b[3]&gzipExtra != 0 {
		p += 2 + int(binary.LittleEndian.Uint16(b[p:]))
	}
	for _, part := range []byte{gzipName, gzipComment} {
		if b[3]&part != 0 && p < len(b) {
			n := bytes.IndexByte(b[p:], 0)
			if n < 0 {
				return 0, ErrNotPacked
			}
			p += n + 1
		}
	}
	if b[3]&gzipCRC != 0 {
		p += 2
	}
	if p+8 > len(b) {
		return 0, ErrNotPacked
	}
	return p, nil
}

func openGzip(b []byte) (Packed, error) {
	p, err := gzipHead(b)
	if err != nil {
		return Packed{}, err
	}
	t, n, err := inflate(b[p:])
	if err != nil {
		return Packed{}, err
	}
	if p+n+8 != len(b) || !sums(b[p+n:], t) {
		return Packed{}, ErrNotPacked
	}
	return Packed{Kind: "gzip", Text: t, head: b[:p]}, nil
}

// sums reports whether b begins with the checksum and the length of a text, as gzip has them.
func sums(b, t []byte) bool {
	return binary.LittleEndian.Uint32(b) == crc32.ChecksumIEEE(t) && binary.LittleEndian.Uint32(b[4:]) == uint32(len(t))
}

// adler reports whether b begins with the checksum of a text, as zlib has it.
func adler(b, t []byte) bool { return binary.BigEndian.Uint32(b) == adler32.Checksum(t) }

func openZlib(b []byte, at int, kind string) (Packed, error) {
	t, n, err := inflate(b[at+2:])
	if err != nil {
		return Packed{}, err
	}
	end := at + 2 + n
	if end+4 != len(b) && !(kind == "COMPRESS" && end+5 == len(b) && b[end+4] == '.') || !adler(b[end:], t) {
		return Packed{}, ErrNotPacked
	}
	return Packed{Kind: kind, Text: t, head: b[:at+2]}, nil
}

// Seal compresses another text in the same format, and reads it back. ok == false: it cannot
// be written, or would not read as that text.
func (p Packed) Seal(t []byte) (sealed []byte, ok bool) {
	out := bytes.NewBuffer(append([]byte(nil), p.head...))
	if p.Kind == "bzip2" || len(t) > maxUnpacked {
		return nil, false
	}
	w := deflaters.Get().(*flate.Writer)
	defer deflaters.Put(w)
	w.Reset(out)
	if _, err := w.Write(t); err != nil {
		return nil, false
	}
	if err := w.Close(); err != nil {
		return nil, false
	}
	switch p.Kind {
	case "gzip":
		tail := binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(t))
		out.Write(binary.LittleEndian.AppendUint32(tail, uint32(len(t))))
	case "zlib", "COMPRESS":
		out.Write(binary.BigEndian.AppendUint32(nil, adler32.Checksum(t)))
	}
	sealed = out.Bytes()
	if p.Kind == "COMPRESS" {
		binary.LittleEndian.PutUint32(sealed, uint32(len(t)))
		if sealed[len(sealed)-1] == ' ' { // as the database does, since it may cut blanks off
			sealed = append(sealed, '.')
		}
	}
	again, err := OpenPacked(sealed)
	return sealed, err == nil && again.Kind == p.Kind && bytes.Equal(again.Text, t)
}
