package pipeline

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"orilla.example/orilla/internal/builder"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
)

// watched is a run's announcement. A nil one does nothing.
type watched struct {
	store storage.Store
	at    string // the beginning of the keys of the announcement
	end   context.CancelCauseFunc
	stop  context.CancelFunc
	done  sync.WaitGroup

	mutex   sync.Mutex
	said    Running
	log     *builder.Log
	changed bool

	// Of the goroutine that renews the announcement.
	offset int64
	parts  int
	wished bool // somebody has left a wish to end
}

// errElsewhere: another builder made the release meanwhile.
var errElsewhere = errors.New("built elsewhere meanwhile")

// announce tells the store what is being built, and takes the run's number. If somebody builds the same, it waits until that has
// ended: then the error is errElsewhere, or, if it did not succeed or is gone, the build begins here. The context ends when
// somebody cancels the build.
func (r *Run) announce(ctx context.Context) (context.Context, error) {
	key := r.id()
	if r.Plan.Origin.Source == journal.FromCommit {
		var err error
		if key, err = r.Plan.Inputs.Key(); err != nil {
			return ctx, err
		}
	}
	w := &watched{store: r.Store, at: storage.RunningKey(r.Plan.Site, key)}
	if r.Rebuild {
		w.at += "." + r.id()
	}
	where, _ := os.Hostname()
	origin := r.Plan.Origin
	begun := builds.Begun{Key: key, Source: origin.Source, Commit: origin.Commit, Branch: origin.Branch, Subject: origin.Subject,
		Environment: r.Plan.Environment, Cause: r.Cause, Who: r.Plan.Project.Person(ctx), Where: where, When: r.Now(), Untrusted: r.untrusted}
	if r.Plan.Commit != nil {
		begun.Author = r.Plan.Commit.Author
	}
	w.said = Running{Format: runningFormat, Begun: begun, Process: os.Getpid()}
	for {
		data, err := record.Encode(w.said)
		if err != nil {
			return ctx, err
		}
		err = r.Store.Create(ctx, w.at+leaseName, data)
		if err == nil {
			break
		}
		if !errors.Is(err, storage.ErrExists) {
			return ctx, err
		}
		if err := r.waitFor(ctx, w.at); err != nil {
			return ctx, err
		}
	}
	runs := builds.Runs{Store: r.Store, Site: r.Plan.Site}
	number, err := runs.Begin(ctx, begun, r.hints[journal.RunsHint])
	if err != nil {
		r.Store.Delete(context.WithoutCancel(ctx), w.at+leaseName) //nolint:errcheck // others find it gone
		return ctx, err
	}
	if r.hints != nil {
		r.hints[journal.RunsHint] = number.Number
	}
	r.begun, w.said.Begun = &number, number
	if data, err := record.Encode(w.said); err == nil {
		r.Store.Replace(ctx, w.at+leaseName, data) //nolint:errcheck // it is said again soon
	}
	ctx, w.end = context.WithCancelCause(ctx)
	beating, stop := context.WithCancel(context.WithoutCancel(ctx))
	w.stop = stop
	r.watched = w
	r.loadEarlier()
	w.done.Go(func() { w.beat(beating) })
	return ctx, nil
}

// waitFor waits until nobody builds what an announcement is about.
func (r *Run) waitFor(ctx context.Context, at string) error {
	every := 200 * time.Millisecond
	if _, far := r.Store.(storage.Remote); far {
		every = 2 * time.Second
	}
	var last []byte
	began := time.Now()
	changed := began
	for said := false; ; {
		data, err := r.Store.Get(ctx, at+leaseName)
		if errors.Is(err, storage.ErrNotFound) {
			r.result.Timings = append(r.result.Timings, Timing{"wait", "", time.Since(began)})
			return errElsewhere
		}
		if err != nil {
			return err
		}
		if !bytes.Equal(data, last) {
			last, changed = data, time.Now()
		}
		var there Running
		if !record.Lenient(data, &there) || there.gone() || time.Since(changed) > goneAfter {
			return Bury(ctx, r.Store, r.Plan.Site, at, there)
		}
		if !said && there.Number > 0 {
			said = true
			r.Report.Notice(fault.Notice{Code: "built-elsewhere", What: "the same is being built already, by " + there.Who + " on " + there.Where + ", as " + there.Label() + "; waiting for it",
				Next: "orilla log " + there.Label()})
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(every):
		}
	}
}

// beat renews the announcement, hands on the log, and looks whether somebody wants the build to end.
func (w *watched) beat(ctx context.Context) {
	every := time.Second
	if _, far := w.store.(storage.Remote); far {
		every = 3 * time.Second
	}
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for renewed := time.Now(); ; {
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
		w.mutex.Lock()
		due := w.changed || time.Since(renewed) > beat
		w.changed = false
		w.said.Beat++
		said := w.said
		w.mutex.Unlock()
		if due {
			renewed = time.Now()
			if data, err := record.Encode(said); err == nil {
				w.store.Replace(ctx, w.at+leaseName, data) //nolint:errcheck // the next one may arrive
			}
		}
		w.handOn(ctx)
		if data, err := w.store.Get(ctx, w.at+cancelName); err == nil {
			w.wished = true
			var wish Cancellation
			if record.Lenient(data, &wish) && wish.Number == said.Number { // not one that came too late for an earlier build
				w.end(Cancelled("cancelled by " + wish.Who))
			}
		}
	}
}

