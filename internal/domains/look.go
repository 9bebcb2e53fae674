// Package domains looks at the names of a site as the world does: it asks name servers,
// challenges what answers at a name to prove that it is an edge node, and sees what http
// and https answer there. What that means is judged in core/names.
package domains

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/nameservers"
)

// How one host is looked at, each step for itself bounded:
//
//	the zone and its servers      once for all names of a zone
//	each server, the resolver     at the same time, with CAA and signatures
//	each address that anybody leads to, challenged at the same time
//	http and https                at the first address that was proved
//
// Addresses are dialled as they were found, with the host in the request: what this machine's
// own resolver or hosts file says has no part in it.

// Looker looks at names. It is safe for concurrent use.
type Looker struct {
	Asker nameservers.Asker
	// Store is the random id of the store, "" if it is not known: then nothing is proved.
	Store string
	// Roots are authorities that browsers trust; nil: the system's.
	Roots *x509.CertPool
	// Timeout is how long one connection may take; 0: five seconds.
	Timeout time.Duration
	Now     func() time.Time

	zones sync.Map // *zone by name: sites have many names in one zone
}

// zone is what was found out about a zone, once.
type zone struct {
	once    sync.Once
	name    string
	servers []nameservers.Server
	err     error
}

// Bounds of a look.
const (
	mostAddresses = 8    // at which one name is challenged
	mostBody      = 4096 // bytes of an answer to a challenge
	parallel      = 8    // names at once
	hostTime      = 25 * time.Second
)

// Look looks at hosts, several at once, and tells of each that it has seen. The order of
// the result is that of the hosts.
func (l *Looker) Look(ctx context.Context, hosts []names.Host, tell func(done int)) []names.Seen {
	seen := make([]names.Seen, len(hosts))
	var group errgroup.Group
	// Not all at once: a hundred names in one zone are a hundred times its servers.
	group.SetLimit(parallel)
	var mutex sync.Mutex
	done := 0
	for i, host := range hosts {
		group.Go(func() error {
			limited, cancel := context.WithTimeout(ctx, hostTime)
			defer cancel()
			seen[i] = l.host(limited, host)
			mutex.Lock()
			defer mutex.Unlock()
			if done++; tell != nil {
				tell(done)
			}
			return nil
		})
	}
	group.Wait() //nolint:errcheck // none returns any
	return seen
}

// Forget makes the next look ask again which servers a zone has.
func (l *Looker) Forget() { l.zones.Clear() }

// Zone returns the zone of a name and its servers.
func (l *Looker) Zone(ctx context.Context, name string) (string, []nameservers.Server, error) {
	name = strings.TrimPrefix(name, "*.")
	found, _ := l.zones.LoadOrStore(name, &zone{})
	z := found.(*zone) //nolint:forcetypeassert // nothing else is put there
	z.once.Do(func() { z.name, z.servers, z.err = l.Asker.Zone(ctx, name) })
	return z.name, z.servers, z.err
}

// host finds out all about one host.
func (l *Looker) host(ctx context.Context, host names.Host) names.Seen {
	// A name that nobody has asked for, so that no cache knows it.
	seen := names.Seen{Host: host, Name: host.Probe("orilla-" + strings.ToLower(rand.Text()[:10]))}
	zone, servers, err := l.Zone(ctx, host.Name)
	if err != nil && !errors.Is(err, nameservers.ErrNoZone) {
		seen.ZoneWhy = err.Error()
	}
	if seen.Zone = zone; zone == "" {
		return seen
	}

	// What name servers say, all of it at the same time: the slowest one decides how long.
	var group sync.WaitGroup
	seen.Authoritative = make([]names.Said, len(servers))
	for i, server := range servers {
		group.Go(func() { seen.Authoritative[i] = l.Asker.Said(ctx, server, seen.Name) })
	}
	group.Go(func() { seen.Resolver = l.Asker.Resolve(ctx, seen.Name) })
	group.Go(func() {
		if records, at, err := l.Asker.CAA(ctx, host.Name); err == nil {
			seen.CAA, seen.CAAName = records, at
		}
	})
	if len(servers) > 0 {
		group.Go(func() {
			if signed, err := l.Asker.Signed(ctx, zone, servers[0], seen.Name, l.now()); err == nil {
				seen.Signed = signed
			}
		})
	}
	group.Wait()

	// Then what is there. A name with dozens of addresses is a network of somebody's.
	port := portsOf(host)
	places := seen.Place()
	places = places[:min(len(places), mostAddresses)]
	seen.Proofs = make([]names.Proof, len(places))
	for i, ip := range places {
		group.Go(func() { seen.Proofs[i] = l.prove(ctx, ip, seen.Name, port) })
	}
	group.Wait()
	l.visit(ctx, &seen, port)
	return seen
}

