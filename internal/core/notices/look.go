package notices

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/storage"
)

// Bounds of a look.
const (
	// mostNew is how many entries, or builds, one look reads at most; the next one goes on.
	mostNew = 64
	// mostBack is how far a look goes back in what it has never looked at.
	mostBack = 20
	// openFor is how long a build, and checkedFor how long a check, is waited for.
	openFor    = 24 * time.Hour
	checkedFor = 2 * time.Hour
	mostOpen   = 100
	mostChecks = 8
)

// What is looked at, what it costs, and what tells how far one came:
//
//	hints          one read     which environments moved: those whose number is higher than known
//	environments   two reads    and one for each new entry, many side by side; the last number
//	builds         two reads    and two for each new one; those that have not ended are read again
//	checks         a read each  of the last few activations, for two hours
//	waiting        one list     of each environment that was frozen when it was last seen
//
// Nothing is ever asked of the same place twice at once, and nothing is written.

// Looking says what to look at.
type Looking struct {
	Store storage.Store
	Site  string
	Now   time.Time
	// Environments are looked at whatever hints say, by their stored names.
	Environments []string
	// All lists every environment: hints hold the last 200 that moved, and may be lost.
	All bool
	// Alarms are what edge nodes say that somebody has to do.
	Alarms []string
}

// Look finds what happened since the last look, and notes how far it came. What cannot be read
// now is found by the next look; the error says why that is so.
func (r *Record) Look(ctx context.Context, l Looking) (found []Ref, err error) {
	hints := journal.ReadHints(ctx, l.Store, l.Site)
	names := slices.Clone(l.Environments)
	for name, number := range hints {
		if known, ok := r.Entries[name]; !strings.HasPrefix(name, ".") && (!ok || number > known) {
			names = append(names, name)
		}
	}
	if l.All {
		for item, err := range l.Store.List(ctx, storage.EnvironmentsKey(l.Site)) {
			if err != nil {
				return nil, err
			}
			names = append(names, item.Name())
		}
	}
	slices.Sort(names)
	found, failed := r.environments(ctx, l, slices.Compact(names), hints)
	some, err := r.builds(ctx, l, hints[journal.RunsHint])
	found, failed = append(found, some...), errors.Join(failed, err)
	found = append(found, r.checks(ctx, l)...)
	found = append(found, r.alarms(l)...)
	tidy(r, l.Now)
	return inOrder(found), failed
}

// environments looks at journals side by side: there may be a thousand previews, in a store that is far
// away. What one of them says is noted when all have been read, so that only one goroutine does.
func (r *Record) environments(ctx context.Context, l Looking, names []string, hints journal.Hints,
) (found []Ref, failed error) {
	list := make([]glance, len(names))
	var group errgroup.Group
	group.SetLimit(storage.Parallel(l.Store))
	for i, name := range names {
		known, ok := r.Entries[name]
		g := &list[i]
		*g = glance{name: name, known: known, ok: ok, frozen: r.Frozen[name]}
		hint := max(hints[name], known)
		group.Go(func() error {
			g.err = g.look(ctx, l, r.Since, hint)
			return nil
		})
	}
	group.Wait() //nolint:errcheck // none returns any
	for i := range list {
		found, failed = append(found, r.learn(&list[i], l.Now)...), errors.Join(failed, list[i].err)
	}
	return found, failed
}

// A glance asks nothing of the record but what it was given, so that many can be taken at once. Two
// requests tell of an environment that nothing happened there: that its last entry is the last one.

// glance is what one look sees of one environment.
type glance struct {
	name   string
	known  int64 // up to which entry was looked
	ok     bool  // it is known
	frozen bool

	read    bool // up to known, anew
	entries []journal.Entry
	before  journal.Entry // the entry before the first of them
	waiting []storage.Item
	err     error
}

