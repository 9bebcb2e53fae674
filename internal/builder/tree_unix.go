//go:build unix

package builder

import (
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// processTree ends everything that a step started: its process group, and on systems with /proc also what left the group, which
// is known by a variable that children inherit.
type processTree struct{ cookie string }

const cookieName = "ORILLA_BUILD_ID"

// prepare makes the process the leader of a group of its own.
func prepare(process *exec.Cmd) processTree {
	tree := processTree{cookie: cookieName + "=" + rand.Text()}
	process.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	process.Env = append(process.Env[:len(process.Env):len(process.Env)], tree.cookie)
	return tree
}

func (t processTree) end(process *exec.Cmd) {
	syscall.Kill(-process.Process.Pid, syscall.SIGKILL) //nolint:errcheck // gone already is fine
	for range 3 {                                       // one that is being forked may be missed the first time
		if !t.endStrays() {
			return
		}
	}
}

// endStrays reports whether it found any.
func (t processTree) endStrays() bool {
	found := false
	environments, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, path := range environments {
		environment, err := os.ReadFile(path)
		if err != nil || !strings.Contains("\x00"+string(environment), "\x00"+t.cookie+"\x00") {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(path))); err == nil {
			found = syscall.Kill(pid, syscall.SIGKILL) == nil || found
		}
	}
	return found
}
