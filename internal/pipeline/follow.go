package pipeline

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/follow"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/source"
)

// Event is something that following a repository led to. Kinds: "builds" (it begins), "nothing" (and why), "waits" (for a thaw or a
// resume, and why), "ended" (a preview, and why), "superseded", "live", "unchanged" (it is live already), "failed", "cancelled", "trouble" (it is tried again).
type Event struct {
	Kind        string        `json:"kind"`
	When        time.Time     `json:"when"`
	Ref         string        `json:"ref,omitempty"`
	Branch      string        `json:"branch,omitempty"` // its name for people
	Commit      string        `json:"commit,omitempty"`
	Subject     string        `json:"subject,omitempty"`
	Environment string        `json:"environment,omitempty"` // as people write it
	Why         string        `json:"why,omitempty"`
	Build       int64         `json:"build,omitempty"` // its number, if anything was built
	Reused      bool          `json:"reused,omitempty"`
	Release     string        `json:"release,omitempty"`
	Entry       string        `json:"entry,omitempty"`
	Address     string        `json:"address,omitempty"`
	Took        time.Duration `json:"-"`
	Error       error         `json:"-"`

	Findings finding.List   `json:"findings,omitempty"` // in what changes
	Head     *journal.Entry `json:"-"`
}

// Follower watches a repository and brings every new commit of what is followed to where it belongs.
type Follower struct {
	Project *Project
	Mirror  *source.Mirror // what it fetches into; nil to follow the project's own repository
	Store   storage.Store
	Only    *source.Ref // follow this one commit; nil for everything
	Once    bool        // end when nothing is left to do
	Wake    <-chan struct{}
	Every   time.Duration // how often the repository is asked
	Builds  int           // how many at once; 0: as the configuration says
	Tell    func(Event)   // called from one goroutine at a time
	NewRun  func(*Plan) *Run
	WaitFor []string // what is looked at after each activation; nil: as the configuration says

	queue    follow.Queue
	state    followed
	fresh    bool // nothing was followed here before
	held     map[string]waitingFor
	pushed   map[string]string // the commit of each ref that is in the queue or being built
	last     string            // what the refs were
	cancel   map[string]context.CancelCauseFunc
	told     sync.Mutex
	id       string
	failures map[string]failing // of commits that are to be tried again, by ref
	pace     follow.Pace        // of changes from outside
	looked   string             // what the store said when commits that wait were last looked at, and when
	lookedAt time.Time
	who      string
	since    time.Time
	said     string // in the store, and when
	saidAt   time.Time
	worst    fault.Kind
	fetched  time.Time         // when the mirror was
	wrong    string            // what is wrong with the production branch's configuration
	waited   map[string]string // the commit of each ref that was built and waits for a thaw
	landed   [][2]string       // what the production branch was before, and is now
	deleted  []string          // refs whose previews are to end
	swept    time.Time         // when previews were last looked at for their expiry
	Counts   Counts
	machine  *Machine
}

// waitingFor is a commit that waits for something else than its turn.
type waitingFor struct{ commit, why string }

// failing is a commit that could not be built for reasons that may pass.
type failing struct {
	commit string
	times  int
	until  time.Time // when it is tried again
}

// Counts is what became of commits.
type Counts struct {
	Built      int `json:"built"`
	Reused     int `json:"reused"`
	Superseded int `json:"superseded"`
	Failed     int `json:"failed"`
	Nothing    int `json:"nothing"`
	Waiting    int `json:"waiting"`
}

// followed is what a follower keeps between its lives: the commit of each ref that it has dealt with.
type followed struct {
	Format int               `json:"format"`
	Seen   map[string]string `json:"seen"`
}

// finishedJob is how one build ended.
type finishedJob struct {
	job   follow.Job
	event Event
	retry bool
	held  bool
	waits bool // it is built, and waits for a thaw
}

func (f *Follower) stateFile() string {
	name := f.Project.Site() + "-" + digest.Short(f.repository().Dir, f.Project.Prefix, f.Store.Address())
	return filepath.Join(f.Project.Places.Data, "follow", name+".json")
}

func (f *Follower) repository() *source.Repository {
	if f.Mirror != nil {
		return f.Mirror.Repository
	}
	return f.Project.Repository
}

// LockFile is what a follower holds, so that there is one for each repository and store on a machine.
func (f *Follower) LockFile() string { return f.stateFile() + ".lock" }

