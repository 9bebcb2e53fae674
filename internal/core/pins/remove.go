package pins

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/canon"
	"orilla.example/orilla/internal/core/storage"
)

// MaxKeys is how many keys one removal lists at most, so
// that its list is one record.
const MaxKeys = 50_000

// Removal is a removal by this process, from the list of what goes to its end.
// It holds a lease that others see.
type Removal struct {
	store storage.Store
	id    string
	lease *lease
	ahead time.Duration
	waits map[string]bool
}

// Waiting is a pin that a removal waits for.
type Waiting struct {
	Pin
	Modified time.Time // by the store's clock
}

// Condemn publishes the list of what will be removed: at most MaxKeys keys, and
// sites that go as a whole. id is random. The caller then calls Wait, Delete
// and End. The error is storage.ErrClock if the clocks differ.
func Condemn(ctx context.Context, store storage.Store, id string, record Record) (*Removal, error) {
	if len(record.Keys) > MaxKeys {
		return nil, fmt.Errorf("a removal lists %d keys at most, not %d", MaxKeys, len(record.Keys))
	}
	r := &Removal{store: store, id: id}
	record.Format = format
	data, err := canon.Marshal(record)
	if err != nil {
		return nil, err
	}

	now, run := time.Now(), r.key("run")
	// before the list, which counts with it only
	if err := store.Create(ctx, run, []byte(`{"format":1}`)); err != nil {
		return nil, err
	}

	r.lease = hold(ctx, store, run, []byte(`{"format":1}`), now)
	if err := store.Create(ctx, r.key("list"), data); err != nil {
		return nil, errors.Join(err, r.End(ctx))
	}
	if r.ahead, err = storage.Ahead(ctx, store, run, now); err != nil {
		return nil, errors.Join(err, r.End(ctx))
	}
	return r, nil
}

// key is where a stage of the removal is told.
func (r *Removal) key(stage string) string { return storage.PruneKey + "/" + r.id + "." + stage }

// Wait waits until every pin that is there now is dropped or has lapsed. tell
// is called at first, and whenever fewer are left.
func (r *Removal) Wait(ctx context.Context, tell func([]Waiting)) error {
	waits, err := r.fresh(ctx)
	if err != nil {
		return err
	}
	record := waitRecord{Format: format, Pins: []string{}}
	r.waits = map[string]bool{}
	for key := range waits {
		record.Pins = append(record.Pins, key)
		r.waits[key] = true
	}

	slices.Sort(record.Pins)
	data, err := canon.Marshal(record)
	if err == nil {
		err = r.store.Create(ctx, r.key("pins"), data)
	}

	var pauses patient
	for left := len(waits) + 1; err == nil && len(waits) > 0; waits, err = r.fresh(ctx) {
		for key := range waits {
			if !r.waits[key] {
				delete(waits, key) // younger than the list: its writer has seen it
			}
		}

		if len(waits) < left {
			left = len(waits)
			tell(sorted(waits))
		}
		if left == 0 {
			return nil
		}

		if err := pauses.pause(ctx); err != nil {
			return err
		}
	}

	return err
}

// sorted returns what is waited for, the one that was heard of the longest ago
// first.
func sorted(waits map[string]Waiting) []Waiting {
	var list []Waiting
	for _, w := range waits {
		list = append(list, w)
	}
	slices.SortFunc(list, func(a, b Waiting) int { return a.Modified.Compare(b.Modified) })
	return list
}

// fresh returns the pins that have not lapsed.
func (r *Removal) fresh(ctx context.Context) (map[string]Waiting, error) {
	found := map[string]Waiting{}
	for item, err := range r.store.List(ctx, storage.PinsKey) {
		if err != nil {
			return nil, err
		}
		if lapsed(item.Modified, r.ahead) || r.waits != nil && !r.waits[item.Key] {
			continue
		}

		waiting := Waiting{Modified: item.Modified}
		if r.waits == nil {
			data, err := r.store.Get(ctx, item.Key)
			if errors.Is(err, storage.ErrNotFound) {
				continue
			}
			if err == nil {
				// leniently: a later version may say more of whom is waited for
				err = json.Unmarshal(data, &waiting.Pin)
			}
			if err != nil {
				return nil, fmt.Errorf("the pin %s cannot be read: %w", item.Key, err)
			}
		}
		found[item.Key] = waiting
	}

	return found, nil
}

// ErrLate: the removal could not be renewed in time, so
// others no longer reckon with it.
var ErrLate = errors.New("the removal was held up for too long")

// Delete deletes keys that are on the list, some at a time: those of one
// storage.Rank after those of another, each in calls of their own, since a call
// that fails may have removed any of its keys. done is told how many. The error
// is ErrLate when the removal has lapsed: what is left is for another one.
func (r *Removal) Delete(ctx context.Context, keys []string, done func(n int)) error {
	keys = slices.Clone(keys)
	slices.SortStableFunc(keys, func(a, b string) int { return storage.Rank(a) - storage.Rank(b) })
	for len(keys) > 0 {
		n := 1
		for n < min(len(keys), maxCall) && storage.Rank(keys[n]) == storage.Rank(keys[0]) {
			n++
		}
		if !r.lease.holds() {
			return ErrLate
		}

		if err := r.remove(ctx, keys[:n]); err != nil {
			return err
		}
		done(n)
		keys = keys[n:]
	}

	return nil
}

// maxCall is how many keys are removed in one call,
// between two looks at the lease.
const maxCall = 1000

// Writer returns the removal's store for records that it
// writes; see Hold.Writer.
func (r *Removal) Writer() storage.Store { return &writer{r.store, r.lease, ErrLate} }

// remove deletes some keys, if that can be done while the removal counts.
func (r *Removal) remove(ctx context.Context, keys []string) error {
	return r.lease.during(ctx, ErrLate,
		func(ctx context.Context) error { return storage.Remove(ctx, r.store, keys) }, never)
}

// End says that nothing more will be deleted, if that is
// known: after an error, requests may be on their way, so the
// removal counts until it lapses, as it does without End.
func (r *Removal) End(ctx context.Context) error {
	r.lease.end()
	if r.lease.unclear.Load() {
		return nil
	}
	return r.store.Replace(context.WithoutCancel(ctx), r.key("end"), []byte(`{"format":1}`))
}

// Under says who is removing something right now; "" for nobody.
func Under(ctx context.Context, store storage.Store, ahead time.Duration) (who string, err error) {
	runs, err := readRuns(ctx, store, ahead, nil)
	for _, r := range runs {
		if !r.over() {
			who = r.Who
		}
	}
	return who, err
}

// Clean removes what ended removals and lapsed pins have left, a day later.
func Clean(ctx context.Context, store storage.Store, ahead time.Duration) error {
	var old, ends []string
	for _, folder := range []string{storage.PinsKey, storage.PruneKey} {
		for item, err := range store.List(ctx, folder) {
			switch {
			case err != nil:
				return err
			case time.Now().Add(ahead).Before(item.Modified.Add(keep)):
			case strings.HasSuffix(item.Key, ".end"):
				ends = append(ends, item.Key)
			default:
				old = append(old, item.Key)
			}
		}
	}

	if err := storage.Remove(ctx, store, old); err != nil {
		return err
	}
	return storage.Remove(ctx, store, ends) // last: a list without its end would count again
}
