package planning

import (
	"cmp"
	"slices"
	"sort"
)

// column is one way to use a unit: what it renders, for how long it is held, and
// what that costs. Whole frames are not asked for here.
type column struct {
	unit   int
	cost   float64
	runs   Millis // of a server: from start to end, lead and wrap included
	from   Millis // of a server: when its first frame may start
	uses   []use
	frames []share
	seats  []seatTime
}

// use is time that a unit spends on one of its options; of a farm, node time.
type use struct {
	option int32
	time   float64 // ms
}

// share is how many frames of a shot a column renders.
type share struct {
	shot   int
	frames float64
}

// seatTime is for how long a seat is held in a stretch of a licence's grid.
type seatTime struct {
	licence, stretch int
	time             float64 // ms
}

// duals is what the master problem pays: for a frame of each shot, and asks for
// a millisecond of a seat in each stretch.
type duals struct {
	frame                 []float64
	seat                  [][]float64
	atMin, paidLo, paidHi []float64 // of each unit, what branching pays for using it more, or less
	cuts                  []cut     // of the master problem
	cutLo, cutHi          []float64 // of each cut, what branching pays for more of it, or less
	count                 float64   // of the unit looked at: for one more server, or for using the farm
	paid                  float64   // of the unit looked at: for one more paid increment
}

// bestColumn returns the column of the unit whose cost, less what the master
// problem pays for it, is least, and a number that no column goes below. It returns
// nil where nothing is to be gained.
func (p *packer) bestColumn(at int, w *duals, excluded uint) (*column, float64) {
	u := &p.m.units[at]
	p.excluded = excluded
	p.weigh(at, w)
	var out *column
	var reduced float64
	switch u.kind {
	case ownedHost:
		out, reduced = p.bestHours(w)
	case rentedOffer:
		out, reduced = p.bestServer(w)
	default:
		out, reduced = p.bestWork(w)
	}
	if out == nil || reduced >= 0 {
		return nil, min(0, reduced) // nothing was looked for that gains next to nothing
	}
	out.unit = at
	p.tally(out)
	return out, reduced
}

func (p *packer) bestHours(w *duals) (*column, float64) {
	if p.u.plain && !p.u.solo {
		return p.bestWindows(w)
	}
	out, reduced := &column{}, 0.0
	for i := range p.u.segments {
		x := &p.u.segments[i]
		v, chosen := p.best(x, w)
		if p.u.solo {
			best := soloIn(p.soloWorths(chosen, x.end-x.start, p.seatPrice(x, chosen, w)), x.end-x.start)
			reduced -= best.gain
			p.spend(out, x, chosen, span{x.start, x.start + best.held})
			continue
		}
		reduced -= v * float64(x.end-x.start)
		p.spend(out, x, chosen, x.span)
	}
	return out, reduced
}

// bestWindows is the best use of a host whose crews have nothing but devices and time to share, each window by itself: in whole
// frames where that is less.
func (p *packer) bestWindows(w *duals) (*column, float64) {
	out, reduced := &column{}, 0.0
	for _, open := range p.u.windows {
		relaxed, worth, first, last := &column{}, 0.0, Millis(-1), Millis(0)
		for i := range p.u.segments {
			x := &p.u.segments[i]
			if x.start < open.start || open.end < x.end {
				continue
			}
			v, chosen := p.best(x, w)
			worth += v * float64(x.end-x.start)
			p.spend(relaxed, x, chosen, x.span)
			if last = x.end; first < 0 {
				first = x.start
			}
		}
		if first < 0 {
			continue
		}
		if whole, uses, exact := p.inWhole(first, last, w); whole < worth {
			if worth = whole; exact {
				relaxed = &column{uses: uses, cost: p.costOf(uses)}
			}
		}
		reduced -= worth
		out.cost += relaxed.cost
		out.uses, out.seats = append(out.uses, relaxed.uses...), append(out.seats, relaxed.seats...)
	}
	return out, reduced
}

// costOf is what crews cost for what they render.
func (p *packer) costOf(uses []use) (sum float64) {
	for _, x := range uses {
		sum += p.u.options[x.option].cost * x.time / float64(p.u.options[x.option].frame)
	}
	return sum
}

// spend adds to a column that the options run side by side for a part of a segment.
func (p *packer) spend(out *column, x *segment, chosen []int32, part span) {
	held := uint(0)
	for _, o := range chosen {
		time := p.useful(o, part.end-part.start)
		out.uses = append(out.uses, use{o, time})
		out.cost += p.u.options[o].cost * time / float64(p.u.options[o].frame)
		if l := p.m.licence[p.u.options[o].shot]; l >= 0 && len(p.m.seatGrid[l]) > 0 && held&(1<<l) == 0 {
			held |= 1 << l
			out.seats = append(out.seats, seatTime{l, x.grid[l], float64(part.end - part.start)})
		}
	}
}

