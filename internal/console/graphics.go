package console

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"image"
	"image/color/palette"
	"image/draw"
	"image/png"
	"os"
	"strings"
	"time"
)

// Some terminals show pictures between lines. There are two ways that many of them know:
//
//	sixel   six rows of pixels at a time, as printers of the eighties took them; DEC's manual of the
//	        VT330/340 describes it, and a terminal says that it knows it when it is asked what it is
//	kitty   the picture as PNG, in pieces (the terminal graphics protocol, as kitty documents it)
//
// Whoever runs in neither sees no picture, and is told how to open one.

// Graphics is a way of showing pictures.
type Graphics string

// The ways.
const (
	NoGraphics    Graphics = ""
	SixelGraphics Graphics = "sixel"
	KittyGraphics Graphics = "kitty"
)

// askTime is how long a terminal may take to say what it is; over a slow line it says it later, and shows
// no pictures.
const askTime = 400 * time.Millisecond

// GraphicsOf finds out how the terminal shows pictures.
func GraphicsOf(ctx context.Context, c *Console) Graphics {
	if !c.OutTerm {
		return NoGraphics
	}
	// What knows this way says so in its environment; to ask costs a second answer.
	for _, variable := range []string{"KITTY_WINDOW_ID", "GHOSTTY_RESOURCES_DIR", "WEZTERM_EXECUTABLE"} {
		if os.Getenv(variable) != "" {
			return KittyGraphics
		}
	}
	if isSixel(identity(ctx, c)) {
		return SixelGraphics
	}
	return NoGraphics
}

// The question is answered where keys are typed, so the terminal must be ours to read from: in the
// background, or through a pipe, nothing is asked.

// identity asks a terminal what it is (DA1, primary device attributes, ECMA-48 8.3.24), and returns what it
// answered: ESC [ ? 62 ; 4 ; 22 c
func identity(ctx context.Context, c *Console) string {
	if !HasKeys() {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	pressed, restore := Keys(ctx)
	defer restore()
	fmt.Fprint(c.Out, "\x1b[c") //nolint:errcheck // then there is no answer
	var answer strings.Builder
	for {
		select {
		case key, ok := <-pressed:
			if !ok {
				return ""
			}
			if answer.WriteByte(key); key == 'c' || answer.Len() > 100 {
				return answer.String()
			}
		case <-ctx.Done():
			return ""
		}
	}
}

// isSixel reports whether a terminal that is this shows sixels: 4 is among its attributes.
func isSixel(identity string) bool {
	_, attributes, found := strings.Cut(strings.TrimSuffix(identity, "c"), "[?")
	for i, attribute := range strings.Split(attributes, ";") {
		if found && i > 0 && attribute == "4" { // the first is the kind of terminal
			return true
		}
	}
	return false
}

// Show shows a picture, on lines of its own.
func Show(c *Console, how Graphics, img image.Image) {
	switch how {
	case KittyGraphics:
		c.Print("%s", kitty(img))
	case SixelGraphics:
		c.Print("%s", sixel(img))
	}
}

// The pieces are short because terminals read into small buffers; the last one says that it is the last.

// kitty writes a picture as PNG in base64, in pieces of 4,096 characters.
func kitty(img image.Image) string {
	const piece = 4096
	var data bytes.Buffer
	png.Encode(&data, img) //nolint:errcheck // into memory
	text, out := base64.StdEncoding.EncodeToString(data.Bytes()), strings.Builder{}
	for first := true; first || text != ""; first = false {
		part := text[:min(piece, len(text))]
		text = text[len(part):]
		more := 0
		if text != "" {
			more = 1
		}
		keys := fmt.Sprintf("m=%d", more)
		if first {
			keys = "a=T,f=100," + keys
		}
		out.WriteString("\x1b_G" + keys + ";" + part + "\x1b\\")
	}
	return out.String()
}

// sixel writes a picture in the 216 colours that are the same everywhere. Of each six rows it writes one line
// for each colour in them: a character for each column, whose bits are the rows.
//
//	ESC P q                 begins
//	# 3 ; 2 ; 20 ; 0 ; 40   colour 3 is 20 % red and 40 % blue
//	# 3 ! 12 ~ $            twelve columns of that, all six rows; and back to the first column
//	-                       the next six rows
//	ESC \                   ends
func sixel(img image.Image) string {
	const rows = 6
	bounds := img.Bounds()
	paletted := image.NewPaletted(bounds, palette.WebSafe)
	draw.FloydSteinberg.Draw(paletted, bounds, img, bounds.Min)
	var out strings.Builder
	fmt.Fprintf(&out, "\x1bPq\"1;1;%d;%d", bounds.Dx(), bounds.Dy())
	for i, colour := range palette.WebSafe {
		r, g, b, _ := colour.RGBA()
		fmt.Fprintf(&out, "#%d;2;%d;%d;%d", i, r*100/0xffff, g*100/0xffff, b*100/0xffff)
	}
	for top := bounds.Min.Y; top < bounds.Max.Y; top += rows {
		bits := map[uint8][]byte{}
		for y := top; y < min(top+rows, bounds.Max.Y); y++ {
			for x := bounds.Min.X; x < bounds.Max.X; x++ {
				index := paletted.ColorIndexAt(x, y)
				if bits[index] == nil {
					bits[index] = make([]byte, bounds.Dx())
				}
				bits[index][x-bounds.Min.X] |= 1 << (y - top)
			}
		}
		for i := range palette.WebSafe {
			if line := bits[uint8(i)]; line != nil { //nolint:gosec // there are 216
				fmt.Fprintf(&out, "#%d", i)
				writeRuns(&out, line)
				out.WriteByte('$')
			}
		}
		out.WriteByte('-')
	}
	out.WriteString("\x1b\\")
	return out.String()
}

// writeRuns writes columns of one colour; several that are alike are counted.
func writeRuns(out *strings.Builder, line []byte) {
	const first, worth = 63, 4 // what stands for no rows; from how many on counting is shorter
	for i := 0; i < len(line); {
		count := 1
		for i+count < len(line) && line[i+count] == line[i] {
			count++
		}
		character := string(rune(first + line[i]))
		if count >= worth {
			fmt.Fprintf(out, "!%d%s", count, character)
		} else {
			out.WriteString(strings.Repeat(character, count))
		}
		i += count
	}
}
