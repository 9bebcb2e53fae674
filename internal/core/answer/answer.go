// Package answer decides what a URL answers: one pure function from a request and a release to an answer, used alike by local
// serving and by edge nodes.
//
// It follows semantics 1: a page's address follows its file (a/index.html is /a/, a.html is /a), fingerprinted assets of
// recent releases go on being answered, and everything else is 404. HTTP terms are those of RFC 9110 and RFC 9111.
package answer

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"net/http"
	"strings"

	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// Request is what of a request can decide the answer.
type Request struct {
	Method string
	Path   string // as it was sent, still escaped, without the query
	Query  string // as it was sent, without the question mark

	Base       string // where the site lies on its host: "" or "/prefix"
	Production bool   // else the answer asks not to be indexed
}

// Files finds files in one release.
type Files interface {
	Lookup(ctx context.Context, path string) (release.File, bool, error)
}

// Site is what an environment serves at one moment.
type Site struct {
	Files    Files
	Settings release.Settings
	Recent   []Files // earlier releases, the newest first, whose fingerprinted assets are still answered
}

// By says what decided the answer.
type By string

// What can decide an answer.
const (
	ByFile    By = "file"         // a file of the release
	ByRecent  By = "recent asset" // a fingerprinted asset of an earlier release
	BySlash   By = "address"      // the page has another address, or slashes were repeated
	ByMissing By = "nothing"      // no file: 404
	ByMethod  By = "method"       // the method is not one that files answer
	ByRequest By = "request"      // the request could not be understood
)

// Field is one header field of an answer.
type Field struct{ Name, Value string }

// Answer is what to send. File is the content; if nil, Text is, as plain text.
type Answer struct {
	Status   int
	By       By
	File     *release.File
	Text     string
	Location string // of a redirect
	Header   []Field
	// ETag is the strong entity tag of the answer, with quotes; set for status 200 only.
	ETag string
}

// Reserved is the first segment of the addresses that no file of a site can have.
const Reserved = ".orilla"

// MaxPath is how long, in bytes, the path of a request may be.
const MaxPath = 8192

const (
	allowed     = "GET, HEAD, OPTIONS"
	revalidate  = "no-cache"
	forever     = "public, max-age=31536000, immutable" // RFC 8246
	neverStored = "no-store"
)

// Decide answers a request. It reads nothing but its arguments; the error is that of a lookup.
func Decide(ctx context.Context, req Request, site Site) (Answer, error) {
	answer, err := decide(ctx, req, site)
	if err != nil {
		return Answer{}, err
	}
	if !req.Production {
		answer.add("X-Robots-Tag", "noindex")
	}
	answer.add("X-Content-Type-Options", "nosniff")
	return answer, nil
}

func decide(ctx context.Context, req Request, site Site) (Answer, error) {
	path, refused := split(req)
	if refused != nil {
		return *refused, nil
	}
	if len(path.names) > 0 && path.names[0] == Reserved {
		return text(http.StatusNotFound, ByRequest, "Addresses below /"+Reserved+"/ are Orilla's own."), nil
	}
	switch req.Method {
	case http.MethodGet, http.MethodHead:
	case http.MethodOptions:
		return Answer{Status: http.StatusNoContent, By: ByMethod, Header: []Field{{"Allow", allowed}}}, nil
	default:
		return text(http.StatusMethodNotAllowed, ByMethod, "Files answer "+allowed+".", Field{"Allow", allowed}), nil
	}
	if path.repeated {
		return redirect(req, path.names, path.slash), nil
	}
	found, ok, err := files(ctx, req, path, site)
	if err != nil || ok {
		return found, err
	}
	if found, ok, err = recent(ctx, path, site); err != nil || ok {
		return found, err
	}
	return missing(ctx, path, site)
}

// files answers from the release itself.
func files(ctx context.Context, req Request, path path, site Site) (Answer, bool, error) {
	if !path.findable {
		return Answer{}, false, nil
	}
	name, parent, isIndex := path.name(), path.names, false
	if last := len(path.names) - 1; last >= 0 && path.names[last] == "index" {
		parent, isIndex = path.names[:last], true
	}
	if !path.slash {
		if file, ok, err := site.Files.Lookup(ctx, name); err != nil || ok {
			return exact(req, path, file, site), ok, err
		}
		if file, ok, err := site.Files.Lookup(ctx, name+".html"); err != nil || ok {
			if isIndex {
				return redirect(req, parent, true), ok, err
			}
			return page(file, site), ok, err
		}
		_, ok, err := site.Files.Lookup(ctx, name+"/index.html")
		return redirect(req, path.names, true), ok, err
	}
	if file, ok, err := site.Files.Lookup(ctx, strings.TrimPrefix(name+"/index.html", "/")); err != nil || ok {
		return page(file, site), ok, err
	}
	if name == "" || name+".html" == notFoundPage {
		return Answer{}, false, nil
	}
	_, ok, err := site.Files.Lookup(ctx, name+".html")
	return redirect(req, parent, isIndex), ok, err
}

