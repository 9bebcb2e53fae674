package answer

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/dictionary"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

// Dictionary is what a client has already, as the server knows it: by it the file of an
// answer can be told shorter (RFC 9842).
type Dictionary struct {
	Digest digest.Digest
	Size   int64
	Data   []byte // nil: an object of the store
}

// Dictionaries are what visitors of an environment that everybody may look at can have.
type Dictionaries interface {
	// Pages returns the digest of the dictionary of pages that is offered now; false for none.
	Pages() (digest.Digest, bool)
	// Earlier are releases whose files may be dictionaries, the newest first: everybody could
	// look at them when they were live.
	Earlier() []Files
	// Find returns what an offer means: a file that an earlier release had at a path, or its
	// pages if the offer has no mark. It waits for nothing, and what it does not know may be
	// known later.
	Find(offer dictionary.Offer, path string) (Dictionary, bool)
}

// dictionaries says what the answer may become a dictionary of, and finds the one by which it
// can be told shorter. What a password keeps is neither. A visitor without a dictionary sees
// fields and nothing else; one who has one is told the difference, if whoever sends the
// answer can make it:
//
//	GET /assets/app-9c1e….js
//	Available-Dictionary: :pZGm…=:          the SHA-256 of app-4a7d….js
//	Dictionary-ID: "r-0f3a9c2b11/4a7d…"     which was in that release
func dictionaries(d *decision, a *Answer) {
	if d.site.Realm != "" || a.Status != http.StatusOK ||
		!slices.ContainsFunc(d.vary, isAcceptEncoding) {
		return
	}
	page := strings.HasPrefix(a.File.Type, "text/html")
	switch {
	case page && !keptPrivately(a):
		offerPages(d, a)
	case a.By == ByFile && dictionary.Is(*a.File) && isImmutable(a):
		match, versions := dictionary.Match(d.req.Base, a.File.Path)
		if !versions {
			return
		}
		if value, ok := dictionary.UseAs(match, d.site.Release, a.File.Path); ok {
			a.add("Use-As-Dictionary", value)
		}
	default:
		return
	}
	// Also for whoever has none: a cache must not give one the answer of the other.
	d.vary = append(d.vary, "Available-Dictionary")
	offer, ok := dictionary.Offered(d.req.AvailableDictionary, d.req.DictionaryID)
	if !ok || d.site.Dictionaries == nil || page != (offer.Mark == "") ||
		!coding.AcceptsDictionary(d.req.AcceptEncoding) {
		return
	}
	if found, ok := meant(d, a, offer); ok && found.Digest != a.File.Digest &&
		found.Size+a.File.Size <= coding.DictionaryMost {
		a.Dictionary = &found
		d.step(nil, true, "may be told by what the visitor has: "+offer.Digest.String()[:10])
	}
}

// offerPages names the dictionary of the site's pages, to whoever does not have it.
func offerPages(d *decision, a *Answer) {
	if d.site.Dictionaries == nil {
		return
	}
	sum, ok := d.site.Dictionaries.Pages()
	if offer, has := dictionary.Offered(d.req.AvailableDictionary, ""); !ok || has && offer.Digest == sum {
		return
	}
	a.add("Link", dictionary.Link(d.req.Base, sum))
}

// isAcceptEncoding reports whether a name of Vary says that codings decide.
func isAcceptEncoding(name string) bool { return strings.EqualFold(name, "Accept-Encoding") }

// isImmutable reports whether an answer never changes at its address (RFC 8246).
func isImmutable(a *Answer) bool {
	return slices.Contains(directives(a.get("Cache-Control")), "immutable")
}

// keptPrivately reports whether an answer is not for everybody.
func keptPrivately(a *Answer) bool {
	control := directives(strings.ToLower(a.get("Cache-Control")))
	return slices.ContainsFunc(control, func(directive string) bool {
		name, _, _ := strings.Cut(directive, "=")
		return name == "private" || name == neverStored
	})
}

// meant finds what an offer means: first among what is live or was lately, as far as it is
// another version of the same file.
func meant(d *decision, a *Answer, offer dictionary.Offer) (Dictionary, bool) {
	path, file := offer.Path(a.File.Path)
	if file {
		for _, files := range append([]Files{d.site.Files}, d.site.Dictionaries.Earlier()...) {
			file, ok, err := files.Lookup(d.ctx, path)
			if err == nil && ok && file.Digest == offer.Digest && dictionary.Is(file) {
				return Dictionary{Digest: file.Digest, Size: file.Size}, true
			}
		}
	}
	return d.site.Dictionaries.Find(offer, path)
}

// PageDictionary answers with the dictionary of a release's pages, by the name that its address
// has: data is what it is in a coding. match says which pages it is for.
func PageDictionary(match, name string, id release.ID, c coding.Coding, data []byte) Answer {
	a := Answer{Status: http.StatusOK, By: ByDictionary, ETag: `"` + name + `"`,
		Config: &EnvironmentConfig{Data: data}}
	if c != coding.Identity {
		a.add("Content-Encoding", c.String())
		a.ETag = EncodedTag(a.ETag, c, digest.Of(data))
	}
	if value, ok := dictionary.UseAs(match, id, ""); ok {
		a.add("Use-As-Dictionary", value)
	}
	a.add("Cache-Control", forever)
	a.add("Content-Type", "application/octet-stream")
	a.add("Vary", "Accept-Encoding, Available-Dictionary")
	a.add("X-Content-Type-Options", "nosniff")
	a.add("X-Robots-Tag", "noindex")
	return a
}

// ShownToAll reports whether a site answers everybody with a page at its own address: no rule
// keeps it away, or makes it depend on who asks.
func ShownToAll(ctx context.Context, site Site, req Request, file release.File) (bool, error) {
	req.Method, req.Path = http.MethodGet, req.Base+Address(file.Path)
	a, err := Decide(ctx, req, site)
	if err != nil || a.Status != http.StatusOK || a.File == nil || a.File.Digest != file.Digest {
		return false, err
	}
	vary := strings.Split(a.get("Vary"), ",")
	return !keptPrivately(&a) && !slices.ContainsFunc(vary, func(name string) bool {
		name = strings.TrimSpace(name)
		return name != "" && !isAcceptEncoding(name) && !strings.EqualFold(name, "Available-Dictionary")
	}), nil
}
