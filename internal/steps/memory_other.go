//go:build !linux

package steps

// Memory is not known here.
func Memory() int64 { return 0 }
