//go:build !unix

package steps

// FreeSpace is not known here.
func FreeSpace(string) (int64, bool) { return 0, false }
