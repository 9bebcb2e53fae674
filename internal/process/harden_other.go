//go:build !linux

package process

// Harden does nothing: here the system offers no way to
// keep processes of the same user from each other.
func Harden() {}
