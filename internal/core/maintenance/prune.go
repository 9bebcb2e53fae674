package maintenance

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Pruned is what a prune found and removed, or would.
type Pruned struct {
	Kept     int           `json:"kept_releases"`
	Releases []GoneRelease `json:"releases"`
	Builds   int           `json:"builds"` // records
	Objects  int           `json:"objects"`
	Variants int           `json:"variants"` // encoded copies of objects
	Bytes    int64         `json:"bytes"`
	Spared   int           `json:"spared"` // that have become needed meanwhile
	Left     int           `json:"left"`   // for another prune, since the time was up
	// TrafficDays are the days whose counts of visits become one record each, TrafficGone those
	// that are too old to be kept.
	TrafficDays int `json:"traffic_days"`
	TrafficGone int `json:"traffic_gone"`
	// Pictures are the images of pages that go, and the records of them.
	Pictures int `json:"pictures"`
}

// GoneRelease is a release that is no longer kept.
type GoneRelease struct {
	Site string     `json:"site"`
	ID   release.ID `json:"release"`
	Made time.Time  `json:"made"` // by the store's clock
}

// Errors that callers decide on.
var (
	// ErrBusy: somebody else removes something from the store.
	ErrBusy = errors.New("somebody else is removing something")
)

// Pruning is one prune: what it does, in this order, is Plan, then Carry out.
type Pruning struct {
	keeper
	who    string
	policy Policy
	marker *marker
	ahead  time.Duration

	result Pruned
	keys   []doomed
	days   []trafficDay
	faded  []storage.Item // pictures
}

// doomed is a key that may go.
type doomed struct {
	key      string
	size     int64
	modified time.Time
}

// Plan finds out what may go, without changing anything but a mark of its own
// that tells the store's clock.
func Plan(ctx context.Context, store storage.Store, who string, policy Policy, tell Tell) (*Pruning, error) {
	p := &Pruning{keeper: keeper{store: store, tell: tell}, who: who, policy: policy}
	// How old things are is counted by the store's clock, so that is asked
	// first.
	written := time.Now()
	probe := storage.PruneKey + "/" + strings.ToLower(rand.Text()) + ".clock"
	if err := store.Create(ctx, probe, []byte("clock")); err != nil {
		return nil, err
	}

	var err error
	p.ahead, err = storage.Ahead(ctx, store, probe, written)
	if err = errors.Join(err, store.Delete(ctx, probe)); err != nil {
		return nil, err
	}

	p.marker = &marker{keeper: &p.keeper, reach: newReach(), policy: policy, now: time.Now().Add(p.ahead)}
	if err := p.marker.mark(ctx); err != nil {
		return nil, err
	}
	if p.days, err = p.trafficDays(ctx, p.marker.now); err != nil {
		return nil, err
	}
	for _, d := range p.days {
		if d.gone {
			p.result.TrafficGone++
		} else {
			p.result.TrafficDays++
		}
	}
	for site, keep := range p.marker.kept {
		gone, err := p.pictures(ctx, site, keep, p.marker.now)
		if err != nil {
			return nil, err
		}
		p.faded = append(p.faded, gone...)
	}
	p.result.Pictures = len(p.faded)
	return p, p.candidates(ctx)
}

// candidates lists what is not needed: roots first, then records, then objects.
func (p *Pruning) candidates(ctx context.Context) error {
	for site, keep := range p.marker.kept {
		there, err := p.releases(ctx, site)
		if err != nil {
			return err
		}
		for id, item := range there {
			if keep[id] {
				p.result.Kept++
				continue
			}
			p.result.Releases = append(p.result.Releases, GoneRelease{site, id, item.Modified})
			p.keys = append(p.keys, doomed{item.Key, item.Size, item.Modified})
		}

		records, err := p.deep(ctx, storage.SiteKey(site)+"/builds")
		if err != nil {
			return err
		}
		for _, item := range records {
			if !p.marker.needed(item.Key) {
				p.result.Builds++
				p.keys = append(p.keys, doomed{item.Key, item.Size, item.Modified})
			}
		}
	}

	slices.SortFunc(p.result.Releases, func(a, b GoneRelease) int { return a.Made.Compare(b.Made) })
	slices.SortStableFunc(p.keys, func(a, b doomed) int { return storage.Rank(a.key) - storage.Rank(b.key) })
	objects, err := p.objects(ctx)
	if err != nil {
		return err
	}
	variants, err := p.deep(ctx, coding.Folder)
	if err != nil {
		return err
	}

	for _, item := range slices.Concat(objects, variants) {
		if !p.marker.needed(item.Key) && p.marker.now.Sub(item.Modified) >= p.policy.Grace {
			p.keys = append(p.keys, doomed{item.Key, item.Size, item.Modified})
			if strings.HasPrefix(item.Key, coding.Folder) {
				p.result.Variants++
			} else {
				p.result.Objects++
			}
		}
	}

	for _, key := range p.keys {
		p.result.Bytes += key.size
	}
	for _, item := range p.faded {
		p.result.Bytes += item.Size
	}
	return nil
}

