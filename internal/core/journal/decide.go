package journal

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/release"
)

// Errors of decisions. The entry that they are about is in
// the Refusal that wraps them.
var (
	// ErrFrozen: the environment refuses automatic activations.
	ErrFrozen = errors.New("frozen")
	// ErrNothingBefore: there is no earlier release to go back to.
	ErrNothingBefore = errors.New("no earlier release")
	// ErrNeverThere: what was asked for was never live in the environment.
	ErrNeverThere = errors.New("never live there")
	// ErrGone: the environment serves nothing.
	ErrGone = errors.New("serves nothing")
	// ErrAlready: the environment is already in the state that was asked for.
	ErrAlready = errors.New("already so")
)

// Refusal says which entry stood in the way.
type Refusal struct { //nolint:errname // read as journal.Refusal
	Reason error
	Entry  Entry
}

// Error names the reason and the entry.
func (r *Refusal) Error() string { return fmt.Sprintf("%s: %v", r.Entry.Label(), r.Reason) }

// Unwrap returns the reason.
func (r *Refusal) Unwrap() error { return r.Reason }

// Move is what an activation wants to be live, and on whose word.
type Move struct {
	Release release.ID
	Origin
	Cause, Who, Why string

	// Document replaces the environment's document if KeepDocument is false.
	Document       Document
	KeepDocument   bool
	DuringFreezeOK bool // a person was shown the freeze and goes on; without it a freeze refuses
	Thaws          bool // it ends a freeze: a thaw and what it puts live are one entry

	// Expires is when the environment ends; nil for never. An entry before that
	// ends later, because somebody said so, is left its time.
	Expires *time.Time
}

// after begins the entry that follows head: the state goes on as it is, who may
// look above all. A removal leaves only that.
func after(head *Entry, kind Kind) Entry {
	if head == nil {
		return Entry{Kind: kind}
	}
	return Entry{
		Kind: kind, Release: head.Release, Origin: head.Origin, Document: head.Document,
		DocumentCommit: head.DocumentCommit,
		Frozen:         head.Frozen, Access: head.Access, Expires: head.Expires,
	}
}

// by fills in what wrote an entry.
func (e Entry) by(cause, who, why string) Entry {
	e.Cause, e.Who, e.Why = cause, who, why
	return e
}

// Activate decides a deploy or a promotion. A freeze that was overridden by a
// person goes on. now is by the store's clock.
//
// What can keep it from going live comes back as a *Refusal: ErrFrozen for what
// is automatic.
func Activate(kind Kind, move Move, now time.Time) Decide {
	return func(head *Entry) (Entry, error) {
		entry := after(head, kind).by(move.Cause, move.Who, move.Why)
		entry.Release, entry.Origin, entry.Expires = move.Release, move.Origin, move.Expires
		if !move.KeepDocument || head == nil {
			entry.Document, entry.DocumentCommit = move.Document.Digest, move.Document.Commit
		}

		if head == nil {
			return entry, nil
		}
		if head.Expires != nil && entry.Expires != nil && head.Expires.After(*entry.Expires) &&
			!head.Gone(now) {
			entry.Expires = head.Expires
		}

		if move.Thaws && entry.Expires == nil { // what waited was to last no longer than what it replaces
			entry.Expires = head.Expires
		}
		entry.Frozen = nil

		if head.Frozen.At(now) && !move.Thaws {
			if !move.DuringFreezeOK {
				return Entry{}, &Refusal{Reason: ErrFrozen, Entry: *head}
			}
			entry.Frozen = head.Frozen
		}
		return entry, nil
	}
}

// Back is what a rollback wants: which entry's state, and whether the
// environment goes on following its branch.
type Back struct {
	// which activation to bring back; nil: the newest different release before
	To              func(Entry) bool
	From            int64 // the number that it has at most; 0: any
	KeepFollowing   bool  // do not freeze
	Cause, Who, Why string
}

// Return decides a rollback. Without a target it goes to the
// newest different release before the number that the head
// reactivates, so that rolling back twice goes further back.
func (j *Journal) Return(ctx context.Context, back Back) Decide {
	return func(head *Entry) (Entry, error) {
		if head == nil {
			return Entry{}, ErrEmpty
		}
		target, err := j.target(ctx, *head, back)
		if err != nil {
			return Entry{}, err
		}

		entry := after(head, Rollback).by(back.Cause, back.Who, back.Why)
		entry.Release, entry.Origin, entry.Reactivates = target.Release, target.Origin, target.origin()
		if !back.KeepFollowing {
			entry.Frozen = &Frozen{Who: back.Who, When: j.Now().UTC().Truncate(time.Millisecond),
				Why: back.Why}
		}
		return entry, nil
	}
}

