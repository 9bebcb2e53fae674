package notices

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"strconv"
	"time"
)

// Fields of a signed webhook, as the Standard Webhooks specification names them.
const (
	IDField        = "Webhook-Id"
	TimestampField = "Webhook-Timestamp"
	SignatureField = "Webhook-Signature"
)

// Sign signs a body as the Standard Webhooks specification says: HMAC-SHA256 over the id, the
// time in seconds and the body, with dots between them.
func Sign(secret []byte, id string, at time.Time, body []byte) string {
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(id + "." + strconv.FormatInt(at.Unix(), 10) + "."))
	mac.Write(body)
	return "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
}
