package steps

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
)

// Mask is what stands in a log for a secret.
const Mask = "[secret]"

// shortestSecret is how many bytes a value must have to be
// masked: shorter ones are in every text.
const shortestSecret = 4

// masker passes on what is written, with secrets masked,
// also where one is cut between two writes: what could be
// the beginning of one waits for the next write.
type masker struct {
	to      io.Writer
	secrets [][]byte  // the longest first
	begins  [256]bool // with which bytes they begin
	held    []byte
}

// newMasker masks the values, and each line of those that have several.
func newMasker(to io.Writer, values []string) *masker {
	m := &masker{to: to}
	for _, value := range values {
		for _, part := range append(strings.Split(value, "\n"), value) {
			if part = strings.TrimSpace(part); len(part) >= shortestSecret {
				m.secrets = append(m.secrets, []byte(part))
				m.begins[part[0]] = true
			}
		}
	}
	slices.SortFunc(m.secrets, func(a, b []byte) int { return len(b) - len(a) })
	return m
}

// Write implements io.Writer. What could be the beginning of a secret is held
// back until more comes.
func (m *masker) Write(data []byte) (int, error) {
	if len(m.secrets) == 0 {
		return m.to.Write(data)
	}
	// A secret may be cut by the end of a piece; what could be its beginning is
	// held back.
	out, rest := m.mask(append(m.held, data...), false)
	m.held = bytes.Clone(rest)
	if _, err := m.to.Write(out); err != nil {
		return 0, err
	}
	return len(data), nil
}

// mask returns what can be passed on, and what must wait: at the end nothing.
func (m *masker) mask(text []byte, end bool) (out, rest []byte) {
	passed := 0
	for i := 0; i < len(text); {
		if !m.begins[text[i]] {
			i++
			continue
		}
		found := 0
		for _, secret := range m.secrets {
			if bytes.HasPrefix(text[i:], secret) {
				found = len(secret)
				break
			}
			if !end && bytes.HasPrefix(secret, text[i:]) {
				return append(out, text[passed:i]...), text[i:]
			}
		}

		if found == 0 {
			i++
			continue
		}
		out = append(append(out, text[passed:i]...), Mask...)
		i += found
		passed = i
	}

	return append(out, text[passed:]...), nil
}

// flush passes on what was held back, since it could have been the beginning of
// a secret.
func (m *masker) flush() error {
	out, _ := m.mask(m.held, true)
	m.held = nil
	_, err := m.to.Write(out)
	return err
}

// How much of a log is kept: the beginning, and of one that is longer the end.
const (
	logHead = 16 << 20
	logTail = 1 << 20
)

// Log is a file that takes what steps print. Of a very long log it keeps the
// beginning and the end. Readers may follow it while it grows. An error of
// writing does not stop the steps; Close returns it.
type Log struct {
	mutex   sync.Mutex
	file    *os.File
	written int64
	ring    []byte // the last bytes of what came after the beginning
	left    int64  // how much came after the beginning
	err     error
}

// CreateLog makes the file.
func CreateLog(path string) (*Log, error) {
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return nil, err
	}
	return &Log{file: file}, nil
}

// Write takes everything, whatever becomes of the file.
func (l *Log) Write(data []byte) (int, error) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	n := len(data)
	// A log that is too long keeps its beginning and its end: what was asked
	// for, and what went wrong.
	if room := int(logHead - l.written); room > 0 && l.left == 0 {
		some := data[:min(room, len(data))]
		l.put(some)
		data = data[len(some):]
	}

	if len(data) > 0 {
		l.left += int64(len(data))
		if l.ring = append(l.ring, data...); len(l.ring) > 2*logTail {
			l.ring = slices.Clone(l.ring[len(l.ring)-logTail:])
		}
	}
	return n, nil
}

// put writes to the file. After the first error nothing more is written: a log
// with a hole would mislead.
func (l *Log) put(data []byte) {
	if l.err == nil {
		_, l.err = l.file.Write(data)
		l.written += int64(len(data))
	}
}

