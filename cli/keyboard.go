package cli

import (
	"io"
	"os"
	"sync"

	"golang.org/x/term"
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

// listen has the terminal hand over each key as it is pressed, until keys.Close is called.
func (k *keyboard) listen() (*keys, error) {
	k.start.Do(func() {
		k.typed = make(chan []byte, 64)
		go k.run()
	})
	state, err := term.MakeRaw(int(k.in.Fd()))
	if err != nil {
		return nil, err
	}
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
	return &keys{board: k, state: state, closed: make(chan struct{})}, nil
}

// keys are what is typed while one question stands there.
type keys struct {
	board  *keyboard
	state  *term.State
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

// Close ends the reading, and gives the terminal back as it was.
func (k *keys) Close() {
	k.once.Do(func() {
		close(k.closed)
		_ = term.Restore(int(k.board.in.Fd()), k.state) // a terminal that is gone needs nothing
	})
}
