// Package issuance has certificates issued for the names that a node serves, by an authority
// that speaks ACME (RFC 8555), and shares them with all nodes of a store.
//
//	names that are configured --> does the name lead here? --> order, under a lock
//	                                                              |
//	handshakes <-- memory <-- the store, sealed <-----------------+
//
// The protocol, renewal and its information (RFC 9773) are certmagic's. Here is decided what
// is ordered, when, by whom, and where it is kept: never for a name that nobody configured,
// not before the name leads to this store's nodes, and by one node for all. What is kept is
// sealed with a secret that the nodes have and the store has not.
package issuance

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/caddyserver/certmagic"
	"github.com/mholt/acmez/v3/acme"
	"go.uber.org/zap"
	"golang.org/x/time/rate"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/core/storage"
)

// Options say where certificates come from, and where they are kept.
type Options struct {
	Directory string         // of the authority: the address of its directory (RFC 8555, section 7.1.1)
	Contact   string         // an address for mail, "" for none
	Roots     *x509.CertPool // that the authority's own certificate is checked with; nil: the system's

	Store   storage.Store
	StoreID string // the store's random id
	Secret  *sealed.Secret
	Node    string // how the node calls itself, for whoever looks at a lock
	// Folder is where the node keeps a copy of what it uses, readable to its own user only,
	// so that it has its certificates while the store is away; "" for none.
	Folder string

	// HTTPPort and TLSPort are where this node listens, so that nothing else is started to
	// answer challenges.
	HTTPPort, TLSPort int
	// Most is how many orders the node begins in an hour; 0: 50.
	Most int
	// DNS writes validation records for wildcards; nil: none are ordered.
	DNS *DNS

	// Leads reports whether a name leads to a node of the store, and why not. It is asked
	// before each order of a name that is no wildcard.
	Leads func(ctx context.Context, name string) error
	// Tell is told what happens, from several goroutines: of a name, what went wrong, or nil
	// for a certificate that came.
	Tell func(name string, err error)
}

// Orders has certificates ordered. Make it with New and Run it for as long as the node
// serves. Its methods are safe for concurrent use.
type Orders struct {
	options Options
	cache   *certmagic.Cache
	plain   *certmagic.Config // for names
	byDNS   *certmagic.Config // for wildcards
	issuer  *certmagic.ACMEIssuer
	wake    chan struct{}
	rate    *rate.Limiter          // of orders
	named   atomic.Pointer[string] // how the authority calls itself in CAA records

	mutex  sync.Mutex
	wanted map[string]*wanted
}

// wanted is a name that is to have a certificate.
type wanted struct {
	next     time.Time // when to try
	failures int
	looks    int   // in a row at which it did not lead here
	why      error // why there is none, or no newer one
	busy     bool
}

// When a name is tried again:
//
//	it does not lead here           after 2 s, 4 s and so on, then every 30 s: asking name
//	                                servers costs the authority nothing
//	another node has the lock       until that node is done, or dead
//	the authority refuses           after 15 s, then longer and longer, up to six hours
//	it says that it was too much    after an hour at least
//	it was issued                   every 10 min: another node may have renewed it
//
// Renewal begins when the authority suggests it (RFC 9773), else when a third of the time is
// left; a failure leaves what there is in use, and becomes an alarm two weeks before its end.

// How long to wait before a name is tried again: after it did not lead here, and after the
// authority refused, the longer the more often.
var leadsAgain = 2 * time.Second

// leadsMost is how long that pause becomes.
const leadsMost = 30 * time.Second

var pauses = []time.Duration{15 * time.Second, time.Minute, 5 * time.Minute, 20 * time.Minute, time.Hour,
	3 * time.Hour, 6 * time.Hour}

// lookAgain is how often a name that has a certificate is looked at: another node may have
// renewed it. renewCheck is how often it is asked whether one is to be renewed.
var lookAgain, renewCheck = 10 * time.Minute, 10 * time.Minute

