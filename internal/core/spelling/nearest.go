// Package spelling proposes the word that was probably meant.
//
//	spelling.DidYouMean("prodution", []string{"production", "staging"})
//	// `; did you mean "production"?`
//
// A proposal that is too far from the word is worse than none: it sends people in
// the wrong direction. So a third of the letters may differ, and always two: what
// is short is often mistyped as a whole.
package spelling

import "fmt"

// Nearest returns the candidate that word was probably meant to be, or "".
//
// Of several that are equally near, the first.
func Nearest(word string, candidates []string) string {
	best, bestDistance := "", max(2, len(word)/3)+1
	for _, candidate := range candidates {
		if d := Distance(word, candidate); d < bestDistance {
			best, bestDistance = candidate, d
		}
	}
	return best
}

// DidYouMean returns a half sentence that proposes the
// nearest candidate, or "".
func DidYouMean(word string, candidates []string) string {
	if nearest := Nearest(word, candidates); nearest != "" {
		return fmt.Sprintf("; did you mean %q?", nearest)
	}
	return ""
}

// Distance is the Levenshtein distance between two words.
func Distance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost = 1 + min(diagonal, row[j], row[j+1])
			}
			diagonal, row[j+1] = row[j+1], cost
		}
	}

	return row[len(b)]
}
