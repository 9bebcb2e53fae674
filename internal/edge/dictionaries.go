package edge

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/dictionary"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/release"
)

// library finds and makes the dictionaries that visitors may have (RFC 9842). It does one
// thing at a time and nobody waits for it: whoever comes before it knows a dictionary gets
// an answer as everybody does.
//
//	the pages of what is live                  made when the first page is asked for
//	a file of an earlier release, still kept   found by whoever answers, without it
//	what only an older release has             found here, by the id that the visitor sends
//
// What it finds belongs to one environment, which everybody could look at while it served
// it. Nothing is looked for that no release of the environment holds.
type library struct {
	*Node
	queue   chan errand
	allowed *rate.Limiter // of what strangers have looked for
	pages   *generations[named, *pagesOf]
	files   *generations[owned, answer.Dictionary]
	made    *generations[releaseOf, *digest.Digest] // which one a release has; nil for none
	told    *generations[[2]digest.Digest, []byte]  // dictionaries of pages, by those before them
	tried   *generations[tried, time.Time]
	served  *generations[int64, releases] // what environments served to everybody
}

// owned names a dictionary of an environment.
type owned struct {
	e      int64 // its serial number
	digest digest.Digest
}

// named is owned of pages, by the name that addresses have.
type named struct {
	e    int64
	name string
}

// releaseOf is a release as an environment serves it.
type releaseOf struct {
	e       int64
	release release.ID
}

// errand is what the library is asked for: what an offer means, or, if s is set, the
// dictionary of the pages that it serves.
type errand struct {
	e     *environment
	s     *serving
	offer dictionary.Offer
	path  string // of a file
}

// tried names an errand, and holds nothing that could be dropped.
type tried struct {
	e, s  int64
	offer dictionary.Offer
	path  string
}

// key names an errand.
func (e errand) key() tried {
	key := tried{e: e.e.serial, offer: e.offer, path: strings.Clone(e.path)}
	if e.s != nil {
		key.s = e.s.serial
	}
	return key
}

// pagesOf is a dictionary of pages.
type pagesOf struct {
	sum     digest.Digest
	release release.ID
	data    []byte
	encoded map[coding.Coding][]byte
}

// releases are those that an environment served to everybody, the newest last.
type releases struct {
	upTo int64 // the number of the last entry that was read
	list []release.ID
}

const (
	errandsMost = 64
	// entriesMost is how far back a journal is read for an older release.
	entriesMost = 64
	// triedFor is how long what was not found is not looked for again.
	triedFor = 10 * time.Minute
	// pagesCost is about what a dictionary of pages takes, in bytes.
	pagesCost = 64 << 10
	// pagesAfter is when the dictionary of a site's pages is made, from the first page on that
	// is asked for: not while its visitor waits for the rest.
	pagesAfter = time.Second
	// errandTimeout is how long the store may take over one errand.
	errandTimeout = 30 * time.Second
)

// newLibrary returns the library of a node. A 64th of the memory holds dictionaries of pages.
func newLibrary(n *Node) *library {
	const part, many, few = 64, 256, 32
	return &library{
		Node: n, queue: make(chan errand, errandsMost), allowed: rate.NewLimiter(2, 16),
		pages:  newGenerations[named, *pagesOf](max(4, int(n.options.Memory/part/pagesCost/2))),
		files:  newGenerations[owned, answer.Dictionary](many),
		made:   newGenerations[releaseOf, *digest.Digest](many),
		told:   newGenerations[[2]digest.Digest, []byte](few),
		tried:  newGenerations[tried, time.Time](many),
		served: newGenerations[int64, releases](many),
	}
}

// want notes an errand, if it was not done lately and there is room.
func (l *library) want(what errand) {
	if at, ok := l.tried.get(what.key()); ok && time.Since(at) < triedFor {
		return
	}
	if what.s == nil && !l.allowed.Allow() {
		return
	}
	l.tried.put(what.key(), time.Now())
	if what.s != nil {
		time.AfterFunc(pagesAfter, func() { l.enqueue(what) })
		return
	}
	l.enqueue(what)
}

// enqueue queues an errand; where there is no room it is asked for again.
func (l *library) enqueue(what errand) {
	select {
	case l.queue <- what:
	default:
		l.tried.put(what.key(), time.Time{})
	}
}

// run does errands until the context ends.
func (l *library) run(ctx context.Context) {
	// One after the other: what strangers have looked for takes a part of a core and of the
	// store, and no more.
	for {
		select {
		case <-ctx.Done():
			return
		case what := <-l.queue:
			l.errand(ctx, what)
		}
	}
}

