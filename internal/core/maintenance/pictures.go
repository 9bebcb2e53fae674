package maintenance

import (
	"context"
	"errors"
	"path"
	"time"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
)

// Pictures of pages go with their release, or when nobody has added to them for a month; images go
// when no record names them any more. What is not there is taken again by whoever wants it, so a
// picture that goes too early costs a second, and one that stays too long a few hundred kilobytes.

const (
	// picturesKept is for how long pictures are kept.
	picturesKept = 30 * 24 * time.Hour
	// imagesSettled is after what time an image that no record names was left behind: records are
	// written after their images.
	imagesSettled = 24 * time.Hour
)

// pictures lists the records and images of a site that may go, records first.
func (k *keeper) pictures(ctx context.Context, site string, keep map[release.ID]bool, now time.Time,
) (gone []storage.Item, err error) {
	images, err := k.list(ctx, storage.ImagesKey(site))
	if err != nil {
		return nil, err
	}
	records, err := k.deep(ctx, storage.PicturesKey(site, ""))
	if err != nil {
		return nil, err
	}
	named := map[string]bool{}
	for _, item := range records {
		id, err := release.ParseID(path.Base(path.Dir(item.Key)))
		if err != nil || !keep[id] || now.Sub(item.Modified) > picturesKept {
			gone = append(gone, item)
			continue
		}
		data, err := k.store.Get(ctx, item.Key)
		if errors.Is(err, storage.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		record, err := pictures.Decode(data, id, path.Base(item.Key))
		if err != nil {
			return gone, nil //nolint:nilerr // of a later version, whose images cannot be known
		}
		for _, image := range record.Images() {
			named[image.String()] = true
		}
	}
	for _, item := range images {
		_, err := digest.Parse(path.Base(item.Key))
		if err == nil && !named[path.Base(item.Key)] && now.Sub(item.Modified) > imagesSettled {
			gone = append(gone, item)
		}
	}
	return gone, nil
}
