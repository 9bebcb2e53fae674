package browser

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
)

// The Chrome DevTools Protocol in its form for pipes: each message is one JSON text that ends in a zero
// byte. A client for its form for web sockets would need a port on this machine, which everybody on it
// could drive the browser by.
//
//	-> {"id":7,"sessionId":"…","method":"Page.navigate","params":{"url":"…"}}
//	<- {"id":7,"result":{…}}
//	<- {"method":"Page.loadEventFired","sessionId":"…","params":{…}}

// members are those of a JSON object.
type members = map[string]any

// message is one of either direction.
type message struct {
	ID      int64           `json:"id,omitempty"`
	Session string          `json:"sessionId,omitempty"`
	Method  string          `json:"method,omitempty"`
	Params  json.RawMessage `json:"params,omitempty"`
	Result  json.RawMessage `json:"result,omitempty"`
	Error   *struct {
		Message string `json:"message"`
	} `json:"error,omitempty"`
}

// mostMessage is how long a message of the browser may be: a picture in base64, and then some.
const mostMessage = 96 << 20

// pipe is how a browser is spoken to. Its methods may be called from several goroutines.
type pipe struct {
	to    io.WriteCloser
	from  io.ReadCloser
	event func(message) // called for each event, one after the other: it must not wait

	mutex   sync.Mutex // for what follows
	last    int64
	waiting map[int64]chan message
	broken  error

	writing sync.Mutex
}

// piped makes a pipe in each direction, has a browser started with its ends, and keeps the others.
func piped(start func(in, out *os.File) error) (*pipe, error) {
	in, to, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	from, out, err := os.Pipe()
	if err != nil {
		return nil, errors.Join(err, in.Close(), to.Close())
	}
	p := newPipe(to, from)
	err = start(in, out)
	in.Close()  //nolint:errcheck // the browser has its own
	out.Close() //nolint:errcheck // see above
	if err != nil {
		p.close()
		return nil, err
	}
	return p, nil
}

func newPipe(to io.WriteCloser, from io.ReadCloser) *pipe {
	return &pipe{to: to, from: from, waiting: map[int64]chan message{}}
}

// tell calls a method whose result nobody needs: what it is about has gone if it fails. It does not wait
// but for the pipe, which the browser reads whatever else it does.
func (p *pipe) tell(session, method string, params any) {
	data, err := json.Marshal(params)
	if err != nil {
		return
	}
	p.mutex.Lock()
	p.last++
	m := message{ID: p.last, Session: session, Method: method, Params: data}
	p.mutex.Unlock()
	p.send(m) //nolint:errcheck // whoever waits for an answer learns it
}

// send writes a message.
func (p *pipe) send(m message) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	p.writing.Lock()
	defer p.writing.Unlock()
	_, err = p.to.Write(append(text, 0))
	return err
}

// Whoever calls waits for the answer, for the end of the browser, or for its own patience, whichever
// comes first. An answer that comes after that is thrown away.

// call calls a method and reads its result, which may be nil.
func (p *pipe) call(ctx context.Context, session, method string, params, result any) error {
	data := json.RawMessage("{}")
	if params != nil {
		var err error
		if data, err = json.Marshal(params); err != nil {
			return err
		}
	}
	answer := make(chan message, 1)
	p.mutex.Lock()
	if p.broken != nil {
		defer p.mutex.Unlock()
		return p.broken
	}
	p.last++
	m := message{ID: p.last, Session: session, Method: method, Params: data}
	p.waiting[m.ID] = answer
	p.mutex.Unlock()
	if err := p.send(m); err != nil {
		p.fail(ErrEnded)
	}
	select {
	case m, ok := <-answer:
		switch {
		case !ok:
			p.mutex.Lock()
			defer p.mutex.Unlock()
			return p.broken
		case m.Error != nil:
			return fmt.Errorf("%s: %s", method, m.Error.Message)
		case result == nil:
			return nil
		}
		return json.Unmarshal(m.Result, result)
	case <-ctx.Done():
		p.mutex.Lock()
		defer p.mutex.Unlock()
		delete(p.waiting, m.ID)
		return ctx.Err()
	}
}

// Messages are read whole, since a picture is one of them. What is longer than any picture is not read
// on: the browser is told to have ended.

// read hands on what the browser says until it says no more.
func (p *pipe) read() {
	reader := bufio.NewReaderSize(p.from, 1<<16)
	var text []byte
	for {
		part, err := reader.ReadSlice(0)
		text = append(text, part...)
		if errors.Is(err, bufio.ErrBufferFull) && len(text) < mostMessage {
			continue
		}
		if err != nil {
			p.fail(ErrEnded)
			return
		}
		var m message
		if json.Unmarshal(text[:len(text)-1], &m) == nil {
			p.hand(m)
		}
		if text = text[:0]; cap(text) > 1<<20 {
			text = nil // a picture's memory is given back
		}
	}
}

// hand gives an answer to who waits for it, and an event to who listens.
func (p *pipe) hand(m message) {
	if m.ID == 0 {
		p.event(m)
		return
	}
	p.mutex.Lock()
	answer := p.waiting[m.ID]
	delete(p.waiting, m.ID)
	p.mutex.Unlock()
	if answer != nil {
		answer <- m
	}
}

// fail lets go whoever waits, with the first error that there was.
func (p *pipe) fail(err error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.broken == nil {
		p.broken = err
	}
	for id, answer := range p.waiting {
		close(answer)
		delete(p.waiting, id)
	}
}

func (p *pipe) close() {
	p.to.Close()   //nolint:errcheck // the other end has gone
	p.from.Close() //nolint:errcheck // see above
}
