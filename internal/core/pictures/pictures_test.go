package pictures_test

import (
	"image"
	"image/color"
	"image/draw"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/pictures"
	"orilla.example/orilla/internal/core/release"
)

// page draws lines of letters, which are random but always the same, on paper.
func page(width, height int) *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	draw.Draw(img, img.Bounds(), image.NewUniform(color.RGBA{0xfb, 0xf7, 0xf4, 255}), image.Point{}, draw.Src)
	for y := 20; y+14 < height; y += 24 {
		letters(img, image.Rect(20, y, width-20, y+14), uint64(y))
	}
	return img
}

// letters draws a line of them.
func letters(img *image.RGBA, line image.Rectangle, seed uint64) {
	random := rand.New(rand.NewPCG(seed, 7))
	for x := line.Min.X; x+8 < line.Max.X; x += 9 {
		for range 12 {
			dx, dy := random.IntN(7), random.IntN(line.Dy()-2)
			box(img, image.Rect(x+dx, line.Min.Y+dy, x+dx+1+random.IntN(2), line.Min.Y+dy+2), 0x1f)
		}
	}
}

func box(img *image.RGBA, r image.Rectangle, grey uint8) {
	draw.Draw(img, r, image.NewUniform(color.RGBA{grey, grey, grey, 255}), image.Point{}, draw.Src)
}

// clone copies a picture.
func clone(img *image.RGBA) *image.RGBA {
	next := image.NewRGBA(img.Bounds())
	copy(next.Pix, img.Pix)
	return next
}

// kinds lists what became of what.
func kinds(c pictures.Comparison) (list []pictures.Kind) {
	for _, r := range c.Regions {
		list = append(list, r.Kind)
	}
	return list
}

func TestTheSamePictureDiffersNowhere(t *testing.T) {
	t.Parallel()
	c := pictures.Compare(page(400, 600), page(400, 600))
	assert.True(t, c.Same())
	assert.Zero(t, c.Share)
}

func TestAChangedCommaIsFound(t *testing.T) {
	t.Parallel()
	before := page(400, 600)
	after := clone(before)
	box(after, image.Rect(201, 326, 203, 330), 0x1f)
	c := pictures.Compare(before, after)
	require.Equal(t, []pictures.Kind{pictures.Changed}, kinds(c))
	assert.Equal(t, image.Rect(201, 326, 203, 330), c.Regions[0].After)
	assert.InDelta(t, 8.0/(400*600), c.Share, 1e-9)
}

// TestAFullStopThatBecomesACommaIsFound: as letters are drawn, with smoothed edges all around.
func TestAFullStopThatBecomesACommaIsFound(t *testing.T) {
	t.Parallel()
	glyph := func(rows ...string) *image.RGBA {
		img := page(120, 80)
		box(img, image.Rect(50, 30, 70, 50), 0xfb)
		for y, row := range rows {
			for x, c := range row {
				if grey := map[rune]uint8{'#': 0x20, '+': 0x70, '-': 0xb0, '.': 0xe0}[c]; grey != 0 {
					box(img, image.Rect(55+x, 35+y, 56+x, 36+y), grey)
				}
			}
		}
		return img
	}
	stop := glyph("      ", " .--. ", " -##- ", " -##- ", " .--. ")
	comma := glyph("      ", " .--. ", " -##- ", " -##- ", " .+#- ", " -+.  ")
	assert.Equal(t, []pictures.Kind{pictures.Changed}, kinds(pictures.Compare(stop, comma)))
	// The same full stop, a quarter of a pixel to the right.
	assert.True(t, pictures.Compare(stop, glyph("      ", "  --. ", " .##- ", " .##+ ", "  --- ")).Same())
}

