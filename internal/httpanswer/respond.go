package httpanswer

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// contents opens the content of files. What it returns is
// verified before it is read, or reading fails.
type contents interface {
	Open(ctx context.Context, file release.File) (io.ReadSeeker, error)
}

// OnlySecure reports whether a field counts over TLS only, and must not be sent without it
// (RFC 6797, section 7.2).
func OnlySecure(name string) bool { return strings.EqualFold(name, "Strict-Transport-Security") }

// addFields adds the fields of an answer that can be sent to whoever asks.
func addFields(header http.Header, r *http.Request, a answer.Answer) {
	for _, field := range a.Header {
		if !OnlySecure(field.Name) || Scheme(r) == "https" {
			header.Add(field.Name, field.Value)
		}
	}
}

// Respond sends an answer. The error tells that content could
// not be read; the visitor has then got a 500, or, where
// bytes were already sent, a connection that ended early.
//
// It follows RFC 9110: conditional requests (section 13) and ranges (section
// 14) for status 200, and none of them for other pages.
func Respond(w http.ResponseWriter, r *http.Request, a answer.Answer, from contents) error {
	header := w.Header()
	addFields(header, r, a)
	if a.Config != nil {
		header.Set("ETag", a.ETag)
		r, _ = selected(r, a.ETag, int64(len(a.Config.Data)))
		http.ServeContent(conditionWriter{w}, r, "", noTime, bytes.NewReader(a.Config.Data))
		return nil
	}

	if a.File == nil {
		respondText(w, r, a)
		return nil
	}
	// Whoever has it gets nothing else, in whatever coding they have it.
	if hasIt(w, r, a) {
		return nil
	}
	if sender, ok := from.(tells); ok && a.Dictionary != nil && r.Header.Get("Range") == "" {
		if v, ok := sender.Difference(r.Context(), a); ok {
			defer v.Done()
			respondEncoded(w, r, a, v)
			return nil
		}
	}
	if sender, ok := from.(encodes); ok && len(a.Codings) > 0 {
		if v, ok := sender.Variant(r.Context(), *a.File, codingsFor(r, &a)); ok {
			defer v.Done()
			respondEncoded(w, r, a, v)
			return nil
		}
	}
	// Opening reads nothing yet.
	content, err := from.Open(r.Context(), *a.File)
	if err != nil {
		Fail(w, r, err)
		return err
	}
	defer closed(content)

	if a.Status == http.StatusOK {
		header.Set("ETag", a.ETag)
		return respondFile(w, r, a, content)
	}
	// A page with another status, such as 404.html, has neither ranges nor
	// validators (RFC 9110, section 14.2).
	header.Set("Content-Length", strconv.FormatInt(a.File.Size, 10))
	first, err := ready(r, content)
	if err != nil {
		Fail(w, r, err)
		return err
	}

	w.WriteHeader(a.Status)
	if r.Method != http.MethodHead {
		_, err = io.Copy(w, io.MultiReader(bytes.NewReader(first), content))
	}
	return broken(r, err)
}

// encodes is what contents may do besides: give a file in a coding.
type encodes interface {
	Variant(ctx context.Context, file release.File, codings []coding.Coding) (Variant, bool)
}

// tells is what contents may do besides: tell a file by what the visitor has.
type tells interface {
	Difference(ctx context.Context, a answer.Answer) (Variant, bool)
}

// hasIt answers 304 to a client that has what it would get.
func hasIt(w http.ResponseWriter, r *http.Request, a answer.Answer) bool {
	known := r.Header["If-None-Match"]
	if len(known) == 0 || a.Status != http.StatusOK || r.Header.Get("If-Match") != "" {
		return false
	}
	tag := a.Knows(joined(known, ","))
	if tag == "" {
		return false
	}
	header := w.Header()
	header.Set("ETag", tag)
	header.Del("Content-Type")
	w.WriteHeader(http.StatusNotModified)
	return true
}

// codingsFor are the codings in which a request may be answered. Whoever has a part gets
// more of that, if it can be had: If-Range names it.
func codingsFor(r *http.Request, a *answer.Answer) []coding.Coding {
	if r.Header.Get("Range") != "" && r.Header.Get("If-Range") == a.ETag {
		return nil
	}
	return a.Codings
}

// respondEncoded sends a file in a coding. Conditions and ranges mean the bytes as they are
// sent (RFC 9110, section 8.8.3.3).
func respondEncoded(w http.ResponseWriter, r *http.Request, a answer.Answer, v Variant) {
	header := w.Header()
	header.Set("Content-Encoding", v.Coding.String())
	header.Set("Content-Length", strconv.Itoa(len(v.Data)))
	if a.Status != http.StatusOK {
		w.WriteHeader(a.Status)
		if r.Method != http.MethodHead {
			w.Write(v.Data) //nolint:errcheck // the visitor has gone
		}
		return
	}
	tag := answer.EncodedTag(a.ETag, v.Coding, v.Sum)
	header.Set("ETag", tag)
	r, _ = selected(r, tag, int64(len(v.Data)))
	http.ServeContent(conditionWriter{w}, r, "", noTime, bytes.NewReader(v.Data))
}