// target finds the activation that a rollback brings back.
func (j *Journal) target(ctx context.Context, head Entry, back Back) (Entry, error) {
	from, reason, wanted := head.Number, ErrNeverThere, back.To
	if back.From > 0 {
		from = min(from, back.From)
	}
	if wanted == nil {
		from, reason = head.Number, ErrNothingBefore
		if !head.Release.IsZero() { // of one that was removed, the last release comes back
			from = j.Current(ctx, head).origin() - 1
		}
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

// Current returns the newest activation at or before head:
// a freeze or a thaw names the release, but did not choose
// it. Without one that can be read, it is head.
func (j *Journal) Current(ctx context.Context, head Entry) Entry {
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

// SetFrozen decides a freeze, or, with nil, a thaw. now is by the store's
// clock: a freeze whose time has passed needs no thaw.
//
// The error is a *Refusal with ErrAlready if there is nothing to change.
func SetFrozen(frozen *Frozen, cause, who, why string, now time.Time) Decide {
	return func(head *Entry) (Entry, error) {
		if head == nil {
			return Entry{}, ErrEmpty
		}
		if frozen == nil && !head.Frozen.At(now) {
			return Entry{}, &Refusal{Reason: ErrAlready, Entry: *head}
		}

		kind := Thaw
		if frozen != nil {
			kind = Freeze
		}
		entry := after(head, kind).by(cause, who, why)
		entry.Frozen = frozen
		return entry, nil
	}
}

// Remove decides that an environment serves nothing any more. Its addresses
// stay, so that they can say so, and its password, in case that it comes back.
// The error is ErrGone for one that serves nothing anyway.
func Remove(ended Ended, cause, who, why string) Decide {
	return func(head *Entry) (Entry, error) {
		if head == nil {
			return Entry{}, ErrEmpty
		}
		if head.Release.IsZero() {
			return Entry{}, &Refusal{Reason: ErrGone, Entry: *head}
		}

		entry := after(head, Removal).by(cause, who, why)
		ended.Commit, ended.Branch = head.Commit, head.Branch
		entry.Release, entry.Origin = release.ID{}, Origin{}
		entry.Frozen, entry.Expires, entry.Ended = nil, nil, &ended
		if entry.Access != nil {
			entry.Access = &Looking{Password: head.Access.Password, User: head.Access.User}
		}
		return entry, nil
	}
}

// SetDocument decides that an environment has another document, and nothing else changes. A
// journal may begin with such an entry: nodes answer at its addresses before anything is
// deployed there.
func SetDocument(document Document, automatic bool, cause, who, why string, now time.Time) Decide {
	return func(head *Entry) (Entry, error) {
		entry := after(head, Settings).by(cause, who, why)
		switch {
		case head == nil:
		case head.Document == document.Digest:
			return Entry{}, &Refusal{Reason: ErrAlready, Entry: *head}
		case automatic && head.Frozen.At(now):
			return Entry{}, &Refusal{Reason: ErrFrozen, Entry: *head}
		default:
			entry.Ended = head.Ended // what was removed stays so
		}

		entry.Document, entry.DocumentCommit = document.Digest, document.Commit
		return entry, nil
	}
}

// SetExpiry decides that an environment ends at another time; nil for never.
func SetExpiry(expires *time.Time, cause, who, why string, now time.Time) Decide {
	return func(head *Entry) (Entry, error) {
		switch {
		case head == nil:
			return Entry{}, ErrEmpty
		case head.Release.IsZero() || head.HasExpired(now) && expires != nil && !expires.After(now):
			return Entry{}, &Refusal{Reason: ErrGone, Entry: *head}
		}

		entry := after(head, Settings).by(cause, who, why)
		entry.Expires = expires
		return entry, nil
	}
}

// SetAccess decides who may look. change gets what held, never nil,
// and returns what holds from now on; nil for everybody. It may
// return an error, such as ErrAlready. A journal may begin with
// such an entry: the password is there before anything else is.
func SetAccess(change func(Looking) (*Looking, error), cause, who, why string) Decide {
	return func(head *Entry) (Entry, error) {
		entry := after(head, Access).by(cause, who, why)
		if head != nil {
			entry.Ended = head.Ended
		}
		now := Looking{}
		if entry.Access != nil {
			now = *entry.Access
			now.Shares = slices.Clone(now.Shares)
		}

		next, err := change(now)
		if errors.Is(err, ErrAlready) && head != nil {
			err = &Refusal{Reason: ErrAlready, Entry: *head}
		}
		entry.Access = next
		return entry, err
	}
}

// Previews is the stored name of the journal that holds who may look at
// previews, all of them. It serves nothing, and no environment has this name.
const Previews = "previews"

// PreviewPrefix begins the stored name of a preview; no
// fixed environment has a dot in its name.
const PreviewPrefix = "preview."

// DisplayName turns the stored name of an environment into
// the one that people read and type.
//
//	production       production
//	preview.winter   preview/winter
func DisplayName(environment string) string {
	if label, ok := strings.CutPrefix(environment, PreviewPrefix); ok {
		return "preview/" + label
	}
	return environment
}

// StoredName turns what people type into the stored name.
//
// The stored name has no slash, since it is one part of a key.
func StoredName(environment string) string {
	if label, ok := strings.CutPrefix(environment, "preview/"); ok {
		return PreviewPrefix + label
	}
	return environment
}

// IsPreview reports whether an environment, by its stored name, is a preview.
func IsPreview(environment string) bool { return strings.HasPrefix(environment, PreviewPrefix) }
