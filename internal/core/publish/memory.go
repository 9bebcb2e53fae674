package publish

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/digest"
)

// Memory remembers the digests of files, so that what did not change need not
// be read again. A digest is trusted only for a file of the same device, inode,
// size and times. It may be used from several goroutines.
type Memory struct {
	// Settle is how much older than the scan the last change of a file must be for
	// its digest to be remembered: one that is changed twice within the resolution
	// of its times would keep its identity. Where times are whole seconds it is
	// never less than NewMemory makes it.
	Settle time.Duration

	mutex sync.Mutex
	old   map[Identity]content
	used  map[Identity]content
}

// content is what reading a file told.
type content struct {
	digest digest.Digest
	text   bool // valid UTF-8 without NUL
	parts  []digest.Digest
}

// settle is long enough for every file system, and for clocks of servers that
// differ a little.
const settle = 2 * time.Second

// memoryMagic begins the file of a memory, and names its version.
var memoryMagic = []byte("orilla digests 1\n")

// ErrMemory is returned for bytes that are not a memory.
// An empty one can always be used instead.
var ErrMemory = errors.New("not remembered digests")

// NewMemory returns an empty memory.
func NewMemory() *Memory {
	return &Memory{Settle: settle, old: map[Identity]content{}, used: map[Identity]content{}}
}

// Next makes what was recalled or remembered the memory of the next scan. Files
// that are gone are forgotten.
func (m *Memory) Next() {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.old, m.used = m.used, make(map[Identity]content, len(m.used))
}

// recall returns what was remembered of a file.
func (m *Memory) recall(id Identity) (content, bool) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	known, ok := m.old[id]
	if ok {
		m.used[id] = known
	}
	return known, ok
}

// remember keeps what a file held, unless it changed too
// shortly before the scan began.
func (m *Memory) remember(id Identity, held content, scan time.Time) {
	changed, wait := max(id.Changed, id.Modified), m.Settle
	if changed%int64(time.Second) == 0 {
		wait = max(wait, settle)
	}
	if time.Unix(0, changed).After(scan.Add(-wait)) {
		return
	}
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.used[id] = held
}

// Encode returns what was recalled or remembered since the memory was made:
// files that are gone are forgotten.
func (m *Memory) Encode() []byte {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	out := bytes.Clone(memoryMagic)
	for id, held := range m.used {
		for _, number := range []int64{id.Device, id.Inode, id.Size, id.Modified, id.Changed} {
			out = binary.LittleEndian.AppendUint64(out, uint64(number))
		}
		out = append(out, held.digest[:]...)
		flags := uint32(len(held.parts)) << 1
		if held.text {
			flags |= 1
		}

		out = binary.LittleEndian.AppendUint32(out, flags)
		for _, part := range held.parts {
			out = append(out, part[:]...)
		}
	}
	sum := digest.Of(out)
	return append(out, sum[:]...)
}

// DecodeMemory reads what Encode wrote.
//
// The error is ErrMemory; a memory that cannot be read is as good as none.
func DecodeMemory(data []byte) (*Memory, error) {
	const fixed = 5*8 + digest.Size + 4
	end := len(data) - digest.Size
	if end < len(memoryMagic) || !bytes.HasPrefix(data, memoryMagic) ||
		digest.Of(data[:end]) != digest.Digest(data[end:]) {
		return nil, ErrMemory
	}

	memory := NewMemory()
	for data = data[len(memoryMagic):end]; len(data) > 0; {
		if len(data) < fixed {
			return nil, fmt.Errorf("%w: cut short", ErrMemory)
		}
		number := func(i int) int64 { return int64(binary.LittleEndian.Uint64(data[8*i:])) }
		id := Identity{number(0), number(1), number(2), number(3), number(4)}
		held := content{digest: digest.Digest(data[40 : 40+digest.Size])}
		flags := binary.LittleEndian.Uint32(data[40+digest.Size:])
		held.text = flags&1 == 1
		data = data[fixed:]
		for range flags >> 1 {
			if len(data) < digest.Size {
				return nil, fmt.Errorf("%w: cut short", ErrMemory)
			}
			held.parts = append(held.parts, digest.Digest(data[:digest.Size]))
			data = data[digest.Size:]
		}
		memory.old[id] = held
	}

	return memory, nil
}
