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
	"orilla.example/orilla/internal/edge"
)

// resolveTime is how long the name of an upstream may take to be resolved.
const resolveTime = 2 * time.Second

// noteUpstreams tells of upstreams of the plan's environment that an edge node
// would not ask: they lie inside its own network, and its operator has not
// allowed that. Visitors would get 502 there. It is no reason to refuse: the name
// may mean something else where the node is.
func noteUpstreams(ctx context.Context, p *Prepared) error {
	upstreams := documentContent(p).Upstreams
	if p.Plan.Environment == "" || len(upstreams) == 0 {
		return nil
	}
	nodes, err := edge.Nodes(ctx, p.Store, p.hold.Ahead)
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
				What: fmt.Sprintf("the edge node %s does not pass requests on to the upstream "+
					"%s (%s): %s is inside its own network, and visitors would get 502", node.Node, name,
					upstreams[name], addresses[0]),
				Next: fmt.Sprintf("its operator allows that with: orilla edge --reach %s", addresses[0])})
		}
	}
	return nil
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
