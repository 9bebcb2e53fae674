package courier

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/project"
)

// The receiver has to know three things: that this is from us, that it is not an old one sent again,
// and whether it had it before. The signature tells the first, the signed time the second, and the
// id, which is the same for the same event, the third.
//
// An answer that the event itself is not wanted ends it. All others may be about the receiver:
// a wrong secret, a service that is being moved, a proxy on the way. People mend these, so they
// are tried again.

// webhook sends events by POST.
type webhook struct {
	options Options
	notice  project.Notice
}

// client follows no redirects: what is signed is for the address that orilla.yaml names. It keeps
// no connection: what the other side sends on one that waits is nobody's.
var client = &http.Client{
	Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, DisableKeepAlives: true,
		ForceAttemptHTTP2: true},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// shortest is how short a secret may be, in bytes: 128 bits.
const shortest = 16

// secret returns what requests are signed with.
func (w *webhook) secret() ([]byte, error) {
	value, ok := w.options.lookup(w.notice.Secret)
	switch {
	case !ok || value == "":
		return nil, missing{w.notice.Secret}
	case len(value) < shortest:
		return nil, fmt.Errorf("%s is shorter than %d characters", w.notice.Secret, shortest)
	}
	return []byte(value), nil
}

// send implements sender.
func (w *webhook) send(ctx context.Context, event notices.Event) error {
	secret, err := w.secret()
	if err != nil {
		return err
	}
	body, err := event.Encode()
	if err != nil {
		return refusal{err}
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, w.notice.Webhook, bytes.NewReader(body))
	if err != nil {
		return err
	}
	now := w.options.Now()
	request.Header.Set("Content-Type", notices.MediaType)
	request.Header.Set("User-Agent", "orilla")
	request.Header.Set(notices.IDField, event.ID)
	request.Header.Set(notices.TimestampField, strconv.FormatInt(now.Unix(), 10))
	request.Header.Set(notices.SignatureField, notices.Sign(secret, event.ID, now, body))
	response, err := client.Do(request)
	if err != nil {
		return shorten(err)
	}
	defer response.Body.Close() //nolint:errcheck // read
	const enough = 2000
	said, _ := io.ReadAll(io.LimitReader(response.Body, enough)) // it says why, if it says anything
	if response.StatusCode/100 == 2 {
		return nil
	}
	err = fmt.Errorf("it answered %s", response.Status)
	if text := notices.OneLine(string(said), 120); text != "" && response.StatusCode/100 != 3 {
		err = fmt.Errorf("%w: %s", err, text)
	}
	switch response.StatusCode {
	case http.StatusBadRequest, http.StatusGone, http.StatusRequestEntityTooLarge,
		http.StatusUnsupportedMediaType, http.StatusUnprocessableEntity:
		return refusal{err}
	}
	return err
}

// shorten takes the address, which is known, out of an error of a request.
func shorten(err error) error {
	if wrapped, is := errors.AsType[*url.Error](err); is {
		return wrapped.Err
	}
	return err
}