// Result tells what would go, and after Carry out what went.
func (p *Pruning) Result() Pruned { return p.result }

// CarryOut removes what was planned and is still not needed. It waits for
// writers at work; waiting is told of them.
func (p *Pruning) CarryOut(ctx context.Context, waiting func([]pins.Waiting), tell Tell) (Pruned, error) {
	p.tell = tell
	if who, err := pins.Under(ctx, p.store, p.ahead); err != nil || who != "" {
		return p.result, errors.Join(err, busy(who))
	}
	if err := pins.Clean(ctx, p.store, p.ahead); err != nil {
		return p.result, err
	}

	for i, d := range p.days {
		if err := settleTraffic(ctx, p.store, d); err != nil {
			return p.result, err
		}
		p.tell("traffic", int64(i+1), int64(len(p.days)))
	}
	// No pin is needed: whoever misses a picture takes it again.
	for i, item := range p.faded {
		if err := p.store.Delete(ctx, item.Key); err != nil {
			return p.result, err
		}
		p.tell("pictures", int64(i+1), int64(len(p.faded)))
	}
	planned := len(p.keys)
	p.result.Builds, p.result.Objects, p.result.Variants = 0, 0, 0
	p.result.Bytes, p.result.Releases = 0, nil
	for _, item := range p.faded {
		p.result.Bytes += item.Size
	}
	deleted := int64(0)
	for len(p.keys) > 0 {
		some := p.keys[:min(len(p.keys), pins.MaxKeys)]
		p.keys = p.keys[len(some):]
		err := p.remove(ctx, some, waiting,
			func(n int) { deleted += int64(n); p.tell("removing", deleted, int64(planned)) })
		if errors.Is(err, pins.ErrLate) {
			p.result.Left = planned - int(deleted) - p.result.Spared
			return p.result, nil
		}
		if err != nil {
			return p.result, err
		}
	}

	return p.result, nil
}

// busy is the error of a removal that somebody else carries out; nil for
// nobody.
func busy(who string) error {
	if who == "" {
		return nil
	}
	return fmt.Errorf("%w: %s", ErrBusy, who)
}

// remove condemns some keys, waits for those who may rely
// on them, and deletes what still nobody needs.
func (p *Pruning) remove(ctx context.Context, some []doomed, waiting func([]pins.Waiting), done func(int),
) (err error) {
	record := pins.Record{Who: p.who, Begun: time.Now().UTC().Truncate(time.Second),
		Keys: make([]string, len(some))}
	for i, one := range some {
		record.Keys[i] = one.key
	}

	removal, err := pins.Condemn(ctx, p.store, strings.ToLower(rand.Text()), record)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, removal.End(ctx)) }()
	if err := removal.Wait(ctx, waiting); err != nil {
		return err
	}

	if err := p.marker.mark(ctx); err != nil { // adds what has become reachable
		return err
	}
	var gone []string
	for _, one := range some {
		if p.marker.needed(one.key) {
			p.result.Spared++
			continue
		}
		gone = append(gone, one.key)
		p.count(one)
	}

	return removal.Delete(ctx, gone, done)
}

// count adds a key that goes to the result.
func (p *Pruning) count(one doomed) {
	p.result.Bytes += one.size
	parts := strings.Split(one.key, "/")
	switch {
	case parts[0] == storage.ObjectsKey:
		p.result.Objects++
	case parts[0] == coding.Folder:
		p.result.Variants++
	case storage.Rank(one.key) == 0:
		if id, err := release.ParseID(parts[3]); err == nil {
			p.result.Releases = append(p.result.Releases, GoneRelease{parts[1], id, one.modified})
		}
	default:
		p.result.Builds++
	}
}
