// Package access decides who may look at what an environment serves: whoever sends
// its password (RFC 7617), or has a link that was shared.
//
//	Authorization: Basic …            the password, checked against a bcrypt hash
//	/.orilla/look/<secret>            a shared link, which sets a cookie and redirects
//	Cookie: orilla_look=<secret>      what the link left
//
// Passwords are kept as bcrypt hashes, links as digests, so that whoever reads a
// store learns neither. bcrypt is slow by intent; a Gate remembers which passwords
// were right, and tries only a few at once, so that guessing keeps no processor
// from serving.
package access

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/text/unicode/norm"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/journal"
)

// Cookie is the name of the cookie that a shared link leaves behind.
const Cookie = "orilla_look"

// LinkPath begins the path, below an environment's
// address, of links that open it: LinkPath + SECRET.
const LinkPath = "/.orilla/look/"

// What keeps a text from being a password.
var (
	ErrShort   = errors.New("is shorter than 8 characters")
	ErrLong    = errors.New("is longer than 72 bytes")
	ErrControl = errors.New("has control characters")
)

// Hash returns the bcrypt hash of a password in Unicode normal form C. The
// error is ErrShort, ErrLong or ErrControl.
func Hash(password string) (string, error) {
	password = norm.NFC.String(password)
	switch {
	case strings.ContainsFunc(password, func(c rune) bool { return c < ' ' || c == 0x7f }):
		return "", ErrControl
	case len([]rune(password)) < 8:
		return "", ErrShort
	case len(password) > 72: // bcrypt looks no further
		return "", ErrLong
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.DefaultCost)
	return string(hash), err
}

// Secret makes the secret part of a link: 26 letters and
// digits, 128 bits or more.
func Secret() string { return strings.ToLower(rand.Text()) }

// DigestOf returns what is kept of the secret part of a link.
func DigestOf(secret string) digest.Digest { return digest.Of([]byte("orilla look\n" + secret)) }

// passFor is how long a pass is good.
const passFor = 10 * time.Minute

// Pass makes a secret that opens an environment for ten minutes
// to whoever can read the store, such as a deploy that asks the
// edge whether a page is there. key is the random incarnation
// in the site's claim; now is by the store's clock.
func Pass(key, environment string, now time.Time) string {
	until := strconv.FormatInt(now.Add(passFor).Unix(), 10)
	return "p" + until + "." + sign(key, environment, until)
}

// sign returns the signature of a pass: HMAC-SHA256 (RFC 2104) under the random
// part of the site's claim, over the environment and the end of its time. A
// pass for one environment opens no other.
func sign(key, environment, until string) string {
	// The label keeps a signature for one purpose from being good for another.
	mac := hmac.New(sha256.New, []byte(key))
	fmt.Fprintf(mac, "orilla pass\n%s\n%s", environment, until) //nolint:errcheck // a hash takes everything
	return hex.EncodeToString(mac.Sum(nil))
}

// passes reports whether a secret is a pass that is still good, and until when.
func passes(secret, key, environment string, now time.Time) (time.Time, bool) {
	rest, ok := strings.CutPrefix(secret, "p")
	until, signature, both := strings.Cut(rest, ".")
	if !ok || !both || key == "" || !hmac.Equal([]byte(signature), []byte(sign(key, environment, until))) {
		return time.Time{}, false
	}
	seconds, err := strconv.ParseInt(until, 10, 64)
	end := time.Unix(seconds, 0)
	return end, err == nil && now.Before(end)
}

// Gate says who may look at one environment. It remembers which passwords were
// right, since looking takes long by intent. It is safe for concurrent use.
type Gate struct {
	lookings    []journal.Looking
	environment string // the stored name
	known       *sync.Map
}

// NewGate returns the gate of an environment, by its stored name; nil where
// everybody may look. Of several lookings, each one opens it.
func NewGate(environment string, lookings ...*journal.Looking) *Gate {
	g := &Gate{environment: environment, known: &sync.Map{}}
	protects := false
	for _, looking := range lookings {
		if looking != nil {
			g.lookings = append(g.lookings, *looking)
			protects = protects || looking.Protects()
		}
	}

	if !protects {
		return nil
	}
	return g
}

// Remember takes over what another gate has found to be right. Passwords are
// remembered with their hashes, so that none opens what it does not belong to.
func (g *Gate) Remember(other *Gate) {
	if g != nil && other != nil {
		g.known = other.known
	}
}

// Attempt is what a visitor shows to be let in.
type Attempt struct {
	Authorization string // the field's value
	Cookies       []*http.Cookie
	Client        netip.Prefix // who shows it, as far as that is known
	Key           string       // as Pass takes it
	Now           time.Time    // by the store's clock
}

// Admits reports whether a visitor may look. A nil gate admits everybody. guesses
// bounds what looking at passwords takes. The error is ErrTooMany if the password was
// not looked at, ErrWrong if it was and is wrong, or the context's.
func (g *Gate) Admits(ctx context.Context, a Attempt, guesses *Guesses) (bool, error) {
	if g == nil {
		return true, nil
	}
	for _, cookie := range a.Cookies {
		if cookie.Name == Cookie {
			if _, ok := g.Opens(cookie.Value, a.Key, a.Now); ok {
				return true, nil
			}
		}
	}
	user, password, ok := credentials(a.Authorization)
	if !ok {
		return false, nil
	}
	return g.right(ctx, user, password, a.Client, guesses)
}

// ErrWrong: a password was looked at, and is wrong.
var ErrWrong = errors.New("wrong password")

// Opens reports whether the secret part of a link opens
// the environment, and until when.
func (g *Gate) Opens(secret, key string, now time.Time) (time.Time, bool) {
	if until, ok := passes(secret, key, g.environment, now); ok {
		return until, true
	}
	d := DigestOf(secret)
	for _, looking := range g.lookings {
		for _, share := range looking.Shares {
			if share.Digest == d {
				return share.Until, now.Before(share.Until)
			}
		}
	}
	return time.Time{}, false
}

// right reports whether a password is one of those that open.
func (g *Gate) right(ctx context.Context, user, password string, client netip.Prefix, guesses *Guesses,
) (bool, error) {
	of := guess{password: norm.NFC.String(password)}
	var sums [][sha256.Size]byte
	all := sha256.New()
	for _, looking := range g.lookings {
		if looking.Protects() && (looking.User == "" || looking.User == user) {
			sum := sha256.Sum256([]byte(looking.Password + "\n" + of.password))
			// What was right once is not looked at again.
			if _, ok := g.known.Load(sum); ok {
				return true, nil
			}
			sums, of.hashes = append(sums, sum), append(of.hashes, looking.Password)
			all.Write(sum[:])
		}
	}

	all.Sum(of.sum[:0])
	right, err := guesses.look(ctx, client, of)
	switch {
	case err != nil:
		return false, err
	case right < 0:
		return false, ErrWrong
	}
	g.known.Store(sums[right], true)
	return true, nil
}

// credentials reads the value of an Authorization field (RFC 7617).
func credentials(authorization string) (user, password string, ok bool) {
	scheme, rest, ok := strings.Cut(authorization, " ")
	if !ok || !strings.EqualFold(scheme, "Basic") {
		return "", "", false
	}
	data, err := base64.StdEncoding.DecodeString(strings.TrimSpace(rest))
	if err != nil {
		return "", "", false
	}
	return strings.Cut(string(data), ":")
}

// Challenge is the value of WWW-Authenticate (RFC 7617, section 2.1) for a
// realm of letters, digits, blanks and slashes.
func Challenge(realm string) string { return fmt.Sprintf("Basic realm=%q, charset=\"UTF-8\"", realm) }
