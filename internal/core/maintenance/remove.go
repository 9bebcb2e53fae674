package maintenance

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
)

// RemoveSite takes a site out: its environments serve nothing any more, then
// its releases, builds and journals go, and last the claim of its name unless
// that is kept. Objects stay until a prune. Writers of the site that are at
// work are waited for; new ones are refused. attempt makes random texts.
//
// It returns how many records were removed. An interrupted removal can be run
// again.
func RemoveSite(ctx context.Context, store storage.Store, site, who string, keepName bool,
	waiting func([]pins.Waiting), tell Tell,
) (removed int, err error) {
	k := &keeper{store: store, tell: tell}
	removal, err := pins.Condemn(ctx, store, strings.ToLower(rand.Text()), pins.Record{
		Who: who, Begun: time.Now().UTC().Truncate(time.Second), Keys: []string{}, Sites: []string{site}})
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, removal.End(ctx)) }()
	// Whoever is at work gets to the end, and finds its entry followed by the
	// removal.
	if err := removal.Wait(ctx, waiting); err != nil {
		return 0, err
	}

	if err := (&keeper{store: removal.Writer(), tell: tell}).goDark(ctx, site, who); err != nil {
		return 0, err
	}
	// The record of the removal comes before anything goes: nodes forget a site
	// only by it.
	claim, err := record.ReadClaim(ctx, store, site)
	if err == nil {
		err = bury(ctx, removal.Writer(), claim, who)
	}
	if err != nil && !errors.Is(err, storage.ErrNotFound) && !errors.Is(err, record.ErrUnreadable) {
		return 0, err
	}

	if err := k.giveUp(ctx, removal.Writer(), site, who); err != nil {
		return 0, err
	}
	// Listed after the environments went dark, so that their last entries are
	// among what goes.
	items, err := k.deep(ctx, storage.SiteKey(site), storage.TrafficOf(site, ""))
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
	err = removal.Delete(ctx, keys,
		func(n int) { done += int64(n); tell("removing", done, int64(len(keys))) })
	if err == nil && keepName && claim.Incarnation != "" {
		claim.Incarnation = strings.ToLower(rand.Text()) // what comes is not what was removed
		var data []byte
		if data, err = claim.Encode(); err == nil {
			err = removal.Writer().Replace(ctx, storage.ClaimKey(site), data)
		}
	}
	if err != nil || keepName {
		return int(done), err
	}

	// The claim last: as long as it is there, the name is nobody else's.
	err = removal.Delete(ctx, []string{storage.ClaimKey(site), storage.PulseKey(site)}, func(int) {})
	if tidier, ok := store.(storage.Tidier); ok && err == nil {
		err = errors.Join(tidier.Tidy(ctx, storage.SiteKey(site)),
			tidier.Tidy(ctx, storage.TrafficOf(site, "")))
	}
	return int(done) + 1, err
}

// bury leaves what says that a site was removed. Edge
// nodes forget nothing without it.
func bury(ctx context.Context, store storage.Store, claim record.Claim, who string) error {
	data, err := record.Removed{Site: claim.Site, Incarnation: claim.Incarnation, Who: who, When: time.Now().
		UTC().Truncate(time.Second)}.Encode()
	if err != nil {
		return err
	}

	err = store.Create(ctx, storage.RemovedKey(claim.Site, claim.Incarnation), data)
	if errors.Is(err, storage.ErrExists) {
		return nil // a removal that was interrupted
	}
	return err
}

// giveUp gives up the hosts that belong to a site.
func (k *keeper) giveUp(ctx context.Context, writer storage.Store, site, who string) error {
	folders, err := k.list(ctx, storage.HostsKey)
	if err != nil {
		return err
	}
	for _, folder := range folders {
		items, err := k.list(ctx, folder.Key)
		if err != nil || len(items) == 0 {
			return err
		}
		data, err := k.store.Get(ctx, items[len(items)-1].Key)
		if err != nil {
			return err
		}

		head, err := hosts.Read(data)
		if err != nil || head.Site != site {
			continue // one that cannot be read is verify's matter
		}
		_, err = hosts.Append(ctx, writer, head.Host, strings.ToLower(rand.Text()),
			hosts.HandOver(site, "", who, "the site was removed", time.Now()))
		if _, taken := errors.AsType[*hosts.Taken](err); err != nil && !taken {
			return err
		}
	}

	return nil
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
		entry, err := j.Append(ctx, journal.Entry{}, journal.Remove(journal.Ended{Reason: journal.OnRequest},
			"command", who, ""))
		if errors.Is(err, journal.ErrEmpty) || errors.Is(err, journal.ErrGone) ||
			errors.Is(err, journal.ErrDamaged) {
			continue // it goes anyway
		}
		if err != nil {
			return err
		}
		hints.Pulse(ctx, k.store, entry)
	}

	return nil
}
