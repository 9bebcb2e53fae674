// Package canon writes and reads records in the one spelling that RFC 8785 (JSON
// canonicalization) gives each value, so that equal records have equal bytes and
// equal hashes.
//
//	canon.Marshal(map[string]any{"site": "corvane", "format": 1})
//	// {"format":1,"site":"corvane"}
//
// Reading is as strict as writing: Unmarshal refuses a field that the type does
// not have, and bytes that Marshal would not write for the value that they hold.
//
//	{"site":"corvane","format":1}     ErrNotCanonical: the names are not sorted
//	{"format":1, "site":"corvane"}    ErrNotCanonical: a blank
//	{"format":1,"format":1}           ErrNotCanonical: a name twice
//
// Without that, two spellings of one record would have two hashes, and a program
// that passes over a field it does not know would act on half of what was meant.
package canon

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"

	"github.com/gowebpki/jcs"
)

// ErrNotCanonical is returned for bytes that are not just what Marshal writes
// for what they say: another spelling, names in other letters, a name twice, a
// value that is left out when it is written.
var ErrNotCanonical = errors.New("not in canonical form (RFC 8785)")

// Marshal encodes v, by the rules of encoding/json for
// field names, in canonical form.
//
// Numbers are written as RFC 8785 wants them; names are sorted by UTF-16 code
// units.
func Marshal(v any) ([]byte, error) {
	data, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return jcs.Transform(data)
}

// Unmarshal decodes data into v. It refuses unknown fields,
// anything after the value, and all bytes but those that Marshal
// writes for the same value (ErrNotCanonical): a record has one
// form, so whoever reads one knows what its hash is the hash of.
//
// The error is ErrNotCanonical for bytes that Marshal would not write.
func Unmarshal(data []byte, v any) error {
	decoder := json.NewDecoder(bytes.NewReader(data))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(v); err != nil {
		return err
	}

	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return fmt.Errorf("something follows the record")
	}
	again, err := Marshal(v)
	if err != nil {
		return err
	}

	if !bytes.Equal(again, data) {
		return ErrNotCanonical
	}
	return nil
}

// Check returns ErrNotCanonical unless data is one JSON
// value in canonical form, whatever it says.
func Check(data []byte) error {
	again, err := jcs.Transform(data)
	if err != nil {
		return err
	}
	if !bytes.Equal(again, data) {
		return ErrNotCanonical
	}
	return nil
}

const hexDigits = "0123456789abcdef"

// AppendString appends the canonical form of a string of
// valid UTF-8, with its quotes, to out. It exists beside
// Marshal because an index has a hundred thousand of them.
func AppendString(out []byte, text string) []byte {
	out = append(out, '"')
	for i := 0; i < len(text); {
		c := text[i]
		if c >= utf8.RuneSelf {
			_, size := utf8.DecodeRuneInString(text[i:])
			out = append(out, text[i:i+size]...)
			i += size
			continue
		}

		i++
		switch {
		case c == '"' || c == '\\':
			out = append(out, '\\', c)
		case c >= ' ':
			out = append(out, c)
		case c == '\b':
			out = append(out, '\\', 'b')
		case c == '\t':
			out = append(out, '\\', 't')
		case c == '\n':
			out = append(out, '\\', 'n')
		case c == '\f':
			out = append(out, '\\', 'f')
		case c == '\r':
			out = append(out, '\\', 'r')
		default:
			out = append(out, '\\', 'u', '0', '0', hexDigits[c>>4], hexDigits[c&15])
		}
	}

	return append(out, '"')
}

// ErrOther: the bytes are a record, but not the one that belongs there: of
// another version, or of another place.
var ErrOther = errors.New("it is of another version or place")

// Cause is why a record is refused: err if it cannot be
// read, else that it is another one.
func Cause(err error) error { return cmp.Or(err, ErrOther) }
