package devserver

import (
	"io"
	"os"
	"slices"
	"time"

	"orilla.example/orilla/internal/core/digest"
)

// ownWork tells what builds change themselves from what somebody saves. A build
// that writes a file which is none of its output starts the next one, for ever:
//
//	build 1 --writes--> version.ts --starts--> build 2 --writes--> version.ts ...
//
// Only time tells the two apart, and it may be wrong: somebody saves while a build
// runs. So nothing is ever left out. What changes during three builds in a row, and
// differs each time, has the next one wait, longer each time; a save at any other
// moment builds at once.
type ownWork struct {
	began, ended time.Time // of the last build
	broken       bool      // it failed
	streaks      map[string]int
	held         map[string]digest.Digest // what was in files that change during builds
	again        <-chan time.Time         // of the build that waits; nil for none
	why          string                   // it will be built
}

// How long a change may be seen after the build that made it, how many builds in a
// row are no accident, and how long the next one waits then at first and at most.
const (
	seenAfter   = 100 * time.Millisecond
	noAccident  = 3
	firstPause  = time.Second
	longestStop = 10 * time.Second
)

// begin notes that a build begins.
func (o *ownWork) begin() { o.began, o.again = time.Now(), nil }

// end notes how it ended, and returns how long it took.
func (o *ownWork) end(failed bool) time.Duration {
	o.ended, o.broken = time.Now(), failed
	return o.ended.Sub(o.began)
}

// due returns which of the sources that changed a build begins for at once. If
// there are none for now, wait is after what time one begins anyway.
func (o *ownWork) due(sources []string, all changes) (now []string, wait time.Duration) {
	somebodys := func(path string) bool { return !o.meanwhile(path, all[path]) }
	if len(sources) == 0 || slices.ContainsFunc(sources, somebodys) {
		o.streaks, o.held = nil, nil
		return sources, 0
	}

	streaks, longest := map[string]int{}, 0
	for _, path := range sources {
		streaks[path] = o.streaks[path] + 1
		longest = max(longest, streaks[path])
	}
	if o.streaks = streaks; longest < noAccident {
		return sources, 0
	}

	// What is written anew with the same content is no change.
	sources = slices.DeleteFunc(slices.Clone(sources), func(path string) bool {
		held, known := o.held[path]
		return known && held == sumOf(path)
	})
	o.held = map[string]digest.Digest{}
	for path := range streaks {
		o.held[path] = sumOf(path)
	}
	if len(sources) == 0 {
		return nil, 0
	}
	wait = min(firstPause<<min(longest-noAccident, 10), longestStop)
	o.again, o.why = time.After(wait), sources[0]
	return nil, wait
}

// meanwhile reports whether a file changed while the last build ran. Its own time
// says so best: a change is seen a moment after it was made.
func (o *ownWork) meanwhile(path string, seen time.Time) bool {
	info, err := os.Stat(path)
	if err == nil && info.ModTime().After(o.began) && info.ModTime().Before(seen) {
		return !info.ModTime().After(o.ended)
	}
	return seen.After(o.began) && !seen.After(o.ended.Add(seenAfter))
}

// sumOf returns what a file holds, as far as its first 64 MB tell; the zero digest
// if it is gone.
func sumOf(path string) digest.Digest {
	file, err := os.Open(path)
	if err != nil {
		return digest.Digest{}
	}
	defer file.Close() //nolint:errcheck // read only
	data, err := io.ReadAll(io.LimitReader(file, 64<<20))
	if err != nil {
		return digest.Digest{}
	}
	return digest.Of(data)
}
