package byterange_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/byterange"
)

func TestParse(t *testing.T) {
	t.Parallel()
	many := func(n, step int) string {
		texts := make([]string, n)
		for i := range texts {
			texts[i] = fmt.Sprintf("%d-%d", i*step, i*step)
		}
		return "bytes=" + strings.Join(texts, ",")
	}
	const ignored, unsatisfiable = "", "416"
	for name, test := range map[string]struct {
		field string
		size  int64
		want  string
	}{
		"the first bytes":                      {"bytes=0-99", 1000, "bytes=0-99"},
		"from a place on":                      {"bytes=900-", 1000, "bytes=900-999"},
		"the last bytes":                       {"bytes=-100", 1000, "bytes=900-999"},
		"more than there is at the end":        {"bytes=-5000", 1000, "bytes=0-999"},
		"an end behind the end":                {"bytes=900-5000", 1000, "bytes=900-999"},
		"an end beyond all numbers":            {"bytes=900-99999999999999999999", 1000, "bytes=900-999"},
		"a start beyond all numbers":           {"bytes=99999999999999999999-", 1000, unsatisfiable},
		"units have no case":                   {"Bytes=0-99", 1000, "bytes=0-99"},
		"another unit":                         {"pages=1-2", 1000, ignored},
		"no unit":                              {"0-99", 1000, ignored},
		"nothing":                              {"bytes=", 1000, ignored},
		"behind the end":                       {"bytes=1000-", 1000, unsatisfiable},
		"the last no bytes":                    {"bytes=-0", 1000, unsatisfiable},
		"one behind the end, one within":       {"bytes=5000-, 0-9", 1000, "bytes=0-9"},
		"an empty file":                        {"bytes=0-", 0, ignored},
		"an end before the start":              {"bytes=9-5", 1000, ignored},
		"signs":                                {"bytes=+1-2", 1000, ignored},
		"two dashes":                           {"bytes=--1", 1000, ignored},
		"spaces within":                        {"bytes=1 -2", 1000, ignored},
		"one malformed among others":           {"bytes=0-9,x-", 1000, ignored},
		"empty elements":                       {"bytes=,0-9 ,\t,500-509", 1000, "bytes=0-9,500-509"},
		"in the order asked for":               {"bytes=500-509,0-9", 1000, "bytes=500-509,0-9"},
		"overlapping ones are one":             {"bytes=0-99,90-199,-20", 1000, "bytes=0-199,980-999"},
		"near ones are one":                    {"bytes=0-9,100-109", 1000, "bytes=0-109"},
		"one that joins two, where it began":   {"bytes=700-,400-499,0-9,450-720", 1000, "bytes=400-999,0-9"},
		"the same a thousand times":            {"bytes=0-0" + strings.Repeat(",0-0", 1000), 1000, "bytes=0-0"},
		"eight apart":                          {many(8, 200), 10_000, many(8, 200)},
		"nine apart are answered with it all":  {many(9, 200), 10_000, ignored},
		"a thousand apart, in a field of 8 kB": {many(1000, 8<<20), 8 << 40, ignored},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ranges, err := byterange.Parse(test.field, test.size)
			if test.want == unsatisfiable {
				require.ErrorIs(t, err, byterange.ErrUnsatisfiable)
				return
			}
			require.NoError(t, err)
			got := ignored
			if ranges != nil {
				got = byterange.Format(ranges)
			}
			assert.Equal(t, test.want, got)
		})
	}
}

// FuzzParse: whatever is asked for lies within, costs each byte once at most, is
// bounded in number, and reads back as itself.
func FuzzParse(f *testing.F) {
	f.Add("bytes=0-99, 90-199, -20", int64(1000))
	f.Add("bytes=-0", int64(1))
	f.Add("BYTES=9-5,,", int64(7))
	f.Fuzz(func(t *testing.T, field string, size int64) {
		if size < 0 {
			return
		}
		ranges, err := byterange.Parse(field, size)
		if err != nil || ranges == nil {
			return
		}
		require.LessOrEqual(t, len(ranges), 8)
		for i, r := range ranges {
			require.Positive(t, r.Length)
			require.GreaterOrEqual(t, r.Start, int64(0))
			require.LessOrEqual(t, r.Length, size-r.Start)
			for _, other := range ranges[:i] {
				require.True(t, r.Start+r.Length <= other.Start || other.Start+other.Length <= r.Start,
					"%v overlaps %v", r, other)
			}
		}
		again, err := byterange.Parse(byterange.Format(ranges), size)
		require.NoError(t, err)
		require.Equal(t, ranges, again)
	})
}
