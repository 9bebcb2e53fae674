package traffic

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/storage"
)

// Found is what was found of a site in a store.
type Found struct {
	Records []Record
	// Unreadable are the keys of what is there and is no record, or one of a later version.
	Unreadable []string
}

// Days are read one after the other, the records of a day side by side: of a store far away that is
// one round trip to list a day, and one or two for its records, whatever their number.

// Read reads what was counted of a site on the days between two times, to being exclusive. What
// has gone into the record of a whole day is not read again. tell, if set, is told how many days
// of how many were read.
func Read(ctx context.Context, store storage.Store, site string, from, to time.Time,
	tell func(done, all int64),
) (found Found, err error) {
	const day = 24 * time.Hour
	var days []string
	for at := from.UTC().Truncate(day); at.Before(to); at = at.Add(day) {
		days = append(days, DayOf(at))
	}
	for i, day := range days {
		parts, unreadable, err := ReadDay(ctx, store, site, day)
		if err != nil {
			return found, err
		}
		for _, part := range Counted(parts) {
			found.Records = append(found.Records, part.Record)
		}
		found.Unreadable = append(found.Unreadable, unreadable...)
		if tell != nil {
			tell(int64(i+1), int64(len(days)))
		}
	}
	return found, nil
}

// ReadDay reads the records of a day, but for those that have gone into the one of all of it.
func ReadDay(ctx context.Context, store storage.Store, site, day string,
) (parts []Part, unreadable []string, err error) {
	var names []string
	for item, err := range store.List(ctx, storage.TrafficOf(site, day)) {
		if err != nil {
			return nil, nil, err
		}
		if !item.Folder {
			names = append(names, path.Base(item.Key))
		}
	}
	var mutex sync.Mutex
	get := func(ctx context.Context, name string) error {
		key := storage.TrafficRecord(site, day, name)
		data, err := store.Get(ctx, key)
		if errors.Is(err, storage.ErrNotFound) {
			return nil // it has gone into the record of the day since: that is read next time
		}
		if err != nil {
			return err
		}
		r, ok := Decode(data)
		mutex.Lock()
		defer mutex.Unlock()
		if ok && r.Day == day {
			parts = append(parts, Part{name, r})
		} else {
			unreadable = append(unreadable, key)
		}
		return nil
	}
	if at := slices.Index(names, WholeDay); at >= 0 {
		names = slices.Delete(names, at, at+1)
		if err := get(ctx, WholeDay); err != nil {
			return nil, nil, err
		}
		for _, whole := range parts {
			names = slices.DeleteFunc(names, func(name string) bool {
				_, in := slices.BinarySearch(whole.Parts, name)
				return in
			})
		}
	}
	group, getting := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(store))
	for _, name := range names {
		group.Go(func() error { return get(getting, name) })
	}
	err = group.Wait()
	slices.SortFunc(parts, func(a, b Part) int { return strings.Compare(a.Name, b.Name) })
	return parts, unreadable, err
}
