package forecast

import (
	"math"
	"math/rand/v2"
	"slices"

	"rotanex.example/core/planning"
)

// mostFrames are simulated one by one. Of larger problems each shot's frames are taken
// together in batches, at least leastBatches of them, which crews take as they take frames:
// a finish is then out by what one batch takes.
const (
	mostFrames   = 10_000
	leastBatches = 100
)

func framesOf(p planning.Problem) int {
	all := 0
	for _, s := range p.Shots {
		all += s.Frames
	}
	return all
}

// batched is the problem and the plan with batches for frames, and how many frames each
// shot's batches have, in the mean: 1 where they are frames.
func batched(p planning.Problem, plan planning.Plan) (planning.Problem, planning.Plan, []float64) {
	all, sizes := framesOf(p), make([]float64, len(p.Shots))
	for i := range sizes {
		sizes[i] = 1
	}
	if all <= mostFrames {
		return p, plan, sizes
	}
	p.Shots, p.Timings, plan.Bookings = slices.Clone(p.Shots), slices.Clone(p.Timings), slices.Clone(plan.Bookings)
	size := map[string]float64{}
	for i, s := range p.Shots {
		batches := max(min(s.Frames, leastBatches), int(float64(s.Frames)*mostFrames/float64(all)))
		sizes[i] = float64(s.Frames) / float64(batches)
		size[s.ID], p.Shots[i].Frames = sizes[i], batches
	}
	p.Shots = planning.Linked(p.Shots)
	for i, t := range p.Timings {
		p.Timings[i].Frame = max(1, planning.Millis(float64(t.Frame)*size[t.Shot]))
	}
	// What is cut off a booking is owed by the next one of its shot, so that all add up.
	over := map[string]float64{}
	for i, b := range plan.Bookings {
		exact := float64(b.Frames)/size[b.Shot] + over[b.Shot]
		whole := math.Round(exact)
		over[b.Shot], plan.Bookings[i].Frames = exact-whole, int(whole)
	}
	return p, plan, sizes
}

// batch are the frames of a shot that are drawn together.
type batch struct {
	size   float64   // 1: it is a frame
	ratios []float64 // of single frames
	mean   float64   // of ratios
	spread float64   // standard deviation of the mean of a batch's ratios
	least  float64
}

func newBatch(ratios []float64, size float64) batch {
	b := batch{size: size, ratios: ratios, least: slices.Min(ratios)}
	squares := 0.0
	for _, r := range ratios {
		b.mean += r / float64(len(ratios))
		squares += r * r / float64(len(ratios))
	}
	b.spread = math.Sqrt(max(0, squares-b.mean*b.mean) / size)
	return b
}

// draw draws how long it takes over the typical time of all its frames, and whether it fails.
// A frame fails as a whole; of a batch some frames do and are rendered again there.
func (b *batch) draw(r *rand.Rand, fails float64) (length float64, failed bool) {
	if b.size == 1 {
		length = b.ratios[r.IntN(len(b.ratios))]
		if fails > 0 && r.Float64() < fails {
			return length * 2 * failsAfter * r.Float64(), true
		}
		return length, false
	}
	// So many tries of a batch's frames fail: in the mean, and by the normal approximation.
	p := min(fails, 0.9)
	tries := b.size * p / (1 - p)
	tries = max(0, tries+math.Sqrt(tries/(1-p))*r.NormFloat64())
	return max(b.least, b.mean+b.spread*r.NormFloat64()) * (1 + failsAfter*tries/b.size), false
}
