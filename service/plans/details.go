package plans

import (
	"maps"
	"slices"
	"time"

	"rotanex.example/api"
	"rotanex.example/core/planning"
	"rotanex.example/core/pricing"
)

// addDetails adds to a plan's answer what a picture of it needs: uploads, the hours
// in which hosts are free, and what each source costs.
func addDetails(out *api.Plan, problem planning.Problem, plan planning.Plan, sources map[string]string, at func(planning.Millis) time.Time) {
	out.Uploads, out.Hours, out.Sources = []api.PlannedUpload{}, []api.HostHours{}, []api.SourceCost{}
	for _, u := range plan.Uploads {
		out.Uploads = append(out.Uploads, api.PlannedUpload{Shot: u.Shot, Source: u.Source, Start: at(u.Start), End: at(u.End)})
	}
	last := plan.Finish
	for _, s := range problem.Shots {
		last = max(last, s.Deadline)
	}
	for _, h := range problem.Hosts {
		used := slices.ContainsFunc(plan.Bookings, func(b planning.Booking) bool { return b.Host == h.ID })
		open := slices.ContainsFunc(h.Windows, func(w [2]planning.Millis) bool { return w[0] <= 0 && w[1] >= last })
		if !used || open {
			continue
		}
		row := api.HostHours{Host: h.ID}
		for _, w := range h.Windows {
			if w[0] < last {
				row.Windows = append(row.Windows, struct {
					From time.Time `json:"from"`
					To   time.Time `json:"to"`
				}{at(w[0]), at(min(w[1], last))})
			}
		}
		out.Hours = append(out.Hours, row)
	}
	out.Sources = sourceCosts(problem, plan, sources)
}

func sourceCosts(problem planning.Problem, plan planning.Plan, sources map[string]string) []api.SourceCost {
	type sum struct {
		frames       int
		cost         pricing.Money
		paid, unused time.Duration
	}
	sums := map[string]*sum{}
	of := func(source string) *sum {
		if sums[source] == nil {
			sums[source] = &sum{}
		}
		return sums[source]
	}
	costs := planning.Price(problem, plan)
	offer := map[string]string{}
	for i, v := range plan.Servers {
		offer[v.ID] = v.Offer
		s := of(sources[v.Offer])
		s.cost = s.cost.Plus(costs.Servers[i])
		var busy planning.Millis // while any crew renders
		var spans [][2]planning.Millis
		for _, b := range plan.Bookings {
			if b.Server == v.ID {
				spans = append(spans, [2]planning.Millis{b.Start, b.End})
			}
		}
		slices.SortFunc(spans, func(a, b [2]planning.Millis) int { return slices.Compare(a[:], b[:]) })
		reached := planning.Millis(0)
		for _, x := range spans {
			busy += max(0, x[1]-max(x[0], reached))
			reached = max(reached, x[1])
		}
		for _, o := range problem.Offers {
			if o.ID == v.Offer {
				paid := o.Meter().Billed((v.To - v.From).Duration())
				s.paid += paid
				s.unused += paid - busy.Duration()
			}
		}
	}
	for i, b := range plan.Bookings {
		switch {
		case b.Server != "":
			of(sources[offer[b.Server]]).frames += b.Frames
		case b.Farm != "":
			of(sources[b.Farm]).frames += b.Frames
		default:
			s := of(sources[b.Host])
			s.frames += b.Frames
			s.cost = s.cost.Plus(costs.Bookings[i])
		}
	}
	for farm, cost := range costs.Farms {
		s := of(sources[farm])
		s.cost = s.cost.Plus(cost)
	}
	if !costs.Seats.IsZero() {
		s := of("licence seats")
		s.cost = s.cost.Plus(costs.Seats)
	}
	out := []api.SourceCost{}
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		s := sums[name]
		out = append(out, api.SourceCost{Source: name, Frames: s.frames, Cost: s.cost.Rounded().String(), PaidS: s.paid.Seconds(), UnusedS: s.unused.Seconds()})
	}
	return out
}