// ReadAt reads what was written so far.
func (l *Log) ReadAt(data []byte, offset int64) (int, error) { return l.file.ReadAt(data, offset) }

// Close writes how many bytes were left out, and the last part of a log that
// was too long.
func (l *Log) Close() error {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	tail := l.ring[max(0, len(l.ring)-logTail):]
	if l.left > int64(len(tail)) {
		l.put(fmt.Appendf(nil, "\n[%d bytes of the log are left out here: it was longer than %d MB]\n",
			l.left-int64(len(tail)), logHead>>20))
	}

	l.put(tail)
	if err := l.file.Close(); l.err == nil {
		l.err = err
	}
	return l.err
}

// lineWriter cuts what is written into lines, tells them, and keeps the last
// ones. Standard output and error of a step reach it one write at a time.
type lineWriter struct {
	tell    func(string)
	partial []byte
	kept    [tail][]byte // the last lines, in turn
	count   int
}

// maxLine is how much of a line is shown; logs hold all of it.
const maxLine = 2000

// manyLines is after how many lines only each thousandth
// is told: nobody reads them as they come.
const manyLines = 200_000

// Write implements io.Writer: whole lines are told, the last ones are kept.
func (w *lineWriter) Write(data []byte) (int, error) {
	n := len(data)
	for {
		at := bytes.IndexByte(data, '\n')
		line := data
		if at >= 0 {
			line = data[:at]
		}

		// A step may print a gigabyte without a line end.
		if room := maxLine - len(w.partial); room > 0 {
			w.partial = append(w.partial, line[:min(len(line), room)]...)
		}
		if at < 0 {
			return n, nil
		}
		w.flush()
		data = data[at+1:]
	}
}

// flush tells a last line that has no end.
func (w *lineWriter) flush() {
	if len(w.partial) == 0 {
		return
	}
	slot := &w.kept[w.count%tail]
	*slot = append((*slot)[:0], w.partial...)
	w.partial = w.partial[:0]
	w.count++
	if w.tell != nil && (w.count < manyLines || w.count%1000 == 0) {
		w.tell(Readable(*slot))
	}
}

// last returns the last lines.
func (w *lineWriter) last() []string {
	var lines []string
	for i := max(0, w.count-tail); i < w.count; i++ {
		lines = append(lines, Readable(w.kept[i%tail]))
	}
	return lines
}

// Readable takes out of a line what would move the cursor or change colours,
// and what a carriage return has overwritten.
func Readable(line []byte) string { return fit(line, false) }

// Painted is Readable with the colours left in: nothing else that a build
// prints may steer whoever's terminal shows it.
func Painted(line []byte) string {
	text := fit(line, true)
	if strings.Contains(text, "\x1b") {
		text += "\x1b[0m"
	}
	return text
}

// fit makes a line of what a step printed for a terminal: what came after the
// last carriage return is what one would have seen.
func fit(line []byte, colours bool) string {
	line = bytes.TrimRight(line, "\r")
	// Progress bars write over their own line; what was left standing is what a
	// terminal would show.
	if at := bytes.LastIndexByte(line, '\r'); at >= 0 {
		line = line[at+1:]
	}
	var out strings.Builder
	for i := 0; i < len(line); i++ {
		c := line[i]
		switch {
		// ECMA-48: control sequences. Colours may pass, cursor movements may
		// not: they could change what stands above.
		case c == 0x1b && i+1 < len(line) && line[i+1] == '[':
			begin := i
			for i += 2; i < len(line) && (line[i] < 0x40 || line[i] > 0x7e); i++ {
			}
			if colours && i < len(line) && line[i] == 'm' &&
				len(bytes.Trim(line[begin+2:i], "0123456789;:")) == 0 {
				out.Write(line[begin : i+1])
			}
		case c == '\t':
			out.WriteString("    ")
		case c >= ' ' && c != 0x7f:
			out.WriteByte(c)
		}
	}

	return strings.Map(func(c rune) rune {
		if c >= 0x80 && c < 0xa0 { // the other control characters (ECMA-48, 8 bits)
			return -1
		}
		return c
	}, strings.ToValidUTF8(out.String(), "?"))
}
