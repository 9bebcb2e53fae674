package publish

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"runtime"
	"slices"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// Putter keeps bytes under a key; storage.Batch is one.
type Putter interface {
	Add(ctx context.Context, key string, data []byte) (added bool, err error)
}

// Upload puts the files of a scan into a store, or without a Batch finds out what
// they hold.
//
// Where a chunk of the index comes out as in the live release,
// everything in it is there, and nothing is asked or sent. In the
// other chunks, what the live release has in the same place is
// not sent. So one changed file costs the reading of one chunk.
type Upload struct {
	Batch    Putter          // nil sends nothing
	Live     *release.Reader // of the release whose objects are known to be there whole; nil for none
	Memory   *Memory         // remembered digests; nil remembers nothing
	Rehash   bool            // read every file, whatever is remembered
	Parallel int             // how many objects are sent at once; 0: as many as files are read
	Rate     *rate.Limiter   // bytes a second that are sent; nil for no limit
	// Known tells whether an object that an earlier try
	// may have sent is there. Nil asks nothing.
	Known func(ctx context.Context, d digest.Digest, size int) (bool, error)
	// Seen is told after each file, and each part of a large one, how much of
	// the work is done. It is called from several goroutines.
	Seen func(Progress)
}

// Progress says how far an upload is.
type Progress struct {
	Files, Bytes       int64 // looked at
	NewFiles, NewBytes int64 // sent: not in the live release, and not known to be in the store
}

// Run fingerprints and uploads what was found. The files
// come back in the order of the scan. What was added to the
// batch may not be visible before the batch is committed.
func (u *Upload) Run(ctx context.Context, output Output, scan *Scan) ([]release.File, Progress, error) {
	if u.Memory == nil {
		u.Memory = NewMemory()
	}
	job := &job{
		Upload: u, output: output, scan: scan, files: make([]release.File, len(scan.Files)),
		senders: semaphore.NewWeighted(int64(cmp.Or(u.Parallel, workers()))),
		live:    map[digest.Digest]bool{},
	}

	// The references to all chunks of the live release: a few hundred for a
	// site of 100,000 files.
	if u.Live != nil {
		var err error
		if job.refs, err = u.Live.Refs(ctx); err != nil {
			return nil, Progress{}, err
		}
		for _, ref := range job.refs {
			job.live[ref.Digest] = true
		}
	}

	// A span is what becomes one chunk. Working span by span, a chunk that
	// comes out as in the live release is settled without a question to the
	// store.
	spans := release.Spans(len(scan.Files), func(i int) string { return scan.Files[i].Path })
	atOnce := max(1, min(len(spans), workers()/2))
	job.readers = workers() / atOnce
	group, working := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)

	for _, span := range spans {
		if working.Err() != nil {
			break
		}
		group.Go(func() error { return job.span(working, span) })
	}
	err := errors.Join(group.Wait(), ctx.Err())
	return job.files, job.progress(), err
}

// workers is how many files are read at once.
func workers() int { return max(4, 2*runtime.NumCPU()) }

// job is one run of an upload.
type job struct {
	*Upload
	output Output
	scan   *Scan
	files  []release.File
	refs   []release.Ref
	live   map[digest.Digest]bool // chunks

	readers int // of each span
	senders *semaphore.Weighted
	counters
}

// counters count what is done, for whoever watches.
type counters struct{ doneFiles, doneBytes, newFiles, newBytes atomic.Int64 }

// progress is how far the upload is.
func (j *job) progress() Progress {
	return Progress{j.doneFiles.Load(), j.doneBytes.Load(), j.newFiles.Load(), j.newBytes.Load()}
}

// piece is what became of one file of a span.
type piece struct {
	held   content
	size   int64
	data   []byte // read, and kept for being sent
	room   int64  // that data takes of what is held
	stored bool   // known to be in the store, or on its way there
	sent   atomic.Int64
	told   atomic.Int64 // bytes that were counted as done already
}

// span fingerprints the files of one chunk, and sends what
// the live release does not have.
func (j *job) span(ctx context.Context, span release.Span) error {
	// Whatever happens, room is given back: others wait for it.
	pieces := make([]piece, span.End-span.First)
	defer func() {
		for i := range pieces {
			j.letGo(&pieces[i])
		}
	}()

	if err := j.fingerprints(ctx, span, pieces); err != nil {
		return err
	}
	for i := range pieces {
		j.files[span.First+i] = line(j.scan.Files[span.First+i].Path, pieces[i].size, pieces[i].held)
	}

	has, err := j.has(ctx, j.files[span.First:span.End])
	if err != nil {
		return err
	}
	group, sending := errgroup.WithContext(ctx)
	for i := range pieces {
		p := &pieces[i]
		if p.stored || j.Batch == nil || has(p.held) {
			j.done(p)
			continue
		}

		if err := j.senders.Acquire(sending, 1); err != nil {
			break
		}
		group.Go(func() error {
			defer j.senders.Release(1)
			err := j.send(sending, j.scan.Files[span.First+i], p)
			if err == nil {
				j.done(p)
			}
			return err
		})
	}

	return errors.Join(group.Wait(), ctx.Err())
}

