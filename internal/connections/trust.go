package connections

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"strings"
)

// Trust are the networks whose proxies say who asks. The zero value trusts nobody.
//
// Each proxy adds whom it was asked by at the end of a list. So the list is read from its
// end: what proxies of ours added is believed, and the first that is not ours is who asks.
// What stands before that one is a visitor's word:
//
//	X-Forwarded-For: 203.0.113.9, 192.0.2.7, 10.1.2.3    trusting 10.0.0.0/8: 192.0.2.7
type Trust struct{ networks []netip.Prefix }

// ParseTrust reads networks such as 10.1.0.0/16, and single addresses.
func ParseTrust(texts []string) (Trust, error) {
	var trust Trust
	for _, text := range texts {
		network, err := netip.ParsePrefix(text)
		if address, err2 := netip.ParseAddr(text); err != nil && err2 == nil {
			network, err = address.Prefix(address.BitLen())
		}
		if err != nil {
			return trust, fmt.Errorf("%q is not a network", text)
		}
		if network.Bits() == 0 {
			return trust, fmt.Errorf("%q is everybody: then every visitor could say who they are", text)
		}
		trust.networks = append(trust.networks, network.Masked())
	}
	return trust, nil
}

// String gives the networks, with blanks between them.
func (t *Trust) String() string {
	texts := make([]string, len(t.networks))
	for i, network := range t.networks {
		texts[i] = network.String()
	}
	return strings.Join(texts, " ")
}

// Includes reports whether an address is trusted.
func (t *Trust) Includes(address netip.Addr) bool {
	address = address.Unmap().WithZone("")
	for _, network := range t.networks {
		if network.Contains(address) {
			return true
		}
	}
	return false
}

// Visitor is who asks, and how, as far as that can be believed.
type Visitor struct {
	Address netip.Addr // unset if it is not known
	Scheme  string     // "http" or "https", as the visitor's address has it
	// Here says that the connection comes from this machine, and that nothing
	// says that it speaks for somebody else.
	Here bool
	// Claims says that the request has fields by which proxies say who asks,
	// and that nobody who is trusted sent it.
	Claims bool
	// Passed says that a proxy that is trusted passed the request on, and Told that it said
	// whether the visitor came over TLS.
	Passed, Told bool
}

// visitorKey is under what the context of a request holds a Visitor.
type visitorKey struct{}

// VisitorOf tells who asks. Without a Server around it, it is the other end of the
// connection.
func VisitorOf(r *http.Request) Visitor {
	if visitor, ok := r.Context().Value(visitorKey{}).(Visitor); ok {
		return visitor
	}
	visitor := Visitor{Scheme: "http", Claims: Claims(r)}
	if r.TLS != nil {
		visitor.Scheme = "https"
	}
	if c := connectionIn(r); c != nil && !c.proxied {
		visitor.Address = c.peer // it was read when it came
	} else if host, _, err := net.SplitHostPort(r.RemoteAddr); err == nil {
		visitor.Address, _ = netip.ParseAddr(host)
		visitor.Address = visitor.Address.Unmap()
	}
	// A proxy on this machine passes on requests of strangers, and they come from
	// here too. What speaks HTTP/1.0 is a proxy that was not told otherwise.
	visitor.Here = visitor.Address.IsLoopback() && !visitor.Claims && r.ProtoAtLeast(1, 1)
	return visitor
}

// Client is what counts as one client; see ClientOf. It is not valid if nobody
// knows who asks.
func (v Visitor) Client() netip.Prefix {
	if !v.Address.IsValid() {
		return netip.Prefix{}
	}
	return ClientOf(v.Address)
}

// Claims reports whether a request has fields by which proxies say who asks, whoever sent
// it.
func Claims(r *http.Request) bool {
	// A request has half a dozen fields, and there are nearly twice as many of these.
	for name := range r.Header {
		switch name {
		case "Forwarded", "X-Forwarded-For", "X-Forwarded-Proto", "X-Forwarded-Host", "X-Forwarded-Port",
			"X-Forwarded-Server", "X-Real-Ip", "X-Client-Ip", "X-Cluster-Client-Ip", "True-Client-Ip", "Via":
			return true
		}
	}
	return false
}

