// Package past asks what an environment answered earlier: every release that was live is in the
// store, with its rules and the environment's settings of that time, so an address can be asked
// there as visitors asked it then. Nothing is built and nothing is published.
//
//	walk := past.New(store, "corvane", "production", now)
//	changes, err := walk.Changes(ctx, "/fares", 20, tell)   // which entries changed its answer
//	found, err := walk.Bisect(ctx, good, bad, test)         // which one made a test fail
//
// Time is now for all of them: a rule that depends on it would else seem to change with each
// entry. Whoever asks is admitted, uses https, and has no cookies.
package past

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/environments"
)

// An answer is compared as its visitor would: status, content, where it leads, header fields. What is
// not a part of it is not looked at: another release that answers this address alike is no change,
// and a rule that was moved to another line is none either.

// Walk goes through the journal of one environment.
type Walk struct {
	store   storage.Store
	journal *journal.Journal
	now     time.Time

	mutex sync.Mutex
	seen  map[key]*Moment // what was opened, since entries often serve the same
}

// mostSeen is how many moments are kept open.
const mostSeen = 64

// key is what decides what is answered: a release, and the settings of its environment.
type key struct{ release, document string }

// New returns a walk through an environment, by its stored name.
func New(store storage.Store, site, environment string, now time.Time) *Walk {
	return &Walk{store: store, journal: environments.JournalOf(store, site, environment, time.Now), now: now,
		seen: map[key]*Moment{}}
}

// Moment is what an environment served from an entry on.
type Moment struct {
	Entry journal.Entry
	// Gone: nothing was live, or the release was pruned since.
	Gone   bool
	Pruned bool

	reader *release.Reader
	site   answer.Site
	base   string
	now    time.Time
}

// At opens what an entry put live.
func (w *Walk) At(ctx context.Context, entry journal.Entry) (*Moment, error) {
	if entry.Release.IsZero() {
		return &Moment{Entry: entry, Gone: true}, nil
	}
	k := key{entry.Release.String(), entry.Document.String()}
	w.mutex.Lock()
	found := w.seen[k]
	w.mutex.Unlock()
	if found != nil {
		again := *found
		again.Entry = entry
		return &again, nil
	}
	m := &Moment{Entry: entry, now: w.now}
	reader, err := release.Read(ctx, w.store, entry.Site, entry.Release)
	if errors.Is(err, storage.ErrNotFound) {
		m.Gone, m.Pruned = true, true
		return m, nil
	}
	if err != nil {
		return nil, err
	}
	m.reader = reader
	if m.site, err = answer.Open(ctx, reader); err != nil {
		return nil, err
	}
	document, err := environments.DocumentOf(ctx, w.store, entry)
	if err != nil {
		return nil, err
	}
	m.site.Config = answer.EnvironmentConfigOf(document.Settings, document.SettingsPath)
	m.base = baseOf(document.Addresses)
	w.mutex.Lock()
	if len(w.seen) >= mostSeen {
		clear(w.seen) // rules may be large, and journals long
	}
	w.seen[k] = m
	w.mutex.Unlock()
	return m, nil
}

// Earlier the site may have lain elsewhere on its host: a path is asked below the base path of the time,
// so that /fares is /fares whatever stood before it.

// baseOf is the base path of a site at its addresses.
func baseOf(addresses []string) string {
	if len(addresses) == 0 {
		return ""
	}
	at, err := url.Parse(addresses[0])
	if err != nil {
		return ""
	}
	return strings.TrimSuffix(at.EscapedPath(), "/")
}

// Base is the base path of the site then: "" or "/prefix".
func (m *Moment) Base() string { return m.base }

// Ask asks for a path below the base path, with its query.
func (m *Moment) Ask(ctx context.Context, path string) (answer.Answer, error) {
	if m.Gone {
		return answer.Answer{}, nil
	}
	path, query, _ := strings.Cut(path, "?")
	return answer.Decide(ctx, answer.Request{Method: http.MethodGet, Path: m.base + path, Query: query,
		Base: m.base, Environment: answer.Production, Scheme: "https", Now: m.now, Admitted: true}, m.site)
}

// Change is an entry from which on an address answered otherwise than before.
type Change struct {
	Entry  journal.Entry
	Before *Moment // nil for the first entry
	After  *Moment
	// Was and Is are the answers; their status is 0 where nothing was live.
	Was, Is answer.Answer
}

