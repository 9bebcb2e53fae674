//go:build unix

package steps

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// idName is a variable that children inherit, unless they are made not to: what
// a build has left behind is found by it after the builder was killed.
const idName = "ORILLA_BUILD_ID"

// EndStrays ends every process that steps of a build with this id have left
// behind, as far as the system has /proc.
func EndStrays(id string) {
	for range 3 { // one that is being forked may be missed the first time
		if !endStrays(idName + "=" + id) {
			return
		}
	}
}

// endStrays reports whether it found any.
func endStrays(cookie string) bool {
	found := false
	environments, _ := filepath.Glob("/proc/[0-9]*/environ")
	for _, path := range environments {
		environment, err := os.ReadFile(path)
		if err != nil || !strings.Contains("\x00"+string(environment), "\x00"+cookie+"\x00") {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(path))); err == nil {
			found = syscall.Kill(pid, syscall.SIGKILL) == nil || found
		}
	}
	return found
}

// Alive reports whether a process of this machine is there.
func Alive(process int) bool {
	err := syscall.Kill(process, 0)
	return err == nil || err == syscall.EPERM
}
