package planning

import (
	"slices"
	"sort"
)

// Where a unit has a single shot on crews that do not hinder each other, what it is worth in a stretch of time is known by whole
// frames, not only at most.

// soloWorth is what a unit is worth in a time at most, and for how long it renders and holds its seat then.
type soloWorth struct {
	within, held Millis
	gain         float64
}

// mostSolo is how many times of a unit are looked at, at most.
const mostSolo = 4000

// soloWorths lists what options side by side are worth, net of a price of their seat's time, in each time, up to the longest, that a
// frame ends. None is left out that is worth no more than a shorter one: branching may pay for holding a server longer.
func (p *packer) soloWorths(chosen []int32, longest Millis, seat float64) []soloWorth {
	var frames, times []Millis
	worth := -seat // of a millisecond, at most
	for _, o := range chosen {
		frames = append(frames, p.u.options[o].frame)
		worth += p.rate[o]
	}
	for _, f := range sortedSet(frames) {
		if longest/f > mostSolo {
			return []soloWorth{{longest, longest, max(0, worth*float64(longest))}} // no less than it is
		}
		for t := f; t <= longest; t += f {
			times = append(times, t)
		}
	}
	var out []soloWorth
	best := soloWorth{}
	for _, t := range sortedSet(times) {
		if gain := p.counted(chosen, t) - seat*float64(t); gain > best.gain {
			best.held, best.gain = t, gain
		}
		best.within = t
		out = append(out, best)
	}
	return out
}

// soloIn is the best of them in a time.
func soloIn(worths []soloWorth, time Millis) soloWorth {
	i := sort.Search(len(worths), func(i int) bool { return worths[i].within > time })
	if i == 0 {
		return soloWorth{}
	}
	return worths[i-1]
}

// seatPrice is what a millisecond of the seats costs that options hold in a segment.
func (p *packer) seatPrice(x *segment, chosen []int32, w *duals) (sum float64) {
	priced, held := p.priced(x, w), uint(0)
	for _, o := range chosen {
		if l := p.m.licence[p.u.options[o].shot]; l >= 0 && priced&^held&(1<<l) != 0 {
			held |= 1 << l
			sum += w.seat[l][x.grid[l]]
		}
	}
	return sum
}

// soloServer is the best stretch of a server with a single shot, and what it comes to.
func (p *packer) soloServer(w *duals) (*column, float64) {
	u, x := p.u, &p.u.segments[0]
	_, list := p.best(x, w)
	chosen := slices.Clone(list)
	if len(chosen) == 0 {
		return nil, 0
	}
	worths := p.soloWorths(chosen, x.end-x.start, p.seatPrice(x, chosen, w))
	least, runs, held := 0.0, Millis(0), Millis(0)
	try := func(of Millis) {
		if work := of - u.rent.lead - u.rent.wrap; work > 0 {
			cost, paid := u.charge(of)
			best := soloIn(worths, work)
			if r := cost - w.count - w.paid*paid - p.stepPrice(of) - best.gain; r < least {
				least, runs, held = r, of, best.held
			}
		}
	}
	try(u.ending(max(u.rent.minimum, u.rent.lead+u.rent.wrap+1)))
	for _, y := range worths {
		try(u.ending(max(u.rent.minimum, y.within+u.rent.lead+u.rent.wrap)))
	}
	for _, y := range p.steps {
		try(y.runs)
		try(u.below(y.runs))
	}
	if runs == 0 {
		return nil, 0
	}
	cost, _ := u.charge(runs)
	out := &column{cost: cost, runs: runs, from: x.start}
	p.spend(out, x, chosen, span{x.start, x.start + held})
	return out, least
}
