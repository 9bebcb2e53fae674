// Package record reads and writes the records of a store that stand alone: each is
// one key, and says one thing. Entries of journals, build records, releases and
// rules, which hang together, have packages of their own.
//
//	data, err := record.Encode(record.Removed{…})
//	found := record.Strict(data, &removed)   // false unless Encode gives the same bytes
//	found = record.Lenient(data, &follower)  // passes over what it does not know
//
// What decides anything is read strictly: a record counts only if writing it again
// gives the same bytes. What changes all the time and decides nothing is read
// leniently, so that old and new programs see each other. docs/store-format.md
// lists all kinds, and which are read how.
package record

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/storage"
)

// ErrUnreadable: what lies under a key is not the record
// that belongs there, or one of a later version.
var ErrUnreadable = errors.New("cannot be read")

// format is the version of every record here that is not said to have another.
const format = 1

// Claim says whose the name of a site is. The first deploy makes it.
type Claim struct {
	Format int    `json:"format"`
	Site   string `json:"site"`
	// random; a name that was given up and taken again has another
	Incarnation string    `json:"incarnation"`
	Roots       []string  `json:"roots,omitempty"`  // the first commits of the repository that owns the name
	Folder      string    `json:"folder,omitempty"` // user@host:path of the folder without Git that owns it
	Who         string    `json:"who"`
	When        time.Time `json:"when"`
}

// Removed says that a site was removed, as it was under an incarnation. Without
// it, nobody takes a site that cannot be found for one that is gone.
type Removed struct {
	Format      int       `json:"format"`
	Site        string    `json:"site"`
	Incarnation string    `json:"incarnation"`
	Who         string    `json:"who"`
	When        time.Time `json:"when"`
}

// Restored says that a store was brought back from a copy, so that edge nodes
// may go back to what its journals say.
type Restored struct {
	Format int       `json:"format"`
	Who    string    `json:"who"`
	When   time.Time `json:"when"`
	Why    string    `json:"why,omitempty"`
}

// Encode returns the bytes of a record, with its version.
func (c Claim) Encode() ([]byte, error) { c.Format = format; return canon.Marshal(c) }

// Encode returns the bytes of a record, with its version.
func (r Removed) Encode() ([]byte, error) { r.Format = format; return canon.Marshal(r) }

// Encode returns the bytes of a record, with its version.
func (r Restored) Encode() ([]byte, error) { r.Format = format; return canon.Marshal(r) }

// DecodeClaim reads the claim of a site's name.
func DecodeClaim(data []byte, site string) (c Claim, err error) {
	err = strict(data, &c, storage.ClaimKey(site), func() bool {
		return c.Format == format &&
			c.Site == site && (len(c.Roots) > 0 || c.Folder != "")
	})
	return c, err
}

// DecodeRemoved reads what says that a site was removed.
func DecodeRemoved(data []byte, site, incarnation string) (r Removed, err error) {
	err = strict(data, &r, storage.RemovedKey(site, incarnation),
		func() bool { return r.Format == format && r.Site == site && r.Incarnation == incarnation })
	return r, err
}

// ReadClaim returns the claim of a site's name,
// storage.ErrNotFound, or ErrUnreadable.
func ReadClaim(ctx context.Context, store storage.Store, site string) (Claim, error) {
	data, err := store.Get(ctx, storage.ClaimKey(site))
	if err != nil {
		return Claim{}, err
	}
	return DecodeClaim(data, site)
}

// IsRemoved reports whether a site was removed as it was under an incarnation.
func IsRemoved(ctx context.Context, store storage.Store, site, incarnation string) (bool, error) {
	data, err := store.Get(ctx, storage.RemovedKey(site, incarnation))
	if errors.Is(err, storage.ErrNotFound) {
		return false, nil
	}
	if err == nil {
		_, err = DecodeRemoved(data, site, incarnation)
	}
	return err == nil, err
}

// strict decodes data, of which fits says whether it
// belongs where it was found.
func strict(data []byte, into any, key string, fits func() bool) error {
	if err := canon.Unmarshal(data, into); err != nil {
		return fmt.Errorf("%s %w: %w", key, ErrUnreadable, err)
	}
	if !fits() {
		return fmt.Errorf("%s %w: it is of another place or version", key, ErrUnreadable)
	}
	return nil
}

// Encode returns the bytes of any record that stands alone.
func Encode(record any) ([]byte, error) { return canon.Marshal(record) }

// Strict decodes a record that decides something. It reports
// whether the bytes are just those that Encode writes for
// what they say; versions are the caller's matter.
func Strict(data []byte, into any) bool { return canon.Unmarshal(data, into) == nil }

// Lenient decodes what changes all the time: fields that
// are not known are passed over. It reports whether that
// could be done; versions are the caller's matter.
func Lenient(data []byte, into any) bool { return json.Unmarshal(data, into) == nil }
