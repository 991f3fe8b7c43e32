package questions

import (
	"cmp"
	"context"
	"errors"
	"math"
	"slices"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// Curve is the trade-off curve: real plans, each the cheapest found that finishes
// by its time, from the earliest finish to the least cost. A later point is always
// the cheaper one.
type Curve struct {
	Points   []planning.Plan
	Cheapest int // index of the least cost
	Fastest  int // index of the earliest finish
	// Balanced is the point that lies furthest below the straight line from the
	// fastest to the cheapest, both axes taken as parts of that line: past it an hour
	// costs more, before it an hour saves less (the knee of Satopää and others,
	// "Finding a 'kneedle' in a haystack", 2011).
	Balanced int
}

// Tradeoff finds the curve with up to the given number of points. A plan of the
// problem that is known already is one of them, if none beats it. It fails when ctx ends.
func Tradeoff(ctx context.Context, p planning.Problem, points int, known planning.Plan, say Progress) (Curve, error) {
	var done atomic.Int32
	solve := func(ctx context.Context, p planning.Problem, effort float64) (planning.Plan, error) {
		plan, err := planning.Solve(ctx, p, planning.Options{Effort: effort})
		say.tell(int(done.Add(1)), points, "planning for other finish times")
		return plan, errors.Join(err, ctx.Err())
	}
	base := p
	base.Budget, base.Goal = nil, planning.Cheapest
	cheapest, err := solve(ctx, base, 0.5)
	if err != nil || cheapest.Status == planning.Impossible {
		return Curve{Points: []planning.Plan{cheapest}}, err
	}
	if known.Status == planning.Meets && known.Cost.Cmp(cheapest.Cost) <= 0 {
		cheapest = known
	}
	quick := base
	quick.Goal = planning.Fastest
	// Any budget will do: more than every plan that makes sense costs.
	ample := pricing.MustMoney("1000000000")
	quick.Budget = &ample
	fastest, err := solve(ctx, quick, 0.5)
	if err != nil {
		return Curve{}, err
	}
	found := []planning.Plan{cheapest, fastest, known}
	if inner := points - 2; inner > 0 && cheapest.Status == planning.Meets && fastest.Finish < cheapest.Finish {
		between := make([]planning.Plan, inner)
		group, ctx := errgroup.WithContext(ctx)
		group.SetLimit(4)
		for i := range inner {
			group.Go(func() error {
				// Closer together near the fastest, where the curve is steep.
				part := math.Pow(float64(i+1)/float64(inner+1), 1.6)
				by := fastest.Finish + planning.Millis(part*float64(cheapest.Finish-fastest.Finish))
				var err error
				between[i], err = solve(ctx, finishing(base, by), 0.2)
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return Curve{}, err
		}
		found = append(found, between...)
	}
	return curveOf(found), nil
}

// finishing is the problem with no shot home later than the given time.
func finishing(p planning.Problem, by planning.Millis) planning.Problem {
	p.Shots = slices.Clone(p.Shots)
	for i := range p.Shots {
		p.Shots[i].Deadline = min(p.Shots[i].Deadline, by)
	}
	return p
}

// curveOf keeps of plans those that no other beats in both finish and cost.
func curveOf(found []planning.Plan) Curve {
	slices.SortStableFunc(found, func(a, b planning.Plan) int { return cmp.Or(cmp.Compare(a.Finish, b.Finish), a.Cost.Cmp(b.Cost)) })
	var c Curve
	status := planning.Meets
	if !slices.ContainsFunc(found, func(x planning.Plan) bool { return x.Status == planning.Meets }) {
		status = found[0].Status
	}
	for _, x := range found {
		if n := len(c.Points); x.Status == status && (n == 0 || x.Cost.Cmp(c.Points[n-1].Cost) < 0) {
			c.Points = append(c.Points, x)
		}
	}
	c.Cheapest = len(c.Points) - 1
	first, last := c.Points[0], c.Points[c.Cheapest]
	width, height := float64(last.Finish-first.Finish), first.Cost.Minus(last.Cost).Float()
	best := 0.0
	for i, x := range c.Points {
		if width <= 0 || height <= 0 {
			break
		}
		below := 1 - float64(x.Finish-first.Finish)/width - x.Cost.Minus(last.Cost).Float()/height
		if below > best {
			best, c.Balanced = below, i
		}
	}
	return c
}

// OnlyOn is what it would take to render all shots on one owned host alone: the
// plan for it, its deadlines lifted, so that it is late rather than impossible.
func OnlyOn(ctx context.Context, p planning.Problem, host string) (planning.Plan, error) {
	alone := p
	alone.Offers, alone.Farms, alone.Budget, alone.Goal = nil, nil, nil, planning.Cheapest
	alone.Hosts, alone.Timings = nil, nil
	for _, h := range p.Hosts {
		if h.ID == host {
			end := planning.Horizon(p) * 20
			h.Windows = append(slices.Clone(h.Windows), [2]planning.Millis{0, end})
			h.Windows = h.Windows[len(h.Windows)-1:] // as if it were open all the time
			alone.Hosts = append(alone.Hosts, h)
		}
	}
	for _, t := range p.Timings {
		if t.Host == host {
			alone.Timings = append(alone.Timings, t)
		}
	}
	return planning.Solve(ctx, alone, planning.Options{Effort: 0.1})
}

// OnlyFrom is the problem with the hosts, offers and farms of one source alone: those
// for which from says so. Hosts of one's own have the source "".
func OnlyFrom(p planning.Problem, from func(kind, id, source string) bool) planning.Problem {
	p.Hosts = slices.DeleteFunc(slices.Clone(p.Hosts), func(h planning.Host) bool { return !from("host", h.ID, "") })
	p.Offers = slices.DeleteFunc(slices.Clone(p.Offers), func(o planning.Offer) bool { return !from("offer", o.ID, o.Source) })
	p.Farms = slices.DeleteFunc(slices.Clone(p.Farms), func(f planning.Farm) bool { return !from("farm", f.ID, f.Source) })
	p.Timings = slices.DeleteFunc(slices.Clone(p.Timings), func(t planning.Timing) bool {
		kind, id := t.Place()
		switch kind {
		case "host":
			return !slices.ContainsFunc(p.Hosts, func(h planning.Host) bool { return h.ID == id })
		case "offer":
			return !slices.ContainsFunc(p.Offers, func(o planning.Offer) bool { return o.ID == id })
		}
		return !slices.ContainsFunc(p.Farms, func(f planning.Farm) bool { return f.ID == id })
	})
	return p
}
