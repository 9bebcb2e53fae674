// Package authority is a small certificate authority to try things with: it speaks ACME
// (RFC 8555) with the three usual challenges (HTTP-01, DNS-01, TLS-ALPN-01 of RFC 8737) and
// renewal information (RFC 9773), and signs with a key that nobody trusts.
//
//	directory --> account --> order --> authorizations --> finalize --> certificate
//	                                     challenges, which it really makes
//
// It is a stand-in: it keeps nothing when it ends, and knows no revocation, no account keys
// that change, and no bounds of how much may be ordered, unless a test gives it some.
package authority

import (
	"cmp"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"orilla.example/orilla/internal/nameservers"
)

// Identity is how the authority calls itself in CAA records.
const Identity = "ca.corvane.example"

// Authority answers requests below its Base. Its fields are set before the first.
type Authority struct {
	Base  string // https://HOST:PORT, without a final slash
	Asker *nameservers.Asker
	// HTTPPort and TLSPort are where challenges are made: 80 and 443 in the world.
	HTTPPort, TLSPort string
	// Lasts is how long certificates are valid; 0: 90 days, as most authorities have it.
	Lasts time.Duration
	// Tell is told of orders, challenges and certificates, from several goroutines; nil for nobody.
	Tell func(text string)
	// Fail may answer a request in the authority's place, as authorities do on bad days. step
	// is the first part of the path, such as new-order.
	Fail func(step string) *Problem

	own   own
	mutex sync.Mutex // of what follows, and of everything that is kept
	// nonces are those that nobody has used, and kept is everything else (accounts, orders,
	// authorizations, challenges, certificates) by its path.
	nonces map[string]bool
	kept   map[string]any
}

// own is the authority's own certificate, which it makes when it is first needed, and how
// many others it has signed.
type own struct {
	once    sync.Once
	root    *x509.Certificate
	key     *ecdsa.PrivateKey
	serials int64
}

// Problem is what is wrong with a request (RFC 7807, RFC 8555 section 6.7).
type Problem struct { //nolint:errname // what RFC 8555 calls it
	Type       string        `json:"type"`
	Detail     string        `json:"detail"`
	Status     int           `json:"status"`
	RetryAfter time.Duration `json:"-"`
}

// Error implements error.
func (p *Problem) Error() string { return p.Type + ": " + p.Detail }

// problem makes one.
func problem(status int, kind, format string, args ...any) *Problem {
	return &Problem{Type: "urn:ietf:params:acme:error:" + kind, Detail: fmt.Sprintf(format, args...),
		Status: status}
}

// Bounds: of a request, of the names in an order, and of what is kept. The stand-in forgets
// everything when that is full, rather than growing.
const (
	mostBody  = 64 << 10
	mostNames = 100
	mostKept  = 10_000
)

// What an authority keeps, as RFC 8555 section 7.1 names it: an account orders; an order has an
// authorization for each of its names; an authorization is proved by any one of its challenges;
// an order whose authorizations are all valid is ready, and becomes a certificate. Everything
// has an address, and only its own account sees it.

// account is who orders.
type account struct {
	key    *jose.JSONWebKey
	Status string `json:"status"`
	Orders string `json:"orders"`
}

// identifier is a name.
type identifier struct {
	Type  string `json:"type"`
	Value string `json:"value"`
}

// order is what was ordered.
type order struct {
	account        string
	Status         string       `json:"status"`
	Expires        time.Time    `json:"expires"`
	Identifiers    []identifier `json:"identifiers"`
	Authorizations []string     `json:"authorizations"`
	Finalize       string       `json:"finalize"`
	Certificate    string       `json:"certificate,omitempty"`
}

// authorization is what is to be proved of one name.
type authorization struct {
	account    string
	Status     string       `json:"status"`
	Expires    time.Time    `json:"expires"`
	Identifier identifier   `json:"identifier"`
	Challenges []*challenge `json:"challenges"`
	Wildcard   bool         `json:"wildcard,omitempty"`
}

// challenge is a way to prove it.
type challenge struct {
	of     *authorization
	Type   string   `json:"type"`
	URL    string   `json:"url"`
	Token  string   `json:"token"`
	Status string   `json:"status"`
	Error  *Problem `json:"error,omitempty"`
}

