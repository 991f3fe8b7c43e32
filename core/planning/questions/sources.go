package questions

import (
	"maps"
	"slices"
	"time"

	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// SourceCost is what a plan does at one source and what that comes to.
type SourceCost struct {
	Source string
	Frames int
	Cost   pricing.Money // exact; the sum of all sources' is the plan's before it is rounded
	Paid   time.Duration // of servers
	Unused time.Duration // of what is paid: no crew of the server renders
	// MinimumCharge is what of the cost a farm's minimum charge adds to the work done there.
	MinimumCharge pricing.Money
}

// Seats is the name under which SourceCosts counts extra licence seats.
const Seats = "licence seats"

// SourceCosts adds a plan's costs up by source, in the order of their names. Sources are
// the source of each host, offer and farm by its name.
func SourceCosts(problem planning.Problem, plan planning.Plan, sources map[string]string) []SourceCost {
	sums := map[string]*SourceCost{}
	of := func(source string) *SourceCost {
		if sums[source] == nil {
			sums[source] = &SourceCost{Source: source}
		}
		return sums[source]
	}
	costs := planning.Price(problem, plan)
	offers := planning.ByID(problem.Offers, func(o planning.Offer) string { return o.ID })
	offer := map[string]string{}
	for i, v := range plan.Servers {
		offer[v.ID] = v.Offer
		s := of(sources[v.Offer])
		s.Cost = s.Cost.Plus(costs.Servers[i])
		paid := offers[v.Offer].Meter().Billed((v.To - v.From).Duration())
		s.Paid += paid
		s.Unused += paid - busy(plan, v.ID).Duration()
	}
	work := map[string]pricing.Money{}
	for i, b := range plan.Bookings {
		switch {
		case b.Server != "":
			of(sources[offer[b.Server]]).Frames += b.Frames
		case b.Farm != "":
			of(sources[b.Farm]).Frames += b.Frames
			work[b.Farm] = work[b.Farm].Plus(costs.Bookings[i])
		default:
			s := of(sources[b.Host])
			s.Frames += b.Frames
			s.Cost = s.Cost.Plus(costs.Bookings[i])
		}
	}
	for farm, cost := range costs.Farms {
		s := of(sources[farm])
		s.Cost = s.Cost.Plus(cost)
		s.MinimumCharge = s.MinimumCharge.Plus(cost.Minus(work[farm]))
	}
	if !costs.Seats.IsZero() {
		s := of(Seats)
		s.Cost = s.Cost.Plus(costs.Seats)
	}
	var out []SourceCost
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		out = append(out, *sums[name])
	}
	return out
}

// busy is how long any crew of a server renders.
func busy(plan planning.Plan, server string) (out planning.Millis) {
	var spans [][2]planning.Millis
	for _, b := range plan.Bookings {
		if b.Server == server {
			spans = append(spans, [2]planning.Millis{b.Start, b.End})
		}
	}
	slices.SortFunc(spans, func(a, b [2]planning.Millis) int { return slices.Compare(a[:], b[:]) })
	reached := planning.Millis(0)
	for _, x := range spans {
		out += max(0, x[1]-max(x[0], reached))
		reached = max(reached, x[1])
	}
	return out
}
