package replan

import (
	"time"

	"rotanex.example/core/dispatch"
	"rotanex.example/core/planning"
)

// ToCome is a server of a run that nobody has asked for yet.
type ToCome struct {
	ID, Offer, Host string
	FromAt, ToAt    time.Time
}

// Booked is a crew's booking as it stands.
type Booked struct {
	dispatch.Crew
	Nodes int // of a farm, that work side by side
}

// Present says what the bookings that a run has now are as a plan for the problem of its
// rest. What crews have that are gone, or that the problem leaves out, is not in the plan:
// others have to take it.
func Present(problem planning.Problem, servers []ToCome, crews []Booked) planning.Plan {
	out := planning.Plan{Format: planning.PlanFormat, Status: planning.Meets}
	at := func(t time.Time) planning.Millis {
		return max(0, planning.Millis(t.Sub(problem.Start)/time.Millisecond))
	}
	frame := map[planning.Timing]planning.Millis{}
	for _, t := range problem.Timings {
		frame[planning.Timing{Shot: t.Shot, Host: t.Host, Offer: t.Offer, Farm: t.Farm, Crew: t.Crew}] = t.Frame
	}
	offers, serverOn := planning.ByID(problem.Offers, func(o planning.Offer) string { return o.ID }), map[string]ToCome{}
	for _, v := range servers {
		if _, known := offers[v.Offer]; known {
			serverOn[v.Host] = v
			out.Servers = append(out.Servers, planning.Server{ID: v.ID, Offer: v.Offer, From: at(v.FromAt), To: at(v.ToAt)})
		}
	}
	for _, c := range crews {
		owed := c.Owed()
		if owed == 0 || c.Excluded != "" || c.State == dispatch.Gone {
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

// within moves the start of a booking on a host into the first of its hours that ends
// after it; false: there is none.
func within(problem planning.Problem, b *planning.Booking) bool {
	for _, h := range problem.Hosts {
		for _, w := range h.Hours() {
			if h.ID == b.Host && w[1] > b.Start {
				b.Start = max(b.Start, w[0])
				return true
			}
		}
	}
	return false
}
