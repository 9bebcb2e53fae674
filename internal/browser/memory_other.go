//go:build !linux

package browser

import "os/exec"

// watch does nothing: on these systems the browser's own bounds of scripts are all there is.
func (b *Browser) watch() {}

// end ends a browser; its other processes end when its pipe does.
func end(command *exec.Cmd) {
	command.Process.Kill() //nolint:errcheck // it may have ended
}
