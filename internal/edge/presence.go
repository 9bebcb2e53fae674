package edge

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/httpanswer"
)

// Presence is how an edge node says in its store that it is there. It is read
// leniently: what a later program says besides is passed over.
type Presence struct {
	Format  int       `json:"format"`
	Node    string    `json:"node"`    // the machine's name and the port
	Address string    `json:"address"` // host:port on which it answers plain HTTP
	Started time.Time `json:"started"`
	Seen    time.Time `json:"seen"` // by the node's clock; whether it is there is judged by the store's
	Version string    `json:"version,omitempty"`
	// Knows are the highest formats that the node reads;
	// one that does not say knows the first ones.
	Knows storage.Formats `json:"knows,omitzero"`
	// Reach are the networks inside its own that the node passes requests on to,
	// as httpanswer.Reach writes them; "" if it does not say.
	Reach string `json:"reach,omitempty"`
	// Region and PublicKey are for what nodes will say of themselves.
	Region    string `json:"region,omitempty"`
	PublicKey string `json:"public_key,omitempty"`
}

// A node says every heartbeat that it is there; one that has not for longer
// than Gone is taken to be gone.
const (
	heartbeat = 5 * time.Second
	Gone      = 20 * time.Second
)

// Announce keeps a node's presence in the store until the context
// ends, and then takes it away. A store that cannot be written is
// no reason not to serve. read is told each time how far the
// store's clock is before this machine's; nil for nobody.
func Announce(ctx context.Context, store storage.Store, presence Presence, read func(ahead time.Duration)) {
	presence.Format, presence.Started, presence.Knows = 1, time.Now().UTC(), storage.Known
	key := storage.EdgeKey(presence.Node)
	ticker := time.NewTicker(heartbeat)
	defer ticker.Stop()

	for {
		presence.Seen = time.Now().UTC()
		// The write tells the store's clock as well, at no further cost.
		written := time.Now()
		if data, err := record.Encode(presence); err == nil && store.Replace(ctx, key, data) == nil &&
			read != nil {
			if ahead, err := storage.Ahead(ctx, store, key, written); err == nil {
				read(ahead)
			}
		}

		select {
		case <-ctx.Done():
			store.Delete(context.WithoutCancel(ctx), key) //nolint:errcheck // it will be taken to be gone
			return
		case <-ticker.C:
		}
	}
}

// Nodes returns the edge nodes that said lately that they are there, by the
// store's clock, which is ahead of this machine's by so much.
//
// Also nodes that cannot be reached from here are among them; see Reached.
func Nodes(ctx context.Context, store storage.Store, ahead time.Duration) ([]Presence, error) {
	var nodes []Presence
	for item, err := range store.List(ctx, storage.EdgesKey) {
		if err != nil {
			return nil, err
		}
		// Judged by the time of the record and not by what it says: the node's
		// own clock may be wrong.
		if time.Now().Add(ahead).Sub(item.Modified) > Gone {
			continue
		}

		data, err := store.Get(ctx, item.Key)
		if err != nil {
			continue // gone since
		}
		var presence Presence
		if record.Lenient(data, &presence) && presence.Format == 1 {
			nodes = append(nodes, presence)
		}
	}

	return nodes, nil
}

// Reached returns the nodes that are there and can be
// asked from this machine; see Nodes and FromHere.
func Reached(ctx context.Context, store storage.Store, ahead time.Duration) ([]Presence, error) {
	nodes, err := Nodes(ctx, store, ahead)
	return slices.DeleteFunc(nodes, func(p Presence) bool { return !p.FromHere() }), err
}

// Reaches reports whether the node passes requests on to an address; one that does
// not say is taken to.
func (p Presence) Reaches(address netip.Addr) bool {
	reach, err := httpanswer.ParseReach(strings.Fields(p.Reach))
	return p.Reach == "" || err != nil || reach.Allows(address)
}

// FromHere reports whether the node's address means the node on this machine:
// one that answers on a loopback address can be asked on its own machine only.
func (p Presence) FromHere() bool {
	host, port, err := net.SplitHostPort(p.Address)
	if err != nil {
		return false
	}
	// A loopback address is of the machine that wrote it, and means another one
	// here.
	ip := net.ParseIP(host)
	return host != "localhost" && (ip == nil || !ip.IsLoopback()) || p.Node == NodeName(port)
}

// NodeName tells one node from another in a store: by machine and port.
func NodeName(port string) string {
	name, err := os.Hostname()
	if err != nil {
		name = "node"
	}
	return project.Label(name) + "-" + port
}

// Serves asks a node over HTTP, as a visitor would, what it
// answers for a host, and returns the release and the entry that
// the answer comes from; both are "" if the node does not say.
//
// It is one HEAD request for the front page of the host, and takes two seconds
// at most.
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

	for i, part := range strings.Split(response.Header.Get(httpanswer.ReleaseField), ";") {
		if value, ok := strings.CutPrefix(part, "entry="); ok {
			entry = value
		} else if i == 0 {
			release = part
		}
	}
	return release, entry, nil
}

// Reachable turns the address that a node listens on into
// one that this machine can call.
func Reachable(listener net.Addr) string {
	host, port, err := net.SplitHostPort(listener.String())
	if err != nil {
		return listener.String()
	}
	if isUnspecified(host) {
		host = "127.0.0.1"
	}
	return net.JoinHostPort(host, port)
}

// isUnspecified reports whether a host is the address that means all of a
// machine's own (0.0.0.0 or ::). It cannot be dialled from elsewhere.
func isUnspecified(host string) bool {
	ip := net.ParseIP(host)
	return ip != nil && ip.IsUnspecified()
}

// Announced turns the address that a node listens on into one
// that other machines can call: of a node that listens on all,
// the machine's first address that is not for itself alone.
// Only a machine without any announces a loopback address.
func Announced(listener net.Addr) string {
	host, port, err := net.SplitHostPort(listener.String())
	if err != nil || !isUnspecified(host) {
		return listener.String()
	}
	// A node that listens on all addresses is reached at one of them; IPv4
	// first, since more networks pass it on.
	addresses, _ := net.InterfaceAddrs()
	best := ""
	for _, address := range addresses {
		network, ok := address.(*net.IPNet)
		if !ok || !network.IP.IsGlobalUnicast() {
			continue
		}
		if best == "" || net.ParseIP(best).To4() == nil && network.IP.To4() != nil {
			best = network.IP.String()
		}
	}

	if best == "" {
		return Reachable(listener)
	}
	return net.JoinHostPort(best, port)
}