// youngBranch is how old a branch without a preview may be to get one when a repository is followed for the first time.
const youngBranch = 7 * 24 * time.Hour

// Run follows until the context ends or, with Once, nothing is left to do. The error says why it cannot go on; with Once it is the
// worst that happened to a commit.
func (f *Follower) Run(ctx context.Context) error {
	f.load()
	f.machine = NewMachine(f.Project.Places.Cache)
	f.held, f.pushed, f.waited = map[string]waitingFor{}, map[string]string{}, map[string]string{}
	f.failures = map[string]failing{}
	f.cancel, f.id = map[string]context.CancelCauseFunc{}, strings.ToLower(rand.Text())
	ended := make(chan finishedJob)
	var building sync.WaitGroup
	defer building.Wait()
	defer f.announce(ctx, true)
	if err := BuryLost(ctx, f.Store, f.Project.Site()); err != nil {
		f.tell(Event{Kind: "trouble", Error: StoreTrouble(f.Store, err)})
	}
	f.forget(ctx)
	if p := f.Project; p.ProductionConfig.Build.Isolation != project.IsolateOff && !(p.ProductionConfig.TrustsAll() && len(p.ProductionConfig.Previews.Refs) == 0) {
		f.machine.Means(ctx) // it takes a moment, in which a build would miss that another one made the same
	}
	if err := f.learn(ctx); err != nil {
		return StoreTrouble(f.Store, err)
	}
	pause, wait := time.Duration(0), time.NewTimer(0)
	for {
		woken := false
		select {
		case <-ctx.Done():
			for len(f.cancel) > 0 {
				delete(f.cancel, (<-ended).job.Ref)
			}
			return ctx.Err()
		case <-f.Wake:
			woken = true
		case <-wait.C:
		case done := <-ended:
			f.settle(ctx, done)
		}
		if err := f.look(ctx, woken); err != nil {
			if ctx.Err() != nil {
				continue
			}
			if f.Once {
				return err
			}
			f.tell(Event{Kind: "trouble", Error: err})
			pause = min(max(2*pause, 5*time.Second), 5*time.Minute)
		} else {
			pause = 0
		}
		if err := f.endPreviews(ctx); err != nil && ctx.Err() == nil {
			f.tell(Event{Kind: "trouble", Error: err})
		}
		f.Counts.Waiting = len(f.held)
		f.begin(ctx, &building, ended)
		f.announce(ctx, false)
		if f.Once && f.queue.Idle() {
			return f.verdict()
		}
		next := f.Every
		if len(f.held) > 0 {
			next = min(next, 3*time.Second)
		}
		wait.Reset(cmp.Or(pause, next))
	}
}

// verdict is the error of following once.
func (f *Follower) verdict() error {
	if f.worst == 0 {
		return nil
	}
	return fault.New(f.worst, "commits-failed", "not every commit could be brought live").Then("what went wrong is said above; orilla builds lists it, orilla log shows it")
}

// look asks the repository what is new. A mirror is brought up to date when somebody says so or it is time to.
func (f *Follower) look(ctx context.Context, woken bool) error {
	if f.Mirror != nil && (woken || time.Since(f.fetched) >= f.Every) {
		f.fetched = time.Now()
		if err := f.Mirror.Fetch(ctx, f.Project.ProductionConfig.Previews.Refs); err != nil {
			f.fetched = time.Time{}
			return fault.New(fault.Failed, "fetch-failed", "the repository cannot be fetched").At("%s", f.Mirror.From).Because(err).
				Then("git ls-remote %s, as the user who runs this, tells whether it can be reached", f.Mirror.From)
		}
	}
	refs, err := f.refs(ctx)
	if err != nil {
		return err
	}
	now := fmt.Sprint(refs)
	if now == f.last && (len(f.held) == 0 || !f.due() && !f.moved(ctx)) {
		return nil
	}
	if now != f.last {
		if err := f.standing(ctx); err != nil {
			return err
		}
		f.last = now
	}
	there := map[string]bool{}
	for _, ref := range refs {
		there[ref.Name] = true
		if f.state.Seen[ref.Name] == ref.Commit || f.pushed[ref.Name] == ref.Commit {
			continue
		}
		if failed := f.failures[ref.Name]; failed.commit == ref.Commit && f.now().Before(failed.until) {
			continue
		}
		if err := f.decide(ctx, ref); err != nil {
			return err
		}
	}
	for _, ref := range slices.Concat(slices.Collect(maps.Keys(f.state.Seen)), slices.Collect(maps.Keys(f.pushed)), slices.Collect(maps.Keys(f.held))) {
		if !there[ref] {
			f.drop(ref)
		}
	}
	f.fresh = false
	f.save()
	return nil
}

