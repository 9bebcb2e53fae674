// Package journal is the append-only list of what an environment served, and the
// decisions about its next entry.
//
//	sites/corvane/environments/production/journal/0000000001  deploy    r-4f1c9a2b07
//	sites/corvane/environments/production/journal/0000000002  deploy    r-9be0312c55
//	sites/corvane/environments/production/journal/0000000003  rollback  r-4f1c9a2b07
//
// Entry n+1 is created only if it is absent, and nobody ever changes or removes
// one while the site lives: the journal is the only place where writers meet. Each
// entry holds the whole resulting state, so the last one alone says what is live.
//
// A decision about the next entry is a function of the last one:
//
//	journal.Append(ctx, journal.Activate(journal.Deploy, move, now))
//
// Append reads the head, asks the function, and creates the entry; if somebody
// else was faster, it reads and asks again. So a rule such as "an automatic deploy
// does not follow a rollback" or "nothing moves while it is frozen" is decided on
// the state that it will follow, however many write at once.
package journal

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

// Versions of the record layout. Entries and documents are written in the
// lowest that can say what is to be said.
const (
	Format = 1
	// entries that count from a moment on, or are signed; documents that need
	// something of whoever reads them
	Format2 = 2
)

// Kind says what an entry did.
type Kind string

// The kinds of entries. Deploy, Promotion and Rollback are
// activations: they chose the release.
const (
	Deploy    Kind = "deploy"
	Promotion Kind = "promotion"
	Rollback  Kind = "rollback"
	Freeze    Kind = "freeze"
	Thaw      Kind = "thaw"
	Settings  Kind = "settings" // the environment's document, or when it expires
	Access    Kind = "access"   // who may look
	Removal   Kind = "removal"
)

// Activates reports whether entries of this kind chose the release they name.
func (k Kind) Activates() bool { return k == Deploy || k == Promotion || k == Rollback }

// known reports whether this version knows what entries of the kind mean. A
// later kind is damage to it: guessing could put the wrong thing live.
func (k Kind) known() bool {
	switch k {
	case Deploy, Promotion, Rollback, Freeze, Thaw, Settings, Access, Removal:
		return true
	}
	return false
}

// Source says what an activation put live.
type Source string

// The sources of a release.
const (
	FromCommit      Source = "commit"
	FromWorkingTree Source = "working-tree"
	FromOutput      Source = "output" // files that were already built
)

// Errors that callers decide on.
var (
	// ErrDamaged: an entry does not parse, or is not of
	// the place it was found in.
	ErrDamaged = errors.New("damaged")
	// ErrUnknown: an entry was written by a later version of Orilla.
	ErrUnknown = errors.New("made by another version of Orilla")
)

// Entry is one record of a journal. Empty fields are left
// out of the record, which is canonical JSON.
type Entry struct {
	Format      int    `json:"format"`
	Site        string `json:"site"`
	Environment string `json:"environment"`
	Number      int64  `json:"number"` // from 1

	// Previous is the digest of the bytes of the entry
	// before; unset for entry 1.
	Previous digest.Digest `json:"previous,omitzero"`
	// Attempt is random: by it a writer knows its own
	// entry again after an unclear answer.
	Attempt string `json:"attempt"`

	Kind    Kind       `json:"kind"`
	Release release.ID `json:"release,omitzero"` // what is served from here on; unset after a removal
	Origin             // where the release comes from
	// Reactivates is the number of the entry whose state a
	// rollback brought back.
	Reactivates int64 `json:"reactivates,omitempty"`
	// Document is the digest of the environment's document
	// (addresses and the like); unset without one.
	Document digest.Digest `json:"document,omitzero"`
	// DocumentCommit is the commit that the document was read from.
	DocumentCommit string `json:"document_commit,omitempty"`
	// Frozen is set while automatic activations are refused.
	Frozen *Frozen `json:"frozen,omitempty"`
	// Access is set where not everybody may look.
	Access *Looking `json:"access,omitempty"`
	// Expires is when a preview ends by itself, by the store's clock.
	Expires *time.Time `json:"expires,omitempty"`
	// Ended says, of a removal, why there is nothing any more.
	Ended *Ended `json:"ended,omitempty"`

	// From is the moment from which the entry counts, by the store's clock;
	// until then the one before does. Unset: at once. Format 2.
	From *time.Time `json:"from,omitempty"`
	// Signature is over the entry without it. Whoever has no key to compare it
	// with passes it over. Format 2.
	Signature string `json:"signature,omitempty"`

	Cause string    `json:"cause"`         // what wrote it: "command", "follow", "hook"
	Who   string    `json:"who"`           // a name, with an address where Git has one
	When  time.Time `json:"when"`          // UTC, by the writer's clock
	Why   string    `json:"why,omitempty"` // what the writer said of it

	sum digest.Digest // of the bytes, once it was read or written
}

// Origin says where a release comes from.
type Origin struct {
	Source  Source `json:"source,omitempty"`
	Commit  string `json:"commit,omitempty"`  // the full hash
	Branch  string `json:"branch,omitempty"`  // as far as it was known
	Subject string `json:"subject,omitempty"` // the first line of the commit's message
	Build   string `json:"build,omitempty"`   // <build key>/<n>
}

