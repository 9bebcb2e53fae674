package edge

import (
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

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
	// State and Since are what the node said when it was asked how it is; a record has
	// neither. See Health.
	State State      `json:"state,omitempty"`
	Since *time.Time `json:"since,omitempty"`
	// Alarms is what the node said that somebody has to do soon; a record has none.
	Alarms []string `json:"alarms,omitempty"`
	// Region is what its operator calls the place where it is.
	Region string `json:"region,omitempty"`
	// PublicKey is the one that it signs answers with (wake.FormatKey).
	PublicKey string `json:"public_key,omitempty"`
}

// A node says every heartbeat that it is there; one that has not for longer
// than Gone is taken to be gone.
const (
	heartbeat = 8 * time.Second
	Gone      = 20 * time.Second
	lastWord  = 3 * time.Second // for saying that it is there no more
)

// Announce keeps the node's presence in its store until the context ends, and learns
// the store's clock from it. Call it after the first look: who reads that the node is
// there may ask at once.
func (n *Node) Announce(ctx context.Context, presence Presence) {
	presence.PublicKey = publicKey(n)
	n.objects.who.self.Store(&presence)
	announce(ctx, n.store, presence, n.SetAhead, func() bool { return n.tracker.lost() == "" })
}

// announce keeps a node's presence in the store until the context
// ends, and then takes it away. A store that cannot be written is
// no reason not to serve. read is told each time how far the
// store's clock is before this machine's.
//
// there reports whether the store is the one that it was: in the place of one that is
// not mounted nothing is written.
func announce(ctx context.Context, store storage.Store, presence Presence, read func(ahead time.Duration),
	there func() bool,
) {
	presence.Format, presence.Started, presence.Knows = 1, time.Now().UTC(), storage.Known
	key := storage.EdgeKey(presence.Node)
	ticker := time.NewTicker(heartbeat)
	defer ticker.Stop()

	for {
		presence.Seen = time.Now().UTC()
		// The write tells the store's clock as well, at no further cost.
		written := time.Now()
		if data, err := record.Encode(presence); err == nil && there() && store.Replace(ctx, key,
			data) == nil {
			if ahead, err := storage.Ahead(ctx, store, key, written); err == nil {
				read(ahead)
			}
		}

		select {
		case <-ctx.Done():
			// A store that hangs must not keep a node from ending.
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastWord)
			defer cancel()
			store.Delete(last, key) //nolint:errcheck // it will be taken to be gone
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
	nodes, _, err := said(ctx, store, ahead, Gone)
	return nodes, err
}

// said returns the nodes that have said within a time that they are there, and how long
// ago each did.
func said(ctx context.Context, store storage.Store, ahead, within time.Duration,
) (nodes []Presence, ages []time.Duration, err error) {
	var items []storage.Item
	for item, err := range store.List(ctx, storage.EdgesKey) {
		if err != nil {
			return nil, nil, err
		}
		// Judged by the time of the record and not by what it says: the node's
		// own clock may be wrong.
		if time.Now().Add(ahead).Sub(item.Modified) <= within {
			items = append(items, item)
		}
	}
	// Side by side: hundreds of nodes are read in the time of a few.
	found := make([]*Presence, len(items))
	var group errgroup.Group
	group.SetLimit(storage.Parallel(store))
	for i, item := range items {
		group.Go(func() error {
			data, err := store.Get(ctx, item.Key)
			if err != nil {
				return nil //nolint:nilerr // gone since
			}
			var presence Presence
			if record.Lenient(data, &presence) && presence.Format == 1 {
				found[i] = &presence
			}
			return nil
		})
	}
	group.Wait() //nolint:errcheck // none returns any
	for i, presence := range found {
		if presence != nil {
			nodes, ages = append(nodes, *presence), append(ages, time.Now().Add(ahead).Sub(items[i].Modified))
		}
	}
	return nodes, ages, nil
}

// lostFor is for how long a node is asked that has not said that it is there.
const lostFor = 7 * 24 * time.Hour

// Asked returns the nodes that can be asked from this machine, with how each says that
// it is: also those that answer visitors and do not reach the store, which have not
// said lately that they are there.
func Asked(ctx context.Context, store storage.Store, ahead time.Duration) ([]Presence, error) {
	nodes, ages, err := said(ctx, store, ahead, lostFor)
	if err != nil {
		return nil, err
	}
	var group sync.WaitGroup
	for i := range nodes {
		if nodes[i].FromHere() {
			group.Go(func() {
				if health, err := nodes[i].ask(ctx); err == nil {
					nodes[i].State, nodes[i].Since = health.State, health.Since
					nodes[i].Alarms = health.Alarms
				}
			})
		}
	}
	group.Wait()
	var asked []Presence
	for i, p := range nodes {
		if p.FromHere() && (ages[i] <= Gone || p.State == WithoutStore) {
			asked = append(asked, p)
		}
	}
	return asked, nil
}

// ownAgent is how this program calls itself when it asks a node how it is.
const ownAgent = "orilla"

// ask asks a node how it is. It takes two seconds at most.
func (p Presence) ask(ctx context.Context) (health Health, err error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+p.Address+HealthPath, nil)
	if err != nil {
		return health, err
	}
	request.Header.Set("User-Agent", ownAgent)
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return health, err
	}
	defer response.Body.Close() //nolint:errcheck // read
	const enough = 10_000
	return health, json.NewDecoder(io.LimitReader(response.Body, enough)).Decode(&health)
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
