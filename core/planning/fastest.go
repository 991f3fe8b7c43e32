package planning

import "math"

// fastest finds the earliest finish that the budget pays for, and before which time no plan inside it can end.
func (s *solver) fastest(asked []Millis, cheapest *Plan) *Plan {
	best, never := *cheapest, Millis(-1) // no plan inside the budget has ended by then
	try := func(by Millis) bool {
		x := s.search(capped(asked, by), s.p.Budget.Float(), &effort{min(s.share(20).left, 200_000_000)})
		if s.beyond(x.bound) {
			never = max(never, by)
		}
		if x.layout == nil {
			return false
		}
		plan := x.layout.plan(Meets)
		if !s.inside(plan) {
			return false
		}
		best = *plan
		return true
	}
	low, high := Millis(0), cheapest.Finish
	for high-low > 1 && s.ctx.Err() == nil {
		if middle := low + (high-low)/2; try(middle) {
			high = min(middle, best.Finish)
		} else {
			low = middle
		}
	}
	if x := s.search(capped(asked, high), -1, s.work); x.layout != nil {
		if plan := x.layout.plan(Meets); s.inside(plan) && plan.Finish <= best.Finish && plan.Cost.Cmp(best.Cost) < 0 {
			best = *plan
		}
	}
	best.FinishBound = min(never+1, best.Finish)
	return &best
}

// beyond reports whether a bound is above the budget by more than rounding can have added.
func (s *solver) beyond(bound float64) bool {
	return math.IsInf(bound, 1) || bound-1e-6-bound*1e-9 > s.p.Budget.Float()+0.005
}