// Frozen says who refused automatic activations, and until when.
type Frozen struct {
	Who   string     `json:"who"`
	When  time.Time  `json:"when"`
	Why   string     `json:"why,omitempty"`
	Until *time.Time `json:"until,omitempty"` // unset: until thawed
}

// Looking says who may look at what an environment serves: whoever knows the
// password, or has a link that is shared.
type Looking struct {
	Password string `json:"password,omitempty"` // its bcrypt hash; "" for none: then everybody may look
	User     string `json:"user,omitempty"`     // the name that goes with it; "" for any
	// Shares are the links that open it without the password.
	Shares []Share `json:"shares,omitempty"`
}

// Share is a link that opens an environment until it expires. The link itself
// is not kept, only the digest of its secret part.
type Share struct {
	Digest digest.Digest `json:"digest"`
	Until  time.Time     `json:"until"` // UTC, by the store's clock
	Who    string        `json:"who"`   // made it
	Why    string        `json:"why,omitempty"`
}

// Protects reports whether a password is asked for.
func (l *Looking) Protects() bool { return l != nil && l.Password != "" }

// Ended says why an environment was removed, and where what it showed is now.
type Ended struct {
	Reason Reason `json:"reason"`
	Into   string `json:"into,omitempty"`   // the stored name of the environment that shows it now
	Commit string `json:"commit,omitempty"` // what was there
	Branch string `json:"branch,omitempty"`
}

// Reason is why an environment was removed.
type Reason string

// The reasons of a removal.
const (
	OnRequest Reason = "request" // somebody removed it
	Expired   Reason = "expired" // its time had come
	Merged    Reason = "merged"  // its branch was merged
	Deleted   Reason = "deleted" // its branch was deleted
	Room      Reason = "room"    // there were more previews than there may be
)

// At reports whether the freeze holds at the given time.
//
// It may be asked of nil, which never holds.
func (f *Frozen) At(now time.Time) bool { return f != nil && (f.Until == nil || now.Before(*f.Until)) }

// formatOf is the lowest version that can say what an entry says.
func (e Entry) formatOf() int {
	if e.From != nil || e.Signature != "" {
		return Format2
	}
	return Format
}

// Counts reports whether the entry counts at a time, by the store's clock.
func (e Entry) Counts(now time.Time) bool { return e.From == nil || !now.Before(*e.From) }

// Encode returns the record's bytes.
//
// The bytes are canonical (RFC 8785): whoever encodes the same entry gets the
// same hash.
func (e Entry) Encode() ([]byte, error) {
	e.When = e.When.UTC().Truncate(time.Millisecond)
	return canon.Marshal(e)
}

// Decode reads the record that was found in the journal of an environment under
// a number. The error is ErrUnknown for a later format and ErrDamaged for
// anything else that is not an entry of that place.
func Decode(data []byte, site, environment string, number int64) (Entry, error) {
	place := fmt.Sprintf("%s: %s:%d", site, environment, number)
	var version struct{ Format int }
	if err := json.Unmarshal(data, &version); err != nil {
		return Entry{}, fmt.Errorf("%s: %w: %w", place, ErrDamaged, err)
	}

	if version.Format != Format && version.Format != Format2 {
		return Entry{}, fmt.Errorf("%s: %w (format %d)", place, ErrUnknown, version.Format)
	}
	var e Entry
	if err := canon.Unmarshal(data, &e); err != nil {
		return Entry{}, fmt.Errorf("%s: %w: %w", place, ErrDamaged, err)
	}

	if e.Format != e.formatOf() {
		return Entry{}, fmt.Errorf("%s: %w: it says what format %d says, under format %d", place, ErrDamaged,
			e.formatOf(), e.Format)
	}
	if e.Site != site || e.Environment != environment || e.Number != number || !e.Kind.known() {
		return Entry{}, fmt.Errorf("%s: %w: it says that it is %s: %s:%d (%s)", place, ErrDamaged, e.Site,
			e.Environment, e.Number, e.Kind)
	}

	if e.Kind.Activates() && e.Release.IsZero() || e.Kind == Removal && !e.Release.IsZero() {
		return Entry{}, fmt.Errorf("%s: %w: a %s with release %q", place, ErrDamaged, e.Kind, e.Release)
	}
	e.sum = digest.Of(data)
	return e, nil
}

// Label is how an entry is written and typed: environment:number.
//
// Labels are what people type to go back: orilla rollback production:12.
func (e Entry) Label() string { return fmt.Sprintf("%s:%d", DisplayName(e.Environment), e.Number) }

// NeverLive reports whether nothing was ever live in the environment: it is only said
// who may look, or where it will be.
func (e Entry) NeverLive() bool {
	return e.Release.IsZero() && e.Ended == nil && (e.Kind == Access || e.Kind == Settings)
}

// Gone reports whether the environment serves nothing at a time, by the store's
// clock: it was removed, or has expired.
func (e Entry) Gone(now time.Time) bool { return e.Release.IsZero() || e.HasExpired(now) }

// HasExpired reports whether the entry's time had come at
// a time, by the store's clock.
func (e Entry) HasExpired(now time.Time) bool { return e.Expires != nil && !now.Before(*e.Expires) }

// origin returns the number of the entry that first put this state live.
func (e Entry) origin() int64 {
	if e.Reactivates != 0 {
		return e.Reactivates
	}
	return e.Number
}
