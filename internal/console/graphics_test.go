package console

import (
	"bytes"
	"encoding/base64"
	"image"
	"image/color"
	"image/png"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTerminalsThatShowSixels(t *testing.T) {
	t.Parallel()
	for identity, shows := range map[string]bool{"\x1b[?62;4;22c": true, "\x1b[?4;6c": false, "\x1b[?64;1;2;6;9;15;16;17;18;21;22;28c": false,
		"\x1b[?63;1;4c": true, "": false, "c": false, "\x1b[?62;14;44c": false} {
		assert.Equal(t, shows, isSixel(identity), "%q", identity)
	}
}

// drawing is a small picture of three colours.
func drawing() *image.RGBA {
	img := image.NewRGBA(image.Rect(0, 0, 40, 15))
	for y := range 15 {
		for x := range 40 {
			img.Set(x, y, []color.Color{color.RGBA{255, 0, 0, 255}, color.RGBA{0, 0, 255, 255}, color.White}[x/7%3])
		}
	}
	return img
}

// TestSixelsAreThePicture reads them back: six rows a line, a colour after the other.
func TestSixelsAreThePicture(t *testing.T) {
	t.Parallel()
	text := sixel(drawing())
	require.True(t, strings.HasPrefix(text, "\x1bPq\"1;1;40;15"))
	require.True(t, strings.HasSuffix(text, "\x1b\\"))
	body := strings.TrimSuffix(text, "\x1b\\")
	colours := map[int]color.RGBA{}
	for _, found := range regexp.MustCompile(`#(\d+);2;(\d+);(\d+);(\d+)`).FindAllStringSubmatch(body, -1) {
		part := func(i int) uint8 { n, _ := strconv.Atoi(found[i]); return uint8(n * 255 / 100) }
		number, _ := strconv.Atoi(found[1])
		colours[number] = color.RGBA{part(2), part(3), part(4), 255}
	}
	drawn := image.NewRGBA(image.Rect(0, 0, 40, 18))
	x, y, colour := 0, 0, 0
	for _, found := range regexp.MustCompile(`#(\d+)(;2;\d+;\d+;\d+)?|!(\d+)([?-~])|([?-~])|(\$)|(-)`).FindAllStringSubmatch(body[len("\x1bPq\"1;1;40;15"):], -1) {
		put := func(count int, bits byte) {
			for range count {
				for row := range 6 {
					if bits>>row&1 == 1 {
						drawn.Set(x, y+row, colours[colour])
					}
				}
				x++
			}
		}
		switch {
		case found[1] != "":
			if found[2] == "" {
				colour, _ = strconv.Atoi(found[1])
			}
		case found[3] != "":
			count, _ := strconv.Atoi(found[3])
			put(count, found[4][0]-63)
		case found[5] != "":
			put(1, found[5][0]-63)
		case found[6] != "":
			x = 0
		default:
			x, y = 0, y+6
		}
	}
	for py := range 15 {
		for px := range 40 {
			assert.Equal(t, drawing().RGBAAt(px, py), drawn.RGBAAt(px, py), "%d,%d", px, py)
		}
	}
}

func TestKittyGraphicsAreAPNGInPieces(t *testing.T) {
	t.Parallel()
	noise := image.NewRGBA(image.Rect(0, 0, 90, 90))
	for i := range noise.Pix {
		noise.Pix[i] = uint8(i * i * 7919 >> 5)
	}
	text := kitty(noise)
	pieces := regexp.MustCompile("\x1b_G([^;]*);([^\x1b]*)\x1b\\\\").FindAllStringSubmatch(text, -1)
	require.Greater(t, len(pieces), 2)
	data := ""
	for i, piece := range pieces {
		assert.LessOrEqual(t, len(piece[2]), 4096)
		assert.Equal(t, i == 0, strings.HasPrefix(piece[1], "a=T,f=100,"))
		assert.Equal(t, i == len(pieces)-1, strings.HasSuffix(piece[1], "m=0"))
		data += piece[2]
	}
	raw, err := base64.StdEncoding.DecodeString(data)
	require.NoError(t, err)
	size, err := png.DecodeConfig(bytes.NewReader(raw))
	require.NoError(t, err)
	assert.Equal(t, 90, size.Width)
}

func TestTextsHangWhereTheyBegin(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "one two three", hanging(0, 5, "one two three"))
	assert.Equal(t, "one two three four\n          five six", hanging(30, 10, "one two three four five six"))
}
