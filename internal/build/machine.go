package build

import (
	"context"
	"os"
	"path/filepath"
	"sync"

	"orilla.example/orilla/internal/steps"
)

// Machine knows how this machine can isolate builds, and
// what people were told of that already. The builds of a
// process share one; it is safe for concurrent use.
type Machine struct {
	file    string   // in which what was found out is kept for a day
	noticed sync.Map // the codes of notices that were given

	mutex sync.Mutex // held while it is found out
	known bool
	means steps.Means
}

// NewMachine returns what knows nothing yet. cache is the folder in which what
// is found out is kept from process to process.
func NewMachine(cache string) *Machine { return &Machine{file: filepath.Join(cache, "isolation")} }

// Means returns how this machine can isolate builds. It is found out once, by
// trying, which takes some 100 ms.
func (m *Machine) Means(ctx context.Context) steps.Means {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if !m.known {
		m.means = steps.Probe(ctx, m.file)
		m.known = ctx.Err() == nil
	}
	return m.means
}

// forget lets the next build find out again how this machine can isolate
// builds: what worked before does not any more.
func (m *Machine) forget() {
	os.Remove(m.file) //nolint:errcheck // it lasts a day at most
	m.mutex.Lock()
	defer m.mutex.Unlock()
	m.known = false
}

// first reports whether a notice is given for the first time.
func (m *Machine) first(code string) bool {
	_, before := m.noticed.LoadOrStore(code, true)
	return !before
}
