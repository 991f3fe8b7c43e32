package planning

import (
	"cmp"
	"fmt"
	"slices"
)

// Lateness is how much the plan's latest booking, frames home, is past its shot's
// deadline; negative where all are in time.
func (x *Plan) Lateness(p Problem) Millis {
	late := -never
	for _, l := range x.lateByShot(p) {
		late = max(late, l)
	}
	return late
}

// latenesses are the greatest lateness, never less than 0, among the shots of each
// priority, the highest first: of two plans that are late, the one whose list is the
// lesser is the better.
func (x *Plan) latenesses(p Problem) []Millis {
	of := priorities(p)
	out := make([]Millis, len(of))
	late := x.lateByShot(p)
	for _, s := range p.Shots {
		i := slices.Index(of, s.Priority)
		out[i] = max(out[i], late[s.ID])
	}
	return out
}

// lateByShot is how much each shot's latest booking, frames home, is past its deadline.
func (x *Plan) lateByShot(p Problem) map[string]Millis {
	homes := map[[2]string]Millis{}
	sources := map[string]string{}
	for _, t := range p.Transfers {
		homes[[2]string{t.Shot, t.Source}] = t.Delivery
	}
	offers := ByID(p.Offers, func(o Offer) string { return o.ID })
	for _, s := range x.Servers {
		sources["server "+s.ID] = offers[s.Offer].Source
	}
	for _, f := range p.Farms {
		sources["farm "+f.ID] = f.Source
	}
	shots := ByID(p.Shots, func(s Shot) string { return s.ID })
	out := map[string]Millis{}
	for _, b := range x.Bookings {
		source := sources["server "+b.Server] + sources["farm "+b.Farm]
		late := b.End + homes[[2]string{b.Shot, source}] - shots[b.Shot].Deadline
		if before, known := out[b.Shot]; !known || late > before {
			out[b.Shot] = late
		}
	}
	return out
}

// priorities lists those of a problem's shots, the highest first.
func priorities(p Problem) []int {
	var out []int
	for _, s := range p.Shots {
		out = append(out, s.Priority)
	}
	slices.SortFunc(out, func(a, b int) int { return cmp.Compare(b, a) })
	return slices.Compact(out)
}

// late finds the least lateness of the shots of the highest priority for which there is a
// plan, with that the least of the next, and so on down, and then the cheapest plan that is
// no later.
func (s *solver) late(asked []Millis) (*Plan, error) {
	l := lateSearch{solver: s, asked: asked, by: map[int]Millis{}}
	horizon := Horizon(s.p)
	for _, priority := range priorities(s.p) {
		l.by[priority] = horizon
	}
	if !l.fits() {
		if l.best == nil {
			l.best = l.atAll(l.due())
		}
		if l.best == nil {
			return nil, fmt.Errorf("no plan found for %d shots: licence seats, host memory or shared devices leave too little room, however late", len(s.p.Shots))
		}
		if !s.inside(l.best) {
			l.best.Status = OverBudget
			return l.best, nil
		}
	}
	// Of a problem without priorities it was tried already that nothing is late.
	known := len(l.by) == 1
	for _, priority := range priorities(s.p) {
		l.least(priority, known)
	}
	if l.best.Lateness(s.p) <= 0 {
		l.best.Status = Meets // the search for a plan in time missed it
		return l.best, nil
	}
	if plan := l.try(s.work); plan != nil && s.inside(plan) && plan.Cost.Cmp(l.best.Cost) < 0 {
		l.best = plan
	}
	if l.best.Lateness(s.p) <= 0 {
		l.best.Status = Meets
	}
	return l.best, nil
}

// lateSearch looks for the least lateness.
type lateSearch struct {
	*solver
	asked []Millis
	by    map[int]Millis // how late shots of each priority may be
	best  *Plan          // the last that fits
}

// due are the deadlines, as much later as they may be.
func (l *lateSearch) due() []Millis {
	out := slices.Clone(l.asked)
	for i, s := range l.p.Shots {
		out[i] += l.by[s.Priority]
	}
	return out
}

func (l *lateSearch) try(work *effort) *Plan {
	x := l.search(l.due(), -1, work)
	if x.layout == nil {
		return nil
	}
	return x.layout.plan(Late)
}

// fits reports whether there is a plan that is no later than it may be, and keeps it.
func (l *lateSearch) fits() bool {
	plan := l.try(&effort{min(l.share(20).left, 200_000_000)})
	if plan == nil {
		return false
	}
	if l.inside(plan) || l.best == nil {
		l.best = plan
	}
	return l.inside(plan)
}

// least lets shots of a priority be as little late as can be, others as they may be now.
// With late set it was tried already that they are in time.
func (l *lateSearch) least(priority int, late bool) {
	low, high := Millis(0), l.by[priority]
	if !late {
		if l.by[priority] = 0; l.fits() {
			return
		}
	}
	for high-low > 1 && l.ctx.Err() == nil {
		l.by[priority] = low + (high-low)/2
		if l.fits() {
			high = l.by[priority]
		} else {
			low = l.by[priority]
		}
	}
	l.by[priority] = high
}
