package ledger

import (
	"math"
	"time"

	"rotanex.example/core/pricing"
)

// Row is what one source does of some work.
type Row struct {
	Cost    pricing.Money
	Elapsed time.Duration
	Counts  bool // it does all of the work in time
}

// Marks are the rows that stand out: indices, -1 where there is none.
type Marks struct{ Cheapest, Fastest, Balanced int }

// Mark finds the cheapest, the fastest and the balanced of the rows that count. The
// balanced one has the least sum of cost and time, each taken as a part of the way
// from the best to the worst of these rows.
func Mark(rows []Row) Marks {
	out := Marks{-1, -1, -1}
	var least, most pricing.Money
	var soonest, latest time.Duration
	for i, r := range rows {
		if !r.Counts {
			continue
		}
		if out.Cheapest < 0 {
			least, most, soonest, latest = r.Cost, r.Cost, r.Elapsed, r.Elapsed
			out.Cheapest, out.Fastest = i, i
		}
		if r.Cost.Cmp(rows[out.Cheapest].Cost) < 0 {
			out.Cheapest = i
		}
		if r.Elapsed < rows[out.Fastest].Elapsed {
			out.Fastest = i
		}
		if r.Cost.Cmp(least) < 0 {
			least = r.Cost
		}
		most, soonest, latest = most.Max(r.Cost), min(soonest, r.Elapsed), max(latest, r.Elapsed)
	}
	way := func(x, from, to float64) float64 {
		if to <= from {
			return 0
		}
		return (x - from) / (to - from)
	}
	best := math.Inf(1)
	for i, r := range rows {
		if !r.Counts {
			continue
		}
		sum := way(r.Cost.Float(), least.Float(), most.Float()) + way(float64(r.Elapsed), float64(soonest), float64(latest))
		if sum < best-1e-12 {
			best, out.Balanced = sum, i
		}
	}
	return out
}
