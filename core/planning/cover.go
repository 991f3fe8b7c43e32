package planning

import (
	"cmp"
	"math"
	"slices"
)

// The heart of planning one shot: cover its frames at least cost from lanes,
// whose cost grows evenly with every frame, and ladders, which cost in steps.
//
// The lanes together are a convex curve: fill the cheapest first. The ladders
// are combined by dynamic programming over the number of frames, in which
// best[n] is the least cost of at least n frames. The result is exact: no choice
// of lanes and rungs covers the frames for less. (The bounded knapsack of
// Kellerer, Pferschy and Pisinger, "Knapsack Problems", 2004, chapter 7, as a
// covering problem.)

// lane is a crew or farm that takes any number of frames up to capacity at the
// same cost each.
type lane struct {
	capacity int
	price    float64 // of one frame
	order    Millis  // of equally cheap lanes, the one with the lower comes first
	book     func(frames int)
}

// rung is a choice that covers frames at a cost.
type rung struct {
	frames int
	cost   float64
}

// ladder is choices of which one is taken, or none. Its rungs rise in frames and
// in cost.
type ladder struct {
	rungs []rung
	book  func(rung, frames int) // frames may be fewer than the rung covers
}

// climb keeps of candidate rungs only those that no other beats in both frames
// and cost.
func climb(candidates []rung) []int {
	order := make([]int, len(candidates))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(candidates[b].frames, candidates[a].frames), cmp.Compare(candidates[a].cost, candidates[b].cost))
	})
	var kept []int
	least := math.Inf(1)
	for _, i := range order {
		if candidates[i].cost < least && candidates[i].frames > 0 {
			least = candidates[i].cost
			kept = append(kept, i)
		}
	}
	slices.Reverse(kept)
	return kept
}

// cover finds the least cost of covering the frames, and returns a function that
// books it. Where the frames cannot be covered, the cost is infinite.
func cover(frames int, lanes []lane, ladders []ladder) (float64, func()) {
	slices.SortStableFunc(lanes, func(a, b lane) int {
		return cmp.Or(cmp.Compare(a.price, b.price), cmp.Compare(a.order, b.order))
	})
	evenly := laneCosts(frames, lanes)

	best := make([]float64, frames+1)
	for n := 1; n <= frames; n++ {
		best[n] = math.Inf(1)
	}
	choice := make([][]int32, len(ladders)) // of each ladder, the rung taken for n frames, or -1
	for l, x := range ladders {
		next, chosen := slices.Clone(best), make([]int32, frames+1)
		for n := range chosen {
			chosen[n] = -1
		}
		for r, step := range x.rungs {
			for n := 1; n <= frames; n++ {
				if c := step.cost + best[max(0, n-step.frames)]; c < next[n] {
					next[n], chosen[n] = c, int32(r)
				}
			}
		}
		best, choice[l] = next, chosen
	}

	split, total := 0, math.Inf(1) // frames that the ladders cover
	for n := range best {
		if c := best[n] + evenly[frames-n]; c < total {
			split, total = n, c
		}
	}
	return total, func() {
		left := split
		for l := len(ladders) - 1; l >= 0; l-- {
			if r := choice[l][left]; r >= 0 {
				n := min(left, ladders[l].rungs[r].frames)
				ladders[l].book(int(r), n)
				left -= n
			}
		}
		left = frames - split
		for _, x := range lanes {
			if n := min(left, x.capacity); n > 0 {
				x.book(n)
				left -= n
			}
		}
	}
}

// laneCosts returns the least cost of 0 to frames frames on lanes sorted by price.
func laneCosts(frames int, sorted []lane) []float64 {
	costs := make([]float64, frames+1)
	n := 0
	for _, x := range sorted {
		for k := 0; k < x.capacity && n < frames; k++ {
			costs[n+1] = costs[n] + x.price
			n++
		}
	}
	for n++; n <= frames; n++ {
		costs[n] = math.Inf(1)
	}
	return costs
}