func TestWhatMovedDownIsNotAllDifferent(t *testing.T) {
	t.Parallel()
	before := page(400, 600)
	after := image.NewRGBA(image.Rect(0, 0, 400, 650))
	draw.Draw(after, image.Rect(0, 0, 400, 300), before, image.Point{}, draw.Src)
	draw.Draw(
		after,
		image.Rect(0, 300, 400, 350),
		image.NewUniform(color.RGBA{0xf8, 0xd5, 0xcc, 255}),
		image.Point{},
		draw.Src,
	)
	letters(after, image.Rect(20, 318, 380, 332), 4711)
	draw.Draw(after, image.Rect(0, 350, 400, 650), before, image.Pt(0, 300), draw.Src)
	c := pictures.Compare(before, after)
	require.Equal(t, []pictures.Kind{pictures.Added, pictures.Moved}, kinds(c))
	assert.Equal(t, image.Rect(0, 300, 400, 350), c.Regions[0].After)
	assert.Equal(t, 50, c.Regions[1].After.Min.Y-c.Regions[1].Before.Min.Y)
	assert.InDelta(t, 50.0/650, c.Share, 0.001)

	back := pictures.Compare(after, before)
	require.Equal(t, []pictures.Kind{pictures.Removed, pictures.Moved}, kinds(back))
	assert.InDelta(t, 50.0/650, back.Share, 0.001)
}

func TestABlockThatMovedIsAMove(t *testing.T) {
	t.Parallel()
	paper := image.NewUniform(color.RGBA{0xfb, 0xf7, 0xf4, 255})
	for name, to := range map[string]image.Point{"elsewhere": {230, 380}, "a little": {40, 112}, "beside it": {150, 100}} {
		before := page(400, 600)
		draw.Draw(before, image.Rect(10, 90, 390, 590), paper, image.Point{}, draw.Src)
		letters(before, image.Rect(20, 560, 380, 574), 3)
		after := clone(before)
		block := func(img *image.RGBA, at image.Point) {
			box(img, image.Rect(at.X, at.Y, at.X+100, at.Y+60), 0xd0)
			for i := range 3 {
				letters(img, image.Rect(at.X+6, at.Y+4+18*i, at.X+94, at.Y+18+18*i), uint64(i))
			}
		}
		block(before, image.Pt(40, 100))
		block(after, to)
		c := pictures.Compare(before, after)
		assert.Contains(t, kinds(c), pictures.Moved, name)
		assert.Less(t, c.Share, 0.01, name)
		for _, r := range c.Regions {
			if r.Kind == pictures.Moved {
				assert.Equal(t, to.Sub(image.Pt(40, 100)), r.After.Min.Sub(r.Before.Min), name)
			}
		}
	}
}

func TestEdgesOfLettersAreTolerated(t *testing.T) {
	t.Parallel()
	before, after := page(200, 100), page(200, 100)
	for img, grey := range map[*image.RGBA]uint8{before: 110, after: 150} {
		box(img, image.Rect(100, 20, 140, 80), 0x1f)
		box(img, image.Rect(140, 20, 180, 80), 0xfb)
		for y := 21; y < 79; y += 3 {
			box(img, image.Rect(140, y, 141, y+1), grey)
		}
	}
	assert.True(t, pictures.Compare(before, after).Same())
	box(after, image.Rect(160, 40, 163, 43), 0x1f)
	assert.False(t, pictures.Compare(before, after).Same())
}

func TestPicturesOfOtherWidthsAreOthers(t *testing.T) {
	t.Parallel()
	c := pictures.Compare(page(100, 100), page(120, 100))
	assert.InDelta(t, 1, c.Share, 0)
	assert.Equal(t, []pictures.Kind{pictures.Changed}, kinds(c))
	assert.Equal(t, image.Rect(0, 0, 120, 100), pictures.Difference(page(120, 100), c).Bounds())
}

// TestAnyTwoPictures are compared within bounds: whatever changed is in a region, and nothing else is.
func TestAnyTwoPictures(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 9))
	for range 300 {
		before := page(60+random.IntN(80), 1+random.IntN(200))
		after := clone(before)
		if random.IntN(3) == 0 {
			after = page(before.Rect.Dx(), 1+random.IntN(200))
		}
		for range random.IntN(4) {
			x, y := random.IntN(after.Rect.Dx()), random.IntN(after.Rect.Dy())
			r := image.Rect(x, y, x+1+random.IntN(40), y+1+random.IntN(40)).Intersect(after.Rect)
			if random.IntN(2) == 0 {
				draw.Draw(after, r, before, image.Pt(random.IntN(10), random.IntN(10)), draw.Src)
			} else {
				box(after, r, uint8(random.IntN(256)))
			}
		}
		c := pictures.Compare(before, after)
		require.GreaterOrEqual(t, c.Share, 0.0)
		require.LessOrEqual(t, c.Share, 1.0)
		for y := range after.Rect.Dy() {
			for x := range after.Rect.Dx() {
				if c.Mask.Pix[y*c.Mask.Stride+x] == 0 {
					continue
				}
				inside := false
				for _, r := range c.Regions {
					inside = inside || (image.Point{x, y}).In(r.After)
				}
				require.True(t, inside, "%d,%d", x, y)
			}
		}
		pictures.Difference(after, c)
	}
}

