package httpanswer

import (
	"bytes"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/release"
)

// SendPage sends a page with a line before its end. It has no entity tag, since
// these are not the bytes of the release.
func SendPage(w http.ResponseWriter, r *http.Request, a answer.Answer, from contents, line string) error {
	content, err := from.Open(r.Context(), *a.File)
	if err != nil {
		Fail(w, r, err)
		return err
	}
	defer closed(content)

	data, err := io.ReadAll(content)
	if err != nil {
		Fail(w, r, err)
		return err
	}

	if at := bytes.LastIndex(bytes.ToLower(data), []byte("</body>")); at >= 0 {
		data = slices.Concat(data[:at], []byte(line), data[at:])
	} else {
		data = append(data, line...)
	}

	addFields(w.Header(), r, a)
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Length", strconv.Itoa(len(data)))
	w.WriteHeader(a.Status)
	if r.Method != http.MethodHead {
		w.Write(data) //nolint:errcheck // the browser has gone
	}

	return nil
}

// IsPage reports whether a file is a page of HTML.
func IsPage(file *release.File) bool {
	return media.ClassOf(file.Path) == media.Page || strings.HasPrefix(file.Type, "text/html")
}