// look reads what is new, and what waits.
func (g *glance) look(ctx context.Context, l Looking, since time.Time, hint int64) error {
	j := journal.Journal{Store: l.Store, Site: l.Site, Environment: g.name}
	last, err := j.HeadNumber(ctx, hint)
	if err != nil || last == 0 {
		return err
	}
	if !g.ok {
		if g.known, err = behind(since, last, func(n int64) (time.Time, error) {
			entry, err := j.Get(ctx, n)
			return entry.When, err
		}); err != nil {
			return err
		}
		// Whether it is frozen is in any entry.
		head, err := j.Get(ctx, last)
		if err != nil && !readable(err) {
			return err
		}
		g.frozen = head.Frozen.At(l.Now)
	}
	g.read = true
	if g.known >= last { // fewer than there were: the store was brought back from a copy
		g.known = last
	} else if g.known > 0 {
		if g.before, err = j.Get(ctx, g.known); err != nil && !readable(err) {
			return err
		}
	}
	for end := min(last, g.known+mostNew); g.known < end; g.known++ {
		entry, err := j.Get(ctx, g.known+1)
		if err != nil && !readable(err) {
			return err
		}
		if err == nil {
			g.entries = append(g.entries, entry)
			g.frozen = entry.Frozen.At(l.Now)
		}
	}
	if !g.frozen {
		return nil
	}
	for item, err := range l.Store.List(ctx, storage.WaitingKey(l.Site, g.name)) {
		if err != nil {
			return err
		}
		g.waiting = append(g.waiting, item)
	}
	return nil
}

// A release that waits is told once. Its record is kept until somebody thaws the environment, and the
// note of it for thirty days, which is longer than anybody leaves one waiting.

// learn notes what was seen, and returns what of it is to be told.
func (r *Record) learn(g *glance, now time.Time) (found []Ref) {
	if !g.read {
		return nil
	}
	r.Entries[g.name] = g.known
	before := g.before
	for _, entry := range g.entries {
		found = append(found, told(before, entry)...)
		r.follows(entry)
		before = entry
	}
	if !g.frozen {
		delete(r.Frozen, g.name)
		return found
	}
	r.Frozen[g.name] = true
	for _, item := range g.waiting {
		// One record of a release is written again where the same is built again.
		key := g.name + "/" + item.Name()
		if _, ok := r.Waiting[key]; ok || item.Modified.Before(r.Since) {
			continue
		}
		r.Waiting[key] = now.UTC()
		found = append(found, Ref{Kind: Waiting, Environment: g.name, What: item.Name(),
			When: item.Modified.UTC().Truncate(time.Millisecond)})
	}
	return found
}

// readable reports whether an error is about a record, and not about the store: it will be the
// same the next time, so that waiting for it would hold up all that follows.
func readable(err error) bool {
	return errors.Is(err, journal.ErrDamaged) || errors.Is(err, journal.ErrUnknown) ||
		errors.Is(err, builds.ErrUnreadable) || errors.Is(err, storage.ErrNotFound)
}

// behind returns the number of the last thing that is not told, of a list that was never looked
// at: what is older than the first look is no news.
func behind(since time.Time, last int64, when func(n int64) (time.Time, error)) (int64, error) {
	for n := last; n > 0 && n > last-mostBack; n-- {
		at, err := when(n)
		if err != nil && !readable(err) {
			return 0, err
		}
		if err == nil && at.Before(since) {
			return n, nil
		}
	}
	return max(0, last-mostBack), nil
}

// follows notes what belongs to an entry and comes later: the result of its checks, and that the
// environment is no more.
func (r *Record) follows(entry journal.Entry) {
	delete(r.Gone, entry.Environment)
	switch {
	case entry.Kind == journal.Removal:
		r.Gone[entry.Environment] = entry.When
	case entry.Kind.Activates():
		r.Checks = append(r.Checks, Ref{Kind: CheckFailed, Environment: entry.Environment,
			Number: entry.Number, When: entry.When})
		if len(r.Checks) > mostChecks {
			r.Checks = slices.Delete(r.Checks, 0, len(r.Checks)-mostChecks)
		}
	}
}

// What an entry tells is seen in what it changed: an entry holds the whole state, so whether a freeze
// began or ended is the difference to the one before, whatever kind of entry it is.

