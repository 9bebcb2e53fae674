package view_test

import (
	"time"

	"orilla.example/orilla/internal/core/lost"
	"orilla.example/orilla/internal/core/traffic"
	"orilla.example/orilla/internal/view"
)

// seenTraffic is what visitors asked for within a time: more each hour, from two nodes that share
// no secret.
func seenTraffic(within time.Duration) view.TrafficReport {
	to := time.Date(2026, 11, 29, 15, 0, 0, 0, time.UTC)
	sum := &traffic.Sum{From: to.Add(-within), To: to}
	for at := sum.From; at.Before(to); at = at.Add(time.Hour) {
		n := int64(1000 + at.Sub(sum.From)/time.Hour*100)
		visitors := &traffic.Sketch{}
		for i := range uint64(40) {
			visitors.Add((i + 1) * 0x9e3779b97f4a7c15)
		}
		sum.Add(traffic.Record{Day: traffic.DayOf(at), Node: "pier-7420", Until: at.Add(30 * time.Minute),
			Hours: map[string]map[string]traffic.Counts{traffic.HourOf(at): {"production": {
				Totals: traffic.Totals{Requests: n, Bytes: n * 4000, Pages: n / 4, Programs: n / 20,
					Statuses: map[string]int64{"200": n - 31, "301": 10, "404": 20, "502": 1},
					Cache:    map[string]int64{"hit": n - 40, "miss": 9}, Encodings: map[string]int64{"br": n - 200, "dcb": 100, "identity": 69}},
				Paths: traffic.Names{List: []traffic.Name{{Name: "/app.js", Requests: n / 2, Bytes: n * 300}, {Name: "/", Requests: n / 4},
					{Name: "/fares", Requests: n / 5}, {Name: "/boats/\x1b[31mred", Requests: 9}, {Name: "/about", Requests: 2}}, Missed: 3},
				Referrers: traffic.Names{List: []traffic.Name{{Name: "islands.example", Requests: 12}}},
				Visitors:  map[string]*traffic.Sketch{"a": visitors, "b": visitors}}}}}, "production")
	}
	r := view.NewTraffic("corvane", "production", sum)
	r.Lost = []lost.Address{{Path: "/.env", Requests: 900}, {Path: "/ships/dunlin", Requests: 210, Own: 15, Elsewhere: 1195,
		To: "/boats/dunlin", Why: "it moved after production:12", Rule: "redirect /ships/dunlin -> /boats/dunlin"},
		{Path: "/winter", Requests: 12, Own: 2, Why: "it was there until production:11"}}
	for i, subject := range []string{"Fares for the winter", "The Dunlin is back", "A new pier", "Times", "Boats"} {
		r.Deploys = append(r.Deploys, view.TrafficMark{Entry: "production:1" + string(rune('6'-i)), Kind: "deploy",
			When: to.Add(-time.Duration(i+1) * 20 * time.Minute), Commit: "4be21c7a90", Subject: subject})
	}
	r.Unreadable = 1
	return r
}
