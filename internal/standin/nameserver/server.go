package nameserver

import (
	"context"
	"errors"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"orilla.example/orilla/internal/nameservers"
)

// What a question gets depends on where it comes to and what it asks for:
//
//	recursion is asked for     the resolver: from what it keeps, else from the zone as it is now
//	none, at the primary       the zone as it is now
//	none, at a secondary       the zone as it was a while ago
//	an update                  the primary only, from whoever has a key
//
// So one address is enough to see how a change reaches the world.

// Server answers for zones. Its fields are set before Listen.
type Server struct {
	Zones []*Zone
	// Keys may change zones.
	Keys []nameservers.Key
	// Delay is how far the secondary lags behind.
	Delay time.Duration
	// Now is the clock; nil: the machine's.
	Now func() time.Time
	// Tell is told what was changed, and of what was refused, and why, from several
	// goroutines; nil for nobody.
	Tell func(text string)

	mutex sync.Mutex
	kept  map[string]kept // what the resolver keeps, by question
	// each has an owner in Serve
	servers []*dns.Server
}

// kept is an answer that the resolver may give again.
type kept struct {
	answer *dns.Msg
	at     time.Time
	ttl    time.Duration
}

// now is the time.
func (s *Server) now() time.Time {
	if s.Now != nil {
		return s.Now()
	}
	return time.Now()
}

// Listen takes an address, over UDP and TCP, on which the server is the primary, or a
// secondary, and returns it with its port.
func (s *Server) Listen(ctx context.Context, address string, secondary bool) (string, error) {
	listener, packets, err := Both(ctx, address)
	if err != nil {
		return "", err
	}
	// One handler for both ways: what differs is only how much fits.
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, r *dns.Msg) { s.answer(w, r, secondary) })
	secrets := map[string]string{}
	for _, key := range s.Keys {
		secrets[dns.Fqdn(key.Name)] = key.Secret
	}
	// Updates must pass the library's check of what it accepts.
	accept := func(dns.Header) dns.MsgAcceptAction { return dns.MsgAccept }
	s.servers = append(s.servers,
		&dns.Server{Listener: listener, Handler: handler, TsigSecret: secrets, MsgAcceptFunc: accept},
		&dns.Server{PacketConn: packets, Handler: handler, TsigSecret: secrets, MsgAcceptFunc: accept})
	return listener.Addr().String(), nil
}

// Both takes an address for TCP and for UDP: DNS has the same port on either. A free port that
// was asked for (0) may be free on one of them only, so others are tried.
func Both(ctx context.Context, address string) (net.Listener, net.PacketConn, error) {
	_, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, nil, err
	}
	for try := 1; ; try++ {
		listener, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address)
		if err != nil {
			return nil, nil, err
		}
		packets, err := (&net.ListenConfig{}).ListenPacket(ctx, "udp", listener.Addr().String())
		if err == nil {
			return listener, packets, nil
		}
		listener.Close() //nolint:errcheck // not used
		const most = 20
		if port != "0" || try == most {
			return nil, nil, err
		}
	}
}

// Serve answers until the context ends.
func (s *Server) Serve(ctx context.Context) error {
	var group sync.WaitGroup
	errs := make(chan error, len(s.servers))
	for _, server := range s.servers {
		// One that has not begun cannot be shut down, and would begin afterwards.
		begun := make(chan struct{})
		server.NotifyStartedFunc = sync.OnceFunc(func() { close(begun) })
		group.Go(func() {
			errs <- server.ActivateAndServe()
			server.NotifyStartedFunc() // also if it could not begin
		})
		<-begun
	}
	select {
	case <-ctx.Done():
	case err := <-errs:
		errs <- err
	}
	for _, server := range s.servers {
		server.Shutdown() //nolint:errcheck // it may have ended
	}
	group.Wait()
	close(errs)
	// Whoever ended it knows why; what servers say of being shut down tells nothing.
	if ctx.Err() != nil {
		return nil //nolint:nilerr // see above
	}
	var all []error
	for err := range errs {
		all = append(all, err)
	}
	return errors.Join(all...)
}

// zone returns the zone of a name, the longest one.
func (s *Server) zone(name string) *Zone {
	var found *Zone
	for _, z := range s.Zones {
		if dns.IsSubDomain(z.Origin, dns.CanonicalName(name)) &&
			(found == nil || len(z.Origin) > len(found.Origin)) {
			found = z
		}
	}
	return found
}

