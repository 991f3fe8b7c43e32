package timing

import (
	"cmp"
	"fmt"
	"slices"
)

// Candidate is a crew on which a sweep could time frames.
type Candidate struct {
	Place   Place
	Seconds float64 // that a frame may take there, guessed where nothing is known
}

// Choice is a trial that a sweep would do next, and why.
type Choice struct {
	Candidate
	Why string
}

// Next picks the trials of a subject that tell most, the best first: one single
// device of every model that is not known well enough from other shots, GPUs before CPUs, then one crew large enough to show the parts that do not
// shrink, then the crews whose interval is widest, as long as their ends are more
// than the factor goal apart. m may be nil, before the first time. timed tells the
// places that were timed or are being timed.
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
			p, err := m.Predict(subject, c.Place, nil, "", false)
			if err == nil && (p.Certain(goal) || p.Low > tooSlow*fastest[0].Seconds) {
				continue
			}
		} else if c.Place.Members[0].CPU && gpusAmong(all) {
			continue // the GPUs first: they tell how slow it is, and whether it matters
		}
		known[model] = true
		out = append(out, Choice{c, "a single " + model + " was not timed"})
	}
	if !shown && (anything || m == nil || !m.KnowsScaling()) {
		if c, ok := largest(all); ok {
			out = append(out, Choice{c, "a large crew shows the parts that do not shrink"})
		}
	}
	if len(out) > 0 || m == nil {
		return out
	}
	type wide struct {
		Candidate
		p Prediction
	}
	var unsure []wide
	for _, c := range all {
		if timed(c.Place) {
			continue
		}
		if p, err := m.Predict(subject, c.Place, nil, "", false); err == nil && !p.Certain(goal) && p.Low <= tooSlow*fastest[0].Seconds {
			unsure = append(unsure, wide{c, p})
		}
	}
	slices.SortStableFunc(unsure, func(a, b wide) int { return cmp.Compare(b.p.High/b.p.Low, a.p.High/a.p.Low) })
	for _, w := range unsure {
		out = append(out, Choice{w.Candidate, fmt.Sprintf("predicted %.3g to %.3g s: too wide", w.p.Low, w.p.High)})
	}
	return out
}

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
