package planning

import (
	"cmp"
	"slices"
)

// Repair changes an earlier schedule as little as it takes for every shot to be in time.
// What its crews can do of it by then stays theirs, in the same order; the rest goes where
// it costs least more: to hosts, farms and those servers that are let already, which may be
// kept for longer. It lets no further server and hires no further seat. The plan has passed
// Check; how far it is from the cheapest is not known, so its CostBound is 0.
//
// It returns false where this does not do, which does not mean that Solve finds nothing. It
// takes milliseconds, where Solve may take seconds.
func Repair(p Problem, earlier Plan) (Plan, bool) {
	if p.Validate() != nil {
		return Plan{}, false
	}
	due := make([]Millis, len(p.Shots))
	for i, s := range p.Shots {
		due[i] = s.Deadline
	}
	l := newLayout(newModel(p, due), &effort{allowance(p)})
	l.again(earlier)
	l.settled = true
	order := make([]int, len(p.Shots))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(cmp.Compare(p.Shots[b].Priority, p.Shots[a].Priority), cmp.Compare(due[a], due[b]))
	})
	if l.fill(order) >= 0 {
		return Plan{}, false
	}
	plan := l.plan(Meets)
	if p.Budget != nil && plan.Cost.Cmp(*p.Budget) > 0 || Check(p, *plan) != nil {
		return Plan{}, false
	}
	return *plan, true
}

// again lays out what an earlier plan booked, as far as there is room for it in time.
func (l *layout) again(earlier Plan) {
	at := map[string]int{} // machines, by host, server or farm
	unitOf := func(kind unitKind, id string) int {
		return slices.IndexFunc(l.m.units, func(u unit) bool { return u.kind == kind && u.id == id })
	}
	for _, v := range earlier.Servers {
		if u := unitOf(rentedOffer, v.Offer); u >= 0 && len(l.units[u]) < l.m.units[u].copies {
			l.open(u, v.To-v.From)
			at["server "+v.ID] = len(l.machines) - 1
		}
	}
	for k, x := range l.machines {
		switch x.unit.kind {
		case ownedHost:
			at["host "+x.unit.id] = k
		case farmTier:
			at["farm "+x.unit.id] = k
		}
	}
	for _, e := range earlier.ExtraSeats {
		for i, licence := range l.m.Licences {
			if licence.ID == e.Licence {
				l.seats[i] += min(e.Seats, licence.ExtraSeats)
			}
		}
	}
	had := slices.Clone(earlier.Bookings)
	slices.SortStableFunc(had, func(a, b Booking) int { return cmp.Compare(a.Start, b.Start) })
	for _, b := range had {
		kind := "host "
		switch {
		case b.Server != "":
			kind = "server "
		case b.Farm != "":
			kind = "farm "
		}
		k, there := at[kind+b.Where()]
		shot := slices.IndexFunc(l.m.Shots, func(s Shot) bool { return s.ID == b.Shot })
		if !there || shot < 0 {
			continue
		}
		u := l.machines[k].unit
		crew := max(0, slices.IndexFunc(u.crews, func(c unitCrew) bool { return c.id == b.Crew }))
		if option := u.optionFor(shot, crew); option >= 0 && u.crews[crew].id == b.Crew {
			l.place(l.touch(k), int32(option), b.Frames)
		}
	}
}
