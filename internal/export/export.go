// Package export writes a release as a folder or an archive that any web server
// can serve.
//
//	done, err := export.Export(ctx, store, reader, "corvane.tar.gz", seen)
//
// An archive of one release has the same bytes on every machine: entries are in
// order of path, with fixed times, owners and modes. A folder or archive appears
// under its name when it is whole, and not before.
package export

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/storage"
)

// Exported says what was written where, and how much, as the command reports
// it.
type Exported struct {
	To        string `json:"to"`
	Files     int64  `json:"files"`
	Bytes     int64  `json:"bytes"`
	RulesFile string `json:"rules_file,omitempty"`
	Rules     int64  `json:"rules"`
}

// Export writes a release as a plain tree: into a new or empty folder,
// or into an archive if the name ends in .zip, .tar, .tar.gz or .tgz.
// Its rules, which are no files, go beside it, as statements. Nothing
// is there under the name before all of it is. seen is told, from
// several goroutines, how many more bytes are written.
func Export(ctx context.Context, store storage.Store, reader *release.Reader, to string,
	seen func(bytes int64),
) (Exported, error) {
	to = filepath.Clean(to)
	done := Exported{To: to, Files: reader.Root.Files, Bytes: reader.Root.Bytes}
	if err := vacant(to); err != nil {
		return done, err
	}

	// Beside the target, since only within a file system a rename is one step.
	temporary := filepath.Join(filepath.Dir(to), ".orilla-"+strings.ToLower(rand.Text()[:10]))
	defer os.RemoveAll(temporary) //nolint:errcheck // it has its name, or is dropped
	x := &export{store: store, reader: reader, seen: seen}
	write := x.folder
	switch name := strings.ToLower(to); {
	case strings.HasSuffix(name, ".zip"):
		write = x.zip
	case strings.HasSuffix(name, ".tar"), strings.HasSuffix(name, ".tar.gz"), strings.HasSuffix(name, ".tgz"):
		write = func(ctx context.Context, file string) error {
			return x.tar(ctx, file, !strings.HasSuffix(name, ".tar"))
		}
	}

	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return done, cannotWrite(to, err)
	}
	if err := write(ctx, temporary); err != nil {
		return done, cannotWrite(to, err)
	}

	os.Remove(to) //nolint:errcheck // an empty folder
	if err := os.Rename(temporary, to); err != nil {
		return done, cannotWrite(to, err)
	}
	return done, x.rules(ctx, &done)
}

// IsArchiveName reports whether Export writes an archive under a name.
//
// The endings are .zip, .tar, .tar.gz and .tgz.
func IsArchiveName(name string) bool {
	for _, end := range []string{".zip", ".tar", ".tar.gz", ".tgz"} {
		if strings.HasSuffix(strings.ToLower(name), end) {
			return true
		}
	}
	return false
}

// vacant makes sure that nothing is overwritten.
func vacant(to string) error {
	info, err := os.Stat(to)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && info.IsDir() {
		entries, err := os.ReadDir(to)
		if err == nil && len(entries) == 0 {
			return nil
		}
	}
	return fault.New(fault.Refused, "not-empty", "it already exists").At("%s", to).
		Then("choose a new folder or archive")
}

// cannotWrite explains an error of the file system; others come back as they
// are.
func cannotWrite(to string, err error) error {
	if _, known := errors.AsType[*fault.Error](err); known || errors.Is(err, context.Canceled) {
		return err
	}
	var path *fs.PathError
	if errors.As(err, &path) {
		return fault.New(fault.Failed, "not-written", "cannot write the files").At("%s", to).
			Because(err).Then("check the folder, its permissions and the free disk space")
	}
	return err
}

// export is a release being written: read object by object, each compared with
// its name.
type export struct {
	store  storage.Store
	reader *release.Reader
	seen   func(int64)
}

