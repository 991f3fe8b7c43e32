package planning

import (
	"cmp"
	"math"
	"slices"

	"rotanex.example/core/planning/simplex"
)

// cut is a number that is whole in every plan and need not be in the relaxed problem: how many frames of a shot a unit
// renders, or how many servers of an offer are held for so long or longer (branching on what columns have in common:
// Vanderbeck, "On Dantzig-Wolfe decomposition in integer programming and ways to perform branching in a
// branch-and-price algorithm", Operations Research 48, 2000).
type cut struct {
	unit, shot int    // -1: servers are counted
	runs       Millis // for how long they are held at least
}

// of is what a column counts for.
func (c cut) of(x *column) float64 {
	if x == nil || x.unit != c.unit {
		return 0
	}
	if c.shot < 0 {
		if x.runs >= c.runs {
			return 1
		}
		return 0
	}
	for _, f := range x.frames {
		if f.shot == c.shot {
			return f.frames
		}
	}
	return 0
}

// unbounded is a limit that nothing reaches.
const unbounded = 1e10

// cutAt returns the place of a cut among those that there are, made if it is new.
func (r *master) cutAt(c cut) int {
	if i := slices.Index(r.cuts, c); i >= 0 {
		return i
	}
	r.cuts = append(r.cuts, c)
	of := func(n int) float64 { return c.of(r.columns[n]) }
	r.cutLo = append(r.cutLo, r.lp.AddRow(simplex.Row{AtLeast: true, Penalty: r.most}, of))
	r.cutHi = append(r.cutHi, r.lp.AddRow(simplex.Row{RHS: unbounded}, of))
	r.rhs = append(r.rhs, 0, unbounded)
	return len(r.cuts) - 1
}

// within is what is allowed of a cut.
func (l *limits) within(at int) *[2]float64 {
	for len(l.cuts) <= at {
		l.cuts = append(l.cuts, [2]float64{0, unbounded})
	}
	return &l.cuts[at]
}

// step is what branching pays for a server that is held for so long or longer.
type step struct {
	runs  Millis
	price float64
}

// cutFor tells the packer what branching pays for what the unit renders, and for how long it is held.
func (p *packer) cutFor(at int, w *duals) {
	p.steps = p.steps[:0]
	for i, c := range w.cuts {
		price := w.cutLo[i] + w.cutHi[i]
		if c.unit != at || price == 0 {
			continue
		}
		if c.shot < 0 {
			p.steps = append(p.steps, step{c.runs, price})
			continue
		}
		for k := range p.u.options {
			if o := &p.u.options[k]; o.shot == c.shot {
				p.worth[k] += price
			}
		}
	}
}

// stepPrice is what branching pays for a server that is held for so long.
func (p *packer) stepPrice(runs Millis) (price float64) {
	for _, x := range p.steps {
		if runs >= x.runs {
			price += x.price
		}
	}
	return price
}

// splitCuts divides a node by the number that is furthest from whole, weighed with what one more of it costs; nil: all are.
func (s *search) splitCuts(n *node, found solution) []*node {
	most, at, c := 0.0, 0.0, cut{}
	consider := func(x cut, v, price float64) {
		if part := v - math.Floor(v); part > 1e-4 && part < 1-1e-4 {
			if score := min(part, 1-part) * price; score > most {
				most, at, c = score, v, x
			}
		}
	}
	for i := range s.m.units {
		frames := make([]float64, len(s.m.Shots))
		var held []part
		for _, p := range found.parts {
			if p.unit != i {
				continue
			}
			for _, f := range p.frames {
				frames[f.shot] += p.amount * f.frames
			}
			if s.m.units[i].kind == rentedOffer {
				held = append(held, p)
			}
		}
		for shot, v := range frames {
			consider(cut{i, shot, 0}, v, s.master.lp.Dual(shot))
		}
		slices.SortStableFunc(held, func(a, b part) int { return cmp.Compare(b.runs, a.runs) })
		sum := 0.0
		for k := range held {
			sum += held[k].amount
			if k+1 < len(held) && held[k+1].runs < held[k].runs {
				_, dear := s.m.units[i].rent.bill(held[k].runs)
				_, cheap := s.m.units[i].rent.bill(held[k+1].runs)
				// What is mixed of a short and a long stretch is like one in between.
				part := Millis((sum - math.Floor(sum)) * float64(held[k].runs-held[k+1].runs))
				consider(cut{i, -1, s.m.units[i].ending(held[k+1].runs + max(1, part))}, sum, dear-cheap)
			}
		}
	}
	if most == 0 {
		return nil
	}
	place := s.master.cutAt(c)
	child := func(low, high float64) *node {
		out := &node{limits: n.limits.clone(), bound: n.bound, depth: n.depth + 1, cut: true}
		b := out.limits.within(place)
		b[0], b[1] = max(b[0], low), min(b[1], high)
		return out
	}
	return []*node{child(0, math.Floor(at)), child(math.Ceil(at), unbounded)}
}
