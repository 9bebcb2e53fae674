//go:build !unix

package storetest

import "os/exec"

func ownGroup(*exec.Cmd) {}

func killGroup(command *exec.Cmd) { command.Process.Kill() } //nolint:errcheck // it may have ended
