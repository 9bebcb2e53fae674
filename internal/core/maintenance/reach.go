package maintenance

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Policy says what is kept besides what is live.
type Policy struct {
	Retention *journal.Retention // of every environment; nil: as each environment says
	Keep      []string           // beginnings of ids of releases
	Grace     time.Duration      // objects younger than this stay, so that an interrupted upload can go on
}

// reach is what must stay: everything that can be come to from a journal, or
// that a policy names.
type reach struct {
	kept    map[string]map[release.ID]bool // releases by site
	reached map[digest.Digest]struct{}     // objects
	built   map[string]bool                // keys of build records
}

// newReach returns what leads to nothing yet.
func newReach() *reach {
	return &reach{kept: map[string]map[release.ID]bool{}, reached: map[digest.Digest]struct{}{},
		built: map[string]bool{}}
}

// marker finds what must stay, and adds to what an earlier look found: what has
// become reachable since is reachable too.
type marker struct {
	*keeper
	*reach
	policy Policy
	now    time.Time // by the store's clock
}

// object marks an object as needed, and reports whether it was not before.
func (m *marker) object(d digest.Digest) bool {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	_, seen := m.reached[d]
	m.reached[d] = struct{}{}
	return !seen
}

// mark goes through all sites. A damaged or missing part of what must stay is
// an error: what it leads to is not known.
func (m *marker) mark(ctx context.Context) error {
	sites, err := Sites(ctx, m.store)
	if err != nil {
		return err
	}
	for i, site := range sites {
		m.tell("looking what is needed", int64(i), int64(len(sites)))
		if err := m.site(ctx, site); err != nil {
			return fmt.Errorf("%s: %w", site, err)
		}
	}
	return nil
}

// site marks everything that a site needs: what is live or waits, what is kept
// for going back, and what is being built.
func (m *marker) site(ctx context.Context, site string) error {
	if m.kept[site] == nil {
		m.kept[site] = map[release.ID]bool{}
	}
	// known are the releases that some entry names. One that none names is
	// either new, or was left by a deploy that did not end.
	keep, known := m.kept[site], map[release.ID]bool{}
	environments, err := m.environments(ctx, site)
	if err != nil {
		return err
	}

	for _, environment := range environments {
		if err := m.environment(ctx, site, environment, keep, known); err != nil {
			return fmt.Errorf("%s: %w", journal.DisplayName(environment), err)
		}
	}

	there, err := m.releases(ctx, site)
	if err != nil {
		return err
	}
	var open []release.ID
	for id, item := range there {
		if !known[id] && m.young(item.Modified) || named(id, m.policy.Keep) {
			keep[id] = true // the young ones: made, and live nowhere yet
		}
		if keep[id] {
			open = append(open, id)
		}
	}

	if err := each(ctx, m.keeper, open,
		func(ctx context.Context, id release.ID) error { return m.release(ctx, site, id) }); err != nil {
		return err
	}
	if err := m.keepLogs(ctx, site); err != nil {
		return err
	}
	return m.builtFor(ctx, site, keep)
}

// young reports whether something is kept for its age alone: what no
// environment says anything of.
func (m *marker) young(modified time.Time) bool {
	seconds := journal.DefaultRetention.Seconds
	if m.policy.Retention != nil {
		seconds = m.policy.Retention.Seconds
	}
	return m.now.Sub(modified) < max(time.Duration(seconds)*time.Second, m.policy.Grace)
}

// named reports whether a release is one that people asked to keep, by the
// beginning of its id.
func named(id release.ID, names []string) bool {
	for _, name := range names {
		if digits := strings.TrimPrefix(name, "r-"); len(digits) >= 10 &&
			strings.HasPrefix(id.String(), digits) {
			return true
		}
	}
	return false
}

