package planning

import (
	"cmp"
	"slices"
)

// packer finds the best use of a unit at a moment. It keeps its scratch memory.
type packer struct {
	m        *model
	u        *unit
	worth    []float64 // of each option, what a frame of it is worth, its cost aside
	rate     []float64 // the same, of a millisecond, net of its cost
	steps    []step    // what branching pays for how long the unit is held
	states   []packState
	chosen   []int32
	excluded uint // licences that the unit may not use
	knapsack knapsack
	quick    bool // any column that gains will do: what none is less than may be far below
	hurried  bool // and that was made use of
}

// packState is a choice of crews for the devices looked at so far.
type packState struct {
	mask   uint64
	ram    Memory
	value  float64
	before int // the state that this one grew from
	option int32
}

func (p *packer) weigh(at int, w *duals) {
	u := &p.m.units[at]
	p.u = u
	p.worth = slices.Grow(p.worth[:0], len(u.options))[:len(u.options)]
	p.rate = slices.Grow(p.rate[:0], len(u.options))[:len(u.options)]
	for i := range u.options {
		p.worth[i] = w.frame[u.options[i].shot]
	}
	p.cutFor(at, w)
	for i := range u.options {
		o := &u.options[i]
		p.rate[i] = (p.worth[i] - o.cost) / float64(o.frame)
	}
}

// best returns the most that the unit can be worth in a millisecond of the
// segment, net of seats, and the options that make it so. The choice is exact:
// no two crews share a device, and the renderers fit in memory together.
func (p *packer) best(x *segment, w *duals) (float64, []int32) {
	priced := p.priced(x, w)
	if priced == 0 {
		return p.pack(x, p.excluded)
	}
	var value float64
	var chosen []int32
	for allowed := range uint(1) << len(w.seat) {
		if allowed&^priced != 0 || allowed&p.excluded != 0 {
			continue
		}
		v, list := p.pack(x, priced&^allowed|p.excluded)
		for l := range w.seat {
			if allowed&(1<<l) != 0 {
				v -= w.seat[l][x.grid[l]]
			}
		}
		if v > value {
			value, chosen = v, slices.Clone(list)
		}
	}
	return value, chosen
}

// priced is the set of licences whose seats cost something in the segment.
func (p *packer) priced(x *segment, w *duals) uint {
	set := uint(0)
	if p.u.kind == farmTier {
		return 0
	}
	for l, prices := range w.seat {
		if x.grid[l] < len(prices) && prices[x.grid[l]] > 0 {
			set |= 1 << l
		}
	}
	return set
}

func (p *packer) allowed(o int32, forbidden uint) bool {
	l := p.m.licence[p.u.options[o].shot]
	return l < 0 || forbidden&(1<<l) == 0
}

// pack chooses crews and their shots for most value, without licences that are
// forbidden.
func (p *packer) pack(x *segment, forbidden uint) (float64, []int32) {
	p.chosen = p.chosen[:0]
	total, ram := 0.0, Memory(0)
	for c := range x.crews {
		if o := p.top(x.crews[c], forbidden); o >= 0 {
			p.chosen = append(p.chosen, o)
			total += p.rate[o]
			ram += p.m.Shots[p.u.options[o].shot].RAM
		}
	}
	if p.u.disjoint && (p.u.ram < 0 || p.u.kind == farmTier || ram <= p.u.ram) {
		return total, p.chosen
	}
	return p.divide(x, forbidden)
}

// top returns the crew's option that is worth most, or -1 if none is worth anything.
func (p *packer) top(list []int32, forbidden uint) int32 {
	best, at := 0.0, int32(-1)
	for _, o := range list {
		if p.rate[o] > best && (forbidden == 0 || p.allowed(o, forbidden)) {
			best, at = p.rate[o], o
		}
	}
	return at
}

// divide is the exact choice where crews share devices or memory is short: a
// dynamic programme over the devices, lowest first. A state is which devices are
// taken and how much memory; of two states with the same devices, one with more
// memory taken and no more value is dropped.
func (p *packer) divide(x *segment, forbidden uint) (float64, []int32) {
	u := p.u
	tight := u.ram >= 0
	p.states = append(p.states[:0], packState{before: -1, option: -1})
	front := []int{0}
	var devices uint64
	for _, c := range u.crews {
		devices |= c.mask
	}
	for d := range 64 {
		bit := uint64(1) << d
		if devices&bit == 0 {
			continue
		}
		next := slices.Clone(front)
		for c := range x.crews {
			if mask := u.crews[c].mask; mask&(bit-1) == 0 && mask&bit != 0 {
				for _, o := range p.worthwhile(x.crews[c], forbidden, tight) {
					for _, i := range front {
						s := p.states[i]
						ram := s.ram + p.m.Shots[u.options[o].shot].RAM
						if s.mask&mask != 0 || tight && ram > u.ram {
							continue
						}
						p.states = append(p.states, packState{s.mask | mask, ram, s.value + p.rate[o], i, o})
						next = append(next, len(p.states)-1)
					}
				}
			}
		}
		front = p.undominated(next, bit, tight)
	}
	best := front[0]
	for _, i := range front {
		if p.states[i].value > p.states[best].value {
			best = i
		}
	}
	p.chosen = p.chosen[:0]
	for i := best; i >= 0; i = p.states[i].before {
		if o := p.states[i].option; o >= 0 {
			p.chosen = append(p.chosen, o)
		}
	}
	return p.states[best].value, p.chosen
}

// worthwhile lists a crew's options from which the best choice may take one: the
// top one, or where memory counts all that no other beats in value and memory.
func (p *packer) worthwhile(list []int32, forbidden uint, tight bool) []int32 {
	if !tight {
		if o := p.top(list, forbidden); o >= 0 {
			return []int32{o}
		}
		return nil
	}
	// The list is in order of memory: what is worth no more than one before it is
	// beaten by it.
	var out []int32
	best := 0.0
	for _, o := range list {
		if p.rate[o] > best && (forbidden == 0 || p.allowed(o, forbidden)) {
			best = p.rate[o]
			out = append(out, o)
		}
	}
	return out
}

// undominated keeps, of states that leave the same devices above bit free, those
// that no other beats in value and memory.
func (p *packer) undominated(list []int, bit uint64, tight bool) []int {
	above := ^(bit | (bit - 1))
	slices.SortFunc(list, func(a, b int) int {
		x, y := &p.states[a], &p.states[b]
		return cmp.Or(cmp.Compare(x.mask&above, y.mask&above), cmp.Compare(y.value, x.value), cmp.Compare(x.ram, y.ram), cmp.Compare(a, b))
	})
	kept := list[:0]
	for _, i := range list {
		if n := len(kept); n > 0 {
			last := &p.states[kept[n-1]]
			if last.mask&above == p.states[i].mask&above && (!tight || last.ram <= p.states[i].ram) {
				continue
			}
		}
		kept = append(kept, i)
	}
	return kept
}
