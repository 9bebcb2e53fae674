package edge

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/httpanswer"
)

// serving is what an environment answers from one flip to the next. It never
// changes: a request that has begun keeps the one it began with.
type serving struct {
	serial    int64
	entry     journal.Entry
	reader    *release.Reader // nil after a removal
	answers   answer.Site     // the release, without what the environment adds
	addresses []*url.URL
	upstreams map[string]string
	config    *answer.EnvironmentConfig
	recent    []recent         // newest first
	earlier   []answer.Earlier // the releases of recent
	crowd     visits.Crowd     // what its visitors got
	usual     visits.Counted   // what those of the releases before got
	// the dictionary of its pages, nil until one was made
	pages atomic.Pointer[digest.Digest]
}

// recent is an earlier release: what its pages load is still answered.
type recent struct {
	id    release.ID
	files answer.Earlier
	ended time.Time // when it stopped being live
	open  bool      // everybody could look, as far as that is known
}

// site returns what the pure function needs at a moment.
func (s *serving) site(now time.Time) answer.Site {
	keep := time.Duration(s.answers.Settings.AssetSeconds()) * time.Second
	// Newest first, so the first one that is over ends the list.
	n := 0
	for n < len(s.recent) && now.Sub(s.recent[n].ended) <= keep {
		n++
	}
	site := s.answers
	site.Recent, site.Config = s.earlier[:n], s.config
	return site
}

// answersFrom reports whether anything of a release is answered: it is live, or was lately.
func (s *serving) answersFrom(id release.ID, now time.Time) bool {
	kept := len(s.site(now).Recent)
	return id == s.entry.Release ||
		slices.ContainsFunc(s.recent[:kept], func(r recent) bool { return r.id == id })
}

// enoughVisitors is from how many answers on a release tells by itself what is usual.
const enoughVisitors = 2000

// past is what is usual for whoever comes after: what the visitors of this release got, and of
// those before it if these were few. What was gone back from was not usual.
func (s *serving) past(left bool) visits.Counted {
	switch {
	case s == nil:
		return visits.Counted{}
	case left:
		return s.usual
	}
	counted := s.crowd.Counted()
	if counted.Answers < enoughVisitors {
		counted = counted.Plus(s.usual)
	}
	counted.Worst = nil
	return counted
}

// base is the path of the canonical address, without its final slash.
func (s *serving) base() string {
	if len(s.addresses) == 0 {
		return ""
	}
	return strings.TrimSuffix(s.addresses[0].EscapedPath(), "/")
}

// environment follows one journal, and holds what is answered from its last
// entry. It lives as long as the node knows the environment.
type environment struct {
	serial  int64
	journal journal.Journal
	mutex   sync.Mutex // held while the journal is looked at
	current atomic.Pointer[serving]
	look    reasons                   // by which it is looked at
	failed  atomic.Value              // string: the last trouble that was told, so that it is told once
	passing atomic.Bool               // that it may be gone in a moment
	due     atomic.Pointer[time.Time] // when an entry will count that does not yet; zero for none
	gate    atomic.Pointer[gate]
	history history

	origin origin // of what is served
}

// origin is what a journal was read under when it was read from its end, not on
// from an entry that was served.
type origin struct {
	incarnation string // the site's, "" if its claim could not be read
	restored    int    // how many times the store had been brought back from a copy
}

// follower is what an environment asks whoever looks at its journal.
type follower struct {
	begin  func() origin        // what the journal is read under
	back   func() (bool, error) // whether it may begin elsewhere than where it was
	before func() error         // called before it flips
	now    func() time.Time     // by the store's clock

	number   int64 // of the last entry, as a hint has it; 0 for none
	thorough bool  // look whether what is served is there still
}

// reasons are why a journal is looked at, each with its own pace.
type reasons struct {
	shared  looks // of many that need one, whatever they find
	missing looks // that missing assets cause
	called  looks // that deployers ask for
}

// label is what people call the environment: corvane production.
func (e *environment) label() string {
	return e.journal.Site + " " + journal.DisplayName(e.journal.Environment)
}

// maxRecent bounds how many earlier releases are looked through for an asset.
const maxRecent = 256

