// Package gallery takes pictures of releases' pages, keeps them in the store, and compares those of two
// releases.
//
//	g := gallery.New(store, "corvane", gallery.Options{Program: []string{path}, Views: views})
//	defer g.Close()
//	taken, err := g.Take(ctx, side, []string{"/", "/fares"})    // what is there already is not taken again
//	pages, err := g.Compare(ctx, before, after, pairs)
//
// A page is shown as the release itself answers: by the same function that edge nodes use, with nothing
// on a network. A picture that was taken once on a machine is the same whenever it is taken again there,
// so pictures are kept by release, and by how letters look on the machine that took them.
package gallery

import (
	"bytes"
	"context"
	"crypto/tls"
	_ "embed" // for the page of letters
	"errors"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/browser"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// Options say how pictures are taken.
type Options struct {
	Program    []string // the browser, as in browser.Options
	Bubblewrap string   // "" where there is none
	Views      []pictures.View
	Hidden     []string // selectors of what is left out
	Again      bool     // also what is there already
	Now        func() time.Time
	// Tell is told how many pictures of how many were taken; nil for nobody.
	Tell func(done, all int)
}

// Side is a release whose pages are shown.
type Side struct {
	difference.Side
	Release release.ID // unset: its pictures are not kept
	// Address is where it would be: https://www.corvane.example/ferries/
	Address string
	// Untrusted: it was built from a branch that is not trusted.
	Untrusted bool
}

// ErrNotIsolated: pages of a stranger would be shown by a browser that sees this machine.
var ErrNotIsolated = errors.New("pages of an untrusted build are shown in isolation only")

// Gallery takes pictures of one site, of one release after the other. Close ends it.
type Gallery struct {
	store   storage.Store
	site    string
	options Options
	objects *httpanswer.Objects
	answers atomic.Pointer[http.HandlerFunc] // of the side that is shown

	browser     *browser.Browser // nil before the first picture
	origin, key string           // of its pictures
	isolated    bool
}

// New returns a gallery of a site.
func New(store storage.Store, site string, options Options) *Gallery {
	const memory = 64 << 20
	return &Gallery{
		store:   store,
		site:    site,
		options: options,
		objects: httpanswer.NewObjects(store, memory, 0),
	}
}

// Taken are pictures of a release.
type Taken struct {
	pictures.Record
	// Isolated: the browser saw nothing of this machine.
	Isolated bool
	// New is how many were taken now.
	New int
	// Unkept: they are in memory only, since whoever took them may not write to the store.
	Unkept bool

	gallery *Gallery
	mutex   sync.Mutex
	images  map[digest.Digest][]byte // that were taken now
}

// The same page looks different on another machine: other fonts, another version of the browser, other
// smoothing. All of it shows in a handful of letters and shapes, so these are drawn first, and what they look
// like is a part of the key. Nobody has to know which fonts a page falls back to.

// letters is the page that each browser draws first: what looks different there would look different
// everywhere.
//
//go:embed letters.html
var letters string

const lettersPath = "/" + answer.Reserved + "/letters"

// Nothing is taken that is there: pictures of the same release, by a browser that draws alike, would be the
// same byte by byte. A page that gave no picture is tried again each time, since the machine may have been to
// blame.

// Take takes pictures of pages, by their paths below the base path, in every view. What was taken before
// in the same way is not taken again. A page of which there is no picture has a problem; the error is
// that of a browser that does not run, or of the store.
func (g *Gallery) Take(ctx context.Context, side Side, paths []string) (*Taken, error) {
	taken := &Taken{gallery: g, images: map[digest.Digest][]byte{}}
	b, key, err := g.start(ctx, side)
	if err != nil {
		return nil, err
	}
	taken.Isolated = g.isolated
	known, err := g.read(ctx, side.Release, key)
	if err != nil {
		return nil, err
	}
	there, err := g.there(ctx, known)
	if err != nil {
		return nil, err
	}
	wanted := g.wanted(known, there, paths)
	// What breaks the browser breaks it for all pages that it shows just then: those are taken again,
	// one after the other.
	done, broken, err := g.round(ctx, b, side, wanted, taken)
	for _, one := range broken {
		if err != nil || ctx.Err() != nil {
			break
		}
		g.Close()
		if b, _, err = g.start(ctx, side); err != nil {
			break
		}
		var again []pictures.Shot
		var more []failure
		again, more, err = g.round(ctx, b, side, []pictures.Shot{one.shot}, taken)
		for _, one := range more {
			one.shot.Problem = one.err.Error()
			if errors.Is(one.err, browser.ErrEnded) {
				one.shot.Problem = "the browser ended while it showed the page"
			}
			again = append(again, one.shot)
		}
		done = append(done, again...)
	}
	if err = errors.Join(err, ctx.Err()); err != nil {
		return nil, err
	}
	taken.New = len(done)
	taken.Record = known.With(g.options.Now(), done...)
	taken.Browser = b.Product()
	// Who may only read may look all the same.
	err = g.keep(ctx, taken, done)
	if taken.Unkept = errors.Is(err, storage.ErrDenied); taken.Unkept {
		err = nil
	}
	return taken, err
}

// there lists the images of a site that are in the store, if a record names any.
func (g *Gallery) there(ctx context.Context, known pictures.Record) (map[string]bool, error) {
	found := map[string]bool{}
	if len(known.Shots) == 0 {
		return found, nil
	}
	for item, err := range g.store.List(ctx, storage.ImagesKey(g.site)) {
		if err != nil {
			return nil, err
		}
		found[item.Name()] = true
	}
	return found, nil
}

// A picture that failed is wanted again: the page, or the machine, may be well by now.

// wanted lists the pictures that are to be taken, each once.
func (g *Gallery) wanted(known pictures.Record, there map[string]bool, paths []string,
) (list []pictures.Shot) {
	for i, path := range paths {
		if slices.Contains(paths[:i], path) {
			continue
		}
		for _, view := range g.options.Views {
			shot, was := known.Find(path, view)
			if was && shot.Problem == "" && there[shot.Image.String()] && !g.options.Again {
				continue
			}
			list = append(list, pictures.Shot{Path: path, View: view})
		}
	}
	return list
}

// The cell is tried first, and what does not work there is tried without it, but for pages of a stranger:
// these are shown in the cell, or not at all.
//
//	bubblewrap is there     in a cell; if the browser ends at once, without one
//	bubblewrap is missing   without one: the browser's own sandbox is what there is
//	root, without a cell    not at all: the browser would have no sandbox either

// start returns a browser that shows a side, and the key of the way in which it takes pictures: the one
// that runs, if there is one.
func (g *Gallery) start(ctx context.Context, side Side) (*browser.Browser, string, error) {
	if side.Untrusted && g.options.Bubblewrap == "" {
		return nil, "", ErrNotIsolated
	}
	g.answers.Store(g.answer(side))
	if g.browser != nil && (g.isolated || !side.Untrusted) && g.origin == originOf(side) {
		g.browser.Forget()
		return g.browser, g.key, nil
	}
	g.Close()
	g.origin = originOf(side)
	options := browser.Options{Program: g.options.Program, Bubblewrap: g.options.Bubblewrap, Origin: g.origin,
		Answer: http.HandlerFunc(
			func(w http.ResponseWriter, r *http.Request) { (*g.answers.Load()).ServeHTTP(w, r) },
		)}
	b, err := browser.Start(ctx, options)
	g.isolated = options.Bubblewrap != ""
	if errors.Is(err, browser.ErrEnded) && g.isolated && ctx.Err() == nil {
		// Bubblewrap does not work here, or the browser cannot run in it.
		if side.Untrusted {
			return nil, "", ErrNotIsolated
		}
		g.isolated, options.Bubblewrap = false, ""
		b, err = browser.Start(ctx, options)
	}
	if err != nil {
		return nil, "", err
	}
	drawn, err := b.Take(
		ctx,
		browser.Page{Path: lettersPath, View: pictures.View{Width: 800, Scheme: pictures.Light}},
	)
	if err != nil {
		b.Close()
		return nil, "", fmt.Errorf("the browser draws nothing: %w", err)
	}
	g.browser, g.key = b, pictures.Key(digest.Of(drawn.PNG), g.options.Hidden)
	return b, g.key, nil
}

// originOf is the origin at which a side is shown.
func originOf(side Side) string {
	at, err := url.Parse(side.Address)
	if err != nil {
		return side.Address // no page is of it
	}
	return at.Scheme + "://" + at.Host
}

// Close ends the browser, if one runs.
func (g *Gallery) Close() {
	if g.browser != nil {
		g.browser.Close()
		g.browser = nil
	}
}

// It is the function that edge nodes and orilla serve use, so a picture shows what visitors get.
// Whoever asks is let in: who may see a preview is a matter of visitors, and this is not one.

// answer answers as a side does.
func (g *Gallery) answer(side Side) *http.HandlerFunc {
	handler := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == lettersPath {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Write([]byte(letters)) //nolint:errcheck // it is kept in memory
			return
		}
		if r.URL.Scheme == "https" {
			r.TLS = &tls.ConnectionState{}
		}
		request := httpanswer.RequestOf(r, side.Base, answer.Production, side.Now)
		request.Admitted = true
		a, err := answer.Decide(r.Context(), request, side.Site)
		switch {
		case err != nil:
			httpanswer.Fail(w, r, err)
		case a.Upstream != nil:
			httpanswer.Say(w, r, http.StatusBadGateway, "Pictures pass no requests on.")
		default:
			httpanswer.Respond(w, r, a, g.objects) //nolint:errcheck // the page has got a 500
		}
	})
	return &handler
}

