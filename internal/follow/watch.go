package follow

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/schedule"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// watch is what the follower remembers from one poll to the next.
type watch struct {
	refs    string    // what the refs were
	fetched time.Time // when the mirror was
	store   string    // what the store said when commits that wait were last looked at
	asked   time.Time // when it said so
	missing string    // the branches that are followed and not there
	wrong   string    // what is wrong with the production branch's configuration; "" for nothing

	heads map[string]*journal.Entry // of environments, while a look goes on
}

// youngBranch is how old a branch without a preview may be to get one when a
// repository is followed for the first time.
const youngBranch = 7 * 24 * time.Hour

// maxOlder is how many of the commits that give way to a
// newer one are told one by one.
const maxOlder = 20

// poll asks the repository what is new, and decides what becomes of it. A
// mirror is brought up to date when somebody says so or it is time to.
func (l *loop) poll(ctx context.Context, woken bool) error {
	if err := fetch(ctx, l, woken); err != nil {
		return err
	}
	list, err := listRefs(ctx, l)
	if err != nil {
		return err
	}

	// Mostly nothing has changed, and that is found out by one call of Git and
	// without the store.
	now := fmt.Sprint(list)
	if now == l.watch.refs && (l.refs.held() == 0 || !l.refs.due(time.Now()) && !storeMoved(ctx, l)) {
		return nil
	}
	if now != l.watch.refs {
		if err := readProduction(ctx, l); err != nil {
			return err
		}
		l.watch.refs = now
		tellMissing(ctx, l, list)
	}

	there := map[string]bool{}
	readHeads(ctx, l, list)
	defer func() { l.watch.heads = nil }()
	for _, found := range list {
		there[found.Name] = true
		known := l.refs.of(found.Name)
		// A commit that failed is left until its time comes; a new one of the
		// same ref does not wait for that.
		failed := known.failed.commit == found.Commit && time.Now().Before(known.failed.until)
		if known.seen == found.Commit || known.pushed == found.Commit || failed {
			continue
		}

		if err := l.decide(ctx, found, known); err != nil {
			return err
		}
	}

	// What is not there any more was deleted; its preview ends, and its build
	// with it.
	for name := range l.refs.all {
		if !there[name] {
			l.drop(name)
		}
	}

	l.refs.fresh = false
	l.save()
	return nil
}

// readHeads reads the heads of all environments that this look may ask about, many at
// once: a store far away answers them in the time of one.
func readHeads(ctx context.Context, l *loop, list []source.Ref) {
	if _, far := l.Store.(storage.Remote); !far {
		return
	}
	var asked []string
	for _, found := range list {
		environment := l.Project.TargetOf(found)
		known := l.refs.of(found.Name)
		if environment != "" && known.seen != found.Commit && known.pushed != found.Commit {
			asked = append(asked, environment)
		}
	}
	if len(asked) < 2 {
		return
	}

	var mutex sync.Mutex
	heads, hints := map[string]*journal.Entry{}, journal.ReadHints(ctx, l.Store, l.Project.Site())
	group, reading := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(l.Store))
	for _, environment := range asked {
		group.Go(func() error {
			j := environments.JournalOf(l.Store, l.Project.Site(), environment, time.Now)
			entry, err := j.Head(reading, hints[environment])
			mutex.Lock()
			defer mutex.Unlock()
			if err == nil {
				heads[environment] = &entry
			} else if errors.Is(err, journal.ErrEmpty) {
				heads[environment] = nil
			}
			return nil // who needs it asks again, and tells
		})
	}
	group.Wait() //nolint:errcheck // none
	l.watch.heads = heads
}

// tellMissing tells, once, of branches that environments follow and the repository
// does not have: their environments would wait for ever.
func tellMissing(ctx context.Context, l *loop, list []source.Ref) {
	if l.Only != nil {
		return // a checkout of CI has one branch
	}
	var there []string
	for _, found := range list {
		if branch, isBranch := found.Branch(); isBranch {
			there = append(there, branch)
		}
	}

	missing := map[string]string{} // branch -> environment
	for _, name := range l.Project.EnvironmentNames() {
		branch := l.Project.ProductionConfig.Environments[name].Follows
		if branch != "" && branch != project.Nothing && !slices.Contains(there, branch) {
			missing[branch] = name
		}
	}
	names := slices.Sorted(maps.Keys(missing))
	if told := strings.Join(names, " "); told == l.watch.missing {
		return
	} else if l.watch.missing = told; told == "" {
		return
	}

	for _, branch := range names {
		problem := fault.New(fault.Failed, "no-such-branch",
			"%s should go to %s, but there is no such branch", branch, missing[branch]).
			At("%s", followedFrom(l))
		remote, err := l.repository().Refs(ctx, "refs/remotes/*/"+branch)
		switch {
		case err == nil && len(remote) > 0:
			from, _, _ := strings.Cut(strings.TrimPrefix(remote[0].Name, "refs/remotes/"), "/")
			problem = problem.Then("this clone has it as %s/%s only: orilla follow %s", from, branch, from)
		case len(there) > 0:
			problem = problem.Then(
				"there is %s; orilla.yaml says which goes live: environments: {%s: {follows: %s}}",
				strings.Join(there[:min(len(there), 5)], ", "), missing[branch],
				cmp.Or(spelling.Nearest(branch, there), there[0]))
		default:
			problem = problem.Then("commit something to it")
		}
		l.trouble(problem)
	}
}

