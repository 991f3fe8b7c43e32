package replan

import (
	"slices"

	"rotanex.example/core/planning"
)

// Again is an earlier schedule as a plan for what is left now: of each shot, the crews that
// had frames then have what is left in the same proportions, as far as the problem still has
// them. Later is by how much the problem starts after the earlier one. A shot of which nobody
// is there any more is left out, and reported.
func Again(problem planning.Problem, earlier planning.Plan, later planning.Millis) (out planning.Plan, without []string) {
	out = planning.Plan{Format: planning.PlanFormat, Status: planning.Meets}
	at := func(m planning.Millis) planning.Millis { return max(0, m-later) }
	offers, offerOf := planning.ByID(problem.Offers, func(o planning.Offer) string { return o.ID }), map[string]string{}
	for _, v := range earlier.Servers {
		if o, known := offers[v.Offer]; known && at(v.To) > o.Lead+o.Wrap {
			offerOf[v.ID] = v.Offer
			out.Servers = append(out.Servers, planning.Server{ID: v.ID, Offer: v.Offer, From: at(v.From), To: at(v.To)})
		}
	}
	frame := map[planning.Timing]planning.Millis{}
	for _, t := range problem.Timings {
		frame[planning.Timing{Shot: t.Shot, Host: t.Host, Offer: t.Offer, Farm: t.Farm, Crew: t.Crew}] = t.Frame
	}
	takes := func(b planning.Booking) planning.Millis {
		return frame[planning.Timing{Shot: b.Shot, Host: b.Host, Offer: offerOf[b.Server], Farm: b.Farm, Crew: b.Crew}]
	}
	for _, s := range problem.Shots {
		had := slices.DeleteFunc(slices.Clone(earlier.Bookings), func(b planning.Booking) bool {
			return b.Shot != s.ID || b.Frames == 0 || takes(b) == 0 || b.Server != "" && offerOf[b.Server] == ""
		})
		if len(had) == 0 {
			without = append(without, s.ID)
			continue
		}
		for i, n := range shares(s.Frames, had) {
			if b := had[i]; n > 0 {
				side := max(1, b.Nodes)
				b.Frames, b.Start = n, at(b.Start)
				b.End = b.Start + takes(b)*planning.Millis((n+side-1)/side)
				out.Bookings = append(out.Bookings, b)
				out.Finish = max(out.Finish, b.End)
				if b.End > s.Deadline {
					out.Status = planning.Late
				}
			}
		}
	}
	out.Cost = planning.Price(problem, out).Total.Rounded()
	return out, without
}

// shares divides frames as bookings had theirs, by the largest remainders.
func shares(frames int, had []planning.Booking) []int {
	all := 0
	for _, b := range had {
		all += b.Frames
	}
	out, order, given := make([]int, len(had)), make([]int, len(had)), 0
	for i, b := range had {
		out[i], order[i] = frames*b.Frames/all, i
		given += out[i]
	}
	slices.SortStableFunc(order, func(a, b int) int { return frames*had[b].Frames%all - frames*had[a].Frames%all })
	for _, i := range order[:frames-given] {
		out[i]++
	}
	return out
}
