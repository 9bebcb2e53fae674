package httpanswer

import (
	"cmp"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Reach says which upstreams inside the edge's own network may be asked. The
// zero Reach allows addresses of the public internet only: else whoever may
// deploy could ask the edge for what only its network can see.
type Reach struct {
	All      bool
	Networks []netip.Prefix
}

// errProhibited: the upstream's address is inside the edge's own network.
var errProhibited = errors.New(
	"the address is inside the edge's own network, and its operator has not allowed it")

// reserved are the networks that are no part of the public internet: IANA's
// registries of special-purpose addresses for IPv4 and IPv6 (RFC 6890, as of
// 2025), multicast, and what stood in them once. Those in which an IPv4
// address is packed are among them, wherever it leads: a translator in the
// node's network would reach what is inside.
var reserved = prefixes(
	"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12",
	"192.0.0.0/24", "192.0.2.0/24", "192.31.196.0/24", "192.52.193.0/24", "192.88.99.0/24", "192.168.0.0/16",
	"192.175.48.0/24", "198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "224.0.0.0/4", "240.0.0.0/4",
	// Loopback, unspecified, and IPv4 in compatible and translated form.
	"::/32",
	"64:ff9b::/96", "64:ff9b:1::/48", // NAT64 (RFC 6052, RFC 8215)
	"100::/64", "100:0:0:1::/64",
	"2001::/23", // protocols, Teredo, benchmarks
	"2001:db8::/32", "3fff::/20",
	"2002::/16", // 6to4
	"2620:4f:8000::/48", "5f00::/16", "fc00::/7", "fe80::/10", "fec0::/10", "ff00::/8",
)

// prefixes reads networks that are written here.
func prefixes(texts ...string) []netip.Prefix {
	networks := make([]netip.Prefix, len(texts))
	for i, text := range texts {
		networks[i] = netip.MustParsePrefix(text)
	}
	return networks
}

// String writes the networks as they can be given to ParseReach, "public" for none.
func (r Reach) String() string {
	if r.All {
		return reachAll
	}
	names := make([]string, len(r.Networks))
	for i, network := range r.Networks {
		names[i] = network.String()
	}
	return cmp.Or(strings.Join(names, " "), reachPublic)
}

// What networks can be called besides their prefixes.
const (
	reachAll    = "all"
	reachPublic = "public"
)

// ParseReach reads networks, each a prefix (10.1.0.0/16), an address, "all" or
// "public". The error names the one that is none.
func ParseReach(networks []string) (Reach, error) {
	var reach Reach
	for _, text := range networks {
		switch text {
		case reachAll:
			reach.All = true
			continue
		case reachPublic:
			continue
		}
		network, err := netip.ParsePrefix(text)
		// One address is a network of one.
		if address, addressErr := netip.ParseAddr(text); err != nil && addressErr == nil {
			network, err = netip.PrefixFrom(address, address.BitLen()), nil
		}
		if err != nil {
			return reach, fmt.Errorf("not a network: %q", text)
		}
		reach.Networks = append(reach.Networks, network)
	}
	return reach, nil
}

// Allows reports whether an upstream at an address may be asked. IPv4 addresses
// in the form of IPv6 count as what they are.
func (r Reach) Allows(address netip.Addr) bool {
	address = address.Unmap().WithZone("")
	for _, network := range r.Networks {
		if network.Contains(address) {
			return true
		}
	}
	// A rule is written by whoever may push to the repository; the edge's
	// network is somebody else's.
	inside := func(network netip.Prefix) bool { return network.Contains(address) }
	return r.All || !slices.ContainsFunc(reserved, inside)
}
