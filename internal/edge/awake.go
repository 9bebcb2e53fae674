package edge

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/wake"
	"orilla.example/orilla/internal/httpanswer"
)

// What a node does when it is called:
//
//	whose call    the site's key must have signed it; a stranger's costs no request to the store
//	              but for a site that is not known yet, which is counted
//	look          at the journals whose number is higher than what is served; calls that come
//	              together share a look
//	coming        opens the release, and fetches what is new of it, as far as bounds allow
//	answer        what is served now, signed
//
// Nothing that a call says is served. What it leaves out is found by the next poll.

// identity is how a node proves that it is the one whose record lies in the store.
type identity struct {
	key  ed25519.PrivateKey
	self atomic.Pointer[Presence] // what it said of itself; nil before
}

// keyNote is the name of the note of a node's key.
const keyNote = "key"

// newIdentity returns the key that the node had before, if it has a cache, or a new one.
func newIdentity(cache *Cache) *identity {
	if cache != nil {
		if data, err := cache.notes.Noted(keyNote); err == nil {
			if seed, err := base64.StdEncoding.DecodeString(string(data)); err == nil &&
				len(seed) == ed25519.SeedSize {
				return &identity{key: ed25519.NewKeyFromSeed(seed)}
			}
		}
	}
	_, key, _ := ed25519.GenerateKey(rand.Reader) // it does not fail
	if cache != nil {
		// A node whose key cannot be kept has another one after its next start; its record says so.
		//nolint:errcheck // see above
		cache.notes.Note(keyNote, []byte(base64.StdEncoding.EncodeToString(key.Seed())))
	}
	return &identity{key: key}
}

// publicKey is the one that a node signs with, as wake.FormatKey writes it.
func publicKey(n *Node) string {
	public, _ := n.objects.who.key.Public().(ed25519.PublicKey) // it is one
	return wake.FormatKey(public)
}

const (
	// awakeTime is how long a caller waits at most: whoever deploys is not held up.
	awakeTime = 2500 * time.Millisecond
	// fetchTime, fetchMost and fetchFiles bound what is fetched of a release that comes: in
	// time, in bytes (and a quarter of the memory at most), and in files.
	fetchTime  = 2 * time.Second
	fetchMost  = 64 << 20
	fetchFiles = 2000
	// fetchLargest is how large a file may be: larger ones are read in slices, when somebody
	// asks for them.
	fetchLargest = 2 << 20
	// fetchAtOnce is how many releases are fetched at a time; who comes then does without.
	fetchAtOnce = 2
)

// awake answers whoever calls the node, at any host.
func awake(n visit, w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodPost {
		connections.Unwanted(w, r)
		w.Header().Set("Allow", http.MethodPost)
		httpanswer.Say(w, r, http.StatusMethodNotAllowed, "Deployers call this node here, with POST.")
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, wake.MaxCall))
	if err != nil {
		httpanswer.Say(w, r, http.StatusRequestEntityTooLarge, "The call is too long.")
		return
	}
	call, err := whose(r.Context(), n, body, r.Header.Get(wake.SignatureField))
	switch {
	case errors.Is(err, wake.ErrMalformed):
		httpanswer.Say(w, r, http.StatusBadRequest, "The call cannot be read.")
		return
	case err != nil:
		httpanswer.Say(w, r, http.StatusForbidden, "The call "+err.Error()+".")
		return
	}

	ctx, cancel := context.WithTimeout(r.Context(), awakeTime)
	defer cancel()
	body, signature, err := obeys(ctx, n, call).Sign(n.objects.who.key, call.Nonce)
	if err != nil {
		httpanswer.Fail(w, r, err)
		return
	}
	header := w.Header()
	header.Set("Content-Type", "application/json")
	header.Set("Content-Length", strconv.Itoa(len(body)))
	header.Set("Cache-Control", "no-store")
	header.Set("X-Content-Type-Options", "nosniff")
	header.Set(wake.SignatureField, signature)
	w.Write(body) //nolint:errcheck // whoever asked has gone
}

