//go:build !unix

package storetest

import "os/exec"

// ownGroup does nothing: there are no process groups here.
func ownGroup(*exec.Cmd) {}

// killGroup ends the process; what it has started may live on.
func killGroup(command *exec.Cmd) { command.Process.Kill() } //nolint:errcheck // it may have ended