// errand does one errand. What does not come to anything is told to nobody: visitors lose
// nothing by it but bytes.
func (l *library) errand(ctx context.Context, what errand) {
	ctx, cancel := context.WithTimeout(ctx, errandTimeout)
	defer cancel()
	var err error
	switch {
	case what.s == nil:
		err = l.find(ctx, what)
	case what.e.current.Load() == what.s: // of what is live no more nobody wants it
		var sum *digest.Digest
		sum, err = l.makePages(ctx, what.e, what.s.reader, what.s.site(l.clock.now()))
		if err == nil {
			what.s.pages.Store(sum)
		}
	}
	if err != nil {
		l.tried.put(what.key(), time.Now().Add(againAfter-triedFor))
	}
}

// makePages makes the dictionary of the pages of a release, and returns its digest; nil if
// it is not worth having one.
func (l *library) makePages(ctx context.Context, e *environment, reader *release.Reader, site answer.Site,
) (*digest.Digest, error) {
	// Whoever goes back has it already.
	of := releaseOf{e.serial, reader.ID}
	if sum, ok := l.made.get(of); ok {
		if sum == nil {
			return nil, nil
		}
		if _, ok := l.pages.get(named{e.serial, dictionary.Name(*sum)}); ok {
			return sum, nil
		}
	}
	s := e.current.Load()
	req := answer.Request{Scheme: "https", Host: "localhost", Now: l.clock.now(),
		Environment: journal.DisplayName(e.journal.Environment)}
	if len(s.addresses) > 0 {
		req.Scheme, req.Host = s.addresses[0].Scheme, s.addresses[0].Host
	}
	shown := func(ctx context.Context, file release.File) (bool, error) {
		return answer.ShownToAll(ctx, site, req, file)
	}
	data, err := dictionary.Pages(ctx, reader, l.objects.Get, shown)
	if err != nil || data == nil {
		if err == nil {
			l.made.put(of, nil)
		}
		return nil, err
	}
	sum := digest.Of(data)
	// It is sent often and made once: as small as it can be.
	made := &pagesOf{sum: sum, release: reader.ID, data: data, encoded: map[coding.Coding][]byte{}}
	for _, c := range coding.All {
		if encoded, err := coding.Encode(c, coding.Best, data); err == nil {
			made.encoded[c] = encoded
		}
	}
	l.pages.put(named{e.serial, dictionary.Name(sum)}, made)
	l.made.put(of, &sum)
	return &sum, nil
}

// find looks for what an offer means among the releases that an environment has served to
// everybody. The offer is a stranger's: it counts only if its digest is that of what it names.
func (l *library) find(ctx context.Context, what errand) error {
	e, offer := what.e, what.offer
	// Of a preview it is not known who could look at all of them at the time.
	s := e.current.Load()
	if s == nil || l.guard(e, s) != nil || strings.HasPrefix(e.journal.Environment, journal.PreviewPrefix) {
		return nil
	}
	id, err := l.servedOpenly(ctx, e, s.entry.Number, offer.Release)
	if err != nil || id.IsZero() {
		return err
	}
	reader, err := openRelease(ctx, l.Node, e.journal.Site, id)
	if err != nil {
		return err
	}
	if offer.Mark == "" {
		site, err := answer.Open(ctx, reader)
		if err == nil {
			_, err = l.makePages(ctx, e, reader, site)
		}
		return err
	}
	file, ok, err := reader.Lookup(ctx, what.path)
	if err == nil && ok && file.Digest == offer.Digest && dictionary.Is(file) {
		l.files.put(owned{e.serial, file.Digest}, answer.Dictionary{Digest: file.Digest, Size: file.Size})
	}
	return err
}

