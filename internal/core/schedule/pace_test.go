package schedule_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/core/schedule"
)

func TestPausesGrowUpToABound(t *testing.T) {
	t.Parallel()
	total := time.Duration(0)
	for i, want := range []time.Duration{5 * time.Second, 10 * time.Second, 20 * time.Second,
		40 * time.Second} {
		assert.Equal(t, want, schedule.Pause(i+1, false))
	}
	for i := 1; i < 1000; i++ {
		assert.LessOrEqual(t, schedule.Pause(i, false), 30*time.Minute)
		assert.LessOrEqual(t, schedule.Pause(i, true), 5*time.Minute)
		assert.GreaterOrEqual(t, schedule.Pause(i+1, false), schedule.Pause(i, false))
	}
	for i := range schedule.MostTries {
		total += schedule.Pause(i+1, false)
	}
	assert.Less(t, total, time.Hour)
}

// TestAThousandPushesInAnHour lets one ref, and then many,
// ask for a build each second.
func TestAThousandPushesInAnHour(t *testing.T) {
	t.Parallel()
	begin := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	for name, refs := range map[string]int{"one ref": 1, "many refs": 500} {
		t.Run(name, func(t *testing.T) {
			var pace schedule.Pace
			began := map[string]int{}
			all := 0
			for second := range 3600 {
				ref, now := string(rune('a'+second%refs)), begin.Add(time.Duration(second)*time.Second)
				next, why := pace.Next(ref, now)
				if !next.IsZero() {
					assert.NotEmpty(t, why)
					assert.True(t, next.After(now))
					continue
				}
				pace.Begin(ref, now)
				began[ref]++
				all++
			}
			assert.LessOrEqual(t, all, schedule.AllPerHour)
			for ref, n := range began {
				assert.LessOrEqual(t, n, schedule.PerHour, ref)
			}
			later := begin.Add(2 * time.Hour)
			next, _ := pace.Next("a", later)
			assert.True(t, next.IsZero(), "an hour later it goes on")
		})
	}
}
