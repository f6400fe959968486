package change

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"

	"github.com/klauspost/compress/zstd"
)

// ahead unpacks and sums up a sheet while the lines before are taken apart.
type ahead struct {
	z      *zstd.Decoder
	pieces chan piece
	free   chan []byte // memory for the next piece
	stop   chan struct{}

	piece piece
	rest  []byte // of its lines
}

// piece is a row of whole lines.
type piece struct {
	lines []byte
	sum   string // SHA-256 of all lines before the last line of the sheet, where the piece holds that
	err   error  // behind the lines; io.EOF at the end
}

const pieceSize = 256 << 10

func readAhead(z *zstd.Decoder) *ahead {
	a := &ahead{z: z, pieces: make(chan piece, 2), free: make(chan []byte, 4), stop: make(chan struct{})}
	go a.read()
	return a
}

// close ends the reading; the sheet is not read any more when it returns.
func (a *ahead) close() {
	close(a.stop)
	for range a.pieces { // to the end
	}
	a.z.Close()
}

// line returns the next line, which is gone when the one behind it is asked for.
func (a *ahead) line() ([]byte, error) {
	for len(a.rest) == 0 {
		if a.piece.err != nil {
			return nil, a.piece.err
		}
		if cap(a.piece.lines) > 0 && cap(a.piece.lines) <= maxKept {
			select {
			case a.free <- a.piece.lines[:0]:
			default:
			}
		}
		a.piece = <-a.pieces
		a.rest = a.piece.lines
	}
	n := bytes.IndexByte(a.rest, '\n') + 1
	line := a.rest[:n]
	a.rest = a.rest[n:]
	return line, nil
}

// read reads pieces until there are no more, or nobody wants them.
func (a *ahead) read() {
	defer close(a.pieces)
	sum := sha256.New()
	var rest []byte // of the line that the piece before did not hold to its end
	for {
		var b []byte
		select {
		case b = <-a.free:
		default:
		}
		p := fill(a.z, append(b[:0], rest...))
		whole := bytes.LastIndexByte(p.lines, '\n') + 1
		rest = append(rest[:0], p.lines[whole:]...)
		if p.lines = p.lines[:whole]; p.err != nil && errors.Is(p.err, io.EOF) && len(rest) > 0 {
			p.err = io.ErrUnexpectedEOF
		}
		end := bytes.Index(p.lines, newEnd) + 1
		if end > 0 || bytes.HasPrefix(p.lines, endBegins) {
			sum.Write(p.lines[:end])
			p.sum = hex.EncodeToString(sum.Sum(nil))
		} else {
			sum.Write(p.lines)
		}
		select {
		case a.pieces <- p:
		case <-a.stop:
			return
		}
		if p.err != nil {
			return
		}
	}
}

var newEnd = append([]byte{'\n'}, endBegins...)

// fill reads until b holds a piece with the end of a line.
func fill(r io.Reader, b []byte) piece {
	from := len(b)
	for size := max(pieceSize, 2*len(b)); ; size *= 2 {
		if cap(b) < size {
			b = append(make([]byte, 0, size), b...)
		}
		n, err := io.ReadFull(r, b[len(b):size])
		b = b[:len(b)+n]
		switch {
		case errors.Is(err, io.ErrUnexpectedEOF):
			return piece{lines: b, err: io.EOF}
		case err != nil:
			return piece{lines: b, err: err}
		case bytes.IndexByte(b[from:], '\n') >= 0:
			return piece{lines: b}
		case len(b) > maxLine:
			return piece{lines: b, err: errors.New("a line is too long")}
		}
		from = len(b)
	}
}