// fingerprints finds out what the files of a span hold, several at a time.
func (j *job) fingerprints(ctx context.Context, span release.Span, pieces []piece) error {
	group, reading := errgroup.WithContext(ctx)
	var next atomic.Int64
	for range min(j.readers, len(pieces)) {
		group.Go(func() error {
			for reading.Err() == nil {
				i := int(next.Add(1)) - 1
				if i >= len(pieces) {
					return nil
				}
				if err := j.fingerprint(reading, j.scan.Files[span.First+i], &pieces[i]); err != nil {
					return err
				}
			}
			return nil
		})
	}

	return errors.Join(group.Wait(), ctx.Err())
}

// done counts a file, and tells.
func (j *job) done(p *piece) {
	j.letGo(p)
	j.doneFiles.Add(1)
	j.doneBytes.Add(p.size - p.told.Load())
	if n := p.sent.Load(); n > 0 {
		j.newFiles.Add(1)
		j.newBytes.Add(n)
	}
	j.seen()
}

// seen tells how far the upload is, after something was done.
func (j *job) seen() {
	if j.Seen != nil {
		j.Seen(j.progress())
	}
}

// has returns what tells whether objects are in the chunks of the live release
// that lie where these files do; the first of these is asked for only if the
// chunk that they make is not one of its.
func (j *job) has(ctx context.Context, files []release.File) (func(content) bool, error) {
	if j.Live == nil {
		return func(content) bool { return false }, nil
	}
	// The chunk is in the live release, so by the order of writing all that it
	// names is there.
	if j.live[release.ChunkOf(files).Digest] {
		return func(content) bool { return true }, nil
	}

	// It differs in something. One or two chunks of the live release lie in the
	// same place; what they name is there.
	there, err := j.Live.Between(ctx, j.refs, files[0].Path, files[len(files)-1].Path)
	if err != nil {
		return nil, err
	}
	known := map[digest.Digest]bool{}
	for _, file := range there {
		for _, object := range file.Objects() {
			known[object] = true
		}
	}

	return func(held content) bool {
		return !slices.ContainsFunc(held.objects(), func(d digest.Digest) bool { return !known[d] })
	}, nil
}

// line is the line of the index that a file becomes.
func line(path string, size int64, held content) release.File {
	return release.File{Path: path, Digest: held.digest, Size: size, Type: media.Type(path, held.text),
		Parts: held.parts}
}

// objects lists what holds the content.
func (c content) objects() []digest.Digest {
	if len(c.parts) > 0 {
		return c.parts
	}
	return []digest.Digest{c.digest}
}

// fingerprint finds out what a file holds: from what is
// remembered, or by reading it. A file in parts is sent while it
// is read, but for those parts that the live release has at its
// path; any other is kept for being sent as far as there is room.
func (j *job) fingerprint(ctx context.Context, found Found, p *piece) error {
	// A file with the same identity has not been written since its digest was
	// taken.
	if found.Known && !j.Rehash {
		if held, ok := j.Memory.recall(found.Identity); ok {
			p.held, p.size = held, found.Size
			return nil
		}
	}

	err := j.open(found, func(file io.Reader) error {
		if found.Size >= release.PartSize {
			return j.large(ctx, file, found, p)
		}
		return j.small(ctx, file, found, p)
	})
	// Remembered only if it did not grow while it was read, and, within
	// remember, only if it is old enough for its times to tell.
	if err == nil && found.Known && p.size == found.Size {
		j.Memory.remember(found.Identity, p.held, j.scan.Started)
	}

	return err
}

// open has a file of the output read.
func (j *job) open(found Found, read func(io.Reader) error) error {
	file, err := j.output.FS.Open(found.Source)
	if err != nil {
		return unreadable(j.output, found, err)
	}
	defer file.Close() //nolint:errcheck // read only
	return read(file)
}

// small reads a file that is expected to be one object.
func (j *job) small(ctx context.Context, file io.Reader, found Found, p *piece) (err error) {
	// Its bytes are kept if there is room, so that it need not be read again to be
	// sent; with no room it is read again, which the disk's cache makes cheap.
	takes := capacity(found.Size + 1)
	if j.Batch == nil || !room.held.TryAcquire(takes) {
		if p.held, p.size, err = contentOf(file); err != nil {
			return unreadable(j.output, found, err)
		}
		return nil
	}

	data, last, err := readPart(file, takeBuffer(found.Size+1))
	if err != nil {
		room.held.Release(takes)
		return unreadable(j.output, found, err)
	}
	if !last { // it has grown since
		room.held.Release(takes)
		return j.large(ctx, io.MultiReader(bytes.NewReader(data), file), found, p)
	}

	text := utf8Check{}
	text.add(data)
	p.held, p.size = content{digest: digest.Of(data), text: text.valid()}, int64(len(data))
	p.data, p.room = data, takes
	return nil
}

// letGo gives back the room that a piece takes.
func (j *job) letGo(p *piece) {
	if data := p.data; data != nil {
		p.data = nil
		room.held.Release(p.room)
		giveBack(data)
	}
}

