//go:build unix

package storetest

import (
	"os/exec"
	"syscall"
)

func ownGroup(command *exec.Cmd) { command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

func killGroup(command *exec.Cmd) { syscall.Kill(-command.Process.Pid, syscall.SIGKILL) } //nolint:errcheck // it may have ended
