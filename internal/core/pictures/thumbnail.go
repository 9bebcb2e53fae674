package pictures

import (
	"bytes"
	"image"
	"image/color"
	"image/jpeg"
)

// A thumbnail is for a list, a report or a mail: the top of a page, small. It is not compared with anything,
// so it may be a photograph (JPEG), which is a tenth of the size.

// Only the top is shown: that is what one recognises a page by.

// Thumbnail returns the top of a picture, so many pixels wide and at most so many high. Each of its pixels is
// the mean of those that it stands for.
func Thumbnail(img image.Image, width, height int) *image.RGBA {
	bounds := img.Bounds()
	width = min(width, bounds.Dx())
	scale := float64(bounds.Dx()) / float64(max(1, width))
	height = min(height, int(float64(bounds.Dy())/scale))
	small := image.NewRGBA(image.Rect(0, 0, width, max(1, height)))
	for y := range height {
		for x := range width {
			part := image.Rect(int(float64(x)*scale), int(float64(y)*scale), int(float64(x+1)*scale),
				int(float64(y+1)*scale)).Add(bounds.Min).Intersect(bounds)
			small.SetRGBA(x, y, mean(img, part))
		}
	}
	return small
}

// Means are taken of colours as they are kept (sRGB), and not of light: the difference is not seen
// at this size.

// mean is the mean of the colours of a part of a picture.
func mean(img image.Image, part image.Rectangle) color.RGBA {
	var r, g, b, count uint32
	for y := part.Min.Y; y < part.Max.Y; y++ {
		for x := part.Min.X; x < part.Max.X; x++ {
			pr, pg, pb, _ := img.At(x, y).RGBA()
			r, g, b, count = r+pr>>8, g+pg>>8, b+pb>>8, count+1
		}
	}
	if count == 0 {
		return color.RGBA{255, 255, 255, 255}
	}
	//nolint:gosec // means of bytes are bytes
	return color.RGBA{uint8(r / count), uint8(g / count), uint8(b / count), 255}
}

// JPEG writes a thumbnail as a photograph.
func JPEG(img image.Image) ([]byte, error) {
	const quality = 82 // of 100: letters stay sharp enough to be recognised
	var out bytes.Buffer
	err := jpeg.Encode(&out, img, &jpeg.Options{Quality: quality})
	return out.Bytes(), err
}
