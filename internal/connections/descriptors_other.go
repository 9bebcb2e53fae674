//go:build !unix

package connections

// MaxFiles returns 0: this system has no such bound.
func MaxFiles() int { return 0 }
