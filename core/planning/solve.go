package planning

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"math/big"
	"math/rand/v2"
	"slices"
	"time"

	"rotanex.example/core/pricing"
)

// Options of Solve. The zero value is right for most.
type Options struct {
	// TimeLimit is how long Solve may look for a better plan. With 0 it stops by
	// itself, after work that depends on the problem's size alone, so that the same
	// problem gives the same plan everywhere. With a limit it goes on until then.
	TimeLimit time.Duration
	// Effort is which part of the work is done where there is no time limit; 0 is all.
	Effort float64
	// From is an earlier plan to start from, as far as the problem has its places and there is
	// room for it in time: what costs as much is left as it was there. nil: none.
	From *Plan
}

// Solve returns the best plan it finds for the problem, with the bound that
// proves how good it is. A problem that cannot be met still gets an answer: its
// Status says why. It ends early, with the best plan so far, when ctx ends. The
// plan returned has passed Check.
//
// The method is branch and bound over a relaxed problem solved by column
// generation; docs/planning.md describes it.
func Solve(ctx context.Context, p Problem, o Options) (Plan, error) {
	if err := p.Validate(); err != nil {
		return Plan{}, err
	}
	if p.Goal == Fastest && p.Budget == nil {
		return Plan{}, fmt.Errorf("goal %q needs a budget", Fastest)
	}
	plan, err := tries(ctx, p, o)
	if err != nil {
		return Plan{}, err
	}
	if err := Check(p, *plan); err != nil {
		return Plan{}, fmt.Errorf("the planner made a plan that is not valid, which is a defect of ours: %w", err)
	}
	return *plan, nil
}

// tries solves the problem once, or where there is a time limit, again and
// again, each time with twice the effort and other random numbers, until the
// limit or a plan that is proven to be the best.
func tries(ctx context.Context, p Problem, o Options) (*Plan, error) {
	limit, effortNow := o.TimeLimit, allowance(p)
	if o.Effort > 0 {
		effortNow = int64(o.Effort * float64(effortNow))
	}
	if limit > 0 {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, limit)
		defer cancel()
	}
	s := solver{ctx: ctx, p: p, from: o.From, work: &effort{effortNow}}
	best, err := s.solve()
	for limit > 0 && ctx.Err() == nil && err == nil && !best.proven(p) {
		effortNow *= 2
		s.work, s.seed = &effort{effortNow}, s.seed+1
		next, e := s.solve()
		if e != nil {
			break
		}
		best = best.or(next, p)
	}
	return best, err
}

// rank orders what plans achieve, the best first.
var rank = map[string]int{Meets: 0, OverBudget: 1, Late: 2, Impossible: 3}

// proven reports whether no plan can be better in what the goal asks first.
func (x *Plan) proven(p Problem) bool {
	return x.Status == Impossible || x.Status == Meets && p.Goal == Cheapest && x.Cost.Cmp(x.CostBound) <= 0
}

// or returns the better of two plans, with the better of their bounds.
func (x *Plan) or(y *Plan, p Problem) *Plan {
	bound := x.CostBound.Max(y.CostBound)
	order := []int{cmp.Compare(rank[x.Status], rank[y.Status])}
	if x.Status == Late {
		order = append(order, slices.Compare(x.latenesses(p), y.latenesses(p)))
	}
	if p.Goal == Fastest && x.Status == Meets {
		order = append(order, cmp.Compare(x.Finish, y.Finish))
	}
	order = append(order, x.Cost.Cmp(y.Cost), cmp.Compare(x.Finish, y.Finish))
	out := x
	if cmp.Or(order...) > 0 {
		out = y
	}
	if out.Status != Late && out.Status != Impossible && bound.Cmp(out.Cost) <= 0 {
		out.CostBound = bound
	}
	out.FinishBound = min(max(x.FinishBound, y.FinishBound), out.Finish)
	return out
}

type solver struct {
	ctx  context.Context
	p    Problem
	from *Plan // nil: none
	work *effort
	seed uint64
}