// followedFrom is the repository that is followed, as people know it.
func followedFrom(l *loop) string {
	if l.Mirror != nil {
		return l.Mirror.From
	}
	return l.repository().Top
}

// save keeps what was dealt with, and tells if that cannot be done.
func (l *loop) save() {
	if err := l.refs.save(); err != nil {
		l.trouble(err)
	}
}

// fetch brings the mirror up to date.
func fetch(ctx context.Context, l *loop, woken bool) error {
	if l.Mirror == nil || !woken && time.Since(l.watch.fetched) < l.Every {
		return nil
	}
	l.watch.fetched = time.Now()

	if err := l.Mirror.Fetch(ctx, l.Project.ProductionConfig.Previews.Refs); err != nil {
		l.watch.fetched = time.Time{}
		return fault.New(fault.Failed, "fetch-failed", "cannot fetch the repository").
			At("%s", l.Mirror.From).Because(err).
			Then("check that this user can reach it: git ls-remote %s",
				l.Mirror.From)
	}
	return nil
}

// listRefs returns the refs that may be followed.
func listRefs(ctx context.Context, l *loop) ([]source.Ref, error) {
	if l.Only != nil {
		return []source.Ref{*l.Only}, nil
	}
	// Git matches prefixes only up to a slash, so patterns are matched
	// afterwards; this keeps a repository with a million refs from listing them
	// all.
	prefixes := []string{"refs/heads/"}
	for _, pattern := range l.Project.ProductionConfig.Previews.Refs {
		before, _, _ := strings.Cut(strings.TrimPrefix(pattern, "!"), "*")
		prefixes = append(prefixes, before[:strings.LastIndexByte(before, '/')+1])
	}
	return l.repository().Refs(ctx, prefixes...)
}

// drop forgets a ref that is no more. Its preview ends.
func (l *loop) drop(name string) {
	delete(l.refs.all, name)
	l.previews.deleted = append(l.previews.deleted, name)
	l.queue.Drop(name)
	if cancel := l.cancel[name]; cancel != nil {
		cancel(build.Cancelled("ended: its branch was deleted"))
	}
}

// readProduction reads again what only the production branch says. If that has
// become wrong, it is told once, and what it said before counts.
func readProduction(ctx context.Context, l *loop) error {
	err := l.Project.ReadProduction(ctx)
	if err == nil && l.Configured != nil {
		l.Configured(l.Project.ProductionConfig)
	}
	if fault.KindOf(err) != fault.Usage || ctx.Err() != nil {
		l.watch.wrong = ""
		return err
	}
	// Told when it begins and not with each look. Until it is mended, what was
	// read before counts.
	if l.watch.wrong != err.Error() {
		l.watch.wrong = err.Error()
		l.trouble(err)
	}
	return nil
}

// storeMoved reports whether anything in the store has
// changed that a commit could wait for, as far as hints tell;
// a while after it was last asked, it is taken to have.
func storeMoved(ctx context.Context, l *loop) bool {
	// What cannot be read counts as unchanged; once a minute it is looked at
	// anyway.
	pulse, _ := l.Store.Get(ctx, storage.PulseKey(l.Project.Site()))
	paused, _ := l.Store.Get(ctx, storage.PausedKey(l.Project.Site()))
	now := string(pulse) + string(paused)
	if now == l.watch.store && time.Since(l.watch.asked) < time.Minute {
		return false
	}
	l.watch.store, l.watch.asked = now, time.Now()
	return true
}

