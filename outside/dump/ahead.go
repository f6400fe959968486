package dump

import "io"

// ahead reads a text in pieces while those before are worked on. Call stop before anything else reads it.
type ahead struct {
	filled chan part
	free   chan []byte
	done   chan struct{} // closed when nobody asks for more
	ended  chan struct{} // closed when nothing is read any more
	now    part
	at     int
}

// part is a piece of a text, with what ended it.
type part struct {
	b   []byte
	err error
}

func readAhead(r io.Reader) *ahead {
	const parts = 3
	a := &ahead{filled: make(chan part, parts), free: make(chan []byte, parts), done: make(chan struct{}), ended: make(chan struct{})}
	for range parts {
		a.free <- make([]byte, chunkSize)
	}
	go func() {
		defer close(a.ended)
		for {
			var b []byte
			select {
			case b = <-a.free:
			case <-a.done:
				return
			}
			n, err := r.Read(b[:chunkSize])
			a.filled <- part{b[:n], err} // there is room for all
			if err != nil {
				return
			}
		}
	}()
	return a
}

// Read hands out what was read, and in the end the error that ended it.
func (a *ahead) Read(b []byte) (int, error) {
	for a.at == len(a.now.b) {
		if a.now.err != nil {
			return 0, a.now.err
		}
		if a.now.b != nil {
			a.free <- a.now.b
		}
		a.now, a.at = <-a.filled, 0
	}
	n := copy(b, a.now.b[a.at:])
	a.at += n
	return n, nil
}

// stop waits until nothing is read any more.
func (a *ahead) stop() {
	close(a.done)
	<-a.ended
}