// due reports whether it is time to try something again, or to build what had to wait for its pace.
func (f *Follower) due() bool {
	for _, one := range f.failures {
		if !one.until.IsZero() && !f.now().Before(one.until) {
			return true
		}
	}
	return false
}

// drop forgets a ref that is no more.
func (f *Follower) drop(ref string) {
	delete(f.failures, ref)
	delete(f.state.Seen, ref)
	delete(f.held, ref)
	delete(f.pushed, ref)
	delete(f.waited, ref)
	f.deleted = append(f.deleted, ref)
	f.queue.Drop(ref)
	if cancel := f.cancel[ref]; cancel != nil {
		cancel(Cancelled("ended: its branch was deleted"))
	}
}

// standing reads again what only the production branch says. If that has become wrong, it is told once, and what it said before
// counts.
func (f *Follower) standing(ctx context.Context) error {
	err := f.Project.loadProduction(ctx)
	if fault.KindOf(err) != fault.Usage || ctx.Err() != nil {
		f.wrong = ""
		return err
	}
	if f.wrong != err.Error() {
		f.wrong = err.Error()
		f.tell(Event{Kind: "trouble", Error: err})
	}
	return nil
}

// moved reports whether anything in the store has changed that a commit could wait for, as far as hints tell; a while after it was
// last asked, it is taken to have.
func (f *Follower) moved(ctx context.Context) bool {
	pulse, _ := f.Store.Get(ctx, storage.PulseKey(f.Project.Site()))
	paused, _ := f.Store.Get(ctx, storage.PausedKey(f.Project.Site()))
	now := string(pulse) + string(paused)
	if now == f.looked && time.Since(f.lookedAt) < time.Minute {
		return false
	}
	f.looked, f.lookedAt = now, time.Now()
	return true
}

func (f *Follower) refs(ctx context.Context) ([]source.Ref, error) {
	if f.Only != nil {
		return []source.Ref{*f.Only}, nil
	}
	prefixes := []string{"refs/heads/"}
	for _, pattern := range f.Project.ProductionConfig.Previews.Refs {
		before, _, _ := strings.Cut(strings.TrimPrefix(pattern, "!"), "*")
		prefixes = append(prefixes, before[:strings.LastIndexByte(before, '/')+1])
	}
	return f.repository().Refs(ctx, prefixes...)
}

// decide says what becomes of a ref's new commit.
func (f *Follower) decide(ctx context.Context, ref source.Ref) error {
	repository := f.repository()
	before := cmp.Or(f.pushed[ref.Name], f.state.Seen[ref.Name])
	if before == "" && !f.fresh { // of a new branch, what production does not have
		before = f.state.Seen["refs/heads/"+f.Project.ProductionConfig.MainBranch(f.Project.Main)]
	}
	commits, count, err := repository.Since(ctx, ref.Commit, before, 20)
	if err != nil {
		return err
	}
	if len(commits) == 0 { // it went back
		commit, err := repository.Commit(ctx, ref.Commit)
		if err != nil {
			return err
		}
		commits, count = []source.Commit{commit}, 1
	}
	commit := commits[0]
	event := Event{Ref: ref.Name, Branch: name(ref), Commit: commit.Hash, Subject: commit.Subject}
	environment := f.Project.target(ref)
	event.Environment = journal.DisplayName(environment)
	head, err := f.head(ctx, environment)
	if err != nil {
		return StoreTrouble(f.Store, err)
	}
	why, err := f.leftAlone(ctx, ref, commit, environment, head)
	if err != nil {
		return err
	}
	if why != "" {
		f.seen(ref.Name, ref.Commit)
		f.queue.Drop(ref.Name)
		delete(f.pushed, ref.Name)
		f.Counts.Nothing++
		event.Kind, event.Why = "nothing", why
		f.tell(event)
		return nil
	}
	waits, err := f.waitsFor(ctx, ref, environment, head)
	if err != nil {
		return StoreTrouble(f.Store, err)
	}
	if waits != "" {
		f.hold(ref, event, waits)
		return nil
	}
	if _, isBranch := ref.Branch(); !isBranch {
		if next, why := f.pace.Next(ref.Name, f.now()); !next.IsZero() {
			f.failures[ref.Name] = failing{ref.Commit, f.failures[ref.Name].times, next}
			f.hold(ref, event, why+"; again at "+next.Local().Format("15:04"))
			return nil
		}
		f.pace.Begin(ref.Name, f.now())
	}
	if failed, there := f.failures[ref.Name]; there {
		failed.until = time.Time{}
		f.failures[ref.Name] = failed
	}
	delete(f.held, ref.Name)
	f.push(ref, environment, commits[1:], count)
	return nil
}