// prepare makes the authority's own certificate.
func prepare(a *Authority) {
	a.own.once.Do(func() {
		a.nonces, a.kept = map[string]bool{}, map[string]any{}
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			panic(err) // without randomness nothing works
		}
		template := &x509.Certificate{SerialNumber: big.NewInt(1),
			Subject:   pkix.Name{CommonName: "Orilla stand-in authority"},
			NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), IsCA: true,
			BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
		der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
		if err != nil {
			panic(err) // the template is ours
		}
		a.own.key = key
		a.own.root, _ = x509.ParseCertificate(der)
	})
}

// Root is the authority's certificate in PEM: whoever is to believe it trusts this.
func (a *Authority) Root() []byte {
	prepare(a)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: a.own.root.Raw})
}

// usualTime is how long certificates last where nothing was said.
const usualTime = 90 * 24 * time.Hour

// Certificate signs a certificate for names and addresses: the authority itself needs one too.
func (a *Authority) Certificate(public crypto.PublicKey, names []string) ([]byte, error) {
	prepare(a)
	lasts := cmp.Or(a.Lasts, usualTime)
	a.mutex.Lock()
	a.own.serials++
	serial := big.NewInt(time.Now().UnixNano() + a.own.serials)
	a.mutex.Unlock()
	template := &x509.Certificate{SerialNumber: serial,
		// Clocks may be behind, but hardly by much of what there is.
		NotBefore: time.Now().Add(-min(time.Minute, lasts/10)), NotAfter: time.Now().Add(lasts),
		KeyUsage:       x509.KeyUsageDigitalSignature,
		ExtKeyUsage:    []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		AuthorityKeyId: a.own.root.SubjectKeyId}
	for _, name := range names {
		if ip := net.ParseIP(name); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
			continue
		}
		template.DNSNames = append(template.DNSNames, name)
	}
	return x509.CreateCertificate(rand.Reader, template, a.own.root, public, a.own.key)
}

// tell tells what happened.
func tell(a *Authority, format string, args ...any) {
	if a.Tell != nil {
		a.Tell(fmt.Sprintf(format, args...))
	}
}

// ServeHTTP implements http.Handler.
func (a *Authority) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	prepare(a)
	// Every answer brings a nonce for the next request (RFC 8555, section 6.5).
	step, _, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	w.Header().Set("Link", "<"+a.Base+`/directory>;rel="index"`)
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Replay-Nonce", nonce(a))
	if a.Fail != nil {
		if p := a.Fail(step); p != nil {
			refuse(w, p)
			return
		}
	}
	switch {
	case step == "directory":
		answer(w, http.StatusOK, directory(a))
	case step == "new-nonce":
		w.WriteHeader(http.StatusNoContent)
	case step == "renewal-info" && r.Method == http.MethodGet:
		renewalInfo(a, w, r)
	case r.Method != http.MethodPost:
		refuse(w, problem(http.StatusMethodNotAllowed, "malformed", "ask with POST"))
	default:
		a.signed(w, r, step)
	}
}

// directory lists the addresses of everything (RFC 8555, section 7.1.1).
func directory(a *Authority) map[string]any {
	return map[string]any{"newNonce": a.Base + "/new-nonce", "newAccount": a.Base + "/new-account",
		"newOrder": a.Base + "/new-order", "renewalInfo": a.Base + "/renewal-info",
		"meta": map[string]any{"caaIdentities": []string{Identity}}}
}

// renewalInfo says when a certificate is to be renewed (RFC 9773, section 4): at the beginning
// of the last third of its time. Which one is meant is in the address, with its serial number;
// that begins with the moment in which it was signed.
func renewalInfo(a *Authority, w http.ResponseWriter, r *http.Request) {
	_, encoded, _ := strings.Cut(path.Base(r.URL.Path), ".")
	serial, err := base64.RawURLEncoding.DecodeString(encoded)
	if err != nil || len(serial) == 0 || len(serial) > 20 { // bytes, as RFC 5280 has it
		refuse(w, problem(http.StatusNotFound, "malformed", "no certificate has this identifier"))
		return
	}
	signed := time.Unix(0, new(big.Int).SetBytes(serial).Int64())
	lasts := cmp.Or(a.Lasts, usualTime)
	// Counted from its signing, and not from the question: who asks again and again would
	// otherwise never renew.
	start := signed.Add(lasts - lasts/3)
	// Clients count in seconds, and choose one of them.
	end := start.Add(max(lasts/20, 3*time.Second))
	w.Header().Set("Retry-After", "21600")
	answer(w, http.StatusOK, map[string]any{"suggestedWindow": map[string]time.Time{
		"start": start.UTC(), "end": end.UTC()}})
}

