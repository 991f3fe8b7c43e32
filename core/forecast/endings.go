package forecast

import (
	"math"
	"slices"
)

// Ending is how a shot of an earlier run, or the whole of one, ended that was planned anew by itself, beside
// what had been forecast of it. Times are seconds from when that was forecast.
type Ending struct {
	Shot   string  `json:"shot,omitempty"`  // "": the whole run
	Later  bool    `json:"later,omitempty"` // it was forecast half-way, not as the run began
	Finish Spread  `json:"finish_s"`        // as was forecast, of the schedule as it was then
	Due    float64 `json:"due_s"`           // of the whole: when the last of its shots is
	Ended  float64 `json:"ended_s"`
}

// Endings say how runs end that are planned anew by themselves, shot by shot and as wholes: where between
// what was simulated for the middle of the schedule as it was, 0, and the deadline, 1. A forecast does not know that: time that
// is gained is given back for money, so that most end later than half of the simulations do, and time
// that is lost is bought, so that few end late.
//
// They are the scores of split conformal prediction (V. Vovk, A. Gammerman, G. Shafer, Algorithmic
// Learning in a Random World, 2005): what is said of 80 % happens in 80 % of runs like those.
type Endings struct{ shots, wholes scores }

// scores are sorted, and may lie outside of 0 to 1.
type scores []float64

// assumed stand for as many shots and runs where few have ended, before the start and half-way: what the first
// fifteen of the weekends of docs/planning.md came to that are described there.
var assumed = map[bool]Endings{
	false: {
		shots:  scores{-0.83, -0.17, 0.09, 0.40, 0.47, 0.66, 0.78, 0.84, 0.89, 0.95},
		wholes: scores{-2.26, -0.63, 0.05, 0.37, 0.56, 0.64, 0.76, 0.81, 0.87, 0.97},
	},
	true: {
		shots:  scores{-0.75, -0.15, -0.03, 0, 0.11, 0.29, 0.45, 0.64, 0.82, 0.94},
		wholes: scores{-1.09, -0.69, -0.07, 0.10, 0.18, 0.24, 0.49, 0.59, 0.74, 0.96},
	},
}

// LearnEndings learns from what ended how a run ends that is to begin or, later, of which half is done.
// Where little has, what is assumed weighs as much as ten shots, and ten runs.
func LearnEndings(seen []Ending, later bool) *Endings {
	out := Endings{slices.Clone(assumed[later].shots), slices.Clone(assumed[later].wholes)}
	for _, e := range seen {
		if e.Later != later || e.Finish.P50 < 0 {
			continue
		}
		of := &out.shots
		if e.Shot == "" {
			of = &out.wholes
		}
		*of = append(*of, (e.Ended-e.Finish.P50)/e.Finish.stretch(e.Due))
	}
	slices.Sort(out.shots)
	slices.Sort(out.wholes)
	return &out
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
func (e scores) at(part float64, s Spread, due float64) float64 {
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
func (e scores) quantile(part float64) float64 {
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

// Told is what of a forecast is to be kept until its run has ended: the whole, and each shot. Due are as for KeptBy.
func (f Forecast) Told(later bool, due map[string]float64) []Ending {
	out := []Ending{{Later: later, Finish: f.Finish, Due: latest(due)}}
	for _, s := range f.Shots {
		out = append(out, Ending{Shot: s.ID, Later: later, Finish: s.Finish, Due: due[s.ID]})
	}
	return out
}

// latest is the last of some deadlines.
func latest(due map[string]float64) (out float64) {
	for _, d := range due {
		out = max(out, d)
	}
	return out
}

// KeptBy says when the forecast's shots, and all of it, end by what is known of others. Due are the shots' deadlines in
// seconds, by name.
func (f Forecast) KeptBy(e *Endings, due map[string]float64) Kept {
	last := latest(due)
	spread := func(of scores, s Spread, due float64) Spread {
		at := func(part, simulated float64) float64 { return orLate(of.at(part, s, due), simulated, due) }
		return Spread{at(0.1, s.P10), at(0.5, s.P50), at(0.9, s.P90)}
	}
	out := Kept{Finish: spread(e.wholes, f.Finish, last)}
	for _, s := range f.Shots {
		out.Shots = append(out.Shots, spread(e.shots, s.Finish, due[s.ID]))
	}
	for k, simulated := range f.Finishes {
		out.Finishes = append(out.Finishes, orLate(e.wholes.at(float64(k)/(steps-1), f.Finish, last), simulated, last))
	}
	return out
}