// hold lets a ref's commit wait, and says so once.
func (f *Follower) hold(ref source.Ref, event Event, why string) {
	if now := (waitingFor{ref.Commit, why}); f.held[ref.Name] != now {
		f.held[ref.Name] = now
		event.Kind, event.Why = "waits", why
		f.tell(event)
	}
}

// leftAlone returns why nothing becomes of a ref's commit; "" if something does. head is what its environment serves, nil for nothing.
func (f *Follower) leftAlone(ctx context.Context, ref source.Ref, commit source.Commit, environment string, head *journal.Entry) (string, error) {
	if environment == "" {
		return "no environment follows it, and previews leave it out", nil
	}
	if f.fresh && f.Only == nil && strings.HasPrefix(environment, journal.PreviewPrefix) && f.now().Sub(ref.When) > youngBranch {
		return "it was there before this repository was followed, and is older than a week; orilla deploy " + name(ref) + " makes its preview", nil
	}
	message, err := f.repository().Message(ctx, commit.Hash)
	if err != nil {
		return "", err
	}
	if words := follow.Skips(message); words != "" {
		return "the commit asks for it: " + words, nil
	}
	if head == nil || head.Release.IsZero() {
		return "", nil
	}
	if head.Commit == commit.Hash {
		return "it is live already, as " + head.Label(), nil
	}
	j := JournalOf(f.Store, f.Project.Site(), environment, f.now)
	if rollback, was, found := j.LeftBy(ctx, *head, func(e journal.Entry) bool { return e.Commit == commit.Hash }); found {
		return "it was live as " + was.Label() + ", until " + source.PersonName(rollback.Who) + " rolled it back; orilla deploy " + source.Short(commit.Hash) + " puts it live again", nil
	}
	same, err := f.Project.sameSite(ctx, head.Commit, commit.Hash)
	if same && head.Kind != journal.Rollback {
		return "nothing that the site depends on differs from what is live, " + source.Short(head.Commit), err
	}
	return "", err
}

// waitsFor returns what a commit for an environment has to wait for besides its turn; "" for nothing. A freeze does not keep it from being
// built, only from going live then.
func (f *Follower) waitsFor(ctx context.Context, ref source.Ref, environment string, head *journal.Entry) (string, error) {
	if head != nil && head.Frozen.At(f.now()) && f.waited[ref.Name] == ref.Commit {
		name := journal.DisplayName(environment)
		return "it is built; " + name + " is frozen by " + source.PersonName(head.Frozen.Who) + because(head.Frozen.Why) + "; orilla thaw " + name, nil
	}
	pause, err := ReadPause(ctx, f.Store, f.Project.Site())
	if pause == nil || err != nil {
		return "", err
	}
	return "automatic builds are paused by " + source.PersonName(pause.Who) + because(pause.Why) + "; orilla follow --resume", nil
}

func because(why string) string {
	if why == "" {
		return ""
	}
	return " (" + why + ")"
}

