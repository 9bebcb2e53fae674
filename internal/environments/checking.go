package environments

import (
	"context"
	"errors"
	"os"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/steps"
)

// Checking is what somebody says in the store while they probe what they put live.
// Whoever finds one that is said no more knows that nobody finished.
//
//	sites/corvane/running/check-production-12.lease
type Checking struct {
	Format      int       `json:"format"`
	Environment string    `json:"environment"` // stored name
	Entry       int64     `json:"entry"`
	Attempt     string    `json:"attempt"` // of the entry
	Probes      []string  `json:"probes"`
	Who         string    `json:"who"`
	Where       string    `json:"where"`
	Process     int       `json:"process"`
	When        time.Time `json:"when"`
	Beat        int64     `json:"beat"` // changes with every renewal

	key  string
	said time.Time // by the store's clock
}

// The format of the record, which differs from that of builds, and how it is named.
const (
	checkingFormat = 2
	checkingName   = "check-"
	leaseName      = ".lease"
)

// How often a checker says that it is there, and after what time without a word it
// counts as gone.
const (
	checkBeat = 5 * time.Second
	checkGone = time.Minute
)

// Label is the entry that is checked: production:12.
func (c Checking) Label() string {
	return journal.Entry{Environment: c.Environment, Number: c.Entry}.Label()
}

// gone reports whether nobody checks any more. now is by the store's clock.
//
// A process on this machine can be asked for; of one elsewhere only its silence
// tells, by the store's clock, which both go by.
func (c Checking) gone(now time.Time) bool {
	here, err := os.Hostname()
	if err == nil && here == c.Where && c.Process > 0 {
		return !steps.Alive(c.Process)
	}
	return now.Sub(c.said) > checkGone
}

// BeginChecking says that an entry is being checked, until end is called. What the
// store does not take is no reason not to check.
func BeginChecking(ctx context.Context, store storage.Store, entry journal.Entry, probes []string,
	who string,
) (end func(ctx context.Context)) {
	here, _ := os.Hostname()
	c := Checking{Format: checkingFormat, Environment: entry.Environment, Entry: entry.Number,
		Attempt: entry.Attempt, Probes: probes, Who: who, Where: here, Process: os.Getpid(),
		When: time.Now().UTC().Truncate(time.Second)}
	name := checkingName + strings.ReplaceAll(entry.Label(), ":", "-")
	c.key = storage.RunningKey(entry.Site, strings.ReplaceAll(name, "/", ".")) + leaseName
	say := func(ctx context.Context) {
		if data, err := record.Encode(c); err == nil {
			store.Replace(ctx, c.key, data) //nolint:errcheck // see above
		}
	}

	// From now on whoever comes knows that it is being checked, or was to be.
	say(ctx)
	beating, stop := context.WithCancel(context.WithoutCancel(ctx))
	var done sync.WaitGroup
	done.Go(func() {
		ticker := time.NewTicker(checkBeat)
		defer ticker.Stop()
		for {
			select {
			case <-beating.Done():
				return
			case <-ticker.C:
				c.Beat++
				say(beating)
			}
		}
	})
	// Taken away last, after the outcome was recorded: in between both are there, and
	// the outcome counts.
	return func(ctx context.Context) {
		stop()
		done.Wait()
		store.Delete(ctx, c.key) //nolint:errcheck // others find it gone
	}
}

// Unfinished returns the checks of a site that nobody finished, whoever began them.
// now is by the store's clock.
func Unfinished(ctx context.Context, store storage.Store, site string, now time.Time) ([]Checking, error) {
	var found []Checking
	for item, err := range store.List(ctx, storage.RunningKey(site, "")) {
		if err != nil {
			return nil, err
		}
		if !strings.HasPrefix(item.Name(), checkingName) || !strings.HasSuffix(item.Key, leaseName) {
			continue
		}
		data, err := store.Get(ctx, item.Key)
		if errors.Is(err, storage.ErrNotFound) {
			continue // it has just ended
		}
		if err != nil {
			return nil, err
		}
		c := Checking{key: item.Key, said: item.Modified}
		if record.Lenient(data, &c) && c.Format == checkingFormat && len(c.Probes) > 0 && c.gone(now) {
			found = append(found, c)
		}
	}
	return found, nil
}

// Outcome is what is recorded of a check that nobody finished.
func (c Checking) Outcome() Outcome {
	return Outcome{Entry: c.Entry, Attempt: c.Attempt, When: c.said.UTC().Truncate(time.Millisecond),
		Probes: []Probe{{What: c.Probes[0], Unchecked: true,
			Text: "did not finish: the process on " + c.Where + " ended"}}}.WithFormat()
}

// Notice tells people of a check that nobody finished.
func (c Checking) Notice() fault.Notice {
	return fault.Notice{Code: "not-checked", What: c.Label() + " went live, and its check (" +
		strings.Join(c.Probes, ", ") + ") did not finish: the process on " + c.Where + " ended",
		Next: "open it, or go back: orilla rollback " + journal.DisplayName(c.Environment)}
}

// RecordUnfinished records the checks that nobody finished as what they are, and
// returns them: each is told once. What the store does not take is told again.
//
// Two who come at once record the same: an outcome is created once, and a lease that is
// gone is as good as one that was taken away.
func RecordUnfinished(ctx context.Context, store storage.Store, site string, now time.Time,
) ([]Checking, error) {
	found, err := Unfinished(ctx, store, site, now)
	if err != nil {
		return nil, err
	}
	for _, c := range found {
		if err := c.Record(ctx, store, site); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// Record records an entry as not checked, in the place of whoever did not finish.
func (c Checking) Record(ctx context.Context, store storage.Store, site string) error {
	data, err := record.Encode(c.Outcome())
	if err != nil {
		return err
	}
	// Whoever was taken for gone may have said so after all.
	err = store.Create(ctx, storage.OutcomeKey(site, c.Environment, c.Entry), data)
	if err == nil || errors.Is(err, storage.ErrExists) {
		err = store.Delete(ctx, c.key)
	}
	return err
}
