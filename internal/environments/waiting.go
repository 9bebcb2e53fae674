package environments

import (
	"context"
	"errors"
	"slices"
	"time"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
)

// PendingRelease is a release that was made for an environment while that was
// frozen, and waits for its thaw.
type PendingRelease struct {
	Format      int        `json:"format"`
	Environment string     `json:"environment"` // the stored name
	Release     release.ID `json:"release"`
	journal.Origin
	Who  string    `json:"who"`
	When time.Time `json:"when"` // by the store's clock
	Why  string    `json:"why,omitempty"`
}

const pendingFormat = 1

// Contains reports whether a commit is earlier among the
// ancestors of another one, or that one itself.
type Contains func(ctx context.Context, commit, earlier string) (bool, error)

// Await records that a release waits for the thaw of its environment. One of an
// older commit than what waits already is refused, with builds.ErrSuperseded;
// contains says which is older, as far as that is known here, and may be nil.
func Await(ctx context.Context, store storage.Store, site string, pending PendingRelease, contains Contains,
) error {
	if err := refuseOlder(ctx, store, site, pending, contains); err != nil {
		return err
	}
	pending.Format = pendingFormat
	data, err := record.Encode(pending)
	if err != nil {
		return err
	}
	return store.Replace(ctx, storage.WaitingKey(site, pending.Environment)+"/"+pending.Release.String(),
		data)
}

// refuseOlder refuses an older commit than one that waits already.
func refuseOlder(ctx context.Context, store storage.Store, site string, pending PendingRelease,
	contains Contains,
) error {
	if contains == nil || pending.Commit == "" {
		return nil
	}
	head, err := JournalOf(store, site, pending.Environment, nil).Head(ctx, 0)
	if err != nil {
		return err
	}

	waiting, err := WaitingFor(ctx, store, site, head)
	if err != nil {
		return err
	}
	for _, other := range waiting {
		if newer, err := contains(ctx, other.Commit, pending.Commit); err == nil && newer &&
			other.Commit != pending.Commit {
			return fault.New(fault.Refused, "superseded", "%s is older than what waits for the thaw, %s",
				source.Short(pending.Commit), source.Short(other.Commit)).
				Marked(builds.ErrSuperseded).At("%s", head.Label())
		}
	}

	return nil
}

// WaitingFor returns the releases that wait for a thaw, the newest first. head
// is the environment's last entry: what was made before the release that is
// live was chosen waits no more. A freeze on top of another one, to lengthen it
// say, changes nothing of that.
func WaitingFor(ctx context.Context, store storage.Store, site string, head journal.Entry,
) ([]PendingRelease, error) {
	// Without a freeze nothing waits, whatever records are left.
	if head.Frozen == nil {
		return nil, nil
	}
	var list []PendingRelease
	chosen := JournalOf(store, site, head.Environment, nil).Current(ctx, head)
	for item, err := range store.List(ctx, storage.WaitingKey(site, head.Environment)) {
		if err != nil {
			return nil, err
		}
		data, err := store.Get(ctx, item.Key)
		if errors.Is(err, storage.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}

		var one PendingRelease
		if !record.Strict(data, &one) || one.Format != pendingFormat || one.When.Before(chosen.When) {
			continue // somebody has put something else live since
		}
		if one.Release == head.Release && one.Commit == head.Commit {
			continue
		}

		same := func(e journal.Entry) bool { return e.Release == one.Release && e.Commit == one.Commit }
		// a thaw never brings back what a rollback took away
		if _, _, left := JournalOf(store, site, head.Environment, nil).LeftBy(ctx, head, same); !left {
			list = append(list, one)
		}
	}
	slices.SortFunc(list, func(a, b PendingRelease) int { return b.When.Compare(a.When) })
	return list, nil
}

// forgetWaiting takes away what waits for an environment no more.
func forgetWaiting(ctx context.Context, store storage.Store, site, environment string) {
	for item, err := range store.List(ctx, storage.WaitingKey(site, environment)) {
		if err != nil {
			return
		}
		store.Delete(ctx, item.Key) //nolint:errcheck // a thaw leaves it behind, and nothing reads it
	}
}

// Thawing says what a thaw of an environment puts live: the newest of what
// waits, unless nothing does.
func Thawing(waiting []PendingRelease) *PendingRelease {
	if len(waiting) == 0 {
		return nil
	}
	return &waiting[0]
}

// Thaw lets automatic activations of an environment through again and, in the
// same entry, puts live what waits, if that is given. head is the last entry as
// it was when somebody looked at what waits: if anything was moved since,
// nothing is done. If somebody who follows the branch was faster, and what
// waits is live already, that entry is returned.
func (s *Operator) Thaw(ctx context.Context, head journal.Entry, why string, waits *PendingRelease,
) (journal.Entry, error) {
	if waits == nil {
		entry, err := s.Append(ctx, head.Environment, journal.SetFrozen(nil, s.Cause, s.Who, why, s.Now()))
		if err == nil {
			forgetWaiting(ctx, s.Store, s.Site, head.Environment)
		}
		return entry, err
	}

	// A release that waits is named by no entry, so a prune may take it.
	if s.Hold.Doomed(storage.ReleaseKey(s.Site, waits.Release.String())) {
		return head, fault.New(fault.Refused, "release-pruned", "orilla store prune is removing "+
			"the release %s right now",
			waits.Release.Short()).Then("orilla deploy")
	}
	if _, err := release.Read(ctx, s.Store, s.Site, waits.Release); err != nil {
		return head, err
	}

	move := journal.Move{Release: waits.Release, Origin: waits.Origin, Cause: ThawCause, Who: s.Who, Why: why,
		KeepDocument: true, Thaws: true}
	activate := journal.Activate(journal.Deploy, move, s.Now())
	// Another thaw may have been faster with the same release: then both have
	// done what they wanted.
	faster := journal.Entry{}

	entry, err := s.Append(ctx, head.Environment, func(now *journal.Entry) (journal.Entry, error) {
		switch {
		case now == nil:
			return journal.Entry{}, journal.ErrEmpty
		case now.Release == waits.Release && now.Commit == waits.Commit:
			faster = *now
			return *now, ErrSame
		case now.Number != head.Number:
			return *now, fault.New(fault.Refused, "moved-on", "someone else changed %s meanwhile",
				journal.DisplayName(head.Environment)).At("%s", now.Label()).
				With("by " + now.Who).Then("orilla status")
		}
		return activate(now)
	})
	if errors.Is(err, ErrSame) {
		return faster, nil
	}
	if err == nil {
		forgetWaiting(ctx, s.Store, s.Site, head.Environment)
	}

	return entry, err
}

// ThawCause is the cause of an entry that put live what had waited.
const ThawCause = "thaw"

// ErrSame: what should go live is live already.
var ErrSame = errors.New("already live")