// whose opens a call. The key of a site may have changed since it was read; that is looked
// up as often as strangers may cause it.
func whose(ctx context.Context, n visit, body []byte, signature string) (wake.Call, error) {
	site, err := wake.SiteOf(body)
	if err == nil && !project.IsLabel(site) {
		err = wake.ErrMalformed
	}
	if err != nil {
		return wake.Call{}, err
	}
	err = wake.ErrForged
	var call wake.Call
	if key, known := n.asked.keys.Load(site); known {
		call, err = wake.Open(body, signature, key.(string), n.clock.now())
	}
	if errors.Is(err, wake.ErrForged) && n.asked.strangers.Allow() {
		// What is known stays until there is something else: while the store is away, no stranger
		// can take from visitors what their links are checked with.
		ctx, cancel := context.WithTimeout(ctx, n.options.Patience)
		defer cancel()
		if claim, failed := record.ReadClaim(ctx, n.store, site); failed == nil {
			n.asked.keys.Store(site, claim.Incarnation)
			call, err = wake.Open(body, signature, claim.Incarnation, n.clock.now())
		}
	}
	return call, err
}

// obeys looks and fetches, side by side, and says what is served then.
func obeys(ctx context.Context, n visit, call wake.Call) wake.Answer {
	says := wake.Answer{Serves: map[string]wake.Serving{}}
	var group sync.WaitGroup
	if id, err := release.ParseID(call.Coming); err == nil {
		group.Go(func() { says.Fetched = n.objects.coming.fetch(ctx, n.Node, call.Site, id) })
	}
	var mutex sync.Mutex
	flipped := false
	for name, number := range call.Look {
		if !isStored(name) {
			continue
		}
		group.Go(func() {
			serves, moved, known := lookFor(ctx, n, call.Site, name, number)
			mutex.Lock()
			defer mutex.Unlock()
			flipped = flipped || moved
			if known {
				says.Serves[name] = serves
			}
		})
	}
	group.Wait()
	if flipped {
		// Whoever called may have gone; hosts lead to the new entry all the same.
		routing, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookTimeout)
		defer cancel()
		n.route(routing)
	}

	health := n.Health()
	says.State, says.Since = string(health.State), health.Since
	if self := n.objects.who.self.Load(); self != nil {
		says.Node, says.Region, says.Version = self.Node, self.Region, self.Version
	}
	says.Cache = n.options.Cache.held()
	return says
}

// isStored reports whether a name is one under which an environment can be stored.
func isStored(name string) bool {
	label, preview := strings.CutPrefix(name, journal.PreviewPrefix)
	return preview && project.IsLabel(label) || !preview && (isFixed(name) || name == journal.Previews)
}

// lookFor looks at a journal, if a later entry is said to be there than what is served, and
// returns what is served then. Calls that come together share a look, and looks that find
// nothing become rare.
func lookFor(ctx context.Context, n visit, site, name string, number int64,
) (serves wake.Serving, flipped, known bool) {
	e := n.all.known(site, name)
	if e == nil {
		if number == 0 {
			return serves, false, false
		}
		e = n.all.of(site, name)
	}
	before := e.current.Load()
	if number > 0 && (before == nil || before.entry.Number < number) {
		began := time.Now()
		//nolint:errcheck // whatever came of it, what is served says
		e.look.called.wait(ctx, func(ctx context.Context) (bool, error) {
			return n.tracker.refresh(ctx, e, number, false), nil
		})
		serves.Milliseconds = float64(time.Since(began).Microseconds()) / 1000
	}
	now := e.current.Load()
	if now == nil {
		return serves, false, false
	}
	serves.Entry, serves.Attempt = now.entry.Number, now.entry.Attempt
	if !now.entry.Release.IsZero() {
		serves.Release = now.entry.Release.String()
	}
	serves.Why, _ = e.failed.Load().(string)
	counted, usual := now.crowd.Counted(), now.usual
	serves.Visitors, serves.Usual = &counted, &usual
	return serves, now != before, true
}

// What is fetched is bounded in every way: releases at a time, seconds, bytes, files, and the
// size of one. It is read as it is for visitors, so it lands where they will look for it, in
// memory and on the node's disk. Nothing is served sooner for it, and nothing is left out: what
// did not come in time is read when somebody asks.

// coming fetches what is new of releases before anybody asks for it.
type coming struct {
	mutex sync.Mutex
	busy  map[release.ID]*fetching
}

// fetching is one release that is being fetched.
type fetching struct {
	done   chan struct{}
	result wake.Fetched
}

