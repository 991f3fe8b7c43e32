// Package clock is the service's clock. In life it is the wall clock; in a demo
// it begins at a made-up time and runs faster, so that a night passes in minutes.
// Everything planned, billed or shown goes by it. Only what watches over real
// programs (leases, heartbeats, time-outs) goes by the wall clock.
package clock

import (
	"time"

	"github.com/jonboulle/clockwork"
)

// Clock tells both times.
type Clock struct {
	clockwork.Clock // the wall clock, with its timers

	began  time.Time // by the wall clock
	start  time.Time // what it was then by the service's clock
	factor float64
}

// Wall is the clock of life.
func Wall() Clock { return New(clockwork.NewRealClock(), time.Time{}, time.Time{}, 1) }

// New makes a clock that was start at the wall clock's began and runs factor
// times as fast. A zero start is the wall clock's time.
func New(wall clockwork.Clock, began, start time.Time, factor float64) Clock {
	if start.IsZero() {
		began = wall.Now()
		start = began
	}
	return Clock{wall, began, start.UTC(), factor}
}

// Now returns the time by the service's clock, in UTC, to the millisecond.
func (c Clock) Now() time.Time { return c.At(c.Clock.Now()) }

// farthest is how far At reaches, to either side: two hundred years.
const farthest = float64(200 * 365 * 24 * time.Hour)

// At turns a time of the wall clock into one of the service's clock. What is farther away than
// two hundred years, as others may say it, is that far away.
func (c Clock) At(wall time.Time) time.Time {
	passed := float64(wall.Sub(c.began)) * c.factor
	return c.start.Add(time.Duration(max(-farthest, min(farthest, passed)))).UTC().Truncate(time.Millisecond)
}

// WallNow returns the wall clock's time.
func (c Clock) WallNow() time.Time { return c.Clock.Now().UTC() }

// Factor is how many of its seconds pass in a real one.
func (c Clock) Factor() float64 { return c.factor }

// Real turns a length of the service's time into real time.
func (c Clock) Real(d time.Duration) time.Duration { return time.Duration(float64(d) / c.factor) }
