// Package sealed keeps secrets where others can read and write: private keys of
// certificates lie in a store that every deployer can read, and only nodes can open them.
//
//	secret, err := sealed.Parse(file)              // what all nodes have, and the store does not
//	record, err := secret.Seal(place, 7, key)      // XChaCha20-Poly1305
//	key, generation, err := secret.Open(place, record)
//
// A record is bound to its place: the store's random id and a name. One that was moved to
// another name, or comes from another store, does not open. Each has a generation, which is
// bound too, so that whoever has seen a later one knows an older one when it is put back.
//
// The key of the cipher is derived from the secret by HKDF (RFC 5869) for each store; the
// nonce of 192 bits is random, so any number of records may be sealed.
package sealed

import (
	"bufio"
	"bytes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"

	"orilla.example/orilla/internal/core/canon"
)

// Format is the version of the records.
const Format = 1

// prefix begins a line with a secret.
const prefix = "orilla-secret-1:"

// secretSize is how many random bytes a secret has.
const secretSize = 32

// Errors that callers decide on.
var (
	// ErrSecret: a text is not the file of a secret.
	ErrSecret = errors.New("not a secret")
	// ErrUnreadable: a record is of another version, or not one.
	ErrUnreadable = errors.New("cannot be read")
	// ErrClosed: a record was sealed with another secret, for another place, or was changed.
	ErrClosed = errors.New("cannot be opened: it was sealed with another secret, for another place, " +
		"or was changed since")
)

// Secret opens and seals. It is safe for concurrent use.
type Secret struct{ keys [][]byte }

// New makes a secret, as the text of a file.
func New() string {
	data := make([]byte, secretSize)
	rand.Read(data)
	return prefix + base64.RawURLEncoding.EncodeToString(data) + "\n"
}

// Parse reads the file of a secret. It may hold several, a line each: the first seals, and
// all of them open, so that a secret can be replaced. Lines that begin with # are comments.
// The error is ErrSecret; it never says what stood in the file.
func Parse(data []byte) (*Secret, error) {
	s := &Secret{}
	lines := bufio.NewScanner(bytes.NewReader(data))
	for number := 1; lines.Scan(); number++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		text, ok := strings.CutPrefix(line, prefix)
		key, err := base64.RawURLEncoding.DecodeString(text)
		if !ok || err != nil || len(key) != secretSize {
			return nil, fmt.Errorf("%w: line %d does not begin with %s, or is cut short", ErrSecret, number,
				prefix)
		}
		s.keys = append(s.keys, key)
	}
	if len(s.keys) == 0 {
		return nil, fmt.Errorf("%w: it is empty", ErrSecret)
	}
	return s, nil
}

// Place is where a record belongs.
type Place struct {
	Store string // the random id of the store
	Name  string
}

// record is what is kept.
type record struct {
	Format     int    `json:"format"`
	Generation int64  `json:"generation"` // from 1
	Nonce      []byte `json:"nonce"`
	Sealed     []byte `json:"sealed"`
}

// bound is what a record is bound to besides its content.
func (p Place) bound(generation int64) []byte {
	return fmt.Appendf(nil, "orilla sealed %d\n%d\n%s\n%s", Format, generation, p.Store, p.Name)
}

// aead is the cipher of a secret for a store.
func aead(key []byte, store string) (cipher.AEAD, error) {
	derived, err := hkdf.Key(sha256.New, key, nil, "orilla sealed "+store, chacha20poly1305.KeySize)
	if err != nil {
		return nil, err
	}
	return chacha20poly1305.NewX(derived)
}

// Seal makes the record of a place. The generation is above that of the one before.
func (s *Secret) Seal(at Place, generation int64, data []byte) ([]byte, error) {
	c, err := aead(s.keys[0], at.Store)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, chacha20poly1305.NonceSizeX)
	rand.Read(nonce)
	return canon.Marshal(record{Format, generation, nonce, c.Seal(nil, nonce, data, at.bound(generation))})
}

// Open opens the record of a place. The error is ErrUnreadable or ErrClosed.
func (s *Secret) Open(at Place, sealed []byte) (data []byte, generation int64, err error) {
	var r record
	if err := canon.Unmarshal(sealed, &r); err != nil || r.Format != Format ||
		len(r.Nonce) != chacha20poly1305.NonceSizeX {
		return nil, 0, fmt.Errorf("a sealed record %w: %w", ErrUnreadable, canon.Cause(err))
	}
	for _, key := range s.keys {
		c, err := aead(key, at.Store)
		if err != nil {
			return nil, 0, err
		}
		if data, err := c.Open(nil, r.Nonce, r.Sealed, at.bound(r.Generation)); err == nil {
			return data, r.Generation, nil
		}
	}
	return nil, 0, ErrClosed
}
