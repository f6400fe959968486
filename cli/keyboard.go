package cli

import (
	"io"
	"os"
	"sync"
)

// keyboard reads what is typed, for one question after the other. One reader for all of them: what a question
// has left unread never goes astray, and what was typed before a question stood there does not answer it.
type keyboard struct {
	in    *os.File
	typed chan []byte
	start sync.Once
	ended error
}

// run reads to the end of the input.
func (k *keyboard) run() {
	for {
		buf := make([]byte, 256)
		n, err := k.in.Read(buf)
		if n > 0 {
			k.typed <- buf[:n]
		}
		if err != nil {
			k.ended = err
			close(k.typed)
			return
		}
	}
}

// listen returns what is typed from now on, until it is closed.
func (k *keyboard) listen() *keys {
	k.start.Do(func() {
		k.typed = make(chan []byte, 64)
		go k.run()
	})
	for { // what was typed before
		select {
		case _, more := <-k.typed:
			if more {
				continue
			}
		default:
		}
		break
	}
	return &keys{board: k, closed: make(chan struct{})}
}

// keys are what is typed while one question stands there. They are a terminal for whoever asks: it sets the
// terminal's mode through Fd. They have no name, so that nobody reads past them.
type keys struct {
	board  *keyboard
	rest   []byte
	closed chan struct{}
	once   sync.Once
	gone   func() // called when the terminal is gone
}

// Read waits for keys.
func (k *keys) Read(b []byte) (int, error) {
	if len(k.rest) == 0 {
		select {
		case <-k.closed:
			return 0, io.EOF
		default:
		}
		select {
		case typed, more := <-k.board.typed:
			if !more {
				if k.gone != nil {
					go k.gone()
				}
				return 0, io.EOF
			}
			k.rest = typed
		case <-k.closed:
			return 0, io.EOF
		}
	}
	n := copy(b, k.rest)
	k.rest = k.rest[n:]
	return n, nil
}

// Close ends the reading.
func (k *keys) Close() error {
	k.once.Do(func() { close(k.closed) })
	return nil
}

// Fd is the terminal's, for its mode.
func (k *keys) Fd() uintptr { return k.board.in.Fd() }

// Write writes to the terminal.
func (k *keys) Write(b []byte) (int, error) { return k.board.in.Write(b) }
