package coding

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/bits"
	"strings"

	"github.com/klauspost/compress/zstd"

	"orilla.example/orilla/internal/core/digest"
)

// Dictionary is the coding dcz (RFC 9842, section 5): zstd, told shorter by what the client
// has already. Its stream begins with the SHA-256 of that:
//
//	5e 2a 4d 18 20 00 00 00   the magic number of a frame that is skipped, and its length
//	32 bytes                  SHA-256 of the dictionary
//	a frame of zstd           (RFC 8878)
//
// It is no variant: it is not kept in a store, and is not among All.
const Dictionary = Gzip + 1

// DictionaryMost is how large content and dictionary may be together, in bytes: as much as
// the window that every client grants.
const DictionaryMost = windowMost

// magic is what a stream of dcz begins with.
var magic = []byte{0x5e, 0x2a, 0x4d, 0x18, 0x20, 0, 0, 0}

// AcceptsDictionary reports whether a value of Accept-Encoding names dcz. "*" does not mean
// it: without a dictionary nobody can read it.
func AcceptsDictionary(fields string) bool {
	for element := range strings.SplitSeq(fields, ",") {
		name, parameters, _ := strings.Cut(element, ";")
		if strings.EqualFold(strings.TrimSpace(name), Dictionary.String()) {
			q, ok := weight(parameters)
			return ok && q > 0
		}
	}
	return false
}

// EncodeWith returns content as dcz, against a dictionary. The error is ErrGainless if that
// saves less than a twentieth, or if both together are larger than DictionaryMost.
func EncodeWith(dictionary, content []byte) ([]byte, error) {
	if len(dictionary)+len(content) > DictionaryMost {
		return nil, ErrGainless
	}
	// All of the dictionary must lie in the window until the end.
	window := max(1<<bits.Len(uint(len(dictionary)+len(content))), zstd.MinWindowSize)
	w, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault),
		zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false), zstd.WithLowerEncoderMem(true),
		zstd.WithWindowSize(min(window, windowMost)), zstd.WithEncoderDictRaw(0, dictionary))
	if err != nil {
		return nil, err
	}
	// The header says which dictionary, so that a wrong one is an error and not a wrong page.
	sum := sha256.Sum256(dictionary)
	out := append(bytes.Clone(magic), sum[:]...)
	out = w.EncodeAll(content, out)
	if err := w.Close(); err != nil {
		return nil, err
	}
	if len(out) > len(content)-len(content)/gain {
		return nil, ErrGainless
	}
	return bytes.Clone(out), nil
}

// VerifyWith makes sure that a stream of dcz becomes, with a dictionary, the object with a
// digest and a size. It decodes that much and no more. The error wraps ErrBad.
func VerifyWith(dictionary, stream []byte, of digest.Digest, size int64) error {
	sum := sha256.Sum256(dictionary)
	frame, ok := bytes.CutPrefix(stream, append(bytes.Clone(magic), sum[:]...))
	if !ok {
		return fmt.Errorf("%w: it names another dictionary", ErrBad)
	}
	d, err := zstd.NewReader(bytes.NewReader(frame), zstd.WithDecoderConcurrency(1),
		zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(windowMost),
		zstd.WithDecoderDictRaw(0, dictionary))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrBad, err)
	}
	defer d.Close()
	hash := sha256.New()
	n, err := io.Copy(hash, io.LimitReader(d, size+1))
	switch {
	case err != nil:
		return fmt.Errorf("%w: %w", ErrBad, err)
	case n != size || digest.Digest(hash.Sum(nil)) != of:
		return fmt.Errorf("%w: it becomes other bytes", ErrBad)
	}
	return nil
}
