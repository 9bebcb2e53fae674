package visits_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/core/visits"
)

// TestWhatCounts counts what a page cannot do without, and nothing that strangers try.
func TestWhatCounts(t *testing.T) {
	t.Parallel()
	c := &visits.Crowd{}
	c.Answered()
	for range 3 {
		c.Count("/app-1f2e.js", 404, true)
	}
	c.Count("/hero.webp", 410, true)
	c.Count("/.env.js", 404, false)   // nobody's page loads it
	c.Count("/old-page", 404, true)   // a link that leads nowhere is another matter
	c.Count("/data.json", 404, true)  // scripts may ask whether something is there
	c.Count("/fares", 200, true)      // well
	c.Count("/api/boats", 502, false) // whoever asks
	c.Count("/.orilla/look/s3cret/", 500, false)
	assert.Equal(t, visits.Counted{Answers: 11, Missing: 4, Failed: 2, Worst: []visits.Address{{"/app-1f2e.js", 3},
		{"/.orilla/look/…/", 1}, {"/api/boats", 1}, {"/hero.webp", 1}}}, c.Counted())
	for i := range 10_000 {
		c.Count(fmt.Sprint("/", i, ".js"), 404, true)
	}
	assert.Len(t, c.Counted().Worst, 5)
	var none *visits.Crowd
	assert.Zero(t, none.Counted().Answers)
	sum := c.Counted().Plus(c.Counted())
	assert.Equal(t, int64(2*10_011), sum.Answers)
	assert.Equal(t, visits.Address{Path: "/app-1f2e.js", Count: 6}, sum.Worst[0])
}

// TestWorse judges crowds before and after.
func TestWorse(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		before, now visits.Counted
		worse       bool
	}{
		"nobody came":                     {visits.Counted{Answers: 1000}, visits.Counted{}, false},
		"all is well":                     {visits.Counted{Answers: 1000}, visits.Counted{Answers: 1000}, false},
		"four of few":                     {visits.Counted{Answers: 1000}, visits.Counted{Answers: 10, Missing: 4}, false},
		"five of ten":                     {visits.Counted{Answers: 1000}, visits.Counted{Answers: 10, Missing: 5}, true},
		"a broken upstream":               {visits.Counted{Answers: 10_000, Failed: 3}, visits.Counted{Answers: 500, Failed: 60}, true},
		"it was broken before":            {visits.Counted{Answers: 1000, Failed: 120}, visits.Counted{Answers: 1000, Failed: 130}, false},
		"nothing is known of before":      {visits.Counted{}, visits.Counted{Answers: 1000, Missing: 8}, false},
		"nothing is known, and it is bad": {visits.Counted{}, visits.Counted{Answers: 1000, Missing: 300}, true},
		"better":                          {visits.Counted{Answers: 1000, Failed: 500}, visits.Counted{Answers: 1000, Failed: 5}, false},
	} {
		text, worse := visits.Worse(c.before, c.now)
		assert.Equal(t, c.worse, worse, name)
		assert.Equal(t, worse, text != "", name)
	}
	text, _ := visits.Worse(visits.Counted{Answers: 1000}, visits.Counted{Answers: 100, Missing: 50, Worst: []visits.Address{{"/app.js", 50}, {"/b.js", 1}}})
	assert.Equal(t, "assets that pages load are missing: 50 of 100, before 0 of 1000; /app.js, /b.js", text)
}

// TestChanceRaisesNoAlarm lets the same share of answers fail, before and after, and looks
// sixty times, as a deploy does.
func TestChanceRaisesNoAlarm(t *testing.T) {
	t.Parallel()
	source := rand.New(rand.NewPCG(1, 2))
	wrong := 0
	for range 2000 {
		share := source.Float64() * 0.02
		draw := func(answers int64) (failed int64) {
			for range answers {
				if source.Float64() < share {
					failed++
				}
			}
			return failed
		}
		before := visits.Counted{Answers: 2000}
		before.Failed = draw(before.Answers)
		now := visits.Counted{}
		for range 20 {
			now.Answers += 25
			now.Failed += draw(25)
			if _, worse := visits.Worse(before, now); worse {
				wrong++
				break
			}
		}
	}
	assert.LessOrEqual(t, wrong, 40, "at most two deploys of a hundred go back for nothing")
}
