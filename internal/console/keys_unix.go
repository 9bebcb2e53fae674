//go:build linux || darwin

package console

import (
	"context"
	"os"

	"golang.org/x/sys/unix"
)

// HasKeys reports whether keys would reach this process: standard input is a
// terminal, and the process is in its foreground. A process in the background
// is stopped if it changes the terminal.
func HasKeys() bool {
	group, err := unix.IoctlGetInt(int(os.Stdin.Fd()), unix.TIOCGPGRP)
	return err == nil && group == unix.Getpgrp()
}

// Keys returns the keys that are pressed on the terminal of
// standard input, one by one and without an echo; Ctrl-C goes
// on to interrupt. The channel is closed when the context
// ends. restore brings the terminal back to what it was.
func Keys(ctx context.Context) (pressed <-chan byte, restore func()) {
	out := make(chan byte)
	fd := int(os.Stdin.Fd())
	before, err := unix.IoctlGetTermios(fd, readTermios)
	if err != nil || !HasKeys() {
		close(out)
		return out, func() {}
	}

	single := *before
	single.Lflag &^= unix.ICANON | unix.ECHO
	single.Cc[unix.VMIN], single.Cc[unix.VTIME] = 0, 2 // a read waits for 0.2 s at most
	if unix.IoctlSetTermios(fd, writeTermios, &single) != nil {
		close(out)
		return out, func() {}
	}

	go func() {
		defer close(out)
		key := make([]byte, 1)
		for ctx.Err() == nil {
			if n, err := unix.Read(fd, key); err != nil || n == 0 {
				if err != nil && err != unix.EINTR && err != unix.EAGAIN {
					return // the terminal has gone
				}
				continue
			}
			select {
			case out <- key[0]:
			case <-ctx.Done():
			}
		}
	}()

	//nolint:errcheck // nothing else can be done
	return out, func() { unix.IoctlSetTermios(fd, writeTermios, before) }
}