// A browser that ended takes all of its pages with it. Which of them was to blame is found by showing each of
// them alone: those that are innocent get their picture, the other one gets its problem.

// failure is a picture that was not taken, and why.
type failure struct {
	shot pictures.Shot
	err  error
}

// round takes pictures side by side. broken are those that the end of the browser kept from being taken.
func (g *Gallery) round(
	ctx context.Context,
	b *browser.Browser,
	side Side,
	wanted []pictures.Shot,
	taken *Taken,
) (done []pictures.Shot, broken []failure, err error) {
	var mutex sync.Mutex
	group, taking := errgroup.WithContext(ctx)
	group.SetLimit(16) // the browser has fewer tabs
	for _, shot := range wanted {
		group.Go(func() error {
			shot, err := g.shoot(taking, b, side, shot, taken)
			mutex.Lock()
			defer mutex.Unlock()
			switch {
			case taking.Err() != nil:
				return taking.Err()
			case errors.Is(err, browser.ErrEnded), errors.Is(err, browser.ErrMemory):
				broken = append(broken, failure{shot, err})
				return nil
			case err != nil:
				shot.Problem = err.Error()
			}
			done = append(done, shot)
			if g.options.Tell != nil {
				g.options.Tell(len(done), len(wanted))
			}
			return nil
		})
	}
	err = group.Wait()
	return done, broken, err
}

