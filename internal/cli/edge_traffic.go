package cli

import (
	"net"
	"time"

	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/counting"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
)

// A node counts what visitors ask for, unless it is told not to. What it counts says nothing of
// anybody (docs/traffic.md).

// What counts is made before the node that it counts for, since the node is made with whom it
// tells; what it asks of the node it asks later.

// count prepares counting, if it is wanted.
func (r *running) count(config project.EdgeConfig, store storage.Store, listeners []net.Listener,
	options *edge.Options,
) error {
	if config.Traffic.Not {
		return nil
	}
	// Nodes that share no secret count visitors each by itself.
	var secret *sealed.Secret
	switch {
	case config.Traffic.Secret != "":
		var err error
		if secret, err = nodeSecret(r.app, config.Traffic.Secret); err != nil {
			return err
		}
	case r.issuing != nil:
		secret = r.issuing.options.Secret
	}
	counts := counting.Options{Store: store, Node: nodeName(listeners), Region: config.Region,
		Secret: secret, Memory: int64(config.Memory) / 16,
		Mark:  func() string { return edge.StoreID(r.node) },
		There: func() bool { return r.looked.Load() && edge.IsWritable(r.node) },
		Now: func() time.Time {
			if r.node == nil { // it is made with what counts
				return time.Now()
			}
			return edge.Now(r.node)
		},
		Tell: func(text string) {
			r.first.tell(httpanswer.Event{Time: time.Now(), Kind: "trouble", Text: text})
		},
	}
	if r.cache != nil {
		counts.Notes = r.cache.Notes()
	}
	r.counts = counting.New(counts)
	options.Visited = both(options.Visited, r.counts.Visited)
	return nil
}

// nodeName is how a node that answers on listeners is called.
func nodeName(listeners []net.Listener) string {
	_, port, _ := net.SplitHostPort(edge.Reachable(listeners[0].Addr()))
	return edge.NodeName(port)
}
