package builds

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Begun is the first half of a run: what was begun. Runs of a site are numbered
// from 1 without gaps, whoever runs them; the number is taken by creating this
// record. It is never changed or removed.
type Begun struct {
	Format      int            `json:"format"`
	Number      int64          `json:"number"`
	Key         string         `json:"key"` // the build key
	Source      journal.Source `json:"source"`
	Commit      string         `json:"commit,omitempty"`
	Branch      string         `json:"branch,omitempty"`
	Subject     string         `json:"subject,omitempty"`
	Author      string         `json:"author,omitempty"`
	Environment string         `json:"environment,omitempty"` // stored name; where it was meant to go
	Cause       string         `json:"cause"`                 // "command", "follow"
	Who         string         `json:"who"`
	Where       string         `json:"where"` // the machine
	When        time.Time      `json:"when"`  // UTC, milliseconds
	Untrusted   *Untrusted     `json:"untrusted,omitempty"`
}

// Label is how a run is written and typed: build:number.
func (b Begun) Label() string { return fmt.Sprintf("build:%d", b.Number) }

// Ended is the second half: how a run ended. Of several
// that write it the first one says so.
type Ended struct {
	Format  int        `json:"format"`
	Number  int64      `json:"number"`
	Outcome Outcome    `json:"outcome"`
	Problem string     `json:"problem,omitempty"` // one line: what went wrong, or who ended it
	Build   string     `json:"build,omitempty"`   // the name of the build record
	Release release.ID `json:"release,omitzero"`
	Entry   int64      `json:"entry,omitempty"` // of the environment's journal
	Phases  []Phase    `json:"phases,omitempty"`
	// of the objects that hold, in order, all that the steps printed
	Log   []digest.Digest `json:"log,omitempty"`
	Files int64           `json:"files,omitempty"`
	Size  int64           `json:"size,omitempty"` // of the release, in bytes
	Sent  int64           `json:"sent,omitempty"` // bytes that the store did not have
	When  time.Time       `json:"when"`           // UTC, milliseconds
}

// Phase is how long one part of a run took: "checkout", "prepare", "step",
// "scan", "upload", "activate" and others.
type Phase struct {
	Name         string `json:"name"`
	What         string `json:"what,omitempty"` // the command of a step
	Milliseconds int64  `json:"milliseconds"`
}

// BuildTime is how long the steps of a run ran: what a
// limit on build minutes counts.
func (e Ended) BuildTime() time.Duration {
	total := int64(0)
	for _, phase := range e.Phases {
		if phase.Name == "prepare" || phase.Name == "step" {
			total += phase.Milliseconds
		}
	}
	return time.Duration(total) * time.Millisecond
}

// Took is how long all phases of one of the names took.
func (e Ended) Took(names ...string) time.Duration {
	total := int64(0)
	for _, phase := range e.Phases {
		if slices.Contains(names, phase.Name) {
			total += phase.Milliseconds
		}
	}
	return time.Duration(total) * time.Millisecond
}

// PhaseNames are the phases in the order in which they come.
var PhaseNames = []string{"wait", "checkout", "prepare", "step", "unpack", "scan", "upload", "rules", "check",
	"commit", "activate"}

// Run is a run as far as it is recorded; Ended is nil
// while nobody said how it ended.
type Run struct {
	Begun
	Ended *Ended
}

// Runs are the runs of a site.
type Runs struct {
	Store storage.Store
	Site  string
}

// Last returns the number of the newest run, 0 if there is none. hint is as
// storage.LastNumber takes it.
func (r Runs) Last(ctx context.Context, hint int64) (int64, error) {
	return storage.LastNumber(ctx, hint, func(ctx context.Context, n int64) (bool, error) {
		_, err := r.Store.Stat(ctx, storage.RunBegunKey(r.Site, n))
		if errors.Is(err, storage.ErrNotFound) {
			return false, nil
		}
		return err == nil, err
	})
}

// Begin takes the next number for a run.
func (r Runs) Begin(ctx context.Context, begun Begun, hint int64) (Begun, error) {
	last, err := r.Last(ctx, hint)
	if err != nil {
		return begun, err
	}
	return r.BeginAfter(ctx, begun, last)
}

// BeginAfter is Begin where the number of a run is known after which the next one is
// to be taken.
func (r Runs) BeginAfter(ctx context.Context, begun Begun, last int64) (Begun, error) {
	begun.Format, begun.When = formatOf(begun.Untrusted), begun.When.UTC().Truncate(time.Millisecond)
	// Others begin builds at the same time; whoever creates the number has it.
	for begun.Number = last + 1; ; begun.Number++ {
		data, err := canon.Marshal(begun)
		if err != nil {
			return begun, err
		}
		err = r.Store.Create(ctx, storage.RunBegunKey(r.Site, begun.Number), data)
		if !errors.Is(err, storage.ErrExists) {
			return begun, err
		}
	}
}

