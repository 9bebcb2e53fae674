package storage

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
)

// Format is the version of what lies in a store.
const Format = 1

// mark is the record that makes a folder or a bucket a store.
type mark struct {
	Format int    `json:"format"`
	ID     string `json:"id,omitempty"` // random: a store that was made anew at the same address has another
	Kind   string `json:"kind"`
}

const markKind = "orilla-store"

// NewMark returns the content of MarkKey for a new store. id is random.
func NewMark(id string) []byte {
	// its fields stand in the order of RFC 8785
	data, err := json.Marshal(mark{Format: Format, ID: id, Kind: markKind})
	if err != nil {
		panic(err) // a struct of strings and numbers
	}
	return data
}

// CheckMark returns the id in the content of MarkKey, which the first stores
// lack, or ErrFormat or ErrOther.
func CheckMark(data []byte) (id string, err error) {
	var m mark
	switch err := json.Unmarshal(data, &m); {
	case err != nil || m.Kind != markKind:
		return "", ErrOther
	case m.Format != Format:
		return "", fmt.Errorf("%w: its format is %d", ErrFormat, m.Format)
	}
	return m.ID, nil
}

// Remote is a Store that is not a folder of this machine.
type Remote interface {
	Store
	// Empty reports whether nothing is kept below the store's address.
	Empty(ctx context.Context) (bool, error)
	// Place names the store's server for people, and
	// Account whom it takes us for.
	Place() string
	Account() string
}

// Marked returns the id of a store. The error is ErrNone if there is no mark
// and nothing else below the store's address, ErrOther if there is something,
// ErrFormat, or what the store said.
func Marked(ctx context.Context, store Remote) (id string, err error) {
	data, err := store.Get(ctx, MarkKey)
	if err == nil {
		return CheckMark(data)
	}
	if !errors.Is(err, ErrNotFound) {
		return "", err
	}

	empty, err := store.Empty(ctx)
	if err == nil && !empty {
		err = ErrOther
	}
	if err == nil {
		err = ErrNone
	}
	return "", err
}

// MakeMark makes a store of what Marked found to be none,
// and returns its id. Several may do so at once.
func MakeMark(ctx context.Context, store Remote, id string) (string, error) {
	err := store.Create(ctx, MarkKey, NewMark(id))
	if err != nil && !errors.Is(err, ErrExists) {
		return "", err
	}
	return Marked(ctx, store)
}
