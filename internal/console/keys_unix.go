//go:build linux || darwin

package console

import (
	"context"
	"os"
	"time"

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
	single.Cc[unix.VMIN], single.Cc[unix.VTIME] = 0, 0
	if unix.IoctlSetTermios(fd, writeTermios, &single) != nil {
		close(out)
		return out, func() {}
	}

	go func() {
		defer close(out)
		key := make([]byte, 1)
		for ctx.Err() == nil {
			// In the background (bg) reading would stop the process.
			if !HasKeys() {
				time.Sleep(200 * time.Millisecond)
				continue
			}
			// A shell takes its terminal back when the process is stopped (Ctrl-Z), and
			// gives it to it again as the shell likes it (fg).
			if now, err := unix.IoctlGetTermios(fd, readTermios); err == nil && now.Lflag&unix.ICANON != 0 {
				unix.IoctlSetTermios(fd, writeTermios, &single) //nolint:errcheck // tried again
			}
			// A read that waits would go on waiting for a line then.
			var ready unix.FdSet
			ready.Set(fd)
			n, err := unix.Select(fd+1, &ready, nil, nil, &unix.Timeval{Usec: 200_000})
			if err != nil || n == 0 {
				continue
			}
			n, err = unix.Read(fd, key)
			switch {
			case err == unix.EIO: // it is another's just now
				time.Sleep(200 * time.Millisecond)
				continue
			case err == unix.EINTR, err == unix.EAGAIN:
				continue
			case err != nil, n == 0:
				return // the terminal has gone
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
