package cli

import (
	"io"
	"log/slog"
	"os"
	"os/signal"
	"slices"
	"sync/atomic"
	"syscall"
	"time"

	"orilla.example/orilla/internal/background"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/httpanswer"
)

// A node writes in the background: what happens, to standard output or the log, and a line
// for each request, if that is wanted. A pipe that nobody empties, or that was closed, costs
// lines, which are counted, and no visitor anything.

// standardOutput is how the file is called that is standard output.
const standardOutput = "-"

const (
	// eventsMost and visitsMost are how many bytes may wait to be written.
	eventsMost = 1 << 20
	visitsMost = 8 << 20
	// visitsEvery is how long lines of requests wait for others.
	visitsEvery = 250 * time.Millisecond
	// lastLines is how long a node that ends waits for what is not written yet.
	lastLines = time.Second
)

// Where what goes, and what happens to it:
//
//	what happens    standard output and error, or the log: written at once, in the background
//	requests        the access log, or standard output: written four times a second
//	SIGHUP          what waits is written, both files are opened again, lines may have another form
//	the end         a second for what is left; a pipe that nobody reads keeps nobody
//
// Lines that could not be written are counted. How many is told once a minute, since each of
// them would be one more line.

// written is where a node writes.
type written struct {
	log     *logFile // nil: what happens goes to standard output
	access  *logFile // nil: lines of requests go to standard output, or nowhere
	events  []*background.Writer
	visits  *background.Writer // nil: nobody wants to know of requests
	writing atomic.Pointer[visits.Writing]
	told    int64 // how many dropped lines were told of
}

// openWritten opens the logs.
func (a *edgeCmd) openWritten(config project.EdgeConfig) (w *written, err error) {
	// A pipe that is closed is an error of the write, and not the end of the node.
	signal.Ignore(syscall.SIGPIPE)
	w = &written{}
	open := func(path string) *logFile {
		var file *logFile
		if file, err = openLog(path); err != nil {
			err = fault.New(fault.Failed, "log", "cannot write the log").At("%s", path).Because(err)
		}
		return file
	}
	if config.Log != "" {
		if w.log = open(config.Log); err != nil {
			return nil, err
		}
	}
	w.set(config)
	switch config.AccessLog.File {
	case "":
	case standardOutput:
		w.visits = background.New(os.Stdout, visitsMost, visitsEvery)
	default:
		if w.access = open(config.AccessLog.File); err != nil {
			return nil, err
		}
		w.visits = background.New(w.access, visitsMost, visitsEvery)
	}
	return w, nil
}

// set sets how lines are written from now on.
func (w *written) set(config project.EdgeConfig) {
	w.writing.Store(&visits.Writing{Form: visits.Form(config.AccessLog.Format),
		Whole: config.AccessLog.Whole})
}

// to returns what prints what happens: in the background, to the log if there is one.
func (w *written) to(a *app) *app {
	behind := func(to io.Writer) io.Writer {
		writer := background.New(to, eventsMost, 0)
		w.events = append(w.events, writer)
		return writer
	}
	copied, to := *a, *a.Console
	if w.log == nil {
		to.Out, to.Err = behind(to.Out), behind(to.Err)
	} else {
		// Without colours and control characters: a file is no terminal.
		one := behind(console.Unstyled(w.log))
		to.Out, to.Err, to.OutTerm, to.ErrTerm = one, one, false, false
		if !a.JSON {
			copied.events = slog.New(slog.NewTextHandler(one, &slog.HandlerOptions{Level: slog.LevelDebug}))
		}
	}
	copied.Console = &to
	return &copied
}

// visited writes a line for a request.
func (w *written) visited(v *visits.Visit) {
	writing := *w.writing.Load()
	w.visits.Append(func(to []byte) []byte { return writing.Append(to, v) })
}

// reopen opens the files anew, after they were moved away. What happened before is written
// first: a log that was moved away is whole, so it can be compressed or sent elsewhere.
func (w *written) reopen() error {
	for _, writer := range append(slices.Clone(w.events), w.visits) {
		if writer != nil {
			writer.Flush(lastLines) // a disk that hangs keeps nobody from reloading
		}
	}
	for _, file := range []*logFile{w.log, w.access} {
		if file == nil {
			continue
		}
		if err := file.Reopen(); err != nil {
			return fault.New(fault.Failed, "log", "cannot reopen the log").At("%s", file.path).Because(err)
		}
	}
	return nil
}

// dropped returns how many lines of requests were not written.
func (w *written) dropped() int64 {
	if w.visits == nil {
		return 0
	}
	return w.visits.Dropped()
}

// watch tells once a minute how many lines of requests were not written, and why.
func (w *written) watch(done <-chan struct{}, tell func(httpanswer.Event)) {
	if w.visits == nil {
		return
	}
	ticker := time.NewTicker(time.Minute)
	defer ticker.Stop()
	for {
		select {
		case <-done:
			return
		case <-ticker.C:
		}
		now := w.dropped()
		if now == w.told {
			continue
		}
		text := console.Count(now-w.told, "line", "lines") + " of the access log could not be written"
		if err := w.visits.Trouble(); err != nil {
			text += ": " + err.Error()
		}
		w.told = now
		tell(httpanswer.Event{Time: time.Now(), Kind: "trouble", Text: text})
	}
}

// close writes what is left, for a moment.
func (w *written) close() {
	if w.visits != nil {
		w.visits.Close(lastLines)
	}
	for _, writer := range w.events {
		writer.Close(lastLines)
	}
	for _, file := range []*logFile{w.log, w.access} {
		if file != nil {
			file.Close() //nolint:errcheck // it ends with the program
		}
	}
}
