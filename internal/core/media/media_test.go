package media_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/core/media"
)

// TestTypesThatCameLaterChangeNothingElse: what semantics 1 knows is frozen, so a type
// that was added makes no file an asset, or immutable, that was none.
func TestTypesThatCameLaterChangeNothingElse(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{"a.avi": "video/x-msvideo", "a.mkv": "video/matroska",
		"a.mpeg": "video/mpeg", "a.cur": "image/vnd.microsoft.icon", "a.jfif": "image/jpeg",
		"a.svgz": "image/svg+xml", "a.apk": "application/vnd.android.package-archive",
		"A.LOG": "text/plain; charset=utf-8", "a.sql": "application/sql"} {
		assert.Equal(t, want, media.Type(name, name == "A.LOG"), name)
		assert.False(t, media.Known(name), name)
		assert.True(t, media.KnownSince2(name), name)
		assert.False(t, media.IsLoaded(name), name)
	}
	for name, want := range map[string]string{"a.css": "text/css; charset=utf-8", "a.png": "image/png",
		"a.tide": "application/octet-stream", "LICENSE": "text/plain; charset=utf-8",
		"apple-app-site-association": "application/json"} {
		assert.Equal(t, want, media.Type(name, name != "a.png" && name != "a.tide"), name)
		assert.False(t, media.KnownSince2(name), name)
	}
}
