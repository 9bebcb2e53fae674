package httpanswer

import (
	"context"
	"errors"
	"fmt"
	"io"

	"orilla.example/orilla/internal/core/release"
)

// parts reads a file whose objects are verified one by one as they are reached.
type parts struct {
	ctx     context.Context
	objects *Objects
	file    release.File
	offset  int64
	current int // the part that data is; -1 for none
	data    []byte
}

// Open implements Contents. Nothing is read before the first byte is.
func (o *Objects) Open(ctx context.Context, file release.File) (io.ReadSeeker, error) {
	return &parts{ctx: ctx, objects: o, file: file, current: -1}, nil
}

// Read implements io.Reader.
func (p *parts) Read(out []byte) (int, error) {
	if p.offset >= p.file.Size {
		return 0, io.EOF
	}
	// One part at a time is held, so a visitor with a range of a film costs 8
	// MiB and not the film.
	part := int(p.offset / release.PartSize)
	if part != p.current {
		data, err := p.objects.Get(p.ctx, p.file.Objects()[part])
		if err != nil {
			return 0, err
		}
		if int64(len(data)) != p.file.PartLength(part) {
			return 0, fmt.Errorf("%s: %w: part %d has %d bytes", p.file.Path, ErrDamaged, part, len(data))
		}
		p.current, p.data = part, data
	}

	n := copy(out, p.data[p.offset%release.PartSize:])
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
