package visits_test

import (
	"encoding/json"
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/visits"
)

func visit() visits.Visit {
	return visits.Visit{Time: time.Date(2026, 11, 1, 12, 0, 0, 5e6, time.UTC), Took: 1250 * time.Microsecond,
		Client: netip.MustParseAddr("203.0.113.77"), ID: "k3v9", Secure: true, Method: "GET", Host: "www.corvane.example",
		Path: "/fares", Query: "day=sat", Protocol: "HTTP/2.0", Referrer: "https://www.corvane.example/?q=secret#x",
		Agent: `Mozilla "5.0"`, Status: 200, Bytes: 5120, Site: "corvane", Environment: "production", Entry: 12,
		By: visits.ByFile, Cache: visits.Hit}
}

// TestLinesOfRequests holds both forms fast.
func TestLinesOfRequests(t *testing.T) {
	t.Parallel()
	v := visit()
	assert.Equal(t, `203.0.113.0 - - [01/Nov/2026:12:00:00 +0000] "GET /fares?day=sat HTTP/2.0" 200 5120 "https://www.corvane.example/?…" "Mozilla \x225.0\x22"`+
		"\n", string(visits.Writing{}.Append(nil, &v)))
	assert.Equal(t, `{"time":"2026-11-01T12:00:00.005Z","milliseconds":1.250,"client":"203.0.113.77","id":"k3v9","method":"GET","host":"www.corvane.example",`+
		`"target":"/fares?day=sat","protocol":"HTTP/2.0","referrer":"https://www.corvane.example/?…","agent":"Mozilla \"5.0\"","site":"corvane",`+
		`"environment":"production","by":"file","cache":"hit","status":200,"bytes":5120,"entry":12,"tls":true}`+"\n",
		string(visits.Writing{Form: visits.JSON, Whole: true}.Append(nil, &v)))
	empty := visits.Visit{}
	assert.Equal(t, `- - - [01/Jan/0001:00:00:00 +0000] "  " 0 - "-" "-"`+"\n", string(visits.Writing{}.Append(nil, &empty)))
}

// TestWhatIsNobodysBusiness masks secrets, and shortens addresses.
func TestWhatIsNobodysBusiness(t *testing.T) {
	t.Parallel()
	for given, want := range map[string]string{
		"203.0.113.77": "203.0.113.0", "::ffff:203.0.113.77": "203.0.113.0", "2001:db8:1:2:3::9": "2001:db8:1::",
		"fe80::1%eth0": "fe80::", "127.0.0.1": "127.0.0.0",
	} {
		assert.Equal(t, want, visits.Shorten(netip.MustParseAddr(given)).String())
	}
	assert.False(t, visits.Shorten(netip.Addr{}).IsValid())
	for given, want := range map[string]string{
		"/fares": "/fares", "/.orilla/look/s3cret": "/.orilla/look/…", "/ferries/.orilla/look/s3cret/fares": "/ferries/.orilla/look/…/fares",
		"/.orilla/look/": "/.orilla/look/…", "/.orilla/look/a/.orilla/look/b": "/.orilla/look/…/.orilla/look/…",
	} {
		assert.Equal(t, want, visits.Mask(given))
	}
	v := visit()
	v.Path, v.Referrer, v.Proxied = "/.orilla/look/s3cret/", "https://x.example/.orilla/look/s3cret/?token=s3cret", true
	v.Query = "token=s3cret"
	for _, form := range []visits.Form{visits.Combined, visits.JSON} {
		assert.NotContains(t, string(visits.Writing{Form: form}.Append(nil, &v)), "s3cret", form)
	}
}

var combined = regexp.MustCompile(`^[0-9a-f.:]+ - - \[[^\]]+\] "([^"\\]|\\x[0-9a-f]{2})*" \d+ (\d+|-) "([^"\\]|\\x[0-9a-f]{2})*" "([^"\\]|\\x[0-9a-f]{2})*"\n$`)

// FuzzLines writes whatever a stranger sends: it stays one line, with the fields that it has.
func FuzzLines(f *testing.F) {
	f.Add("GET", "/fares", "a=b", "https://x.example/", "curl", "www.corvane.example")
	f.Add("G\"T", "/\n/", "\x00", "\xff\xfe", "\u2028\u0085\x1b[31m", "\"")
	f.Fuzz(func(t *testing.T, method, path, query, referrer, agent, host string) {
		v := visit()
		v.Method, v.Path, v.Query, v.Referrer, v.Agent, v.Host = method, path, query, referrer, agent, host
		line := string(visits.Writing{}.Append(nil, &v))
		require.Regexp(t, combined, line)
		require.Equal(t, 1, strings.Count(line, "\n"))
		data := visits.Writing{Form: visits.JSON}.Append(nil, &v)
		require.Equal(t, 1, strings.Count(string(data), "\n"))
		var read struct{ Agent, Method string }
		require.NoError(t, json.Unmarshal(data, &read), string(data))
		require.Equal(t, string([]rune(agent)), read.Agent)
	})
}
