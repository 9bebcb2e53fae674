package authority

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"encoding/asn1"
	"encoding/base64"
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/names"
	"orilla.example/orilla/internal/nameservers"
)

// try makes a challenge: what is expected is the token with the thumbprint of the account's
// key (RFC 8555, section 8.1). First it looks whether it may issue at all (RFC 8659).
func (a *Authority) try(ctx context.Context, c *challenge, expected string) *Problem {
	name := c.of.Identifier.Value
	records, at, err := a.Asker.CAA(ctx, name)
	// That CAA cannot be looked up forbids it too (RFC 8659, section 4.1).
	switch {
	case err != nil:
		return problem(http.StatusBadRequest, "dns", "CAA of %s cannot be looked up: %s", name, err)
	case names.Forbids(records, Identity, c.of.Wildcard):
		return problem(http.StatusForbidden, "caa", "CAA records at %s forbid it", at)
	}
	switch c.Type {
	case "dns-01":
		return a.overDNS(ctx, name, expected)
	case "tls-alpn-01":
		return a.overTLS(ctx, name, expected)
	}
	return a.overHTTP(ctx, name, c.Token, expected)
}

// Each challenge ends within seconds, whatever the other side does: it does not answer, answers
// for ever, or leads round in circles.

// address finds where a name leads, at a server of its zone: authorities keep no answers for
// long, and a record that was just set counts.
func (a *Authority) address(ctx context.Context, name string) (string, *Problem) {
	_, servers, err := a.Asker.Zone(ctx, name)
	if err != nil || len(servers) == 0 {
		return "", problem(http.StatusBadRequest, "dns", "no server has %s", name)
	}
	said := a.Asker.Said(ctx, servers[0], name)
	if said.Outcome != names.Answers {
		return "", problem(http.StatusBadRequest, "dns", "%s has no address (%s)", name, said.Outcome)
	}
	return said.Addresses[0].String(), nil
}

// overHTTP asks for the token over HTTP (RFC 8555, section 8.3). Redirects are followed, as
// authorities do.
func (a *Authority) overHTTP(ctx context.Context, name, token, expected string) *Problem {
	ip, p := a.address(ctx, name)
	if p != nil {
		return p
	}
	client := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true,
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort(ip, a.HTTPPort))
		}}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet,
		"http://"+name+"/.well-known/acme-challenge/"+token, nil)
	if err != nil {
		return problem(http.StatusBadRequest, "malformed", "%s", err)
	}
	response, err := client.Do(request)
	if err != nil {
		return problem(http.StatusBadRequest, "connection", "%s", err)
	}
	defer response.Body.Close() //nolint:errcheck // read
	// The answer is short; whatever is longer is another one.
	const most = 1024
	body, _ := io.ReadAll(io.LimitReader(response.Body, most))
	if response.StatusCode != http.StatusOK || strings.TrimSpace(string(body)) != expected {
		return problem(http.StatusForbidden, "unauthorized", "http://%s answers %s with something else",
			name, response.Status)
	}
	return nil
}

// identifierExtension is where a certificate for TLS-ALPN-01 has its answer (RFC 8737,
// section 3).
var identifierExtension = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 31}

// overTLS makes a handshake for the name that asks for nothing but the answer (RFC 8737).
func (a *Authority) overTLS(ctx context.Context, name, expected string) *Problem {
	ip, p := a.address(ctx, name)
	if p != nil {
		return p
	}
	dialer := &tls.Dialer{NetDialer: &net.Dialer{Timeout: 5 * time.Second},
		Config: &tls.Config{ServerName: name,
			NextProtos:         []string{"acme-tls/1"},
			InsecureSkipVerify: true}} //nolint:gosec // it is signed by itself
	conn, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(ip, a.TLSPort))
	if err != nil {
		return problem(http.StatusBadRequest, "connection", "%s", err)
	}
	defer conn.Close()                          //nolint:errcheck // nothing was sent
	state := conn.(*tls.Conn).ConnectionState() //nolint:forcetypeassert // tls.Dialer makes no others
	sum := sha256.Sum256([]byte(expected))
	for _, extension := range state.PeerCertificates[0].Extensions {
		var found []byte
		if extension.Id.Equal(identifierExtension) && state.NegotiatedProtocol == "acme-tls/1" {
			if _, err := asn1.Unmarshal(extension.Value, &found); err == nil &&
				subtle.ConstantTimeCompare(found, sum[:]) == 1 {
				return nil
			}
		}
	}
	return problem(http.StatusForbidden, "unauthorized", "%s shows another certificate", name)
}

// overDNS looks for the answer in a TXT record (RFC 8555, section 8.4), at a server of the
// zone that has it: a CNAME may lead to another.
func (a *Authority) overDNS(ctx context.Context, name, expected string) *Problem {
	sum := sha256.Sum256([]byte(expected))
	want := `"` + base64.RawURLEncoding.EncodeToString(sum[:]) + `"`
	at := names.ChallengeName(name)
	const hops = 8
	for range hops {
		_, servers, err := a.Asker.Zone(ctx, at)
		if err != nil || len(servers) == 0 {
			return problem(http.StatusBadRequest, "dns", "no server has %s", at)
		}
		found, next, p := a.text(ctx, servers[0], at)
		if p != nil {
			return p
		}
		for _, r := range found {
			if r.Value == want {
				return nil
			}
		}
		if next == "" {
			return problem(http.StatusForbidden, "unauthorized", "%s has no TXT record with the answer", at)
		}
		at = next
	}
	return problem(http.StatusBadRequest, "dns", "CNAME records of %s lead on and on", name)
}

// text asks for TXT records, or where a CNAME leads.
func (a *Authority) text(ctx context.Context, server nameservers.Server, at string) (found []names.Record,
	next string,
	p *Problem) {
	found, err := a.Asker.Records(ctx, server.At.String(), at, "TXT", false)
	if err != nil {
		return nil, "", problem(http.StatusBadRequest, "dns", "%s", err)
	}
	alias, err := a.Asker.Records(ctx, server.At.String(), at, "CNAME", false)
	if err == nil && len(alias) > 0 {
		next = strings.TrimSuffix(alias[0].Value, ".")
	}
	return found, next, nil
}