// liveLog is how much of a log others can follow while a build runs; the record has all of it.
const liveLog = 16 << 20

// handOn puts what the log has got since the last time.
func (w *watched) handOn(ctx context.Context) {
	w.mutex.Lock()
	log := w.log
	w.mutex.Unlock()
	if log == nil || w.offset >= liveLog {
		return
	}
	buffer := make([]byte, 1<<20)
	n, err := log.ReadAt(buffer, w.offset)
	if n == 0 || err != nil && !errors.Is(err, io.EOF) {
		return
	}
	if w.store.Create(ctx, logKey(w.at, w.parts), buffer[:n]) == nil {
		w.offset, w.parts = w.offset+int64(n), w.parts+1
	}
}

// follow hands on a log from now on; nil for none.
func (w *watched) follow(log *builder.Log) {
	if w == nil {
		return
	}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.log = log
}

// phase says what goes on.
func (w *watched) phase(what string) {
	if w == nil {
		return
	}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.said.Now, w.changed = what, true
}

// ended takes the announcement away.
func (w *watched) ended(ctx context.Context) {
	w.stop()
	w.done.Wait()
	w.end(nil)
	var beside []string
	for part := range w.parts {
		beside = append(beside, logKey(w.at, part))
	}
	if w.wished {
		beside = append(beside, w.at+cancelName)
	}
	withdraw(ctx, w.store, w.at, beside) //nolint:errcheck // others find it gone
}

// finish says in the store how the run ended.
func (r *Run) finish(ctx context.Context, err error) {
	if r.begun == nil {
		return
	}
	ctx = context.WithoutCancel(ctx)
	ended := builds.Ended{Number: r.begun.Number, Outcome: builds.Succeeded, Build: r.result.Build.Name(), Release: r.result.Release, Log: r.result.Log,
		Files: r.result.Files, Size: r.result.Bytes, Sent: r.result.NewBytes, When: r.Now()}
	if r.result.Release.IsZero() {
		ended.Build = ""
	}
	if r.result.Entry != nil {
		ended.Entry = r.result.Entry.Number
	}
	for _, timing := range r.result.Timings {
		ended.Phases = append(ended.Phases, builds.Phase{Name: timing.Phase, What: stepOf(timing), Milliseconds: timing.Took.Milliseconds()})
	}
	switch {
	case r.result.Waits != nil: // it is made, and what it waits for is no fault of its own
		ended.Problem = "waited: " + journal.DisplayName(r.Plan.Environment) + " was frozen"
	case err != nil && !errors.Is(err, ErrSame):
		ended.Outcome, ended.Problem = outcome(err), problemLine(err)
	}
	runs := builds.Runs{Store: r.Store, Site: r.Plan.Site}
	runs.End(ctx, ended) //nolint:errcheck // who finds no end says that it was abandoned
	if r.watched != nil {
		r.watched.ended(ctx)
	}
	r.ended, r.begun, r.watched = &ended, nil, nil
	if err == nil {
		r.saveEarlier(ended.Phases)
	}
}

// earlierFile is where the phases of the last build of the plan's branch are remembered, to compare the next one with.
func (r *Run) earlierFile() string {
	return filepath.Join(r.Plan.Project.Places.Cache, "phases", r.Plan.Site+"-"+digest.Short(r.Plan.Origin.Branch, r.Plan.Inputs.Folder))
}

func (r *Run) loadEarlier() {
	if data, err := os.ReadFile(r.earlierFile()); err == nil {
		json.Unmarshal(data, &r.result.Earlier) //nolint:errcheck // then nothing is compared
	}
}

func (r *Run) saveEarlier(phases []builds.Phase) {
	data, err := json.Marshal(phases)
	if err == nil && os.MkdirAll(filepath.Dir(r.earlierFile()), 0o700) == nil {
		os.WriteFile(r.earlierFile(), data, 0o600) //nolint:errcheck // then the next build is compared with an older one
	}
}

func stepOf(t Timing) string {
	if t.Phase == "step" || t.Phase == "prepare" {
		return t.What
	}
	return ""
}

func outcome(err error) builds.Outcome {
	switch {
	case fault.Code(err) == "superseded":
		return builds.Superseded
	case fault.Code(err) == "cancelled", errors.Is(err, context.Canceled):
		return builds.Cancelled
	}
	return builds.Failed
}

func problemLine(err error) string {
	if errors.Is(err, context.Canceled) {
		return "interrupted"
	}
	if problem, ok := errors.AsType[*fault.Error](err); ok {
		if problem.Where != "" && problem.Kind == fault.BuildFailed {
			return problem.What + ": " + problem.Where
		}
		return problem.What
	}
	return err.Error()
}
