package check

import (
	"context"
	"net/http"
	"strings"
	"sync"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// Loader follows what the pages of an output load. What style sheets name is remembered, since many
// pages load the same. Its methods may be called from several goroutines.
type Loader struct {
	Output
	mutex sync.Mutex
	loads map[string][]string // of style sheets, by path
}

// NewLoader returns what follows the pages of an output: of that it needs the site, the moment, the
// base path, and what opens files.
func NewLoader(out Output) *Loader { return &Loader{Output: out, loads: map[string][]string{}} }

// Each calls with a page, and then with everything that a browser loads for it, each file once: what
// the page names, and what its style sheets name, at the addresses that answer with a file.
func (l *Loader) Each(ctx context.Context, page release.File, call func(release.File) error) error {
	seen, waiting := map[string]bool{page.Path: true}, []release.File{page}
	for len(waiting) > 0 {
		file := waiting[0]
		waiting = waiting[1:]
		if err := call(file); err != nil {
			return err
		}
		targets, err := l.loaded(ctx, file)
		if err != nil {
			return err
		}

		for _, target := range targets {
			// Below the base path, as Loads gives them.
			path, query, _ := strings.Cut(target, "?")
			a, err := answer.Decide(ctx, answer.Request{Method: http.MethodGet, Path: path, Query: query,
				Environment: answer.Production, Scheme: "https", Now: l.Now}, l.Site)
			if err != nil {
				return err
			}
			if a.Status == http.StatusOK && a.File != nil && !seen[a.File.Path] {
				seen[a.File.Path] = true
				waiting = append(waiting, *a.File)
			}
		}
	}
	return nil
}

// loaded returns what a page or a style sheet names. Of what is too large to be written by hand
// nothing is known.
func (l *Loader) loaded(ctx context.Context, file release.File) ([]string, error) {
	style := media.Extension(file.Path) == ".css"
	if !style && media.ClassOf(file.Path) != media.Page || file.Size > maxPage {
		return nil, nil
	}
	if style {
		l.mutex.Lock()
		targets, known := l.loads[file.Path]
		l.mutex.Unlock()
		if known {
			return targets, nil
		}
	}

	data, err := l.Open(ctx, file)
	if err != nil {
		return nil, err
	}
	targets := Loads(file, data, l.Base)
	if style {
		l.mutex.Lock()
		defer l.mutex.Unlock()
		l.loads[file.Path] = targets
	}
	return targets, nil
}
