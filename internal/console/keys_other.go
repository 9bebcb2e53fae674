//go:build !linux && !darwin

package console

import "context"

// HasKeys reports false.
func HasKeys() bool { return false }

// Keys returns no keys: this system's terminals are read line by line.
func Keys(context.Context) (pressed <-chan byte, restore func()) {
	none := make(chan byte)
	close(none)
	return none, func() {}
}
