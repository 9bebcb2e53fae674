package coding_test

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/storage"
)

// TestAccepted: the examples of RFC 9110, section 12.5.3, and what else is sent.
func TestAccepted(t *testing.T) {
	t.Parallel()
	for fields, want := range map[string]string{
		"compress, gzip": "gzip", "": "", "*": "br zstd gzip", "compress;q=0.5, gzip;q=1.0": "gzip",
		"gzip;q=1.0, identity; q=0.5, *;q=0": "gzip",
		"gzip, deflate, br, zstd":            "br zstd gzip", "gzip, deflate": "gzip", "br;q=1.0, gzip;q=0.8, *;q=0.1": "br gzip zstd",
		"gzip;q=0.9, br;q=0.5": "gzip br", "GZIP, BR": "br gzip", "x-gzip": "gzip", "gzip;q=0": "", "br;q=0, *": "zstd gzip",
		"identity": "", "identity;q=1, br;q=0.5": "", "identity;q=0.5, br;q=0.5": "br", "identity;q=0": "", "deflate": "",
		" gzip ; q = 0.5 ,br;q=0.4": "gzip br", "gzip;q=2": "", "gzip;q=-1": "", "gzip;q=0.1234": "", "gzip;level=9": "",
		"gzip;q=": "", ",,,gzip,,": "gzip", "gzip;q=1e0": "", "gzip;q=NaN": "", "*;q=0": "", "br, br;q=0": "",
		strings.Repeat("a,", 10_000) + "gzip": "gzip",
	} {
		var got []string
		for _, c := range coding.Accepted(fields) {
			got = append(got, c.String())
		}
		assert.Equal(t, want, strings.Join(got, " "), "%.60q", fields)
	}
}

func TestGains(t *testing.T) {
	t.Parallel()
	for mediaType, want := range map[string]bool{
		"text/html; charset=utf-8": true, "text/css": true, "text/javascript; charset=utf-8": true, "application/json": true,
		"application/manifest+json": true, "image/svg+xml": true, "application/wasm": true, "font/ttf": true,
		"application/atom+xml": true, "application/geo+json": true, "image/vnd.microsoft.icon": true,
		"font/woff2": false, "image/png": false, "video/mp4": false, "application/zip": false, "application/pdf": false,
		"application/octet-stream": false, "": false, "application/gzip": false,
	} {
		assert.Equal(t, want, coding.Gains(mediaType, 10_000), mediaType)
	}
	assert.False(t, coding.Gains("text/css", coding.Least-1))
	assert.True(t, coding.Gains("text/css", coding.Most))
	assert.False(t, coding.Gains("text/css", coding.Most+1))
	assert.Equal(t, storage.MaxObject, coding.Most)
}

func TestKeys(t *testing.T) {
	t.Parallel()
	d := digest.Of([]byte("Corvane"))
	for _, c := range coding.All {
		key := coding.Key(d, c)
		require.NoError(t, storage.CheckKey(key))
		_, known := storage.KindOf(key)
		assert.True(t, known, key)
		got, which, ok := coding.FromKey(key)
		assert.True(t, ok)
		assert.Equal(t, []any{d, c}, []any{got, which})
	}
	for _, key := range []string{d.Key(), "variants/" + d.String() + ".br", coding.Key(d, coding.Brotli) + "x", "",
		"variants/00/" + d.String() + ".br", coding.Key(d, coding.Brotli)[:20], strings.ToUpper(coding.Key(d, coding.Gzip))} {
		_, _, ok := coding.FromKey(key)
		assert.False(t, ok, key)
	}
}

var text = []byte(strings.Repeat("Corvane Ferries sail between Sula and Velley. ", 200))

func TestEachCodingDecodes(t *testing.T) {
	t.Parallel()
	noise := make([]byte, 10_000)
	for i := range noise {
		noise[i] = byte(rand.Uint32())
	}
	for _, c := range coding.All {
		for _, level := range []coding.Level{coding.Fast, coding.Best} {
			data, err := coding.Encode(c, level, text)
			require.NoError(t, err)
			require.NoError(t, coding.Verify(c, data, digest.Of(text), int64(len(text))), c)
			again, err := coding.Encode(c, level, text)
			require.NoError(t, err)
			assert.Equal(t, data, again, "the same bytes again")
			_, err = coding.Encode(c, level, noise)
			require.ErrorIs(t, err, coding.ErrGainless, c)
		}
	}
}

