package timing

import (
	"cmp"
	"math"
	"math/bits"
	"slices"
	"strings"
)

// What a trial is worth is what it is expected to better the choice of crews by: the expected
// value of sample information (Raiffa and Schlaifer, "Applied statistical decision theory", 1961).
// The choice is, on each host, of crews that share no device, so that all of them together render
// the most frames in a time; what they render is what need not be rented, or is early. It is made
// by what is expected, with the trial's outcome or without it. Outcomes are those that the samples
// of the posterior have, each as likely, and weigh the samples anew.

const (
	outcomes   = 24   // of a trial that are looked at
	trialNoise = 0.03 // standard deviation of the log of a trial's time, at the least
	everyWay   = 1e5  // crews times sets of devices of a host that are tried in every way; of more the crews are taken one after another
	mostWorths = 60   // candidates whose worth is reckoned
)

// choices are the crews of one host.
type choices struct {
	crews  []int // places in the candidates
	sets   []uint
	all    uint // devices
	atOnce int
	simple bool // too many to try every way
}

// frames is how many frames in a second the best choice of crews renders, where each renders so many.
func (h *choices) frames(rate []float64) float64 {
	if h.simple {
		return h.oneAfterAnother(rate)
	}
	before, best := make([]float64, h.all+1), make([]float64, h.all+1)
	for range h.atOnce { // with one renderer more
		for free := uint(1); free <= h.all; free++ {
			low := free & -free
			best[free] = best[free&^low]
			for i, set := range h.sets {
				if set&low != 0 && set&^free == 0 {
					best[free] = max(best[free], rate[h.crews[i]]+before[free&^set])
				}
			}
		}
		before, best = best, before
	}
	return before[h.all]
}

func (h *choices) oneAfterAnother(rate []float64) (sum float64) {
	order := make([]int, len(h.crews))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(rate[h.crews[b]], rate[h.crews[a]]) })
	free, left := h.all, h.atOnce
	for _, i := range order {
		if h.sets[i]&^free == 0 && left > 0 {
			sum, free, left = sum+rate[h.crews[i]], free&^h.sets[i], left-1
		}
	}
	return sum
}

// byHost puts crews together that share a host. Devices are those that crews are named by.
func byHost(all []Candidate) []*choices {
	var out []*choices
	at, bit := map[string]*choices{}, map[string]uint{}
	for i, c := range all {
		h := at[c.Place.Host]
		if h == nil {
			h = &choices{}
			at[c.Place.Host] = h
			out = append(out, h)
		}
		set := uint(0)
		for _, id := range strings.Split(c.Place.Crew, "+") {
			key := c.Place.Host + " " + id
			if bit[key] == 0 {
				bit[key] = h.all + 1 // devices so far are a row of ones
				h.all |= bit[key]
			}
			set |= bit[key]
		}
		h.crews, h.sets = append(h.crews, i), append(h.sets, set)
		if h.atOnce = bits.OnesCount(h.all); c.AtOnce > 0 {
			h.atOnce = min(h.atOnce, c.AtOnce)
		}
		h.simple = float64(h.all)*float64(len(h.crews)*h.atOnce) > everyWay
	}
	return out
}

// worths is how much more the best choice is expected to render where one of the candidates was timed, as a part of what it renders
// as things are known: of those that are asked for, by their places. Candidates of which nothing is known are worth nothing, and are
// not chosen.
func (m *Model) worths(subject string, all []Candidate, of []int) []float64 {
	out, times := make([]float64, len(all)), make([][]float64, len(all))
	for i, c := range all {
		times[i] = m.samples(subject, c.Place)
	}
	hosts := byHost(all)
	best := func(weights []float64) (sum float64) {
		rate := make([]float64, len(all))
		whole := 0.0
		for _, w := range weights {
			whole += w
		}
		for i, t := range times {
			for k := range t {
				rate[i] += weights[k] / t[k] / whole
			}
		}
		for _, h := range hosts {
			sum += h.frames(rate)
		}
		return sum
	}
	even := make([]float64, sampleSize)
	for k := range even {
		even[k] = 1
	}
	now := best(even)
	noise := trialNoise
	if s, known := m.layout.subject[subject]; known && s < len(m.noises) {
		noise = max(noise, math.Hypot(m.noises[s].misfit, m.noises[s].row))
	}
	weights := make([]float64, sampleSize)
	for _, i := range of {
		t := times[i]
		if t == nil || now == 0 {
			continue
		}
		order := make([]int, sampleSize)
		for k := range order {
			order[k] = k
		}
		slices.SortFunc(order, func(a, b int) int { return cmp.Compare(t[a], t[b]) })
		sum := 0.0
		for n := range outcomes {
			seen := t[order[(2*n+1)*sampleSize/(2*outcomes)]]
			for k := range weights {
				d := math.Log(t[k]/seen) / noise
				weights[k] = math.Exp(-d * d / 4) // the sample's own outcome has the noise as well
			}
			sum += best(weights) / outcomes
		}
		out[i] = max(0, sum/now-1)
	}
	return out
}

// samples are a subject's times at a place, in seconds, one for each sample of the posterior; nil: nothing is known of it.
func (m *Model) samples(subject string, p Place) []float64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.Unknown(subject, p) != "" {
		return nil
	}
	s, f := m.layout.formula(subject, p, "", "")
	d := m.draw(s)
	out := make([]float64, sampleSize)
	for k := range out {
		out[k] = f.parts(d.global[k], d.own[k], m.layout.centre).Total()
	}
	return out
}
