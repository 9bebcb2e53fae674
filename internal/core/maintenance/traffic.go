package maintenance

import (
	"context"
	"errors"
	"path"
	"slices"
	"time"

	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/core/traffic"
)

// What nodes count lies in a record for each node and hour. Of days that are over for some time a
// prune makes one record each, and what is older than a year and a month it removes. A record of
// a node that comes later still counts: the one of the day says which it was made from.

const (
	// trafficSettled is after what time a day's records are made one.
	trafficSettled = 3 * 24 * time.Hour
	// trafficKept is for how long counts are kept: a month can be compared with that of last year.
	trafficKept = 400 * 24 * time.Hour
)

// Before a prune, and after it:
//
//	traffic/corvane/2026-11-25/00-k3v9…, 00-x7f2…, 01-…    traffic/corvane/2026-11-25/day
//	traffic/corvane/2025-10-01/day                         -
//	traffic/corvane/2026-11-29/13-k3v9…                    the same: somebody writes there
//
// No pin is needed: nobody relies on counts, and what is removed was written elsewhere first.

// trafficDay is a day of a site that is to be made one record, or to go.
type trafficDay struct {
	site, day string
	names     []string // of its records
	gone      bool
}

// trafficDays lists the days of which something is to be done.
func (k *keeper) trafficDays(ctx context.Context, now time.Time) (list []trafficDay, err error) {
	settled, kept := traffic.DayOf(now.Add(-trafficSettled)), traffic.DayOf(now.Add(-trafficKept))
	sites, err := k.list(ctx, storage.TrafficKey)
	if err != nil {
		return nil, err
	}
	for _, site := range sites {
		name := path.Base(site.Key)
		// A node may write what it had counted after its site was removed.
		_, err := k.store.Stat(ctx, storage.ClaimKey(name))
		orphan := errors.Is(err, storage.ErrNotFound)
		if err != nil && !orphan {
			return nil, err
		}
		days, err := k.list(ctx, storage.TrafficOf(name, ""))
		if err != nil {
			return nil, err
		}
		for _, item := range days {
			day := path.Base(item.Key)
			if !item.Folder || !traffic.IsDay(day) || day >= settled && !orphan {
				continue
			}
			records, err := k.list(ctx, storage.TrafficOf(name, day))
			if err != nil {
				return nil, err
			}
			one := trafficDay{site: name, day: day, gone: day < kept || orphan}
			for _, record := range records {
				one.names = append(one.names, path.Base(record.Key))
			}
			if one.gone && len(one.names) > 0 || len(slices.DeleteFunc(slices.Clone(one.names),
				func(name string) bool { return name == traffic.WholeDay })) > 0 {
				list = append(list, one)
			}
		}
	}
	return list, nil
}

// settleTraffic makes one record of a day, or removes it. What it leaves when it is interrupted is
// counted once all the same. The error is that of the store.
func settleTraffic(ctx context.Context, store storage.Store, d trafficDay) error {
	remove := d.names
	if !d.gone {
		parts, unreadable, err := traffic.ReadDay(ctx, store, d.site, d.day)
		if err != nil {
			return err
		}
		if slices.Contains(unreadable, storage.TrafficRecord(d.site, d.day, traffic.WholeDay)) {
			return nil // of a later version: it is for a later program
		}
		// What cannot be read is of a later version, and stays as it is.
		merged := traffic.Merge(d.site, d.day, traffic.Counted(parts))
		data, err := merged.Encode()
		if err != nil {
			return err
		}
		err = store.Replace(ctx, storage.TrafficRecord(d.site, d.day, traffic.WholeDay), data)
		if err != nil {
			return err
		}
		remove = slices.DeleteFunc(slices.Clone(d.names), func(name string) bool {
			_, in := slices.BinarySearch(merged.Parts, name)
			return !in
		})
	}
	for _, name := range remove {
		if err := store.Delete(ctx, storage.TrafficRecord(d.site, d.day, name)); err != nil {
			return err
		}
	}
	return nil
}