// partsThere returns the parts that the live release has at a path.
func (j *job) partsThere(ctx context.Context, found Found) (map[digest.Digest]bool, error) {
	there := map[digest.Digest]bool{}
	if j.Live == nil {
		return there, nil
	}
	before, _, err := j.Live.Lookup(ctx, found.Path)
	for _, part := range before.Objects() {
		there[part] = true
	}
	return there, err
}

// large reads a file in parts and sends each at once, several at the same time.
func (j *job) large(ctx context.Context, file io.Reader, found Found, p *piece) (err error) {
	if j.Batch == nil {
		if p.held, p.size, err = contentOf(file); err != nil {
			return unreadable(j.output, found, err)
		}
		return nil
	}

	there, err := j.partsThere(ctx, found)
	if err != nil {
		return err
	}

	// One pass over the file makes both the digest of the whole and those of
	// its parts.
	whole, text := sha256.New(), utf8Check{}
	group, sending := errgroup.WithContext(ctx)
	for last := false; !last; {
		// Reading waits here if sending is slower, so a file of any size takes
		// the same memory.
		if err := room.parts.Acquire(sending, release.PartSize); err != nil {
			break
		}
		data, ended, err := readPart(file, takeBuffer(release.PartSize))
		if last = ended; err != nil || len(data) == 0 && p.size > 0 {
			room.parts.Release(release.PartSize)
			if err != nil {
				return errors.Join(unreadable(j.output, found, err), group.Wait())
			}
			break
		}

		sum := digest.Of(data)
		whole.Write(data)
		text.add(data)
		p.held.parts, p.size = append(p.held.parts, sum), p.size+int64(len(data))

		group.Go(func() error {
			defer room.parts.Release(release.PartSize)
			defer giveBack(data)
			if !there[sum] {
				if err := j.senders.Acquire(sending, 1); err != nil {
					return err
				}
				defer j.senders.Release(1)
				if err := j.put(sending, sum, data, p); err != nil {
					return err
				}
			}

			p.told.Add(int64(len(data)))
			j.doneBytes.Add(int64(len(data)))
			j.seen()
			return nil
		})
	}

	p.held.text, p.stored = text.valid(), true
	// A file of one part is an object like any other, whatever size it was
	// expected to have.
	if p.held.digest = digest.Digest(whole.Sum(nil)); len(p.held.parts) == 1 {
		p.held.parts = nil
	}
	return errors.Join(group.Wait(), ctx.Err())
}

// put sends one object, unless an earlier try has.
func (j *job) put(ctx context.Context, d digest.Digest, data []byte, p *piece) error {
	if j.Known != nil {
		if known, err := j.Known(ctx, d, len(data)); known || err != nil {
			return err
		}
	}

	if err := Wait(ctx, j.Rate, len(data)); err != nil {
		return err
	}
	added, err := j.Batch.Add(ctx, d.Key(), data)
	if added {
		p.sent.Add(int64(len(data)))
	}
	return err
}

// Wait waits until a limiter of bytes a second, which may
// be nil, lets so many pass.
//
// It returns the context's error if that ends first.
func Wait(ctx context.Context, limit *rate.Limiter, bytes int) error {
	if limit == nil {
		return nil
	}
	// A limiter refuses to wait for more than its burst at once.
	for left := bytes; left > 0; left -= limit.Burst() {
		if err := limit.WaitN(ctx, min(left, limit.Burst())); err != nil {
			return err
		}
	}
	return nil
}

// send sends a file that was fingerprinted. If its bytes
// were not kept it is read again; should it hold something
// else by now, the file was changed while it was published.
func (j *job) send(ctx context.Context, found Found, p *piece) error {
	if p.data != nil || p.size == 0 {
		return j.put(ctx, p.held.digest, p.data, p)
	}
	return j.open(found, func(file io.Reader) error {
		for _, object := range p.held.objects() {
			takes := min(p.size, release.PartSize)
			if err := room.sent.Acquire(ctx, takes); err != nil {
				return err
			}
			// One byte more than expected is asked for, so that a file that has
			// grown is seen to have.
			data, _, err := readPart(file, takeBuffer(min(takes+1, release.PartSize)))
			switch {
			case err != nil:
				err = unreadable(j.output, found, err)
			// The very bytes that were hashed are those that are sent, or none.
			case digest.Of(data) != object:
				err = fault.New(fault.Failed, "changed-meanwhile",
					"the file changed while Orilla published it").
					At("%s/%s", j.output.Root, found.Path).
					Then("wait until the build has finished writing, then run the command again")
			default:
				err = j.put(ctx, object, data, p)
			}

			giveBack(data)
			room.sent.Release(takes)
			if err != nil {
				return err
			}
		}
		return nil
	})
}

// unreadable is the error of a file that could not be read to its end: mostly a
// build is still writing it.
func unreadable(output Output, found Found, err error) error {
	return fault.New(fault.Failed, "unreadable", "cannot read the file").
		At("%s/%s", output.Root, found.Path).Because(err).
		Then("if a build is still writing there, wait for it, then run the command again")
}
