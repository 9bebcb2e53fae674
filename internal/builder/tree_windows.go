package builder

import (
	"os/exec"
	"strconv"
)

// processTree ends a step and its children with the system's own command.
type processTree struct{}

func prepare(*exec.Cmd) processTree { return processTree{} }

func (processTree) end(process *exec.Cmd) {
	exec.Command("taskkill", "/T", "/F", "/PID", strconv.Itoa(process.Process.Pid)).Run() //nolint:errcheck // gone already is fine
}
