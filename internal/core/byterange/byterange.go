// Package byterange reads the Range field of a request (RFC 9110, section 14):
// which bytes of a representation somebody asks for.
//
//	ranges, err := byterange.Parse("bytes=0-99, 90-199, -20", 1000)
//	// 0 to 199, and 980 to 999
//
// A field of a few hundred bytes can name thousands of ranges that overlap, or
// that lie apart so that each costs a read of its own. So what overlaps becomes
// one, and a field that then still asks for many is answered with everything,
// as the standard allows (section 14.2): that costs each byte once.
package byterange

import (
	"cmp"
	"errors"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Range is a part of a representation, in bytes. Length is at least 1.
type Range struct{ Start, Length int64 }

// ErrUnsatisfiable: each of the ranges lies behind the end. It becomes status 416.
var ErrUnsatisfiable = errors.New("no range lies within the content")

const (
	// most is how many ranges are answered as such. Readers of documents ask for
	// two or three at once.
	most = 8
	// gap is how many bytes may lie between two ranges that become one: about what
	// the header of a part costs (RFC 9110, section 15.3.7.2).
	gap = 128
)

// Parse reads the value of a Range field for a representation of size bytes. The
// ranges come in the order in which they were asked for, none overlaps another.
//
// Without ranges and without an error, the field is to be ignored: its unit is not
// bytes, it is malformed, it asks for too much in too many pieces, or the
// representation is empty. The error is ErrUnsatisfiable.
func Parse(field string, size int64) ([]Range, error) {
	unit, list, ok := strings.Cut(field, "=")
	if !ok || !strings.EqualFold(unit, "bytes") || size == 0 {
		return nil, nil
	}

	var asked []placed
	specs := 0
	for text := range strings.SplitSeq(list, ",") {
		// Elements of a list may be empty (RFC 9110, section 5.6.1).
		if text = strings.Trim(text, " \t"); text == "" {
			continue
		}
		r, ok := parseOne(text, size)
		if !ok {
			return nil, nil
		}
		specs++
		if r.Length > 0 {
			asked = append(asked, placed{r, specs})
		}
	}

	if len(asked) == 0 && specs > 0 {
		return nil, ErrUnsatisfiable
	}
	ranges := coalesced(asked)
	if len(ranges) == 0 || len(ranges) > most {
		return nil, nil
	}
	return ranges, nil
}

// Format writes ranges as the value of a Range field.
func Format(ranges []Range) string {
	texts := make([]string, len(ranges))
	for i, r := range ranges {
		texts[i] = strconv.FormatInt(r.Start, 10) + "-" + strconv.FormatInt(r.Start+r.Length-1, 10)
	}
	return "bytes=" + strings.Join(texts, ",")
}

// placed is a range with its place in the field.
type placed struct {
	Range
	place int
}

// parseOne reads first-last, first-, or -length. What lies behind the end has
// length 0.
func parseOne(text string, size int64) (r Range, ok bool) {
	first, last, ok := strings.Cut(text, "-")
	if !ok {
		return r, false
	}

	if first == "" {
		length, ok := number(last)
		length = min(length, size)
		return Range{size - length, length}, ok
	}
	start, ok := number(first)
	if !ok {
		return r, false
	}
	end := int64(math.MaxInt64)
	if last != "" {
		if end, ok = number(last); !ok || end < start {
			return r, false
		}
	}
	if start >= size {
		return r, true
	}
	return Range{start, min(end, size-1) - start + 1}, true
}

// number reads digits. What is larger than any file counts as the largest number.
func number(text string) (int64, bool) {
	if text == "" || strings.Trim(text, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		n = math.MaxInt64
	}
	return n, true
}

// coalesced makes one of ranges that overlap or nearly touch, and puts it where the
// first of them was asked for.
func coalesced(asked []placed) []Range {
	slices.SortFunc(asked, func(a, b placed) int { return cmp.Compare(a.Start, b.Start) })
	var joined []placed
	for _, next := range asked {
		if len(joined) > 0 {
			last := &joined[len(joined)-1]
			if end := last.Start + last.Length; next.Start <= end || next.Start-end < gap {
				last.Length = max(end, next.Start+next.Length) - last.Start
				last.place = min(last.place, next.place)
				continue
			}
		}
		joined = append(joined, next)
	}

	slices.SortFunc(joined, func(a, b placed) int { return cmp.Compare(a.place, b.place) })
	ranges := make([]Range, len(joined))
	for i, r := range joined {
		ranges[i] = r.Range
	}
	return ranges
}