// counted is what whole frames of the options, side by side for a time, are worth.
func (p *packer) counted(chosen []int32, time Millis) float64 {
	sum := 0.0
	for _, o := range chosen {
		sum += p.rate[o] * p.useful(o, time)
	}
	return sum
}

// useful is how much of a stretch of time can go into frames of the option:
// where it is known to stand alone in it, whole frames only.
func (p *packer) useful(o int32, time Millis) float64 {
	if p.u.solo {
		return float64(time / p.u.options[o].frame * p.u.options[o].frame)
	}
	return float64(time)
}

// bestServer places the paid stretch of a server where it is worth most, for
// each length that may be best.
func (p *packer) bestServer(w *duals) (*column, float64) {
	u, n := p.u, len(p.u.segments)
	if n == 0 {
		return nil, 0
	}
	if u.solo {
		return p.soloServer(w)
	}
	t := p.timeline(w)
	if u.plain && u.whole() && u.rent.increment >= longIncrement && !p.pricedAnywhere(w) {
		s := lengthSearch{p: p, w: w, t: t}
		return s.run()
	}
	least, bestFrom, bestRuns, bestCost := 0.0, Millis(0), Millis(0), 0.0
	try := func(runs Millis) {
		work := runs - u.rent.lead - u.rent.wrap
		if work <= 0 {
			return
		}
		cost, paid := u.charge(runs)
		worth, from := t.most(work)
		if r := cost - w.count - w.paid*paid - p.stepPrice(runs) - worth; r < least {
			least, bestFrom, bestRuns, bestCost = r, from, runs, cost
		}
	}
	for _, runs := range u.lengths(t.edges) {
		try(runs)
	}
	for _, x := range p.steps { // what is held no longer than it has to be, or just not so long
		try(x.runs)
		try(u.below(x.runs))
	}
	if bestRuns == 0 {
		return nil, 0
	}
	out := &column{cost: bestCost, runs: bestRuns, from: bestFrom}
	p.spendAll(out, t.chosen)
	return out, least
}

// timeline is what a server is worth over time, frames cut in parts.
type timeline struct {
	segments []segment
	value    []float64 // of a millisecond of each segment
	chosen   [][]int32 // what runs in it
	earned   []float64 // up to each segment's start
	edges    []Millis  // starts of the segments, and the last end
}

func (p *packer) timeline(w *duals) *timeline {
	t := &timeline{segments: p.u.segments, earned: []float64{0}}
	for i := range t.segments {
		x := &t.segments[i]
		v, list := p.best(x, w)
		t.value, t.chosen = append(t.value, v), append(t.chosen, slices.Clone(list))
		t.earned = append(t.earned, t.earned[i]+v*float64(x.end-x.start))
		t.edges = append(t.edges, x.start)
	}
	t.edges = append(t.edges, t.segments[len(t.segments)-1].end)
	return t
}

// upTo is what it is worth from the start to a time.
func (t *timeline) upTo(at Millis) float64 {
	i := sort.Search(len(t.segments), func(i int) bool { return t.segments[i].end > at })
	if i == len(t.segments) {
		return t.earned[i]
	}
	return t.earned[i] + t.value[i]*float64(max(0, at-t.segments[i].start))
}

// most is the most that it is worth in so much time, and from when on.
func (t *timeline) most(work Millis) (worth float64, at Millis) {
	for _, e := range t.edges {
		for _, from := range [2]Millis{e, max(t.edges[0], e-work)} {
			if v := t.upTo(from+work) - t.upTo(from); v > worth {
				worth, at = v, from
			}
		}
	}
	return worth, at
}

// spendAll adds to a server's column what runs in each segment while it is there to render.
func (p *packer) spendAll(out *column, chosen [][]int32) {
	work := span{out.from, out.from + out.runs - p.u.rent.lead - p.u.rent.wrap}
	for i := range p.u.segments {
		x := &p.u.segments[i]
		if part := (span{max(work.start, x.start), min(work.end, x.end)}); part.end > part.start {
			p.spend(out, x, chosen[i], part)
		}
	}
}

// whole reports whether a server is paid here by whole increments. Where they
// are short, the master problem takes a server's price as growing evenly beyond
// its minimum charge, which is never more than it is.
func (u *unit) whole() bool { return len(u.segments) > 0 && u.rent.stepped() }

// charge returns what a server costs in the master problem, and the increments
// paid for it, if they count.
func (u *unit) charge(runs Millis) (cost, increments float64) {
	billed, cost := u.rent.bill(runs)
	if u.whole() {
		return cost, float64(billed) / float64(u.rent.increment)
	}
	return max(float64(u.rent.minimum), float64(runs))*u.rent.price + u.rent.fee, 0
}

// held is for how long a server runs for so much time to render: where it is paid by whole
// increments, until the last of them ends.
func (u *unit) held(work Millis) Millis {
	return u.ending(work + u.rent.lead + u.rent.wrap)
}

// ending is the shortest that a server is held for so long or longer: where it is paid by whole increments, to the end of one.
func (u *unit) ending(runs Millis) Millis {
	if u.whole() {
		return u.rent.paid(runs)
	}
	return runs
}

