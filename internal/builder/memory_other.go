//go:build !linux

package builder

// Memory is not known here.
func Memory() int64 { return 0 }
