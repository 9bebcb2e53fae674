package follow

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"strings"
)

// maxWake is how long the body of a wake-up may be, in bytes.
const maxWake = 25 << 20

// signatureFields are where a wake-up's signature may be: that of W3C WebSub,
// and the one that code hosts send.
var signatureFields = []string{"X-Hub-Signature-256", "X-Hub-Signature"}

// Wake answers calls that say that a repository has something new. A
// call is a POST whose body, of any content, is signed: the field
// X-Hub-Signature or X-Hub-Signature-256 holds "sha256=" and the
// HMAC-SHA256 (RFC 2104) of the body in hexadecimal digits (W3C
// WebSub, section 8). It carries no authority: whoever is woken looks
// for himself. wake is called for each good call and must not block.
type Wake struct {
	Secret []byte
	Wake   func()
	Told   func(remote string, status int) // of each call; may be nil
}

// ServeHTTP implements http.Handler.
func (w *Wake) ServeHTTP(out http.ResponseWriter, request *http.Request) {
	status, text := w.answer(out, request)
	out.Header().Set("Content-Type", "text/plain; charset=utf-8")
	out.Header().Set("Cache-Control", "no-store")
	out.WriteHeader(status)
	io.WriteString(out, text+"\n") //nolint:errcheck // nobody to tell
	if w.Told != nil {
		w.Told(request.RemoteAddr, status)
	}
}

func (w *Wake) answer(out http.ResponseWriter, request *http.Request) (int, string) {
	if request.Method != http.MethodPost {
		out.Header().Set("Allow", http.MethodPost)
		return http.StatusMethodNotAllowed, "send a signed POST"
	}
	body, err := io.ReadAll(http.MaxBytesReader(out, request.Body, maxWake))
	if err != nil {
		return http.StatusRequestEntityTooLarge, "the body is too long, or did not arrive"
	}

	for _, field := range signatureFields {
		given, isSHA256 := strings.CutPrefix(request.Header.Get(field), "sha256=")
		if !isSHA256 {
			continue
		}
		sum, err := hex.DecodeString(given)
		if err == nil && hmac.Equal(sum, Sign(w.Secret, body)) {
			w.Wake()
			return http.StatusAccepted, "looking"
		}
	}

	return http.StatusForbidden, "the signature is missing or wrong"
}

// Sign returns the HMAC-SHA256 of a body.
func Sign(secret, body []byte) []byte {
	mac := hmac.New(sha256.New, secret)
	mac.Write(body) //nolint:errcheck // a hash never fails
	return mac.Sum(nil)
}
