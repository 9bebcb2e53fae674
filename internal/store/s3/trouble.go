package s3

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"

	"orilla.example/orilla/internal/core/storage"
)

// A request is repeated after pauses that double, each cut by chance by up to a
// half, so that many writers do not come back at the same moment: 8 tries in
// about 13 seconds. A server that cannot be reached at all is given up sooner.
const (
	tries        = 8
	triesToReach = 4
	firstPause   = 200 * time.Millisecond
	longestPause = 5 * time.Second
)

// repeat calls do until it succeeds or fails for good. attempt counts from 0.
// The error is the contract's.
func (s *Store) repeat(ctx context.Context, do func(attempt int) error) error {
	pause := firstPause
	for attempt := 0; ; attempt++ {
		err := do(attempt)
		if err == nil {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}

		meaning, again := understand(err)
		limit := tries
		if refused(err) {
			limit = triesToReach
		}

		if !again || attempt+1 >= limit {
			return explain(s, meaning, err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause/2 + rand.N(pause/2)):
		}
		pause = min(2*pause, longestPause)
	}
}

// explain names the key and, of a refusal, what is behind it: a clock that is
// off makes every signature wrong.
func explain(s *Store, meaning, err error) error {
	if errors.Is(meaning, storage.ErrNotFound) || errors.Is(meaning, storage.ErrExists) {
		return meaning
	}
	if ahead, known := s.Ahead(); known && errors.Is(meaning, storage.ErrCredentials) &&
		ahead.Abs() > storage.ClockLimit {
		meaning = storage.ErrClock
	}

	if meaning == nil {
		return err
	}
	return fmt.Errorf("%w: %w", meaning, err)
}

// refused reports whether no connection came about.
func refused(err error) bool {
	var operation *net.OpError
	return errors.As(err, &operation) && operation.Op == "dial"
}

// understand says what an error means in the contract's terms, nil if it has
// none, and whether to try again.
//
//nolint:revive // the first result is a meaning, and no failure of this function
func understand(err error) (meaning error, again bool) {
	response := minio.ToErrorResponse(err)
	switch response.Code {
	case "NoSuchKey", "NotFound":
		return storage.ErrNotFound, false
	case "NoSuchBucket":
		return storage.ErrNoBucket, false
	case "PreconditionFailed":
		return storage.ErrExists, false
	case "ConditionalRequestConflict", "OperationAborted":
		return nil, true // several want the same name at the same moment
	case "AccessDenied", "AllAccessDisabled", "AccountProblem":
		return storage.ErrDenied, false
	case "InvalidAccessKeyId", "SignatureDoesNotMatch", "ExpiredToken", "InvalidToken",
		"TokenRefreshRequired", "AuthorizationHeaderMalformed", "InvalidSecurity":
		return storage.ErrCredentials, false
	case "RequestTimeTooSkewed", "RequestExpired":
		return storage.ErrClock, false
	case "QuotaExceeded", "InsufficientStorage", "StorageFull", "XMinioStorageFull", "ServiceQuotaExceeded":
		return storage.ErrFull, false
	case "NotImplemented", "MethodNotAllowed":
		return storage.ErrUnable, false
	}

	switch status := response.StatusCode; {
	case status == http.StatusInsufficientStorage:
		return storage.ErrFull, false
	case status == http.StatusPreconditionFailed:
		return storage.ErrExists, false
	case status == http.StatusNotFound:
		return storage.ErrNotFound, false
	case status == http.StatusForbidden || status == http.StatusUnauthorized:
		return storage.ErrDenied, false
	case status == http.StatusConflict, status == http.StatusTooManyRequests,
		status == http.StatusRequestTimeout, status >= 500:
		return storage.ErrUnreachable, true
	}

	return overNetwork(err)
}

// overNetwork understands what went wrong before an answer
// came, or while it came.
//
//nolint:revive // as of understand
func overNetwork(err error) (meaning error, again bool) {
	var name *net.DNSError
	var request *url.Error
	var network net.Error
	switch {
	case errors.As(err, &name) && name.IsNotFound:
		return storage.ErrUnreachable, false
	case errors.As(err, &request):
		text := request.Err.Error()
		if strings.Contains(text, "certificate") || strings.Contains(text, "HTTP response to HTTPS client") {
			return storage.ErrUntrusted, false
		}
		return storage.ErrUnreachable, true
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF), errors.As(err,
		&network), minio.ToErrorResponse(err).Code == "":
		return storage.ErrUnreachable, true // also an answer that was cut short
	}

	return nil, false
}
