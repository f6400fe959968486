package dump

import (
	"errors"
	"io"
	"sync"
)

// ahead reads a text in parts while those before are worked on. Call stop before anything else reads it.
type ahead struct {
	readers []aheadReader // take turns
	turn    int           // whose part is next
	done    chan struct{} // closed when nobody asks for more
	running sync.WaitGroup
}

// aheadReader is one that reads ahead.
type aheadReader struct {
	filled chan part
	free   chan []byte
}

// part is a part of a text. Before it there is room for what the part before ended in the middle of, so that
// nothing is copied but that.
type part struct {
	b   []byte // its memory; the text begins at headroom
	n   int    // how long the text is
	err error  // what ended it; io.EOF at the end
}

const headroom = 32 << 10

// text returns the text.
func (p *part) text() []byte { return p.b[headroom:][:p.n] }

// behind returns the text behind rest, which is no longer than the headroom.
func (p *part) behind(rest []byte) []byte {
	from := headroom - len(rest)
	copy(p.b[from:], rest)
	return p.b[from : headroom+p.n]
}

// placed is a file that is read from places of it: by several at once.
type placed struct {
	io.ReaderAt
	start int64 // where the text begins
}

// placedIn returns a text as a file; nil where it is none.
func placedIn(r io.Reader) *placed {
	f, ok := r.(interface {
		io.ReaderAt
		io.Seeker
	})
	if !ok {
		return nil
	}
	start, err := f.Seek(0, io.SeekCurrent)
	if err != nil {
		return nil // a pipe
	}
	return &placed{f, start}
}

// read fills b from a place of the text; it returns io.EOF where the text ends before.
func (p *placed) read(b []byte, at int64) (int, error) {
	n, err := p.ReadAt(b, p.start+at)
	if n == len(b) && errors.Is(err, io.EOF) {
		err = nil
	}
	return n, err
}

func readAhead(r io.Reader) *ahead {
	const parts, several = 3, 2
	a := &ahead{done: make(chan struct{})}
	file := placedIn(r)
	count := 1
	if file != nil {
		count = several
	}
	const size = chunkSize - headroom
	for k := range count {
		one := aheadReader{filled: make(chan part, parts), free: make(chan []byte, parts)}
		for range parts {
			one.free <- make([]byte, chunkSize)
		}
		a.readers = append(a.readers, one)
		read := func(b []byte, _ int64) (int, error) {
			n, err := io.ReadFull(r, b)
			if errors.Is(err, io.ErrUnexpectedEOF) {
				err = io.EOF
			}
			return n, err
		}
		if file != nil {
			read = file.read
		}
		a.running.Go(func() {
			for at := int64(k) * size; ; at += int64(count) * size {
				var b []byte
				select {
				case b = <-one.free:
				case <-a.done:
					return
				}
				n, err := read(b[headroom:], at)
				one.filled <- part{b, n, err} // there is room for all
				if err != nil {
					return
				}
			}
		})
	}
	return a
}

// next returns the next part. The one that is given is not needed any more.
func (a *ahead) next(before part) part {
	if before.b != nil {
		a.readers[a.turn].free <- before.b
		a.turn = (a.turn + 1) % len(a.readers)
	}
	return <-a.readers[a.turn].filled
}

// stop waits until nothing is read any more.
func (a *ahead) stop() {
	close(a.done)
	a.running.Wait()
}