// told says what an entry tells: mostly one thing, and two where a thaw publishes what waited.
func told(before, entry journal.Entry) (list []Ref) {
	if entry.Environment == journal.Previews {
		return nil // what all previews have in common
	}
	add := func(kind Kind) {
		list = append(list, Ref{Kind: kind, Environment: entry.Environment, Number: entry.Number,
			When: entry.When.UTC()})
	}
	preview := journal.IsPreview(entry.Environment)
	was, is := before.Frozen != nil, entry.Frozen != nil
	if was && !is && entry.Kind != journal.Removal {
		add(Thawed)
	}
	switch {
	case entry.Kind == journal.Removal && preview:
		add(PreviewEnded)
	case entry.Kind == journal.Removal:
		add(Removed)
	case !entry.Kind.Activates():
	case preview && before.Release.IsZero():
		add(PreviewCreated)
	case entry.Kind == journal.Promotion:
		add(Promoted)
	case entry.Kind == journal.Rollback:
		add(RolledBack)
	default:
		add(Live)
	}
	if !was && is && entry.Kind != journal.Rollback { // going back freezes, and says so
		add(Frozen)
	}
	return list
}

// builds finds builds that began, and those that ended.
func (r *Record) builds(ctx context.Context, l Looking, hint int64) (found []Ref, err error) {
	runs := builds.Runs{Store: l.Store, Site: l.Site}
	last, err := runs.Last(ctx, hint)
	if err != nil {
		return nil, err
	}
	if r.Builds == 0 && last > 0 {
		if r.Builds, err = behind(r.Since, last, func(n int64) (time.Time, error) {
			run, err := runs.Get(ctx, n)
			return run.When, err
		}); err != nil {
			return nil, err
		}
	}
	open := r.Open
	r.Open = nil
	for _, ref := range open {
		data, err := l.Store.Get(ctx, storage.RunEndedKey(l.Site, ref.Number))
		if err == nil {
			if ended, err := builds.DecodeEnded(data, ref.Number); err == nil {
				found = append(found, endedRef(ref, ended)...)
			}
			continue
		}
		// Whoever ran it may be gone without a word; that is told when somebody finds out.
		if l.Now.Sub(ref.When) < openFor {
			r.Open = append(r.Open, ref)
		}
	}
	for n := r.Builds + 1; n <= min(last, r.Builds+mostNew); n++ {
		run, err := runs.Get(ctx, n)
		if err != nil && !readable(err) {
			return found, err
		}
		r.Builds = n
		if err != nil {
			continue
		}
		ref := Ref{Kind: BuildStarted, Environment: run.Environment, Number: n, When: run.When.UTC()}
		found = append(found, ref)
		if run.Ended != nil {
			found = append(found, endedRef(ref, *run.Ended)...)
		} else if len(r.Open) < mostOpen {
			r.Open = append(r.Open, ref)
		}
	}
	return found, nil
}

// endedRef is what the end of a build tells: nothing of one that was ended by somebody, or that
// a newer commit made needless.
func endedRef(begun Ref, ended builds.Ended) []Ref {
	ref := Ref{Kind: BuildFailed, Environment: begun.Environment, Number: begun.Number,
		When: ended.When.UTC()}
	switch ended.Outcome {
	case builds.Succeeded:
		ref.Kind = BuildSucceeded
	case builds.Failed, builds.Refused, builds.Errored, builds.Abandoned:
	default:
		return nil
	}
	return []Ref{ref}
}

// checks finds entries that did not pass what was checked of them.
func (r *Record) checks(ctx context.Context, l Looking) (found []Ref) {
	waiting := r.Checks
	r.Checks = nil
	for _, ref := range waiting {
		data, err := l.Store.Get(ctx, storage.OutcomeKey(l.Site, ref.Environment, ref.Number))
		if err != nil {
			if l.Now.Sub(ref.When) < checkedFor {
				r.Checks = append(r.Checks, ref)
			}
			continue
		}
		var outcome struct {
			Passed bool      `json:"passed"`
			When   time.Time `json:"when"`
		}
		if json.Unmarshal(data, &outcome) == nil && !outcome.Passed {
			ref.When = outcome.When.UTC()
			found = append(found, ref)
		}
	}
	return found
}

// alarms finds what edge nodes say that was not told within a week. What they say has a date in
// it that changes as little as the matter does.
func (r *Record) alarms(l Looking) (found []Ref) {
	const again = 7 * 24 * time.Hour
	for _, text := range l.Alarms {
		key := digest.Of([]byte(text)).String()[:16]
		if told, ok := r.Alarms[key]; ok && l.Now.Sub(told) < again {
			continue
		}
		now := l.Now.UTC().Truncate(time.Millisecond)
		r.Alarms[key] = now
		found = append(found, Ref{Kind: Certificate, What: text, When: now})
	}
	return found
}
