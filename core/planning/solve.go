package planning

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"math/big"
	"slices"
	"time"

	"rotanex.example/core/pricing"
)

// Options of Solve. The zero value is right for most.
type Options struct {
	// TimeLimit is how long Solve may look for a better plan; 0 is 10 seconds. It
	// always finishes the plan it is working on.
	TimeLimit time.Duration
}

// Solve returns the best plan it finds for the problem, with the bound that
// proves how good it is. A problem that cannot be met still gets an answer: its
// Status says why. It ends early, with the best plan so far, when ctx ends. The
// same problem gives the same plan unless time runs out. The plan returned has
// passed Check.
//
// One shot on crews that share neither devices nor memory is solved exactly.
// Several shots are placed one after another, in several orders.
func Solve(ctx context.Context, p Problem, o Options) (Plan, error) {
	if err := p.Validate(); err != nil {
		return Plan{}, err
	}
	if p.Goal == Fastest && p.Budget == nil {
		return Plan{}, fmt.Errorf("goal %q needs a budget", Fastest)
	}
	if o.TimeLimit == 0 {
		o.TimeLimit = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, o.TimeLimit)
	defer cancel()

	s := solver{ctx: ctx, model: newModel(p)}
	plan := s.solve()
	if plan == nil {
		return Plan{}, fmt.Errorf("no plan found: crews that share devices or memory leave too little room for %d shots", len(p.Shots))
	}
	if plan.Status != Impossible {
		plan.CostBound = s.bound()
	}
	if err := Check(p, *plan); err != nil {
		return Plan{}, fmt.Errorf("the planner made a plan that is not valid, which is a defect of ours: %w", err)
	}
	return *plan, nil
}

type solver struct {
	*model
	ctx context.Context
}

func (s *solver) solve() *Plan {
	if lost := s.impossible(); len(lost) > 0 {
		return empty(Impossible, lost)
	}
	asked := make([]Millis, len(s.shots))
	for i, shot := range s.shots {
		asked[i] = shot.Deadline
	}
	later := func(by Millis) []Millis { return shift(asked, by) }

	best := s.plan(asked)
	if best == nil {
		best = s.earliest(0, s.horizon(), func(by Millis) *Plan { return s.inside(s.plan(later(by))) })
		if best != nil {
			best.Status = Late
			return best
		}
		if best = s.plan(later(s.horizon())); best != nil {
			best.Status = OverBudget
			if s.inside(best) != nil {
				best.Status = Late
			}
		}
		return best
	}
	if s.inside(best) == nil {
		best.Status = OverBudget
		return best
	}
	finishBy := func(t Millis) *Plan { return s.plan(capped(asked, t)) }
	if s.Goal == Fastest {
		if sooner := s.earliest(0, best.Finish, func(t Millis) *Plan { return s.inside(finishBy(t)) }); sooner != nil {
			return sooner
		}
		return best
	}
	// Of the cheapest plans, the one that finishes first.
	cost := best.Cost
	if sooner := s.earliest(0, best.Finish, func(t Millis) *Plan {
		if x := finishBy(t); x != nil && x.Cost.Cmp(cost) <= 0 {
			return x
		}
		return nil
	}); sooner != nil && sooner.Finish <= best.Finish {
		return sooner
	}
	return best
}

func shift(deadlines []Millis, by Millis) []Millis {
	out := slices.Clone(deadlines)
	for i := range out {
		out[i] += by
	}
	return out
}

func capped(deadlines []Millis, at Millis) []Millis {
	out := slices.Clone(deadlines)
	for i := range out {
		out[i] = min(out[i], at)
	}
	return out
}

// inside returns the plan if it is inside the budget, else nil.
func (s *solver) inside(p *Plan) *Plan {
	if p == nil || (s.Budget != nil && p.Cost.Cmp(*s.Budget) > 0) {
		return nil
	}
	return p
}

// earliest finds, by halving, the least t in (low, high] for which plan(t) is
// not nil, and returns that plan; nil where even high has none.
func (s *solver) earliest(low, high Millis, plan func(Millis) *Plan) *Plan {
	best := plan(high)
	if best == nil {
		return nil
	}
	for high-low > 1 && s.ctx.Err() == nil {
		middle := low + (high-low)/2
		if x := plan(middle); x != nil {
			best, high = x, middle
		} else {
			low = middle
		}
	}
	return best
}

