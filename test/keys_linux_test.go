package test

import (
	"os"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestKeysWorkAfterCtrlZ and fg, when the shell has had the terminal meanwhile.
func TestKeysWorkAfterCtrlZ(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write(map[string]string{"orilla.yaml": "site: corvane\n", "index.html": "one"})
	s := p.terminal("serve", "--listen", "127.0.0.1:0")
	s.reads("r rebuild, q quit")
	terminal := int(s.keys.(*os.File).Fd())
	require.NoError(t, s.command.Process.Signal(syscall.SIGSTOP))
	state, err := unix.IoctlGetTermios(terminal, unix.TCGETS)
	require.NoError(t, err)
	state.Lflag |= unix.ICANON | unix.ECHO
	require.NoError(t, unix.IoctlSetTermios(terminal, unix.TCSETS, state))
	require.NoError(t, s.command.Process.Signal(syscall.SIGCONT))
	require.Eventually(t, func() bool {
		state, err := unix.IoctlGetTermios(terminal, unix.TCGETS)
		return err == nil && state.Lflag&unix.ICANON == 0
	}, 30*time.Second, 10*time.Millisecond)
	s.types("q")
	s.ends(0)
}
