package build

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/steps"
)

// ElsewhereError is the error of a build that was not begun, since another builder has
// ended one of the same meanwhile.
type ElsewhereError struct{ Number int64 } // of that build; 0 if it had none yet

// Error implements error.
func (e *ElsewhereError) Error() string { return fmt.Sprintf("build:%d was the same", e.Number) }

// announcement says in the store, for as long as a build goes on, what it does:
// a lease that is renewed, and the log so far.
//
// One goroutine renews it. What the build tells it
// meanwhile is under the mutex.
type announcement struct {
	store storage.Store
	at    string                  // what the keys of the announcement begin with
	end   context.CancelCauseFunc // ends the build
	stop  context.CancelFunc      // ends the goroutine
	done  sync.WaitGroup

	mutex   sync.Mutex
	said    Running
	log     *steps.Log // that is handed on; nil for none
	changed bool       // said is to be written soon

	// Of the goroutine.
	sent struct {
		offset    int64 // in the log
		parts     int   // of the log, in the store
		cancelled bool  // somebody has left a wish to end
	}
}

// announce tells the store what is being built, and takes a number; see Begin.
func (b *Build) announce(ctx context.Context) (context.Context, error) {
	begun, err := b.describe(ctx)
	if err != nil {
		return nil, err
	}
	a := &announcement{store: b.Store, at: storage.RunningKey(b.Plan.Site, begun.Key)}
	if b.Rebuild {
		a.at += "." + b.id // beside one of the same
	}

	a.said = Running{Format: runningFormat, Begun: begun, Process: os.Getpid()}
	runs := builds.Runs{Store: b.Store, Site: b.Plan.Site}
	// Nothing depends on the order of these two; a store far away answers both in the
	// time of one.
	// Which number is next is found out while the lease is written.
	var last int64
	var unknown error
	var looking sync.WaitGroup
	looking.Go(func() { last, unknown = runs.Last(ctx, b.Hints[journal.RunsHint]) })
	err = b.lease(ctx, a)
	if looking.Wait(); err != nil {
		return nil, err
	}

	b.begun = begun
	if err = unknown; err == nil {
		b.begun, err = runs.BeginAfter(ctx, begun, last)
	}
	if err != nil {
		b.Store.Delete(context.WithoutCancel(ctx), a.at+leaseName) //nolint:errcheck // others find it gone
		return nil, err
	}

	if b.Hints != nil {
		b.Hints[journal.RunsHint] = b.begun.Number
	}
	a.said.Begun = b.begun

	building, end := context.WithCancelCause(ctx)
	beating, stop := context.WithCancel(context.WithoutCancel(ctx))
	a.end, a.stop = end, stop
	a.done.Go(func() { a.renew(beating) })
	b.announced, b.Phases.tell = a, a.now
	return building, nil
}

// describe returns the record with which a build begins. A build that is not
// made from a commit gets a key of its own, because nobody else can know that
// theirs is the same.
func (b *Build) describe(ctx context.Context) (builds.Begun, error) {
	key := b.id
	if b.Plan.Origin.Source == journal.FromCommit {
		var err error
		if key, err = b.Plan.Inputs.Key(); err != nil {
			return builds.Begun{}, err
		}
	}

	where, _ := os.Hostname()
	origin := b.Plan.Origin
	begun := builds.Begun{
		Key: key, Source: origin.Source, Commit: origin.Commit, Branch: origin.Branch,
		Subject:     origin.Subject,
		Environment: b.Plan.Environment, Cause: b.Cause, Who: b.Plan.Project.Person(ctx), Where: where,
		When:      b.Now(),
		Untrusted: b.isolation.untrusted,
	}

	if b.Plan.Commit != nil {
		begun.Author = b.Plan.Commit.Author
	}
	return begun, nil
}

// lease writes the announcement where nobody has one, and
// waits for whoever has.
func (b *Build) lease(ctx context.Context, a *announcement) error {
	data, err := record.Encode(a.said)
	if err != nil {
		return err
	}
	for {
		err := b.Store.Create(ctx, a.at+leaseName, data)
		if !errors.Is(err, storage.ErrExists) {
			return err
		}
		if err := b.waitElsewhere(ctx, a.at); err != nil {
			return err
		}
	}
}