func (s *solver) solve() (*Plan, error) {
	if lost := s.impossible(); len(lost) > 0 {
		return empty(Impossible, lost), nil
	}
	asked := make([]Millis, len(s.p.Shots))
	for i, shot := range s.p.Shots {
		asked[i] = shot.Deadline
	}
	// What is left of the work goes into an earlier finish.
	first := s.share(5)
	switch {
	case s.p.Goal == Cheapest && len(s.p.Shots) > manyShots:
		first.left = s.work.left
	case s.p.Goal == Cheapest:
		first.left *= 4
	}
	s.work.left -= first.left
	found := s.search(asked, -1, first)
	if found.layout == nil {
		plan, err := s.late(asked)
		if err != nil || plan.Status != Meets {
			return plan, err
		}
		// There is a plan in time after all: that is where to start from.
		s.from = plan
		again := s.search(asked, -1, s.share(2))
		if again.layout == nil {
			plan.CostBound = provable(found.bound, plan.Cost)
			return plan, nil
		}
		if !math.IsInf(found.bound, 1) { // else it is what was missed that it says
			again.bound = max(again.bound, found.bound)
		}
		found = again
	}
	found.layout.work = &effort{s.work.left/4 + 10_000_000}
	plan := found.layout.level().plan(Meets)
	plan.CostBound = provable(found.bound, plan.Cost)
	if !s.inside(plan) {
		plan.Status = OverBudget
		return plan, nil
	}
	if s.p.Goal == Fastest {
		sooner := s.fastest(asked, plan)
		sooner.CostBound = provable(found.bound, sooner.Cost)
		return sooner, nil
	}
	return s.sooner(asked, plan, found.cost), nil
}

func (s *solver) search(due []Millis, enough float64, work *effort) outcome {
	x := newSearch(s.ctx, newModel(s.p, due), work)
	x.enough, x.from = enough, s.from
	x.random = rand.New(rand.NewPCG(1, s.seed))
	return x.run()
}

// share returns a part of the effort that is left.
func (s *solver) share(parts int64) *effort {
	out := &effort{s.work.left / parts}
	return out
}

// sooner looks for a plan of the same cost that finishes earlier.
func (s *solver) sooner(asked []Millis, plan *Plan, cost float64) *Plan {
	if len(s.p.Shots) > manyShots {
		return plan
	}
	best := plan
	low, high := Millis(0), plan.Finish
	steps := s.work.left / 12
	for s.work.left > 0 && high-low > max(1000, plan.Finish/1000) && s.ctx.Err() == nil {
		s.work.left -= steps
		middle := low + (high-low)/2
		x := s.search(capped(asked, middle), cost+1e-9, &effort{steps})
		if x.layout == nil {
			low = middle
			continue
		}
		if next := x.layout.plan(Meets); next.Cost.Cmp(best.Cost) <= 0 && next.Finish <= middle {
			next.CostBound = plan.CostBound
			if next.CostBound.Cmp(next.Cost) > 0 {
				next.CostBound = next.Cost
			}
			best, high = next, next.Finish
		} else {
			low = middle
		}
	}
	return best
}

func capped(deadlines []Millis, at Millis) []Millis {
	out := slices.Clone(deadlines)
	for i := range out {
		out[i] = min(out[i], at)
	}
	return out
}

// inside reports whether the plan is inside the budget.
func (s *solver) inside(p *Plan) bool {
	return s.p.Budget == nil || p.Cost.Cmp(*s.p.Budget) <= 0
}

// provable turns a bound computed in floating point into money that no plan goes
// below: stepped down by more than rounding can have added, then rounded as a
// plan's cost is, which keeps the order. It is at most the cost.
func provable(bound float64, cost pricing.Money) pricing.Money {
	if bound >= cost.Float()-0.005+margin/2 {
		return cost
	}
	if bound <= 0 || math.IsInf(bound, 0) || math.IsNaN(bound) {
		return pricing.Money{}
	}
	exact := new(big.Rat)
	exact.SetFloat64(max(0, bound-1e-6-bound*1e-9))
	return pricing.FromRat(exact).Rounded()
}

func (s *solver) impossible() []ImpossibleShot {
	var lost []ImpossibleShot
	for _, shot := range s.p.Shots {
		n := capacity(s.p, shot)
		if n >= shot.Frames {
			continue
		}
		why := fmt.Sprintf("only %d of its %d frames fit into all the open hours of the machines that can render it", n, shot.Frames)
		if n == 0 {
			why = "no machine can render it: none has a timing for it, enough host memory, a seat for its licence and open hours"
		}
		lost = append(lost, ImpossibleShot{shot.ID, why})
	}
	return lost
}