// push puts a commit into the queue, and says which older ones give way.
func (f *Follower) push(ref source.Ref, environment string, older []source.Commit, count int) {
	rank := 1
	switch {
	case environment == project.Production:
		rank = 0
	case strings.HasPrefix(environment, journal.PreviewPrefix):
		rank = 2
	}
	superseded, running := f.queue.Push(follow.Job{Ref: ref.Name, Commit: ref.Commit, Rank: rank})
	gone := Event{Kind: "superseded", Ref: ref.Name, Branch: name(ref), Environment: journal.DisplayName(environment), Why: "by " + source.Short(ref.Commit)}
	if superseded != nil && superseded.Commit != ref.Commit {
		f.Counts.Superseded++
		gone.Commit = superseded.Commit
		f.tell(gone)
	}
	for _, commit := range older {
		f.Counts.Superseded++
		gone.Commit, gone.Subject = commit.Hash, commit.Subject
		f.tell(gone)
	}
	if more := count - 1 - len(older); more > 0 {
		f.Counts.Superseded += more
		gone.Commit, gone.Subject, gone.Why = "", "", fmt.Sprintf("%d more commits, by %s", more, source.Short(ref.Commit))
		f.tell(gone)
	}
	if running != nil && f.Project.ProductionConfig.Follow.Superseded == project.Cancel {
		if cancel := f.cancel[ref.Name]; cancel != nil {
			cancel(Superseded(source.Short(ref.Commit)))
		}
	}
	f.pushed[ref.Name] = ref.Commit
}

// begin starts what may start.
func (f *Follower) begin(ctx context.Context, building *sync.WaitGroup, ended chan<- finishedJob) {
	f.queue.Parallel = cmp.Or(f.Builds, int(f.Project.ProductionConfig.Follow.Parallel))
	for ctx.Err() == nil {
		job, ok := f.queue.Next()
		if !ok {
			return
		}
		one, cancel := context.WithCancelCause(ctx)
		f.cancel[job.Ref] = cancel
		p := *f.Project // the follower's own changes with the production branch
		building.Go(func() {
			done := f.carryOut(one, &p, job)
			cancel(nil)
			ended <- done
		})
	}
}

// carryOut builds a commit, or finds that it was built, and puts it live.
func (f *Follower) carryOut(ctx context.Context, p *Project, job follow.Job) finishedJob {
	began := time.Now()
	done := finishedJob{job: job, event: Event{Ref: job.Ref, Commit: job.Commit, Branch: name(source.Ref{Name: job.Ref})}}
	event := &done.event
	order := Order{Commit: job.Commit, Branch: event.Branch, Site: p.Site()}
	if _, isBranch := (source.Ref{Name: job.Ref}).Branch(); !isBranch {
		order.Ref, order.To = job.Ref, journal.DisplayName(p.target(source.Ref{Name: job.Ref}))
	}
	plan, err := p.MakePlan(ctx, order)
	var run *Run
	if err == nil {
		event.Subject, event.Environment = plan.Commit.Subject, journal.DisplayName(plan.Environment)
		run = f.NewRun(plan)
		run.Store, run.Automatic, run.SkipSame, run.Cause, run.Machine = f.Store, true, true, "follow", f.machine
		run.Began = func(number int64) {
			f.tell(Event{Kind: "builds", Ref: job.Ref, Branch: event.Branch, Commit: job.Commit, Subject: event.Subject, Environment: event.Environment, Build: number})
		}
		var result *Result
		result, err = run.Release(ctx)
		event.Build = run.Number()
		if err == nil {
			if err = run.Activate(ctx); err == nil {
				run.WaitFor = f.waitFor(plan)
				err = run.Wait(ctx, func(Look) {})
			}
			event.Reused, event.Release, event.Head, event.Findings = result.Reused, result.Release.Short(), result.Entry, result.Findings
		}
		run.Close(ctx)
	}
	event.Took, event.Error = time.Since(began), err
	if cause := context.Cause(ctx); err != nil && cause != nil {
		event.Error = cause
	}
	switch kind := fault.KindOf(event.Error); {
	case err == nil:
		event.Kind, event.Entry = "live", event.Head.Label()
	case errors.Is(err, ErrSame):
		event.Kind, event.Why, event.Error = "unchanged", "it is live already", nil
	case fault.Code(event.Error) == "superseded":
		event.Kind, event.Why = "superseded", problemLine(event.Error)
	case fault.Code(event.Error) == "cancelled", errors.Is(event.Error, context.Canceled):
		event.Kind, event.Why = "cancelled", problemLine(event.Error)
	case fault.Code(event.Error) == "frozen", fault.Code(event.Error) == "paused":
		done.held, done.waits = true, fault.Code(event.Error) == "frozen"
	case kind == fault.Failed:
		event.Kind, done.retry = "trouble", true
	default:
		event.Kind, event.Why = "failed", problemLine(event.Error)
	}
	return done
}

