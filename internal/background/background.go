// Package background writes lines to where they may not go on at once: a pipe that nobody
// empties, a disk that is full, a terminal that was stopped. Whoever has something to write
// never waits for it.
//
//	request --> Write: copied into memory, up to a bound --> one goroutine --> file, pipe
//	                     beyond it: counted, and dropped
//
// What is dropped are whole lines, the newest: what was accepted is written, in order. Of a
// destination that refuses, the lines that it refused are counted too, and it is tried again
// with the next ones.
package background

import (
	"bytes"
	"io"
	"sync"
	"sync/atomic"
	"time"
)

// Writer writes in the background. Its methods are safe for concurrent use.
type Writer struct {
	to    io.Writer
	most  int           // bytes that may wait
	every time.Duration // how long lines may wait for others; 0: not at all

	mutex   sync.Mutex
	waiting []byte
	spare   []byte
	count   progress

	wake    chan struct{}
	closing chan struct{}
	done    chan struct{}
	dropped atomic.Int64
	trouble atomic.Pointer[error]
}

// progress counts bytes: what is to be written, and what was, or was refused.
type progress struct{ accepted, settled int64 }

// New returns a writer to a destination, which is used from one goroutine. Lines wait up to a
// time for others, so that many are written at once; up to most bytes wait.
func New(to io.Writer, most int, every time.Duration) *Writer {
	w := &Writer{to: to, most: most, every: every, wake: make(chan struct{}, 1),
		closing: make(chan struct{}), done: make(chan struct{})}
	go w.run()
	return w
}

// enough is how many bytes are written without waiting for more.
const enough = 64 << 10

// Memory is bounded twice: by what may wait, and by what is being written, which is no more. A
// burst's buffer is given back when it has been written.

// Append has append add lines to what is written. It must only add, and end in a newline.
func (w *Writer) Append(lines func(to []byte) []byte) {
	w.mutex.Lock()
	before := len(w.waiting)
	w.waiting = lines(w.waiting)
	if len(w.waiting) > w.most {
		// Whole lines or nothing: the beginning of a line would spoil the next one.
		w.dropped.Add(int64(bytes.Count(w.waiting[before:], newline)))
		w.waiting = w.waiting[:before]
	}
	w.count.accepted += int64(len(w.waiting) - before)
	signal := w.every == 0 || before == 0 || len(w.waiting) >= enough && before < enough
	w.mutex.Unlock()
	if signal {
		select {
		case w.wake <- struct{}{}:
		default:
		}
	}
}

var newline = []byte{'\n'}

// Write implements io.Writer. It never fails: what cannot be kept is counted.
func (w *Writer) Write(data []byte) (int, error) {
	w.Append(func(to []byte) []byte { return append(to, data...) })
	return len(data), nil
}

// Dropped returns how many lines were not written.
func (w *Writer) Dropped() int64 { return w.dropped.Load() }

// Trouble returns why the last attempt to write failed; nil if it did not.
func (w *Writer) Trouble() error {
	if err := w.trouble.Load(); err != nil {
		return *err
	}
	return nil
}

// run writes until the writer is closed.
func (w *Writer) run() {
	defer close(w.done)
	for {
		select {
		case <-w.wake:
		case <-w.closing:
			for w.flush() {
			}
			return
		}
		if w.every > 0 && w.length() < enough {
			select {
			case <-time.After(w.every):
			case <-w.wake: // there are enough by now
			case <-w.closing:
			}
		}
		for w.flush() {
		}
	}
}

// length is how many bytes wait.
func (w *Writer) length() int {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return len(w.waiting)
}

// flush writes what waits, and reports whether there was anything.
func (w *Writer) flush() bool {
	w.mutex.Lock()
	data := w.waiting
	w.waiting, w.spare = w.spare[:0], nil
	w.mutex.Unlock()
	if len(data) == 0 {
		w.mutex.Lock()
		w.spare = data
		w.mutex.Unlock()
		return false
	}
	written, err := w.to.Write(data)
	if err != nil {
		// A line of which a part is out is lost too.
		w.dropped.Add(int64(bytes.Count(data[min(written, len(data)):], newline)))
	}
	w.trouble.Store(&err)
	w.mutex.Lock()
	w.count.settled += int64(len(data))
	if cap(data) <= max(4*enough, w.most/4) { // a burst's memory is given back
		w.spare = data
	}
	w.mutex.Unlock()
	return true
}

// Flush waits until all that was accepted so far is written, or a time is over, and reports
// whether it is. What others go on writing meanwhile is not waited for.
func (w *Writer) Flush(atMost time.Duration) bool {
	w.mutex.Lock()
	until := w.count.accepted
	w.mutex.Unlock()
	for deadline := time.Now().Add(atMost); time.Now().Before(deadline); time.Sleep(time.Millisecond) {
		w.mutex.Lock()
		there := w.count.settled >= until
		w.mutex.Unlock()
		if there {
			return true
		}
		select {
		case w.wake <- struct{}{}:
		default:
		}
	}
	return false
}

// Close writes what waits, for a time at most: a pipe that nobody empties keeps nobody from
// ending. Nothing may be written afterwards.
func (w *Writer) Close(atMost time.Duration) {
	close(w.closing)
	select {
	case <-w.done:
	case <-time.After(atMost):
	}
}