// orderTime is how long one order may take.
const orderTime = 5 * time.Minute

// New returns what orders certificates. Nothing is asked before Run.
func New(options Options) *Orders {
	most := cmp.Or(options.Most, ordersMost)
	o := &Orders{options: options, wake: make(chan struct{}, 1), wanted: map[string]*wanted{},
		rate: rate.NewLimiter(rate.Every(time.Hour/time.Duration(most)), most)}
	kept := newVault(options)
	logger := zap.NewNop() // what happens is told in our own words
	o.cache = certmagic.NewCache(certmagic.CacheOptions{Logger: logger, RenewCheckInterval: renewCheck,
		GetConfigForCert: func(c certmagic.Certificate) (*certmagic.Config, error) {
			if len(c.Names) > 0 {
				return o.configOf(c.Names[0]), nil
			}
			return o.plain, nil
		}})
	// Certificates of P-256 are understood everywhere, and cheap to use. Staples are of a
	// protocol (OCSP) that authorities give up.
	base := certmagic.Config{Storage: kept, Logger: logger, OCSP: certmagic.OCSPConfig{DisableStapling: true},
		KeySource: certmagic.StandardKeyGenerator{KeyType: certmagic.P256}, OnEvent: o.event}
	if options.Folder != "" {
		base.LocalCache = &certmagic.FileStorage{Path: options.Folder}
	}
	template := certmagic.ACMEIssuer{CA: options.Directory, Email: options.Contact, Agreed: true,
		TrustedRoots: options.Roots, AltHTTPPort: options.HTTPPort, AltTLSALPNPort: options.TLSPort,
		Logger: logger}

	o.plain = certmagic.New(o.cache, base)
	o.issuer = certmagic.NewACMEIssuer(o.plain, template)
	o.plain.Issuers = []certmagic.Issuer{quietly(o.issuer)}
	o.byDNS = certmagic.New(o.cache, base)
	if options.DNS != nil {
		template.DNS01Solver = options.DNS
	}
	o.byDNS.Issuers = []certmagic.Issuer{quietly(certmagic.NewACMEIssuer(o.byDNS, template))}
	return o
}

// silent is an issuer that asks nobody at a terminal: a node has none.
type silent struct{ *certmagic.ACMEIssuer }

// quietly returns an issuer that asks nobody. One that has a contact has nothing to ask, and is
// left as it is: the library knows it by its type, and says of a renewal what it replaces (RFC
// 9773, section 5).
func quietly(issuer *certmagic.ACMEIssuer) certmagic.Issuer {
	if issuer.Email != "" {
		return issuer
	}
	return silent{issuer}
}

// PreCheck implements certmagic.PreChecker.
func (s silent) PreCheck(ctx context.Context, list []string, _ bool) error {
	return s.ACMEIssuer.PreCheck(ctx, list, false)
}

// configOf is how a name is ordered.
func (o *Orders) configOf(name string) *certmagic.Config {
	if strings.HasPrefix(name, "*.") {
		return o.byDNS
	}
	return o.plain
}

// event is told what certmagic does.
func (o *Orders) event(_ context.Context, event string, data map[string]any) error {
	name, _ := data["identifier"].(string)
	switch event {
	case "cert_obtained":
		o.mutex.Lock()
		if w := o.wanted[name]; w != nil {
			w.failures, w.why = 0, nil
		}
		o.mutex.Unlock()
		o.options.Tell(name, nil)
	case "cert_failed":
		if err, ok := data["error"].(error); ok {
			o.failed(name, err)
		}
	}
	return nil
}

// failed notes why a name has no certificate, and tells it once.
func (o *Orders) failed(name string, err error) {
	err = plain(err)
	o.mutex.Lock()
	w := o.wanted[name]
	told := w == nil || w.why == nil || w.why.Error() != err.Error()
	if w != nil {
		w.why = err
	}
	o.mutex.Unlock()
	if told {
		o.options.Tell(name, err)
	}
}