// read returns the last entry. If the journal does not go on from what is
// served, it is read anew only if it may begin elsewhere; then now is nil, and
// under says what it was read under.
func (e *environment) read(ctx context.Context, follow follower,
) (head journal.Entry, now *serving, under origin, err error) {
	if now = e.current.Load(); now != nil {
		if follow.thorough {
			head, err = e.journal.From(ctx, now.entry)
		} else {
			head, err = e.journal.Expecting(ctx, now.entry, follow.number)
		}
		if !errors.Is(err, journal.ErrBehind) {
			if err == nil {
				head, err = e.counting(ctx, head, follow.now())
			}
			return head, now, under, err
		}

		may, err := follow.back()
		if err == nil && !may {
			err = fmt.Errorf("%w: is the store an older copy? If so: orilla store restored",
				journal.ErrBehind)
		}
		if err != nil {
			return journal.Entry{}, now, under, err
		}
	}

	under = follow.begin()
	// A hint of 1, where there is none: most journals are short, and a wrong hint costs a
	// few probes.
	if head, err = e.journal.Head(ctx, max(1, follow.number)); err == nil {
		head, err = e.counting(ctx, head, follow.now())
	}
	return head, nil, under, err
}

// counting returns the newest entry up to the last that counts by now, and notes when
// the last one will.
func (e *environment) counting(ctx context.Context, last journal.Entry, now time.Time) (journal.Entry,
	error) {
	due := time.Time{}
	if !last.Counts(now) {
		due = *last.From
	}
	e.due.Store(&due)
	return e.journal.Counting(ctx, last, now)
}

// refresh checks whether the journal has a newer entry, and flips to it, if
// nothing is said against it. It reports whether it did. Trouble with the
// newest entry or its release never means the one before: what is served stays.
func (e *environment) refresh(ctx context.Context, n *Node, follow follower) (bool, error) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	head, now, under, err := e.read(ctx, follow)
	if errors.Is(err, journal.ErrEmpty) {
		return false, nil
	}
	if err != nil {
		return false, err
	}

	if now != nil && now.entry.Number == head.Number && now.entry.Attempt == head.Attempt {
		return false, nil
	}
	next, err := build(ctx, n, e, head)
	if err != nil {
		return false, err
	}
	if next.reader != nil {
		next.recent = e.recent(ctx, n, now, head, next.answers.Settings)
		for _, r := range next.recent {
			next.earlier = append(next.earlier, r.files)
		}
	}

	if err := follow.before(); err != nil {
		return false, err
	}
	next.usual = now.past(head.Kind == journal.Rollback)
	e.current.Store(next)
	if now == nil {
		e.origin = under
	}
	keeper{n}.remember(e)
	return true, nil
}

// recent returns the releases that were live before head, as far as their
// assets may still be asked for: those since the entry that was served before,
// and those that were recent then.
func (e *environment) recent(ctx context.Context, n *Node, before *serving, head journal.Entry,
	settings release.Settings,
) []recent {
	var list []recent
	// What the state before has found out already is not read again: a flip
	// reads one entry, and not a history.
	known := int64(0)
	if before != nil {
		known = before.entry.Number
	}

	earlier := e.journal.Back(ctx, head.Number-1)
	if before != nil && before.entry.Number == head.Number-1 {
		earlier = func(yield func(journal.Entry, error) bool) { yield(before.entry, nil) }
	}
	oldest := time.Now().Add(-time.Duration(settings.AssetSeconds()) * time.Second)
	ended := head.When
	for entry, err := range earlier {
		if err != nil || len(list) == maxRecent || ended.Before(oldest) || entry.Number < known {
			break
		}
		if !entry.Release.IsZero() {
			if reader, err := openRelease(ctx, n, e.journal.Site, entry.Release); err == nil {
				// Of a preview it is not known who could look at all of them at the time.
				open := !entry.Access.Protects() &&
					!strings.HasPrefix(e.journal.Environment, journal.PreviewPrefix)
				list = append(list, recent{reader.ID, answer.EarlierOf(reader), ended, open})
			}
		}
		ended = entry.When
	}

	if before != nil {
		list = append(list, before.recent...)
	}
	// After a rollback the same release is in the list twice; the newest time
	// counts.
	seen := map[release.ID]bool{head.Release: true}

	list = slices.DeleteFunc(list, func(r recent) bool {
		twice := seen[r.id]
		seen[r.id] = true
		return twice
	})
	return list[:min(len(list), maxRecent)]
}