// asVisitor returns a request with who asks in its context, and as its RemoteAddr
// where a proxy that is trusted names somebody.
func (t *Trust) asVisitor(r *http.Request) *http.Request {
	if len(t.networks) == 0 {
		return r
	}
	peer, named := netip.Addr{}, false
	if c := connectionIn(r); c != nil {
		peer = c.peer
		if address, ok := addressOf(c.RemoteAddr()); ok && address != peer {
			named = true // by the PROXY protocol
		}
	}

	visitor := VisitorOf(r)
	switch {
	case named:
		visitor.Here, visitor.Passed = false, true
	case t.Includes(peer):
		visitor.Here, visitor.Claims, visitor.Passed = false, false, true
		if address, ok := t.named(r.Header); ok {
			visitor.Address = address
			r.RemoteAddr = net.JoinHostPort(address.String(), "0")
		}
		if scheme := schemeIn(r.Header); scheme != "" {
			visitor.Scheme, visitor.Told = scheme, true
		}
	}
	return r.WithContext(context.WithValue(r.Context(), visitorKey{}, visitor))
}

// named returns the last address in what proxies added, from the end, that is not one
// of theirs.
func (t *Trust) named(header http.Header) (netip.Addr, bool) {
	hops := hopsIn(header)
	for i := len(hops) - 1; i >= 0; i-- {
		address, ok := parseHop(hops[i])
		if !ok {
			return netip.Addr{}, false // whatever is before it may be anybody's word
		}
		if !t.Includes(address) || i == 0 {
			return address, true
		}
	}
	return netip.Addr{}, false
}

// hopsIn lists whom each proxy on the way was asked by: of Forwarded (RFC 7239,
// section 5.2), else of X-Forwarded-For.
func hopsIn(header http.Header) (hops []string) {
	if lines := header["Forwarded"]; len(lines) > 0 {
		for element := range strings.SplitSeq(strings.Join(lines, ","), ",") {
			hops = append(hops, parameter(element, "for"))
		}
		return hops
	}
	if lines := header["X-Forwarded-For"]; len(lines) > 0 {
		return strings.Split(strings.Join(lines, ","), ",")
	}
	return nil
}

// parameter returns the value of a parameter in an element of Forwarded.
func parameter(element, name string) string {
	for pair := range strings.SplitSeq(element, ";") {
		key, value, ok := strings.Cut(strings.TrimSpace(pair), "=")
		if ok && strings.EqualFold(key, name) {
			return strings.Trim(value, `"`)
		}
	}
	return ""
}

// parseHop reads an address with or without a port: 192.0.2.7, 192.0.2.7:1234,
// [2001:db8::1]:1234, [2001:db8::1], 2001:db8::1.
func parseHop(text string) (netip.Addr, bool) {
	text = strings.TrimSpace(text)
	if with, err := netip.ParseAddrPort(text); err == nil {
		return with.Addr().Unmap(), true
	}
	address, err := netip.ParseAddr(strings.TrimSuffix(strings.TrimPrefix(text, "["), "]"))
	return address.Unmap(), err == nil
}

// schemeIn returns how the visitor's connection came, as the nearest proxy says; "" if
// it does not say. A visitor who lies about it gets cookies that their own browser would
// not send back.
func schemeIn(header http.Header) string {
	text := ""
	if lines := header["Forwarded"]; len(lines) > 0 {
		elements := strings.Split(strings.Join(lines, ","), ",")
		text = parameter(elements[len(elements)-1], "proto")
	} else if lines := header["X-Forwarded-Proto"]; len(lines) > 0 {
		elements := strings.Split(strings.Join(lines, ","), ",")
		text = strings.TrimSpace(elements[len(elements)-1])
	}
	if text = strings.ToLower(text); text == "http" || text == "https" {
		return text
	}
	return ""
}
