package devserver

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/fsnotify/fsnotify"

	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/site"
)

// quietTime is how long nothing may change before a change is told: editors and
// builds write in several steps.
const quietTime = 120 * time.Millisecond

// watch tells of changes in a folder and all below it.
type watch struct {
	root    string
	skip    func(folder string) bool
	watcher *fsnotify.Watcher // nil where the system cannot tell of changes
	seen    map[string]time.Time
}

// newWatch begins to watch a folder. Where the system has no notifications
// left, it looks for itself from time to time.
func newWatch(root string, skip func(string) bool) *watch {
	w := &watch{root: root, skip: skip}
	var err error
	if w.watcher, err = fsnotify.NewWatcher(); err == nil && w.add(root) != nil {
		w.watcher.Close() //nolint:errcheck // not used
		w.watcher = nil
	}
	return w
}

// close gives the system's notifications back.
func (w *watch) close() {
	if w.watcher != nil {
		w.watcher.Close() //nolint:errcheck // nothing to lose
	}
}

// add watches a folder and all below it.
func (w *watch) add(folder string) error {
	return filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
		switch {
		case err != nil || !entry.IsDir():
			return nil //nolint:nilerr // what is gone meanwhile need not be watched
		case path != w.root && w.skip(path):
			return filepath.SkipDir
		}
		return w.watcher.Add(path)
	})
}

// changes returns a channel of the paths that changed, together once it has
// been quiet. What is not taken yet grows. It is closed when the context ends.
func (w *watch) changes(ctx context.Context) <-chan []string {
	out := make(chan []string)
	go func() {
		defer close(out)
		if w.watcher == nil {
			w.poll(ctx, out)
			return
		}
		w.follow(ctx, out)
	}()
	return out
}

// follow gathers changes until it has been quiet for a moment, and hands them
// on together: an editor that saves one file may touch four.
func (w *watch) follow(ctx context.Context, out chan<- []string) {
	var waiting []string
	known, born := map[string]bool{}, map[string]bool{}
	// A save is several events, and a checkout thousands. They are given away
	// together, once nothing has happened for a moment and somebody takes them.
	var quiet <-chan time.Time
	var give chan<- []string // out once it has been quiet
	for {
		select {
		case <-ctx.Done():
			return
		case give <- waiting:
			waiting, give = nil, nil
			clear(known)
			clear(born)
		case <-quiet:
			// Editors write to a file beside the one that is meant, and rename
			// it: what came and went again is no change.
			waiting = slices.DeleteFunc(waiting, func(path string) bool {
				_, err := os.Lstat(path)
				return err != nil && born[path]
			})
			if give = out; len(waiting) == 0 {
				give = nil
			}
		case event, ok := <-w.watcher.Events:
			if !ok {
				return
			}
			// Indexers and virus scanners touch attributes all the time.
			if event.Op == fsnotify.Chmod {
				continue
			}
			// The system watches folders one by one, so a new one has to be
			// added.
			if info, err := os.Stat(event.Name); err == nil && info.IsDir() {
				if w.skip(event.Name) {
					continue
				}
				w.add(event.Name) //nolint:errcheck // what went again cannot be watched
			}
			if !known[event.Name] {
				known[event.Name], born[event.Name] = true, event.Has(fsnotify.Create)
				waiting = append(waiting, event.Name)
			}
			quiet, give = time.After(quietTime), nil
		//nolint:errcheck // whatever it says, events were lost: say that the root changed
		case <-w.watcher.Errors:
			waiting = append(waiting, w.root)
			quiet, give = time.After(quietTime), nil
		}
	}
}

// poll compares the times of all files every second, where
// the system cannot tell of changes.
func (w *watch) poll(ctx context.Context, out chan<- []string) {
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		now := map[string]time.Time{}
		//nolint:errcheck // the function returns none
		filepath.WalkDir(w.root, func(path string, entry fs.DirEntry, err error) error {
			if err != nil {
				return nil //nolint:nilerr // what is gone meanwhile has no time
			}
			if entry.IsDir() && path != w.root && w.skip(path) {
				return filepath.SkipDir
			}

			if info, err := entry.Info(); err == nil && !entry.IsDir() {
				now[path] = info.ModTime()
			}
			return nil
		})

		if paths := differing(w.seen, now); w.seen != nil && len(paths) > 0 {
			select {
			case out <- paths:
			case <-ctx.Done():
				return
			}
		}

		w.seen = now
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// differing returns the paths that are in one of two looks only, or were
// changed between them.
func differing(before, after map[string]time.Time) []string {
	var paths []string
	for path, when := range after {
		if old, ok := before[path]; !ok || !old.Equal(when) {
			paths = append(paths, path)
		}
	}

	for path := range before {
		if _, ok := after[path]; !ok {
			paths = append(paths, path)
		}
	}
	return paths
}

// Changes tells when something changed in a folder, or below it
// where skip, asked for each folder, lets it look. The channel
// is closed when the context ends. Where the system cannot tell
// of changes, they are found by looking again and again.
func Changes(ctx context.Context, root string, skip func(folder string) bool) <-chan []string {
	w := newWatch(root, skip)
	context.AfterFunc(ctx, w.close)
	return w.changes(ctx)
}

// Saves tells of what a build of the working tree could read and somebody
// changed: files of the site's folder, what else its steps need, and the
// configuration; not what Git ignores, what the build makes, and what lies in
// Orilla's own folders, of which own are some.
func Saves(ctx context.Context, p *site.Project, own ...string) <-chan []string {
	b := &Bench{Options: Options{Project: p, Build: true}, ignored: map[string]bool{}}
	changes, saves := Changes(ctx, p.Root, skip(p, own...)), make(chan []string)
	go func() {
		defer close(saves)
		for paths := range changes {
			if b.builds() {
				paths = slices.DeleteFunc(paths, b.inside)
			}
			paths = slices.DeleteFunc(paths, func(path string) bool { return !matters(p, path) })
			if paths = b.sources(ctx, paths); len(paths) == 0 {
				continue
			}

			select {
			case saves <- paths:
			case <-ctx.Done():
			}
		}
	}()

	return saves
}

// matters reports whether a path is one that a build of the project reads.
func matters(p *site.Project, path string) bool {
	places := []string{site.Folder(p), filepath.Join(p.Root, project.FileName)}
	for _, also := range p.LocalConfig.Build.Also {
		if p.Repository != nil {
			places = append(places, filepath.Join(p.Repository.Top, filepath.FromSlash(also)))
		}
	}

	if path == p.Root { // events were lost: anything may have changed
		return true
	}
	return slices.ContainsFunc(places, func(place string) bool {
		within, err := filepath.Rel(place, path)
		return err == nil && filepath.IsLocal(within)
	})
}
