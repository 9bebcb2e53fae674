package maintenance

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"
	"sync"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// half is one half of a run's record, as it was found.
type half struct {
	item  storage.Item
	data  []byte
	ended *builds.Ended // nil in the first half
}

// runs reads the records of a site's runs. What cannot be read is told to bad.
func (k *keeper) runs(ctx context.Context, site string, bad func(key string, err error),
) (found []half, err error) {
	items, err := k.deep(ctx, storage.RunsKey(site))
	if err != nil {
		return nil, err
	}
	var mutex sync.Mutex

	err = each(ctx, k, items, func(ctx context.Context, item storage.Item) error {
		data, err := k.store.Get(ctx, item.Key)
		if err != nil {
			return err
		}
		one := half{item: item, data: data}
		one.ended, err = decodeHalf(item.Key, data)
		mutex.Lock()
		defer mutex.Unlock()
		if err != nil {
			bad(item.Key, err)
			return nil
		}
		found = append(found, one)
		return nil
	})

	return found, err
}

// decodeHalf reads the record under a key sites/<site>/runs/<number>/<half>; of
// a first half nothing is returned.
func decodeHalf(key string, data []byte) (*builds.Ended, error) {
	parts := strings.Split(key, "/")
	n, err := strconv.ParseInt(parts[len(parts)-2], 10, 64)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", builds.ErrUnreadable, err)
	}

	if parts[len(parts)-1] == "begun" {
		_, err := builds.DecodeBegun(data, n)
		return nil, err
	}
	ended, err := builds.DecodeEnded(data, n)
	return &ended, err
}

// keepLogs marks the logs of builds that ended not long ago.
func (m *marker) keepLogs(ctx context.Context, site string) error {
	found, err := m.runs(ctx, site, func(string, error) {}) // what cannot be read leads nowhere
	for _, one := range found {
		if one.ended != nil && m.young(one.item.Modified) {
			for _, part := range one.ended.Log {
				m.object(part)
			}
		}
	}
	return err
}

// allRuns brings the records of runs over, and those of
// their logs that are still kept.
func (c *copying) allRuns(ctx context.Context, site string) error {
	found, err := c.runs(ctx, site, func(string, error) {})
	if err != nil {
		return err
	}
	var logs []digest.Digest
	for _, one := range found {
		if one.ended == nil {
			continue
		}
		for _, part := range one.ended.Log {
			_, err := c.store.Stat(ctx, part.Key())
			if err == nil {
				logs = append(logs, part)
			} else if !errors.Is(err, storage.ErrNotFound) {
				return err
			}
		}
	}

	if err := c.bring(ctx, logs); err != nil {
		return err
	}

	// Where the target has a run of its own under a
	// number, it keeps that one, whole.
	var mutex sync.Mutex
	theirs := map[string]bool{}
	for _, second := range []bool{false, true} {
		err := each(ctx, &c.to, found, func(ctx context.Context, one half) error {
			number := path.Dir(one.item.Key)
			mutex.Lock()
			other := theirs[number]
			mutex.Unlock()
			if (one.ended != nil) != second || other {
				return nil
			}

			err := c.create(ctx, one.item.Key, one.data)
			if errors.Is(err, ErrDiverged) {
				mutex.Lock()
				defer mutex.Unlock()
				theirs[number], err = true, nil
			}
			return err
		})
		if err != nil {
			return err
		}
	}

	return nil
}
