//go:build unix

package builder

import (
	"cmp"
	"crypto/rand"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// processTree ends everything that a step started: its process group, and on systems with /proc also what left the group, which
// is known by a variable that children inherit.
type processTree struct {
	id       string
	guardian *exec.Cmd
	alive    io.WriteCloser // open as long as this process lives
}

const idName = "ORILLA_BUILD_ID"

// prepare makes the process the leader of a group of its own.
func prepare(process *exec.Cmd, id string) *processTree {
	tree := &processTree{id: cmp.Or(id, rand.Text())}
	process.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	process.Env = append(process.Env[:len(process.Env):len(process.Env)], idName+"="+tree.id)
	return tree
}

// guard starts a process that does nothing but wait for this one to end the step or to die. If it dies, however suddenly, the step's
// group is ended: what is waited on is a pipe, which the system closes.
func (t *processTree) guard(process *exec.Cmd) {
	guardian := exec.Command("/bin/sh", "-c", `read -r word; [ "$word" = done ] || kill -s KILL -- "-$0"`, strconv.Itoa(process.Process.Pid))
	guardian.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	pipe, err := guardian.StdinPipe()
	if err != nil || guardian.Start() != nil {
		return // without it, the next build here ends what was left
	}
	t.guardian, t.alive = guardian, pipe
}

// release lets the guardian go.
func (t *processTree) release() {
	if t.guardian == nil {
		return
	}
	io.WriteString(t.alive, "done\n") //nolint:errcheck // it ends either way
	t.alive.Close()                   //nolint:errcheck // it ends either way
	t.guardian.Wait()                 //nolint:errcheck // its status says nothing
}

func (t *processTree) end(process *exec.Cmd) {
	syscall.Kill(-process.Process.Pid, syscall.SIGKILL) //nolint:errcheck // gone already is fine
	EndStrays(t.id)
}

// EndStrays ends every process that steps of a build with this id have left behind, as far as the system has /proc.
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
