package cli

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/domains"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/httpanswer"
	"orilla.example/orilla/internal/issuance"
	"orilla.example/orilla/internal/nameservers"
)

// A node whose edge.yaml names an authority has its certificates issued:
//
//	issuingOf   the secret, the key for DNS, whom to ask: mistakes end the start
//	begin       what the node and the orders need of each other
//	run         once the store is known, for as long as the node answers
//	tlsOf       certificates of files come first, then those that were issued
//
// The node tells which names it serves (Named); from there on issuance decides.

// issuing is how a node has certificates issued. Orders begin when it is known which store
// the node serves: until then names are kept, and nobody gets a certificate.
type issuing struct {
	options issuance.Options
	looker  *domains.Looker // finds out whether names lead here
	port    string          // at which authorities ask
	orders  atomic.Pointer[issuance.Orders]

	mutex sync.Mutex
	names []string
}

// issuingOf reads what a configuration says of ordering; nil without an authority.
func issuingOf(a *app, config project.EdgeConfig) (*issuing, error) {
	acme := config.TLS.ACME
	if acme.Directory == "" {
		return nil, nil //nolint:nilnil // certificates come from files, or there are none
	}
	// The secret comes first: without it nothing could be kept, and an order would be wasted.
	secret, err := nodeSecret(a, acme.Secret)
	if err != nil {
		return nil, err
	}
	asker, err := askerOf(lookOptions{resolver: acme.Resolver})
	if err != nil {
		return nil, err
	}
	if asker == nil {
		return nil, fault.New(fault.Usage, "usage", "certificates cannot be ordered without a resolver").
			Then("remove ORILLA_RESOLVER=none, or name one: tls.acme.resolver in edge.yaml")
	}
	i := &issuing{port: "80", looker: &domains.Looker{Asker: *asker}, options: issuance.Options{
		Directory: acme.Directory, Contact: acme.Contact, Secret: secret}}
	if acme.HTTPPort > 0 {
		i.port = strconv.FormatInt(acme.HTTPPort, 10)
	}
	if acme.Authority != "" {
		data, err := os.ReadFile(acme.Authority)
		if i.options.Roots = x509.NewCertPool(); err != nil || !i.options.Roots.AppendCertsFromPEM(data) {
			return nil, fault.New(fault.Usage, "bad-certificate", "cannot read the authority's certificate").
				At("%s", acme.Authority).Because(err)
		}
	}
	if acme.DNS.Key != "" {
		data, err := os.ReadFile(acme.DNS.Key)
		if err != nil {
			return nil, fault.New(fault.Usage, "no-key", "cannot read the key").At("%s",
				acme.DNS.Key).Because(err)
		}
		key, err := nameservers.ParseKey(data)
		if err != nil {
			return nil, fault.New(fault.Usage, "bad-key", "%s", err).At("%s", acme.DNS.Key)
		}
		i.options.DNS = &issuance.DNS{Asker: asker, Key: key, Server: acme.DNS.Server}
	}
	if config.Cache.Folder != "" {
		// What the node uses stays on its own disk too: certificates are there while the store
		// is not.
		i.options.Folder = filepath.Join(config.Cache.Folder, "certificates")
	}
	return i, nil
}

// The secret is a file and not an option: what is typed stands in the history of a shell and
// in the list of processes. It is made where there is none, since the first node of a store is
// mostly its only one; the note says what the second one needs.

// nodeSecret reads the secret of the nodes, or makes it: the first node of a store has it
// to itself.
func nodeSecret(a *app, file string) (*sealed.Secret, error) {
	if file == "" {
		return nil, fault.New(fault.Usage, "no-secret",
			"ordering certificates takes a secret that seals their keys").
			Then("name a file: tls: {acme: {secret: /etc/orilla/secret}} in edge.yaml; " +
				"it is made if it is not there")
	}
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		data = []byte(sealed.New())
		if err = os.WriteFile(file, data, 0o600); err == nil {
			a.Note("made the secret %s; other nodes of this store need the same file", file)
		}
	}
	if err != nil {
		return nil, fault.New(fault.Usage, "no-secret", "cannot read the secret").At("%s", file).Because(err)
	}
	const others = fs.FileMode(0o077)
	if info, err := os.Stat(file); err == nil && runtime.GOOS != "windows" && info.Mode()&others != 0 {
		return nil, fault.New(fault.Usage, "secret-readable", "others on this machine can read the secret").
			At("%s", file).Then("chmod 600 %s", file)
	}
	secret, err := sealed.Parse(data)
	if err != nil {
		return nil, fault.New(fault.Usage, "bad-secret", "%s", err).At("%s", file)
	}
	return secret, nil
}

// certificate chooses among what was issued.
func (i *issuing) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if orders := i.orders.Load(); orders != nil {
		return orders.Certificate(hello)
	}
	return nil, nil //nolint:nilnil // what crypto/tls asks for
}

// want notes which names the node serves.
func (i *issuing) want(list []string) {
	i.mutex.Lock()
	defer i.mutex.Unlock()
	i.names = list
	if orders := i.orders.Load(); orders != nil {
		orders.Want(list)
	}
}

// challenge answers an authority.
func (i *issuing) challenge(w http.ResponseWriter, r *http.Request, host string) bool {
	orders := i.orders.Load()
	return orders != nil && orders.Challenge(w, r, host)
}

