package pipeline

import (
	"context"
	"errors"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
)

// Outcome is what came of what was looked at after an activation. It is kept beside the journal, under the entry's number.
type Outcome struct {
	Format  int       `json:"format"`
	Entry   int64     `json:"entry"`
	Attempt string    `json:"attempt"` // of the entry
	Passed  bool      `json:"passed"`
	Looks   []Look    `json:"looks"`
	When    time.Time `json:"when"`
	Back    int64     `json:"back,omitempty"` // the number of the entry that went back
}

// Formats of outcomes: the second one is for those that hold a look that could not be had.
const (
	outcomeFormat          = 1
	outcomeFormatUnchecked = 2
)

// Look is one thing that was looked at: an address that was requested, or a command that was run.
type Look struct {
	What         string `json:"what"`
	Passed       bool   `json:"passed"`
	Unchecked    bool   `json:"unchecked,omitempty"` // there was nobody left who could have been asked; it did not pass, and did not fail
	Text         string `json:"text"`                // "200 at 2 edge nodes", "status 1"
	Milliseconds int64  `json:"milliseconds"`
}

// ReadOutcome returns what came of what was looked at after an entry; nil if nothing was.
func ReadOutcome(ctx context.Context, store storage.Store, entry journal.Entry) (*Outcome, error) {
	data, err := store.Get(ctx, storage.OutcomeKey(entry.Site, entry.Environment, entry.Number))
	if errors.Is(err, storage.ErrNotFound) {
		return nil, nil
	}
	var outcome Outcome
	if err != nil || !record.Strict(data, &outcome) || outcome.Format < outcomeFormat || outcome.Format > outcomeFormatUnchecked || outcome.Attempt != entry.Attempt {
		return nil, err
	}
	return &outcome, nil
}
