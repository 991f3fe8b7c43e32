package dispatch_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"rotanex.example/core/dispatch"
)

var six = time.Date(2031, 3, 7, 18, 0, 0, 0, time.UTC)

func booking(frames, taken int, start, length time.Duration, live bool) dispatch.Booking {
	return dispatch.Booking{Frames: frames, Taken: taken, Start: six.Add(start), End: six.Add(start + length), Frame: time.Minute, Live: live}
}

func TestMayTake(t *testing.T) {
	done := booking(10, 10, 0, 10*time.Minute, true)
	for name, c := range map[string]struct {
		own     dispatch.Booking
		others  []dispatch.Booking
		waiting int
		want    bool
	}{
		"its own booking":                  {booking(10, 3, 0, time.Hour, true), nil, 5, true},
		"before its booking starts":        {booking(10, 0, time.Minute, time.Hour, true), nil, 5, false},
		"nothing waits":                    {booking(10, 3, 0, time.Hour, true), nil, 0, false},
		"others will do the rest":          {done, []dispatch.Booking{booking(5, 0, 0, 5*time.Minute, true)}, 5, false},
		"others are too slow":              {done, []dispatch.Booking{booking(5, 0, 0, 4*time.Minute, true)}, 5, true},
		"others are dead":                  {done, []dispatch.Booking{booking(5, 0, 0, time.Hour, false)}, 5, true},
		"a server that boots will do them": {done, []dispatch.Booking{booking(5, 0, time.Hour, time.Hour, true)}, 5, false},
	} {
		assert.Equal(t, c.want, dispatch.MayTake(c.own, c.others, c.waiting, six), name)
	}
}

// Once every planned end has passed, no waiting frame is kept from a free crew.
func TestNoFrameIsKeptForEver(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		draw := rapid.Custom(func(t *rapid.T) dispatch.Booking {
			n := rapid.IntRange(1, 50).Draw(t, "frames")
			return booking(n, rapid.IntRange(0, n).Draw(t, "taken"),
				time.Duration(rapid.IntRange(0, 600).Draw(t, "start"))*time.Minute,
				time.Duration(rapid.IntRange(1, 600).Draw(t, "length"))*time.Minute, rapid.Bool().Draw(t, "live"))
		})
		own, others := draw.Draw(t, "own"), rapid.SliceOf(draw).Draw(t, "others")
		late := six.Add(1201 * time.Minute)
		assert.True(t, dispatch.MayTake(own, others, rapid.IntRange(1, 99).Draw(t, "waiting"), late))
	})
}
