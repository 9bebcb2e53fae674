package inbox

import (
	"bytes"
	"crypto/hmac"
	"encoding/json"
	"io"
	"net/http"
	"strconv"
	"time"

	"orilla.example/orilla/internal/core/notices"
)

// tolerance is how old, or early, a signed webhook may be.
const tolerance = 5 * time.Minute

// It checks what a receiver of one's own should check, in the same order, so that one can see that a
// secret is the right one before anything depends on it.

// Webhook takes webhooks: any POST. What is not signed as it should be is kept too, and refused.
func (b *Box) Webhook() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostBytes))
		if err != nil {
			http.Error(w, "it is too long, or was cut short", http.StatusRequestEntityTooLarge)
			return
		}
		time.Sleep(b.Trouble.Slow)
		switch {
		case b.Trouble.Reject:
			http.Error(w, "this is not wanted here", http.StatusUnprocessableEntity)
			return
		case b.Trouble.Refuse:
			http.Error(w, "try again later", http.StatusServiceUnavailable)
			return
		}
		item := Item{ID: r.Header.Get(notices.IDField), To: r.URL.Path, Raw: string(body)}
		var event struct{ Data struct{ Title string } }
		if json.Unmarshal(body, &event) == nil {
			item.Title = event.Data.Title
		}
		var indented bytes.Buffer
		if json.Indent(&indented, body, "", "  ") == nil {
			item.Text = indented.String()
		}
		if item.Title == "" {
			item.Title = "not an event"
		}
		item.Note, item.Bad = b.verify(r, body)
		b.add(item)
		if item.Bad {
			http.Error(w, item.Note, http.StatusForbidden)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	})
}

// verify says whether a webhook is signed as it should be.
func (b *Box) verify(r *http.Request, body []byte) (note string, bad bool) {
	if len(b.Secret) == 0 {
		return "signature not checked", false
	}
	seconds, err := strconv.ParseInt(r.Header.Get(notices.TimestampField), 10, 64)
	at := time.Unix(seconds, 0)
	if err != nil || time.Since(at).Abs() > tolerance {
		return "the time is missing, or far away", true
	}
	want := notices.Sign(b.Secret, r.Header.Get(notices.IDField), at, body)
	if !hmac.Equal([]byte(want), []byte(r.Header.Get(notices.SignatureField))) {
		return "the signature is missing or wrong", true
	}
	return "signature is good", false
}
