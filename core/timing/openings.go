package timing

import "slices"

// Openings is what is known of how long a renderer opens a scene, which it does once a start,
// by subject, host and crew.
type Openings struct{ of map[opening]*openingTimes }

type opening struct{ subject, host, crew string }

// openingTimes are the newest ones: seconds, and the part of what the frame would have taken alone.
type openingTimes struct{ seconds, part []float64 }

// newestOpenings is how many of each are looked at.
const newestOpenings = 64

// Add takes a time in: of a frame that would have taken so long in a start of its own, with
// so much of it to open the scene. Newer ones are added later.
func (o *Openings) Add(subject, host, crew string, opens, alone float64) {
	if opens <= 0 || alone <= 0 {
		return
	}
	if o.of == nil {
		o.of = map[opening]*openingTimes{}
	}
	for _, key := range [...]opening{{subject, host, crew}, {subject, host, ""}, {subject, "", ""}} {
		t := o.of[key]
		if t == nil {
			t = &openingTimes{}
			o.of[key] = t
		}
		t.seconds, t.part = newest(t.seconds, opens), newest(t.part, min(1, opens/alone))
	}
}

func newest(all []float64, x float64) []float64 {
	if all = append(all, x); len(all) > newestOpenings {
		all = slices.Delete(all, 0, 1)
	}
	return all
}

// Of is how many seconds of a frame that takes so long alone are for opening the scene: the
// median part on the crew, or where none was seen the median time on the host, or else
// anywhere. 0: not known, or a start renders one frame.
func (o *Openings) Of(subject, host, crew string, alone float64) float64 {
	if t := o.of[opening{subject, host, crew}]; t != nil {
		return middle(t.part) * alone
	}
	const most = 0.95 // of what it takes: some of it is rendering
	for _, key := range [...]opening{{subject, host, ""}, {subject, "", ""}} {
		if t := o.of[key]; t != nil {
			return min(middle(t.seconds), most*alone)
		}
	}
	return 0
}

func middle(all []float64) float64 {
	sorted := slices.Sorted(slices.Values(all))
	return (sorted[(len(sorted)-1)/2] + sorted[len(sorted)/2]) / 2
}
