package answer

import (
	"net"
	"strings"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/fingerprint"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// cutBase takes the base path off. What is left begins with a slash, or is
// empty for the base path itself.
func cutBase(path, base string) (rest string, ok bool) {
	rest, ok = strings.CutPrefix(path, base)
	return rest, ok && (rest == "" || rest[0] == '/')
}

// hostName takes the port off a host.
func hostName(host string) string {
	if strings.LastIndexByte(host, ':') < 0 {
		return host
	}
	if name, _, err := net.SplitHostPort(host); err == nil {
		return name
	}
	return host
}

// Address returns the escaped path at which a visitor opens the file at name:
// the one address of a page, or the file itself.
//
//	about/index.html   /about/
//	about.html         /about
//	style.css          /style.css
func Address(name string) string {
	path, _ := address.OfFile(strings.Split(name, "/"))
	return path.String()
}

// Immutable reports whether the file at name never changes at its address, by
// the semantics of the release.
//
// Such answers carry Cache-Control: immutable (RFC 8246), and a deploy that
// would change their bytes is refused.
func (s Site) Immutable(name string) bool {
	if s.Semantics >= release.Semantics2 {
		return s.Unchanging[name]
	}
	return immutable(name, s.Settings)
}

// Carries reports whether a file of an earlier release may still be answered
// where this one has none: of semantics 1 those that never change, of semantics
// 2 whatever a page loads, whatever its name, and of semantics 3 besides what
// the earlier release lists as immutable.
func (s Site) Carries(name string) bool {
	switch {
	case s.Semantics < release.Semantics2:
		return immutable(name, s.Settings)
	case media.IsLoaded(name):
		return true
	}
	return s.Semantics >= release.Semantics3 && (fingerprint.Possible(name) ||
		fingerprint.Matches(s.Settings.Fingerprinted, name))
}

// immutable reports whether the file at name is sent as one that never changes,
// by semantics 1: its name tells its content, by the rule of media.Fingerprinted
// or by the site's own globs, of which plain has the last word.
func immutable(name string, settings release.Settings) bool {
	switch {
	case fingerprint.Matches(settings.Plain, name):
		return false
	case fingerprint.Matches(settings.Fingerprinted, name):
		return true
	}
	return media.Fingerprinted(name)
}

// isAsset reports whether an address is that of a file which is no page, so
// that a page would only confuse what asked for a picture or a script.
func (s Site) isAsset(p address.Path) bool {
	name := p.Name()
	if s.Semantics >= release.Semantics2 && media.KnownSince2(name) {
		return !p.Slash
	}
	return !p.Slash && media.Known(name) && media.ClassOf(name) != media.Page
}