// closed closes content that wants to be closed.
func closed(content io.ReadSeeker) {
	if file, ok := content.(io.Closer); ok {
		file.Close() //nolint:errcheck // read only
	}
}

// respondFile sends a file, or what conditions and ranges
// (RFC 9110, sections 13 and 14) leave of it.
func respondFile(w http.ResponseWriter, r *http.Request, a answer.Answer, content io.ReadSeeker) error {
	r, ranges := selected(r, a.ETag, a.File.Size)

	// What comes first is read before the status is sent, so that damage is a
	// 500 and not a page cut short.
	if !strings.Contains(r.Header.Get("If-None-Match"), a.ETag) {
		var start int64
		if len(ranges) > 0 {
			start = ranges[0].Start
		}
		if _, err := content.Seek(start, io.SeekStart); err != nil {
			return err
		}
		if _, err := ready(r, content); err != nil {
			Fail(w, r, err)
			return err
		}
		if _, err := content.Seek(0, io.SeekStart); err != nil {
			return err
		}
	}

	// The library tells nobody when reading fails, so the reader remembers.
	watched := &watchedReader{ReadSeeker: content}
	http.ServeContent(conditionWriter{w}, r, "", noTime, watched)
	return broken(r, watched.err())
}

// watchedReader remembers the error that http.ServeContent does not report. Where
// several ranges are sent, that reads in a goroutine which may outlive it.
type watchedReader struct {
	io.ReadSeeker
	failed atomic.Pointer[error]
}

// Read implements io.Reader.
func (r *watchedReader) Read(data []byte) (int, error) {
	n, err := r.ReadSeeker.Read(data)
	if err != nil && !errors.Is(err, io.EOF) {
		r.failed.Store(&err)
	}
	return n, err
}

// err is the error of the last read that failed.
func (r *watchedReader) err() error {
	if failed := r.failed.Load(); failed != nil {
		return *failed
	}
	return nil
}

// ready reads the first byte of what will be sent, which
// verifies the object it is in.
func ready(r *http.Request, content io.Reader) ([]byte, error) {
	if r.Method == http.MethodHead {
		return nil, nil
	}
	first := make([]byte, 1)
	n, err := io.ReadFull(content, first)
	if errors.Is(err, io.EOF) {
		err = nil
	}
	return first[:n], err
}

// broken tells errors of the store from those of a visitor who has gone.
func broken(r *http.Request, err error) error {
	if err == nil || r.Context().Err() != nil {
		return nil //nolint:nilerr // nobody is there to be told
	}
	return err
}

// respondText sends an answer that has no file: a line of text, or nothing.
func respondText(w http.ResponseWriter, r *http.Request, a answer.Answer) {
	if a.Text == "" {
		if a.Status != http.StatusNoContent {
			w.Header().Set("Content-Length", "0")
		}
		w.WriteHeader(a.Status)
		return
	}

	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	}
	w.Header().Set("Content-Length", strconv.Itoa(len(a.Text)))
	w.WriteHeader(a.Status)
	if r.Method != http.MethodHead {
		io.WriteString(w, a.Text) //nolint:errcheck // the visitor has gone
	}
}

// Fail answers 500, or 503 where asking again may help, without anything that was
// meant for another answer. It returns the status.
func Fail(w http.ResponseWriter, r *http.Request, err error) int {
	// Nothing that was said about the page is true of its error: not its
	// length, nor for how long it may be kept.
	for name := range w.Header() {
		if name != ReleaseField && name != "Connection" {
			w.Header().Del(name)
		}
	}

	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Cache-Control", "no-store")
	a := answer.Answer{Status: http.StatusInternalServerError,
		Text: "This could not be read at the edge. It has been noted in the edge node's log.\n"}
	if Passing(err) {
		w.Header().Set("Retry-After", retryAfter)
		a.Status = http.StatusServiceUnavailable
		a.Text = "This cannot be read at the moment. Please try again in a few seconds.\n"
	}
	respondText(w, r, a)
	return a.Status
}

// retryAfter is how many seconds whoever could not be answered is asked to wait.
const retryAfter = "5"

// Passing reports whether an error may be gone in a moment: the store does not answer,
// or not in time.
func Passing(err error) bool {
	return errors.Is(err, ErrSlow) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, storage.ErrUnreachable)
}

var noTime time.Time