// now is the time.
func (l *Looker) now() time.Time {
	if l.Now != nil {
		return l.Now()
	}
	return time.Now()
}

// ports are where a host answers; "" where nobody says.
type ports struct{ http, https string }

// portsOf returns the ports of a host's addresses: the usual ones, unless an address names
// another.
func portsOf(host names.Host) ports {
	p := ports{}
	for _, use := range host.Uses {
		address, err := url.Parse(strings.ReplaceAll(use.Address, names.LabelPlace, "label"))
		if err != nil {
			continue
		}
		switch port := address.Port(); {
		case port == "":
			return ports{"80", "443"}
		case address.Scheme == "https":
			p.https = port
		default:
			p.http = port
		}
	}
	return p
}

// client makes requests to one address, whatever the name says, and follows no redirects.
func (l *Looker) client(ip netip.Addr) *http.Client {
	timeout := l.Timeout
	if timeout == 0 {
		timeout = 5 * time.Second
	}
	dialer := &net.Dialer{Timeout: timeout}
	return &http.Client{
		Timeout: timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		},
		Transport: &http.Transport{
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				_, port, err := net.SplitHostPort(address)
				if err != nil {
					return nil, err
				}
				return dialer.DialContext(ctx, network, net.JoinHostPort(ip.String(), port))
			},
			DisableKeepAlives: true,
			// Proof does not rest on a certificate; whether that is good is looked at apart.
			TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, //nolint:gosec // see above
		},
	}
}

// prove challenges what answers at an address to prove that it is an edge node of the
// store: over TLS first, since that also shows what the node takes the connection for.
func (l *Looker) prove(ctx context.Context, ip netip.Addr, name string, port ports) names.Proof {
	proof := names.Proof{At: ip}
	for _, way := range []struct{ scheme, port string }{{"https", port.https}, {"http", port.http}} {
		if way.port == "" {
			continue
		}
		one := l.proveOver(ctx, ip, way.scheme+"://"+net.JoinHostPort(name, way.port), name)
		// One way is enough: a node that has no certificate yet is still a node.
		if one.Proved {
			return one
		}
		// What answers over http says more than that nothing answers over https.
		if proof.Why == "" || one.Why != "" && way.scheme == "http" {
			proof.Why = one.Why
		}
	}
	return proof
}

// proveOver sends one challenge.
func (l *Looker) proveOver(ctx context.Context, ip netip.Addr, at, name string) (proof names.Proof) {
	proof.At = ip
	// Random each time: an answer that somebody has overheard is no answer to this one.
	nonce := strings.ToLower(rand.Text())
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, at+names.ProofPath+nonce, nil)
	if err != nil {
		proof.Why = err.Error()
		return proof
	}
	response, err := l.client(ip).Do(request)
	if err != nil {
		proof.Why = reason(err)
		return proof
	}
	// Whatever answers there is a stranger until it has proved otherwise: little is read, and
	// less is printed.
	defer response.Body.Close() //nolint:errcheck // read
	data, _ := io.ReadAll(io.LimitReader(response.Body, mostBody))
	var answer names.ProofAnswer
	switch {
	case response.StatusCode == http.StatusOK && json.Unmarshal(data, &answer) == nil && answer.Proof != "":
		proof.Proved, proof.Secure = answer.Holds(l.Store, name, nonce), answer.Secure
		proof.Orders = answer.Orders
		// Only what a node of this store says counts, and only if it can be a name.
		if ascii, err := names.ASCII(answer.Issuer); err == nil && proof.Proved {
			proof.Issuer = ascii
		}
		if proof.Why = "an edge node of another store answers there"; l.Store == "" {
			proof.Why = "an edge node answers there; this store has no id that could prove whose"
		}
	case response.Header.Get("Server") != "":
		proof.Why = "something else answers there (" + printable(response.Header.Get("Server")) +
			", status " +
			response.Status + ")"
	default:
		proof.Why = "something else answers there (status " + printable(response.Status) + ")"
	}
	if proof.Proved {
		proof.Why = ""
	}
	return proof
}

// printable bounds a stranger's text, and takes out what a terminal would obey.
func printable(text string) string {
	const most = 40
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return -1
		}
		return r
	}, text)
	return text[:min(len(text), most)]
}

// reason is why a connection failed, in a few words.
func reason(err error) string {
	var timeout net.Error
	switch {
	case strings.Contains(err.Error(), "unrecognized name"):
		return "TLS is spoken there, and there is no certificate for this name"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing answers there (connection refused)"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "it cannot be reached from here"
	case errors.As(err, &timeout) && timeout.Timeout():
		return "nothing answers there (no answer in time)"
	}
	if inner, ok := errors.AsType[*url.Error](err); ok {
		err = inner.Err
	}
	return err.Error()
}

// What a browser would get first: redirects are not followed, since where each leads is what
// is to be seen, and the certificate is judged apart, since a browser that refuses it shows
// nothing else.

// visit looks at what http and https answer, at the first address that was proved.
func (l *Looker) visit(ctx context.Context, seen *names.Seen, port ports) {
	for _, proof := range seen.Proofs {
		if !proof.Proved {
			continue
		}
		// A site at /ferries/ has nothing at the root of its host.
		path := "/"
		if address, err := url.Parse(seen.Host.Uses[0].Address); err == nil && address.Path != "" {
			path = address.EscapedPath()
		}
		if port.http != "" {
			seen.HTTP = l.one(ctx, proof.At, "http://"+hostPort(seen.Name, port.http, "80")+path, seen.Name)
		}
		if port.https != "" {
			seen.HTTPS = l.one(ctx, proof.At, "https://"+hostPort(seen.Name, port.https, "443")+path,
				seen.Name)
		}
		return
	}
}

// hostPort leaves out the port that is usual.
func hostPort(name, port, usual string) string {
	if port == usual {
		return name
	}
	return net.JoinHostPort(name, port)
}

// one looks at what one address answers.
func (l *Looker) one(ctx context.Context, ip netip.Addr, at, name string) *names.Look {
	look := &names.Look{}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, at, nil)
	if err != nil {
		look.Why = err.Error()
		return look
	}
	// A certificate that is not valid is looked at too.
	response, err := l.client(ip).Do(request)
	if err != nil {
		look.Why = reason(err)
		return look
	}
	defer response.Body.Close() //nolint:errcheck // not read
	look.Status, look.Location = response.StatusCode, printableURL(response.Header.Get("Location"))
	look.Strict = response.Header.Get("Strict-Transport-Security") != ""
	if response.TLS != nil && len(response.TLS.PeerCertificates) > 0 {
		look.Certificate = l.certificate(response.TLS.PeerCertificates, name)
	}
	return look
}

// printableURL bounds where a redirect leads.
func printableURL(text string) string {
	const most = 200
	if len(text) > most || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return ""
	}
	return text
}

// certificate says what a server showed, and what a browser thinks of it.
func (l *Looker) certificate(chain []*x509.Certificate, name string) *names.Certificate {
	leaf := chain[0]
	c := &names.Certificate{Until: leaf.NotAfter, Issuer: printable(leaf.Issuer.String()),
		Names: leaf.DNSNames}
	// What the server sent along leads to an authority, or does not: browsers do not look for
	// what is missing either, not all of them.
	between := x509.NewCertPool()
	for _, other := range chain[1:] {
		between.AddCert(other)
	}
	_, err := leaf.Verify(x509.VerifyOptions{DNSName: name, Roots: l.Roots, Intermediates: between,
		CurrentTime: l.now()})
	if err == nil {
		return c
	}
	c.Why = strings.TrimPrefix(err.Error(), "x509: ")
	if _, ok := errors.AsType[x509.UnknownAuthorityError](err); ok {
		c.Why = "nobody here trusts its authority (" + c.Issuer + ")"
	}
	return c
}
