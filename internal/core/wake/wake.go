// Package wake is what is said between whoever writes a journal and the edge nodes: "look
// now", and what a node serves then.
//
//	deployer  --- Call, signed with the site's key --->  node looks at its journals
//	deployer  <-- Answer, signed by the node -----------
//
// A call brings nothing to serve. It says where to look, and the node believes what it finds
// in the store and nothing else, so one that is forged, late or repeated costs a look at
// most. The key follows from the random part of the site's claim, which whoever can read
// the store knows, and nobody else. What travels is no secret, but for who may say it.
//
// An answer is signed with a key of the node's own (Ed25519, RFC 8032), which its record in
// the store tells. A node without a record, or with another key than is expected, is one
// that nobody knows: what it says is shown, and counts for nothing.
package wake

import (
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/visits"
)

// Path is where a node is called, with POST.
const Path = "/.orilla/wake"

// SignatureField is the header field of both signatures: of a call in hex, of an answer in
// base64.
const SignatureField = "Orilla-Signature"

// Format is the version of both messages. They are read leniently: what a later program says
// besides is passed over.
const Format = 1

// MaxCall is how long a call may be, in bytes, and MaxLook how many environments it may name.
const (
	MaxCall = 16 << 10
	MaxLook = 100
)

// Late is how far the time of a call may be from the node's, both by the store's clock.
const Late = 2 * time.Minute

// Errors that callers decide on.
var (
	ErrMalformed = errors.New("cannot be read")
	ErrForged    = errors.New("is not signed with the site's key")
	ErrLate      = errors.New("is too old, or of a clock that is wrong")
)

// Call asks a node to look.
type Call struct {
	Format int       `json:"format"`
	Site   string    `json:"site"`
	Nonce  string    `json:"nonce"` // random: the answer is signed with it
	Sent   time.Time `json:"sent"`  // by the store's clock
	// Look names environments, by their stored names, with the number of the last entry as
	// the caller knows it. A node that serves it, or a later one, does not look again; with 0
	// it only tells what it serves.
	Look map[string]int64 `json:"look,omitempty"`
	// Coming is the id of a release that may be live in a moment, in hex: the node fetches
	// what is new of it.
	Coming string `json:"coming,omitempty"`
}

// NewCall returns a call for a site.
func NewCall(site string, now time.Time) Call {
	return Call{Format: Format, Site: site, Nonce: strings.ToLower(rand.Text()),
		Sent: now.UTC().Truncate(time.Millisecond)}
}

// Sign returns the bytes to send, and their signature.
func (c Call) Sign(incarnation string) (body []byte, signature string, err error) {
	body, err = json.Marshal(c)
	return body, hex.EncodeToString(sum(incarnation, body)), err
}

// sum is the signature of a call: HMAC-SHA256 of "orilla wake", a newline and the body, under
// the random part of the site's claim.
func sum(incarnation string, body []byte) []byte {
	mac := hmac.New(sha256.New, []byte(incarnation))
	mac.Write([]byte("orilla wake\n"))
	mac.Write(body)
	return mac.Sum(nil)
}

// SiteOf returns whose site a call says it is for, before its signature can be checked.
func SiteOf(body []byte) (string, error) {
	c, err := decode(body)
	return c.Site, err
}