// waitElsewhere waits until nobody builds what an
// announcement is about: the error is ElsewhereError once that
// build has ended, and nil once it is gone without a word.
func (b *Build) waitElsewhere(ctx context.Context, at string) error {
	every := 200 * time.Millisecond
	if _, far := b.Store.(storage.Remote); far {
		every = 2 * time.Second
	}
	var last []byte
	var there Running
	began := time.Now()
	changed := began // by this machine's clock: a lease counts for as long as it changes
	for told := false; ; {
		data, err := b.Store.Get(ctx, at+leaseName)
		if errors.Is(err, storage.ErrNotFound) {
			b.Phases.Add("wait", "", time.Since(began))
			return &ElsewhereError{there.Number}
		}
		if err != nil {
			return err
		}

		if !bytes.Equal(data, last) {
			last, changed = data, time.Now()
		}
		if !record.Lenient(data, &there) || there.Gone() || time.Since(changed) > goneAfter {
			return Bury(ctx, b.Store, b.Plan.Site, at, there)
		}

		if !told && there.Number > 0 {
			told = true
			b.Report.Notice(fault.Notice{
				Code: "built-elsewhere", What: "already being built by " + there.Who + " on " +
					there.Where +
					", as " + there.Label() + "; waiting for it",
				Next: "orilla log " + there.Label(),
			})
		}

		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(every):
		}
	}
}

// How often the announcement is looked at. A store elsewhere is asked less
// often: each look is a request.
const (
	lookNear = time.Second
	lookFar  = 3 * time.Second
)

// renew writes the announcement anew when it is due, hands on the log, and
// checks whether somebody wants the build to end.
func (a *announcement) renew(ctx context.Context) {
	every := lookNear
	if _, far := a.store.(storage.Remote); far {
		every = lookFar
	}
	// The number first, by which others find the build.
	a.mutex.Lock()
	said := a.said
	a.mutex.Unlock()
	a.write(ctx, said)
	ticker := time.NewTicker(every)
	defer ticker.Stop()

	for renewed := time.Now(); ; {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}

		a.mutex.Lock()
		due := a.changed || time.Since(renewed) > beat
		a.changed = false
		a.said.Beat++
		said := a.said
		a.mutex.Unlock()
		if due {
			renewed = time.Now()
			a.write(ctx, said)
		}
		a.handOn(ctx)
		a.heedCancellation(ctx, said.Number)
	}
}

// write renews the lease. One that does not arrive is followed by others.
func (a *announcement) write(ctx context.Context, said Running) {
	if data, err := record.Encode(said); err == nil {
		a.store.Replace(ctx, a.at+leaseName, data) //nolint:errcheck // see above
	}
}

// heedCancellation ends the build if somebody asked for that.
func (a *announcement) heedCancellation(ctx context.Context, number int64) {
	data, err := a.store.Get(ctx, a.at+cancelName)
	if err != nil {
		return
	}
	a.sent.cancelled = true
	var wish Cancellation
	// not one that came too late for an earlier build
	if record.Lenient(data, &wish) && wish.Number == number {
		a.end(Cancelled("cancelled by " + wish.Who))
	}
}

// liveLog is how many bytes of a log others can follow
// while a build runs; the record has all of it.
const liveLog = 16 << 20

// handOn puts what the log has got since the last time.
func (a *announcement) handOn(ctx context.Context) {
	a.mutex.Lock()
	log := a.log
	a.mutex.Unlock()
	if log == nil || a.sent.offset >= liveLog {
		return
	}

	buffer := make([]byte, 1<<20)
	n, err := log.ReadAt(buffer, a.sent.offset)
	if n == 0 || err != nil && !errors.Is(err, io.EOF) {
		return
	}

	if a.store.Create(ctx, logKey(a.at, a.sent.parts), buffer[:n]) == nil {
		a.sent.offset, a.sent.parts = a.sent.offset+int64(n), a.sent.parts+1
	}
}

// follow hands on a log from now on; nil for none.
func (a *announcement) follow(log *steps.Log) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.log = log
}

// now says what goes on: a phase, or the command of a step.
func (a *announcement) now(what string) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.said.Now, a.changed = what, true
}

// withdraw takes the announcement away, once nothing renews it.
func (a *announcement) withdraw(ctx context.Context) {
	a.stop()
	a.done.Wait()
	a.end(nil)
	var beside []string
	for part := range a.sent.parts {
		beside = append(beside, logKey(a.at, part))
	}

	if a.sent.cancelled {
		beside = append(beside, a.at+cancelName)
	}
	withdraw(ctx, a.store, a.at, beside) //nolint:errcheck // others find it gone
}
