package cli

import (
	"context"
	"net"
	"net/http"
	"time"

	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/metrics"
)

// Metrics have an address of their own: they say what is busy and what fails, which is for
// whoever runs the node, and not for visitors.

// measured is what a node counts, and where it says so.
type measured struct {
	*metrics.Metrics

	listener net.Listener
	now      *running
}

// Sources are functions, since the node, its server and its certificates are made after the
// metrics: the store that counts is what the node is made with.

// measure prepares metrics, if they are wanted; else it returns nil.
func (r *running) measure(ctx context.Context, config project.EdgeConfig) (*measured, error) {
	if config.Metrics == "" {
		return nil, nil //nolint:nilnil // nobody wants any
	}
	listener, err := r.listen(ctx, "--metrics", config.Metrics)
	if err != nil {
		return nil, err
	}
	// The node is made afterwards, with the store that counts, and asked only then.
	sources := metrics.Sources{Version: version,
		Entries: func() (list []metrics.Entry) {
			for _, s := range edge.ServedBy(r.node) {
				list = append(list, metrics.Entry{Site: s.Site, Environment: s.Environment, Number: s.Entry})
			}
			return list
		},
		Looked:      func() time.Time { return edge.StoreAnswered(r.node) },
		Memory:      func() (int64, int64, int64, int64) { return edge.InMemory(r.node) },
		Connections: func() (int, int64) { return r.server.Open(), r.server.Turned() },
	}
	if r.logs.visits != nil {
		sources.Dropped = r.logs.dropped
	}
	if config.Cache.Folder != "" {
		sources.Cache = func() (int64, int64) { return r.cache.Size() }
	}
	if r.certificates != nil || r.issuing != nil {
		sources.Certificates = r.ends
	}
	return &measured{Metrics: metrics.New(sources), listener: listener, now: r}, nil
}

// ends are the ends of all certificates, by name.
func (r *running) ends() map[string]time.Time {
	ends := map[string]time.Time{}
	if r.certificates != nil {
		for _, c := range r.certificates.List() {
			for _, name := range c.Names {
				ends[name] = c.Until
			}
		}
	}
	if r.issuing != nil {
		if orders := r.issuing.orders.Load(); orders != nil {
			for _, s := range orders.List() {
				if !s.Until.IsZero() {
					ends[s.Name] = s.Until
				}
			}
		}
	}
	return ends
}

// serve answers whoever asks for metrics, until the context ends.
func (m *measured) serve(ctx context.Context) {
	const slow = 10 * time.Second
	server := &http.Server{Handler: m.Handler(), ReadHeaderTimeout: slow, ReadTimeout: slow,
		WriteTimeout: 2 * slow, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10}
	stopped := context.AfterFunc(ctx, func() { server.Close() }) //nolint:errcheck // nobody waits for it
	defer stopped()
	server.Serve(m.listener) //nolint:errcheck // it ends with the node
}

// both returns what tells two of each visit; either may be nil.
func both(a, b func(*visits.Visit)) func(*visits.Visit) {
	switch {
	case a == nil:
		return b
	case b == nil:
		return a
	}
	return func(v *visits.Visit) { a(v); b(v) }
}
