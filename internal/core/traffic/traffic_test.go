package traffic_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/core/visits"
)

// browser is what a visitor's program calls itself.
const browser = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"

// salt is one that tests agree on.
var salt = traffic.Salt{Day: "2026-11-29", Data: [16]byte{7}}

// visitor returns the n-th of many addresses.
func visitor(n int) netip.Addr {
	return netip.AddrFrom4([4]byte{10, byte(n >> 16), byte(n >> 8), byte(n)})
}

// page is a visit of a page that is there, by the n-th visitor.
func page(path string, n int) *visits.Visit {
	return &visits.Visit{Method: "GET", Host: "corvane.example", Path: path, Status: 200, Bytes: 1000,
		By: visits.ByFile, Agent: browser, Client: visitor(n), Encoding: "br", Cache: visits.Hit}
}

// add counts visits.
func add(t *traffic.Tally, list ...*visits.Visit) {
	for _, v := range list {
		t.Add(v, salt.Name(), salt.Number(v.Client, v.Agent))
	}
}

// TestSketches count visitors, few and many, within what sketches can.
func TestSketches(t *testing.T) {
	t.Parallel()
	for _, n := range []int{0, 1, 2, 10, 100, 600, 3000, 10_000, 20_000, 200_000, 1_000_000} {
		s, half, other := &traffic.Sketch{}, &traffic.Sketch{}, &traffic.Sketch{}
		for i := range n {
			number := salt.Number(visitor(i), browser)
			s.Add(number)
			s.Add(number) // who comes again is no other
			if i%2 == 0 {
				half.Add(number)
			} else {
				other.Add(number)
			}
		}
		// 1.6 percent is one standard deviation; four are next to certain.
		assert.InDelta(t, n, s.Size(), math.Max(1, float64(n)*0.065), n)
		text, err := s.MarshalText()
		require.NoError(t, err)
		read := &traffic.Sketch{}
		require.NoError(t, read.UnmarshalText(text))
		assert.Equal(t, s.Size(), read.Size())
		assert.Less(t, len(text), 12_000)
		half.Unite(other)
		assert.Equal(t, s.Size(), half.Size(), "the union is what was added to both")
	}
	// One address with two programs is two visitors, and under another salt each is another.
	one, other := visitor(1), traffic.NewSalt("2026-11-29")
	assert.NotEqual(t, salt.Number(one, browser), salt.Number(one, "Mozilla/5.0 (Android)"))
	assert.NotEqual(t, salt.Number(one, browser), other.Number(one, browser))
	assert.Equal(t, salt.Number(one, browser), salt.Number(netip.MustParseAddr("::ffff:10.0.0.1"), browser))
}

// FuzzSketch reads whatever lies in a store.
func FuzzSketch(f *testing.F) {
	f.Add("AAE")
	f.Add("")
	f.Add("////")
	f.Fuzz(func(t *testing.T, text string) {
		s := &traffic.Sketch{}
		if s.UnmarshalText([]byte(text)) != nil {
			return
		}
		assert.GreaterOrEqual(t, s.Size(), int64(0))
		again, err := s.MarshalText()
		require.NoError(t, err)
		read := &traffic.Sketch{}
		require.NoError(t, read.UnmarshalText(again))
		assert.Equal(t, s.Size(), read.Size())
	})
}

// TestWhatIsCounted adds up what visits were.
func TestWhatIsCounted(t *testing.T) {
	t.Parallel()
	tally := traffic.NewTally(traffic.Usual)
	from := page("/fares/", 1)
	from.Referrer = "https://Islands.example:8443/links?who=me"
	picture := page("/boat.webp", 1)
	picture.Cache, picture.Encoding, picture.Referrer = visits.Miss, "identity", "https://corvane.example/"
	robot := page("/", 2)
	robot.Agent = "Mozilla/5.0 (compatible; Harbourbot/2; +https://harbour.example/)"
	again := page("/fares/", 1)
	again.Status, again.Bytes, again.Encoding = 304, 0, ""
	form := page("/api/book", 3)
	form.Method, form.By, form.Status, form.Encoding = "POST", visits.ByProxy, 502, "x-made-up"
	add(tally, page("/", 1), from, picture, robot, again, form)
	told := tally.Told()
	assert.Equal(t, int64(6), told.Requests)
	assert.Equal(t, int64(5000), told.Bytes)
	assert.Equal(t, int64(3), told.Pages, "of people: the front page, and the fares twice")
	assert.Equal(t, int64(1), told.Programs)
	assert.Equal(t, map[string]int64{"200": 4, "304": 1, "502": 1}, told.Statuses)
	assert.Equal(t, map[string]int64{"file": 5, "proxy": 1}, told.By)
	assert.Equal(t, map[string]int64{"hit": 5, "miss": 1}, told.Cache)
	assert.Equal(t, map[string]int64{"br": 3, "identity": 1, "other": 1}, told.Encodings)
	assert.Equal(t, []traffic.Name{{Name: "/", Requests: 2, Bytes: 2000}, {Name: "/fares/", Requests: 2, Bytes: 1000},
		{Name: "/boat.webp", Requests: 1, Bytes: 1000}}, told.Paths.List)
	assert.Empty(t, told.Referrers.List, "one visitor came from there, which may be nobody's business")
	assert.Equal(t, int64(2), told.Visitors[salt.Name()].Size(), "the one who only sent a form is one too")
	for n := range 2 {
		v := page("/", 10+n)
		v.Referrer = from.Referrer
		add(tally, v)
	}
	assert.Equal(t, []traffic.Name{{Name: "islands.example", Requests: 3}}, tally.Told().Referrers.List)
	assert.Equal(t, int64(504), traffic.Totals{Statuses: map[string]int64{"200": 500, "304": 4, "404": 9}}.Status(200, 399))
}

