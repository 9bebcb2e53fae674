package journal

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/release"
)

// Errors of decisions. The entry that they are about is in the Refusal that wraps them.
var (
	// ErrFrozen: the environment refuses automatic activations.
	ErrFrozen = errors.New("frozen")
	// ErrNothingBefore: there is no earlier release to go back to.
	ErrNothingBefore = errors.New("no earlier release")
	// ErrNeverThere: what was asked for was never live in the environment.
	ErrNeverThere = errors.New("never live there")
	// ErrAlready: the environment is already in the state that was asked for.
	ErrAlready = errors.New("already so")
)

// Refusal says which entry stood in the way.
type Refusal struct {
	Reason error
	Entry  Entry
}

// Error names the reason and the entry.
func (r *Refusal) Error() string { return fmt.Sprintf("%s: %v", r.Entry.Label(), r.Reason) }

// Unwrap returns the reason.
func (r *Refusal) Unwrap() error { return r.Reason }

// Move is what an activation wants.
type Move struct {
	Release release.ID
	Origin
	Cause, Who, Why string

	// Document replaces the environment's document if KeepDocument is false.
	Document       Document
	KeepDocument   bool
	DuringFreezeOK bool // a person was shown the freeze and goes on; without it a freeze refuses
}

// Activate decides a deploy or a promotion. A freeze that was overridden by a person goes on.
func Activate(kind Kind, move Move, now time.Time) Decide {
	return func(head *Entry) (Entry, error) {
		entry := Entry{Kind: kind, Release: move.Release, Origin: move.Origin, Cause: move.Cause, Who: move.Who, Why: move.Why}
		if !move.KeepDocument {
			entry.Document, entry.DocumentCommit = move.Document.Digest, move.Document.Commit
		}
		if head == nil {
			return entry, nil
		}
		if head.Frozen.At(now) {
			if !move.DuringFreezeOK {
				return Entry{}, &Refusal{Reason: ErrFrozen, Entry: *head}
			}
			entry.Frozen = head.Frozen
		}
		if move.KeepDocument {
			entry.Document, entry.DocumentCommit = head.Document, head.DocumentCommit
		}
		return entry, nil
	}
}

// Back is what a rollback wants.
type Back struct {
	To              func(Entry) bool // which activation to bring back; nil: the newest different release before
	KeepFollowing   bool             // do not freeze
	Cause, Who, Why string
}

// Return decides a rollback. Without a target it goes to the newest different release before the number that the head
// reactivates, so that rolling back twice goes further back.
func (j *Journal) Return(ctx context.Context, back Back) Decide {
	return func(head *Entry) (Entry, error) {
		if head == nil {
			return Entry{}, ErrEmpty
		}
		target, err := j.target(ctx, *head, back.To)
		if err != nil {
			return Entry{}, err
		}
		entry := Entry{
			Kind: Rollback, Release: target.Release, Origin: target.Origin, Reactivates: target.origin(),
			Document: head.Document, DocumentCommit: head.DocumentCommit, Frozen: head.Frozen,
			Cause: back.Cause, Who: back.Who, Why: back.Why,
		}
		if !back.KeepFollowing {
			entry.Frozen = &Frozen{Who: back.Who, When: j.Now().UTC().Truncate(time.Millisecond), Why: back.Why}
		}
		return entry, nil
	}
}

// target finds the activation that a rollback brings back.
func (j *Journal) target(ctx context.Context, head Entry, wanted func(Entry) bool) (Entry, error) {
	from, reason := head.Number, ErrNeverThere
	if wanted == nil {
		from, reason = j.current(ctx, head).origin()-1, ErrNothingBefore
		wanted = func(e Entry) bool { return e.Release != head.Release }
	}
	for entry, err := range j.Back(ctx, from) {
		if err != nil {
			return Entry{}, err
		}
		if !entry.Kind.Activates() || !wanted(entry) {
			continue
		}
		if entry.Release == head.Release {
			return Entry{}, &Refusal{Reason: ErrAlready, Entry: entry}
		}
		return entry, nil
	}
	return Entry{}, &Refusal{Reason: reason, Entry: head}
}

// current returns the newest activation at or before head: a freeze or a thaw names the release, but did not choose it.
func (j *Journal) current(ctx context.Context, head Entry) Entry {
	if head.Kind.Activates() {
		return head
	}
	for entry, err := range j.Back(ctx, head.Number-1) {
		if err == nil && entry.Kind.Activates() {
			return entry
		}
	}
	return head
}

// SetFrozen decides a freeze, or, with nil, a thaw.
func SetFrozen(frozen *Frozen, cause, who, why string) Decide {
	return func(head *Entry) (Entry, error) {
		if head == nil {
			return Entry{}, ErrEmpty
		}
		if frozen == nil && head.Frozen == nil {
			return Entry{}, &Refusal{Reason: ErrAlready, Entry: *head}
		}
		entry := *head
		entry.Kind, entry.Frozen, entry.Reactivates = Thaw, frozen, 0
		if frozen != nil {
			entry.Kind = Freeze
		}
		entry.Cause, entry.Who, entry.Why = cause, who, why
		return entry, nil
	}
}

// Remove decides that an environment serves nothing any more.
func Remove(cause, who string) Decide {
	return func(head *Entry) (Entry, error) {
		if head == nil {
			return Entry{}, ErrEmpty
		}
		return Entry{Kind: Removal, Cause: cause, Who: who}, nil
	}
}

// PreviewPrefix begins the stored name of a preview; no fixed environment has a dot in its name.
const PreviewPrefix = "preview."

// DisplayName turns the stored name of an environment into the one that people read and type.
func DisplayName(environment string) string {
	if label, ok := strings.CutPrefix(environment, PreviewPrefix); ok {
		return "preview/" + label
	}
	return environment
}

// StoredName turns what people type into the stored name.
func StoredName(environment string) string {
	if label, ok := strings.CutPrefix(environment, "preview/"); ok {
		return PreviewPrefix + label
	}
	return environment
}
