package httpanswer_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/httpanswer"
)

// counted is content that counts what is read of it, in parts of 8 bytes as
// objects have them of 8 MiB, and is damaged from a place on.
type counted struct {
	*bytes.Reader
	read    int
	damaged int64 // no damage at 0
}

var errDamaged = errors.New("damaged")

func (c *counted) Open(context.Context, release.File) (io.ReadSeeker, error) { return c, nil }

func (c *counted) Read(data []byte) (int, error) {
	at, _ := c.Seek(0, io.SeekCurrent)
	if c.damaged > 0 && at >= c.damaged {
		return 0, errDamaged
	}
	n, err := c.Reader.Read(data[:min(len(data), 8)])
	c.read += n
	return n, err
}

const etag = `"4be21c7"`

// TestRangesAndConditions is a table of requests as they may come, and of what
// RFC 9110 says of them.
func TestRangesAndConditions(t *testing.T) {
	t.Parallel()
	text := strings.Repeat("0123456789", 100)
	apart := "bytes=0-0"
	for i := range 900 {
		apart += fmt.Sprintf(",%d-%d", 999-i, 999-i)
	}
	type fields = http.Header
	for name, test := range map[string]struct {
		method string // GET unless set
		header fields
		status int
		body   string // "..." for the whole, "" for none
		want   map[string]string
		empty  bool
	}{
		"a range": {header: fields{"Range": {"bytes=2-4"}}, status: 206, body: "234",
			want: map[string]string{"Content-Range": "bytes 2-4/1000", "Content-Length": "3", "ETag": etag}},
		"the end":                   {header: fields{"Range": {"bytes=-3"}}, status: 206, body: "789"},
		"units have no case":        {header: fields{"Range": {"BYTES=0-0"}}, status: 206, body: "0"},
		"an unknown unit":           {header: fields{"Range": {"pages=1-2"}}, status: 200, body: "..."},
		"a malformed one":           {header: fields{"Range": {"bytes=5-2"}}, status: 200, body: "..."},
		"two lines":                 {header: fields{"Range": {"bytes=0-1", "bytes=2-3"}}, status: 200, body: "..."},
		"overlapping ones are one":  {header: fields{"Range": {"bytes=2-4,3-6"}}, status: 206, body: "23456"},
		"hundreds of one byte each": {header: fields{"Range": {apart}}, status: 206, body: "..."},
		"HEAD has no range": {method: "HEAD", header: fields{"Range": {"bytes=2-4"}}, status: 200,
			want: map[string]string{"Content-Length": "1000", "Content-Range": "", "ETag": etag}},
		"an empty file": {header: fields{"Range": {"bytes=0-"}}, status: 200, empty: true},
		"out of reach": {header: fields{"Range": {"bytes=1000-"}}, status: 416,
			want: map[string]string{"Content-Range": "bytes */1000", "ETag": "", "Cache-Control": "no-store",
				"X-Content-Type-Options": "nosniff"}},
		"the last no bytes": {header: fields{"Range": {"bytes=-0"}}, status: 416},
		"out of reach, but not modified": {header: fields{"Range": {"bytes=1000-"}, "If-None-Match": {etag}},
			status: 304, want: map[string]string{"ETag": etag, "Cache-Control": "max-age=9"}},
		"of this version": {header: fields{"Range": {"bytes=2-4"}, "If-Range": {etag}}, status: 206,
			body: "234"},
		"of another version": {header: fields{"Range": {"bytes=2-4"}, "If-Range": {`"old"`}}, status: 200,
			body: "..."},
		"of another version, and out of reach": {header: fields{"Range": {"bytes=1000-"},
			"If-Range": {`W/` + etag}}, status: 200, body: "..."},
		"not modified, on the second line": {header: fields{"If-None-Match": {`"a", "b"`, etag}}, status: 304},
		"not modified, weakly":             {header: fields{"If-None-Match": {"W/" + etag}}, status: 304},
		"matched on the second line":       {header: fields{"If-Match": {`"a"`, etag}}, status: 200, body: "..."},
		"not matched": {header: fields{"If-Match": {`"a"`, `"b"`}}, status: 412,
			want: map[string]string{"ETag": "", "Cache-Control": "no-store", "Content-Type": "",
				"Content-Length": "0"}},
		"never matched weakly": {header: fields{"If-Match": {"W/" + etag}}, status: 412},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			content := text
			if test.empty {
				content = ""
			}
			from := &counted{Reader: bytes.NewReader([]byte(content))}
			w := respond(t, from, test.method, test.header)
			assert.Equal(t, test.status, w.Code)
			body := w.Body.String()
			switch {
			case test.status == http.StatusRequestedRangeNotSatisfiable:
				assert.NotContains(t, body, "0123456789")
			case test.body == "...":
				assert.Equal(t, text, body)
			default:
				assert.Equal(t, test.body, body)
			}
			for field, value := range test.want {
				assert.Equal(t, value, w.Header().Get(field), field)
			}
			assert.LessOrEqual(t, from.read, len(content)+8, "no byte costs twice")
		})
	}
}

