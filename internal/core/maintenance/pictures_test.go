package maintenance_test

import (
	"context"
	"iter"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/store/memory"
)

// aged is a store whose pictures are older than they are.
type aged struct {
	storage.Store
	by time.Duration
}

// List implements storage.Store.
func (a aged) List(ctx context.Context, folder string) iter.Seq2[storage.Item, error] {
	return func(yield func(storage.Item, error) bool) {
		for item, err := range a.Store.List(ctx, folder) {
			if strings.Contains(item.Key, "/pictures/") || strings.Contains(item.Key, "/images/") {
				item.Modified = item.Modified.Add(-a.by)
			}
			if !yield(item, err) {
				return
			}
		}
	}
}

// TestPicturesGoWithTheirRelease, and images with the last record that names them.
func TestPicturesGoWithTheirRelease(t *testing.T) {
	t.Parallel()
	store := &memory.Store{}
	s := &site{t: t, store: store, name: "corvane"}
	live := s.publish("production", map[string]string{"a": "1"}, nil)
	image := func(text string) digest.Digest {
		d := digest.Of([]byte(text))
		require.NoError(t, store.Replace(t.Context(), storage.ImageKey("corvane", d.String()), []byte(text)))
		return d
	}
	take := func(id release.ID, images ...string) {
		r := pictures.Record{Format: pictures.Format, Release: id, Key: "k", Browser: "x"}
		for i, text := range images {
			r = r.With(time.Now(), pictures.Shot{Path: "/" + strings.Repeat("a", i+1), Image: image(text),
				View: pictures.View{Width: 390, Scheme: pictures.Light}})
		}
		data, err := r.Encode()
		require.NoError(t, err)
		require.NoError(t, store.Replace(t.Context(), storage.PictureKey("corvane", id.String(), "k"), data))
	}
	gone := release.ID{9}
	take(live, "shared", "of what is live")
	take(gone, "shared", "of what is gone")
	image("left behind")
	image("just written")
	prune := func(ahead time.Duration) maintenance.Pruned {
		p, err := maintenance.Plan(t.Context(), aged{store, ahead}, "somebody", maintenance.Policy{Grace: time.Hour}, quiet)
		require.NoError(t, err)
		done, err := p.CarryOut(t.Context(), nobody, quiet)
		require.NoError(t, err)
		return done
	}
	assert.Equal(t, 1, prune(0).Pictures, "the record; images that are young stay")
	assert.Len(t, listed(t, store, storage.ImagesKey("corvane")), 5)
	assert.Equal(t, 3, prune(25*time.Hour).Pictures)
	assert.Len(t, listed(t, store, storage.ImagesKey("corvane")), 2)
	assert.Len(t, listed(t, store, storage.PicturesKey("corvane", live.String())), 1)

	// A record of a later version may name any image.
	require.NoError(t, store.Replace(t.Context(), storage.PictureKey("corvane", live.String(), "k2"), []byte(`{"format":2}`)))
	image("of a later version")
	assert.Zero(t, prune(25*time.Hour).Pictures)
	assert.Equal(t, 5, prune(31*24*time.Hour).Pictures, "nobody has added to them for a month")
}
