package edge_test

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/visits"
	tallies "orilla.example/orilla/internal/counting"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/store/memory"
)

// nobody takes an answer and keeps nothing of it.
type nobody struct{ header http.Header }

// Header implements http.ResponseWriter.
func (n nobody) Header() http.Header { return n.header }

// Write implements http.ResponseWriter.
func (nobody) Write(data []byte) (int, error) { return len(data), nil }

// WriteHeader implements http.ResponseWriter.
func (nobody) WriteHeader(int) {}

// BenchmarkNoted answers a small page, with nobody who wants to know of it, a line for each request,
// and counting. What the network and HTTP cost comes on top of each: some 60 µs on the same machine.
func BenchmarkNoted(b *testing.B) {
	var line []byte
	written := func(form visits.Form) func(*visits.Visit) {
		return func(v *visits.Visit) { line = visits.Writing{Form: form}.Append(line[:0], v) }
	}
	counter := tallies.New(tallies.Options{Store: &memory.Store{}, Node: "a", Memory: 16 << 20, Now: time.Now})
	for name, visited := range map[string]func(*visits.Visit){"nothing": nil, "visits": func(*visits.Visit) {},
		"combined": written(visits.Combined), "json": written(visits.JSON), "traffic": counter.Visited} {
		b.Run(name, func(b *testing.B) {
			w := start(b, edge.Options{Visited: visited})
			w.await("corvane.localhost", w.activate("production", w.put(map[string]string{"fares.html": "42.00"},
				release.Settings{})))
			request := httptest.NewRequest(http.MethodGet, "http://corvane.localhost/fares", nil)
			request.Header.Set("User-Agent", "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0")
			request.RemoteAddr = "127.0.0.1:4000"
			header := http.Header{}
			for b.Loop() {
				clear(header)
				w.node.ServeHTTP(nobody{header}, request)
			}
		})
	}
}
