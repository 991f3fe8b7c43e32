package replan

import (
	"cmp"
	"slices"
	"time"
)

// Work is what one crew has to do of one shot.
type Work struct {
	Run, Shot, Place, Crew string
	Devices                []string // of the place; none where pieces do not stand in each other's way
	Frames                 int
	Takes                  time.Duration // all of them
	Begins                 time.Time     // not before; zero for what is being rendered
	Lost                   string        // why nothing may come of it

	Start, End time.Time // set by Expect
}

// Rendering reports whether the crew is at it now.
func (w Work) Rendering() bool { return w.Begins.IsZero() }

// Expect sets when each piece of work begins and ends, by the times that are known: not
// before now, nor before what uses one of its devices and begins earlier is done. Pieces come
// out by place, crew and time.
func Expect(now time.Time, all []Work) []Work {
	out := slices.Clone(all)
	slices.SortStableFunc(out, func(a, b Work) int { return a.Begins.Compare(b.Begins) })
	free := map[[2]string]time.Time{} // by place and device
	for i := range out {
		w := &out[i]
		if w.Start = w.Begins; w.Start.Before(now) {
			w.Start = now
		}
		for _, d := range w.Devices {
			if at := free[[2]string{w.Place, d}]; at.After(w.Start) {
				w.Start = at
			}
		}
		w.End = w.Start.Add(w.Takes)
		for _, d := range w.Devices {
			free[[2]string{w.Place, d}] = w.End
		}
	}
	slices.SortStableFunc(out, func(a, b Work) int {
		return cmp.Or(cmp.Compare(a.Place, b.Place), cmp.Compare(a.Crew, b.Crew), a.Start.Compare(b.Start))
	})
	return out
}
