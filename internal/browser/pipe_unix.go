//go:build !windows

package browser

import (
	"os"
	"os/exec"
	"syscall"

	"orilla.example/orilla/internal/process"
)

// pipeArgument has the browser read commands from descriptor 3 and write to 4.
const pipeArgument = "--remote-debugging-pipe"

// Descriptors are inherited through bubblewrap too, which leaves those alone that it does not know.

// startPiped starts a browser with the pipe as its third and fourth descriptor. If add, what has it use
// them is added to its command line.
func startPiped(command *exec.Cmd, add bool) (*pipe, error) {
	if add {
		command.Args = append(command.Args, pipeArgument, "about:blank")
	}
	in, to, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	from, out, err := os.Pipe()
	if err != nil {
		in.Close() //nolint:errcheck // nothing was written
		to.Close() //nolint:errcheck // see above
		return nil, err
	}
	command.ExtraFiles = []*os.File{in, out}
	command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	err = process.Start(command)
	in.Close()  //nolint:errcheck // the browser has its own
	out.Close() //nolint:errcheck // see above
	p := newPipe(to, from)
	if err != nil {
		p.close()
		return nil, err
	}
	return p, nil
}
