package timing

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// Candidate is a crew on which a sweep could time frames.
type Candidate struct {
	Place   Place
	Seconds float64 // that a frame may take there, guessed where nothing is known
	AtOnce  int     // renderers of the shot that its host holds at a time; 0: as many as it has devices
}

// Choice is a trial that a sweep would do next, and why.
type Choice struct {
	Candidate
	Why string
}

// Next picks the trials of a subject that tell most, the best first: one single device of every model that is not known well enough
// from other shots, GPUs before CPUs; before the first time, one crew large enough to show the parts that do not shrink; then, of the
// crews whose interval has its ends more than the factor goal apart, those whose trial is expected to better the choice of crews most,
// and where it betters none, the widest. m may be nil, before the first time. timed tells the places that were timed or are being timed.
func Next(m *Model, subject string, all []Candidate, timed func(Place) bool, goal float64) []Choice {
	var out []Choice
	known := map[string]bool{} // models of which a single device was timed
	shown := false             // whether a crew was
	for _, c := range all {
		if timed(c.Place) {
			known[single(c.Place)] = true
			shown = shown || len(c.Place.Members) > 1
		}
	}
	fastest := slices.Clone(all)
	slices.SortStableFunc(fastest, func(a, b Candidate) int { return cmp.Compare(a.Seconds, b.Seconds) })
	anything := m != nil && m.Unknown(subject, Place{}) == ""
	for _, c := range fastest {
		model := single(c.Place)
		if model == "" || known[model] {
			continue
		}
		if anything {
			if m.Unknown(subject, c.Place) == "" {
				continue // what it is worth is known
			}
		} else if c.Place.Members[0].CPU && gpusAmong(all) {
			continue // the GPUs first: they tell how slow it is, and whether it matters
		}
		known[model] = true
		out = append(out, Choice{c, "a single " + model + " was not timed"})
	}
	if !shown && (m == nil || !m.KnowsScaling()) {
		if c, ok := largest(all); ok {
			out = append(out, Choice{c, "a large crew shows the parts that do not shrink"})
		}
	}
	if len(out) > 0 || m == nil {
		return out
	}
	return m.telling(subject, all, timed, goal)
}

// telling are the choices among crews of which something is known, too little yet.
func (m *Model) telling(subject string, all []Candidate, timed func(Place) bool, goal float64) (out []Choice) {
	type wide struct {
		at    int
		p     Prediction
		worth float64
	}
	var unsure []wide
	fastest := math.Inf(1)
	for i, c := range all {
		if p, err := m.Predict(subject, c.Place, nil, "", false); err == nil {
			unsure, fastest = append(unsure, wide{at: i, p: p}), min(fastest, p.Seconds)
		}
	}
	unsure = slices.DeleteFunc(unsure, func(w wide) bool {
		return timed(all[w.at].Place) || w.p.Certain(goal) || w.p.Low > tooSlow*fastest
	})
	slices.SortStableFunc(unsure, func(a, b wide) int { return cmp.Compare(b.p.High/b.p.Low, a.p.High/a.p.Low) })
	var places []int
	for _, w := range unsure[:min(len(unsure), mostWorths)] {
		places = append(places, w.at)
	}
	worth := m.worths(subject, all, places)
	for i, w := range unsure {
		unsure[i].worth = worth[w.at]
	}
	slices.SortStableFunc(unsure, func(a, b wide) int { return cmp.Compare(b.worth, a.worth) })
	for _, w := range unsure {
		why := fmt.Sprintf("predicted %.3g to %.3g s: too wide", w.p.Low, w.p.High)
		if w.worth >= leastWorth {
			why = fmt.Sprintf("predicted %.3g to %.3g s: to know it is expected to make the choice of crews %.1f %% faster", w.p.Low, w.p.High, 100*w.worth)
		}
		out = append(out, Choice{all[w.at], why})
	}
	return out
}

// leastWorth is what of a trial's worth is said.
const leastWorth = 0.001

// tooSlow is how many times as long as on the fastest crew a frame may take on one
// that is worth timing.
const tooSlow = 8

func gpusAmong(all []Candidate) bool {
	return slices.ContainsFunc(all, func(c Candidate) bool { gpus, _ := c.Place.devices(); return gpus > 0 })
}

// single returns the model of a crew of one device, or "".
func single(p Place) string {
	if len(p.Members) != 1 {
		return ""
	}
	return p.Members[0].Model
}

// largest returns the crew of the most GPUs of one model.
func largest(all []Candidate) (best Candidate, ok bool) {
	most := 1
	for _, c := range all {
		gpus, cpu := c.Place.devices()
		if !cpu && gpus > most {
			best, most, ok = c, gpus, true
		}
	}
	return best, ok
}
