//go:build !linux && !darwin

package console

import "context"

// Keys returns no keys: this system's terminals are read line by line.
func Keys(context.Context) (pressed <-chan byte, restore func()) {
	none := make(chan byte)
	close(none)
	return none, func() {}
}
