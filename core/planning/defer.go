package planning

import (
	"math"
	"slices"
)

// Defer returns a plan of the same cost in which servers are let as late as the deadlines of what they render
// allow: what is not let yet may still turn out not to be needed. The plan is one of the problem's.
func Defer(p Problem, plan Plan) Plan {
	if plan.Status != Meets {
		return plan
	}
	for _, v := range plan.Servers {
		if later, ok := deferred(p, plan, v.ID); ok && Check(p, later) == nil {
			plan = later
		}
	}
	return plan
}

// deferred moves a server to as late as its shots are due; false: it is.
func deferred(p Problem, plan Plan, id string) (Plan, bool) {
	shots := ByID(p.Shots, func(s Shot) string { return s.ID })
	offers := ByID(p.Offers, func(o Offer) string { return o.ID })
	plan.Servers, plan.Bookings = slices.Clone(plan.Servers), slices.Clone(plan.Bookings)
	at := slices.IndexFunc(plan.Servers, func(v Server) bool { return v.ID == id })
	source := offers[plan.Servers[at].Offer].Source
	by := Millis(math.MaxInt64)
	for _, b := range plan.Bookings {
		if b.Server == id {
			by = min(by, shots[b.Shot].Deadline-p.Delivery(b.Shot, source)-b.End)
		}
	}
	if by <= 0 || by == math.MaxInt64 {
		return plan, false
	}
	plan.Servers[at].From += by
	plan.Servers[at].To += by
	for i, b := range plan.Bookings {
		if b.Server == id {
			plan.Bookings[i].Start, plan.Bookings[i].End = b.Start+by, b.End+by
			plan.Finish = max(plan.Finish, b.End+by+p.Delivery(b.Shot, source))
		}
	}
	return plan, true
}
