//go:build unix

package storetest

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// ownGroup lets a server start in a process group of its own, so that killGroup
// ends what it has started too.
func ownGroup(command *exec.Cmd) { command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// killGroup ends a server and what it started, also what
// has left its group, as far as /proc tells.
func killGroup(command *exec.Cmd) {
	parents := map[int][]int{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range stats {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		pid, _ := strconv.Atoi(strings.Split(file, "/")[2])
		var state string
		var parent int
		if _, after, ok := strings.Cut(string(data), ") "); ok {
			fmt.Sscan(after, &state, &parent) //nolint:errcheck // zero is nobody's parent here
			parents[parent] = append(parents[parent], pid)
		}
	}

	var kill func(pid int)
	kill = func(pid int) {
		for _, child := range parents[pid] {
			kill(child)
		}
		syscall.Kill(pid, syscall.SIGKILL) //nolint:errcheck // it may have ended
	}
	kill(command.Process.Pid)
	syscall.Kill(-command.Process.Pid, syscall.SIGKILL) //nolint:errcheck // see above
}
