package follow_test

import (
	"encoding/hex"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/follow"
)

// TestWhoWakesMustKnowTheSecret sends calls that are
// signed well, badly and not at all.
func TestWhoWakesMustKnowTheSecret(t *testing.T) {
	t.Parallel()
	secret, body := []byte("the secret of the harbour"), `{"ref":"refs/heads/main"}`
	good := "sha256=" + hex.EncodeToString(follow.Sign(secret, []byte(body)))
	// RFC 4231, test case 2.
	assert.Equal(t, "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843",
		hex.EncodeToString(follow.Sign([]byte("Jefe"), []byte("what do ya want for nothing?"))))
	for name, call := range map[string]struct {
		method, field, signature, body string
		status                         int
	}{
		"as code hosts sign": {"POST", "X-Hub-Signature-256", good, body, 202},
		"as WebSub signs":    {"POST", "X-Hub-Signature", good, body, 202},
		"in capitals": {"POST", "X-Hub-Signature-256", "sha256=" + strings.ToUpper(good[7:]),
			body, 202},
		"not signed":    {"POST", "X-Other", good, body, 403},
		"another body":  {"POST", "X-Hub-Signature-256", good, body + " ", 403},
		"an older hash": {"POST", "X-Hub-Signature", "sha1=" + good[7:47], body, 403},
		"no hexadecimal digits": {"POST", "X-Hub-Signature-256", "sha256=" + strings.Repeat("z", 64), body,
			403},
		"an empty signature":   {"POST", "X-Hub-Signature-256", "sha256=", body, 403},
		"the beginning of one": {"POST", "X-Hub-Signature-256", good[:40], body, 403},
		"no body, signed": {"POST", "X-Hub-Signature-256",
			"sha256=" + hex.EncodeToString(follow.Sign(secret, nil)), "", 202},
		"another method": {"GET", "X-Hub-Signature-256", good, "", 405},
		"signed by another secret": {"POST", "X-Hub-Signature-256",
			"sha256=" + hex.EncodeToString(follow.Sign([]byte("x"), []byte(body))), body, 403},
	} {
		t.Run(name, func(t *testing.T) {
			woken, told := 0, 0
			wake := &follow.Webhook{Secret: secret, Notify: func() { woken++ },
				Told: func(_ string, status int) { told = status }}
			request := httptest.NewRequest(call.method, "/", strings.NewReader(call.body))
			request.Header.Set(call.field, call.signature)
			answer := httptest.NewRecorder()
			wake.ServeHTTP(answer, request)
			assert.Equal(t, call.status, answer.Code, name)
			assert.Equal(t, call.status, told, name)
			assert.Equal(t, call.status == http.StatusAccepted, woken == 1, name)
		})
	}
}