// decode reads a call, and checks its bounds.
func decode(body []byte) (Call, error) {
	var c Call
	if err := json.Unmarshal(body, &c); err != nil {
		return c, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	const longest = 64 // a nonce, and a release
	if c.Format != Format || c.Site == "" || c.Nonce == "" || len(c.Nonce) > longest ||
		len(c.Coming) > longest || len(c.Look) > MaxLook || len(body) > MaxCall {
		return c, ErrMalformed
	}
	return c, nil
}

// The time is compared after the signature: a stranger learns nothing of the node's clock. A
// call that is repeated within that time is a look that finds nothing, which becomes rare by
// itself; so no nonce is remembered.

// Open reads a call that came with a signature. now is by the store's clock.
func Open(body []byte, signature, incarnation string, now time.Time) (Call, error) {
	c, err := decode(body)
	if err != nil {
		return c, err
	}
	given, err := hex.DecodeString(signature)
	if err != nil || incarnation == "" || !hmac.Equal(given, sum(incarnation, body)) {
		return c, ErrForged
	}
	if off := now.Sub(c.Sent); off > Late || off < -Late {
		return c, ErrLate
	}
	return c, nil
}

// Answer is what a node says when it was called.
type Answer struct {
	Format  int    `json:"format"`
	Node    string `json:"node"` // as in its record
	Region  string `json:"region,omitempty"`
	Version string `json:"version,omitempty"`
	State   string `json:"state"`
	// Since is when the store last answered, of a node that is without it.
	Since *time.Time `json:"since,omitempty"`
	// Serves is what it serves, by the stored names that the call had; what it does not know
	// is left out.
	Serves map[string]Serving `json:"serves,omitempty"`
	// Cache is what it keeps on disk; nil for nothing.
	Cache *Cache `json:"cache,omitempty"`
	// Fetched is what it fetched of a release that comes; nil if it was not asked to.
	Fetched *Fetched `json:"fetched,omitempty"`
}

// Serving is what one environment serves at a node.
type Serving struct {
	Entry   int64  `json:"entry"`
	Attempt string `json:"attempt"` // of the entry: two stores may have the same numbers
	Release string `json:"release,omitempty"`
	// Milliseconds is how long the look took that this call caused; 0 if it caused none.
	Milliseconds float64 `json:"milliseconds,omitempty"`
	// Why is what keeps it from serving a later entry; "" for nothing.
	Why string `json:"why,omitempty"`
	// Visitors is what visitors got since it serves the entry, and Usual what those before got.
	Visitors *visits.Counted `json:"visitors,omitempty"`
	Usual    *visits.Counted `json:"usual,omitempty"`
}

// Cache is how full a node's cache is.
type Cache struct {
	Bytes int64 `json:"bytes"`
	Most  int64 `json:"most"`
}

// Fetched is what a node fetched before it is asked for.
type Fetched struct {
	Files        int     `json:"files"`
	Bytes        int64   `json:"bytes"`
	Whole        bool    `json:"whole"` // all that is new, and not just what bounds allowed
	Milliseconds float64 `json:"milliseconds"`
}

// signed is what a node signs: "orilla awake", the nonce of the call, each with a newline,
// and the body.
func signed(nonce string, body []byte) []byte {
	return append([]byte("orilla awake\n"+nonce+"\n"), body...)
}

// Sign returns the bytes to answer with, and their signature.
func (a Answer) Sign(key ed25519.PrivateKey, nonce string) (body []byte, signature string, err error) {
	a.Format = Format
	if body, err = json.Marshal(a); err != nil {
		return nil, "", err
	}
	body = append(body, '\n')
	return body, base64.StdEncoding.EncodeToString(ed25519.Sign(key, signed(nonce, body))), nil
}

// Read reads an answer to a call with a nonce, and reports whether it is signed with a
// public key, as FormatKey writes it.
func Read(body []byte, signature, nonce, public string) (a Answer, proved bool, err error) {
	if err := json.Unmarshal(body, &a); err != nil || a.Format != Format {
		return a, false, fmt.Errorf("%w: no answer of an edge node", ErrMalformed)
	}
	key, err := ParseKey(public)
	if err != nil {
		return a, false, nil //nolint:nilerr // it is one that nobody knows
	}
	given, err := base64.StdEncoding.DecodeString(signature)
	return a, err == nil && ed25519.Verify(key, signed(nonce, body), given), nil
}

// keyPrefix begins public keys in text.
const keyPrefix = "ed25519:"

// FormatKey writes a public key as records and orilla.yaml have it.
//
//	ed25519:8h0vW8C5c2rP…=
func FormatKey(key ed25519.PublicKey) string {
	return keyPrefix + base64.StdEncoding.EncodeToString(key)
}

// ParseKey reads a public key.
func ParseKey(text string) (ed25519.PublicKey, error) {
	encoded, ok := strings.CutPrefix(text, keyPrefix)
	key, err := base64.StdEncoding.DecodeString(encoded)
	if !ok || err != nil || len(key) != ed25519.PublicKeySize {
		return nil, fmt.Errorf("%w: a key is %s and %d bytes in base64", ErrMalformed, keyPrefix,
			ed25519.PublicKeySize)
	}
	return key, nil
}
