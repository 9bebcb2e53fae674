package sandbox

import (
	"net/netip"
)

// ResolverPlace is the address at which an isolated build finds the resolver of
// this machine: pasta hands on what is sent to its port 53. It is one of those
// that RFC 5737 keeps for documentation, so it is nobody's.
const ResolverPlace = "198.51.100.53"

// closed are the addresses that an isolated build never reaches:
// IANA's special-purpose registries (RFC 6890 and those that
// update it), but for loopback, which inside is the build's own.
// Among them is the address at which clouds tell a machine its
// role's credentials, 169.254.169.254, and fd00:ec2::254.
var closed = []string{
	"0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "169.254.0.0/16", "172.16.0.0/12", "192.0.0.0/24",
	"192.168.0.0/16", "198.18.0.0/15",
	"224.0.0.0/4", "240.0.0.0/4",
	"64:ff9b:1::/48", "100::/64", "2001::/32", "2002::/16", "3fff::/20", "5f00::/16", "fc00::/7", "fe80::/10",
	"fec0::/10", "ff00::/8",
}

// translated is the prefix under which IPv6 reaches IPv4 (RFC 6052): what is
// closed there is closed here.
const translated = "64:ff9b::"

// Closed returns the addresses that an isolated build must not reach: those
// above, and each of this machine's own.
func Closed(own []netip.Addr) []netip.Prefix {
	var prefixes []netip.Prefix
	for _, text := range closed {
		prefix := netip.MustParsePrefix(text)
		prefixes = append(prefixes, prefix)
		if prefix.Addr().Is4() {
			prefixes = append(prefixes, translate(prefix))
		}
	}

	for _, address := range own {
		address = address.Unmap().WithZone("")
		if address.IsLoopback() || !address.IsValid() {
			continue
		}
		prefix := netip.PrefixFrom(address, address.BitLen())
		prefixes = append(prefixes, prefix)
		if address.Is4() {
			prefixes = append(prefixes, translate(prefix))
		}
	}

	return prefixes
}

// IsPublic reports whether an address is none of those
// that an isolated build must not reach.
func IsPublic(address netip.Addr) bool {
	address = address.Unmap().WithZone("")
	if address.IsLoopback() || address.IsUnspecified() {
		return false
	}
	for _, prefix := range Closed(nil) {
		if prefix.Contains(address) {
			return false
		}
	}
	return true
}

// translate writes a range of IPv4 as the range of IPv6 that NAT64 maps it to
// (RFC 6052), so that what may not be reached cannot be reached that way round.
func translate(prefix netip.Prefix) netip.Prefix {
	bytes := netip.MustParseAddr(translated).As16()
	four := prefix.Addr().As4()
	copy(bytes[12:], four[:])
	return netip.PrefixFrom(netip.AddrFrom16(bytes), 96+prefix.Bits())
}

// Connect returns the command line of pasta that gives the network namespace of
// a process a way out: no port of this machine can be reached through it, and
// none of the build's is opened here.
func Connect(pasta, process string, root bool) []string {
	args := []string{pasta, "--foreground", "--quiet", "--config-net", "--no-map-gw", "-t", "none", "-u",
		"none", "-T", "none", "-U", "none",
		"--dns-forward", ResolverPlace, "--userns", "/proc/" + process + "/ns/user", "--netns",
		"/proc/" + process + "/ns/net"}
	if root {
		args = append(args, "--runas", "0:0") // another user could not enter what is root's
	}
	return args
}
