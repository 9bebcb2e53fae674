package deploy

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/rules"
)

// resolveTime is how long the name of an upstream may take to be resolved.
const resolveTime = 2 * time.Second

// noteUpstreams tells of upstreams of the plan's environment that an edge node
// would not ask: they lie inside its own network, and its operator has not
// allowed that. Visitors would get 502 there. It is no reason to refuse: the name
// may mean something else where the node is.
func noteUpstreams(ctx context.Context, p *Prepared) error {
	return noteReach(ctx, p, documentContent(p).Upstreams)
}

// noteOrigins does the same for the addresses that rules name themselves.
func noteOrigins(ctx context.Context, p *Prepared, set *rules.Set) error {
	origins := map[string]string{}
	for i := 0; set != nil && i < len(set.Rules); i++ {
		if r := &set.Rules[i]; r.Verb == rules.Proxy && r.Target.Origin != "" {
			origins[r.Target.Origin] = r.Target.Origin
		}
	}
	return noteReach(ctx, p, origins)
}

// noteReach tells of upstreams, by name, that a node would not ask.
func noteReach(ctx context.Context, p *Prepared, upstreams map[string]string) error {
	if p.Plan.Environment == "" || len(upstreams) == 0 {
		return nil
	}
	nodes, err := p.ahead.waker.Nodes(ctx)
	if err != nil || len(nodes) == 0 {
		return err
	}

	for _, name := range slices.Sorted(maps.Keys(upstreams)) {
		addresses := resolve(ctx, upstreams[name])
		for _, node := range nodes {
			// Of a name that only the node knows nothing can be said, and one
			// address that it may ask is enough.
			if len(addresses) == 0 || slices.ContainsFunc(addresses, node.Reaches) {
				continue
			}
			p.Report.Notice(fault.Notice{Code: "upstream-not-allowed",
				What: fmt.Sprintf("the edge node %s refuses the upstream %s: %s is in a private "+
					"network, and visitors would get 502", node.Node,
					called(name, upstreams[name]), addresses[0]),
				Next: fmt.Sprintf("its operator can allow it: orilla edge --reach %s", addresses[0])})
		}
	}
	return nil
}

// called is how people know an upstream: by its name, if it has one, and address.
func called(name, address string) string {
	if name == address {
		return address
	}
	return name + " (" + address + ")"
}

// resolve returns the addresses that the host of a URL means here; none if that
// cannot be known.
func resolve(ctx context.Context, text string) []netip.Addr {
	at, err := url.Parse(text)
	if err != nil {
		return nil
	}
	host := at.Hostname()
	if address, err := netip.ParseAddr(host); err == nil {
		return []netip.Addr{address.Unmap()}
	}
	// Names that mean the machine itself (RFC 6761, section 6.3).
	if host == "localhost" || strings.HasSuffix(host, ".localhost") {
		return []netip.Addr{netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	}

	ctx, cancel := context.WithTimeout(ctx, resolveTime)
	defer cancel()
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return nil
	}
	for i := range found {
		found[i] = found[i].Unmap()
	}
	return found
}