// answer writes JSON.
func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v) //nolint:errcheck,errchkjson // whoever asked has gone
}

// refuse writes a problem.
func refuse(w http.ResponseWriter, p *Problem) {
	if p.RetryAfter > 0 {
		w.Header().Set("Retry-After", fmt.Sprint(int(p.RetryAfter.Seconds())))
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p) //nolint:errcheck,errchkjson // whoever asked has gone
}

// nonce makes a nonce (RFC 8555, section 6.5).
func nonce(a *Authority) string {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if len(a.nonces) > mostKept {
		clear(a.nonces)
	}
	text := rand.Text()
	a.nonces[text] = true
	return text
}

// algorithms are those that accounts may sign with.
var algorithms = []jose.SignatureAlgorithm{jose.ES256, jose.ES384, jose.RS256, jose.EdDSA}

// request is a request that was signed by an account.
type request struct {
	account string // its address
	key     *jose.JSONWebKey
	payload []byte
}

// verified reads a signed request (RFC 8555, section 6.2).
func (a *Authority) verified(r *http.Request) (request, *Problem) {
	body, err := io.ReadAll(io.LimitReader(r.Body, mostBody))
	if err != nil {
		return request{}, problem(http.StatusBadRequest, "malformed", "cannot be read")
	}
	signed, err := jose.ParseSignedJSON(string(body), algorithms)
	if err != nil || len(signed.Signatures) != 1 {
		return request{}, problem(http.StatusBadRequest, "malformed", "not a signed request")
	}
	// Each of these is a way to be fooled: an old request sent again, one that was meant for
	// another address, one of an account that does not exist.
	header := signed.Signatures[0].Protected
	a.mutex.Lock()
	fresh := a.nonces[header.Nonce]
	delete(a.nonces, header.Nonce)
	known, _ := a.kept[strings.TrimPrefix(header.KeyID, a.Base)].(*account)
	a.mutex.Unlock()
	switch {
	case !fresh:
		return request{}, problem(http.StatusBadRequest, "badNonce", "the nonce was used, or is not ours")
	case header.ExtraHeaders["url"] != a.Base+r.URL.Path:
		return request{}, problem(http.StatusUnauthorized, "unauthorized", "signed for another address")
	}
	key := header.JSONWebKey
	if header.KeyID != "" {
		if known == nil {
			return request{}, problem(http.StatusBadRequest, "accountDoesNotExist", "no account %s",
				header.KeyID)
		}
		key = known.key
	}
	if key == nil || !key.Valid() {
		return request{}, problem(http.StatusBadRequest, "badPublicKey", "no key")
	}
	payload, err := signed.Verify(key)
	if err != nil {
		return request{}, problem(http.StatusUnauthorized, "unauthorized", "the signature is wrong")
	}
	return request{strings.TrimPrefix(header.KeyID, a.Base), key, payload}, nil
}

// signed answers a signed request.
func (a *Authority) signed(w http.ResponseWriter, r *http.Request, step string) {
	q, p := a.verified(r)
	if p != nil {
		refuse(w, p)
		return
	}
	// Only an account can be made with a key that is not known yet.
	if q.account == "" && step != "new-account" {
		refuse(w, problem(http.StatusUnauthorized, "unauthorized", "sign with the account"))
		return
	}
	switch step {
	case "new-account":
		a.newAccount(w, q)
		return
	case "new-order":
		p = a.newOrder(w, q)
	case "order", "authorization", "challenge", "finalize", "certificate":
		p = a.about(w, r, q, step)
	default:
		p = problem(http.StatusNotFound, "malformed", "nothing is there")
	}
	if p != nil {
		refuse(w, p)
	}
}