// plain takes what an authority said out of what libraries wrap around it.
func plain(err error) error {
	if problem, ok := errors.AsType[acme.Problem](err); ok {
		kind := problem.Type[strings.LastIndex(problem.Type, ":")+1:]
		return fmt.Errorf("the authority refuses (%s): %s", kind, problem.Detail)
	}
	return err
}

// Want says which names are to have certificates: those that are configured. Names that are
// in no list any more keep what they have, and nothing is ordered for them.
func (o *Orders) Want(list []string) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	var gone []certmagic.SubjectIssuer
	for name := range o.wanted {
		if !slices.Contains(list, name) {
			delete(o.wanted, name)
			gone = append(gone, certmagic.SubjectIssuer{Subject: name})
		}
	}
	for _, name := range list {
		if o.wanted[name] == nil && (!strings.HasPrefix(name, "*.") || o.options.DNS != nil) {
			o.wanted[name] = &wanted{}
		}
	}
	o.cache.RemoveManaged(gone)
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// Run orders and renews until the context ends.
func (o *Orders) Run(ctx context.Context) {
	defer o.cache.Stop()
	var group sync.WaitGroup
	defer group.Wait()
	group.Go(func() { o.clean(ctx) })
	group.Go(func() { o.learn(ctx) })
	ticker := time.NewTicker(time.Second)
	defer ticker.Stop()
	for {
		for _, name := range o.due(time.Now()) {
			group.Go(func() { o.one(ctx, name) })
		}
		select {
		case <-ctx.Done():
			return
		case <-o.wake:
		case <-ticker.C:
		}
	}
}

// Issuer is how the authority calls itself in CAA records (RFC 8659); "" while that is not
// known, or if it does not say.
func (o *Orders) Issuer() string {
	if name := o.named.Load(); name != nil {
		return *name
	}
	return ""
}

// learnAgain is when the authority is asked again for its directory.
const learnAgain = time.Minute

// learn reads in the authority's directory how it calls itself (RFC 8555, section 7.1.1), so
// that people can be told of CAA records that forbid it.
func (o *Orders) learn(ctx context.Context) {
	client := &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{
		Proxy: http.ProxyFromEnvironment, DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{RootCAs: o.options.Roots, MinVersion: tls.VersionTLS12}}}
	for {
		if name, err := issuerAt(ctx, client, o.options.Directory); err == nil {
			o.named.Store(&name)
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(learnAgain):
		}
	}
}

// issuerAt reads the first identity in a directory; "" if there is none.
func issuerAt(ctx context.Context, client *http.Client, directory string) (string, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, directory, nil)
	if err != nil {
		return "", err
	}
	response, err := client.Do(request)
	if err != nil {
		return "", err
	}
	defer response.Body.Close() //nolint:errcheck // read
	var d struct {
		Meta struct {
			CAAIdentities []string `json:"caaIdentities"`
		} `json:"meta"`
	}
	const most = 64 << 10 // of a list of addresses
	if err := json.NewDecoder(io.LimitReader(response.Body, most)).Decode(&d); err != nil {
		return "", err
	}
	if len(d.Meta.CAAIdentities) == 0 {
		return "", nil
	}
	return d.Meta.CAAIdentities[0], nil
}

// How often what has expired is removed, how long after its end, and how long after the start:
// a node that is restarted again and again has better things to do.
const (
	cleanEvery = 24 * time.Hour
	cleanAfter = 30 * 24 * time.Hour
	cleanFirst = time.Hour
)

// clean removes certificates and keys that have expired a month ago, of names that are gone
// as well, until the context ends. One node does it for all.
func (o *Orders) clean(ctx context.Context) {
	for wait := cleanFirst; ; wait = cleanEvery {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		//nolint:errcheck // tomorrow is another day
		certmagic.CleanStorage(ctx, o.plain.Storage, certmagic.CleanStorageOptions{Interval: cleanEvery,
			Logger: zap.NewNop(), ExpiredCerts: true, ExpiredCertGracePeriod: cleanAfter})
	}
}