// plan places all shots by the deadlines and returns the cheapest plan found, or nil.
func (s *solver) plan(deadlines []Millis) *Plan {
	var best *Plan
	for _, order := range s.orders(deadlines) {
		if best != nil && s.ctx.Err() != nil {
			break
		}
		d, c := &draft{}, newCalendar(s.model)
		placed := true
		for _, i := range order {
			cost, book := s.planShot(s.shots[i], deadlines[i], c, false)
			if placed = !math.IsInf(cost, 1); !placed {
				break
			}
			book(d)
		}
		if !placed {
			continue
		}
		if p := d.finished(s.Problem); best == nil || p.Cost.Cmp(best.Cost) < 0 || (p.Cost.Cmp(best.Cost) == 0 && p.Finish < best.Finish) {
			best = p
		}
	}
	return best
}

// orders in which the shots are placed: by deadline, by how few places can
// render them, by how much work they are.
func (s *solver) orders(deadlines []Millis) [][]int {
	byDeadline := make([]int, len(s.shots))
	for i := range byDeadline {
		byDeadline[i] = i
	}
	places := func(i int) int { return len(s.shots[i].hosts) + len(s.shots[i].offers) + len(s.shots[i].farms) }
	slices.SortStableFunc(byDeadline, func(a, b int) int { return cmp.Compare(deadlines[a], deadlines[b]) })
	if len(s.shots) == 1 {
		return [][]int{byDeadline}
	}
	byPlaces, byFrames := slices.Clone(byDeadline), slices.Clone(byDeadline)
	slices.SortStableFunc(byPlaces, func(a, b int) int { return cmp.Compare(places(a), places(b)) })
	slices.SortStableFunc(byFrames, func(a, b int) int { return cmp.Compare(s.shots[b].Frames, s.shots[a].Frames) })
	return [][]int{byDeadline, byPlaces, byFrames}
}

func (s *solver) impossible() []ImpossibleShot {
	var lost []ImpossibleShot
	for _, shot := range s.shots {
		n := shot.capacity(s.model)
		if n >= shot.Frames {
			continue
		}
		why := fmt.Sprintf("only %d of its %d frames fit into all the open hours of the machines that can render it", n, shot.Frames)
		if len(shot.hosts)+len(shot.offers)+len(shot.farms) == 0 {
			why = "no machine can render it: none has a timing for it and enough host memory"
		}
		lost = append(lost, ImpossibleShot{shot.ID, why})
	}
	return lost
}

// bound returns a cost that no plan meeting every deadline goes below.
//
// For one shot it is the optimum of the problem in which crews that share
// devices or memory may all work at once, and seats do not matter: every plan is
// one of that problem too. For several shots it is the sum over the shots of
// their least cost when each has every machine to itself and a server costs only
// the share of its devices' time that is used: a server is billed for at least
// the time its busiest device works, so the shares of all shots together never
// exceed its bill.
func (s *solver) bound() pricing.Money {
	total := 0.0
	for _, shot := range s.shots {
		if len(s.shots) == 1 {
			total, _ = s.planShot(shot, shot.Deadline, newCalendar(s.model), true)
		} else {
			total += s.share(shot)
		}
	}
	if math.IsInf(total, 1) {
		return pricing.Money{}
	}
	// The sums above are floating point: step below their error, then round as
	// the cost of a plan is rounded, which keeps the order.
	exact := new(big.Rat)
	exact.SetFloat64(max(0, total-1e-9-total*1e-12*float64(len(s.shots)+1)))
	return pricing.FromRat(exact).Rounded()
}

// share is the least cost of a shot that pays for nothing but what it uses.
func (s *solver) share(shot shotModel) float64 {
	b := builder{m: s.model, s: shot, deadline: shot.Deadline, c: newCalendar(s.model), relaxed: true}
	for _, x := range shot.hosts {
		b.addHost(x)
	}
	for _, x := range shot.farms {
		farm, frame := s.Farms[x.at], x.crews[0].frame
		start := max(farm.Lead, b.c.uploaded(shot, farm.Source, x.transfer))
		rounds := max(0, shot.Deadline-x.transfer.Delivery-start) / frame
		b.lanes = append(b.lanes, lane{
			capacity: int(min(Millis(shot.Frames), rounds*Millis(farm.Nodes))),
			price:    perFrame(farm.NodePrice, frame) + farm.FramePrice.Float(),
		})
	}
	for _, x := range shot.offers {
		offer := s.Offers[x.at]
		devices := map[string]bool{}
		for _, c := range offer.Crews {
			for _, d := range c.Devices {
				devices[d] = true
			}
		}
		room := shot.Deadline - x.transfer.Delivery - max(offer.Lead, b.c.uploaded(shot, offer.Source, x.transfer))
		for _, c := range x.crews {
			b.lanes = append(b.lanes, lane{
				capacity: int(min(Millis(shot.Frames), max(0, room)/c.frame*Millis(offer.MaxServers))),
				price:    perFrame(offer.Price, c.frame) * float64(len(c.Devices)) / float64(len(devices)),
			})
		}
	}
	cost, _ := cover(shot.Frames, b.lanes, nil)
	return cost
}
