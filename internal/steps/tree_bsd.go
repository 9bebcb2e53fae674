//go:build unix && !linux

package steps

import (
	"cmp"
	"crypto/rand"
	"io"
	"os/exec"
	"strconv"
	"syscall"

	"orilla.example/orilla/internal/process"
)

// processTree ends everything that a step started: its process group, not what
// left the group: here nothing tells.
type processTree struct {
	id       string
	guardian *exec.Cmd
	alive    io.WriteCloser // open as long as this process lives
}

// prepare makes the process the leader of a group of its own.
func prepare(step *exec.Cmd, id string) *processTree {
	tree := &processTree{id: cmp.Or(id, rand.Text())}
	step.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	step.Env = append(step.Env[:len(step.Env):len(step.Env)], idName+"="+tree.id)
	return tree
}

// guard starts a process that does nothing but wait for this one to end the
// step or to die. If it dies, however suddenly, the step's group is ended: what
// is waited on is a pipe, which the system closes.
func (t *processTree) guard(step *exec.Cmd) {
	guardian := exec.Command("/bin/sh", "-c", `read -r word; [ "$word" = done ] || kill -s KILL -- "-$0"`,
		strconv.Itoa(step.Process.Pid))
	guardian.Env = process.Environment()
	guardian.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	pipe, err := guardian.StdinPipe()
	if err != nil || process.Start(guardian) != nil {
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
	process.Done(t.guardian)
}

// end kills the step and everything that it started.
func (t *processTree) end(step *exec.Cmd) {
	syscall.Kill(-step.Process.Pid, syscall.SIGKILL) //nolint:errcheck // gone already is fine
	EndStrays(t.id)
}