// What a page answers is asked before it is shown: a redirect, or a page that is not there, would give
// a picture of something else.

// shoot takes one picture.
func (g *Gallery) shoot(ctx context.Context, b *browser.Browser, side Side, shot pictures.Shot, taken *Taken,
) (pictures.Shot, error) {
	path, query, _ := strings.Cut(shot.Path, "?")
	a, err := answer.Decide(ctx, answer.Request{Method: http.MethodGet, Path: side.Base + path, Query: query,
		Base: side.Base, Environment: answer.Production, Scheme: "https", Now: side.Now, Admitted: true},
		side.Site)
	if err != nil {
		return shot, err
	}
	if a.Status != http.StatusOK || a.File == nil || !httpanswer.IsPage(a.File) {
		shot.Problem = fmt.Sprintf("it answers %d, and not with a page", a.Status)
		return shot, nil
	}
	p, err := b.Take(
		ctx,
		browser.Page{Path: side.Base + shot.Path, View: shot.View, Hidden: g.options.Hidden},
	)
	if err != nil {
		return shot, err
	}
	shot.Image, shot.Bytes, shot.Height = digest.Of(p.PNG), int64(len(p.PNG)), p.Height
	shot.Cut, shot.Restless, shot.Blocked = p.Cut, p.Restless, p.Blocked
	taken.mutex.Lock()
	taken.images[shot.Image] = p.PNG
	taken.mutex.Unlock()
	return shot, nil
}

// Pictures are written before the record that names them. Two who write the record at once each have
// their own pictures in it, and those of the other are taken again by whoever misses them.

// A release that is not kept, such as one that was compared before it was ever built here, has its pictures
// in memory only, for as long as somebody looks at them.

