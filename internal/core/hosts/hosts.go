// Package hosts keeps whom a host of an address belongs to: one site, which may
// let others have paths on it.
//
//	hosts/<sha256 of "corvane.example">/0000000001    owner corvane
//	hosts/<sha256 of "corvane.example">/0000000002    owner corvane; /shop granted to corvane-shop
//
// Each host has a numbered journal under the hash of its name. As in the journals
// of environments, entry n+1 is created only if it is absent, and holds the whole
// resulting state; so of two who take or hand over the same host, one wins, and
// the other one sees it. A host "*.NAME" is all names one label below NAME, but
// for those that have an owner of their own.
//
// Names are compared as DNS does, in lower case, and without a port.
package hosts

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// Format is the version of the record layout.
const Format = 1

// Errors that callers decide on.
var (
	// ErrDamaged: an entry cannot be read, or is of another place or version.
	ErrDamaged = errors.New("cannot be read")
	// ErrInDoubt: whether an entry was written could not be learnt.
	ErrInDoubt = errors.New("the store stopped answering while the entry was written")
)

// Entry is one record in the journal of a host: its owner and grants from here
// on.
type Entry struct {
	Format   int           `json:"format"`
	Host     string        `json:"host"`   // in lower case, "*.NAME" for all names below NAME
	Number   int64         `json:"number"` // from 1
	Previous digest.Digest `json:"previous,omitzero"`
	Attempt  string        `json:"attempt"`        // random: by it a writer knows its own entry again
	Site     string        `json:"site,omitempty"` // "" once it was released
	Grants   []Grant       `json:"grants,omitempty"`
	Who      string        `json:"who"`
	When     time.Time     `json:"when"` // UTC, by the writer's clock
	Why      string        `json:"why,omitempty"`

	sum digest.Digest
}

// Grant lets another site have what lies below a path on the host.
type Grant struct {
	Site string `json:"site"`
	Path string `json:"path"` // absolute, with a final slash
}

// Allows reports whether a site may have an address at a path of the host.
func (e Entry) Allows(site, path string) bool {
	if e.Site == site {
		return true
	}
	return slices.ContainsFunc(e.Grants, func(g Grant) bool {
		return g.Site == site &&
			strings.HasPrefix(slashed(path), slashed(g.Path))
	})
}

// slashed ends a path in a slash, so that /fares is no part of /fares-old.
func slashed(path string) string { return strings.TrimSuffix(path, "/") + "/" }

// Of returns the host and the path of an address; a host
// is written in lower case.
func Of(address string) (host, path string, err error) {
	parsed, err := url.Parse(address)
	if err != nil {
		return "", "", err
	}
	return strings.ToLower(parsed.Hostname()), slashed(parsed.EscapedPath()), nil
}

// Wildcard returns the host that stands for all names beside one; "" for a name
// without a dot, and for a wildcard.
//
//	www.corvane.example   *.corvane.example
//	*.corvane.example     none
func Wildcard(host string) string {
	_, rest, ok := strings.Cut(host, ".")
	if !ok || strings.HasPrefix(host, "*") {
		return ""
	}
	return "*." + rest
}

// hash names a host in keys: hosts may be longer than a part of a key, and
// wildcards have a character that keys lack.
func hash(host string) string { return digest.Of([]byte(host)).String() }

// Read reads an entry of any host.
func Read(data []byte) (e Entry, err error) {
	if err := canon.Unmarshal(data, &e); err != nil || e.Format != Format {
		return Entry{}, fmt.Errorf("the entry of a host %w: %w", ErrDamaged, canon.Cause(err))
	}
	return e, nil
}

// Follows makes sure that an entry is the n-th of the journal of the host with
// a hash, after the bytes of the one before.
func Follows(data []byte, hash string, n int64, before []byte) error {
	e, err := Read(data)
	if err != nil {
		return err
	}
	previous := digest.Digest{}
	if n > 1 {
		previous = digest.Of(before)
	}

	if e.Number != n || e.Previous != previous || digest.Of([]byte(e.Host)).String() != hash {
		return fmt.Errorf("the entry of a host %w: it is of another place, or "+
			"does not follow on the one before", ErrDamaged)
	}
	return nil
}

