package dispatch_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"rotanex.example/core/dispatch"
)

// worker is a crew in a run that is played second by second: how long its frames really
// take, and when it dies.
type worker struct {
	dispatch.Booking
	real time.Duration
	dies time.Time
	busy time.Time
	took int
}

// played lets crews take frames by the rule until none is left, and returns when the last
// one ended; zero if some were never taken.
func played(workers []worker, frames int, limit time.Duration) (end time.Time) {
	waiting := frames
	for now := six; waiting > 0 && now.Before(six.Add(limit)); now = now.Add(time.Second) {
		for i := range workers {
			w := &workers[i]
			if w.Live = now.Before(w.dies); !w.Live || w.busy.After(now) {
				continue
			}
			var others []dispatch.Booking
			for k := range workers {
				if k != i {
					others = append(others, workers[k].Booking)
				}
			}
			if dispatch.MayTake(w.Booking, others, waiting, now) {
				waiting--
				w.Taken++
				w.took++
				w.busy = now.Add(w.real)
				if w.busy.After(end) {
					end = w.busy
				}
			}
		}
	}
	if waiting > 0 {
		return time.Time{}
	}
	return end
}

var never = six.Add(1000 * time.Hour)

// crewsOf draws crews whose bookings last as long as their frames are expected to take.
func crewsOf(t *rapid.T) (workers []worker, frames int) {
	for range rapid.IntRange(1, 5).Draw(t, "crews") {
		n := rapid.IntRange(1, 20).Draw(t, "booked")
		each := time.Duration(rapid.IntRange(5, 90).Draw(t, "frame")) * time.Second
		start := time.Duration(rapid.IntRange(0, 600).Draw(t, "start")) * time.Second
		b := dispatch.Booking{Frames: n, Start: six.Add(start), End: six.Add(start + time.Duration(n)*each), Frame: each, Live: true}
		workers = append(workers, worker{Booking: b, real: each, dies: never})
		frames += n
	}
	return workers, frames
}

// If all goes as planned, each crew does what it was booked for, no more and no less, and
// the run ends as planned.
func TestARunThatGoesAsPlannedIsThePlan(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		workers, frames := crewsOf(t)
		planned := six
		for _, w := range workers {
			if w.End.After(planned) {
				planned = w.End
			}
		}
		assert.Equal(t, planned, played(workers, frames, 10*time.Hour))
		for _, w := range workers {
			assert.Equal(t, w.Frames, w.took)
		}
	})
}

// Whoever is slow or dies, as long as one crew lives every frame is taken, and nobody's
// death keeps the others waiting for longer than their plan and all the work by themselves.
func TestWhoeverDiesAllFramesAreTaken(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		workers, frames := crewsOf(t)
		last, slowest := six, time.Duration(0)
		for i := range workers {
			w := &workers[i]
			if i > 0 && rapid.Bool().Draw(t, "dies") {
				w.dies = six.Add(time.Duration(rapid.IntRange(0, 3600).Draw(t, "dies at")) * time.Second)
			}
			w.real = w.Frame * time.Duration(rapid.IntRange(1, 4).Draw(t, "times slower"))
			slowest = max(slowest, w.real)
			if w.End.After(last) {
				last = w.End
			}
		}
		end := played(workers, frames, 100*time.Hour)
		require.False(t, end.IsZero(), "frames were left lying")
		assert.LessOrEqual(t, end.Sub(last), time.Duration(frames+1)*slowest)
		total := 0
		for _, w := range workers {
			total += w.took
		}
		assert.Equal(t, frames, total, "none twice")
	})
}