// settle takes the end of a build into account.
func (f *Follower) settle(ctx context.Context, done finishedJob) {
	process.ReapAdopted() // what Git leaves in the background becomes a child, and would stay a zombie
	f.queue.Done(done.job.Ref)
	delete(f.cancel, done.job.Ref)
	if f.pushed[done.job.Ref] == done.job.Commit {
		delete(f.pushed, done.job.Ref)
	}
	if ctx.Err() != nil {
		return // the next life takes it up
	}
	kind := fault.KindOf(done.event.Error)
	switch done.event.Kind {
	case "live", "unchanged":
		if done.event.Reused {
			f.Counts.Reused++
		} else {
			f.Counts.Built++
		}
	case "superseded":
		f.Counts.Superseded++
	case "failed", "cancelled":
		f.Counts.Failed++
		f.worst = max(f.worst, kind)
	case "trouble":
		f.worst = max(f.worst, fault.Failed)
	}
	if done.retry && !f.Once {
		done.retry = f.again(&done)
	}
	if done.event.Kind != "" {
		f.tell(done.event)
	}
	f.last = "" // look again: a newer commit may be there, or this one is to be tried again
	switch {
	case done.retry && f.Once: // the next life tries again
		f.pushed[done.job.Ref] = done.job.Commit
	case done.retry:
		f.held[done.job.Ref] = waitingFor{done.job.Commit, "to be tried again: " + problemLine(done.event.Error)}
	case done.waits:
		f.waited[done.job.Ref] = done.job.Commit
	case done.held:
	default:
		f.seen(done.job.Ref, done.job.Commit)
	}
	f.save()
}

// again decides when a commit is tried again that could not be built, and reports whether it is: each time later, and of a branch that is not
// trusted not for ever, since each try leaves a record.
func (f *Follower) again(done *finishedJob) bool {
	ref := done.job.Ref
	failed := f.failures[ref]
	if failed.commit != done.job.Commit {
		failed = failing{commit: done.job.Commit}
	}
	failed.times++
	trusted := f.Project.ProductionConfig.Trusts(ref)
	if failed.times >= follow.MostTries && !trusted {
		done.event.Kind, done.event.Why = "failed", fmt.Sprintf("given up after %d tries: %s", failed.times, problemLine(done.event.Error))
		delete(f.failures, ref)
		delete(f.held, ref)
		f.Counts.Failed++

		return false
	}
	pause := follow.Pause(failed.times, trusted)
	failed.until = f.now().Add(pause)
	f.failures[ref] = failed
	done.event.Why = "tried again in " + pause.String()

	return true
}

func (f *Follower) seen(ref, commit string) {
	delete(f.failures, ref)
	delete(f.held, ref)
	delete(f.waited, ref)
	if before := f.state.Seen[ref]; before != "" && before != commit && ref == f.mainRef() {
		f.landed = append(f.landed, [2]string{before, commit})
	}
	f.state.Seen[ref] = commit
}

func (f *Follower) now() time.Time { return time.Now() }

// head returns the last entry of an environment; nil if there is none, or no environment.
func (f *Follower) head(ctx context.Context, environment string) (*journal.Entry, error) {
	if environment == "" {
		return nil, nil
	}
	j := &journal.Journal{Store: f.Store, Site: f.Project.Site(), Environment: environment, Now: f.now}
	entry, err := j.Head(ctx, journal.ReadHints(ctx, f.Store, f.Project.Site())[environment])
	if errors.Is(err, journal.ErrEmpty) {
		return nil, nil
	}
	return &entry, err
}

// load reads what an earlier life has dealt with.
func (f *Follower) load() {
	data, err := os.ReadFile(f.stateFile())
	if err != nil || json.Unmarshal(data, &f.state) != nil || f.state.Format != 1 || f.state.Seen == nil {
		f.state = followed{Seen: map[string]string{}}
		f.fresh = true
	}
	if f.Only != nil { // whatever an earlier life has dealt with, this one says what becomes of it
		f.state.Seen, f.fresh = map[string]string{}, false
	}
	f.state.Format = 1
}

