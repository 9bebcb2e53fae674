package follow

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"orilla.example/orilla/internal/core/fault"
)

// ref is the state of one followed ref. The zero ref was never seen.
type ref struct {
	seen   string  // the commit that was dealt with; kept from life to life
	pushed string  // the commit that is in the queue or being built
	frozen string  // the commit that was built and waits for a thaw
	held   held    // the commit that waits for something else than its turn
	failed failing // the commit that could not be built
}

// held is a commit that waits for something else than its
// turn. The zero value waits for nothing.
type held struct{ commit, why string }

// failing is a commit that could not be built for reasons that may pass.
type failing struct {
	commit string
	times  int
	until  time.Time // when it is tried again; zero if it is being tried
}

// refs are all refs of a repository, by their full names,
// as far as anything is known of them.
type refs struct {
	all   map[string]*ref
	fresh bool   // nothing was followed here before
	file  string // in which what was seen is kept; "" for nowhere
}

// followed is what a follower keeps between its lives: the
// commit of each ref that it has dealt with.
type followed struct {
	Format int               `json:"format"`
	Seen   map[string]string `json:"seen"`
}

const followedFormat = 1

// loadRefs reads what an earlier life has dealt with. Of a single commit that
// is followed nothing is read: this life says what becomes of it.
func loadRefs(f *Follower) *refs {
	known := &refs{all: map[string]*ref{}}
	if f.Only != nil {
		return known
	}
	known.file = f.stateFile()
	var state followed
	// Without a file nothing was followed here, and branches that are there
	// already are no news.
	data, err := os.ReadFile(known.file)
	if err != nil || json.Unmarshal(data, &state) != nil || state.Format != followedFormat ||
		state.Seen == nil {
		known.fresh = true
		return known
	}

	for name, commit := range state.Seen {
		known.of(name).seen = commit
	}
	return known
}

// save keeps what was dealt with. If that fails, commits are looked at again:
// those that are live are found to be.
func (r *refs) save() error {
	if r.file == "" {
		return nil
	}
	state := followed{Format: followedFormat, Seen: map[string]string{}}
	for name, one := range r.all {
		if one.seen != "" {
			state.Seen[name] = one.seen
		}
	}

	data, err := json.MarshalIndent(state, "", " ")
	if err == nil {
		err = os.MkdirAll(filepath.Dir(r.file), 0o700)
	}
	if err == nil {
		// Renamed, so that a follower that is killed leaves what it knew
		// before.
		err = os.WriteFile(r.file+".new", data, 0o600)
	}
	if err == nil {
		err = os.Rename(r.file+".new", r.file)
	}
	if err != nil {
		return fault.New(fault.Failed, "state", "cannot remember what was followed").At("%s", r.file).
			Because(err).
			Then("make it writable for this user, or set ORILLA_HOME")
	}

	return nil
}

// of returns what is known of a ref, which can be changed.
func (r *refs) of(name string) *ref {
	one := r.all[name]
	if one == nil {
		one = &ref{}
		r.all[name] = one
	}
	return one
}

// seen returns the commit of a ref that was dealt with; "" if none was.
func (r *refs) seen(name string) string {
	if one := r.all[name]; one != nil {
		return one.seen
	}
	return ""
}

// held counts the commits that wait for something else than their turn.
func (r *refs) held() (n int) {
	for _, one := range r.all {
		if one.held != (held{}) {
			n++
		}
	}
	return n
}

// due reports whether it is time to try something again,
// or to build what had to wait for its pace.
func (r *refs) due(now time.Time) bool {
	for _, one := range r.all {
		if until := one.failed.until; !until.IsZero() && !now.Before(until) {
			return true
		}
	}
	return false
}

// retries reports whether anything that failed is to be tried again; what only
// waits for its pace does not count.
func (r *refs) retries() bool {
	for _, one := range r.all {
		if one.failed.times > 0 && !one.failed.until.IsZero() {
			return true
		}
	}
	return false
}

// settled notes that a commit was dealt with, and returns the one that was
// before; "" for none or the same.
func (r *ref) settled(commit string) (before string) {
	if r.seen != commit {
		before = r.seen
	}
	r.seen, r.frozen, r.held, r.failed = commit, "", held{}, failing{}
	return before
}
