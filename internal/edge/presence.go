package edge

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/storage"
)

// Presence is how an edge node says in its store that it is there.
type Presence struct {
	Format  int       `json:"format"`
	Node    string    `json:"node"`
	Address string    `json:"address"` // host:port on which it answers plain HTTP
	Started time.Time `json:"started"`
	Seen    time.Time `json:"seen"`
}

// A node says every heartbeat that it is there; one that has not for longer than gone is taken to be gone.
const (
	heartbeat = 5 * time.Second
	gone      = 20 * time.Second
)

// Announce keeps a node's presence in the store until the context ends, and then takes it away. A store that cannot be written
// is no reason not to serve. read is told each time how far the store's clock is before this machine's; nil for nobody.
func Announce(ctx context.Context, store storage.Store, node, address string, read func(ahead time.Duration)) {
	presence := Presence{Format: 1, Node: node, Address: address, Started: time.Now().UTC()}
	ticker := time.NewTicker(heartbeat)
	defer ticker.Stop()
	for {
		presence.Seen = time.Now().UTC()
		written := time.Now()
		if data, err := json.Marshal(presence); err == nil && store.Replace(ctx, storage.EdgeKey(node), data) == nil && read != nil {
			if ahead, err := storage.Ahead(ctx, store, storage.EdgeKey(node), written); err == nil {
				read(ahead)
			}
		}
		select {
		case <-ctx.Done():
			store.Delete(context.WithoutCancel(ctx), storage.EdgeKey(node)) //nolint:errcheck // it will be taken to be gone
			return
		case <-ticker.C:
		}
	}
}

// Nodes returns the edge nodes that said lately that they are there.
func Nodes(ctx context.Context, store storage.Store) ([]Presence, error) {
	var nodes []Presence
	for item, err := range store.List(ctx, storage.EdgesKey) {
		if err != nil {
			return nil, err
		}
		data, err := store.Get(ctx, item.Key)
		if err != nil {
			continue // gone since
		}
		var presence Presence
		if json.Unmarshal(data, &presence) == nil && presence.Format == 1 && time.Since(presence.Seen) < gone {
			nodes = append(nodes, presence)
		}
	}
	return nodes, nil
}

// Serves asks a node over HTTP, as a visitor would, what it answers for a host, and returns the release and the entry that the
// answer comes from; both are "" if the node does not say.
func (p Presence) Serves(ctx context.Context, host string) (release, entry string, err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodHead, "http://"+p.Address+"/", nil)
	if err != nil {
		return "", "", err
	}
	request.Host = host
	client := http.Client{
		Timeout:       2 * time.Second,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	response, err := client.Do(request)
	if err != nil {
		return "", "", err
	}
	response.Body.Close() //nolint:errcheck // a HEAD has none
	for i, part := range strings.Split(response.Header.Get(ReleaseField), ";") {
		if value, ok := strings.CutPrefix(part, "entry="); ok {
			entry = value
		} else if i == 0 {
			release = part
		}
	}
	return release, entry, nil
}

// Reachable turns the address that a node listens on into one that this machine can call.
func Reachable(listener net.Addr) string {
	host, port, err := net.SplitHostPort(listener.String())
	if err != nil {
		return listener.String()
	}
	if ip := net.ParseIP(host); ip != nil && ip.IsUnspecified() {
		host = "127.0.0.1"
	}
	return net.JoinHostPort(host, port)
}