// save keeps it. If that fails, commits are looked at again: those that are live are found to be.
func (f *Follower) save() {
	if f.Only != nil {
		return
	}
	data, err := json.MarshalIndent(f.state, "", " ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(f.stateFile()), 0o700)
	}
	if err == nil {
		err = os.WriteFile(f.stateFile()+".new", data, 0o600)
	}
	if err == nil {
		err = os.Rename(f.stateFile()+".new", f.stateFile())
	}
	if err != nil {
		f.tell(Event{Kind: "trouble", Error: fault.New(fault.Failed, "state", "what was followed cannot be remembered").At("%s", f.stateFile()).Because(err).
			Then("give this user the right to write there, or set ORILLA_HOME")})
	}
}

func (f *Follower) tell(event Event) {
	f.told.Lock()
	defer f.told.Unlock()
	event.When = f.now().UTC().Truncate(time.Millisecond)
	f.Tell(event)
}

// Following is what a follower says of itself in the store.
type Following struct {
	Format  int       `json:"format"`
	Who     string    `json:"who"`
	Where   string    `json:"where"`
	From    string    `json:"from"` // the repository
	Process int       `json:"process"`
	Since   time.Time `json:"since"`
	Waiting []Waiting `json:"waiting,omitempty"`

	modified time.Time
}

// Waiting is a commit that waits for its build.
type Waiting struct {
	Branch string `json:"branch"`
	Commit string `json:"commit"`
	Why    string `json:"why,omitempty"` // it waits for something else than its turn
}

// Gone reports whether a follower of this machine is known to be no more.
func (g Following) Gone() bool {
	return Running{Begun: builds.Begun{Where: g.Where}, Process: g.Process}.gone()
}

// followBeat is how often a follower says that it is there.
const followBeat = time.Minute

// forget takes away what followers of this machine that were killed have said of themselves.
func (f *Follower) forget(ctx context.Context) {
	each, err := followers(ctx, f.Store, f.Project.Site())
	for key, one := range each {
		if err == nil && one.Gone() {
			f.Store.Delete(ctx, key) //nolint:errcheck // who reads it sees that it is old
		}
	}
}

// announce says in the store what waits, when that has changed or was said long ago; at the end, nothing.
func (f *Follower) announce(ctx context.Context, end bool) {
	key := storage.FollowersKey(f.Project.Site()) + "/" + f.id
	if end {
		if f.said != "" {
			f.Store.Delete(context.WithoutCancel(ctx), key) //nolint:errcheck // who reads it sees that it is old
		}
		return
	}
	if f.Once {
		return
	}
	where, _ := os.Hostname()
	from := f.repository().Top
	if f.Mirror != nil {
		from = f.Mirror.From
	}
	if f.since.IsZero() {
		f.since = f.now().UTC().Truncate(time.Second)
		f.who = f.Project.Person(ctx)
	}
	about := Following{Format: 1, Who: f.who, Where: where, From: from, Process: os.Getpid(), Since: f.since}
	for _, job := range f.queue.Waiting() {
		about.Waiting = append(about.Waiting, Waiting{Branch: name(source.Ref{Name: job.Ref}), Commit: job.Commit})
	}
	for ref, held := range f.held {
		about.Waiting = append(about.Waiting, Waiting{Branch: name(source.Ref{Name: ref}), Commit: held.commit, Why: held.why})
	}
	slices.SortStableFunc(about.Waiting, func(a, b Waiting) int { return strings.Compare(a.Branch, b.Branch) })
	data, err := record.Encode(about)
	if err != nil || string(data) == f.said && time.Since(f.saidAt) < followBeat {
		return
	}
	if f.Store.Replace(ctx, key, data) == nil {
		f.said, f.saidAt = string(data), time.Now()
	}
}

// Followers returns who follows a repository for a site, as far as they are there.
func Followers(ctx context.Context, store storage.Store, site string) (found []Following, err error) {
	each, err := followers(ctx, store, site)
	for _, key := range slices.Sorted(maps.Keys(each)) {
		if one := each[key]; !one.Gone() && time.Since(one.modified) < 5*followBeat {
			found = append(found, one)
		}
	}
	return found, err
}

// followers returns what every follower has said of itself, by key.
func followers(ctx context.Context, store storage.Store, site string) (map[string]Following, error) {
	found := map[string]Following{}
	for item, err := range store.List(ctx, storage.FollowersKey(site)) {
		if err != nil {
			return found, err
		}
		one := Following{modified: item.Modified}
		if data, err := store.Get(ctx, item.Key); err == nil && record.Lenient(data, &one) {
			found[item.Key] = one
		}
	}
	return found, nil
}
