package httpanswer

import (
	"errors"
	"net/http"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/byterange"
)

// selected is a request as http.ServeContent understands it as the standard means
// it, and the ranges that will be sent, if any.
//
// RFC 9110 has a range only in GET (section 14.2), lets lists stand on several
// lines (section 5.3), and forgets the ranges if If-Range names another version
// (section 13.1.5).
func selected(r *http.Request, etag string, size int64) (*http.Request, []byterange.Range) {
	several := func(name string) bool { return len(r.Header.Values(name)) > 1 }
	if r.Header.Get("Range") == "" && !several("If-Match") && !several("If-None-Match") {
		return r, nil // nearly every request
	}

	asked := r.WithContext(r.Context())
	asked.Header = r.Header.Clone()
	for _, name := range []string{"If-Match", "If-None-Match"} {
		if lines := asked.Header.Values(name); len(lines) > 1 {
			asked.Header.Set(name, strings.Join(lines, ", "))
		}
	}

	fields := asked.Header.Values("Range")
	asked.Header.Del("Range")
	version := asked.Header.Values("If-Range")
	asked.Header.Del("If-Range")
	// One that stands there twice asks for nothing that can be told.
	if r.Method != http.MethodGet || len(fields) != 1 || len(version) > 0 && version[0] != etag {
		return asked, nil
	}

	ranges, err := byterange.Parse(fields[0], size)
	switch {
	case errors.Is(err, byterange.ErrUnsatisfiable):
		// Conditions come first, and may have another answer than 416.
		asked.Header.Set("Range", "bytes="+strconv.FormatInt(size, 10)+"-")
	case len(ranges) > 0:
		asked.Header.Set("Range", byterange.Format(ranges))
	}
	return asked, ranges
}

// conditionWriter says of 412 and 416 what is said of every error of a request:
// that it is not to be kept, and nothing of the page that it is not.
type conditionWriter struct{ http.ResponseWriter }

// WriteHeader implements http.ResponseWriter.
func (w conditionWriter) WriteHeader(status int) {
	if status == http.StatusPreconditionFailed || status == http.StatusRequestedRangeNotSatisfiable {
		header := w.Header()
		for _, name := range []string{"ETag", "Link", "Content-Encoding"} {
			header.Del(name)
		}
		header.Set("Cache-Control", "no-store")
		header.Set("X-Content-Type-Options", "nosniff")
		if status == http.StatusPreconditionFailed {
			header.Del("Content-Type")
			header.Set("Content-Length", "0")
		}
	}
	w.ResponseWriter.WriteHeader(status)
}

// Unwrap lets http.ResponseController reach the writer below.
func (w conditionWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }
