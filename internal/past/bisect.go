package past

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync/atomic"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// Verdict is what a test says of a release.
type Verdict string

// The verdicts.
const (
	Good    Verdict = "good"
	Bad     Verdict = "bad"
	Skipped Verdict = "skipped" // it cannot be tested
)

// Tested is an entry that was tested.
type Tested struct {
	Moment  *Moment
	Verdict Verdict
	Text    string // what the test said
}

// Test tests what an environment served, which is at an address while it does.
type Test func(ctx context.Context, m *Moment, address string) (Verdict, string, error)

// Culprit is what a search found.
type Culprit struct {
	Good, Bad Tested   // neighbours: what is between them could not be tested
	Between   []Tested // those that were skipped
	Tests     int
}

// Errors of a search.
var (
	ErrNeverBad  = errors.New("the newest one passes")
	ErrNeverGood = errors.New("no earlier one passes")
)

// Bisect finds the entry from which on a test fails: bad fails and good passes, and half of what is
// between is left after each test. good 0: it goes back from bad, one entry, two, four, until one
// passes. told is told of each test.
//
// Entries that serve the same as the one before them are not tested: they would say the same. Of
// a journal that went good, bad, good, bad it finds one of the two places.
func (w *Walk) Bisect(ctx context.Context, good, bad int64, test Test, told func(Tested),
) (c Culprit, err error) {
	s := &search{walk: w, test: test, told: told, known: map[key]Tested{}}
	defer func() { c.Tests = s.tests }()
	last, err := w.journal.HeadNumber(ctx, 0)
	if err != nil {
		return c, err
	}
	if bad == 0 {
		bad = last
	}
	if c.Bad, err = s.at(ctx, bad); err != nil {
		return c, err
	}
	if c.Bad.Verdict != Bad {
		return c, ErrNeverBad
	}
	if c.Good, err = s.goodBefore(ctx, good, bad); err != nil {
		return c, err
	}

	low, high := c.Good.Moment.Entry.Number, bad
	for high-low > 1 {
		middle, err := s.between(ctx, low, high)
		if err != nil {
			return c, err
		}
		switch middle.Verdict {
		case Good:
			low, c.Good = middle.Moment.Entry.Number, middle
		case Bad:
			high, c.Bad = middle.Moment.Entry.Number, middle
		default: // none between them can be tested
			c.Between = append(c.Between, middle)
			return c, nil
		}
	}
	return c, nil
}

// Numbers of entries stand for time: what was live later has a higher one. Between good and bad the
// search halves; where the middle cannot be tested it takes the nearest that can, and where none can,
// it says so with both ends. So each test leaves at most half, but for those that were skipped.
//
//	good 12 ............ 34 ............ bad 57     34 is tested
//	good 12 ... 23 ... bad 34                       and so on, until they are neighbours

// search is one search.
type search struct {
	walk  *Walk
	test  Test
	told  func(Tested)
	known map[key]Tested // what serves the same says the same
	tests int
}

// Mostly what is broken was broken lately, so the steps back begin with one entry: a mistake of the
// last deploy is found with two tests, and one of a year ago with twenty.

// goodBefore returns one that passes: the one that is named, or the nearest that is found by going
// back in steps that double.
func (s *search) goodBefore(ctx context.Context, named, bad int64) (Tested, error) {
	if named > 0 {
		found, err := s.at(ctx, named)
		if err == nil && found.Verdict != Good {
			err = fmt.Errorf("%w: %s fails too", ErrNeverGood, found.Moment.Entry.Label())
		}
		return found, err
	}
	for step, n := int64(1), bad; n > 1; step *= 2 {
		n = max(1, n-step)
		found, err := s.at(ctx, n)
		if err != nil || found.Verdict == Good {
			return found, err
		}
	}
	return Tested{}, ErrNeverGood
}

// between tests an entry in the middle of two, or the nearest to it that can be tested. If none can
// be, what it returns is skipped.
func (s *search) between(ctx context.Context, low, high int64) (Tested, error) {
	middle := (low + high) / 2
	var last Tested
	for distance := int64(0); ; distance++ {
		tried := false
		for _, n := range []int64{middle - distance, middle + distance} {
			if n <= low || n >= high || distance == 0 && tried {
				continue
			}
			tried = true
			found, err := s.at(ctx, n)
			if err != nil || found.Verdict != Skipped {
				return found, err
			}
			last = found
		}
		if !tried {
			return last, nil
		}
	}
}

// at tests what an entry put live.
func (s *search) at(ctx context.Context, number int64) (Tested, error) {
	entry, err := s.walk.journal.Get(ctx, number)
	switch {
	case errors.Is(err, storage.ErrNotFound):
		return Tested{}, fault.New(fault.Usage, "unknown-entry", "no such entry").
			At("%s", journal.Entry{Environment: s.walk.journal.Environment, Number: number}.Label()).
			Then("orilla history %s", journal.DisplayName(s.walk.journal.Environment))
	case errors.Is(err, journal.ErrDamaged), errors.Is(err, journal.ErrUnknown):
		return Tested{Moment: &Moment{Entry: entry}, Verdict: Skipped, Text: "the entry cannot be read"}, nil
	case err != nil:
		return Tested{}, err
	}
	moment, err := s.walk.At(ctx, entry)
	if err != nil {
		return Tested{}, err
	}
	if moment.Gone {
		text := "nothing was live"
		if moment.Pruned {
			text = "its release was pruned"
		}
		return Tested{moment, Skipped, text}, nil
	}
	k := key{entry.Release.String(), entry.Document.String()}
	if before, ok := s.known[k]; ok {
		before.Moment = moment
		return before, nil
	}
	tested := Tested{Moment: moment}
	err = s.walk.serve(ctx, moment, func(address string) (err error) {
		tested.Verdict, tested.Text, err = s.test(ctx, moment, address)
		return err
	})
	if err != nil {
		return tested, err
	}
	s.tests++
	s.known[k] = tested
	s.told(tested)
	return tested, nil
}

// objectsMemory is how much content is kept in memory while a moment is served.
const objectsMemory = 32 << 20

// It is served over HTTP/1.1 without TLS, at a port of its own, at 127.0.0.1: whatever a test is, it
// can ask that. Names of the site are of no matter, since one release answers at each of them.

// serve answers as an environment did, at an address of this machine, while something is done.
// Requests that its rules pass on to an upstream get 502: what answered there then is not here.
func (w *Walk) serve(ctx context.Context, m *Moment, during func(address string) error) error {
	listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	var failed atomic.Pointer[error]
	objects := httpanswer.NewObjects(w.store, objectsMemory, 0)
	done := make(chan struct{})
	go func() {
		defer close(done)
		//nolint:errcheck // it ends with the context
		connections.Serve(ctx, listener, http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
			request := httpanswer.RequestOf(r, m.base, answer.Production, m.now)
			a, err := answer.Decide(r.Context(), request, m.site)
			switch {
			case err != nil:
				failed.Store(&err)
				httpanswer.Fail(out, r, err)
			case a.Upstream != nil:
				httpanswer.Say(out, r, http.StatusBadGateway, "Here nothing is passed on; this would go to "+
					a.Upstream.Where()+".")
			default:
				// What cannot be read; a test that stops reading is no trouble.
				if err := httpanswer.Respond(out, r, a, objects); err != nil && r.Context().Err() == nil {
					failed.Store(&err)
				}
			}
		}))
	}()
	err = during("http://" + listener.Addr().String() + m.base)
	cancel()
	<-done
	// A release that cannot be read says nothing about whether it was good.
	if trouble := failed.Load(); err == nil && trouble != nil {
		return *trouble
	}
	return err
}
