package journal

import (
	"context"
	"encoding/json"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/storage"
)

// Hints are the numbers of the last entries of a site's
// environments, by their stored names, as the last writer
// saw them. They save probes and are never relied on.
type Hints map[string]int64

// RunsHint is the name under which hints hold the number of the last build that
// was begun. No environment has such a name.
const RunsHint = ".runs"

// maxHints bounds the record.
const maxHints = 200

// pulse is the record of pulse/<site>.
type pulse struct {
	Format int    `json:"format"`
	Heads  Hints  `json:"heads"`
	Random string `json:"random"`
}

// ReadHints returns the hints of a site; none if they cannot be read.
//
// A wrong hint costs time and nothing else: numbers are always confirmed.
func ReadHints(ctx context.Context, store storage.Store, site string) Hints {
	data, err := store.Get(ctx, storage.PulseKey(site))
	if err != nil {
		return Hints{}
	}
	return HintsIn(data)
}

// HintsIn returns the hints in the record of a site's pulse; none if it is not one.
func HintsIn(data []byte) Hints {
	var p pulse
	if json.Unmarshal(data, &p) != nil || p.Heads == nil {
		return Hints{}
	}
	return p.Heads
}

// Pulse tells edge nodes that a site has moved, and leaves hints for the next
// who looks. It may get lost without harm.
//
// It is written after the entry, so whoever sees the hint finds the entry.
func (h Hints) Pulse(ctx context.Context, store storage.Store, entry Entry) {
	h.Note(entry)(ctx, store)
}

// Note notes the number of an entry in the hints, and returns what tells edge nodes as
// Pulse does: that may go on beside other things, which the hints themselves may not.
func (h Hints) Note(entry Entry) (tell func(ctx context.Context, store storage.Store)) {
	if len(h) >= maxHints {
		clear(h)
	}
	h[entry.Environment] = entry.Number
	data, err := canon.Marshal(pulse{Format: Format, Heads: h, Random: entry.Attempt})
	return func(ctx context.Context, store storage.Store) {
		if err == nil {
			//nolint:errcheck // a hint
			store.Replace(context.WithoutCancel(ctx), storage.PulseKey(entry.Site), data)
		}
	}
}
