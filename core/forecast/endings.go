package forecast

import (
	"math"
	"slices"
)

// Ending is how a shot of an earlier run ended that was planned anew by itself, beside what had
// been forecast of it. Times are seconds from when that was forecast.
type Ending struct {
	Part   float64 `json:"part"`     // of the run's frames that were done when it was forecast
	Finish Spread  `json:"finish_s"` // as was forecast, of the schedule as it was then
	Due    float64 `json:"due_s"`
	Ended  float64 `json:"ended_s"`
}

// Endings say how shots of runs that are planned anew by themselves end: where between the middle of
// what was simulated of the schedule as it was, 0, and the deadline, 1. They are sorted, and may lie
// outside. A forecast does not know that: time that is gained is given back for money, so that most
// end later than half of the simulations do, and time that is lost is bought, so that few end late.
//
// They are the scores of split conformal prediction (V. Vovk, A. Gammerman, G. Shafer, Algorithmic
// Learning in a Random World, 2005): what is said of 80 % happens in 80 % of runs like those.
type Endings []float64

// assumed stand for as many shots where few have ended, before the start and later: what the first
// fifteen of the weekends of docs/planning.md came to that are described there.
var assumed = map[bool]Endings{
	false: {-0.83, -0.17, 0.09, 0.40, 0.47, 0.66, 0.78, 0.84, 0.89, 0.95},
	true:  {-0.75, -0.15, -0.03, 0, 0.11, 0.29, 0.45, 0.64, 0.82, 0.94},
}

// wellUnderWay is the part of a run after which what was forecast of it is held against what was
// forecast of others so late.
const wellUnderWay = 0.25

// LearnEndings learns from shots that ended how those end of a run of which a part is done. Where few have,
// what is assumed weighs as much as ten.
func LearnEndings(seen []Ending, part float64) Endings {
	later := part >= wellUnderWay
	out := slices.Clone(assumed[later])
	for _, e := range seen {
		if (e.Part >= wellUnderWay) == later && e.Finish.P50 >= 0 {
			out = append(out, (e.Ended-e.Finish.P50)/e.Finish.stretch(e.Due))
		}
	}
	slices.Sort(out)
	return out
}

// stretch is the time between the middle of a finish and the deadline; where there is next to none,
// how far simulations are apart: seconds.
func (s Spread) stretch(due float64) float64 {
	high := s.P90
	if high < 0 {
		high = s.P50
	}
	return max(due-s.P50, (high-s.P10)/2, 60)
}

// at is the time by which a part of the runs has ended of which a finish was simulated; never, -1, if
// most simulations never ended.
func (e Endings) at(part float64, s Spread, due float64) float64 {
	if s.P50 < 0 {
		return -1
	}
	return math.Max(0, s.P50+e.quantile(part)*s.stretch(due))
}

// orLate keeps what simulations have late: runs before may have had less to fear.
func orLate(kept, simulated, due float64) float64 {
	switch {
	case kept < 0 || simulated < 0:
		return -1
	case simulated > due:
		return math.Max(kept, simulated)
	}
	return kept
}

// quantile is the score below which a part of them lies, between two of them in proportion.
func (e Endings) quantile(part float64) float64 {
	at := part*float64(len(e)) - 0.5
	low := min(max(0, int(math.Floor(at))), len(e)-1)
	high := min(low+1, len(e)-1)
	return e[low] + (e[high]-e[low])*min(max(0, at-float64(low)), 1)
}

// Kept is when what was simulated ends if it is planned anew by itself on the way. Times are as in
// Forecast.
type Kept struct {
	Finish   Spread    `json:"finish_s"`
	Shots    []Spread  `json:"shots"` // in the order of the forecast's
	Finishes []float64 `json:"finishes_s"`
}

// KeptBy says when the forecast's shots end by what is known of others. Due are their deadlines in
// seconds, by name. The whole ends with the last of its shots: what makes one late makes all late.
func (f Forecast) KeptBy(e Endings, due map[string]float64) Kept {
	if len(f.Shots) == 0 { // what farms have in hand is not planned anew
		return Kept{Finish: f.Finish, Finishes: f.Finishes}
	}
	last, all := 0.0, func(part float64) (out float64) {
		for _, s := range f.Shots {
			t := e.at(part, s.Finish, due[s.ID])
			if t < 0 {
				return -1
			}
			out = max(out, t)
		}
		return out
	}
	for _, d := range due {
		last = max(last, d)
	}
	spread := func(at func(part float64) float64, s Spread, due float64) Spread {
		return Spread{orLate(at(0.1), s.P10, due), orLate(at(0.5), s.P50, due), orLate(at(0.9), s.P90, due)}
	}
	out := Kept{Finish: spread(all, f.Finish, last)}
	for _, s := range f.Shots {
		out.Shots = append(out.Shots, spread(func(part float64) float64 { return e.at(part, s.Finish, due[s.ID]) }, s.Finish, due[s.ID]))
	}
	for k, simulated := range f.Finishes {
		out.Finishes = append(out.Finishes, orLate(all(float64(k)/(steps-1)), simulated, last))
	}
	return out
}