// decide says what becomes of a ref's new commit.
func (l *loop) decide(ctx context.Context, found source.Ref, known *ref) error {
	// The newest one is built. The others are told as superseded.
	commits, count, err := newCommits(ctx, l, found, known)
	if err != nil {
		return err
	}
	commit := commits[0]
	environment := l.Project.TargetOf(found)
	event := Event{
		Ref: found.Name, Branch: site.NameOf(found), Commit: commit.Hash, Subject: commit.Subject,
		Environment: journal.DisplayName(environment),
	}

	// Whether it is live, or was taken back, only the store knows.
	head, err := l.head(ctx, environment)
	if err != nil {
		return err
	}
	why, err := leftAlone(ctx, l, found, commit, environment, head)
	if err != nil {
		return err
	}

	var again time.Time
	if why == "" {
		if why, again, err = endedBefore(ctx, l, found, commit, environment); err != nil {
			return err
		}
	}
	if !again.IsZero() {
		known.failed = failing{found.Commit, known.failed.times, again}
		l.hold(known, event, why)
		return nil
	}

	if why != "" {
		known.pushed = ""
		l.settleRef(found.Name, known, found.Commit)
		l.queue.Drop(found.Name)
		l.Counts.Nothing++
		event.Kind, event.Why = Nothing, why
		l.tell(event)
		return nil
	}

	waits, err := waitsFor(ctx, l, found, known, environment, head)
	if err != nil {
		return err
	}
	if waits != "" {
		l.hold(known, event, waits)
		return nil
	}

	// Anybody can propose a change, and any number of them.
	if _, isBranch := found.Branch(); !isBranch {
		if next, why := l.pace.Next(found.Name, time.Now()); !next.IsZero() {
			known.failed = failing{found.Commit, known.failed.times, next}
			l.hold(known, event, why+"; again at "+next.Local().Format("15:04"))
			return nil
		}
		l.pace.Begin(found.Name, time.Now())
	}

	known.failed.until, known.held = time.Time{}, held{}
	l.push(found, known, environment, commits[1:], count)
	return nil
}

// newCommits returns what a ref has got since it was last looked at, the newest
// first, and how many there are in all.
func newCommits(ctx context.Context, l *loop, found source.Ref, known *ref) ([]source.Commit, int, error) {
	before := cmp.Or(known.pushed, known.seen)
	if before == "" && !l.refs.fresh { // of a new branch, what production does not have
		before = l.refs.seen(l.mainRef())
	}
	commits, count, err := l.repository().Since(ctx, found.Commit, before, maxOlder)
	if err != nil || len(commits) > 0 {
		return commits, count, err
	}
	commit, err := l.repository().Commit(ctx, found.Commit) // it went back
	return []source.Commit{commit}, 1, err
}

// settleRef notes that a ref's commit was dealt with. What the production
// branch got may end previews.
func (l *loop) settleRef(name string, known *ref, commit string) {
	before := known.settled(commit)
	if before != "" && name == l.mainRef() {
		l.previews.landed = append(l.previews.landed, move{before, commit})
	}
}

// hold lets a ref's commit wait, and says so once.
func (l *loop) hold(known *ref, event Event, why string) {
	if now := (held{event.Commit, why}); known.held != now {
		known.held = now
		event.Kind, event.Why = Waits, why
		l.tell(event)
	}
}

// leftAlone returns why nothing becomes of a ref's commit; "" if something
// does. head is what its environment serves, nil for nothing.
func leftAlone(ctx context.Context, l *loop, found source.Ref, commit source.Commit, environment string,
	head *journal.Entry,
) (string, error) {
	if environment == "" {
		return "no environment follows it, and previews leave it out", nil
	}
	// Whoever follows a repository of ten years for the first time does not
	// want ten years of previews.
	old := time.Since(found.When) > youngBranch
	if l.refs.fresh && l.Only == nil && journal.IsPreview(environment) && old {
		return "it is from before this repository was followed and older than a week; orilla deploy " +
			site.NameOf(found) +
			" creates its preview", nil
	}

	message, err := l.repository().Message(ctx, commit.Hash)
	if err != nil {
		return "", err
	}
	if words := schedule.Skips(message); words != "" {
		return "the commit asks for it: " + words, nil
	}

	if head == nil || head.Release.IsZero() {
		return "", nil
	}

	if head.Commit == commit.Hash {
		return "it is already live, as " + head.Label(), nil
	}
	// "A next commit that brings it back" must be a commit that somebody wrote
	// after the rollback, and not the same one.
	j := environments.JournalOf(l.Store, l.Project.Site(), environment, time.Now)
	rollback, was, left := j.LeftBy(ctx, *head, func(e journal.Entry) bool { return e.Commit == commit.Hash })
	if left {
		return "it was live as " + was.Label() + ", until " + source.PersonName(rollback.Who) +
			" rolled it back; orilla deploy " +
			source.Short(commit.Hash) + " --to " + journal.DisplayName(environment) +
			" publishes it again", nil
	}

	// A commit that changes only other folders of a large repository makes no
	// entry.
	same, err := l.Project.SameSite(ctx, head.Commit, commit.Hash)
	if same && head.Kind != journal.Rollback {
		return "none of the site's files differ from the live release, " + source.Short(head.Commit), err
	}
	return "", err
}