// servedOpenly returns the release that an environment has served to everybody, of those
// whose short id has certain digits, as far back as is looked; the zero ID for none.
func (l *library) servedOpenly(ctx context.Context, e *environment, last int64, digits string,
) (release.ID, error) {
	known, _ := l.served.get(e.serial)
	if known.upTo < last {
		var newer []release.ID
		for entry, err := range e.journal.Back(ctx, last) {
			if entry.Number <= known.upTo || entry.Number <= last-entriesMost {
				break
			}
			if errors.Is(err, journal.ErrDamaged) || errors.Is(err, journal.ErrUnknown) {
				continue // it opens nothing
			}
			if err != nil {
				return release.ID{}, err
			}
			if !entry.Release.IsZero() && !entry.Access.Protects() {
				newer = append(newer, entry.Release)
			}
		}
		// Back yields the newest first.
		for i := len(newer) - 1; i >= 0; i-- {
			known.list = append(known.list[:len(known.list):len(known.list)], newer[i])
		}
		known.list = known.list[max(0, len(known.list)-entriesMost):]
		known.upTo = last
		l.served.put(e.serial, known)
	}
	// Of two that begin alike either may be meant: the digest decides.
	for _, id := range known.list {
		if id.Short() == "r-"+digits {
			return id, nil
		}
	}
	return release.ID{}, nil
}

// offered are the dictionaries that visitors of an environment may have.
type offered struct {
	*library
	e *environment
	s *serving
}

// Pages implements answer.Dictionaries.
func (o offered) Pages() (digest.Digest, bool) {
	if sum := o.s.pages.Load(); sum != nil {
		if _, ok := o.pages.get(named{o.e.serial, dictionary.Name(*sum)}); ok {
			return *sum, true
		}
	}
	if o.s.reader != nil {
		o.want(errand{e: o.e, s: o.s})
	}
	return digest.Digest{}, false
}

// earlierMost is how many releases are looked through while a visitor waits.
const earlierMost = 8

// Earlier implements answer.Dictionaries.
func (o offered) Earlier() (list []answer.Files) {
	for _, r := range o.s.recent {
		if r.open && len(list) < earlierMost {
			list = append(list, r.files)
		}
	}
	return list
}

// Find implements answer.Dictionaries.
func (o offered) Find(offer dictionary.Offer, path string) (answer.Dictionary, bool) {
	key := owned{o.e.serial, offer.Digest}
	if offer.Mark == "" {
		path = ""
		found, ok := o.pages.get(named{o.e.serial, dictionary.Name(offer.Digest)})
		if ok && found.sum == offer.Digest {
			size := int64(len(found.data))
			return answer.Dictionary{Digest: offer.Digest, Size: size, Data: found.data}, true
		}
	} else if found, ok := o.files.get(key); ok {
		return found, true
	}
	if offer.Release != "" {
		o.want(errand{e: o.e, offer: offer, path: path})
	}
	return answer.Dictionary{}, false
}

// pageDictionary answers with a dictionary of pages, and reports whether one was asked for
// that is known. Which one an address means never changes.
func pageDictionary(n visit, w http.ResponseWriter, r *http.Request, e *environment, s *serving, base string,
) (string, bool) {
	path, ok := strings.CutPrefix(r.URL.EscapedPath(), base)
	if !ok || !rightMethod(r) {
		return "", false
	}
	name, ok := dictionary.ParsePagePath(path)
	if !ok {
		return "", false
	}
	found, ok := n.objects.library.pages.get(named{e.serial, name})
	match, plain := dictionary.OfPages(base)
	// What was taken off all pages is not to be had here any longer than elsewhere.
	if !ok || !plain || !s.answersFrom(found.release, n.clock.now()) {
		return "", false
	}
	s.mark(w)
	data, c := found.as(n.objects.library, e, r)
	a := answer.PageDictionary(match, name, found.release, c, data)
	return n.finish(w, r, a, nil, nil), true
}

// as returns a dictionary of pages in the coding in which a request gets it: by the one
// before it, if the visitor has that, else in the first that the visitor takes.
func (p *pagesOf) as(l *library, e *environment, r *http.Request) ([]byte, coding.Coding) {
	accepted := strings.Join(r.Header["Accept-Encoding"], ",")
	offer, ok := dictionary.Offered(strings.Join(r.Header["Available-Dictionary"], ","), "")
	if ok && offer.Digest != p.sum && coding.AcceptsDictionary(accepted) {
		before, ok := l.pages.get(named{e.serial, dictionary.Name(offer.Digest)})
		if ok && before.sum == offer.Digest {
			pair := [2]digest.Digest{before.sum, p.sum}
			data, known := l.told.get(pair)
			if !known {
				data, _ = coding.EncodeWith(before.data, p.data) // nil where it does not gain
				l.told.put(pair, data)
			}
			if data != nil {
				return data, coding.Dictionary
			}
		}
	}
	for _, c := range coding.Accepted(accepted) {
		if encoded := p.encoded[c]; encoded != nil {
			return encoded, c
		}
	}
	return p.data, coding.Identity
}
