package devserver

import (
	"bytes"
	"context"
	"crypto/sha256"
	"io"
	"os"
	"path/filepath"
	"time"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/httpanswer"
)

// content is what the files of an output hold, kept where no later build changes
// it: a build empties its output before it fills it again, and a page has to load
// at any moment.
//
//	kept file:  | app.js | (no longer shown) | fares.html | ...
//	at:         digest of app.js -> 0..31,  digest of fares.html -> 90..121
//
// What two builds have in common is there once. When half of the file is no longer
// shown, what is shown moves into a new one; requests that go on read the old one,
// which the collector closes after them.
type content struct {
	memory *publish.Memory // of digests: what did not change is not read again
	file   *os.File        // nil: nothing is kept, and files are read where they lie
	size   int64           // of file
	at     map[digest.Digest]place
}

// place is where the content of one digest lies.
type place struct {
	file         *os.File
	offset, size int64
}

// soonSettled is after what time a change of a file shows in its times, on file
// systems whose clocks are finer than a second. Serving is no deploy: what it
// shows is looked at again with the next change.
const soonSettled = 60 * time.Millisecond

// keptName is what files with kept content are called as long as they have a name.
const keptName = "orilla-serve-"

// newContent remembers digests, and keeps nothing yet.
func newContent() *content {
	memory := publish.NewMemory()
	memory.Settle = soonSettled
	return &content{memory: memory}
}

// keep begins to keep content.
func (c *content) keep() error {
	// Where an open file can lose its name it does, and nothing stays behind
	// whatever ends the process. Elsewhere (Windows) the next one finds those that
	// nobody holds any more.
	left, _ := filepath.Glob(filepath.Join(os.TempDir(), keptName+"*.kept"))
	for _, name := range left {
		os.Remove(name) //nolint:errcheck // one that is in use stays
	}
	file, err := os.CreateTemp("", keptName+"*.kept")
	if err != nil {
		return err
	}
	os.Remove(file.Name()) //nolint:errcheck // see above
	c.file, c.size, c.at = file, 0, map[digest.Digest]place{}
	return nil
}

// close lets go of what is kept.
func (c *content) close() {
	if c.file != nil {
		c.file.Close()           //nolint:errcheck // nothing in it is needed any more
		os.Remove(c.file.Name()) //nolint:errcheck // mostly it has no name any more
	}
}

// take copies what is shown next and not kept yet, and forgets what is not shown
// any more. On an error nothing is forgotten, and the state before goes on being
// shown. It is called by one goroutine; states that were handed out are never
// changed, so requests need no lock.
func (c *content) take(next *Shown) error {
	if c.file == nil {
		return nil
	}
	shown, live := make(map[digest.Digest]place, len(next.Files)), int64(0)
	for _, file := range next.Files {
		if _, twice := shown[file.Digest]; twice {
			continue
		}
		at, kept := c.at[file.Digest]
		if !kept {
			var err error
			if at, err = c.add(next.Sources[file.Path], file); err != nil {
				return err
			}
		}
		shown[file.Digest], live = at, live+at.size
	}

	c.at = shown
	if c.size > 2*live+compactOver {
		if err := c.compact(); err != nil {
			return err
		}
	}
	next.kept = c.at
	return nil
}

// compactOver is how many bytes that nobody needs are not worth moving the others.
const compactOver = 16 << 20

// add copies a file, and makes sure that it still holds what was fingerprinted.
func (c *content) add(from string, file release.File) (place, error) {
	in, err := os.Open(from)
	if err != nil {
		return place{}, notKept(from, err)
	}
	defer in.Close() //nolint:errcheck // read only
	at, sum := place{c.file, c.size, file.Size}, sha256.New()
	n, err := io.Copy(io.NewOffsetWriter(c.file, at.offset), io.TeeReader(in, sum))
	c.size += n
	if err != nil {
		return place{}, notKept(from, err)
	}

	if digest.Digest(sum.Sum(nil)) != file.Digest {
		return place{}, fault.New(fault.Failed, "changed-meanwhile",
			"the file changed while it was read").At("%s", from).
			Then("Orilla reads it again with the next change")
	}
	return at, nil
}

// notKept says that there is no copy of a file.
func notKept(from string, err error) error {
	return fault.New(fault.Failed, "not-kept", "cannot copy the output").At("%s", from).Because(err).
		Then("free some space in %s, or set TMPDIR to another folder", os.TempDir())
}

// compact moves what is shown into a new file. Requests that read the old one go on:
// each place holds the file that it is in.
func (c *content) compact() error {
	old := c.at
	before := *c
	if err := c.keep(); err != nil {
		*c = before
		return notKept(os.TempDir(), err)
	}
	for sum, at := range old {
		n, err := io.Copy(io.NewOffsetWriter(c.file, c.size),
			io.NewSectionReader(at.file, at.offset, at.size))
		if err != nil {
			c.file.Close() //nolint:errcheck // nothing in it is needed
			*c = before
			return notKept(os.TempDir(), err)
		}
		c.at[sum] = place{c.file, c.size, at.size}
		c.size += n
	}
	return nil
}

// smallFile is up to what size a file that lies where a build may change it is
// read at once, so that it is answered whole.
const smallFile = 8 << 20

// open returns the content of a file, which may be an io.Closer.
func (s *Shown) open(file release.File) (io.ReadSeeker, error) {
	if at, kept := s.kept[file.Digest]; kept {
		return io.NewSectionReader(at.file, at.offset, at.size), nil
	}
	in, err := os.Open(s.Sources[file.Path])
	if err != nil {
		return nil, err
	}
	if file.Size > smallFile {
		return in, nil
	}
	defer in.Close() //nolint:errcheck // read only
	data, err := io.ReadAll(in)
	return bytes.NewReader(data), err
}

// Variant returns a file in a coding, as an edge node does for the first who asks. Nothing
// of it is kept: the next save makes it worthless.
func (s *Shown) Variant(_ context.Context, file release.File, codings []coding.Coding,
) (httpanswer.Variant, bool) {
	in, err := s.open(file)
	if err != nil {
		return httpanswer.Variant{}, false // told to whoever sends it as it is
	}
	if closer, ok := in.(io.Closer); ok {
		defer closer.Close() //nolint:errcheck // read only
	}
	return httpanswer.EncodeNow(in, file, codings)
}
