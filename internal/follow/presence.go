package follow

import (
	"context"
	"crypto/rand"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/build"
	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/schedule"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/source"
)

// Following is what a follower says of itself in the store.
type Following struct {
	Format  int       `json:"format"`
	Who     string    `json:"who"`
	Where   string    `json:"where"`
	From    string    `json:"from"` // the repository
	Process int       `json:"process"`
	Since   time.Time `json:"since"`
	Waiting []Waiting `json:"waiting,omitempty"`

	modified time.Time // by the store's clock
}

// Waiting is a commit that waits for its build.
type Waiting struct {
	Branch string `json:"branch"`
	Commit string `json:"commit"`
	Why    string `json:"why,omitempty"` // it waits for something else than its turn
	// stored name; where it is to go
	Environment string `json:"environment,omitempty"`
}

// Gone reports whether a follower of this machine is known to be no more.
func (g Following) Gone() bool {
	return build.Running{Begun: builds.Begun{Where: g.Where}, Process: g.Process}.Gone()
}

// beat is how often a follower says that it is there; after five times that
// without a word, others take it for gone.
const beat = time.Minute

// presence says in the store that a follower is there, and what waits.
type presence struct {
	f     *Follower
	key   string
	about Following // what does not change; who is known once it was asked
	said  string    // "" if nothing was
	when  time.Time // it was said
}

// newPresence returns what has said nothing yet.
func newPresence(f *Follower) *presence {
	where, _ := os.Hostname()
	about := Following{
		Format: 1, Where: where, From: f.repository().Top, Process: os.Getpid(), Since: time.Now().UTC().
			Truncate(time.Second),
	}

	if f.Mirror != nil {
		about.From = f.Mirror.From
	}
	return &presence{f: f, key: storage.FollowersKey(f.Project.Site()) + "/" + strings.ToLower(rand.Text()),
		about: about}
}

// announce says what waits, when that has changed or was said long ago. Who
// follows once says nothing: it ends soon.
func (p *presence) announce(ctx context.Context, queue []schedule.Job, known *refs) {
	if p.f.Once {
		return
	}
	if p.about.Who == "" {
		p.about.Who = p.f.Project.Person(ctx)
	}

	about := p.about
	for _, job := range queue {
		about.Waiting = append(about.Waiting, p.waiting(job.Ref, job.Commit, ""))
	}

	for _, name := range slices.Sorted(maps.Keys(known.all)) {
		if one := known.all[name].held; one != (held{}) {
			about.Waiting = append(about.Waiting, p.waiting(name, one.commit, one.why))
		}
	}

	slices.SortStableFunc(about.Waiting,
		func(a, b Waiting) int { return strings.Compare(a.Branch, b.Branch) })

	data, err := record.Encode(about)
	if err != nil || string(data) == p.said && time.Since(p.when) < beat {
		return
	}
	if p.f.Store.Replace(ctx, p.key, data) == nil {
		p.said, p.when = string(data), time.Now()
	}
}

// waiting is a commit of a ref that waits.
func (p *presence) waiting(name, commit, why string) Waiting {
	ref := source.Ref{Name: name}
	return Waiting{Branch: site.NameOf(ref), Commit: commit, Why: why, Environment: p.f.Project.TargetOf(ref)}
}

// withdraw removes the record, so that nobody waits until it counts as gone.
func (p *presence) withdraw(ctx context.Context) {
	if p.said != "" {
		//nolint:errcheck // who reads it sees that it is old
		p.f.Store.Delete(context.WithoutCancel(ctx), p.key)
	}
}

// forgetKilled takes away what followers of this machine
// that were killed have said of themselves.
func forgetKilled(ctx context.Context, store storage.Store, site string) {
	each, err := followers(ctx, store, site)
	for key, one := range each {
		if err == nil && one.Gone() {
			store.Delete(ctx, key) //nolint:errcheck // who reads it sees that it is old
		}
	}
}

// Followers returns who follows a repository for a site,
// as far as they are there.
//
// One that has not written for a while is left out, and so is one of this
// machine whose process is gone.
func Followers(ctx context.Context, store storage.Store, site string) (found []Following, err error) {
	each, err := followers(ctx, store, site)
	for _, key := range slices.Sorted(maps.Keys(each)) {
		if one := each[key]; !one.Gone() && time.Since(one.modified) < 5*beat {
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