// endedBefore returns what became of a commit that a follower, this one or another,
// has dealt with already: "" for nothing that counts. Building again what failed or
// was cancelled is somebody's decision; what only could not be built is tried after
// a pause, which all followers count together: again is when it ends.
func endedBefore(ctx context.Context, l *loop, found source.Ref, commit source.Commit, environment string,
) (why string, again time.Time, err error) {
	if l.Once { // who runs it again has decided
		return "", again, nil
	}
	hints := journal.ReadHints(ctx, l.Store, l.Project.Site())
	runs := builds.Runs{Store: l.Store, Site: l.Project.Site()}
	ran, err := runs.Of(ctx, commit.Hash, environment, "follow", hints[journal.RunsHint])
	if err != nil || len(ran) == 0 || ran[0].Ended == nil {
		return "", again, err
	}

	last := ran[0]
	switch outcome := last.Ended.Outcome; {
	case outcome.Settled():
		return fmt.Sprintf("%s of it %s: %s; orilla deploy %s --to %s builds it again", last.Label(),
			endedText(outcome), last.Ended.Problem, source.Short(commit.Hash),
			journal.DisplayName(environment)), again, nil
	case outcome != builds.Errored:
		return "", again, nil
	}

	// All followers count the same records, so they come to the same time, and the
	// lease of the build lets one of them begin.
	tries := 0
	for tries < len(ran) && ran[tries].Ended != nil && ran[tries].Ended.Outcome == builds.Errored {
		tries++
	}
	again = last.Ended.When.Add(schedule.Pause(tries, l.Project.ProductionConfig.Trusts(found.Name)))
	if time.Now().After(again) {
		return "", time.Time{}, nil
	}
	return fmt.Sprintf("%s of it could not be built: %s; again at %s", last.Label(), last.Ended.Problem,
		again.Local().Format("15:04:05")), again, nil
}

// endedText says in a sentence how a build ended.
func endedText(outcome builds.Outcome) string {
	if outcome == builds.Failed {
		return "failed"
	}
	return "was " + string(outcome)
}

// waitsFor returns what a commit for an environment has to
// wait for besides its turn; "" for nothing. A freeze does
// not keep it from being built, only from going live then.
func waitsFor(ctx context.Context, l *loop, found source.Ref, known *ref, environment string,
	head *journal.Entry,
) (string, error) {
	if head != nil && head.Frozen.At(time.Now()) && known.frozen == found.Commit {
		name := journal.DisplayName(environment)
		return "it is built; " + name + " is frozen by " + source.PersonName(head.Frozen.Who) +
			because(head.Frozen.Why) +
			"; orilla thaw " + name, nil
	}

	pause, err := environments.ReadPause(ctx, l.Store, l.Project.Site())
	if pause == nil || err != nil {
		return "", err
	}
	return "automatic builds are paused by " + source.PersonName(pause.Who) + because(pause.Why) +
		"; orilla follow --resume", nil
}

// because adds a reason in parentheses, if there is one.
func because(why string) string {
	if why == "" {
		return ""
	}
	return " (" + why + ")"
}

// push puts a commit into the queue, and says which older ones give way.
func (l *loop) push(found source.Ref, known *ref, environment string, older []source.Commit, count int) {
	superseded, running := l.queue.Push(schedule.Job{Ref: found.Name, Commit: found.Commit,
		Rank: rank(environment)})
	gone := Event{
		Kind: Superseded, Ref: found.Name, Branch: site.NameOf(found),
		Environment: journal.DisplayName(environment),
		Why:         "by " + source.Short(found.Commit),
	}

	if superseded != nil && superseded.Commit != found.Commit {
		l.Counts.Superseded++
		gone.Commit = superseded.Commit
		l.tell(gone)
	}

	// Twenty commits that were pushed at once are one thing that happened. None of them
	// was ever a head of the branch, so nobody looks for their builds.
	if len(older) > 0 {
		l.Counts.Superseded += count - 1
		gone.Commit, gone.Subject, gone.Commits = older[0].Hash, older[0].Subject, count-1
		for _, commit := range older {
			gone.Older = append(gone.Older, OlderCommit{commit.Hash, commit.Subject})
		}
		l.tell(gone)
	}

	if running != nil && l.Project.ProductionConfig.Follow.Superseded == project.Cancel {
		if cancel := l.cancel[found.Name]; cancel != nil {
			cancel(build.Superseded(source.Short(found.Commit)))
		}
	}
	known.pushed = found.Commit
}

// rank orders environments: production first, then the
// other fixed ones, then previews.
func rank(environment string) int {
	switch {
	case environment == project.Production:
		return 0
	case journal.IsPreview(environment):
		return 2
	}
	return 1
}
