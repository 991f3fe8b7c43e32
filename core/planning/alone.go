package planning

import "slices"

// Emptied is a problem with all its machines empty, of which it can be asked what frames
// of one shot would cost at one place.
type Emptied struct{ m *model }

// Empty returns the problem with its machines empty, and each shot due at the time given
// for it, in the order of the problem's shots.
func Empty(p Problem, due []Millis) *Emptied {
	m := newModel(p, due)
	m.chain = chain{} // what others' frames it needs is there
	return &Emptied{m}
}

// Cost is what it takes to render so many frames of a shot at a place of the given kind
// ("host", "offer" or "farm"), in the problem's currency; false where they do not fit
// before the shot is due. The cost is for weighing one place against another, not exact.
func (e *Emptied) Cost(kind, id, shot string, frames int) (float64, bool) {
	kinds := map[string]unitKind{"host": ownedHost, "offer": rentedOffer, "farm": farmTier}
	at := slices.IndexFunc(e.m.Shots, func(s Shot) bool { return s.ID == shot })
	if at < 0 {
		return 0, false
	}
	for _, i := range e.m.places[at] {
		if u := &e.m.units[i]; u.id != id || u.kind != kinds[kind] {
			continue
		}
		l := newLayout(e.m, &effort{1 << 40})
		clear(l.missing)
		l.missing[at] = frames
		old := e.m.places[at]
		e.m.places[at] = []int{i}
		failed := l.fill([]int{at})
		e.m.places[at] = old
		return l.cost(), failed < 0
	}
	return 0, false
}
