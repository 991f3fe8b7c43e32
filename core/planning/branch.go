package planning

import "math"

// split divides a node where its relaxed solution is least like a real plan, and
// reports whether it is like one in all that is counted. There are no children
// where there is nothing left to decide.
func (s *search) split(n *node, found solution) (children []*node, counted bool) {
	count, paid := s.counts(found.parts)
	var best, around branch
	consider := func(v, price float64, get func(l *limits) *[2]float64) {
		part, b := v-math.Floor(v), get(&n.limits)
		if part < 1e-5 || part > 1-1e-5 {
			if score := price; b[0] < b[1] && score > around.score {
				around = branch{score, math.Round(v), get}
			}
		} else if score := min(part, 1-part) * price; score > best.score {
			best = branch{score, v, get}
		}
	}
	for i := range s.m.units {
		u := &s.m.units[i]
		switch {
		case u.kind == rentedOffer:
			_, price := u.rent.bill(1)
			consider(count[i], price, func(l *limits) *[2]float64 { return &l.count[i] })
			if u.whole() && u.rent.increment >= longIncrement {
				consider(paid[i], u.rent.price*float64(u.rent.increment)/2, func(l *limits) *[2]float64 { return &l.paid[i] })
			}
		case u.kind == farmTier && u.least > 0:
			consider(count[i], u.least, func(l *limits) *[2]float64 { return &l.count[i] })
		}
	}
	for i, v := range found.extras {
		consider(v, s.m.Licences[i].ExtraSeatPrice.Float()+1e-6, func(l *limits) *[2]float64 { return &l.extra[i] })
	}
	child := func(get func(l *limits) *[2]float64, low, high float64) *node {
		c := &node{limits: n.limits.clone(), bound: n.bound, depth: n.depth + 1}
		b := get(&c.limits)
		b[0], b[1] = max(b[0], low), min(b[1], high)
		return c
	}
	if best.get == nil {
		if list := s.splitSeats(n, found); list != nil {
			return list, true
		}
		if s.few {
			if list := s.splitCuts(n, found); list != nil {
				return list, !n.cut
			}
		}
	}
	switch {
	case best.get != nil:
		return []*node{child(best.get, 0, math.Floor(best.at)), child(best.get, math.Ceil(best.at), math.Inf(1))}, false
	case around.get != nil:
		// All is whole, and yet no plan as cheap as the relaxed solution was found:
		// there may be none with these numbers, but one with others.
		var out []*node
		v, b := around.at, around.get(&n.limits)
		out = append(out, child(around.get, v, v))
		if b[0] < v {
			out = append(out, child(around.get, 0, v-1))
		}
		if v < b[1] {
			out = append(out, child(around.get, v+1, math.Inf(1)))
		}
		return out, true
	}
	return nil, true
}

// longIncrement is from how long on it is branched on the increments that all servers of an offer are paid for.
const longIncrement = 5 * 60_000

// splitSeats divides a node by whether a unit may use a licence that is short at
// all: the relaxed solution passes seats around in time, a plan can seldom.
func (s *search) splitSeats(n *node, found solution) []*node {
	most, unit, licence := 0.0, -1, -1
	held := make([][]float64, len(s.m.units))
	for _, p := range found.parts {
		for _, x := range p.seats {
			if held[p.unit] == nil {
				held[p.unit] = make([]float64, len(s.m.Licences))
			}
			held[p.unit][x.licence] += p.amount * x.time
		}
	}
	for u, times := range held {
		for l, time := range times {
			// The least used is decided first: it is the one most likely not needed.
			if bit := uint(1) << l; time > 0 && (n.limits.seatless[u]|n.limits.seated[u])&bit == 0 && found.short[l] {
				if score := 1 / time; score > most {
					most, unit, licence = score, u, l
				}
			}
		}
	}
	if unit < 0 {
		return nil
	}
	without := &node{limits: n.limits.clone(), bound: n.bound, depth: n.depth + 1}
	without.limits.seatless[unit] |= 1 << licence
	with := &node{limits: n.limits.clone(), bound: n.bound, depth: n.depth + 1}
	with.limits.seated[unit] |= 1 << licence
	return []*node{without, with}
}

// branch is a number at which a node may be divided.
type branch struct {
	score float64
	at    float64
	get   func(l *limits) *[2]float64
}
