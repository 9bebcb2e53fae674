package steps

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"

	"orilla.example/orilla/internal/sandbox"
)

// Options say how the steps of a session are held.
type Options struct {
	ID      string         // random: what the steps started can be found by it; see EndStrays
	Cell    *sandbox.Cell  // where they are isolated; nil: they run as this user
	Means   Means          // with which
	Bounds  sandbox.Bounds // how much they may take; zero for no bounds
	Folders []string       // whose files count for Bounds.Disk
}

// Means are the programs of this machine that isolate builds.
type Means struct {
	Bubblewrap string // its path; "" where builds cannot be isolated
	Strict     bool   // it can forbid further user namespaces
	Pasta      string // its path; "" where an isolated build reaches no network
	Why        string // why something cannot be done, for people; "" if everything can
	Hint       string // what to do about it
}

// OverError says that a build took more than it may.
type OverError struct{ What string } // "memory", "processes" or "disk"

// Error implements error.
func (e *OverError) Error() string { return "it took more than limits.build_" + e.What + " allows" }

// Furnish makes the folders and files of a cell.
func Furnish(cell sandbox.Cell) error {
	for _, folder := range []string{cell.Tree, cell.Files,
		filepath.Join(cell.Temporary, filepath.Base(sandbox.HomePlace))} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
	}

	for name, text := range cell.FileTexts() {
		if err := os.WriteFile(filepath.Join(cell.Files, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// Check makes sure that steps can run: that their keeper is there and, where
// they are isolated, that nothing runs well in the cell. What worked a while
// ago may no longer: somebody has changed what users may do. Without this look,
// the commit would be blamed.
func (s *Session) Check(ctx context.Context) error {
	if err := s.Wait(ctx); err != nil || s.options.Cell == nil {
		return err
	}
	var out bytes.Buffer
	exit, err := s.Run(ctx, []string{"/bin/sh", "-c", "true"}, s.options.Cell.Tree,
		[]string{"PATH=/usr/bin:/bin"}, &out)
	if err != nil || exit == 0 {
		return err
	}

	lines := bytes.Split(bytes.TrimSpace(out.Bytes()), []byte("\n"))

	return errors.New(Readable(lines[len(lines)-1]))
}