// Who may know what: a path that one person asked for may be what that person was sent, and three
// who ask for the same have it from somewhere public.

// missing is a visit of what is not there.
func missing(path string, n int) *visits.Visit {
	v := page(path, n)
	v.Status, v.By = 404, visits.ByMissing
	return v
}

// TestNobodysSecretIsTold names what several have asked for, and nothing else.
func TestNobodysSecretIsTold(t *testing.T) {
	t.Parallel()
	tally := traffic.NewTally(traffic.Usual)
	for range 100 {
		add(tally, missing("/reset/9f8e7d6c", 1), missing("/reset/9f8e7d6c", 2))
	}
	invited := page("/invite/k33p-0ut", 3)
	invited.By = visits.ByFallback
	link := page("/.orilla/look/s3cret-pass/", 4)
	link.By, link.Status = visits.ByRule, 200
	add(tally, invited, link, missing("/old-fares", 1), missing("/old-fares", 2))
	told := tally.Told()
	assert.Empty(t, told.Missing.List)
	assert.Empty(t, told.Paths.List, "an application's addresses may hold anything")
	data, err := traffic.Record{Site: "corvane", Day: "2026-11-29", Hours: map[string]map[string]traffic.Counts{
		"10": {"production": told}}}.Encode()
	require.NoError(t, err)
	for _, secret := range []string{"9f8e", "k33p", "s3cret", "old-fares", "10.0.0", "Firefox"} {
		assert.NotContains(t, string(data), secret)
	}

	// In the next hour of the day a third one comes: what was counted comes with it, once.
	next := tally.Next()
	assert.Zero(t, next.Told().Requests)
	own, elsewhere := missing("/old-fares", 3), missing("/old-fares", 1)
	own.Fetch, elsewhere.Referrer = "same-origin", "https://islands.example/"
	add(next, own, elsewhere)
	assert.Equal(t, []traffic.Name{{Name: "/old-fares", Requests: 4, Own: 1, Elsewhere: 1}}, next.Told().Missing.List)
	// And from then on it is nobody's secret.
	third := next.Next()
	assert.Empty(t, third.Told().Missing.List, "nobody asked for it in this hour")
	add(third, missing("/old-fares", 1))
	assert.Equal(t, []traffic.Name{{Name: "/old-fares", Requests: 1}}, third.Told().Missing.List)
	// What is kept on disk goes on as if nothing had happened.
	data, err = json.Marshal(tally)
	require.NoError(t, err)
	read := &traffic.Tally{}
	require.NoError(t, json.Unmarshal(data, read))
	read.Within(traffic.Usual)
	add(read, missing("/old-fares", 3))
	assert.Equal(t, []traffic.Name{{Name: "/old-fares", Requests: 3}}, read.Told().Missing.List)
}

// TestAMillionPaths are counted in a memory that they do not widen, and those that come often
// are told.
func TestAMillionPaths(t *testing.T) {
	t.Parallel()
	tally := traffic.NewTally(traffic.Usual)
	random := rand.New(rand.NewPCG(1, 2))
	const all, often = 1_000_000, 20
	true_ := map[string]int64{}
	v := page("", 0)
	for i := range all {
		v.Path = fmt.Sprint("/flood/", i)
		if random.IntN(10) == 0 {
			v.Path = fmt.Sprint("/pages/", random.IntN(often))
			true_[v.Path]++
		}
		tally.Add(v, "salt", uint64(i)*0x9e3779b97f4a7c15)
	}
	told := tally.Told()
	assert.Equal(t, int64(all), told.Requests)
	data, err := json.Marshal(tally)
	require.NoError(t, err)
	assert.Less(t, len(data), 300_000, "what is kept on disk")
	counted := map[string]int64{}
	for _, n := range told.Paths.List {
		counted[n.Name] = n.Requests
	}
	assert.LessOrEqual(t, len(told.Paths.List), traffic.Usual.Paths)
	assert.LessOrEqual(t, told.Paths.Missed, int64(all/traffic.Usual.Paths))
	for path, n := range true_ {
		assert.LessOrEqual(t, counted[path], n)
		assert.GreaterOrEqual(t, counted[path]+told.Paths.Missed, n, path)
	}
	long := page("/"+strings.Repeat("x", 400), 1)
	add(tally, long)
	assert.Equal(t, int64(all+1), tally.Told().Requests)
}

