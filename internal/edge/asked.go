package edge

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/access"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// asked is what requests have caused to be looked up, and how much they may: releases
// by their ids, and whether a site has an owner. That something is not there is
// remembered too, so that asking again and again costs the store nothing.
type asked struct {
	releases  sync.Map      // shownRelease by site/digits, for addresses of releases
	keys      sync.Map      // the random part of each site's claim, by site
	opened    atomic.Int64  // how many of them were opened
	unknown   unknown       // what the store said lately
	strangers *rate.Limiter // of the looks at journals that requests may cause
	guesses   *access.Guesses
	passing   *rate.Limiter // of what is told of requests while the store does not answer
}

const (
	// unknownFor is how long it is remembered what the store said.
	unknownFor = 2 * time.Second
	// unknownMost and openMost bound what is remembered.
	unknownMost, openMost = 1000, 100
)

// newAsked returns what has been asked nothing yet.
func newAsked() asked {
	return asked{strangers: rate.NewLimiter(20, 100), guesses: access.NewGuesses(nil),
		passing: rate.NewLimiter(rate.Every(10*time.Second), 1)}
}

// answersLocally reports whether a request may use names below .localhost: from this
// machine, unless the operator lets everybody. What came through a proxy did not come
// from this machine.
func (n visit) answersLocally(r *http.Request) bool {
	return n.settings.Load().LocalNames || connections.VisitorOf(r).Here
}

// unknown remembers for a moment what the store said to requests.
type unknown struct {
	mutex   sync.Mutex
	answers map[string]remembered
}

// remembered is whether something is there, and until when that is good.
type remembered struct {
	is    bool
	until time.Time
}

// recall returns what was learnt of a key, if that is still good.
func (u *unknown) recall(key string) (is, ok bool) {
	u.mutex.Lock()
	defer u.mutex.Unlock()
	found, ok := u.answers[key]
	return found.is, ok && time.Now().Before(found.until)
}

// note remembers what was learnt.
func (u *unknown) note(key string, is bool) {
	u.mutex.Lock()
	defer u.mutex.Unlock()
	if u.answers == nil || len(u.answers) >= unknownMost {
		u.answers = map[string]remembered{}
	}
	u.answers[key] = remembered{is, time.Now().Add(unknownFor)}
}

// shownRelease is a release that answers at its own address.
type shownRelease struct {
	id   release.ID
	site answer.Site
}

// release finds the one release of a site whose id begins with digits; the zero
// ID if there is none, or more than one.
func (n *Node) release(ctx context.Context, site, digits string) (release.ID, answer.Site, error) {
	// Ten digits at least, as people are shown them: fewer would make releases
	// easy to guess. A site that has never been seen has none.
	if len(digits) < 10 || strings.Trim(digits, "0123456789abcdef") != "" || !n.all.has(site) {
		return release.ID{}, answer.Site{}, nil
	}
	key := site + "/" + digits
	if found, ok := n.asked.releases.Load(key); ok {
		return found.(shownRelease).id, found.(shownRelease).site, nil
	}

	if _, ok := n.asked.unknown.recall("release " + key); ok {
		return release.ID{}, answer.Site{}, nil
	}
	if !n.asked.strangers.Allow() {
		return release.ID{}, answer.Site{}, fmt.Errorf("too many releases are asked for: %w",
			httpanswer.ErrSlow)
	}

	ctx, cancel := context.WithTimeout(ctx, n.options.Patience)
	defer cancel()
	var ids []release.ID
	for item, err := range n.store.List(ctx, storage.ReleasesKey(site)) {
		if err != nil {
			return release.ID{}, answer.Site{}, err
		}
		if id, err := release.ParseID(item.Name()); err == nil && strings.HasPrefix(item.Name(), digits) {
			ids = append(ids, id)
		}
	}

	// None, or two that begin alike: neither is shown.
	if len(ids) != 1 {
		n.asked.unknown.note("release "+key, false)
		return release.ID{}, answer.Site{}, nil
	}
	reader, err := openRelease(ctx, n, site, ids[0])
	if err != nil {
		return release.ID{}, answer.Site{}, err
	}

	open := shownRelease{id: ids[0]}
	if open.site, err = answer.Open(ctx, reader); err == nil {
		if n.asked.opened.Add(1)%openMost == 0 {
			n.asked.releases.Clear()
		}
		n.asked.releases.Store(key, open)
	}
	return open.id, open.site, err
}

// claimed reports whether a site's name has an owner.
func (n *Node) claimed(ctx context.Context, site string) (bool, error) {
	if n.all.has(site) {
		return true, nil
	}
	key := "claim " + site
	if is, ok := n.asked.unknown.recall(key); ok {
		return is, nil
	}
	if !n.asked.strangers.Allow() {
		return false, fmt.Errorf("too many sites are asked for: %w", httpanswer.ErrSlow)
	}
	ctx, cancel := context.WithTimeout(ctx, n.options.Patience)
	defer cancel()
	_, err := n.store.Stat(ctx, storage.ClaimKey(site))
	if err != nil && !errors.Is(err, storage.ErrNotFound) {
		return false, err
	}
	n.asked.unknown.note(key, err == nil)
	return err == nil, nil
}

// has reports whether anything of a site was ever seen.
func (d *directory) has(site string) bool {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	for _, e := range d.byName {
		if e.journal.Site == site {
			return true
		}
	}
	return false
}
