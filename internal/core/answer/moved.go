package answer

import (
	"context"
	"net/http"
	"slices"
	"strings"
)

// maxHops is how many redirects of a site are followed on behalf of a visitor.
const maxHops = 8

// Moved answers a request that came to another address of a site than the
// canonical one, whose scheme and host origin is. req is the request as it would
// come to the canonical address.
//
// Visitors are sent where they end up: a redirect to the canonical address, and
// from there to another page, would cost each of them two round trips. It is
// permanent only if all hops are.
func Moved(ctx context.Context, req Request, site Site, origin string) (Answer, error) {
	at := req.Path
	if req.Query != "" {
		at += "?" + req.Query
	}
	moved := Answer{Status: http.StatusMovedPermanently, By: BySlash, Location: origin + at}
	vary, seen := []string{}, []string{at}

	for range maxHops {
		a, err := Decide(ctx, req, site)
		if err != nil {
			return Answer{}, err
		}
		for _, field := range a.Header {
			if field.Name == "Vary" && !slices.Contains(vary, field.Value) {
				vary = append(vary, field.Value)
			}
		}
		if a.Location == "" || slices.Contains(seen, a.Location) {
			break
		}

		if a.Status != http.StatusMovedPermanently && a.Status != http.StatusPermanentRedirect {
			moved.Status = http.StatusFound
		}
		moved.By, moved.Rule = a.By, a.Rule
		// Another site's address: what it answers is its own matter.
		if !strings.HasPrefix(a.Location, "/") || strings.HasPrefix(a.Location, "//") {
			moved.Location = a.Location
			break
		}

		moved.Location = origin + a.Location
		seen = append(seen, a.Location)
		path, _, _ := strings.Cut(a.Location, "#")
		req.Path, req.Query, _ = strings.Cut(path, "?")
	}

	moved.add("Location", moved.Location)
	moved.add("Cache-Control", revalidate)
	for _, value := range vary {
		moved.add("Vary", value)
	}
	return moved, nil
}
