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
	return piped(func(in, out *os.File) error {
		var handles []syscall.Handle
		for _, file := range []*os.File{in, out} {
			handle := syscall.Handle(file.Fd())
			if err := syscall.SetHandleInformation(handle, syscall.HANDLE_FLAG_INHERIT, 1); err != nil {
				return err
			}
			handles = append(handles, handle)
		}
		command.Args = append(command.Args, pipeArgument,
			fmt.Sprintf("--remote-debugging-io-pipes=%d,%d", in.Fd(), out.Fd()), "about:blank")
		command.SysProcAttr = &syscall.SysProcAttr{AdditionalInheritedHandles: handles}
		return process.Start(command)
	})
}
