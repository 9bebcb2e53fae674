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

// killGroup ends a server and what it started, also what has left its group, as far
// as /proc tells. Each is stopped before its children are looked for, so that none is
// started meanwhile: a client whose connection ends connects anew at once, and a
// server that still listens would answer it by a process that outlives it.
func killGroup(command *exec.Cmd) {
	family := map[int]bool{}
	stop := func(pid int) {
		family[pid] = true
		syscall.Kill(pid, syscall.SIGSTOP) //nolint:errcheck // it may have ended
	}
	stop(command.Process.Pid)
	for found := true; found; {
		found = false
		for pid, parent := range parents() {
			if family[parent] && !family[pid] {
				stop(pid)
				found = true
			}
		}
	}

	syscall.Kill(-command.Process.Pid, syscall.SIGKILL) //nolint:errcheck // it may have ended
	for pid := range family {
		syscall.Kill(pid, syscall.SIGKILL) //nolint:errcheck // see above
	}
}

// parents returns the parent of each process, as far as /proc tells.
func parents() map[int]int {
	of := map[int]int{}
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, file := range stats {
		data, err := os.ReadFile(file)
		if err != nil {
			continue
		}
		pid, _ := strconv.Atoi(strings.Split(file, "/")[2])
		var state string
		var parent int
		if _, after, ok := strings.Cut(string(data), ") "); ok && pid > 0 {
			fmt.Sscan(after, &state, &parent) //nolint:errcheck // zero is nobody's parent here
			of[pid] = parent
		}
	}
	return of
}
