package names

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
)

// That a name leads to an edge of a store is proved, and not guessed from numbers: an
// address may be that of a proxy in front, or of somebody else's node. Whoever can read the
// store sends a random text to the name; a node of the store answers with what only those
// who know the store's random id can compute.
//
//	GET /.orilla/proof/<nonce>  -->  {"proof":"<HMAC-SHA256>","secure":true}
//
// Strangers may ask too: of an id of 128 random bits they learn nothing.

// ProofPath begins the path of the challenge, at any host that a node answers for or not.
const ProofPath = "/.orilla/proof/"

// How long the random text of a challenge is, in characters.
const (
	NonceLeast = 16
	NonceMost  = 64
)

// ProofOf is how a node answers a challenge. The host is as the request had it, without its
// port: an answer for one name is none for another.
func ProofOf(store, host, nonce string) string {
	mac := hmac.New(sha256.New, []byte(store))
	fmt.Fprintf(mac, "orilla proof\n%s\n%s", host, nonce) //nolint:errcheck // a hash takes everything
	return hex.EncodeToString(mac.Sum(nil))
}

// IsNonce reports whether a text can be that of a challenge: letters and digits.
func IsNonce(text string) bool {
	for _, c := range []byte(text) {
		if (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			return false
		}
	}
	return len(text) >= NonceLeast && len(text) <= NonceMost
}

// ProofAnswer is the body of a node's answer.
type ProofAnswer struct {
	Proof  string `json:"proof"`  // hexadecimal
	Secure bool   `json:"secure"` // the node takes the request to have come over TLS
	// Orders says that the node has certificates issued for the host: one that is missing is
	// on its way.
	Orders bool `json:"orders,omitempty"`
	// Issuer is how the authority that it orders from calls itself in CAA records.
	Issuer string `json:"issuer,omitempty"`
}

// Holds reports whether an answer proves that a node of a store gave it.
func (a ProofAnswer) Holds(store, host, nonce string) bool {
	return store != "" && hmac.Equal([]byte(a.Proof), []byte(ProofOf(store, host, nonce)))
}
