package environments

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// How much of a release is looked at before it is brought back: what differs
// from what is live, up to so many objects and, of those that are read and
// verified, so many bytes. A root implies a whole release, so this finds
// damage, not what a prune has taken.
const (
	integrityObjects = 500
	integrityBytes   = 16 << 20
)

// Integrity is how much of a release was looked at.
type Integrity struct {
	Objects, Looked int // that differ from what is live, and of these, at how many was looked
}

// CheckIntegrity makes sure that a release can be served: its root, its rules,
// the part of its index and the objects in which it differs from what is live
// (the zero ID for nothing). The error is storage.ErrNotFound or
// release.ErrDamaged for one that cannot, with the object.
func CheckIntegrity(ctx context.Context, store storage.Store, site string, id, live release.ID,
) (Integrity, error) {
	var against *release.Reader
	var reading sync.WaitGroup // going back is for when seconds count
	if !live.IsZero() && live != id {
		reading.Go(func() {
			// Should what is live be damaged, that is a reason to look at everything.
			if read, err := release.Read(ctx, store, site, live); err == nil {
				against = read
			}
		})
	}
	reader, err := release.Read(ctx, store, site, id)
	if reading.Wait(); err != nil {
		return Integrity{}, err
	}

	// What the two share visitors are being sent right now, so only what
	// differs may be missing.
	changes, err := release.Compare(ctx, against, reader)
	if err != nil {
		return Integrity{}, err
	}
	sizes := map[digest.Digest]int64{}
	var wanted []digest.Digest

	add := func(d digest.Digest, size int64) {
		if _, seen := sizes[d]; !seen {
			sizes[d] = size
			wanted = append(wanted, d)
		}
	}

	if against == nil || !release.SameSet(against.Root.Rules, reader.Root.Rules) ||
		!release.SameSet(against.Root.Immutable, reader.Root.Immutable) {
		for _, object := range reader.Root.Objects() {
			add(object, -1)
		}
	}

	for _, change := range changes {
		if change.After == nil {
			continue
		}
		for i, object := range change.After.Objects() {
			add(object, change.After.PartLength(i))
		}
	}
	sound := Integrity{Objects: len(wanted), Looked: min(len(wanted), integrityObjects)}
	return sound, probeObjects(ctx, store, wanted[:sound.Looked], sizes)
}

// probeObjects makes sure that objects are there with their
// sizes, and verifies as many as the bytes allow.
func probeObjects(ctx context.Context, store storage.Store, wanted []digest.Digest,
	sizes map[digest.Digest]int64,
) error {
	var read atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(store))
	for _, object := range wanted {
		group.Go(func() error {
			// Read as far as the bound goes, and beyond it only asked for:
			// going back is for when seconds count.
			if read.Add(max(sizes[object], 0)) <= integrityBytes {
				_, err := release.Object(ctx, store, object)
				return err
			}
			item, err := store.Stat(ctx, object.Key())
			if err == nil && sizes[object] >= 0 && item.Size != sizes[object] {
				err = fmt.Errorf("%s: %w: %d bytes in the place of %d", object.Key(), release.ErrDamaged,
					item.Size, sizes[object])
			}
			return err
		})
	}

	return group.Wait()
}

// nearby is how far from an entry another one is looked for.
const nearby = 50

// LostRelease is the refusal to bring back a release that is no longer whole.
// It names the nearest activation of the environment whose release is.
func LostRelease(ctx context.Context, j *journal.Journal, entry, head journal.Entry, because error) error {
	problem := fault.New(fault.Refused, "release-lost",
		"the release %s is no longer complete in the store; nothing changed", entry.Release.Short()).
		Because(because)
	// Nearest first, on both sides: what somebody goes back to is seldom about
	// one exact entry.
	from := entry.Number
	if entry.Reactivates != 0 {
		from = entry.Reactivates
	}

	tried := map[release.ID]bool{entry.Release: true, head.Release: true}
	for distance := int64(1); distance <= nearby; distance++ {
		for _, number := range []int64{from - distance, from + distance} {
			if number < 1 || number > head.Number {
				continue
			}
			other, err := j.Get(ctx, number)
			if err != nil || !other.Kind.Activates() || tried[other.Release] {
				continue
			}

			tried[other.Release] = true
			if _, err := CheckIntegrity(ctx, j.Store, j.Site, other.Release, head.Release); err == nil {
				return problem.With(fmt.Sprintf("the nearest complete one: %s, %s", other.Label(),
					other.Subject)).Then("orilla rollback %s", other.Label())
			}
		}
	}

	problem = problem.With("no other recent release here is complete")
	if entry.Commit != "" {
		problem = problem.Then("orilla deploy %s", entry.Commit)
	}
	return problem.Then("orilla store verify")
}

// Back is a rollback that was made, or would be.
type Back struct {
	Left      journal.Entry // the head before
	Entry     journal.Entry // without a number in a dry run
	Integrity Integrity
}

// errDryRun ends a decision before anything is written.
var errDryRun = errors.New("dry run")

// GoBack writes the entry of a rollback, or with a dry run only
// decides it. What it asks of the store depends on how much the
// two releases differ, not on the size of the site. A release
// that is not whole is refused before anything changes.
func (s *Operator) GoBack(ctx context.Context, environment string, back journal.Back, dryRun bool,
) (Back, error) {
	j := JournalOf(s.Store, s.Site, environment, s.Now)
	back.Cause, back.Who = s.Cause, s.Who
	decide := j.Return(ctx, back)
	var done Back

	entry, err := s.Append(ctx, environment, func(head *journal.Entry) (journal.Entry, error) {
		next, err := decide(head)
		if err != nil {
			return next, err
		}
		next.Site, next.Environment = s.Site, environment

		if after := s.project.ProductionConfig.Previews.Expire; journal.IsPreview(environment) &&
			head.Gone(s.Now()) && after != nil && *after > 0 {
			ends := s.Now().Add(time.Duration(*after)).UTC().Truncate(time.Second)
			next.Expires = &ends // it comes back for as long as one that is new
		}

		// Decided anew with each head; the last decision is the one that was
		// written.
		done.Left, done.Entry = *head, next
		if s.Hold.Doomed(storage.ReleaseKey(s.Site, next.Release.String())) {
			return next, fault.New(fault.Refused, "release-pruned",
				"orilla store prune is removing the release %s right now", next.Release.Short()).
				Then("choose a later one: orilla history")
		}

		done.Integrity, err = CheckIntegrity(ctx, s.Store, s.Site, next.Release, head.Release)
		if isLost(err) {
			return next, LostRelease(ctx, j, next, *head, err)
		}
		if err == nil && dryRun {
			err = errDryRun
		}
		return next, err
	})
	if errors.Is(err, errDryRun) {
		return done, nil
	}
	done.Entry = entry
	return done, err
}
