package counting_test

import (
	"testing"
	"time"

	"orilla.example/orilla/internal/counting"
	"orilla.example/orilla/internal/store/memory"
)

// BenchmarkVisited is what a visit costs; a handshake or a system call costs thousands of
// nanoseconds, so it should be some hundreds.
func BenchmarkVisited(b *testing.B) {
	c := counting.New(counting.Options{Store: &memory.Store{}, Node: "a", Memory: 64 << 20, Now: time.Now})
	v := visit("corvane", 7)
	v.Agent = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
	v.Encoding, v.Cache = "br", "hit"
	b.ReportAllocs()
	for b.Loop() {
		c.Visited(v)
	}
}
