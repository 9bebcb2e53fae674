package deploy

import (
	"context"
	"fmt"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/visits"
	"orilla.example/orilla/internal/environments"
)

// A check asks for what somebody thought of. Visitors ask for everything: an upstream that
// answers a form with 500, a chunk that one page in a hundred loads, a script that a browser of
// three years ago gets. So a deploy can wait for them: the nodes say what visitors of the new
// release got, and what was usual before.

// visitorsProbe is what stands among checks for the visitors of the next minutes.
//
//	visitors        for two minutes
//	visitors:15m    for as long as that
const visitorsProbe = "visitors"

const (
	visitorsTime  = 2 * time.Minute
	visitorsLeast = 5 * time.Second
	visitorsMost  = time.Hour
	// visitorsEvery is how often the nodes are asked meanwhile.
	visitorsEvery = 2 * time.Second
)

// parseVisitors reports whether a check is that of visitors, and for how long.
func parseVisitors(what string) (lasts time.Duration, is bool, err error) {
	name, text, given := strings.Cut(what, ":")
	switch {
	case name != visitorsProbe:
		return 0, false, nil
	case !given:
		return visitorsTime, true, nil
	}
	parsed, err := project.ParseDuration(text)
	if lasts = time.Duration(parsed); err == nil && (lasts < visitorsLeast || lasts > visitorsMost) {
		err = fmt.Errorf("write %s to %s", visitorsLeast, visitorsMost)
	}
	if err != nil {
		return 0, true, fault.New(fault.Usage, "usage", "%s: %s", what, err).
			Then("write visitors, or visitors:5m")
	}
	return lasts, true, nil
}

// visitors watches what visitors get, for a time. One who fares badly by chance does not count;
// as soon as it is certain that they fare worse, it is over.
func (v *verifier) visitors(ctx context.Context, lasts time.Duration) environments.Probe {
	deadline := time.Now().Add(lasts)
	asked := false
	var now visits.Counted
	for ctx.Err() == nil {
		before, sum, nodes, over := v.crowds(ctx)
		if over {
			return environments.Probe{Passed: true, Text: "another entry is live by now"}
		}
		if nodes > 0 {
			asked, now = true, sum
			if text, worse := visits.Worse(before, now); worse {
				return environments.Probe{Text: text}
			}
		}
		left := time.Until(deadline)
		if left <= 0 {
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(min(visitorsEvery, left)):
		}
	}
	if !asked {
		return environments.Probe{Unchecked: true, Text: "no edge node could be asked about its visitors"}
	}
	text := "no visitor came"
	if now.Answers > 0 {
		text = fmt.Sprintf("%d answers, %d assets missing, %d failed", now.Answers, now.Missing, now.Failed)
	}
	return environments.Probe{Passed: true, Text: text}
}

// crowds asks all nodes what visitors get from the entry, and got before. over tells that
// another one is live at a node.
func (v *verifier) crowds(ctx context.Context) (before, now visits.Counted, nodes int, over bool) {
	for _, c := range v.ahead.waker.Wake(ctx, map[string]int64{v.entry.Environment: v.entry.Number}) {
		there, ok := c.Said.Serves[v.entry.Environment]
		if !ok || !c.Known || there.Visitors == nil || there.Usual == nil {
			continue
		}
		if there.Entry > v.entry.Number {
			return before, now, nodes, true
		}
		if there.Entry == v.entry.Number && there.Attempt == v.entry.Attempt {
			nodes++
			before, now = before.Plus(*there.Usual), now.Plus(*there.Visitors)
		}
	}
	return before, now, nodes, false
}
