package check

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// Place is a host that leads to an environment of the site.
type Place struct {
	// in lower case, without a port; one that begins with
	// a dot stands for all names that end so
	Host        string
	Environment string
}

// written are the extensions of files besides pages, style sheets and manifests
// in which addresses are looked for.
var written = []string{".js", ".mjs", ".json", ".xml", ".txt", ".svg", ".rss", ".atom"}

// stray is an address of an environment that the output names.
type stray struct {
	place Place
	file  string // the first that names it, in order of path
	line  int
	files int
}

// addPlaces notes the environments' addresses in a file, of
// each environment once. That production's canonical address is
// named where the web wants an absolute one is no mistake: in a
// site map, a feed, robots.txt, or what a page says of itself.
func (c *pageCheck) addPlaces(file release.File, data []byte) {
	for _, place := range c.Places {
		at := c.findPlace(file, data, place)
		if at < 0 {
			continue
		}
		line := 1 + bytes.Count(data[:at], []byte("\n"))
		c.mutex.Lock()
		found := c.strays[place]
		if found == nil {
			found = &stray{place: place, file: file.Path, line: line}
			c.strays[place] = found
		} else if file.Path < found.file {
			found.file, found.line = file.Path, line
		}
		found.files++
		c.mutex.Unlock()
	}
}

// findPlace returns where a file first names a host after
// two slashes, -1 if nowhere.
func (c *pageCheck) findPlace(file release.File, data []byte, place Place) int {
	for from := 0; ; {
		at := bytes.Index(data[from:], []byte(place.Host))
		if at < 0 {
			return -1
		}
		at += from
		from = at + len(place.Host)
		if from < len(data) && (isHostByte(data[from]) || data[from] == '.' && from+
			1 < len(data) && isHostByte(data[from+1])) {
			continue // a longer name
		}

		begin := at
		for strings.HasPrefix(place.Host, ".") && begin > 0 && isHostByte(data[begin-1]) {
			begin--
		}
		if begin < 2 || data[begin-1] != '/' || data[begin-2] != '/' ||
			place.Environment == answer.Production && saysOfItself(file, data[:begin]) {
			continue
		}
		return begin
	}
}

// isHostByte reports whether a byte can stand in the name of a host (RFC 952,
// RFC 1123), dots apart.
func isHostByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-'
}

// saysOfItself reports whether what stands behind a text is where a page or a
// file names the site's own address on purpose.
func saysOfItself(file release.File, before []byte) bool {
	extension := media.Extension(file.Path)
	if slices.Contains([]string{".xml", ".txt", ".rss", ".atom"}, extension) {
		return true
	}
	if media.ClassOf(file.Path) != media.Page {
		return false
	}

	tag := strings.ToLower(string(before[max(0, bytes.LastIndexByte(before, '<')):]))
	if strings.HasPrefix(tag, "<link") || strings.HasPrefix(tag, "<meta") {
		return true
	}
	script := bytes.LastIndex(before, []byte("<script"))
	end, _, _ := bytes.Cut(before[max(0, script):], []byte(">"))
	return script > bytes.LastIndex(before, []byte("</script")) && bytes.Contains(end, []byte("ld+json"))
}

// addForeign notes an address on a host that is none of the site's.
func (c *pageCheck) addForeign(file release.File, from *url.URL, ref reference) {
	u, err := from.Parse(ref.target)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "site.invalid" ||
		strings.Trim(u.Path, "/") == "" {
		return
	}

	c.mutex.Lock()
	defer c.mutex.Unlock()
	key := u.Host + u.EscapedPath()
	n := c.foreign[key]
	if n == nil {
		c.foreign[key] = &named{target: u.EscapedPath(), raw: ref.target, file: file.Path, line: ref.line,
			files: 1}
		return
	}

	n.files++
	if file.Path < n.file {
		n.file, n.line, n.raw = file.Path, ref.line, ref.target
	}
}

// elsewhere tells of addresses that lead away from the release: to one of the
// site's environments wherever it is live, and to another host that has a copy
// of what is in this very output.
func (c *pageCheck) elsewhere(ctx context.Context) (finding.List, error) {
	var found finding.List
	add := func(f finding.Finding, file string, line, files int) {
		f.Level, f.File, f.Line = finding.Warning, file, line
		if files > 1 {
			f.More = append(f.More, fmt.Sprintf("named by %d files", files))
		}
		found.Add(f)
	}

	for _, s := range c.strays {
		host := strings.TrimPrefix(s.place.Host, ".")
		add(finding.Finding{Code: "environment-address",
			What: fmt.Sprintf("links to %s, an address of %s, in every environment",
				host, s.place.Environment),
			Next: "write the address without its host; put what differs between environments into " +
				"their settings"}, s.file, s.line, s.files)
	}

	for _, n := range c.foreign {
		path, ok := strings.CutPrefix(n.target, c.Base)
		if !ok || path == "" || path[0] != '/' {
			path = n.target
		}
		a, err := c.ask(ctx, path)
		if err != nil {
			return nil, err
		}

		if a.Status == http.StatusOK && a.By == answer.ByFile {
			add(finding.Finding{Code: "foreign-address",
				What: fmt.Sprintf("%s is on another host, and this output has %s", n.raw, path),
				Next: "if that is an old address of this site, write " + c.Base + path}, n.file, n.line,
				n.files)
		}
	}
	found.Sort()
	return found, nil
}
