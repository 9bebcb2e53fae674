package counting_test

import (
	"fmt"
	"testing"
	"time"

	"orilla.example/orilla/internal/counting"
	"orilla.example/orilla/internal/store/memory"
)

// BenchmarkTenThousandSites notes and writes an hour of ten thousand sites that had one visit each,
// which a node does in the background.
func BenchmarkTenThousandSites(b *testing.B) {
	for b.Loop() {
		store := &memory.Store{}
		c := counting.New(counting.Options{Store: store, Node: "a", Memory: 16 << 20, Now: time.Now,
			Notes: &notebook{notes: map[string][]byte{}}})
		for i := range 10_000 {
			c.Visited(visit(fmt.Sprint("site-", i), i))
		}
		c.SaveAll()
		c.PublishAll(b.Context())
	}
}

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
