// Package encoder makes the best variants in a process of its own: the smallest that a
// format allows take seconds of one core and a hundred megabytes, and must take neither from
// visitors.
//
//	node --content--> orilla internal:encoder br --variant--> node
//	                  lowest priority, one core, ends with its work
//
// Brotli's best takes 26 MB for 100 kB of text, 60 MB for 700 kB and 156 MB for 8 MB, zstd's
// 53 to 78 MB, gzip's 36 MB at most; the first 0.3 MB a second, the others ten times as much.
//
// The process has no rights that matter and reads nothing but its input. Whatever it
// returns is proved by whoever asked.
package encoder

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"time"

	"orilla.example/orilla/internal/core/coding"
)

// Argument starts this program as an encoder and nothing else; the name of a coding
// follows.
const Argument = "internal:encoder"

// timeLimit ends an encoder that has lost its way. The largest content takes half a
// minute on a machine with nothing else to do.
const timeLimit = 10 * time.Minute

// gainless is the status of an encoder whose content does not gain.
const gainless = 3

// IfAsked encodes if the arguments of this program ask for it, and ends the program then.
func IfAsked() {
	if len(os.Args) != 3 || os.Args[1] != Argument {
		return
	}
	os.Exit(encode(os.Args[2], os.Stdin, os.Stdout))
}

// encode reads content and writes its variant, with the lowest priority.
func encode(name string, in io.Reader, out io.Writer) int {
	runtime.GOMAXPROCS(1)
	yield()
	c, ok := coding.Parse(name)
	content, err := io.ReadAll(io.LimitReader(in, coding.Most+1))
	if !ok || err != nil || len(content) > coding.Most {
		return 2
	}
	data, err := coding.Encode(c, coding.Best, content)
	if errors.Is(err, coding.ErrGainless) {
		return gainless
	}
	if err == nil {
		_, err = out.Write(data)
	}
	if err != nil {
		return 1
	}
	return 0
}

// Best makes the best variant of content in a process of its own. The error is
// coding.ErrGainless, or says what became of the process.
func Best(ctx context.Context, c coding.Coding, content []byte) ([]byte, error) {
	program, err := self()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, timeLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, Argument, c.String())
	cmd.Env = []string{} // nothing that it could tell
	cmd.Stdin = bytes.NewReader(content)
	var out bytes.Buffer
	cmd.Stdout = &limited{&out, len(content)}
	err = cmd.Run()
	if exit, ok := errors.AsType[*exec.ExitError](err); ok && exit.ExitCode() == gainless {
		return nil, coding.ErrGainless
	}
	if err != nil {
		return nil, fmt.Errorf("the encoder for %s: %w", c, err)
	}
	return out.Bytes(), nil
}

// self is the file of this program, also after another one took its name.
func self() (string, error) {
	if runtime.GOOS == "linux" {
		return "/proc/self/exe", nil
	}
	return os.Executable()
}

// limited takes so many bytes and no more.
type limited struct {
	to   *bytes.Buffer
	left int
}

// Write implements io.Writer.
func (l *limited) Write(data []byte) (int, error) {
	if l.left -= len(data); l.left < 0 {
		return 0, errors.New("it says more than it was given")
	}
	return l.to.Write(data)
}
