package httpanswer

import (
	"net"
	"net/http"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/answer"
)

// ReleaseField is the header field that says what an answer comes from. Its
// value is a structured item (RFC 9651): the release, with the parameters entry
// (environment:number) and commit.
const ReleaseField = "Orilla-Release"

// RedirectToBase leads from the root of a local name to where the site begins.
func RedirectToBase(w http.ResponseWriter, base string) string {
	w.Header().Set("Location", base+"/")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusFound)
	return "address"
}

// Say answers with one line of plain text.
func Say(w http.ResponseWriter, r *http.Request, status int, line string) string {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Robots-Tag", "noindex")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	respondText(w, r, answer.Answer{Status: status, Text: line + "\n"})
	return "nothing"
}

// HostName takes the port and the final dot off the value of a Host field.
func HostName(host string) string {
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	return strings.ToLower(strings.TrimSuffix(host, "."))
}

// plainHost is the value of a Host field in lower case, without the final dot that a full
// name may have: corvane.example.:8080 is corvane.example:8080.
func plainHost(host string) string {
	host = strings.ToLower(host)
	if name, port, err := net.SplitHostPort(host); err == nil && strings.HasSuffix(name, ".") {
		return net.JoinHostPort(strings.TrimSuffix(name, "."), port)
	}
	return strings.TrimSuffix(host, ".")
}

// Printable keeps what a visitor sent from doing harm in an answer.
func Printable(host string) string {
	host = strings.Map(func(c rune) rune {
		if c > ' ' && c < 0x7f {
			return c
		}
		return -1
	}, host)
	return host[:min(len(host), 100)]
}

// CountingWriter remembers what was sent, for the log.
type CountingWriter struct {
	http.ResponseWriter
	Status int
	Bytes  int64
}

// WriteHeader implements http.ResponseWriter.
func (w *CountingWriter) WriteHeader(status int) {
	if w.Status == 0 {
		w.Status = status
	}
	w.ResponseWriter.WriteHeader(status)
}

// Write implements io.Writer.
func (w *CountingWriter) Write(data []byte) (int, error) {
	if w.Status == 0 {
		w.Status = http.StatusOK
	}
	n, err := w.ResponseWriter.Write(data)
	w.Bytes += int64(n)
	return n, err
}

// Unwrap lets http.ResponseController reach the writer below.
func (w *CountingWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// RequestOf is what decides an answer, of a request over HTTP. base is the base
// path of the site, environment the name that rules see, now the time by which
// they turn.
func RequestOf(r *http.Request, base, environment string, now time.Time) answer.Request {
	return answer.Request{
		Method: r.Method, Path: r.URL.EscapedPath(), Query: r.URL.RawQuery, Base: base,
		Environment: environment, Now: now,
		Scheme: Scheme(r), Host: plainHost(r.Host),
		AcceptLanguage: joined(r.Header["Accept-Language"], ","),
		AcceptEncoding: joined(r.Header["Accept-Encoding"], ","),
		Cookie:         joined(r.Header["Cookie"], "; "),

		AvailableDictionary: joined(r.Header["Available-Dictionary"], ","),
		DictionaryID:        joined(r.Header["Dictionary-Id"], ","),
	}
}

// joined joins the lines of a field. There is nearly always one.
func joined(lines []string, with string) string {
	if len(lines) == 1 {
		return lines[0]
	}
	return strings.Join(lines, with)
}

// Describe says in a few words what answered.
func Describe(a answer.Answer) string {
	switch {
	case a.Location != "":
		return "-> " + a.Location
	case a.Upstream != nil:
		return "-> " + a.Upstream.Where()
	case a.File != nil && a.By == answer.ByFile:
		return a.File.Path
	case a.File != nil:
		return string(a.By) + " " + a.File.Path
	}
	return string(a.By)
}