// respond answers one request, with content that is whole.
func respond(t *testing.T, from *counted, method string, header http.Header) *httptest.ResponseRecorder {
	t.Helper()
	w, err := respondFrom(t, from, method, header)
	require.NoError(t, err)
	return w
}

func respondFrom(t *testing.T, from *counted, method string, header http.Header,
) (*httptest.ResponseRecorder, error) {
	t.Helper()
	r := httptest.NewRequest(method, "/film.txt", nil)
	r.Header = header
	w := httptest.NewRecorder()
	err := httpanswer.Respond(w, r, answer.Answer{
		Status: 200, ETag: etag, File: &release.File{Path: "film.txt", Size: from.Size()},
		Header: []answer.Field{{Name: "Content-Type", Value: "text/plain"}, {Name: "Cache-Control", Value: "max-age=9"}},
	}, from)
	return w, err
}

// TestSeveralRanges come in the order in which they were asked for.
func TestSeveralRanges(t *testing.T) {
	t.Parallel()
	from := &counted{Reader: bytes.NewReader([]byte(strings.Repeat("0123456789", 100)))}
	w := respond(t, from, "GET", http.Header{"Range": {"bytes=-2, 5000-, 3-4"}})
	assert.Equal(t, 206, w.Code)
	kind, params, err := mime.ParseMediaType(w.Header().Get("Content-Type"))
	require.NoError(t, err)
	assert.Equal(t, "multipart/byteranges", kind)
	parts := multipart.NewReader(w.Body, params["boundary"])
	for _, want := range [][2]string{{"bytes 998-999/1000", "89"}, {"bytes 3-4/1000", "34"}} {
		part, err := parts.NextPart()
		require.NoError(t, err)
		body, err := io.ReadAll(part)
		require.NoError(t, err)
		assert.Equal(t, want, [2]string{part.Header.Get("Content-Range"), string(body)})
		assert.Equal(t, "text/plain", part.Header.Get("Content-Type"))
	}
	_, err = parts.NextPart()
	require.ErrorIs(t, err, io.EOF)
}

// TestARangeOfADamagedObject: what is damaged is an error before anything is said of
// it, also in the middle.
func TestARangeOfADamagedObject(t *testing.T) {
	t.Parallel()
	for ask, status := range map[string]int{
		"": 206, "bytes=0-3": 206, "bytes=8-": 500, "bytes=900-901": 500, "bytes=-1": 500, "bytes=900-,0-3": 500} {
		t.Run("ask "+ask, func(t *testing.T) {
			t.Parallel()
			from := &counted{Reader: bytes.NewReader(make([]byte, 1000)), damaged: 8}
			header := http.Header{"Range": {ask}}
			if ask == "" {
				from.damaged, header = 1, http.Header{"Range": {"bytes=0-0"}}
			}
			w, err := respondFrom(t, from, "GET", header)
			assert.Equal(t, status, w.Code)
			if status == http.StatusInternalServerError {
				require.ErrorIs(t, err, errDamaged)
				assert.Equal(t, "no-store", w.Header().Get("Cache-Control"))
				assert.Empty(t, w.Header().Get("Content-Range"))
			}
		})
	}
}
