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
	// Share is the part of a start's time that opening the scene shall cost at most. Long starts
	// keep nothing from anybody: what they have not begun they give up.
	Share = 0.02
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

// Holder is a crew whose start holds frames that it has not begun. Free is until the one in
// hand is done.
type Holder struct {
	Crew
	Unbegun int
}

// Shift is how many frames each holder gives up, the last ones of its start, so that a crew
// which is free and has nothing left to do renders them: those that they would not have done
// when all are done in the best way. None, unless all are done sooner by more than the crew
// takes to open the scene.
func Shift(to Crew, from []Holder) []int {
	out := make([]int, len(from))
	slow, was := slices.Clone(from), time.Duration(0)
	for _, h := range from {
		was = max(was, h.ends())
	}
	end := time.Duration(0)
	for n := -1; n != len(slow); { // who has done its own before all have keeps it
		n = len(slow)
		end = shared(to, slow)
		slow = slices.DeleteFunc(slow, func(h Holder) bool { return h.ends() <= end })
	}
	most := int((end - to.Opening) / max(1, to.Frame))
	if len(slow) == 0 || was-end <= to.Opening {
		return out
	}
	for i, h := range from {
		keeps := max(0, int((end-h.Free+h.Frame/2)/max(1, h.Frame)))
		out[i] = max(0, min(h.Unbegun-keeps, most))
		most -= out[i]
	}
	return out
}

func (h Holder) ends() time.Duration { return h.Free + time.Duration(h.Unbegun)*h.Frame }

// shared is when a crew and some holders have done what these hold, divided in the best way.
func shared(to Crew, from []Holder) time.Duration {
	crews, left := []Crew{to}, 0
	for _, h := range from {
		h.Opening = 0 // it is open
		crews, left = append(crews, h.Crew), left+h.Unbegun
	}
	return allDone(crews, float64(left))
}