// keep keeps what was taken, if the release is one that is kept.
func (g *Gallery) keep(ctx context.Context, taken *Taken, done []pictures.Shot) error {
	if taken.Release.IsZero() || len(done) == 0 {
		return nil
	}
	group, writing := errgroup.WithContext(ctx)
	group.SetLimit(storage.Parallel(g.store))
	for image, data := range taken.images {
		group.Go(func() error {
			key := storage.ImageKey(g.site, image.String())
			if g.options.Again {
				return g.store.Replace(writing, key, data) // what is there may be damaged
			}
			if err := g.store.Create(writing, key, data); !errors.Is(err, storage.ErrExists) {
				return err
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	known, err := g.read(ctx, taken.Release, taken.Key)
	if err != nil {
		return err
	}
	record := known.With(g.options.Now(), done...)
	record.Browser = taken.Browser
	data, err := record.Encode()
	if err != nil {
		return err
	}
	return g.store.Replace(ctx, storage.PictureKey(g.site, taken.Release.String(), taken.Key), data)
}

// A record is derived, so one that cannot be read is no damage: it is as if nothing had been taken.

// read reads a record; one without pictures if there is none that can be read.
func (g *Gallery) read(ctx context.Context, id release.ID, key string) (pictures.Record, error) {
	none := pictures.Record{Format: pictures.Format, Release: id, Key: key}
	if id.IsZero() {
		return none, nil
	}
	data, err := g.store.Get(ctx, storage.PictureKey(g.site, id.String(), key))
	if errors.Is(err, storage.ErrNotFound) {
		return none, nil
	}
	if err != nil {
		return none, err
	}
	record, err := pictures.Decode(data, id, key)
	if err != nil {
		return none, nil //nolint:nilerr // they are taken again
	}
	return record, nil
}

// standInProduct begins what the stand-in for a browser calls itself.
const standInProduct = "Stand-in/"

func (t *Taken) isStandIn() bool { return strings.HasPrefix(t.Browser, standInProduct) }

// Pictures of several machines may be there, each with a key of its own. For a list any of them does.

// Latest returns the pictures of a release that were taken last, in whichever way; nil if there are none.
func (g *Gallery) Latest(ctx context.Context, id release.ID) (latest *Taken, err error) {
	for item, err := range g.store.List(ctx, storage.PicturesKey(g.site, id.String())) {
		if err != nil {
			return nil, err
		}
		record, err := g.read(ctx, id, item.Name())
		if err != nil {
			return nil, err
		}
		// The stand-in's are for trying things out.
		better := latest == nil || latest.isStandIn() && !strings.HasPrefix(record.Browser, standInProduct) ||
			record.When.After(latest.When) &&
				(latest.isStandIn() || !strings.HasPrefix(record.Browser, standInProduct))
		if len(record.Shots) > 0 && better {
			latest = &Taken{Record: record, gallery: g, images: map[digest.Digest][]byte{}}
		}
	}
	return latest, nil
}

// Lists and mails show one picture of a release. It is the one that most people would recognise: the
// first page, as wide as a laptop, in light colours.

// Home returns the picture of the home page of a release, in PNG: the one that was taken last, in light
// colours, the widest. It is nil if there is none that can be read.
func Home(ctx context.Context, store storage.Store, site string, id release.ID) ([]byte, error) {
	if id.IsZero() {
		return nil, nil
	}
	taken, err := New(store, site, Options{}).Latest(ctx, id)
	if err != nil || taken == nil {
		return nil, err
	}
	var widest pictures.Shot
	for _, shot := range taken.Shots {
		if shot.Path == "/" && shot.Problem == "" && shot.Scheme == pictures.Light &&
			shot.Width > widest.Width {
			widest = shot
		}
	}
	if widest.Width == 0 {
		return nil, nil
	}
	data, err := taken.PNG(ctx, widest)
	if errors.Is(err, storage.ErrNotFound) || errors.Is(err, pictures.ErrUnreadable) {
		return nil, nil // it is as if it had not been taken
	}
	return data, err
}

// Small returns the top of the picture of a release's home page as a photograph (JPEG), so many pixels wide
// and at most so many high; nil if there is none.
func Small(
	ctx context.Context,
	store storage.Store,
	site string,
	id release.ID,
	width, height int,
) ([]byte, error) {
	data, err := Home(ctx, store, site, id)
	if err != nil || data == nil {
		return nil, err
	}
	img, err := decode(data)
	if err != nil {
		return nil, nil //nolint:nilerr // see above
	}
	return pictures.JPEG(pictures.Thumbnail(img, width, height))
}

// Whoever opens a picture may be anybody's browser, so what is handed out is at least what its name says, and
// no larger than a picture may be. Decoding looks at the size first: a small file can be a large picture.

// PNG returns the image of a picture. Whoever may write to the store may have written anything: what is
// not what its name says is an error, as is what is none.
func (t *Taken) PNG(ctx context.Context, shot pictures.Shot) ([]byte, error) {
	t.mutex.Lock()
	data, known := t.images[shot.Image]
	t.mutex.Unlock()
	if !known {
		var err error
		key := storage.ImageKey(t.gallery.site, shot.Image.String())
		if data, err = t.gallery.store.Get(ctx, key); err != nil {
			return nil, err
		}
	}
	if len(data) > pictures.MostImage || digest.Of(data) != shot.Image {
		return nil, pictures.ErrUnreadable
	}
	return data, nil
}

// Image returns the image of a picture, decoded.
func (t *Taken) Image(ctx context.Context, shot pictures.Shot) (image.Image, error) {
	data, err := t.PNG(ctx, shot)
	if err != nil {
		return nil, err
	}
	return decode(data)
}

// decode decodes an image whose size is within bounds.
func decode(data []byte) (image.Image, error) {
	size, err := png.DecodeConfig(bytes.NewReader(data))
	if err != nil || size.Width > pictures.MostWidth || size.Height > pictures.MostHeight {
		return nil, pictures.ErrUnreadable
	}
	return png.Decode(bytes.NewReader(data))
}

// Pair is a page of two releases; a path is "" where it is not.
type Pair struct{ Before, After string }

// Outcome is how a page looks in one view beside how it looked.
type Outcome struct {
	Pair
	pictures.View
	// State is "same", "changed", "new", "gone", or "unknown" if there is a problem.
	State         string
	Problem       string
	Share         float64
	Regions       []pictures.Region
	Before, After pictures.Shot
}

// The states of outcomes.
const (
	StateSame    = "same"
	StateChanged = "changed"
	StateNew     = "new"
	StateGone    = "gone"
	StateUnknown = "unknown"
)

// Comparing takes about a tenth of a second a pair, and most pairs are the same picture, so it is not
// shown how far it is.

// Compare compares pages of two releases of which pictures were taken in the same way.
func (g *Gallery) Compare(ctx context.Context, before, after *Taken, pairs []Pair) ([]Outcome, error) {
	var list []Outcome
	for _, pair := range pairs {
		for _, view := range g.options.Views {
			list = append(list, Outcome{Pair: pair, View: view})
		}
	}
	group, comparing := errgroup.WithContext(ctx)
	group.SetLimit(2) // each holds two pictures of up to 40 MB
	for i := range list {
		group.Go(func() error { return compare(comparing, before, after, &list[i]) })
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return list, nil
}

// Most pages of two releases have the same picture, byte by byte, and cost nothing to compare. A pair of
// which one picture is missing is told as what it is, and is neither the same nor changed.

// compare fills in an outcome. The error is that of a store.
func compare(ctx context.Context, before, after *Taken, o *Outcome) error {
	var was, is bool
	if o.Pair.Before != "" {
		o.Before, was = before.Find(o.Pair.Before, o.View)
	}
	if o.Pair.After != "" {
		o.After, is = after.Find(o.Pair.After, o.View)
	}
	switch {
	case o.Pair.Before == "":
		o.State, o.Problem = StateNew, o.After.Problem
		return nil
	case o.Pair.After == "":
		o.State, o.Problem = StateGone, o.Before.Problem
		return nil
	case !was || !is || o.Before.Problem != "" || o.After.Problem != "":
		o.State, o.Problem = StateUnknown, strings.Join(
			slices.DeleteFunc([]string{o.Before.Problem, o.After.Problem},
				func(text string) bool { return text == "" }),
			"; ",
		)
		return nil
	case o.Before.Image == o.After.Image:
		o.State = StateSame
		return nil
	}
	a, err := before.Image(ctx, o.Before)
	if err == nil {
		var b image.Image
		if b, err = after.Image(ctx, o.After); err == nil {
			c := pictures.Compare(a, b)
			o.Share, o.Regions, o.State = c.Share, c.Regions, StateChanged
			if c.Same() {
				o.State = StateSame
			}
			return nil
		}
	}
	if errors.Is(err, storage.ErrNotFound) || errors.Is(err, pictures.ErrUnreadable) {
		o.State, o.Problem = StateUnknown, "its picture is not in the store any more: --retake"
		return nil
	}
	return err
}
