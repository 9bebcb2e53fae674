package gallery_test

import (
	"bytes"
	"context"
	"image/jpeg"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/gallery"
	"orilla.example/orilla/internal/standin/pagebrowser"
	"orilla.example/orilla/internal/store/memory"
)

// TestMain: the browser is a process of its own, which is this program again.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "stand-in" {
		if pagebrowser.Serve(os.NewFile(3, "commands"), os.NewFile(4, "answers")) != nil {
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// shown makes a side of pages in a store.
func shown(t *testing.T, store storage.Store, pages map[string]string) gallery.Side {
	t.Helper()
	var list []release.File
	for path, text := range pages {
		object := digest.Of([]byte(text))
		require.NoError(t, store.Replace(t.Context(), object.Key(), []byte(text)))
		list = append(list, release.File{Path: path, Size: int64(len(text)), Digest: object, Type: "text/html; charset=utf-8"})
	}
	index, err := release.Build(list, nil, release.Settings{})
	require.NoError(t, err)
	for _, chunk := range index.Chunks {
		require.NoError(t, store.Replace(t.Context(), digest.Of(chunk.Data).Key(), chunk.Data))
	}
	require.NoError(t, store.Replace(t.Context(), storage.ReleaseKey("corvane", index.ID.String()), index.Data))
	reader, err := release.Read(t.Context(), store, "corvane", index.ID)
	require.NoError(t, err)
	site, err := answer.Open(t.Context(), reader)
	require.NoError(t, err)
	return gallery.Side{Side: difference.Side{Site: site, Now: time.Now()}, Release: index.ID, Address: "https://www.corvane.example/"}
}

func options(t *testing.T) gallery.Options {
	t.Helper()
	program, err := os.Executable()
	require.NoError(t, err)
	return gallery.Options{Program: []string{program, "stand-in", "browser"}, Now: time.Now,
		Views: []pictures.View{{Width: 390, Scheme: pictures.Light}}}
}

// readOnly is a store that somebody may only read.
type readOnly struct{ storage.Store }

func (readOnly) Create(_ context.Context, key string, _ []byte) error {
	return &storage.Error{Store: "store", Op: "create", Key: key, Err: storage.ErrDenied}
}

// TestWhoMayOnlyReadMayLook: pictures are taken, shown and compared, and kept nowhere.
func TestWhoMayOnlyReadMayLook(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	before := shown(t, store, map[string]string{"index.html": "<p>Corvane Ferries"})
	after := shown(t, store, map[string]string{"index.html": "<p>Corvane Boats", "fares.html": "<p>Fares"})
	g := gallery.New(readOnly{store}, "corvane", options(t))
	defer g.Close()
	was, err := g.Take(t.Context(), before, []string{"/", "/"})
	require.NoError(t, err)
	assert.True(t, was.Unkept)
	assert.Equal(t, 1, was.New, "asked for twice")
	is, err := g.Take(t.Context(), after, []string{"/", "/fares?lang=gl", "/nowhere"})
	require.NoError(t, err)
	outcomes, err := g.Compare(t.Context(), was, is, []gallery.Pair{{Before: "/", After: "/"}, {After: "/fares?lang=gl"}, {Before: "/", After: "/nowhere"}})
	require.NoError(t, err)
	assert.Equal(t, gallery.StateChanged, outcomes[0].State)
	assert.Equal(t, gallery.StateNew, outcomes[1].State)
	assert.Empty(t, outcomes[1].Problem)
	assert.Equal(t, gallery.StateUnknown, outcomes[2].State)
	assert.Contains(t, outcomes[2].Problem, "404")
	for _, err := range store.List(t.Context(), storage.ImagesKey("corvane")) {
		require.NoError(t, err)
		t.Error("something was written")
	}
}

// TestTheLastPictureOfTheHomePage is found by whoever shows one of a release.
func TestTheLastPictureOfTheHomePage(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	side := shown(t, store, map[string]string{"index.html": "<p>Corvane Ferries"})
	small, err := gallery.Small(t.Context(), store, "corvane", side.Release, 100, 80)
	require.NoError(t, err)
	assert.Nil(t, small, "none was taken")
	o := options(t)
	o.Views = pictures.Views([]int{390, 1280}, []string{pictures.Light, pictures.Dark})
	g := gallery.New(store, "corvane", o)
	defer g.Close()
	taken, err := g.Take(t.Context(), side, []string{"/"})
	require.NoError(t, err)
	assert.Equal(t, 4, taken.New)
	again, err := g.Take(t.Context(), side, []string{"/"})
	require.NoError(t, err)
	assert.Zero(t, again.New)
	small, err = gallery.Small(t.Context(), store, "corvane", side.Release, 100, 80)
	require.NoError(t, err)
	size, err := jpeg.DecodeConfig(bytes.NewReader(small))
	require.NoError(t, err)
	assert.Equal(t, 100, size.Width)
	assert.LessOrEqual(t, size.Height, 80)

	// What is damaged is as if it had not been taken.
	shot, found := taken.Find("/", pictures.View{Width: 1280, Scheme: pictures.Light})
	require.True(t, found)
	require.NoError(t, store.Replace(t.Context(), storage.ImageKey("corvane", shot.Image.String()), []byte("not a picture")))
	small, err = gallery.Small(t.Context(), store, "corvane", side.Release, 100, 80)
	require.NoError(t, err)
	assert.Nil(t, small)
	_, err = again.PNG(t.Context(), shot)
	require.ErrorIs(t, err, pictures.ErrUnreadable)
}

// TestPagesOfStrangersNeedACell, whoever runs this.
func TestPagesOfStrangersNeedACell(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	side := shown(t, store, map[string]string{"index.html": "<p>a stranger's page"})
	side.Untrusted = true
	g := gallery.New(store, "corvane", options(t))
	defer g.Close()
	_, err := g.Take(t.Context(), side, []string{"/"})
	require.ErrorIs(t, err, gallery.ErrNotIsolated)
	o := options(t)
	o.Bubblewrap = "/bin/false" // it is there, and does not work
	g = gallery.New(store, "corvane", o)
	defer g.Close()
	_, err = g.Take(t.Context(), side, []string{"/"})
	require.ErrorIs(t, err, gallery.ErrNotIsolated)
	side.Untrusted = false
	taken, err := g.Take(t.Context(), side, []string{"/"})
	require.NoError(t, err, "one that is trusted is shown without")
	assert.False(t, taken.Isolated)
}
