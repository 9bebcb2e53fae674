package environments

import (
	"context"
	"errors"
	"slices"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
)

// Outcome is the result of the probes that followed an activation.
type Outcome struct {
	Format  int       `json:"format"`
	Entry   int64     `json:"entry"`
	Attempt string    `json:"attempt"` // of the entry
	Passed  bool      `json:"passed"`
	Probes  []Probe   `json:"looks"`
	When    time.Time `json:"when"`           // by the store's clock
	Back    int64     `json:"back,omitempty"` // the number of the entry that went back
}

// Formats of outcomes. The second one is for those with a probe that nobody
// could be asked about, which the first knows nothing of.
const (
	outcomeFormat          = 1
	outcomeFormatUnchecked = 2
)

// Probe is an address that was requested, or a command that was run.
type Probe struct {
	What   string `json:"what"`
	Passed bool   `json:"passed"`
	// nobody was left who could have been asked: it neither passed nor failed
	Unchecked bool `json:"unchecked,omitempty"`
	// "200 at 2 edge nodes", "ended with status 1: 3 links are broken"
	Text         string `json:"text"`
	Milliseconds int64  `json:"milliseconds"`
}

// WithFormat returns the outcome with the lowest format that can say it.
func (o Outcome) WithFormat() Outcome {
	o.Format = outcomeFormat
	if slices.ContainsFunc(o.Probes, func(p Probe) bool { return p.Unchecked }) {
		o.Format = outcomeFormatUnchecked
	}
	return o
}

// GetProbes returns the probes of an outcome, none of nil.
func (o *Outcome) GetProbes() []Probe {
	if o == nil {
		return nil
	}
	return o.Probes
}

// ReadOutcome returns what came of verifying an entry; nil if nothing was
// verified, or by a later version in another form.
func ReadOutcome(ctx context.Context, store storage.Store, entry journal.Entry) (*Outcome, error) {
	data, err := store.Get(ctx, storage.OutcomeKey(entry.Site, entry.Environment, entry.Number))
	if errors.Is(err, storage.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}

	var outcome Outcome
	known := record.Strict(data, &outcome) && outcome.Format >= outcomeFormat &&
		outcome.Format <= outcomeFormatUnchecked
	if !known || outcome.Attempt != entry.Attempt {
		return nil, nil
	}
	return &outcome, nil
}
