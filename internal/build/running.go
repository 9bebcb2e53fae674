package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/steps"
)

// Running is a build that goes on, as it says of itself in
// the store: whoever wants to build the same waits for it,
// and takes over when it no longer says so.
type Running struct {
	Format int `json:"format"`
	builds.Begun
	Process int    `json:"process"` // its number on the machine Where
	Now     string `json:"now"`     // what it does: "checkout", or the command of a step
	Beat    int64  `json:"beat"`    // changes with every renewal

	Said time.Time `json:"-"` // when it last said so, by the store's clock

	at string // what the keys of its announcement begin with
}

const (
	runningFormat = 1
	leaseName     = ".lease" // what is kept of one build lies side by side, under its key and these
	cancelName    = ".cancel"
	logName       = ".log."
)

// logKey is where a part of a running build's log lies. Parts are numbered from
// 0, and listed in order.
func logKey(announced string, part int) string {
	return fmt.Sprintf("%s%s%08d", announced, logName, part)
}

// Cancellation is somebody's wish that a build should end.
type Cancellation struct {
	Number int64     `json:"number"` // of the build
	Who    string    `json:"who"`
	When   time.Time `json:"when"`
}

// Gone reports whether a build is known to have ended without a word: it ran on
// this machine, where its process is no more.
func (r Running) Gone() bool {
	where, err := os.Hostname()
	return err == nil && where == r.Where && r.Process > 0 && !steps.Alive(r.Process)
}

// Lost reports whether a build seems to have ended without
// a word. now is by the store's clock.
func (r Running) Lost(now time.Time) bool {
	return r.Gone() || now.Sub(r.Said) > 2*goneAfter
}

// Bury takes a build that is gone out of the
// announcements, and says in its record what became of it.
func Bury(ctx context.Context, store storage.Store, site, at string, there Running) error {
	// How it ended is said first, by whoever comes; should its builder live
	// after all, the second word counts nothing.
	runs := builds.Runs{Store: store, Site: site}
	number, err := numberOf(ctx, runs, there)
	if err != nil {
		return err
	}
	if number > 0 {
		err := runs.End(ctx, builds.Ended{Number: number, Outcome: builds.Abandoned,
			Problem: "the process that ran it, on " + there.Where + ", ended unexpectedly", When: time.Now()})
		if err != nil && !errors.Is(err, storage.ErrExists) {
			return err
		}
	}

	var beside []string
	for item, err := range store.List(ctx, storage.RunningKey(site, "")) {
		if err != nil {
			return err
		}
		if strings.HasPrefix(item.Key, at+".") && item.Key != at+leaseName {
			beside = append(beside, item.Key)
		}
	}

	return withdraw(ctx, store, at, beside)
}

// numberOf returns the number of an announced build, 0 if it has none. A builder
// takes its number first and writes it into its lease then; of one that was
// killed in between only the record of its run tells.
func numberOf(ctx context.Context, runs builds.Runs, there Running) (int64, error) {
	if there.Number > 0 || there.Key == "" {
		return there.Number, nil
	}
	last, err := runs.Last(ctx, 0)
	if err != nil {
		return 0, err
	}

	// Runs are numbered about as they begin, so the search ends soon: clocks of
	// two machines are allowed to differ by the time that a lease lasts.
	oldest := there.When.Add(-2 * goneAfter)
	var number int64
	_, err = runs.Back(ctx, last, 0, func(run builds.Run) bool {
		if run.Key == there.Key && run.Where == there.Where &&
			run.When.Equal(there.When.Truncate(time.Millisecond)) {
			number = run.Number
		}
		return number == 0 && run.When.After(oldest)
	})
	return number, err
}

// withdraw removes an announcement and what lies beside it: the lease last, so
// that nobody begins in between.
func withdraw(ctx context.Context, store storage.Store, at string, beside []string) error {
	if len(beside) > 0 {
		if err := storage.Remove(ctx, store, beside); err != nil {
			return err
		}
	}
	return store.Delete(ctx, at+leaseName)
}

// How often a running build says that it is there, and after what time without
// a word others take it for gone.
const (
	beat      = 5 * time.Second
	goneAfter = 25 * time.Second
)

// List returns the builds of a site that go on.
//
// It reads one record for each, and none of the logs.
func List(ctx context.Context, store storage.Store, site string) ([]Running, error) {
	found, err := announced(ctx, store, site)
	return slices.DeleteFunc(found, func(one Running) bool { return one.Number == 0 }), err
}

// announced returns also those that have no number yet.
func announced(ctx context.Context, store storage.Store, site string) (found []Running, err error) {
	for item, err := range store.List(ctx, storage.RunningKey(site, "")) {
		if err != nil {
			return nil, err
		}
		at, isLease := strings.CutSuffix(item.Key, leaseName)
		if !isLease {
			continue
		}

		data, err := store.Get(ctx, item.Key)
		if errors.Is(err, storage.ErrNotFound) {
			continue // it has just ended
		}
		if err != nil {
			return nil, err
		}

		var one Running
		if record.Lenient(data, &one) && one.Format == runningFormat {
			one.at, one.Said = at, item.Modified
			found = append(found, one)
		}
	}
	return found, nil
}

// BuryLost takes builds that are known to be gone from
// this machine out of the announcements.
func BuryLost(ctx context.Context, store storage.Store, site string) error {
	running, err := announced(ctx, store, site)
	for _, one := range running {
		if one.Gone() {
			err = errors.Join(err, Bury(ctx, store, site, one.at, one))
		}
	}
	return err
}

// Cancel asks whoever runs a build to end it. It is done within seconds.
//
// It returns before the build has ended, and does not know whether anybody
// listens.
func Cancel(ctx context.Context, store storage.Store, running Running, who string) error {
	data, err := record.Encode(Cancellation{Number: running.Number, Who: who, When: time.Now().UTC().
		Truncate(time.Second)})
	if err != nil {
		return err
	}
	return store.Replace(ctx, running.at+cancelName, data)
}

// LiveLog returns the parts of a running build's log from part n on.
func LiveLog(ctx context.Context, store storage.Store, running Running, n int,
) (text []byte, next int, err error) {
	for {
		data, err := store.Get(ctx, logKey(running.at, n))
		if errors.Is(err, storage.ErrNotFound) {
			return text, n, nil
		}
		if err != nil {
			return text, n, err
		}
		text, n = append(text, data...), n+1
	}
}

// Cancelled is why a build that somebody ended did not succeed.
func Cancelled(what string) error {
	return fault.New(fault.Refused, "cancelled", "the build was %s", what).Marked(builds.ErrCancelled)
}

// Superseded is why a build of a commit that is no longer
// wanted did not succeed.
func Superseded(by string) error {
	return fault.New(fault.Refused, "superseded", "the build was ended: %s is newer", by).
		Marked(builds.ErrSuperseded)
}