// Decode reads the record that was found in the journal of
// a host under a number.
func Decode(data []byte, host string, number int64) (e Entry, err error) {
	if err = canon.Unmarshal(data, &e); err == nil &&
		(e.Format != Format || e.Host != host || e.Number != number) {
		err = errors.New("it is of another place or version")
	}
	if err != nil {
		return Entry{}, fmt.Errorf("%s %w: %w", storage.HostKey(hash(host), number), ErrDamaged, err)
	}
	e.sum = digest.Of(data)
	return e, nil
}

// Head returns the last entry of a host's journal; one
// without a number if there is none.
func Head(ctx context.Context, store storage.Store, host string) (Entry, error) {
	n, err := storage.LastNumber(ctx, 0, func(ctx context.Context, n int64) (bool, error) {
		_, err := store.Stat(ctx, storage.HostKey(hash(host), n))
		if errors.Is(err, storage.ErrNotFound) {
			return false, nil
		}
		return err == nil, err
	})
	if err != nil || n == 0 {
		return Entry{Host: host}, err
	}
	return get(ctx, store, host, n)
}

// get reads entry n of a host's journal. The error is storage.ErrNotFound for
// one that is not there yet, and ErrDamaged for one that is not that entry.
func get(ctx context.Context, store storage.Store, host string, n int64) (Entry, error) {
	data, err := store.Get(ctx, storage.HostKey(hash(host), n))
	if err != nil {
		return Entry{}, err
	}
	return Decode(data, host, n)
}

// Owner returns the entry that names the owner of a host: its own, else that of
// the wildcard above it, else one without a site.
func Owner(ctx context.Context, store storage.Store, host string) (Entry, error) {
	// A host's own journal comes before that of the wildcard above it.
	own, err := Head(ctx, store, host)
	if err != nil || own.Site != "" {
		return own, err
	}
	if wildcard := Wildcard(host); wildcard != "" {
		beside, err := Head(ctx, store, wildcard)
		if err != nil || beside.Site != "" {
			return beside, err
		}
	}
	return own, nil
}

// tries is how often Append decides again before it gives up on a store that
// answers nothing but errors.
const tries = 5

// Append writes the next entry of a host's journal. decide makes it of the last
// one; it may be called several times. All tries are one attempt, which is
// random. The error is what decide returned, or what the store did.
func Append(ctx context.Context, store storage.Store, host, attempt string,
	decide func(head Entry) (Entry, error),
) (Entry, error) {
	// As in the journals of environments: a try whose answer was lost is looked
	// for before the next one.
	failures, unclear := 0, int64(0) // the number of a try of which nothing is known
	for {
		head, err := Head(ctx, store, host)
		if err == nil && unclear > 0 && head.Number >= unclear {
			var own Entry
			if own, err = get(ctx, store, host, unclear); err == nil && own.Attempt == attempt {
				return own, nil // it has arrived
			}
		}
		if err != nil {
			return Entry{}, err
		}

		next, err := decide(head)
		if err != nil {
			return Entry{}, err
		}
		next.Format, next.Host, next.Number, next.Previous, next.Attempt = Format, host, head.Number+
			1, head.sum, attempt

		next.When = next.When.UTC().Truncate(time.Second)
		data, err := canon.Marshal(next)
		if err != nil {
			return Entry{}, err
		}

		failed := store.Create(ctx, storage.HostKey(hash(host), next.Number), data)
		if failed == nil {
			next.sum = digest.Of(data)
			return next, nil
		}

		// Whether it was written has to be known even if the caller was
		// interrupted.
		there, err := get(context.WithoutCancel(ctx), store, host, next.Number)
		switch {
		case err == nil && there.Attempt == attempt:
			return there, nil
		case err == nil:
			continue // somebody was faster
		case !errors.Is(err, storage.ErrNotFound):
			return Entry{}, fmt.Errorf("%w: %s: %w", ErrInDoubt, host, errors.Join(failed, err))
		}

		if errors.Is(failed, storage.ErrDenied) || errors.Is(failed, storage.ErrReadOnly) ||
			errors.Is(failed, storage.ErrCredentials) {
			return Entry{}, failed
		}
		unclear = next.Number
		if failures++; failures == tries || ctx.Err() != nil {
			return Entry{}, fmt.Errorf("%w: %s: %w", ErrInDoubt, host, failed)
		}
	}
}
