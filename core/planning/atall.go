package planning

import (
	"cmp"
	"math"
	"slices"
)

// pieces is into how many parts a shot is divided at most that go each where it ends first.
const pieces = 16

// atAll is a plan that keeps every rule and no deadline: shot after shot, the most urgent and the first due first, each piece where it
// ends the earliest (list scheduling: Graham, "Bounds for certain multiprocessing anomalies", 1966). It is what there is where the search
// for a better one came to nothing, most of all as its time was up. nil: some frames find no room before all hosts close for good.
func (s *solver) atAll(due []Millis) *Plan {
	m := newModel(s.p, due)
	l := newLayout(m, &effort{math.MaxInt64 / 2})
	order := make([]int, len(m.Shots))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := &m.Shots[a], &m.Shots[b]
		return cmp.Or(cmp.Compare(y.Priority, x.Priority), cmp.Compare(x.Deadline, y.Deadline))
	})
	for _, shot := range m.inTurn(order) {
		piece := (m.Shots[shot].Frames + pieces - 1) / pieces
		for l.missing[shot] > 0 && l.soonest(shot, piece) {
		}
	}
	if l.fill(order) >= 0 { // what only servers and farms have room for
		return nil
	}
	return l.plan(Late)
}

// soonest places a piece of a shot on the own host and crew where it ends first, and reports whether there is one.
func (l *layout) soonest(shot, piece int) bool {
	machine, option, frames, end := -1, int32(0), 0, never
	for _, i := range l.m.places[shot] {
		u := &l.m.units[i]
		if u.kind != ownedHost {
			continue
		}
		k := l.units[i][0]
		for at := range u.of(shot) {
			o := &u.of(shot)[at]
			if j := l.next(l.machines[k], o, min(piece, l.missing[shot])); j.frames > 0 && j.end < end {
				machine, option, frames, end = k, int32(u.optionFor(shot, o.crew)), j.frames, j.end
			}
		}
	}
	return machine >= 0 && l.place(l.touch(machine), option, frames) > 0
}
