package visits

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"orilla.example/orilla/internal/core/media"
)

// A deploy can be judged by its visitors: those of the release before tell what is usual, and
// those of the new one whether it got worse. What counts is what a page cannot do without: an
// asset that a page of the site loads and that is not there, and an answer that the site or its
// upstreams could not give. What strangers try who look for holes counts for neither.

// Crowd counts what visitors of one release got. The zero value has had none. Its methods are
// safe for concurrent use.
type Crowd struct {
	answers, missing, failed atomic.Int64

	mutex sync.Mutex
	worst map[string]int64 // by path
}

// Counted is what a crowd got.
type Counted struct {
	Answers int64 `json:"answers"`
	Missing int64 `json:"missing"` // assets that pages load
	Failed  int64 `json:"failed"`  // status 500 and above
	// Worst are the addresses of these, most often first; at most worstTold.
	Worst []Address `json:"worst,omitempty"`
}

// Address is a path, and how often it was missing or failed.
type Address struct {
	Path  string `json:"path"`
	Count int64  `json:"count"`
}

const (
	worstKept = 200 // paths that are remembered of a release
	worstTold = 5
)

// Answered counts an answer that was well.
func (c *Crowd) Answered() { c.answers.Add(1) }

// Count counts an answer to a request for a path, escaped. own tells that a page of the site
// asked.
func (c *Crowd) Count(path string, status int, own bool) {
	c.answers.Add(1)
	const notFound, gone, broken = 404, 410, 500
	switch {
	case status >= broken:
		c.failed.Add(1)
	case own && (status == notFound || status == gone) && media.ClassOf(path) >= media.Style:
		c.missing.Add(1)
	default:
		return
	}
	path = Mask(path)
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.worst == nil {
		c.worst = map[string]int64{}
	}
	if _, known := c.worst[path]; known || len(c.worst) < worstKept {
		c.worst[path]++
	}
}

// Counted returns what the crowd got so far.
func (c *Crowd) Counted() Counted {
	if c == nil {
		return Counted{}
	}
	counted := Counted{Answers: c.answers.Load(), Missing: c.missing.Load(), Failed: c.failed.Load()}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for path, count := range c.worst {
		counted.Worst = append(counted.Worst, Address{path, count})
	}
	counted.Worst = worstOf(counted.Worst)
	return counted
}

// worstOf returns the addresses that matter most.
func worstOf(list []Address) []Address {
	slices.SortFunc(list, func(a, b Address) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Path, b.Path))
	})
	return list[:min(len(list), worstTold)]
}

// Plus adds what another crowd got.
func (c Counted) Plus(other Counted) Counted {
	sum := Counted{Answers: c.Answers + other.Answers, Missing: c.Missing + other.Missing,
		Failed: c.Failed + other.Failed}
	counts := map[string]int64{}
	for _, list := range [][]Address{c.Worst, other.Worst} {
		for _, a := range list {
			counts[a.Path] += a.Count
		}
	}
	for path, count := range counts {
		sum.Worst = append(sum.Worst, Address{path, count})
	}
	sum.Worst = worstOf(sum.Worst)
	return sum
}

// The test: as many as were usual, and by chance a few more. With a share p among n answers
// there are np, give or take sqrt(np) (Poisson); who raises an alarm at four of these is wrong
// once in some ten thousand looks. Where there were few answers before, their share says
// little, so one in a hundred is added to them.
const (
	sigmas     = 4
	fewest     = 5
	priorCount = 0.5
	priorOf    = 100
)

// Worse reports whether visitors fare worse than those before, and says in what.
func Worse(before, now Counted) (string, bool) {
	for _, what := range []struct {
		text     string
		was, are int64
	}{{"assets that pages load are missing", before.Missing, now.Missing},
		{"answers fail", before.Failed, now.Failed}} {
		share := (float64(what.was) + priorCount) / (float64(before.Answers) + priorOf)
		usual := share * float64(now.Answers)
		if what.are < fewest || float64(what.are) <= usual+sigmas*math.Sqrt(usual) {
			continue
		}
		text := fmt.Sprintf("%s: %d of %d, before %d of %d", what.text, what.are, now.Answers, what.was,
			before.Answers)
		for i, a := range now.Worst {
			if i == 0 {
				text += "; " + a.Path
				continue
			}
			text += ", " + a.Path
		}
		return text, true
	}
	return "", false
}