// below is the longest that a server may run that is held for less.
func (u *unit) below(runs Millis) Millis {
	if u.whole() {
		return runs - u.rent.increment
	}
	return runs - 1
}

// lengths lists how long a server may run where that can be best. Those that reach from edge to edge are,
// between which what a server earns and costs both grow evenly; of whole increments, those that just reach, or
// just do not.
func (u *unit) lengths(edges []Millis) []Millis {
	r := u.rent
	out := []Millis{max(r.minimum, r.lead+r.wrap+1)}
	if u.whole() {
		out[0] = r.shortest()
	}
	for i, a := range edges {
		for _, b := range edges[i+1:] {
			runs := u.held(b - a)
			if runs > out[0] {
				out = append(out, runs)
			}
			if u.whole() && runs-r.increment > out[0] {
				out = append(out, runs-r.increment)
			}
		}
	}
	return sortedSet(out)
}

// bestWork fills a farm's nodes. Below its minimum charge more work costs nothing.
func (p *packer) bestWork(w *duals) (*column, float64) {
	u := p.u
	fill := func(rate []float64) (*column, float64, float64) {
		out, gain, charge := &column{}, 0.0, 0.0
		for i := range u.segments {
			x := &u.segments[i]
			best, at := 0.0, int32(-1)
			for _, o := range x.crews[0] {
				if rate[o] > best {
					best, at = rate[o], o
				}
			}
			if at >= 0 {
				time := float64(x.end-x.start) * float64(u.nodes)
				out.uses = append(out.uses, use{at, time})
				gain += best * time
				charge += u.options[at].cost * time / float64(u.options[at].frame)
			}
		}
		return out, gain, charge
	}
	out, gain, charge := fill(p.rate)
	reduced := -gain - w.count
	out.cost = charge
	if charge >= u.least {
		return out, reduced
	}
	// What is done up to the minimum charge costs nothing more. What the best work is
	// worth, less the greater of charge and minimum charge, is the least over theta of
	// its worth less theta times its charge, less (1-theta) times the minimum charge:
	// so every theta gives a bound, and the best is where the two charges meet.
	priced := make([]float64, len(u.options))
	low, high := 0.0, 1.0
	flat := out
	for range 30 {
		theta := (low + high) / 2
		for i, o := range u.options {
			priced[i] = (p.worth[i] - theta*o.cost) / float64(o.frame)
		}
		work, gain, charge := fill(priced)
		reduced = max(reduced, u.least*(1-theta)-gain-w.count)
		if charge > u.least {
			low, flat = theta, work
		} else {
			high = theta
		}
		if charge == u.least {
			break
		}
	}
	if low == 0 {
		flat, _, _ = fill(priced)
	}
	flat.uses = slices.Clone(flat.uses)
	p.upTo(flat, u.least)
	flat.cost = u.least
	return flat, reduced
}

// upTo cuts what a farm does down to what a charge pays, the best of it first.
func (p *packer) upTo(x *column, charge float64) {
	u := p.u
	perCharge := func(o int32) float64 { return p.worth[o] / max(1e-12, u.options[o].cost) }
	slices.SortStableFunc(x.uses, func(a, b use) int { return cmp.Compare(perCharge(b.option), perCharge(a.option)) })
	for i := range x.uses {
		y := &x.uses[i]
		perMs := u.options[y.option].cost / float64(u.options[y.option].frame)
		y.time = min(y.time, charge/max(perMs, 1e-15))
		charge -= y.time * perMs
	}
}

// tally sums up what the column's uses render.
func (p *packer) tally(out *column) {
	sums := map[int]float64{}
	for _, x := range out.uses {
		o := &p.u.options[x.option]
		sums[o.shot] += x.time / float64(o.frame)
	}
	for s, n := range sums {
		if n > 0 {
			out.frames = append(out.frames, share{s, n})
		}
	}
	slices.SortFunc(out.frames, func(a, b share) int { return cmp.Compare(a.shot, b.shot) })
}

// trimmed returns the column without what it renders of a shot beyond its frames.
func (p *packer) trimmed(x *column) *column {
	over := false
	for _, f := range x.frames {
		over = over || f.frames > float64(p.m.Shots[f.shot].Frames)
	}
	if !over {
		return x
	}
	u := &p.m.units[x.unit]
	part := map[int]float64{}
	for _, f := range x.frames {
		part[f.shot] = min(1, float64(p.m.Shots[f.shot].Frames)/f.frames)
	}
	out := *x
	out.uses = make([]use, len(x.uses))
	for i, y := range x.uses {
		o := &u.options[y.option]
		out.uses[i] = use{y.option, y.time * part[o.shot]}
		out.cost -= o.cost * (y.time - out.uses[i].time) / float64(o.frame)
	}
	out.frames = make([]share, len(x.frames))
	for i, f := range x.frames {
		out.frames[i] = share{f.shot, f.frames * part[f.shot]}
	}
	return &out
}
