package publish

import (
	"crypto/sha256"
	"errors"
	"io"
	"sync"

	"golang.org/x/sync/semaphore"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

// Bytes that all uploads of this process together hold in memory at most: read
// and waiting for the rest of their chunk; read again to be sent; and parts of
// large files on their way. They are apart, since whoever holds one kind waits for
// others that hold another.
const (
	maxHeld  = 24 << 20
	maxSent  = 24 << 20
	maxParts = 40 << 20
)

// room is what is left of these bounds. A process that builds one commit after
// the other, and several at once, needs no more than one that builds a single one.
//
// They are variables of the package, since what they bound is a property of the
// process: memory is shared by all uploads whether or not these know of each other.
var room = struct{ held, sent, parts *semaphore.Weighted }{
	semaphore.NewWeighted(maxHeld), semaphore.NewWeighted(maxSent), semaphore.NewWeighted(maxParts),
}

// buffers are those that nobody uses just now, from 4 kB to 8 MB. The collector
// takes what stays unused.
var buffers [12]sync.Pool

// smallest is the size of the smallest buffers; each class of them holds twice as
// much as the one before, so that a small file does not keep a large one.
const smallest = 4 << 10

// classOf returns the class of buffers in which size bytes have room.
func classOf(size int64) (class int) {
	for class < len(buffers)-1 && size > smallest<<class {
		class++
	}
	return class
}

// capacity is how much memory a buffer for size bytes takes.
func capacity(size int64) int64 { return smallest << classOf(size) }

// takeBuffer returns an empty buffer with room for size bytes, a used one if there
// is one.
func takeBuffer(size int64) []byte {
	if kept, ok := buffers[classOf(size)].Get().(*[]byte); ok {
		return (*kept)[:0]
	}
	return make([]byte, 0, capacity(size))
}

// giveBack keeps a buffer for the next who needs one of its size.
func giveBack(data []byte) {
	if class := classOf(int64(cap(data))); cap(data) == smallest<<class {
		buffers[class].Put(&data)
	}
}

// readPart reads up to release.PartSize bytes into a buffer, which grows if it
// must. last is set when the file ended.
func readPart(file io.Reader, buffer []byte) (data []byte, last bool, err error) {
	data = buffer[:0]
	for len(data) < release.PartSize {
		if len(data) == cap(data) { // the file has grown
			data = append(data, 0)[:len(data)]
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

// contentOf reads a file to its end, of any size in the same memory, and tells
// what it holds.
func contentOf(file io.Reader) (held content, size int64, err error) {
	buffer := takeBuffer(128 << 10)[:128<<10]
	defer giveBack(buffer)
	whole, part, text := sha256.New(), sha256.New(), utf8Check{}
	for {
		// Up to where the part ends.
		n, err := io.ReadFull(file, buffer[:min(int64(len(buffer)), release.PartSize-size%release.PartSize)])
		data := buffer[:n]
		whole.Write(data)
		text.add(data)
		if len(held.parts) > 0 { // the whole is the first part as long as there is no other
			part.Write(data)
		}

		size += int64(n)
		ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !ended {
			return content{}, 0, err
		}
		left := size % release.PartSize // in the part that has begun
		if n > 0 && left == 0 || ended && left > 0 {
			if len(held.parts) == 0 {
				held.parts = []digest.Digest{digest.Digest(whole.Sum(nil))}
			} else {
				held.parts = append(held.parts, digest.Digest(part.Sum(nil)))
				part.Reset()
			}
		}
		if !ended {
			continue
		}

		held.digest, held.text = digest.Digest(whole.Sum(nil)), text.valid()
		if len(held.parts) == 1 { // a file of one part is an object like any other
			held.parts = nil
		}
		return held, size, nil
	}
}
