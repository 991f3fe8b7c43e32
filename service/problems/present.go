package problems

import (
	"context"
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
	"rotanex.example/service/bookings"
)

// plannedServer is a server of a run that nobody has asked for yet.
type plannedServer struct {
	ID, Offer, Host string
	FromAt, ToAt    time.Time
}

// Present builds the problem of a run's rest, and says what the bookings that the run has
// now are as a plan for it. What crews have that are gone, or that the problem leaves out, is
// not in the plan: others have to take it.
func (p *Problems) Present(ctx context.Context, ask Ask) (planning.Problem, Notes, planning.Plan, error) {
	problem, notes, err := p.Build(ctx, ask)
	if err != nil {
		return problem, notes, planning.Plan{}, err
	}
	servers, err := p.plannedServers(ctx, *ask.Run)
	if err != nil {
		return problem, notes, planning.Plan{}, err
	}
	crews, err := bookings.OfRun(p.Store.WithContext(ctx), p.Clock.WallNow(), *ask.Run, "")
	return problem, notes, presentPlan(problem, servers, crews), err
}

func presentPlan(problem planning.Problem, servers []plannedServer, crews []*bookings.Crew) planning.Plan {
	out := planning.Plan{Format: planning.PlanFormat, Status: planning.Meets}
	at := func(t time.Time) planning.Millis {
		return max(0, planning.Millis(t.Sub(problem.Start)/time.Millisecond))
	}
	frame := map[planning.Timing]planning.Millis{}
	for _, t := range problem.Timings {
		frame[planning.Timing{Shot: t.Shot, Host: t.Host, Offer: t.Offer, Farm: t.Farm, Crew: t.Crew}] = t.Frame
	}
	offers, serverOn := planning.ByID(problem.Offers, func(o planning.Offer) string { return o.ID }), map[string]plannedServer{}
	for _, v := range servers {
		if _, known := offers[v.Offer]; known {
			serverOn[v.Host] = v
			out.Servers = append(out.Servers, planning.Server{ID: v.ID, Offer: v.Offer, From: at(v.FromAt), To: at(v.ToAt)})
		}
	}
	for _, c := range crews {
		owed := c.Frames - c.Taken
		if owed <= 0 || c.Excluded != "" || c.State == dispatch.Gone {
			continue
		}
		row, b := planning.Timing{Shot: c.Shot, Crew: c.Name}, planning.Booking{Shot: c.Shot, Crew: c.Name, Frames: owed, Start: at(c.Start)}
		v, coming := serverOn[c.Host]
		switch {
		case c.Farm:
			row.Crew, b.Crew = "", ""
			row.Farm, b.Farm, b.Nodes = c.Host, c.Host, c.Nodes
		case coming:
			row.Offer, b.Server = v.Offer, v.ID
		default:
			row.Host, b.Host = c.Host, c.Host
		}
		length, known := frame[row]
		if !known {
			continue
		}
		if b.Host != "" && !within(problem, &b) {
			continue
		}
		b.End = b.Start + length*planning.Millis((owed+max(1, b.Nodes)-1)/max(1, b.Nodes))
		out.Bookings = append(out.Bookings, b)
		out.Finish = max(out.Finish, b.End)
	}
	out.Cost = planning.Price(problem, out).Total.Rounded()
	return out
}

// within moves the start of a booking on a host into the first of its windows that ends
// after it; false: there is none.
func within(problem planning.Problem, b *planning.Booking) bool {
	for _, h := range problem.Hosts {
		for _, w := range h.Windows {
			if h.ID == b.Host && w[1] > b.Start {
				b.Start = max(b.Start, w[0])
				return true
			}
		}
	}
	return false
}