// looks lets many who need a look at a journal share one, and keeps looks apart. Each
// gets one that began after it came.
type looks struct {
	mutex sync.Mutex
	next  *look         // that has not begun; nil if nobody waits
	last  time.Time     // when the last one began
	gap   time.Duration // from then on, at least, to the next one

	running sync.Mutex // held while one goes on
}

// look is a look at a journal that somebody waits for.
type look struct {
	done chan struct{}
	err  error
}

// The least time between two looks. Each that finds nothing doubles it: requests for
// what was never there cost the store one look a second.
const lookGap, lookGapMost = 50 * time.Millisecond, time.Second

// wait returns when a look that began after the call has ended, or the context
// has. One look runs at a time, in a goroutine that ends by itself. do reports
// whether it found anything; its error is what wait returns.
func (l *looks) wait(ctx context.Context, do func(context.Context) (found bool, err error)) error {
	l.mutex.Lock()
	// A look that has begun may have read the journal before this call,
	// so it joins the next one.
	next := l.next
	if next == nil {
		next = &look{done: make(chan struct{})}
		l.next = next
		pause := time.Until(l.last.Add(l.gap))
		go func() {
			time.Sleep(pause)
			l.running.Lock()
			defer l.running.Unlock()
			l.mutex.Lock()
			l.next, l.last = nil, time.Now()
			l.mutex.Unlock()
			// Many wait for this look; that one of them has gone must not end
			// it.
			found, err := do(context.WithoutCancel(ctx))
			l.mutex.Lock()
			l.gap = min(2*max(lookGap, l.gap), lookGapMost)
			if found {
				l.gap = 0
			}
			l.mutex.Unlock()
			next.err = err
			close(next.done)
		}()
	}

	l.mutex.Unlock()
	select {
	case <-next.done:
		return next.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// load reads what an environment is, apart from the release that it serves.
func (s *serving) load(ctx context.Context, objects *httpanswer.Objects, document digest.Digest) error {
	data, err := objects.Get(ctx, document)
	if err != nil {
		return err
	}
	content, err := journal.DecodeDocument(data)
	if err != nil {
		return err
	}

	for _, text := range content.Addresses {
		// Early documents have names in the letters of their language, which no browser sends.
		address, err := url.Parse(names.Address(text))
		if err != nil {
			return fmt.Errorf("environment document: %w", err)
		}
		s.addresses = append(s.addresses, address)
	}

	s.upstreams = content.Upstreams
	s.config = answer.EnvironmentConfigOf(content.Settings, content.SettingsPath)
	return nil
}

// table is where each configured host leads. It is made
// anew when something flips.
type table map[string][]place

// place is an address on a host: the longest base path comes first.
type place struct {
	label     string // of an address that is none of one preview: its first label, with "*"
	base      string
	serves    *environment
	canonical *url.URL // set for an address that is not the canonical one
}

// owners says whom hosts belong to, of those that more than one site claims.
type owners map[string]hosts.Entry

// contested lists the hosts that more than one site claims.
func contested(environments []*environment) []string {
	sites := map[string]string{}
	var list []string
	for _, e := range environments {
		s := e.current.Load()
		if s == nil {
			continue
		}
		for _, address := range s.addresses {
			host := strings.ToLower(address.Hostname())
			if first, seen := sites[host]; !seen {
				sites[host] = e.journal.Site
			} else if first != e.journal.Site && !slices.Contains(list, host) {
				list = append(list, host)
			}
		}
	}

	return list
}

// newTable lists the addresses of environments. A host belongs to a site; what
// others claim on it counts only where that site lets them. Of two that claim
// the same address, the owner has it, else the one that comes first in
// alphabetical order; conflict is told of the other.
func newTable(environments []*environment, whose owners,
	conflict func(address, has string, wants *environment),
) table {
	sort.Slice(environments, func(i, j int) bool { return environments[i].label() < environments[j].label() })
	hosts := table{}
	// Owners first, so that whoever else claims the same address finds it
	// taken.
	for _, owned := range []bool{true, false} {
		for _, e := range environments {
			s := e.current.Load()
			if s == nil {
				continue
			}
			for i, address := range s.addresses {
				host, site := strings.ToLower(address.Hostname()), e.journal.Site
				owner := whose[host]
				if (owner.Site == site || owner.Site == "") != owned {
					continue
				}

				p := place{base: strings.TrimSuffix(address.EscapedPath(), "/"), serves: e}
				// Where previews may be is no address of a page, so it leads nowhere either.
				if e.journal.Environment == journal.Previews {
					host, p.label = pattern(host)
				} else if i > 0 {
					p.canonical = s.addresses[0]
				}
				if owner.Site != "" && !owner.Allows(site, p.base) {
					conflict(address.String(), owner.Site, e)
					continue
				}

				same := func(other place) bool { return other.base == p.base && other.label == p.label }
				if at := slices.IndexFunc(hosts[host], same); at >= 0 {
					// The same place over http and https, or at two ports, is one.
					if hosts[host][at].serves == e {
						continue
					}
					conflict(address.String(), hosts[host][at].serves.label(), e)
					continue
				}
				hosts[host] = append(hosts[host], p)
			}
		}
	}

	// The longest path first: /ferries/news/ of one site wins over /ferries/ of
	// another.
	for _, places := range hosts {
		sort.SliceStable(places, func(i, j int) bool { return len(places[i].base) > len(places[j].base) })
	}
	return hosts
}

// pattern turns the host of a pattern into that under which its place is found, and the
// label that counts there.
//
//	*.preview.corvane.example    *.preview.corvane.example   *
//	pr-*.corvane.example         *.corvane.example           pr-*
//	preview.corvane.example      the same                    none
func pattern(host string) (where, label string) {
	label, rest, _ := strings.Cut(host, ".")
	if !strings.Contains(label, "*") {
		return host, ""
	}
	return "*." + rest, label
}

// means reports whether a place is one of a host: any, but for those of patterns.
func (p place) means(host string) bool {
	if p.label == "" {
		return true
	}
	// The star stands for one character at least: "pr-" is no preview's name.
	label, _, _ := strings.Cut(host, ".")
	before, behind, _ := strings.Cut(p.label, "*")
	return len(label) > len(before)+len(behind) && strings.HasPrefix(label, before) &&
		strings.HasSuffix(label, behind)
}

// find returns the place on a host that an escaped path belongs to. What nobody has an
// address for may be where previews are.
func (t table) find(host, path string) (place, bool) {
	places := t[host]
	if len(places) == 0 {
		for _, p := range t[hosts.Wildcard(host)] {
			if p.means(host) && p.isBelow(path) {
				return p, true
			}
		}
		return place{}, false
	}
	for _, p := range places {
		if p.isBelow(path) {
			return p, true
		}
	}
	return places[len(places)-1], true // answers that the site begins elsewhere
}

// guarded reports whether an environment other than the given one, on the same host, is
// protected: browsers send its password to all of the host.
func (t table) guarded(n *Node, host string, but *environment) bool {
	for _, p := range t[host] {
		if s := p.serves.current.Load(); p.serves != but && s != nil && n.guard(p.serves, s) != nil {
			return true
		}
	}
	return false
}

// local is what a name below .localhost means.
type local struct {
	site        string
	environment string // the stored name
	release     string // the first digits of a release's id; environment is then unset
}

// parseLocal reads SITE.localhost, ENV.SITE.localhost,
// LABEL.preview.SITE.localhost and DIGITS.release.SITE.localhost.
func parseLocal(host string) (local, bool) {
	rest, ok := strings.CutSuffix(host, ".localhost")
	if !ok {
		return local{}, false
	}
	// Only labels: whatever a Host field may hold besides is nobody's name.
	labels := strings.Split(rest, ".")
	for _, label := range labels {
		if !project.IsLabel(label) {
			return local{}, false
		}
	}

	site := labels[len(labels)-1]
	switch {
	case len(labels) == 1:
		return local{site: site, environment: project.Production}, true
	case len(labels) == 2:
		return local{site: site, environment: labels[0]}, true
	case len(labels) == 3 && labels[1] == "preview":
		return local{site: site, environment: journal.PreviewPrefix + labels[0]}, true
	case len(labels) == 3 && labels[1] == "release":
		return local{site: site, release: labels[0]}, true
	}

	return local{}, false
}
