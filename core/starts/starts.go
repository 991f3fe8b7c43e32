// Package starts decides how many frames one start of a renderer renders. Opening a heavy
// scene costs as much for one frame as for a hundred; a crew that holds many frames keeps them
// from others.
package starts

import (
	"cmp"
	"math"
	"slices"
	"time"
)

const (
	// Share is the part of a start's time that opening the scene shall cost at most.
	Share = 0.05
	// Most is how many frames a start renders at most.
	Most = 250
)

// Enough is the least number of frames with which opening costs no more than Share of a
// start's time, Most at most. Frame is what a frame takes once the scene is open. Where one of
// them is not known it is 1.
func Enough(opening, frame time.Duration) int {
	if opening <= 0 || frame <= 0 {
		return 1
	}
	n := math.Ceil((1 - Share) / Share * float64(opening) / float64(frame))
	return int(min(max(1, n), Most))
}

// Crew is who renders frames of a shot, as its next start sees it.
type Crew struct {
	Free    time.Duration // until it is free; of what is said of nothing else, 0
	Opening time.Duration
	Frame   time.Duration // above 0
}

// Frames is how many frames a crew that is free now renders in its next start, of so many that
// wait: enough that opening costs little, but no more than it would have done when all have
// done what waits, each after what it has in hand. That is divided into starts of about one
// size, so that the last one is not a small one.
func Frames(c Crew, others []Crew, waiting int) int {
	enough := Enough(c.Opening, c.Frame)
	if enough == 1 {
		return 1
	}
	left := allDone(append(others[:len(others):len(others)], c), float64(waiting)) - c.Free - c.Opening
	fair := max(1, int(math.Round(float64(left)/float64(c.Frame))))
	starts := (fair + enough - 1) / enough
	return (fair + starts - 1) / starts
}

// allDone is when crews that divide frames in the best way have done so many.
func allDone(crews []Crew, frames float64) time.Duration {
	slices.SortFunc(crews, func(a, b Crew) int { return cmp.Compare(a.Free+a.Opening, b.Free+b.Opening) })
	// Those that are the first to render: their sum of rates, and what they would have done by the time 0.
	rate, before := 0.0, 0.0
	for i, c := range crews {
		rate += 1 / float64(c.Frame)
		before += float64(c.Free+c.Opening) / float64(c.Frame)
		end := time.Duration((frames + before) / rate)
		if i+1 == len(crews) || end <= crews[i+1].Free+crews[i+1].Opening {
			return end
		}
	}
	return 0
}

// Spread is what a frame takes with its part of opening the scene, in starts of Enough
// frames, but no more than there are.
func Spread(opening, frame time.Duration, frames int) time.Duration {
	return frame + opening/time.Duration(max(1, min(Enough(opening, frame), frames)))
}