// keep keeps something under a new path.
func (a *Authority) keep(kind string, v any) string {
	if len(a.kept) > mostKept {
		clear(a.kept)
	}
	path := "/" + kind + "/" + strings.ToLower(rand.Text())
	a.kept[path] = v
	return path
}

// newAccount makes an account, or finds that of the key (RFC 8555, section 7.3).
func (a *Authority) newAccount(w http.ResponseWriter, q request) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	digest, _ := q.key.Thumbprint(crypto.SHA256)
	// The same key is the same account: whoever has lost its address finds it again.
	for path, v := range a.kept {
		if other, ok := v.(*account); ok {
			if its, err := other.key.Thumbprint(crypto.SHA256); err == nil && slices.Equal(digest, its) {
				w.Header().Set("Location", a.Base+path)
				answer(w, http.StatusOK, other)
				return
			}
		}
	}
	made := &account{key: q.key, Status: "valid"}
	path := a.keep("account", made)
	made.Orders = a.Base + path + "/orders"
	w.Header().Set("Location", a.Base+path)
	answer(w, http.StatusCreated, made)
}

// newOrder makes an order with an authorization for each name (RFC 8555, section 7.4).
func (a *Authority) newOrder(w http.ResponseWriter, q request) *Problem {
	var asked struct {
		Identifiers []identifier `json:"identifiers"`
	}
	if err := json.Unmarshal(q.payload, &asked); err != nil || len(asked.Identifiers) == 0 ||
		len(asked.Identifiers) > mostNames {
		return problem(http.StatusBadRequest, "malformed", "which names?")
	}
	a.mutex.Lock()
	defer a.mutex.Unlock()
	made := &order{account: q.account, Status: "pending", Expires: time.Now().Add(time.Hour).UTC(),
		Identifiers: asked.Identifiers}
	for _, id := range asked.Identifiers {
		// A wildcard is proved by its base name, and by DNS only (RFC 8555, section 7.1.3).
		name, wildcard := strings.CutPrefix(strings.ToLower(id.Value), "*.")
		if id.Type != "dns" || !strings.Contains(name, ".") || strings.Contains(name, "*") {
			return problem(http.StatusBadRequest, "rejectedIdentifier", "%s cannot be certified", id.Value)
		}
		authorized := &authorization{account: q.account, Status: "pending", Expires: made.Expires,
			Identifier: identifier{"dns", name}, Wildcard: wildcard}
		kinds := []string{"http-01", "tls-alpn-01", "dns-01"}
		if wildcard {
			kinds = kinds[2:]
		}
		for _, kind := range kinds {
			c := &challenge{of: authorized, Type: kind, Token: base64.RawURLEncoding.EncodeToString(
				[]byte(rand.Text())),
				Status: "pending"}
			c.URL = a.Base + a.keep("challenge", c)
			authorized.Challenges = append(authorized.Challenges, c)
		}
		made.Authorizations = append(made.Authorizations, a.Base+a.keep("authorization", authorized))
	}
	path := a.keep("order", made)
	made.Finalize = a.Base + strings.Replace(path, "/order/", "/finalize/", 1)
	w.Header().Set("Location", a.Base+path)
	answer(w, http.StatusCreated, made)
	tell(a, "order for %s", namesIn(made.Identifiers))
	return nil
}

// namesIn lists names.
func namesIn(ids []identifier) string {
	var list []string
	for _, id := range ids {
		list = append(list, id.Value)
	}
	return strings.Join(list, ", ")
}

