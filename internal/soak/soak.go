// Package soak tells tests how often to repeat themselves: a few times in the
// usual run, and for as long as it takes when ORILLA_SOAK is set.
package soak

import "os"

// Asked reports whether tests should take all the time they can use.
func Asked() bool { return os.Getenv("ORILLA_SOAK") != "" }

// Rounds returns the first number in the usual run, and the second in a soak.
func Rounds(usual, many int) int {
	if Asked() {
		return many
	}
	return usual
}