// exact answers with the file that the path spells. A page has an address of its own besides.
func exact(req Request, path path, file release.File, site Site) Answer {
	names, slash, other := address(path.names)
	if !other {
		return page(file, site)
	}
	if site.Settings.OneAddress && file.Path != notFoundPage {
		return redirect(req, names, slash)
	}
	answer := page(file, site)
	if answer.Status == http.StatusOK {
		answer.add("Link", "<"+req.Base+encode(names, slash)+`>; rel="canonical"`)
	}
	return answer
}

// address returns the segments of the one address of a page that was asked for by the name of its file.
func address(names []string) (canonical []string, slash, other bool) {
	last := names[len(names)-1]
	if last == "index.html" {
		return names[:len(names)-1], true, true
	}
	if stem, ok := strings.CutSuffix(last, ".html"); ok && stem != "" {
		return append(append([]string{}, names[:len(names)-1]...), stem), false, true
	}
	return names, false, false
}

// notFoundPage answers for what is missing. It is itself never found.
const notFoundPage = "404.html"

// page answers 200 with a file.
func page(file release.File, site Site) Answer {
	if file.Path == notFoundPage {
		return Answer{Status: http.StatusNotFound, By: ByMissing, File: &file, Header: []Field{{"Cache-Control", revalidate}}}
	}
	answer := Answer{Status: http.StatusOK, By: ByFile, File: &file, ETag: entityTag(file)}
	if Immutable(file.Path, site.Settings) {
		answer.add("Cache-Control", forever)
	} else {
		answer.add("Cache-Control", revalidate)
	}
	return answer
}

// recent answers with a fingerprinted asset of an earlier release: a page that was opened before a flip goes on working.
func recent(ctx context.Context, path path, site Site) (Answer, bool, error) {
	name := path.name()
	if path.slash || !path.findable || !Immutable(name, site.Settings) {
		return Answer{}, false, nil
	}
	for _, files := range site.Recent {
		file, ok, err := files.Lookup(ctx, name)
		if err != nil {
			return Answer{}, false, err
		}
		if ok {
			answer := page(file, site)
			answer.By = ByRecent
			return answer, true, nil
		}
	}
	return Answer{}, false, nil
}

// missing answers 404: with the site's own page, or with a line where a page would only confuse what asked for a picture or
// a script.
func missing(ctx context.Context, path path, site Site) (Answer, error) {
	name := path.name()
	if media.Known(name) && media.ClassOf(name) != media.Page && !path.slash {
		return text(http.StatusNotFound, ByMissing, "There is no such file on this site."), nil
	}
	file, ok, err := site.Files.Lookup(ctx, notFoundPage)
	if err != nil {
		return Answer{}, err
	}
	if ok {
		return page(file, site), nil
	}
	return text(http.StatusNotFound, ByMissing, "There is no page at this address."), nil
}

// text answers with one line of plain text. Errors of the request are not kept by caches; a 404 is asked for again each time.
func text(status int, by By, line string, header ...Field) Answer {
	caching := neverStored
	if status == http.StatusNotFound {
		caching = revalidate
	}
	return Answer{Status: status, By: by, Text: line + "\n", Header: append(header, Field{"Cache-Control", caching})}
}

// redirect answers 301 with another path of the same site. It is revalidated each time, so that a rollback takes it back.
func redirect(req Request, names []string, slash bool) Answer {
	location := req.Base + encode(names, slash)
	if req.Query != "" {
		location += "?" + req.Query
	}
	return Answer{Status: http.StatusMovedPermanently, By: BySlash, Location: location, Header: []Field{{"Cache-Control", revalidate}}}
}

func (a *Answer) add(name, value string) { a.Header = append(a.Header, Field{name, value}) }

// entityTag covers the bytes and the type they are sent with.
func entityTag(file release.File) string {
	sum := sha256.Sum256(append(file.Digest[:], file.Type...))
	return `"` + hex.EncodeToString(sum[:16]) + `"`
}