// blocking are the findings that keep an order from succeeding: the authority asks any of
// the zone's servers, and comes where they lead.
var blocking = []string{"no-zone", "no-resolver", "servers-silent", "leads-nowhere", "leads-elsewhere",
	"cname-loop", "servers-differ", "dnssec"}

// leads reports whether a name leads to a node of the store, by all servers of its zone.
func (i *issuing) leads(ctx context.Context, name string) error {
	host := names.Host{Name: name, Uses: []names.Use{{Address: "http://" + net.JoinHostPort(name,
		i.port) + "/"}}}
	// Asked anew each time: a name is waited for because its zone is about to change.
	i.looker.Forget()
	seen := i.looker.Look(ctx, []names.Host{host}, nil)
	for _, f := range names.Judge(names.Case{Seen: seen[0], Now: time.Now()}).Findings {
		if slices.Contains(blocking, f.Code) {
			return errors.New(f.Text)
		}
	}
	return nil
}

// run orders certificates until the context ends.
func (i *issuing) run(ctx context.Context, node *edge.Node) {
	// What is sealed is bound to the store. The node knows which one it is from its first look,
	// or from its cache.
	for edge.StoreID(node) == "" {
		select {
		case <-ctx.Done():
			return
		case <-time.After(100 * time.Millisecond):
		}
	}
	i.options.StoreID = edge.StoreID(node)
	i.looker.Store = i.options.StoreID
	orders := issuance.New(i.options)
	i.mutex.Lock()
	orders.Want(i.names)
	i.orders.Store(orders)
	i.mutex.Unlock()
	orders.Run(ctx)
}

// An alarm is what a person has to do something about: a certificate that ends within two
// weeks, whose renewal fails. One that is only young of a short life (a stand-in's, or one of a
// few days) is renewed in time, and no alarm.

// alarms says which certificates end soon and are not renewed.
func (i *issuing) alarms() (list []string) {
	orders := i.orders.Load()
	if orders == nil {
		return nil
	}
	for _, s := range orders.List() {
		if s.Alarming(time.Now()) {
			list = append(list, fmt.Sprintf("the certificate of %s %s on %s and is not renewed: %s", s.Name,
				endsOr(s.Until), s.Until.UTC().Format(time.DateOnly), s.Why))
		}
	}
	return list
}

// begin prepares orders for a node that listens, and gives the node what it needs of them.
func (i *issuing) begin(tell func(httpanswer.Event), options *edge.Options, store storage.Store,
	listeners []net.Listener,
) {
	i.options.Store = store
	i.options.Node = edge.NodeName(strconv.Itoa(portAt(listeners, false)))
	i.options.HTTPPort, i.options.TLSPort = portAt(listeners, false), portAt(listeners, true)
	i.options.Leads = i.leads
	i.options.Tell = func(name string, err error) {
		event := httpanswer.Event{Time: time.Now(), Kind: "certificates", Text: "issued for " + name}
		switch {
		case errors.Is(err, issuance.ErrElsewhere):
			event.Text = "waits for " + name + ": " + err.Error()
		case err != nil:
			event.Kind, event.Text = "trouble", "no certificate for "+name+": "+err.Error()
		}
		tell(event)
	}
	options.Named, options.Challenge = i.want, i.challenge
	options.Orders = func(host string) (string, bool) {
		if orders := i.orders.Load(); orders != nil && orders.Orders(host) {
			return orders.Issuer(), true
		}
		return "", false
	}
}

// portAt is the port of the first listener that speaks TLS, or does not; 0 for none.
func portAt(listeners []net.Listener, secure bool) int {
	for _, l := range listeners {
		if at, ok := l.Addr().(*net.TCPAddr); ok && connections.IsSecure(l) == secure {
			return at.Port
		}
	}
	return 0
}

// tlsOf is how a node speaks TLS: with certificates of files first, then with what was
// issued.
func tlsOf(set *certificates.Set, i *issuing) *tls.Config {
	var from []certificates.Chooser
	if set != nil {
		from = append(from, set.Certificate)
	}
	if i != nil {
		from = append(from, i.certificate)
	}
	config := certificates.Choose(from...)
	// Authorities that make their challenge over TLS ask for a protocol of their own.
	if i != nil {
		config.NextProtos = []string{issuance.Protocol}
	}
	return config
}

// secures tells whether a node has a certificate for a host.
func secures(set *certificates.Set, i *issuing) func(host string) bool {
	return func(host string) bool {
		if set != nil && set.Has(host, time.Now()) {
			return true
		}
		if i == nil {
			return false
		}
		orders := i.orders.Load()
		return orders != nil && orders.Has(host, time.Now())
	}
}

// carries tells whether a connection for one name may carry requests for another.
func carries(set *certificates.Set, i *issuing) func(name, host string) bool {
	return func(name, host string) bool {
		if set != nil && set.Serves(name, host) {
			return true
		}
		if i == nil {
			return false
		}
		orders := i.orders.Load()
		return orders != nil && orders.Serves(name, host)
	}
}

// tellIssued tells of certificates that were issued and end soon.
func (i *issuing) tellIssued(r *running) {
	for _, text := range i.alarms() {
		r.first.tell(httpanswer.Event{Time: time.Now(), Kind: "trouble", Text: text})
	}
}

// described says what a node would order.
func (i *issuing) described() []string {
	text := i.options.Directory
	if i.options.DNS == nil {
		text += console.Faint("  none for previews: tls.acme.dns is not set")
	}
	return []string{"certificates from", text}
}