// TestSumsOfNodes adds up nodes and hours, before and after a day was made one record.
func TestSumsOfNodes(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 4))
	day := time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)
	var parts []traffic.Part
	var requests int64
	perHour := map[int]int64{}
	for node := range 3 {
		for hour := range 24 {
			tally := traffic.NewTally(traffic.Usual)
			for range random.IntN(50) {
				add(tally, page(fmt.Sprint("/", random.IntN(5)), random.IntN(40)))
				requests++
				perHour[hour]++
			}
			name := fmt.Sprintf("%02d", hour)
			parts = append(parts, traffic.Part{Name: fmt.Sprint(name, "-", node), Record: traffic.Record{
				Format: traffic.Format, Site: "corvane", Day: "2026-11-28", Node: fmt.Sprint("node-", node),
				Hours: map[string]map[string]traffic.Counts{name: {"production": tally.Told()}}}})
		}
	}
	sum := func(parts []traffic.Part) *traffic.Sum {
		s := &traffic.Sum{From: day, To: day.Add(48 * time.Hour)}
		for _, p := range traffic.Counted(parts) {
			data, err := p.Encode()
			require.NoError(t, err)
			r, ok := traffic.Decode(data)
			require.True(t, ok)
			s.Add(r, "production")
			s.Add(r, "staging")
		}
		return s
	}
	before := sum(parts)
	assert.Equal(t, requests, before.Totals().Requests)
	assert.Equal(t, requests*1000, before.Totals().Bytes)
	for hour, slot := range before.Hours()[:24] {
		assert.Equal(t, perHour[hour], slot.Requests)
	}
	require.Len(t, before.Days(), 2)
	assert.Equal(t, requests, before.Days()[0].Requests)
	assert.Zero(t, before.Days()[1].Requests)
	assert.InDelta(t, 40, before.Visitors(), 3, "nodes that share a salt know the same visitor")
	assert.False(t, before.Apart())
	assert.Equal(t, requests, total(before.Paths()))

	// Whatever is there twice, before and after, must count once.
	// One of the day comes late; then all are one, then another is written late.
	merged := traffic.Merge("corvane", "2026-11-28", traffic.Counted(parts[1:]))
	whole := traffic.Part{Name: traffic.WholeDay, Record: merged}
	again := traffic.Part{Name: traffic.WholeDay,
		Record: traffic.Merge("corvane", "2026-11-28", traffic.Counted([]traffic.Part{parts[0], parts[7], whole}))}
	for _, list := range [][]traffic.Part{{whole, parts[0]}, append([]traffic.Part{whole}, parts...), {again},
		append([]traffic.Part{again}, parts...)} {
		after := sum(list)
		assert.Equal(t, requests, after.Totals().Requests)
		assert.Equal(t, before.Visitors(), after.Visitors())
		assert.Equal(t, before.Hours(), after.Hours())
		assert.Equal(t, before.Paths(), after.Paths())
	}
}

// total is how many requests names had.
func total(n traffic.Names) (sum int64) {
	for _, one := range n.List {
		sum += one.Requests
	}
	return sum
}

// FuzzRecord reads whatever lies in a store.
func FuzzRecord(f *testing.F) {
	f.Add(`{"format":1,"site":"corvane","day":"2026-11-29","hours":{"10":{"production":{"requests":1}}}}`)
	f.Add(`{"format":1,"day":"2026-11-29","hours":{"99":{"production":null},"10":null},"later":{}}`)
	f.Fuzz(func(t *testing.T, text string) {
		r, ok := traffic.Decode([]byte(text))
		if !ok {
			return
		}
		begin, err := time.Parse(time.DateOnly, r.Day)
		require.NoError(t, err)
		s := &traffic.Sum{From: begin, To: begin.Add(24 * time.Hour)}
		s.Add(r, "production")
		s.Days()
		s.Visitors()
		traffic.Merge(r.Site, r.Day, []traffic.Part{{Name: "10-x", Record: r}})
	})
}
