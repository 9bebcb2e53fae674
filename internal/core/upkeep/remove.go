package upkeep

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/storage"
)

// RemoveSite takes a site out: its environments serve nothing any more, then its releases, builds and journals go, and last the
// claim of its name unless that is kept. Objects stay until a prune. Writers of the site that are at work are waited for; new ones are
// refused. attempt makes random texts.
func RemoveSite(ctx context.Context, store storage.Store, site, who string, keepName bool, waiting func([]pins.Waiting), tell Tell) (removed int, err error) {
	k := &keeper{store: store, tell: tell}
	removal, err := pins.Condemn(ctx, store, strings.ToLower(rand.Text()), pins.Record{
		Who: who, Begun: time.Now().UTC().Truncate(time.Second), Keys: []string{}, Sites: []string{site}})
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, removal.End(ctx)) }()
	if err := removal.Wait(ctx, waiting); err != nil {
		return 0, err
	}
	if err := (&keeper{store: removal.Writer(), tell: tell}).goDark(ctx, site, who); err != nil {
		return 0, err
	}
	items, err := k.deep(ctx, storage.SiteKey(site))
	if err != nil {
		return 0, err
	}
	var keys []string
	for _, item := range items {
		if item.Key != storage.ClaimKey(site) {
			keys = append(keys, item.Key)
		}
	}
	done := int64(0)
	err = removal.Delete(ctx, keys, func(n int) { done += int64(n); tell("removing", done, int64(len(keys))) })
	if err != nil || keepName {
		return int(done), err
	}
	err = removal.Delete(ctx, []string{storage.ClaimKey(site), storage.PulseKey(site)}, func(int) {})
	if tidier, ok := store.(storage.Tidier); ok && err == nil {
		err = tidier.Tidy(ctx, storage.SiteKey(site))
	}
	return int(done) + 1, err
}

// goDark ends what the environments of a site serve.
func (k *keeper) goDark(ctx context.Context, site, who string) error {
	environments, err := k.environments(ctx, site)
	if err != nil {
		return err
	}
	hints := journal.Hints{}
	for _, environment := range environments {
		j := k.journal(site, environment)
		j.Attempt = func() string { return strings.ToLower(rand.Text()) }
		entry, err := j.Append(ctx, journal.Entry{}, journal.Remove(journal.Ended{Reason: journal.OnRequest}, "command", who, ""))
		if errors.Is(err, journal.ErrEmpty) || errors.Is(err, journal.ErrGone) || errors.Is(err, journal.ErrDamaged) {
			continue // it goes anyway
		}
		if err != nil {
			return err
		}
		hints.Pulse(ctx, k.store, entry)
	}
	return nil
}