// End says how a run ended, unless somebody has said so
// before; then the error is storage.ErrExists.
func (r Runs) End(ctx context.Context, ended Ended) error {
	ended.Format, ended.When = Format, ended.When.UTC().Truncate(time.Millisecond)
	data, err := canon.Marshal(ended)
	if err != nil {
		return err
	}
	return r.Store.Create(ctx, storage.RunEndedKey(r.Site, ended.Number), data)
}

// Get returns a run, or storage.ErrNotFound.
func (r Runs) Get(ctx context.Context, n int64) (Run, error) {
	run := Run{}
	// Both halves at once: nearly all runs have ended, and each half is a round trip
	// to a store that may be far away.
	var data []byte
	var second error
	var group sync.WaitGroup
	group.Go(func() { data, second = r.Store.Get(ctx, storage.RunEndedKey(r.Site, n)) })
	begun, err := r.Store.Get(ctx, storage.RunBegunKey(r.Site, n))
	group.Wait()
	if err != nil {
		return run, err
	}

	if run.Begun, err = DecodeBegun(begun, n); err != nil {
		return run, err
	}
	if errors.Is(second, storage.ErrNotFound) {
		return run, nil
	}
	if second != nil {
		return run, second
	}

	ended, err := DecodeEnded(data, n)
	run.Ended = &ended
	return run, err
}

// DecodeBegun reads the first half of run n.
func DecodeBegun(data []byte, n int64) (Begun, error) {
	return decodeRun(data, n, func(b Begun) (format, want int, number int64) {
		return b.Format,
			formatOf(b.Untrusted), b.Number
	})
}

// DecodeEnded reads the second half of run n.
func DecodeEnded(data []byte, n int64) (Ended, error) {
	return decodeRun(data, n, func(e Ended) (format, want int, number int64) {
		return e.Format, Format,
			e.Number
	})
}

// decodeRun reads either half of run n. about tells the format and number that
// a record says it has, and the format that it should have: the lowest that can
// say what it says.
func decodeRun[T any](data []byte, n int64, about func(T) (format, want int, number int64)) (T, error) {
	var record T
	err := canon.Unmarshal(data, &record)
	if format, want, number := about(record); err != nil || format != want || number != n {
		return record, fmt.Errorf("%w: run %d (format %d, number %d): %w", ErrUnreadable, n, format, number,
			canon.Cause(err))
	}
	return record, nil
}

// Back returns the runs from number n down, the newest first,
// as long as want reports true and at most limit of them (0:
// any number). Runs that cannot be read are left out.
func (r Runs) Back(ctx context.Context, n int64, limit int, want func(Run) bool) ([]Run, error) {
	var found []Run
	// Read in groups, many at once, since each is a request; a few more than
	// needed may be read.
	width := int64(4 * storage.Parallel(r.Store))
	for n > 0 && (limit == 0 || len(found) < limit) {
		some, newest := make([]Run, min(width, n)), n
		group, reading := errgroup.WithContext(ctx)
		group.SetLimit(storage.Parallel(r.Store))
		for i := range some {
			group.Go(func() error {
				run, err := r.Get(reading, newest-int64(i))
				if errors.Is(err, ErrUnreadable) || errors.Is(err, storage.ErrNotFound) {
					return nil
				}
				some[i] = run
				return err
			})
		}

		if err := group.Wait(); err != nil {
			return nil, err
		}
		for _, run := range some {
			switch {
			case run.Number == 0:
			case !want(run):
				return found, nil
			case limit == 0 || len(found) < limit:
				found = append(found, run)
			}
		}
		n -= int64(len(some))
	}

	return found, nil
}

// Of returns the newest runs of a commit for an environment that one cause began,
// among the last few of the site; hint is as Last takes it.
func (r Runs) Of(ctx context.Context, commit, environment, cause string, hint int64) ([]Run, error) {
	last, err := r.Last(ctx, hint)
	if err != nil {
		return nil, err
	}
	recent, err := r.Back(ctx, last, Recent, func(Run) bool { return true })
	return slices.DeleteFunc(recent, func(run Run) bool {
		return run.Commit != commit || run.Environment != environment || run.Cause != cause
	}), err
}

// Recent is how many of the last runs are looked through for what became of a
// commit: each is two requests.
const Recent = 48

// Errors that callers decide on, by errors.Is: why
// something that was well in itself did not go live.
var (
	// ErrSuperseded: a newer commit took its place.
	ErrSuperseded = errors.New("superseded")
	// ErrCancelled: somebody ended the build.
	ErrCancelled = errors.New("cancelled")
	// ErrMachine: this machine lacks what the build needs; another one may have it.
	ErrMachine = errors.New("not on this machine")
)
