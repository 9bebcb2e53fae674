package check

import (
	"net/url"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// Loads returns the addresses below a site's base path ("" or "/prefix") that a
// browser loads to show a page or a style sheet: scripts, styles, pictures,
// fonts; not the pages that it links to, and nothing of other hosts. They are
// paths with queries, escaped, each once.
func Loads(file release.File, data []byte, base string) []string {
	var references []reference
	from, err := url.Parse("https://site.invalid" + base + answer.Address(file.Path))
	if err != nil {
		return nil
	}

	switch {
	case media.ClassOf(file.Path) == media.Page:
		page := readPage(data)
		references = page.references
		if other, err := from.Parse(page.base); err == nil && page.base != "" {
			from = other
		}
	case media.Extension(file.Path) == ".css":
		references = readStyle(data)
	default:
		return nil
	}

	var list []string
	c := &pageCheck{Output: Output{Base: base}}
	for _, ref := range references {
		if ref.kind == aPage || ref.kind == aFile || ref.kind == aForm {
			continue
		}
		target, below, ok := c.resolve(from, ref.target)
		if path, _, _ := strings.Cut(target, "#"); ok && below && !slices.Contains(list, path) {
			list = append(list, path)
		}
	}

	return list
}