// about answers about one thing that is kept, to whose it is.
func (a *Authority) about(w http.ResponseWriter, r *http.Request, q request, step string) *Problem {
	a.mutex.Lock()
	path := r.URL.Path
	if step == "finalize" {
		path = strings.Replace(path, "/finalize/", "/order/", 1)
	}
	v := a.kept[path]
	a.mutex.Unlock()
	gone := problem(http.StatusNotFound, "malformed", "nothing is there")
	switch v := v.(type) {
	case *order:
		if v.account != q.account {
			return gone
		}
		if step == "finalize" {
			if p := a.finalize(v, q); p != nil {
				return p
			}
			w.Header().Set("Location", a.Base+path)
		}
		a.mutex.Lock()
		defer a.mutex.Unlock()
		settle(a, v)
		answer(w, http.StatusOK, v)
	case *authorization:
		if v.account != q.account {
			return gone
		}
		a.mutex.Lock()
		defer a.mutex.Unlock()
		answer(w, http.StatusOK, v)
	case *challenge:
		if v.of.account != q.account {
			return gone
		}
		// An empty object says that the challenge is ready; nothing asks how it is.
		if len(q.payload) > 0 {
			a.validate(r.Context(), v, q)
		}
		a.mutex.Lock()
		defer a.mutex.Unlock()
		w.Header().Add("Link", "<"+v.URL+`>;rel="up"`)
		answer(w, http.StatusOK, v)
	case []byte:
		w.Header().Set("Content-Type", "application/pem-certificate-chain")
		w.Write(v) //nolint:errcheck // whoever asked has gone
	default:
		return gone
	}
	return nil
}

// settle says how an order is by how its authorizations are.
func settle(a *Authority, o *order) {
	if o.Status != "pending" {
		return
	}
	ready := true
	for _, address := range o.Authorizations {
		one, ok := a.kept[strings.TrimPrefix(address, a.Base)].(*authorization)
		switch {
		case !ok || one.Status == "invalid":
			o.Status = "invalid"
			return
		case one.Status != "valid":
			ready = false
		}
	}
	if ready {
		o.Status = "ready"
	}
}

// finalize signs the certificate of an order (RFC 8555, section 7.4).
func (a *Authority) finalize(o *order, q request) *Problem {
	a.mutex.Lock()
	settle(a, o)
	status := o.Status
	a.mutex.Unlock()
	if status != "ready" {
		return problem(http.StatusForbidden, "orderNotReady", "the order is %s", status)
	}
	var asked struct {
		CSR string `json:"csr"`
	}
	err := json.Unmarshal(q.payload, &asked)
	der, err2 := base64.RawURLEncoding.DecodeString(asked.CSR)
	csr, err3 := x509.ParseCertificateRequest(der)
	if err != nil || err2 != nil || err3 != nil || csr.CheckSignature() != nil {
		return problem(http.StatusBadRequest, "badCSR", "the request for a certificate cannot be read")
	}
	// What is signed is what was ordered: no name more, none less.
	var want []string
	for _, id := range o.Identifiers {
		want = append(want, id.Value)
	}
	got := slices.Clone(csr.DNSNames)
	slices.Sort(want)
	slices.Sort(got)
	if !slices.Equal(want, got) {
		return problem(http.StatusBadRequest, "badCSR", "it is for %s, and %s was ordered", strings.Join(
			got, ", "),
			strings.Join(want, ", "))
	}
	leaf, err := a.Certificate(csr.PublicKey, want)
	if err != nil {
		return problem(http.StatusInternalServerError, "serverInternal", "%s", err)
	}
	chain := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf}), a.Root()...)
	a.mutex.Lock()
	o.Certificate, o.Status = a.Base+a.keep("certificate", chain), "valid"
	a.mutex.Unlock()
	tell(a, "certificate for %s", strings.Join(want, ", "))
	return nil
}

// validate makes a challenge, and says what came of it.
func (a *Authority) validate(ctx context.Context, c *challenge, q request) {
	digest, err := q.key.Thumbprint(crypto.SHA256)
	if err != nil {
		return
	}
	a.mutex.Lock()
	pending := c.of.Status == "pending"
	a.mutex.Unlock()
	if !pending {
		return
	}
	// As long as it takes, but no longer than the client waits.
	limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	// Real authorities make it later, and the client asks again and again; here it is made at
	// once, which every client must be ready for.
	p := a.try(limited, c, c.Token+"."+base64.RawURLEncoding.EncodeToString(digest))
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if p == nil {
		c.Status, c.of.Status = "valid", "valid"
		tell(a, "%s for %s holds", c.Type, c.of.Identifier.Value)
		return
	}
	c.Status, c.of.Status, c.Error = "invalid", "invalid", p
	tell(a, "%s for %s fails: %s", c.Type, c.of.Identifier.Value, p.Detail)
}
