// Package digest names bytes by their SHA-256 (FIPS 180-4).
//
//	d := digest.Of([]byte("Corvane"))
//	d.Key() // "objects/<first two digits>/<all 64 digits>"
//
// The first two digits make a folder of their own, so that a store of a million
// objects has 256 folders with some four thousand names each.
package digest

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
)

// Size is the length of a digest in bytes.
const Size = sha256.Size

// Digest is the SHA-256 of some bytes. Its text form is 64
// lower-case hexadecimal digits.
type Digest [Size]byte

// Of returns the digest of data.
func Of(data []byte) Digest { return sha256.Sum256(data) }

// Parse reads the text form. Upper-case digits are
// refused, so that a digest has one spelling.
//
// Capital letters are refused: a digest has one spelling, so that keys can be
// compared as texts.
func Parse(text string) (Digest, error) {
	var d Digest
	if len(text) != hex.EncodedLen(Size) {
		return d, fmt.Errorf("a digest has %d hexadecimal digits, not %d", hex.EncodedLen(Size), len(text))
	}
	for i := range len(text) {
		if c := text[i]; (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return d, fmt.Errorf("a digest has lower-case hexadecimal digits, not %q", c)
		}
	}
	_, err := hex.Decode(d[:], []byte(text))
	return d, err
}

// String returns the text form.
func (d Digest) String() string { return hex.EncodeToString(d[:]) }

// IsZero reports whether d was never set.
func (d Digest) IsZero() bool { return d == Digest{} }

// MarshalText gives the text form; an unset digest gives the empty text.
func (d Digest) MarshalText() ([]byte, error) {
	if d.IsZero() {
		return nil, nil
	}
	return []byte(d.String()), nil
}

// UnmarshalText reads what MarshalText wrote.
func (d *Digest) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*d = Digest{}
		return nil
	}
	parsed, err := Parse(string(text))
	if err == nil {
		*d = parsed
	}
	return err
}

// Key is where the object of this digest lives in a store:
// objects/<first two digits>/<digest>.
func (d Digest) Key() string {
	text := d.String()
	return "objects/" + text[:2] + "/" + text
}

// FromKey returns the digest of the object that a key of a store names; false
// for the key of anything else.
func FromKey(key string) (Digest, bool) {
	const folder = len("objects/aa/")
	if len(key) < folder {
		return Digest{}, false
	}
	d, err := Parse(key[folder:])
	return d, err == nil && d.Key() == key
}

// Short names what several texts say together, in 16 hexadecimal digits: for
// the names of files in a cache.
func Short(texts ...string) string {
	d := Of([]byte(strings.Join(texts, "\x00")))
	return hex.EncodeToString(d[:8])
}
