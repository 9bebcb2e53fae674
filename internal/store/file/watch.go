package file

import (
	"context"
	"os"

	"github.com/fsnotify/fsnotify"

	"orilla.example/orilla/internal/core/storage"
)

// Watch implements storage.Watcher with the system's notifications. Where the
// file system has none (a network share), the channel stays silent.
//
// Whoever watches polls as well.
func (s *Store) Watch(ctx context.Context, folder string) (<-chan struct{}, error) {
	if err := storage.CheckKey(folder); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(s.path(folder), 0o755); err != nil {
		return nil, storage.Wrap(explain(err), s, "watch", folder)
	}

	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	if err := watcher.Add(s.path(folder)); err != nil {
		watcher.Close() //nolint:errcheck // the first error counts
		return nil, storage.Wrap(explain(err), s, "watch", folder)
	}

	// Room for one: a signal that nobody has taken yet stands for all that
	// follow it.
	signal := make(chan struct{}, 1)
	go func() {
		defer close(signal)
		defer watcher.Close() //nolint:errcheck // nothing to lose
		for {
			select {
			case <-ctx.Done():
				return
			case _, ok := <-watcher.Events:
				if !ok {
					return
				}
			case _, ok := <-watcher.Errors:
				if !ok {
					return
				}
			}
			select {
			case signal <- struct{}{}:
			default:
			}
		}
	}()

	return signal, nil
}
