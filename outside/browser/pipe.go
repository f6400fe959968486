package browser

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/chromedp/cdproto"
	"github.com/chromedp/cdproto/target"
	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
)

// errGone says that the browser has ended.
var errGone = errors.New("the browser has ended")

// readLeniently takes what a newer browser says in words that the library does not know.
var readLeniently = jsonv2.JoinOptions(jsontext.AllowInvalidUTF8(true), jsonv2.RejectUnknownMembers(false))

// pipe speaks the DevTools protocol over two pipes: each message is JSON and ends with a NUL byte.
// Unlike a port, no other user of the machine can join in.
type pipe struct {
	out io.WriteCloser
	in  io.ReadCloser

	writing sync.Mutex // of out

	mu      sync.Mutex
	last    int64 // number of the last command
	waiting map[int64]chan<- *cdproto.Message
	events  map[target.SessionID]func(any)
	gone    chan struct{} // closed when nothing more comes
}

func newPipe(out io.WriteCloser, in io.ReadCloser) *pipe {
	p := &pipe{out: out, in: in, waiting: map[int64]chan<- *cdproto.Message{}, events: map[target.SessionID]func(any){}, gone: make(chan struct{})}
	go p.read()
	return p
}

// read hands on what comes until nothing more does.
func (p *pipe) read() {
	defer close(p.gone)
	in := bufio.NewReaderSize(p.in, 1<<16)
	for {
		b, err := in.ReadBytes(0)
		if err != nil {
			return
		}
		m := &cdproto.Message{}
		if jsonv2.Unmarshal(b[:len(b)-1], m, readLeniently) != nil {
			continue // whoever waits for it gives up in time
		}
		p.mu.Lock()
		answer, listen := p.waiting[m.ID], p.events[m.SessionID]
		if m.Method == "" {
			delete(p.waiting, m.ID)
		}
		p.mu.Unlock()
		switch {
		case m.Method == "" && answer != nil:
			answer <- m // it has room for one
		case m.Method != "" && listen != nil:
			if ev, err := cdproto.UnmarshalMessage(m, readLeniently); err == nil {
				listen(ev)
			}
		}
	}
}

// close ends the conversation; the browser ends when it notices.
func (p *pipe) close() {
	p.out.Close()
	p.in.Close()
}

// session is the conversation with one page or worker; "" is the browser itself. It is what the
// library's commands are executed by.
type session struct {
	p  *pipe
	id target.SessionID
}

// listen has the session's events handed to f, one after the other; f must not wait.
func (s session) listen(f func(any)) {
	s.p.mu.Lock()
	defer s.p.mu.Unlock()
	if f == nil {
		delete(s.p.events, s.id)
		return
	}
	s.p.events[s.id] = f
}

// Execute sends a command and waits for its result.
func (s session) Execute(ctx context.Context, method string, params, result any) error {
	m := &cdproto.Message{SessionID: s.id, Method: cdproto.MethodType(method)}
	if params != nil {
		b, err := jsonv2.Marshal(params)
		if err != nil {
			return err
		}
		m.Params = b
	}
	answer := make(chan *cdproto.Message, 1)
	s.p.mu.Lock()
	s.p.last++
	m.ID = s.p.last
	s.p.waiting[m.ID] = answer
	s.p.mu.Unlock()
	defer func() {
		s.p.mu.Lock()
		delete(s.p.waiting, m.ID)
		s.p.mu.Unlock()
	}()
	if err := s.p.write(m); err != nil {
		return err
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-s.p.gone:
		return errGone
	case m := <-answer:
		if m.Error != nil {
			return fmt.Errorf("%s: %w", method, m.Error)
		}
		if result == nil {
			return nil
		}
		return jsonv2.Unmarshal(m.Result, result, readLeniently)
	}
}

func (p *pipe) write(m *cdproto.Message) error {
	b, err := jsonv2.Marshal(m)
	if err != nil {
		return err
	}
	p.writing.Lock()
	defer p.writing.Unlock()
	if _, err := p.out.Write(append(b, 0)); err != nil {
		return errGone
	}
	return nil
}
