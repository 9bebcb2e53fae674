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
	return piped(func(in, out *os.File) error {
		command.ExtraFiles = []*os.File{in, out}
		command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		return process.Start(command)
	})
}
