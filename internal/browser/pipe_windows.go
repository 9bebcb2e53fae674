package browser

import (
	"fmt"
	"os"
	"os/exec"
	"syscall"

	"orilla.example/orilla/internal/process"
)

// pipeArgument is added with the handles.
const pipeArgument = "--remote-debugging-pipe"

// startPiped starts a browser that inherits the handles of the pipe, and is told them.
func startPiped(command *exec.Cmd, _ bool) (*pipe, error) {
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
	for _, file := range []*os.File{in, out} {
		handle := syscall.Handle(file.Fd())
		if err := syscall.SetHandleInformation(handle, syscall.HANDLE_FLAG_INHERIT, 1); err != nil {
			return nil, err
		}
	}
	command.Args = append(command.Args, pipeArgument,
		fmt.Sprintf("--remote-debugging-io-pipes=%d,%d", in.Fd(), out.Fd()), "about:blank")
	command.SysProcAttr = &syscall.SysProcAttr{AdditionalInheritedHandles: []syscall.Handle{
		syscall.Handle(in.Fd()), syscall.Handle(out.Fd())}}
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
