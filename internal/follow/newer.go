package follow

import (
	"context"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/schedule"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// Newer is the newest commit that was to go live in an environment, where that is
// not what it serves, and why.
type Newer struct {
	Environment string // stored name; its first deploy may be this one
	Branch      string
	Commit      string
	Subject     string
	// State is one of those below, or the outcome of its last build.
	State string
	Why   string
	Build int64     // 0 if none was begun
	When  time.Time // it began, or ended
	Now   string    // of one that is being built: what it does
	Usual time.Duration
}

// The states of a commit that is not live, besides outcomes.
const (
	StateBuilding = "building"
	StateLost     = "lost" // its builder is gone
	StateWaiting  = "waiting"
	StateUnbuilt  = "unbuilt"
	StateLeft     = "rolled-back" // it was live
)

// survey collects what is newer than what environments serve. Of each environment
// one commit is kept: what is being built says more than what waits, that more than
// how an earlier build ended, and any of them more than a commit that nobody saw.
type survey struct {
	heads map[string]*journal.Entry // by stored name
	found map[string]Newer
	only  func(environment string) bool
}

// NewerThan finds what is newer than what environments serve: of those in states,
// and of others that only accepts and that have served nothing yet. What is being
// built comes before what waits, and that before how the last build ended. now is
// by the store's clock. It reads the last builds.Recent builds.
func NewerThan(ctx context.Context, p *site.Project, store storage.Store, siteName string,
	states []environments.State, only func(environment string) bool, now time.Time,
) ([]Newer, error) {
	s := survey{heads: map[string]*journal.Entry{}, found: map[string]Newer{}, only: only}
	for _, state := range states {
		s.heads[state.Name] = state.Head
	}
	// Three questions that have nothing to do with each other.
	var recent []builds.Run
	var running []build.Running
	var followers []Following
	reading, asking := errgroup.WithContext(ctx)
	reading.Go(func() error {
		runs := builds.Runs{Store: store, Site: siteName}
		last, err := runs.Last(asking, journal.ReadHints(asking, store, siteName)[journal.RunsHint])
		if err != nil {
			return err
		}
		recent, err = runs.Back(asking, last, builds.Recent, func(builds.Run) bool { return true })
		return err
	})
	reading.Go(func() (err error) {
		running, err = build.List(asking, store, siteName)
		return err
	})
	reading.Go(func() (err error) {
		followers, err = Followers(asking, store, siteName)
		return err
	})
	if err := reading.Wait(); err != nil {
		return nil, err
	}

	for _, one := range running {
		newer := Newer{Environment: one.Environment, Branch: one.Branch, Commit: one.Commit,
			Subject: one.Subject, State: StateBuilding, Build: one.Number, When: one.When, Now: one.Now,
			Usual: usual(recent, one.Branch)}
		if one.Lost(now) {
			newer.State = StateLost
		}
		s.add(newer)
	}

	for _, follower := range followers {
		for _, waits := range follower.Waiting {
			s.add(Newer{Environment: waits.Environment, Branch: waits.Branch, Commit: waits.Commit,
				State: StateWaiting, Why: waits.Why, When: follower.modified})
		}
	}
	s.ended(ctx, store, recent)
	if siteName == p.Site() {
		s.unbuilt(ctx, p, store)
	}

	list := make([]Newer, 0, len(s.found))
	for _, newer := range s.found {
		list = append(list, newer)
	}
	slices.SortFunc(list, func(a, b Newer) int {
		if order := rank(a.Environment) - rank(b.Environment); order != 0 {
			return order
		}
		return strings.Compare(a.Environment, b.Environment)
	})
	return list, nil
}

// add notes a commit, unless something that comes before it is noted, or it is what
// the environment serves.
func (s *survey) add(newer Newer) {
	head := s.heads[newer.Environment]
	_, noted := s.found[newer.Environment]
	if noted || newer.Environment == "" || newer.Commit == "" || !s.only(newer.Environment) ||
		head != nil && head.Commit == newer.Commit && !head.Release.IsZero() {
		return
	}
	s.found[newer.Environment] = newer
}

// ended notes how the newest build for each environment ended, if it is newer than
// what is served and did not lead there.
func (s *survey) ended(ctx context.Context, store storage.Store, recent []builds.Run) {
	looked := map[string]bool{}
	for _, run := range recent {
		if looked[run.Environment] || run.Source != journal.FromCommit {
			continue
		}
		looked[run.Environment] = true
		if run.Ended == nil || run.Ended.Outcome == builds.Succeeded {
			continue
		}
		// What was live, removed or gone back from since is the newer story; a freeze
		// or a password is none.
		if head := s.heads[run.Environment]; head != nil && head.When.After(run.When) {
			chosen := *head
			if !head.Release.IsZero() {
				j := environments.JournalOf(store, head.Site, head.Environment, time.Now)
				chosen = j.Current(ctx, *head)
			}
			if chosen.When.After(run.When) {
				continue
			}
		}
		s.add(Newer{Environment: run.Environment, Branch: run.Branch, Commit: run.Commit,
			Subject: run.Subject, State: string(run.Ended.Outcome), Why: run.Ended.Problem,
			Build: run.Number, When: run.Ended.When})
	}
}

// usual is how long builds of a branch took the last time that one succeeded; 0 if
// that is not known.
//
// A build that goes on is told with it: "34 s of about 50 s" answers whether to wait.
func usual(recent []builds.Run, branch string) time.Duration {
	for _, run := range recent {
		if run.Branch == branch && run.Ended != nil && run.Ended.Outcome == builds.Succeeded {
			return run.Ended.Took(builds.PhaseNames...)
		}
	}
	return 0
}

// unbuilt notes the newest commits of branches here that nobody has dealt with. What
// cannot be found out is left out: the repository may be another one's clone.
func (s *survey) unbuilt(ctx context.Context, p *site.Project, store storage.Store) {
	if p.Repository == nil {
		return
	}
	for _, name := range p.EnvironmentNames() {
		branch := p.ProductionConfig.Environments[name].Follows
		if branch == "" {
			continue
		}
		refs, err := p.Repository.Refs(ctx, "refs/heads/"+branch)
		if err != nil || len(refs) != 1 {
			continue
		}
		commit, err := p.Repository.Commit(ctx, refs[0].Commit)
		head := s.heads[name]
		if err != nil || head == nil || head.Release.IsZero() || head.Commit == "" ||
			head.Commit == commit.Hash {
			continue
		}

		// Of a shallow clone nothing can be said.
		// Only what was written after what is live: going back, or a clone that is
		// behind, makes nothing new.
		newer, err := p.Repository.Contains(ctx, commit.Hash, head.Commit)
		if err != nil || !newer {
			continue
		}
		if same, err := p.SameSite(ctx, head.Commit, commit.Hash); err != nil || same {
			continue
		}
		found := Newer{Environment: name, Branch: branch, Commit: commit.Hash, Subject: commit.Subject,
			State: StateUnbuilt, When: refs[0].When}
		if built, ok := waitsForThaw(ctx, p, store, *head, commit.Hash); ok {
			found.State, found.When = StateWaiting, built.When
			found.Why = "it is built; " + journal.DisplayName(name) + " is frozen"
		} else if before, ok := left(ctx, p, store, *head, commit.Hash); ok {
			found.State, found.When = StateLeft, before.When
			found.Why = "by " + source.PersonName(before.Who) + because(before.Why)
		} else if message, err := p.Repository.Message(ctx, commit.Hash); err == nil {
			if words := schedule.Skips(message); words != "" {
				found.Why = "the commit asks for it: " + words
			}
		}
		s.add(found)
	}
}

// waitsForThaw returns the release of a commit that waits for the end of a freeze.
func waitsForThaw(ctx context.Context, p *site.Project, store storage.Store, head journal.Entry,
	commit string,
) (environments.PendingRelease, bool) {
	if head.Frozen == nil {
		return environments.PendingRelease{}, false
	}
	waiting, _ := environments.WaitingFor(ctx, store, p.Site(), head)
	for _, one := range waiting {
		if one.Commit == commit {
			return one, true
		}
	}
	return environments.PendingRelease{}, false
}

// left returns the rollback that took a commit away, if it was live.
func left(ctx context.Context, p *site.Project, store storage.Store, head journal.Entry,
	commit string,
) (rollback journal.Entry, ok bool) {
	j := environments.JournalOf(store, p.Site(), head.Environment, time.Now)
	rollback, _, ok = j.LeftBy(ctx, head, func(e journal.Entry) bool { return e.Commit == commit })
	return rollback, ok
}

// ReadSubject fills in the subject of a commit that a follower knows by its hash
// only, if the repository here has it.
func (n *Newer) ReadSubject(ctx context.Context, repository *source.Repository) {
	if n.Subject != "" || repository == nil {
		return
	}
	if commit, err := repository.Commit(ctx, n.Commit); err == nil {
		n.Subject = commit.Subject
	}
}
