package coding

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/bits"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"orilla.example/orilla/internal/core/digest"
)

// Level is how much work encoding takes.
type Level int

// The levels.
const (
	// Fast takes about as long as sending: 20 to 80 MB a second.
	Fast Level = iota
	// Best makes the smallest that the format allows, at 0.3 to 15 MB a second.
	Best
)

// ErrBad: a variant is not what its name says. It is never sent.
var ErrBad = errors.New("not the content that its name says")

// ErrGainless: the encoded content is hardly smaller.
var ErrGainless = errors.New("encoding makes it hardly smaller")

// windowMost is the window that browsers grant (RFC 9659), and the memory that decoding
// takes.
const windowMost = 8 << 20

// gain is the part of content that must be saved, of so many parts.
const gain = 20

// Encode returns content in a coding. The error is ErrGainless if that saves less than
// a twentieth.
func Encode(c Coding, level Level, content []byte) ([]byte, error) {
	var out bytes.Buffer
	out.Grow(len(content)/4 + 64)
	w, err := encoder(&out, c, level, len(content))
	if err != nil {
		return nil, err
	}
	_, err = w.Write(content)
	if err = errors.Join(err, w.Close()); err != nil {
		return nil, err
	}
	if out.Len() > len(content)-len(content)/gain {
		return nil, ErrGainless
	}
	return bytes.Clone(out.Bytes()), nil
}

// encoder returns what encodes content of a size to w.
func encoder(w io.Writer, c Coding, level Level, size int) (io.WriteCloser, error) {
	best := level == Best
	switch c {
	case Brotli:
		if best {
			return brotli.NewWriterLevel(w, brotli.BestCompression), nil
		}
		return brotli.NewWriterV2(w, 4), nil //nolint:mnd // 36 MB a second, as small as gzip's best
	case Zstd:
		speed := zstd.SpeedDefault
		if best {
			speed = zstd.SpeedBestCompression
		}
		// A window that is larger than the content takes memory for nothing.
		window := min(max(1<<bits.Len(uint(size)), zstd.MinWindowSize), windowMost)
		return zstd.NewWriter(w, zstd.WithEncoderLevel(speed), zstd.WithEncoderConcurrency(1),
			zstd.WithEncoderCRC(false), zstd.WithLowerEncoderMem(true), zstd.WithWindowSize(window))
	case Gzip:
		speed := gzip.DefaultCompression
		if best {
			speed = gzip.BestCompression
		}
		return gzip.NewWriterLevel(w, speed)
	}
	return nil, fmt.Errorf("no coding %q", c)
}

// decoder returns what decodes r, in bounded memory.
func decoder(r io.Reader, c Coding) (io.ReadCloser, error) {
	switch c {
	case Brotli:
		return io.NopCloser(brotli.NewReader(r)), nil
	case Zstd:
		d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true),
			zstd.WithDecoderMaxWindow(windowMost))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	case Gzip:
		return gzip.NewReader(r)
	}
	return nil, fmt.Errorf("no coding %q", c)
}

// Verify makes sure that a variant is of the object with a digest and a size. It decodes
// that much and no more, whatever the variant would become, and keeps nothing of it. The
// error wraps ErrBad.
func Verify(c Coding, variant []byte, of digest.Digest, size int64) error {
	bad := func(why string, args ...any) error {
		return fmt.Errorf("%w: "+why, append([]any{ErrBad}, args...)...)
	}
	if int64(len(variant)) >= size {
		return bad("it has %d bytes, its source %d", len(variant), size)
	}
	source := bytes.NewReader(variant)
	r, err := decoder(source, c)
	if err != nil {
		return bad("%w", err)
	}
	defer r.Close() //nolint:errcheck // from memory
	// One byte more than it may have shows that it has more, and is all that is ever decoded.
	hash := sha256.New()
	n, err := io.Copy(hash, io.LimitReader(r, size+1))
	switch {
	case err != nil:
		return bad("%w", err)
	case n > size:
		return bad("it becomes more than %d bytes", size)
	case digest.Digest(hash.Sum(nil)) != of:
		return bad("it becomes other bytes")
	}
	// What follows would be an error to one browser and nothing to the next.
	if source.Len() > 0 {
		return bad("%d bytes follow its end", source.Len())
	}
	return nil
}
