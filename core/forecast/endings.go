package forecast

import (
	"cmp"
	"math"
	"slices"
)

// A forecast simulates a plan as it is. A run that is planned anew by itself ends otherwise: time
// that is gained is given back for money, time that is lost is bought. By how much is seen of the
// runs before: where between what was forecast for the middle and the deadline their shots ended.
// That is the score of split conformal prediction (V. Vovk, A. Gammerman, G. Shafer, Algorithmic
// Learning in a Random World, 2005), so that what is said of 80 % happens in 80 % of runs like those.

// Ending is how a shot of an earlier run ended that was planned anew by itself, beside what had
// been forecast of it. Times are seconds from when that was forecast.
type Ending struct {
	Finish Spread  `json:"finish_s"` // as was forecast
	Due    float64 `json:"due_s"`
	Ended  float64 `json:"ended_s"`
}

// Endings say how shots end that are planned anew by themselves: where between the middle of their
// forecast, 0, and their deadline, 1. They are sorted, and may lie outside.
type Endings []float64

// assumed weigh as many cases as they are: they fade as runs are seen.
var assumed = Endings{-0.2, 0, 0, 0.1, 0.3, 0.6, 0.8, 0.9, 1, 1.2}

// LearnEndings learns from shots that ended, with what is assumed where few have.
func LearnEndings(seen []Ending) Endings {
	out := slices.Clone(assumed)
	for _, e := range seen {
		if e.Finish.P50 >= 0 {
			out = append(out, (e.Ended-e.Finish.P50)/e.Finish.stretch(e.Due))
		}
	}
	slices.Sort(out)
	return out
}

// stretch is the time between the middle of a finish and the deadline; where there is next to none,
// how far simulations are apart: seconds.
func (s Spread) stretch(due float64) float64 {
	apart := s.P90 - s.P10
	if s.P90 < 0 {
		apart = s.P50 - s.P10
	}
	return max(due-s.P50, apart/2, 60)
}

// Kept is the finish of a shot that is planned anew by itself, by what was simulated of it; a part of
// the runs ends by then. Without a middle there is none: -1.
func (e Endings) Kept(s Spread, due, part float64) float64 {
	if s.P50 < 0 {
		return -1
	}
	return math.Max(0, s.P50+e.quantile(part)*s.stretch(due))
}

// quantile is the score below which a part of them lies, half-way between two of them.
func (e Endings) quantile(part float64) float64 {
	at := part*float64(len(e)) - 0.5
	low := min(max(0, int(math.Floor(at))), len(e)-1)
	high := min(low+1, len(e)-1)
	return e[low] + (e[high]-e[low])*min(max(0, at-float64(low)), 1)
}

var _ = cmp.Compare[int]
