package visits_test

import (
	"testing"

	"orilla.example/orilla/internal/core/visits"
)

// BenchmarkAppend writes lines of each form.
func BenchmarkAppend(b *testing.B) {
	for _, form := range []visits.Form{visits.Combined, visits.JSON} {
		b.Run(string(form), func(b *testing.B) {
			v, w := visit(), visits.Writing{Form: form}
			var buffer []byte
			for b.Loop() {
				buffer = w.Append(buffer[:0], &v)
			}
			b.SetBytes(int64(len(buffer)))
		})
	}
}