// environment walks back through a journal as far as anything is
// kept: the last releases, those that were live not long ago,
// and those whose fingerprinted assets are still answered. known
// are all that it names as far back as a young release can be.
func (m *marker) environment(ctx context.Context, site, environment string, keep, known map[release.ID]bool,
) error {
	j := m.journal(site, environment)
	head, err := j.Head(ctx, 0)
	if errors.Is(err, journal.ErrEmpty) {
		return nil
	}
	if err != nil {
		return err
	}

	retention, assets, err := m.retention(ctx, site, head)
	if err != nil {
		return err
	}
	// A page that was opened before may ask for its scripts as long as assets
	// are kept.
	within := max(time.Duration(retention.Seconds)*time.Second, assets)
	different, ended, keeping := map[release.ID]bool{}, m.now, true
	for entry, err := range j.Back(ctx, head.Number) {
		if err != nil {
			return err
		}
		// Counted are different releases: ten entries that go back and forth
		// between two keep more than those two.
		keeping = keeping && (len(different) < max(retention.Releases, 1) || different[entry.Release] ||
			m.now.Sub(ended) <= within)
		if !keeping && !m.young(ended) {
			break
		}

		ended = entry.When
		if known[entry.Release] = true; !keeping {
			continue
		}
		if !entry.Document.IsZero() {
			m.object(entry.Document)
		}

		if !entry.Release.IsZero() {
			different[entry.Release] = true
			keep[entry.Release] = true
		}
	}

	// What waits for a thaw was promised, and no entry names it.
	if head.Frozen != nil {
		if err := m.waiting(ctx, site, environment, keep); err != nil {
			return err
		}
	}

	if len(retention.Keep) > 0 {
		there, err := m.releases(ctx, site)
		if err != nil {
			return err
		}
		for id := range there {
			keep[id] = keep[id] || named(id, retention.Keep)
		}
	}

	return nil
}

// waiting keeps the releases that wait for an environment to be thawed.
func (m *marker) waiting(ctx context.Context, site, environment string, keep map[release.ID]bool) error {
	items, err := m.list(ctx, storage.WaitingKey(site, environment))
	if err != nil {
		return err
	}
	there, err := m.releases(ctx, site)
	if err != nil {
		return err
	}

	for _, item := range items {
		if id, err := release.ParseID(item.Name()); err == nil && !there[id].Modified.IsZero() {
			keep[id] = true
		}
	}
	return nil
}

// retention returns what an environment says of itself, and how long the assets
// of a release are answered after it.
func (m *marker) retention(ctx context.Context, site string, head journal.Entry,
) (journal.Retention, time.Duration, error) {
	retention, assets := journal.DefaultRetention, time.Duration(0)
	if !head.Document.IsZero() {
		data, err := m.load(ctx, head.Document)
		if err != nil {
			return retention, 0, err
		}
		document, err := journal.DecodeDocument(data)
		if err != nil {
			return retention, 0, err
		}

		if document.Retention != nil {
			retention = *document.Retention
		}
	}

	if m.policy.Retention != nil {
		retention.Releases, retention.Seconds = m.policy.Retention.Releases, m.policy.Retention.Seconds
	}
	if !head.Release.IsZero() {
		reader, err := m.open(ctx, site, head.Release)
		if err != nil {
			return retention, 0, err
		}
		assets = time.Duration(reader.Root.Settings.AssetSeconds()) * time.Second
	}

	return retention, assets, nil
}

// release marks everything that a release consists of.
// Chunks that are marked already were gone through.
func (m *marker) release(ctx context.Context, site string, id release.ID) error {
	reader, err := m.open(ctx, site, id)
	if err != nil {
		return err
	}
	for _, object := range reader.Root.Objects() {
		m.object(object)
	}

	// A chunk that was seen is not entered again. So a hundred releases that
	// share most chunks cost little more than one.
	return reader.Visit(ctx, m.object, func(file release.File) error {
		for _, object := range file.Objects() {
			m.object(object)
		}
		return nil
	})
}

// builtFor marks the records of builds that made what is
// kept, and of those that failed not long ago.
func (m *marker) builtFor(ctx context.Context, site string, keep map[release.ID]bool) error {
	// what cannot be read stays
	records, err := m.builds(ctx, site, func(key string, _ error) { m.built[key] = true })
	if err != nil {
		return err
	}

	for _, record := range records {
		if keep[record.Release] || record.Release.IsZero() && m.young(record.item.Modified) {
			m.built[record.item.Key] = true
			for _, object := range record.objects() {
				m.object(object)
			}
		}
	}

	return nil
}

// needed reports whether a key must stay.
func (r *reach) needed(key string) bool {
	parts := strings.Split(key, "/")
	switch {
	// What is not known to be needless is needed: a later version may keep more
	// kinds of keys.
	case parts[0] == storage.ObjectsKey && len(parts) == 3:
		d, named := digest.FromKey(key)
		_, reached := r.reached[d]
		return named && reached
	case parts[0] == coding.Folder:
		// As long as its source is. What has no such name is of no use to anybody.
		of, _, named := coding.FromKey(key)
		_, reached := r.reached[of]
		return named && reached
	case parts[0] == storage.SitesKey && len(parts) == 4 && parts[2] == "releases":
		id, err := release.ParseID(parts[3])
		return err != nil || r.kept[parts[1]][id]
	case parts[0] == storage.SitesKey && len(parts) == 5 && parts[2] == "builds":
		return r.built[key]
	}
	return true
}