// atOnce is for how many names something is done at a time.
const atOnce = 4

// due takes names that are to be tried now.
func (o *Orders) due(now time.Time) (list []string) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	busy := 0
	for _, w := range o.wanted {
		if w.busy {
			busy++
		}
	}
	for name, w := range o.wanted {
		if !w.busy && !now.Before(w.next) && busy < atOnce {
			w.busy = true
			busy++
			list = append(list, name)
		}
	}
	return list
}

// one loads the certificate of a name, or has it ordered.
func (o *Orders) one(ctx context.Context, name string) {
	limited, cancel := context.WithTimeout(ctx, orderTime)
	defer cancel()
	next, old, err := o.obtain(limited, name)
	o.mutex.Lock()
	w := o.wanted[name]
	if w != nil {
		w.busy, w.next = false, time.Now().Add(next)
		// That one could not be renewed holds until it is.
		if err == nil && !old {
			w.failures, w.why = 0, nil
		}
	}
	o.mutex.Unlock()
	if err != nil && ctx.Err() == nil {
		o.failed(name, err)
	}
	if old {
		// At once, and not with the next check: a node that is started may find one that has
		// ended. How often a failure is tried again is the library's matter.
		o.cache.RenewManagedCertificates(ctx) //nolint:errcheck // told by event
	}
}

// ErrElsewhere: the name does not lead to this store's nodes.
var ErrElsewhere = errors.New("it is ordered when the name leads here")

// ordersMost is how many orders a node begins in an hour. Authorities count them for each
// account: somebody who may deploy one site of the store, and gives it a thousand names, must
// not use up what the others need to renew theirs. Renewals are not counted.
const ordersMost = 50

// errMany: other names come first.
var errMany = errors.New("many certificates were ordered within an hour; this one comes later")

// manyAgain is when a name is tried again that came too late for this hour.
const manyAgain = 5 * time.Minute

// obtain does what is to be done for a name, and says when to look again, and whether what
// there is should be renewed.
func (o *Orders) obtain(ctx context.Context, name string) (next time.Duration, old bool, err error) {
	config := o.configOf(name)
	// Another node may have it already, or this one before it was started again.
	there, err := config.CacheManagedCertificate(ctx, name)
	if err == nil {
		return lookAgain, there.NeedsRenewal(config), nil
	}
	// One that is there and cannot be opened is not replaced by an order: the secret is
	// wrong, or somebody has been at the store, and either is for a person to look at.
	if !errors.Is(err, fs.ErrNotExist) {
		return o.pause(name, err), false, err
	}
	if !strings.HasPrefix(name, "*.") && o.options.Leads != nil {
		if err := o.options.Leads(ctx, name); err != nil {
			return o.again(name), false, fmt.Errorf("%w: %w", ErrElsewhere, err)
		}
	}
	if !o.rate.Allow() {
		return manyAgain, false, errMany
	}
	if err := config.ObtainCertSync(ctx, name); err != nil {
		return o.pause(name, err), false, err
	}
	_, err = config.CacheManagedCertificate(ctx, name)
	if err != nil {
		return o.pause(name, err), false, err
	}
	return lookAgain, false, nil
}

// again is how long to wait before looking again whether a name leads here: who has just
// configured it is about to set its records.
func (o *Orders) again(name string) time.Duration {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	w := o.wanted[name]
	if w == nil {
		return leadsMost
	}
	const doublings = 5 // more would be longer than leadsMost
	pause := min(leadsAgain<<min(w.looks, doublings), leadsMost)
	w.looks++
	return pause
}

// pause is how long to wait after a failure.
func (o *Orders) pause(name string, err error) time.Duration {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	w := o.wanted[name]
	if w == nil {
		return lookAgain
	}
	pause := pauses[min(w.failures, len(pauses)-1)]
	w.failures++
	// Who asks too often is not asked less by asking again.
	if problem, ok := errors.AsType[acme.Problem](err); ok && problem.Type == acme.ProblemTypeRateLimited {
		pause = max(pause, time.Hour)
	}
	return pause
}