// answer answers one message.
func (s *Server) answer(w dns.ResponseWriter, r *dns.Msg, secondary bool) {
	reply := new(dns.Msg).SetReply(r)
	switch {
	case len(r.Question) != 1:
		reply.Rcode = dns.RcodeFormatError
	case r.Opcode == dns.OpcodeUpdate:
		s.updated(w, r, reply, secondary)
	case r.Opcode != dns.OpcodeQuery:
		reply.Rcode = dns.RcodeNotImplemented
	case r.RecursionDesired:
		s.resolve(reply)
	default:
		when := time.Time{}
		if secondary {
			when = s.now().Add(-s.Delay)
		}
		s.fill(reply, when)
	}
	// What does not fit into a packet is asked for again over TCP.
	size := dns.MinMsgSize
	if option := r.IsEdns0(); option != nil {
		size = max(size, int(option.UDPSize()))
		reply.SetEdns0(option.UDPSize(), false)
	}
	if w.LocalAddr().Network() == "udp" {
		reply.Truncate(size)
	}
	w.WriteMsg(reply) //nolint:errcheck // whoever asked has gone
}

// fill answers from a zone, as it was at a time.
func (s *Server) fill(reply *dns.Msg, when time.Time) {
	question := reply.Question[0]
	z := s.zone(question.Name)
	if z == nil {
		reply.Rcode = dns.RcodeRefused
		return
	}
	c := z.at(when)
	answer, exists := z.lookup(c, question.Name, question.Qtype)
	reply.Authoritative, reply.Answer = true, answer
	if !exists {
		reply.Rcode = dns.RcodeNameError
	}
	if len(answer) == 0 || answer[len(answer)-1].Header().Rrtype != question.Qtype {
		reply.Ns = z.soa(c)
	}
}

// resolve answers as a resolver does: from what it keeps, with the time that is left of it.
func (s *Server) resolve(reply *dns.Msg) {
	// As caches do, also for answers that say that there is nothing: that is what people wait
	// for who have looked too early.
	reply.RecursionAvailable = true
	question := reply.Question[0]
	name := strings.ToLower(question.Name) + " " + dns.TypeToString[question.Qtype]
	s.mutex.Lock()
	defer s.mutex.Unlock()
	now := s.now()
	k, ok := s.kept[name]
	if !ok || now.Sub(k.at) >= k.ttl {
		fresh := new(dns.Msg)
		fresh.Question = reply.Question
		s.fill(fresh, time.Time{})
		if fresh.Rcode == dns.RcodeRefused {
			fresh.Rcode = dns.RcodeNameError // nothing else is known here
		}
		k = kept{fresh, now, time.Hour}
		for _, record := range append(fresh.Answer, fresh.Ns...) {
			k.ttl = min(k.ttl, time.Duration(record.Header().Ttl)*time.Second)
		}
		const most = 4096 // questions
		if s.kept == nil || len(s.kept) >= most {
			s.kept = map[string]kept{}
		}
		s.kept[name] = k
	}
	reply.Rcode = k.answer.Rcode
	age := uint32(now.Sub(k.at) / time.Second)
	aged := func(list []dns.RR) (copies []dns.RR) {
		for _, record := range list {
			record = dns.Copy(record)
			record.Header().Ttl -= min(record.Header().Ttl, age)
			copies = append(copies, record)
		}
		return copies
	}
	reply.Answer, reply.Ns = aged(k.answer.Answer), aged(k.answer.Ns)
}

// updated changes a zone, for whoever signs with one of the keys.
func (s *Server) updated(w dns.ResponseWriter, r, reply *dns.Msg, secondary bool) {
	tell := func(text string) {
		if s.Tell != nil {
			s.Tell(text)
		}
	}
	// Who may change a zone is decided before anything is said about it.
	origin, signature := dns.CanonicalName(r.Question[0].Name), r.IsTsig()
	switch z := s.zone(origin); {
	case secondary:
		reply.Rcode = dns.RcodeNotImplemented // only the primary takes them
	case signature == nil:
		reply.Rcode = dns.RcodeRefused
		tell("refused an update of " + origin + ": it is not signed")
	case w.TsigStatus() != nil:
		reply.Rcode = dns.RcodeNotAuth
		tell("refused an update of " + origin + ": " + w.TsigStatus().Error())
	case z == nil || z.Origin != origin:
		reply.Rcode = dns.RcodeNotAuth
	default:
		reply.Rcode = z.update(r.Answer, r.Ns, s.now())
		for _, record := range r.Ns {
			verb := "added   "
			if record.Header().Class != dns.ClassINET {
				verb = "removed "
			}
			if reply.Rcode == dns.RcodeSuccess {
				tell(verb + strings.ReplaceAll(record.String(), "\t", " "))
			}
		}
		if reply.Rcode != dns.RcodeSuccess {
			tell("refused an update of " + origin + ": " + dns.RcodeToString[reply.Rcode])
		}
	}
	if signature != nil && w.TsigStatus() == nil {
		reply.SetTsig(signature.Hdr.Name, signature.Algorithm, signature.Fudge, s.now().Unix())
	}
}
