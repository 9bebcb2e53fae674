package environments

import (
	"context"
	"errors"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
)

// Pause says who paused the automatic builds of a site.
type Pause struct {
	Format int       `json:"format"`
	Who    string    `json:"who"`
	When   time.Time `json:"when"`
	Why    string    `json:"why,omitempty"`
}

// ReadPause returns who paused the automatic builds of a
// site; nil if nobody did.
func ReadPause(ctx context.Context, store storage.Store, site string) (*Pause, error) {
	data, err := store.Get(ctx, storage.PausedKey(site))
	if errors.Is(err, storage.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}

	pause := &Pause{}
	if !record.Lenient(data, pause) {
		return &Pause{Who: "somebody"}, nil
	}
	return pause, nil
}

// SetPause pauses the automatic builds of a site, or with nil lets them go on.
func SetPause(ctx context.Context, store storage.Store, site string, pause *Pause) error {
	if pause == nil {
		return store.Delete(ctx, storage.PausedKey(site))
	}
	pause.Format = 1
	data, err := record.Encode(pause)
	if err != nil {
		return err
	}
	return store.Replace(ctx, storage.PausedKey(site), data)
}

// pausedRefusal is the message for what a pause refused.
func pausedRefusal(pause *Pause) error {
	problem := fault.New(fault.Refused, "paused", "automatic builds are paused").Marked(ErrPaused).
		With("by " + pause.Who + " on " + pause.When.Format("2006-01-02 15:04 MST"))
	if pause.Why != "" {
		problem = problem.With("because: " + pause.Why)
	}
	return problem.Then("orilla follow --resume").
		Then("or deploy by hand: orilla deploy --yes")
}

// CheckPaused refuses automatic builds of a site that
// somebody paused; the error is ErrPaused.
func CheckPaused(ctx context.Context, store storage.Store, site string) error {
	pause, err := ReadPause(ctx, store, site)
	if pause == nil || err != nil {
		return err
	}
	return pausedRefusal(pause)
}