// content writes a file's verified bytes.
func (x *export) content(ctx context.Context, file release.File, to io.Writer) error {
	for _, object := range file.Objects() {
		data, err := release.Object(ctx, x.store, object)
		if err != nil {
			return err
		}
		if _, err := to.Write(data); err != nil {
			return err
		}
		x.seen(int64(len(data)))
	}
	return nil
}

// folder writes a plain tree. No name of the release can lead out of it: it is
// opened as a root.
func (x *export) folder(ctx context.Context, folder string) error {
	if err := os.Mkdir(folder, 0o755); err != nil {
		return err
	}
	// Paths of a release have no dot segments; the root keeps to the folder
	// whatever they have.
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close() //nolint:errcheck // only a handle
	group, writing := errgroup.WithContext(ctx)
	group.SetLimit(min(storage.Parallel(x.store), 8))

	for file, err := range x.reader.Files(ctx) {
		if err != nil {
			return errors.Join(err, group.Wait())
		}
		group.Go(func() error {
			name := filepath.FromSlash(file.Path)
			if err := root.MkdirAll(filepath.Dir(name), 0o755); err != nil {
				return err
			}
			out, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
			// macOS and Windows take A.html and a.html for one file, and would
			// silently keep one of the two.
			if errors.Is(err, fs.ErrExist) {
				return fault.New(fault.Failed, "same-name",
					"this file system treats two names of the release as one").At("%s", file.Path).
					Then("export into an archive")
			}
			if err != nil {
				return err
			}

			return errors.Join(x.content(writing, file, out), out.Close())
		})
	}

	return group.Wait()
}

// exportTime is the time of all files in an archive, so that equal releases
// make equal archives; ZIP knows none before.
var exportTime = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

// zip writes a ZIP archive.
func (x *export) zip(ctx context.Context, name string) error {
	return writeFile(name, func(out io.Writer) error {
		archive := zip.NewWriter(out)
		for file, err := range x.reader.Files(ctx) {
			if err != nil {
				return err
			}
			entry, err := archive.CreateHeader(&zip.FileHeader{Name: file.Path, Method: zip.Deflate,
				Modified: exportTime})
			if err == nil {
				err = x.content(ctx, file, entry)
			}
			if err != nil {
				return err
			}
		}

		return archive.Close()
	})
}

// tar writes a tar archive (POSIX.1-2001), compressed with gzip or not.
func (x *export) tar(ctx context.Context, name string, compressed bool) error {
	return writeFile(name, func(out io.Writer) error {
		packed := gzip.NewWriter(out)
		if compressed {
			out = packed
		}
		archive := tar.NewWriter(out)
		for file, err := range x.reader.Files(ctx) {
			if err != nil {
				return err
			}
			err := archive.WriteHeader(&tar.Header{Name: file.Path, Size: file.Size, Mode: 0o644,
				ModTime: exportTime, Typeflag: tar.TypeReg})
			if err == nil {
				err = x.content(ctx, file, archive)
			}
			if err != nil {
				return err
			}
		}

		if err := archive.Close(); err != nil || !compressed {
			return err
		}
		return packed.Close()
	})
}

// writeFile makes a file that must not be there, and has it written.
func writeFile(name string, write func(io.Writer) error) error {
	file, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	return errors.Join(write(file), file.Close())
}

// rules writes the release's rules beside what was exported.
func (x *export) rules(ctx context.Context, done *Exported) error {
	if done.Rules = 0; x.reader.Root.Rules == nil {
		return nil
	}
	data, err := x.reader.Rules(ctx)
	if err != nil {
		return err
	}

	list, err := rules.Decode(data)
	if err != nil {
		return err
	}
	var text strings.Builder
	for i := range list {
		text.WriteString(list[i].String() + "\n")
	}

	done.Rules, done.RulesFile = int64(len(list)), done.To+".rules"
	return cannotWrite(done.RulesFile, os.WriteFile(done.RulesFile, rules.Format([]byte(text.String())),
		0o644))
}