func TestARecordIsReadAsItWasWritten(t *testing.T) {
	t.Parallel()
	id, key := release.ID{
		1,
		2,
	}, pictures.Key(
		digest.Of([]byte("letters")),
		[]string{".clock", ".ad", ".clock"},
	)
	assert.Equal(
		t,
		key,
		pictures.Key(digest.Of([]byte("letters")), []string{".ad", ".clock"}),
		"in any order",
	)
	assert.NotEqual(t, key, pictures.Key(digest.Of([]byte("other letters")), []string{".ad", ".clock"}))
	when := time.Date(2026, 11, 29, 8, 0, 0, 500, time.UTC)
	r := pictures.Record{Format: pictures.Format, Release: id, Key: key, Browser: "Chrome/156"}
	image := digest.Of([]byte("image"))
	views := pictures.Views([]int{390, 1280}, []string{pictures.Light, pictures.Dark})
	for _, view := range views {
		r = r.With(when, pictures.Shot{Path: "/", View: view, Image: image, Bytes: 5, Height: 800},
			pictures.Shot{Path: "/fares", View: view, Problem: "it answers 404"})
	}
	require.Len(t, r.Shots, 8)
	r = r.With(
		when,
		pictures.Shot{Path: "/fares", View: views[0], Image: image, Bytes: 5, Height: 900, Cut: true},
	)
	require.Len(t, r.Shots, 8, "taken again")
	data, err := r.Encode()
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(data), `{"browser":"Chrome/156","format":1,"key":"`+key+
		`","release":"0102`), string(data))
	assert.Contains(
		t,
		string(data),
		`"shots":[{"bytes":5,"height":800,"image":"`+image.String()+`","path":"/","scheme":"light","width":390}`,
	)
	again, err := pictures.Decode(data, id, key)
	require.NoError(t, err)
	assert.Equal(t, r, again)
	assert.Len(t, r.Images(), 1)
	shot, found := again.Find("/fares", views[0])
	assert.True(t, found)
	assert.True(t, shot.Cut)
	_, found = again.Find("/boats", views[0])
	assert.False(t, found)

	for what, change := range map[string]func(text string) string{
		"another release": func(text string) string { return strings.Replace(text, `"0102`, `"0103`, 1) },
		"a later version": func(text string) string { return strings.Replace(text, `"format":1`, `"format":2`, 1) },
		"no path":         func(text string) string { return strings.Replace(text, `"path":"/"`, `"path":"x"`, 1) },
		"a huge width":    func(text string) string { return strings.Replace(text, `"width":390`, `"width":99999`, 1) },
		"a tall page":     func(text string) string { return strings.Replace(text, `"height":800`, `"height":800000`, 1) },
		"not JSON":        func(text string) string { return text[1:] },
	} {
		_, err := pictures.Decode([]byte(change(string(data))), id, key)
		assert.ErrorIs(t, err, pictures.ErrUnreadable, what)
	}
}

// FuzzDecode holds that a record that is read can be written, and is read again.
func FuzzDecode(f *testing.F) {
	f.Add(
		[]byte(
			`{"browser":"x","format":1,"key":"k","release":"","shots":[{"path":"/","scheme":"light","width":390}],"when":"2026-11-29T08:00:00Z"}`,
		),
	)
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := pictures.Decode(data, release.ID{}, "k")
		if err != nil {
			return
		}
		again, err := r.Encode()
		require.NoError(t, err)
		_, err = pictures.Decode(again, release.ID{}, "k")
		require.NoError(t, err)
	})
}