// Before and After keep what they were asked of, so that more can be asked: the lines of the file, or
// which rule it was.

// Found is what a walk found.
type Found struct {
	Changes []Change // the newest first
	Entries int64    // looked at
	Now     answer.Answer
	Head    journal.Entry
	More    bool // the walk ended at the limit
}

// window is how many entries are asked side by side.
const window = 16

// The walk goes back in windows, whose entries are asked side by side: each costs a read of the entry,
// and of a release that was not met yet its root, one chunk of its index, and its rules. A site that
// was deployed a thousand times with ten releases is asked ten times.

// Changes returns the entries that changed what an address answers, the newest first, and at most
// limit of them; 0 for all. tell is told how many of how many entries were looked at.
func (w *Walk) Changes(ctx context.Context, path string, limit int, tell func(done, of int64),
) (found Found, err error) {
	number, err := w.journal.HeadNumber(ctx, 0)
	if err != nil || number == 0 {
		return found, err
	}
	var later *asked // the entry after the one that is looked at
	for last := number; last > 0; last -= window {
		some, err := w.ask(ctx, path, last)
		if err != nil {
			return found, err
		}
		for _, one := range some {
			if later == nil {
				found.Now, found.Head = one.answer, one.moment.Entry
			} else if one.moment.Gone != later.moment.Gone ||
				!difference.SameAnswer(one.answer, later.answer) {
				found.Changes = append(found.Changes, Change{Entry: later.moment.Entry, Before: one.moment,
					After: later.moment, Was: one.answer, Is: later.answer})
			}
			later = &one
			found.Entries++
			if limit > 0 && len(found.Changes) == limit {
				found.More = true
				return found, nil
			}
		}
		tell(found.Entries, number)
	}
	if later != nil && (later.answer.Status != 0 || later.answer.Upstream != nil) {
		found.Changes = append(found.Changes, Change{Entry: later.moment.Entry, After: later.moment,
			Is: later.answer})
	}
	return found, nil
}

// asked is what an address answered from an entry on.
type asked struct {
	moment *Moment
	answer answer.Answer
}

// An entry that cannot be read, damaged or of a later version, is passed over: what it put live is not
// known, and the entries around it still say what they say.

// ask asks a window of entries, from number last down. Those that did not choose what is served
// are asked too: a thaw, a password. They answer as the one before.
func (w *Walk) ask(ctx context.Context, path string, last int64) ([]asked, error) {
	list := make([]asked, min(window, last))
	group, ctx := errgroup.WithContext(ctx)
	for i := range list {
		group.Go(func() error {
			entry, err := w.journal.Get(ctx, last-int64(i))
			if err != nil && (errors.Is(err, journal.ErrDamaged) || errors.Is(err, journal.ErrUnknown)) {
				return nil // it is told by orilla history, and here only what can be known
			}
			if err != nil {
				return err
			}
			moment, err := w.At(ctx, entry)
			if err != nil {
				return err
			}
			a, err := moment.Ask(ctx, path)
			list[i] = asked{moment, a}
			return err
		})
	}
	err := group.Wait()
	return slices.DeleteFunc(list, func(a asked) bool { return a.moment == nil }), err
}

// A file that came or went would be all of its lines; that it did is told by the answers.

// Lines returns the lines in which the file differs that an address answered with before and after
// a change; none where one of them is not text.
func (w *Walk) Lines(ctx context.Context, c Change) ([]string, error) {
	side := func(a answer.Answer) (difference.Side, string) {
		side := difference.Side{Open: w.open}
		if a.File == nil {
			return side, ""
		}
		side.Files = []release.File{*a.File}
		return side, a.File.Path
	}
	before, from := side(c.Was)
	after, to := side(c.Is)
	if from == "" || to == "" {
		return nil, nil
	}
	lines, err := difference.Text(ctx, before, after, from, to)
	if errors.Is(err, difference.ErrBinary) || errors.Is(err, difference.ErrLarge) {
		return nil, nil
	}
	return lines, err
}

// open reads a file of any release.
func (w *Walk) open(ctx context.Context, file release.File) (data []byte, err error) {
	load := release.LoadFrom(w.store)
	for _, object := range file.Objects() {
		part, err := load(ctx, object)
		if err != nil {
			return nil, err
		}
		data = append(data, part...)
	}
	return data, nil
}
