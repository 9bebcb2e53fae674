package publish

import (
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"runtime"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Upload puts the files of a scan into a batch.
type Upload struct {
	Batch  storage.Batch
	Memory *Memory                  // remembered digests; nil remembers nothing
	Rehash bool                     // read every file, whatever is remembered
	Has    func(digest.Digest) bool // known to be in the store whole; the rest is put without asking
	// Seen is told after each file how much of the work is done. It is called from several goroutines.
	Seen func(Progress)
}

// Progress says how far an upload is.
type Progress struct {
	Files, Bytes       int64 // looked at
	NewFiles, NewBytes int64 // not in the store before
}

// Run fingerprints and uploads what was found. The files come back in the order of the scan. What was added to the batch is
// not visible before the batch is committed.
func (u *Upload) Run(ctx context.Context, output Output, scan *Scan) ([]release.File, Progress, error) {
	if u.Memory == nil {
		u.Memory = NewMemory()
	}
	files := make([]release.File, len(scan.Files))
	var next, doneFiles, doneBytes, newFiles, newBytes atomic.Int64
	progress := func() Progress {
		return Progress{doneFiles.Load(), doneBytes.Load(), newFiles.Load(), newBytes.Load()}
	}
	group, ctx := errgroup.WithContext(ctx)
	for range workers() {
		group.Go(func() error {
			worker := worker{Upload: u, output: output, scan: scan}
			for ctx.Err() == nil {
				i := next.Add(1) - 1
				if i >= int64(len(files)) {
					return nil
				}
				file, added, err := worker.file(ctx, scan.Files[i])
				if err != nil {
					return err
				}
				files[i] = file
				doneFiles.Add(1)
				doneBytes.Add(file.Size)
				if added > 0 {
					newFiles.Add(1)
					newBytes.Add(added)
				}
				if u.Seen != nil {
					u.Seen(progress())
				}
			}
			return ctx.Err()
		})
	}
	err := group.Wait()
	return files, progress(), err
}

// workers is how many files are read at once. Each holds one part at most, so memory stays bounded.
func workers() int { return max(4, 2*runtime.NumCPU()) }

type worker struct {
	*Upload
	output Output
	scan   *Scan
	buffer []byte
}

// file returns the line of one file and how many of its bytes were new to the store.
func (w *worker) file(ctx context.Context, found Found) (release.File, int64, error) {
	if found.Known && !w.Rehash {
		if held, ok := w.Memory.recall(found.Identity); ok && w.hasAll(held) {
			return line(found.Path, found.Size, held), 0, nil
		}
	}
	held, size, added, err := w.read(ctx, found)
	if err != nil {
		return release.File{}, 0, err
	}
	if found.Known && size == found.Size {
		w.Memory.remember(found.Identity, held, w.scan.Started)
	}
	return line(found.Path, size, held), added, nil
}

func line(path string, size int64, held content) release.File {
	return release.File{Path: path, Digest: held.digest, Size: size, Type: media.Type(path, held.text), Parts: held.parts}
}

func (w *worker) hasAll(held content) bool {
	if len(held.parts) == 0 {
		return w.has(held.digest)
	}
	for _, part := range held.parts {
		if !w.has(part) {
			return false
		}
	}
	return true
}

func (w *worker) has(d digest.Digest) bool { return w.Has != nil && w.Has(d) }

// read takes the content of a file in parts, names each by the hash of the very bytes it then hands to the store, and
// returns the size that it read, which is that of the content, whatever the file has become since the scan.
func (w *worker) read(ctx context.Context, found Found) (held content, size, added int64, err error) {
	file, err := w.output.FS.Open(found.Source)
	if err != nil {
		return held, 0, 0, unreadable(w.output, found, err)
	}
	defer file.Close() //nolint:errcheck // read only
	whole, text := sha256.New(), utf8Check{}
	for {
		data, last, err := w.part(file, found.Size-size)
		if err != nil {
			return held, 0, 0, unreadable(w.output, found, err)
		}
		if len(data) == 0 && size > 0 {
			break
		}
		sum := digest.Of(data)
		held.parts = append(held.parts, sum)
		if size > 0 || !last {
			whole.Write(data) //nolint:errcheck // a hash never fails
		}
		text.add(data)
		size += int64(len(data))
		if !w.has(sum) {
			isNew, err := w.Batch.Add(ctx, sum.Key(), data)
			if err != nil {
				return held, 0, 0, err
			}
			if isNew {
				added += int64(len(data))
			}
		}
		if last {
			break
		}
	}
	held.text = text.valid()
	if len(held.parts) == 1 {
		held.digest, held.parts = held.parts[0], nil
	} else {
		held.digest = digest.Digest(whole.Sum(nil))
	}
	return held, size, added, nil
}

// part reads the next part, or the rest of a file of which about left bytes are expected. last is set when the file ended.
func (w *worker) part(file io.Reader, left int64) (data []byte, last bool, err error) {
	want := int(min(max(left, 0)+1, release.PartSize)) // one byte more than expected shows the end
	if cap(w.buffer) < want {
		w.buffer = make([]byte, want, max(want, 256<<10))
	}
	data = w.buffer[:0]
	for len(data) < release.PartSize {
		if len(data) == cap(data) { // the file has grown
			data = append(data, 0)[:len(data)]
			w.buffer = data[:0]
		}
		n, err := file.Read(data[len(data):min(cap(data), release.PartSize)])
		data = data[:len(data)+n]
		if errors.Is(err, io.EOF) {
			return data, true, nil
		}
		if err != nil {
			return nil, false, err
		}
	}
	return data, false, nil
}

func unreadable(output Output, found Found, err error) error {
	return fault.New(fault.Failed, "unreadable", "the file cannot be read").At("%s/%s", output.Root, found.Path).Because(err).
		Then("if a build is still writing there, wait for it to end; then run the command again")
}
