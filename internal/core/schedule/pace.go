package schedule

import (
	"fmt"
	"time"
)

// Bounds on what one ref can cost. Anybody may push to some.
const (
	firstPause = 5 * time.Second
	longest    = 30 * time.Minute // between tries of a commit that is not trusted
	// of one that is: whoever waits for it should not wait
	// long once the store answers again
	mostly = 5 * time.Minute
	// MostTries is how often a commit that is not trusted
	// is tried before it is given up.
	MostTries = 8
	// PerHour is how many builds one ref from outside may begin within an hour.
	PerHour = 6
	// AllPerHour is how many all refs from outside together may.
	AllPerHour = 30
)

// Pause returns how long a commit waits that could not be built, for reasons
// that may pass, so many times in a row: twice as long each time.
func Pause(failures int, trusted bool) time.Duration {
	most := longest
	if trusted {
		most = mostly
	}
	pause := firstPause
	for range failures - 1 {
		if pause *= 2; pause >= most {
			return most
		}
	}
	return pause
}

// Pace remembers when builds of refs from outside began.
// The zero value has seen none.
type Pace struct {
	began []start
}

// start is when a build of a ref from outside began.
type start struct {
	ref  string
	when time.Time
}

// Begin notes that a build of a ref begins.
//
// Times that are too old to count are forgotten with the next call.
func (p *Pace) Begin(ref string, now time.Time) {
	p.forget(now)
	p.began = append(p.began, start{ref, now})
}

// Next returns when a ref's next build may begin, and why
// not now; the zero time for now.
//
// Of one ref at most PerHour builds begin within an hour, and of all together
// AllPerHour.
func (p *Pace) Next(ref string, now time.Time) (when time.Time, why string) {
	p.forget(now)
	var own []time.Time
	for _, one := range p.began {
		if one.ref == ref {
			own = append(own, one.when)
		}
	}

	switch {
	case len(own) >= PerHour:
		return own[len(own)-PerHour].Add(time.Hour), fmt.Sprintf(
			"Orilla builds one change from outside at most %d times an hour", PerHour)
	case len(p.began) >= AllPerHour:
		return p.began[len(p.began)-AllPerHour].when.Add(time.Hour), fmt.Sprintf(
			"Orilla builds changes from outside at most %d times an hour", AllPerHour)
	}

	return time.Time{}, ""
}

// forget drops what is too old to count.
func (p *Pace) forget(now time.Time) {
	for len(p.began) > 0 && now.Sub(p.began[0].when) >= time.Hour {
		p.began = p.began[1:]
	}
}
