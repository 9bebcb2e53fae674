package publish

import (
	"unicode/utf8"

	"orilla.example/orilla/internal/core/media"
)

// utf8Check tells whether content that comes in parts is
// text: valid UTF-8 without a NUL.
type utf8Check struct {
	rest []byte // the beginning of a character that the next part should end
	bad  bool
}

// add takes the next bytes. A character that the pieces cut in two is put
// together again.
func (c *utf8Check) add(data []byte) {
	if c.bad {
		return
	}
	if len(c.rest) > 0 {
		data = append(c.rest, data...)
		c.rest = nil
	}

	end := len(data)
	for back := 1; back <= min(utf8.UTFMax, len(data)); back++ {
		if b := data[len(data)-back]; utf8.RuneStart(b) {
			if !utf8.FullRune(data[len(data)-back:]) {
				end = len(data) - back
			}
			break
		}
	}
	c.rest = append(c.rest, data[end:]...)
	c.bad = !media.IsText(data[:end])
}

// valid reports whether all bytes so far are UTF-8, and no character is left
// half.
func (c *utf8Check) valid() bool { return !c.bad && len(c.rest) == 0 }
