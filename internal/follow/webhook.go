package follow

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"strings"
)

// maxWebhookBody bounds the body of a call, in bytes: code hosts send at most
// 25 MiB.
const maxWebhookBody = 25 << 20

// signatureFields are where a wake-up's signature may be: that of W3C WebSub,
// and the one that code hosts send.
var signatureFields = []string{"X-Hub-Signature-256", "X-Hub-Signature"}

// Webhook is an HTTP handler for calls which say that a repository has
// something new:
//
//	POST / HTTP/1.1
//	X-Hub-Signature-256: sha256=<HMAC-SHA256 of the body, RFC 2104, in hex>
//
//	{"ref":"refs/heads/main"}
//
// The body may say anything, as long as it is signed with the shared secret
// (W3C WebSub, section 8); older senders name the field X-Hub-Signature. A call
// carries no authority over what is built: it only makes the follower fetch
// sooner than it would have. A handler is safe for concurrent use.
type Webhook struct {
	Secret []byte // shared with the sender; at least 16 bytes
	Notify func()
	Told   func(remote string, status int) // of each call; may be nil
}

// ServeHTTP implements http.Handler.
func (w *Webhook) ServeHTTP(out http.ResponseWriter, request *http.Request) {
	status, text := w.answer(out, request)
	out.Header().Set("Content-Type", "text/plain; charset=utf-8")
	out.Header().Set("Cache-Control", "no-store")
	out.WriteHeader(status)
	io.WriteString(out, text+"\n") //nolint:errcheck // nobody to tell
	if w.Told != nil {
		w.Told(request.RemoteAddr, status)
	}
}

// answer checks the signature of a call, and wakes if it is good.
func (w *Webhook) answer(out http.ResponseWriter, request *http.Request) (int, string) {
	if request.Method != http.MethodPost {
		out.Header().Set("Allow", http.MethodPost)
		return http.StatusMethodNotAllowed, "send a signed POST"
	}
	body, err := io.ReadAll(http.MaxBytesReader(out, request.Body, maxWebhookBody))
	if err != nil {
		return http.StatusRequestEntityTooLarge, "the body is too long or incomplete"
	}

	for _, field := range signatureFields {
		given, isSHA256 := strings.CutPrefix(request.Header.Get(field), "sha256=")
		if !isSHA256 {
			continue
		}
		sum, err := hex.DecodeString(given)
		if err == nil && hmac.Equal(sum, Sign(w.Secret, body)) {
			w.Notify()
			return http.StatusAccepted, "looking"
		}
	}

	return http.StatusForbidden, "the signature is missing or wrong"
}

// Sign returns the HMAC-SHA256 of a body.
func Sign(secret, body []byte) []byte {
	mac := hmac.New(sha256.New, secret)
	mac.Write(body)
	return mac.Sum(nil)
}
