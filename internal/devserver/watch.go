package devserver

import (
	"context"
	"io/fs"
	"maps"
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

// changes are paths, each with the time when it was last seen to change.
type changes map[string]time.Time

// paths lists what changed, in order.
func (c changes) paths() []string { return slices.Sorted(maps.Keys(c)) }

// changes returns a channel of what changed, together once it has been quiet. What
// is not taken yet grows. It is closed when the context ends.
func (w *watch) changes(ctx context.Context) <-chan changes {
	out := make(chan changes)
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
func (w *watch) follow(ctx context.Context, out chan<- changes) {
	waiting, born := changes{}, map[string]bool{}
	// A save is several events, and a checkout thousands. They are given away
	// together, once nothing has happened for a moment and somebody takes them.
	var quiet <-chan time.Time
	var give chan<- changes // out once it has been quiet
	for {
		select {
		case <-ctx.Done():
			return
		case give <- waiting:
			waiting, give = changes{}, nil
			clear(born)
		case <-quiet:
			// Editors write to a file beside the one that is meant, and rename
			// it: what came and went again is no change.
			for path := range born {
				if _, err := os.Lstat(path); err != nil {
					delete(waiting, path)
				}
			}
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
			if _, known := waiting[event.Name]; !known && event.Has(fsnotify.Create) {
				born[event.Name] = true
			}
			waiting[event.Name] = time.Now()
			quiet, give = time.After(quietTime), nil
		//nolint:errcheck // whatever it says, events were lost: say that the root changed
		case <-w.watcher.Errors:
			waiting[w.root] = time.Now()
			quiet, give = time.After(quietTime), nil
		}
	}
}

// poll compares the times of all files every second, where
// the system cannot tell of changes.
func (w *watch) poll(ctx context.Context, out chan<- changes) {
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

		if changed := differing(w.seen, now); w.seen != nil && len(changed) > 0 {
			select {
			case out <- changed:
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
func differing(before, after map[string]time.Time) changes {
	found := changes{}
	for path, when := range after {
		if old, ok := before[path]; !ok || !old.Equal(when) {
			found[path] = when
		}
	}

	for path := range before {
		if _, ok := after[path]; !ok {
			found[path] = time.Now()
		}
	}
	return found
}

// Changes tells when something changed in a folder, or below it
// where skip, asked for each folder, lets it look. The channel
// is closed when the context ends. Where the system cannot tell
// of changes, they are found by looking again and again.
func Changes(ctx context.Context, root string, skip func(folder string) bool) <-chan struct{} {
	w, told := newWatch(root, skip), make(chan struct{})
	context.AfterFunc(ctx, w.close)
	go func() {
		defer close(told)
		for range w.changes(ctx) {
			select {
			case told <- struct{}{}:
			case <-ctx.Done():
			}
		}
	}()
	return told
}

// Saves tells of what a build of the working tree could read and somebody
// changed: files of the site's folder, what else its steps need, and the
// configuration; not what Git ignores, what the build makes, and what lies in
// Orilla's own folders, of which own are some.
func Saves(ctx context.Context, p *site.Project, own ...string) <-chan []string {
	b, w := &Bench{Options: Options{Project: p, Build: true}}, newWatch(p.Root, skip(p, own...))
	context.AfterFunc(ctx, w.close)
	saves := make(chan []string)
	go func() {
		defer close(saves)
		for changed := range w.changes(ctx) {
			paths := changed.paths()
			if b.steps() {
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