// fetch fetches what a release has that what the site serves has not. Several who say that
// it comes share the work; nil if too many come at once, or the context ends first.
func (c *coming) fetch(ctx context.Context, n *Node, site string, id release.ID) *wake.Fetched {
	c.mutex.Lock()
	f := c.busy[id]
	if f == nil && len(c.busy) < fetchAtOnce {
		f = &fetching{done: make(chan struct{})}
		if c.busy == nil {
			c.busy = map[release.ID]*fetching{}
		}
		c.busy[id] = f
		go func() {
			// It goes on when the caller has gone: what is on its way will be asked for.
			bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), fetchTime)
			defer cancel()
			began := time.Now()
			f.result = fetchNew(bounded, n, site, id)
			f.result.Milliseconds = float64(time.Since(began).Microseconds()) / 1000
			c.mutex.Lock()
			delete(c.busy, id)
			c.mutex.Unlock()
			close(f.done)
		}()
	}
	c.mutex.Unlock()
	if f == nil {
		return nil
	}
	select {
	case <-f.done:
		return &f.result
	case <-ctx.Done():
		return nil
	}
}

// fetchNew reads the index of a release, its rules, and the files that none of the site's
// live releases has: pages, scripts and styles first. What cannot be read is left for whoever
// asks for it.
func fetchNew(ctx context.Context, n *Node, site string, id release.ID) (result wake.Fetched) {
	next, err := openRelease(ctx, n, site, id)
	if err == nil {
		_, err = answer.Open(ctx, next)
	}
	if err != nil {
		return result
	}
	// Compared with what is most alike: what is live in production, else anywhere.
	var live *release.Reader
	for _, e := range n.all.list() {
		if s := e.current.Load(); e.journal.Site == site && s != nil && s.reader != nil &&
			(live == nil || e.journal.Environment == project.Production) {
			live = s.reader
		}
	}
	changes, err := release.Compare(ctx, live, next)
	if err != nil {
		return result
	}
	files := worthFetching(changes, min(fetchMost, n.options.Memory/4))
	result.Whole = files.all
	result.Files, result.Bytes = fetchFilesOf(ctx, n, files.list)
	result.Whole = result.Whole && result.Files == len(files.list)
	return result
}

// chosen are the files that are worth fetching, and whether they are all that is new.
type chosen struct {
	list []release.File
	all  bool
}

// worthFetching chooses of what is new what a browser waits for, the small before the large.
func worthFetching(changes []release.Change, most int64) chosen {
	c := chosen{all: true}
	for _, change := range changes {
		if f := change.After; f != nil && (change.Before == nil || change.Before.Digest != f.Digest) {
			if f.Size > fetchLargest {
				c.all = false
				continue
			}
			c.list = append(c.list, *f)
		}
	}
	order := func(f release.File) int {
		switch media.ClassOf(f.Path) {
		case media.Page, media.Script, media.Style:
			return 0
		}
		return 1
	}
	slices.SortStableFunc(c.list, func(a, b release.File) int {
		return cmp.Or(order(a)-order(b), cmp.Compare(a.Size, b.Size))
	})
	var bytes int64
	for i, f := range c.list {
		if bytes += f.Size; bytes > most || i == fetchFiles {
			c.list, c.all = c.list[:i], false
			break
		}
	}
	return c
}

// fetchFilesOf reads files, as many at once as the store is good for, and says how many came.
func fetchFilesOf(ctx context.Context, n *Node, list []release.File) (files int, bytes int64) {
	const atOnce = 8
	var count, size atomic.Int64
	var group sync.WaitGroup
	slots := make(chan struct{}, atOnce)
	for _, f := range list {
		select {
		case slots <- struct{}{}:
		case <-ctx.Done():
		}
		if ctx.Err() != nil {
			break
		}
		group.Go(func() {
			defer func() { <-slots }()
			// Read as a visitor would be answered, so that it is kept as it will be needed.
			file, err := n.objects.Open(ctx, f)
			if err == nil {
				_, err = io.Copy(io.Discard, file)
			}
			if err == nil {
				count.Add(1)
				size.Add(f.Size)
			}
		})
	}
	group.Wait()
	return int(count.Load()), size.Load()
}
