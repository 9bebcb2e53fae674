package address_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/address"
)

func TestSplit(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]struct {
		names    []string
		slash    bool
		repeated bool
		err      error
	}{
		"/":               {nil, true, false, nil},
		"/a":              {[]string{"a"}, false, false, nil},
		"/a/":             {[]string{"a"}, true, false, nil},
		"/a/b":            {[]string{"a", "b"}, false, false, nil},
		"//":              {[]string{}, true, true, nil},
		"//a":             {[]string{"a"}, false, true, nil},
		"/a//b/":          {[]string{"a", "b"}, true, true, nil},
		"/a%2Fb":          {[]string{"a/b"}, false, false, nil},
		"/%61":            {[]string{"a"}, false, false, nil},
		"/%2561":          {[]string{"%61"}, false, false, nil},
		"/caf%C3%A9":      {[]string{"café"}, false, false, nil},
		"/cafe%CC%81":     {[]string{"café"}, false, false, nil},
		"/café":           {[]string{"café"}, false, false, nil},
		"/a+b":            {[]string{"a+b"}, false, false, nil},
		"/...":            {[]string{"..."}, false, false, nil},
		"/..":             {err: address.ErrDot},
		"/..;/admin":      {err: address.ErrDot},
		"/a/%2e%2e%3bx/b": {err: address.ErrDot},
		"/.;":             {err: address.ErrDot},
		"/a;b/..;c.d":     {err: address.ErrDot},
		"/...;":           {[]string{"...;"}, false, false, nil},
		"/a/./b":          {err: address.ErrDot},
		"/%2e%2E/b":       {err: address.ErrDot},
		"/%":              {err: address.ErrEscape},
		"/%4":             {err: address.ErrEscape},
		"/%zz":            {err: address.ErrEscape},
		"/%ff":            {err: address.ErrUTF8},
		"/\xff":           {err: address.ErrUTF8},
		"/a%00":           {err: address.ErrControl},
		"/a%0D%0Ab":       {err: address.ErrControl},
		"/a%7F":           {err: address.ErrControl},
		"/a\tb":           {err: address.ErrControl},
		"/" + "a/" + "b/": {[]string{"a", "b"}, true, false, nil},
	} {
		p, repeated, err := address.Split(text)
		if want.err != nil {
			require.ErrorIs(t, err, want.err, "%q", text)
			continue
		}
		require.NoError(t, err, "%q", text)
		assert.Equal(t, want.names, p.Names, "%q", text)
		assert.Equal(t, want.slash, p.Slash, "%q", text)
		assert.Equal(t, want.repeated, repeated, "%q", text)
	}
}

func TestEncode(t *testing.T) {
	t.Parallel()
	for want, path := range map[string]address.Path{
		"/":                         {},
		"/a":                        {Names: []string{"a"}},
		"/a/":                       {Names: []string{"a"}, Slash: true},
		"/a%2Fb":                    {Names: []string{"a/b"}},
		"/%5Cevil.example":          {Names: []string{`\evil.example`}},
		"/caf%C3%A9":                {Names: []string{"café"}},
		"/%25":                      {Names: []string{"%"}},
		"/a%20b%3Fc%23d":            {Names: []string{"a b?c#d"}},
		"/-._~!$&'()*+,;=:@":        {Names: []string{"-._~!$&'()*+,;=:@"}},
		"/%22%3C%3E%5B%5D%5E%60%7C": {Names: []string{"\"<>[]^`|"}},
	} {
		t.Run(want, func(t *testing.T) {
			assert.Equal(t, want, path.String())
		})
	}
	assert.Equal(t, "a%26b%3Dc%2Bd%20e/f", address.EncodeValue("a&b=c+d e/f"))
	assert.Equal(t, ":~:text=a%20b", address.EncodeFragment(":~:text=a b"))
}

func TestOfFile(t *testing.T) {
	t.Parallel()
	for file, want := range map[string]struct {
		address string
		other   bool
	}{
		"index.html": {"/", true}, "a/index.html": {"/a/", true}, "a.html": {"/a", true}, "a/b.html": {"/a/b",
			true},
		"a.css": {"/a.css", false}, ".html": {"/.html", false}, "index.htm": {"/index.htm", false},
		"é.html": {"/%C3%A9", true},
	} {
		t.Run(file, func(t *testing.T) {
			p, other := address.OfFile(strings.Split(file, "/"))
			assert.Equal(t, want.address, p.String(), file)
			assert.Equal(t, want.other, other, file)
		})
	}
}

func TestClimbs(t *testing.T) {
	t.Parallel()
	for value, want := range map[string]bool{
		"..": true, ".": true, "a/..": true, "../a": true, "a/../b": true, `..\a`: true, `a\..\b`: true,
		"./a": true, "a/.": true, "/..": true,
		"a/..;/b": true, "..;x": true, "...;": false, "a;..": false, "": false, "...": false, "a..b": false,
		"..a": false, "a/b": false, "a/...": false, ".a/b.": false, ".well-known": false,
	} {
		t.Run(value, func(t *testing.T) {
			assert.Equal(t, want, address.Climbs(value), "%q", value)
		})
	}
}

func TestParameters(t *testing.T) {
	t.Parallel()
	q := address.Query{Raw: "a=1&b=%20x&a=2&c&=d&e+f=g%2Bh&bad=%zz&raw=%ff"}
	for name, want := range map[string]string{"a": "1", "b": " x", "c": "", "": "d", "e f": "g+h",
		"bad": "%zz", "raw": "%ff"} {
		t.Run(name, func(t *testing.T) {
			got, ok := q.First(name)
			assert.True(t, ok, name)
			assert.Equal(t, want, got, name)
		})
	}
	_, ok := q.First("missing")
	assert.False(t, ok)
	assert.Equal(t, "b=%20x&c&=d&e+f=g%2Bh&bad=%zz&raw=%ff",
		q.Without(func(name string) bool { return name == "a" }),
		"all of a name, in the spelling of the rest")
	empty := address.Query{Raw: "&&a&"}
	assert.Equal(t, "a", empty.Without(func(string) bool { return false }))
}

func TestClean(t *testing.T) {
	t.Parallel()
	for query, want := range map[string]string{
		"a=1&b=%2f": "a=1&b=%2f", "a=b c": "a=b%20c", "a=\r\nset-cookie": "a=%0D%0Aset-cookie",
		"a=é": "a=%C3%A9", `a="<>\^{|}#` + "`": "a=%22%3C%3E%5C%5E%7B%7C%7D%23%60",
		"": "", "?/:@!$'()*,;": "?/:@!$'()*,;",
	} {
		t.Run(query, func(t *testing.T) {
			assert.Equal(t, want, address.Clean(query))
		})
	}
}

// FuzzSplit makes sure that what is understood reads back
// as itself, and never leaves the site.
func FuzzSplit(f *testing.F) {
	for _, seed := range []string{"/", "//a", "/%2e%2e/", "/caf%CC%81", "/a%2F..%2F", `/\\`, "/a?b"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		p, _, err := address.Split(text)
		if err != nil {
			return
		}
		written := p.String()
		again, repeated, err := address.Split(written)
		if err != nil || repeated || again.String() != written || again.Name() != p.Name() ||
			again.Slash != p.Slash {
			t.Fatalf("%q: %q, %q, %v", text, written, again.String(), err)
		}
		if !strings.HasPrefix(written, "/") || strings.HasPrefix(written, "//") ||
			strings.ContainsAny(written, "\\\x00\r\n ?#") {
			t.Fatalf("%q: %q", text, written)
		}
	})
}
