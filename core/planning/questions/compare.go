package questions

import (
	"context"
	"math/big"
	"slices"
	"time"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// BestMix names the row of all sources together in a comparison.
const BestMix = "best mix"

// Alternative is what the same work takes on one source alone, or on the best mix.
type Alternative struct {
	Source   string
	Status   string // of the plan: planning.Meets and so on; the rest is zero where it is planning.Impossible
	Cost     pricing.Money
	Elapsed  time.Duration // from the problem's start until the last frame is home
	Frames   int
	Rendered time.Duration // all frames' times added up
	// Measured is how many of the frames are on crews whose times were measured.
	Measured   int
	Paid       time.Duration // of servers
	Unused     time.Duration // of what is paid: none of the server's crews renders
	UnusedCost pricing.Money // that part of the servers' bills
}

// FrameCost is what a frame costs, exactly.
func (a Alternative) FrameCost() pricing.Money {
	return a.Cost.Scaled(big.NewRat(1, int64(max(1, a.Frames))))
}

// weighed is how much of the planner's work goes into each row of a comparison.
const weighed = 0.3

// Sources plans the problem on each of the named sources alone and then on all together.
// The source of a host, offer or farm is told by sourceOf; a name that is a place's own is
// that place alone. Measured tells whether a timing was measured. It fails when ctx ends.
func Sources(ctx context.Context, p planning.Problem, names []string, sourceOf map[string]string, measured func(planning.Timing) bool, say Progress) ([]Alternative, error) {
	var out []Alternative
	for i, name := range append(slices.Clone(names), BestMix) {
		say.tell(i, len(names)+1, "planning on "+name)
		only := OnlyFrom(p, func(_, id, _ string) bool { return name == BestMix || sourceOf[id] == name || id == name })
		plan, err := planning.Solve(ctx, only, planning.Options{Effort: weighed})
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return nil, err
		}
		out = append(out, alternative(name, only, plan, measured))
	}
	return out, nil
}

func alternative(name string, p planning.Problem, plan planning.Plan, measured func(planning.Timing) bool) Alternative {
	a := Alternative{Source: name, Status: plan.Status}
	if plan.Status == planning.Impossible {
		return a
	}
	costs := planning.Price(p, plan)
	a.Cost, a.Elapsed = costs.Total, plan.Finish.Duration()
	timings := map[[4]string]planning.Timing{}
	for _, t := range p.Timings {
		kind, id := t.Place()
		timings[[4]string{t.Shot, kind, id, t.Crew}] = t
	}
	offers := map[string]string{}
	for _, v := range plan.Servers {
		offers[v.ID] = v.Offer
	}
	for _, b := range plan.Bookings {
		kind, place := "host", b.Host
		if b.Server != "" {
			kind, place = "offer", offers[b.Server]
		} else if b.Farm != "" {
			kind, place = "farm", b.Farm
		}
		t := timings[[4]string{b.Shot, kind, place, b.Crew}]
		a.Frames += b.Frames
		a.Rendered += (planning.Millis(b.Frames) * t.Frame).Duration()
		if measured(t) {
			a.Measured += b.Frames
		}
	}
	byID := planning.ByID(p.Offers, func(o planning.Offer) string { return o.ID })
	for i, v := range plan.Servers {
		billed := byID[v.Offer].Meter().Billed((v.To - v.From).Duration())
		unused := max(0, billed-busy(plan, v.ID).Duration())
		a.Paid += billed
		a.Unused += unused
		if billed > 0 {
			a.UnusedCost = a.UnusedCost.Plus(costs.Servers[i].Scaled(big.NewRat(int64(unused), int64(billed))))
		}
	}
	return a
}