// TestLyingVariants are refused, whatever they would become.
func TestLyingVariants(t *testing.T) {
	t.Parallel()
	of, size := digest.Of(text), int64(len(text))
	bomb := map[coding.Coding][]byte{}
	var out bytes.Buffer
	b := brotli.NewWriterLevel(&out, 9)
	zeros := make([]byte, 1<<20)
	for range 256 {
		b.Write(zeros) //nolint:errcheck // into memory
	}
	require.NoError(t, b.Close())
	bomb[coding.Brotli] = bytes.Clone(out.Bytes())
	out.Reset()
	g := gzip.NewWriter(&out)
	for range 8 {
		g.Write(zeros) //nolint:errcheck // into memory
	}
	require.NoError(t, g.Close())
	bomb[coding.Gzip] = bytes.Clone(out.Bytes())
	out.Reset()
	z, err := zstd.NewWriter(&out, zstd.WithWindowSize(64<<20), zstd.WithSingleSegment(false))
	require.NoError(t, err)
	for range 256 {
		z.Write(zeros) //nolint:errcheck // into memory
	}
	require.NoError(t, z.Close())
	bomb[coding.Zstd] = bytes.Clone(out.Bytes())

	for _, c := range coding.All {
		good, err := coding.Encode(c, coding.Best, text)
		require.NoError(t, err)
		other, err := coding.Encode(c, coding.Best, append([]byte("x"), text...))
		require.NoError(t, err)
		short, err := coding.Encode(c, coding.Best, text[:len(text)-1])
		require.NoError(t, err)
		damaged := bytes.Clone(good)
		damaged[len(damaged)/2] ^= 1
		for name, data := range map[string][]byte{"other": other, "short": short, "damaged": damaged, "cut": good[:len(good)-1],
			"empty": {}, "longer": slices.Concat(good, []byte("x")), "plain": text, "bomb": bomb[c],
			"more": slices.Concat(good, good)} {
			assert.ErrorIs(t, coding.Verify(c, data, of, size), coding.ErrBad, "%s %s", c, name)
		}
	}
}

// FuzzAccepted: what can be sent makes a list without repetitions, and never fails.
func FuzzAccepted(f *testing.F) {
	for _, seed := range []string{"gzip, br;q=0.5", "*", "identity;q=0", ";q=;", "br;q=1;q=0"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, fields string) {
		list := coding.Accepted(fields)
		seen := map[coding.Coding]bool{}
		for _, c := range list {
			if seen[c] || c == coding.Identity {
				t.Fatal(list)
			}
			seen[c] = true
		}
	})
}

// FuzzVerify: no bytes pass as a variant of what they are not, or make it fail otherwise.
func FuzzVerify(f *testing.F) {
	for _, c := range coding.All {
		data, _ := coding.Encode(c, coding.Best, text)
		f.Add(uint8(c), data)
	}
	f.Fuzz(func(t *testing.T, c uint8, data []byte) {
		if c < 1 || c > 3 {
			return
		}
		err := coding.Verify(coding.Coding(c), data, digest.Of([]byte("no")), 2000)
		if err == nil {
			t.Fatal("it passes")
		}
	})
}

// BenchmarkEncode shows what levels cost, in MB a second.
func BenchmarkEncode(b *testing.B) {
	for _, c := range coding.All {
		for name, level := range map[string]coding.Level{"fast": coding.Fast, "best": coding.Best} {
			b.Run(c.String()+"/"+name, func(b *testing.B) {
				b.SetBytes(int64(len(text)))
				for b.Loop() {
					coding.Encode(c, level, text) //nolint:errcheck // it is measured
				}
			})
		}
	}
}

// TestADifferenceIsProved: whatever is in a stream of dcz, it is the content or an error.
func TestADifferenceIsProved(t *testing.T) {
	t.Parallel()
	before := []byte(strings.Repeat("the boat to Sula sails at nine, and the one to Velley at ten. ", 100))
	after := bytes.Replace(before, []byte("nine"), []byte("noon"), 1)
	stream, err := coding.EncodeWith(before, after)
	require.NoError(t, err)
	assert.Less(t, len(stream), 120)
	of, size := digest.Of(after), int64(len(after))
	require.NoError(t, coding.VerifyWith(before, stream, of, size))

	require.ErrorIs(t, coding.VerifyWith(after, stream, of, size), coding.ErrBad, "another dictionary")
	require.ErrorIs(t, coding.VerifyWith(before, stream, digest.Of(before), size), coding.ErrBad)
	require.ErrorIs(t, coding.VerifyWith(before, stream, of, size-1), coding.ErrBad)
	require.ErrorIs(t, coding.VerifyWith(before, stream[:len(stream)-3], of, size), coding.ErrBad)
	bomb, err := coding.EncodeWith(before, bytes.Repeat(before, 1000))
	require.NoError(t, err)
	require.ErrorIs(t, coding.VerifyWith(before, bomb, of, size), coding.ErrBad)

	_, err = coding.EncodeWith(make([]byte, coding.DictionaryMost), after)
	require.ErrorIs(t, err, coding.ErrGainless)
	for fields, want := range map[string]bool{"dcz": true, "br, DCZ;q=0.5": true, "dcz;q=0": false, "*": false,
		"dcb": false, "": false, "gzip, deflate, br, zstd, dcb, dcz": true} {
		assert.Equal(t, want, coding.AcceptsDictionary(fields), fields)
	}
	_, _, is := coding.FromKey("variants/" + of.String()[:2] + "/" + of.String() + ".dcz")
	assert.False(t, is, "it is no variant")
}

func FuzzVerifyWith(f *testing.F) {
	before := []byte(strings.Repeat("the boat to Sula sails at nine. ", 40))
	after := append(bytes.Clone(before), "And the one to Velley."...)
	stream, err := coding.EncodeWith(before, after)
	require.NoError(f, err)
	f.Add(stream)
	f.Fuzz(func(t *testing.T, stream []byte) {
		if coding.VerifyWith(before, stream, digest.Of(after), int64(len(after))) == nil {
			d, err := zstd.NewReader(nil, zstd.WithDecoderDictRaw(0, before))
			require.NoError(t, err)
			defer d.Close()
			data, err := d.DecodeAll(stream[40:], nil)
			require.NoError(t, err)
			assert.Equal(t, after, data)
		}
	})
}
