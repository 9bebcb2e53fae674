package httpanswer

import (
	"context"
	"errors"
	"fmt"
	"io"

	"orilla.example/orilla/internal/core/release"
)

// parts reads a file whose objects are verified as they are reached. It holds
// nothing between two reads: a visitor who reads slowly costs the memory of a buffer.
type parts struct {
	ctx     context.Context
	objects *Objects
	file    release.File
	offset  int64
	reads   int
}

// begunPatience is how many times as long a visitor waits for the rest of an answer that
// has begun: it cannot become another one any more.
const begunPatience = 6

// Open implements Contents. Nothing is read before the first byte is.
func (o *Objects) Open(ctx context.Context, file release.File) (io.ReadSeeker, error) {
	return &parts{ctx: ctx, objects: o, file: file}, nil
}

// Read implements io.Reader.
func (p *parts) Read(out []byte) (int, error) {
	if p.offset >= p.file.Size {
		return 0, io.EOF
	}
	part, patience := int(p.offset/release.PartSize), p.objects.patience
	// The first byte is read once before the status is sent, and then again.
	if p.reads++; p.reads > 2 {
		patience *= begunPatience
	}
	data, err := p.objects.at(p.ctx, p.file.Objects()[part], p.file.PartLength(part),
		p.offset%release.PartSize, patience)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", p.file.Path, err)
	}
	n := copy(out, data)
	p.offset += int64(n)
	return n, nil
}

// Seek implements io.Seeker.
func (p *parts) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += p.offset
	case io.SeekEnd:
		offset += p.file.Size
	}

	if offset < 0 {
		return 0, errors.New("seek before the start")
	}
	p.offset = offset
	return offset, nil
}