// challengePath begins the path of HTTP-01 (RFC 8555, section 8.3).
const challengePath = "/.well-known/acme-challenge/"

// Challenge answers an authority that asks whether an order is ours, and reports whether it
// did. Only names that are configured are looked up: strangers cannot make the store work.
func (o *Orders) Challenge(w http.ResponseWriter, r *http.Request, host string) bool {
	if !IsChallenge(r.URL.Path) {
		return false
	}
	o.mutex.Lock()
	_, known := o.wanted[host]
	o.mutex.Unlock()
	return known && o.issuer.HandleHTTPChallenge(w, r)
}

// IsChallenge reports whether a path is one that authorities ask for: no release answers
// there, whatever it holds.
func IsChallenge(path string) bool { return strings.HasPrefix(path, challengePath) }

// Protocol is that of TLS-ALPN-01 (RFC 8737).
const Protocol = "acme-tls/1"

// Certificate chooses for a client; nil where there is none for the name.
func (o *Orders) Certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	name := strings.ToLower(strings.TrimSuffix(hello.ServerName, "."))
	if slices.Equal(hello.SupportedProtos, []string{Protocol}) {
		o.mutex.Lock()
		_, known := o.wanted[name]
		o.mutex.Unlock()
		if !known {
			return nil, nil //nolint:nilnil // what crypto/tls asks for
		}
		return o.plain.GetCertificate(hello)
	}
	// The library would say "internal error" of a name without a certificate, and look for one
	// in the store; strangers who try names are to cost nothing.
	found := o.cache.AllMatchingCertificates(name)
	if len(found) == 0 {
		return nil, nil //nolint:nilnil // what crypto/tls asks for
	}
	return o.plain.GetCertificate(hello)
}

// Has reports whether there is a certificate for a host that is valid at a time.
func (o *Orders) Has(host string, now time.Time) bool {
	return slices.ContainsFunc(o.cache.AllMatchingCertificates(host), func(c certmagic.Certificate) bool {
		return c.Leaf != nil && now.Before(c.Leaf.NotAfter)
	})
}

// Orders reports whether a certificate for a host is wanted, whether or not there is one yet.
func (o *Orders) Orders(host string) bool {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	_, rest, _ := strings.Cut(host, ".")
	return o.wanted[host] != nil || o.wanted["*."+rest] != nil
}

// Serves reports whether a connection that was opened for a name may carry requests for a
// host: they have the same certificate.
func (o *Orders) Serves(name, host string) bool {
	if strings.EqualFold(name, host) {
		return true
	}
	hosts := o.cache.AllMatchingCertificates(host)
	return slices.ContainsFunc(o.cache.AllMatchingCertificates(name), func(c certmagic.Certificate) bool {
		return slices.ContainsFunc(hosts,
			func(other certmagic.Certificate) bool { return c.Hash() == other.Hash() })
	})
}

// State is how it is with the certificate of a name.
type State struct {
	Name  string
	Until time.Time // zero if there is none
	Why   error     // why there is none, or no newer one; nil while nothing went wrong
}

// List tells of all names that are wanted, in alphabetical order.
func (o *Orders) List() (list []State) {
	o.mutex.Lock()
	defer o.mutex.Unlock()
	for name, w := range o.wanted {
		s := State{Name: name, Why: w.why}
		for _, c := range o.cache.AllMatchingCertificates(name) {
			if c.Leaf != nil && c.Leaf.NotAfter.After(s.Until) {
				s.Until = c.Leaf.NotAfter
			}
		}
		list = append(list, s)
	}
	slices.SortFunc(list, func(a, b State) int { return strings.Compare(a.Name, b.Name) })
	return list
}

// Alarming reports whether a certificate ends so soon that somebody has to act.
func (s State) Alarming(now time.Time) bool {
	return !s.Until.IsZero() && s.Until.Sub(now) < names.EndsSoon && s.Why != nil
}
