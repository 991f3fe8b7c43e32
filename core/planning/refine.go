package planning

import (
	"math"
	"math/rand/v2"
	"slices"
)

// refine takes some of a layout apart, at random, and puts it together again,
// over and over, and keeps what is cheaper: a large neighbourhood search (Shaw,
// "Using constraint programming and local search methods to solve vehicle routing
// problems", 1998). It fixes what the relaxed problem cannot see: whole frames,
// seats handed from one machine to the next, uploads one after another. It ends
// when the steps are spent or the best layout costs no more than the target. A
// layout with frames missing is taken as well, to be completed.
func (s *search) refine(l *layout, steps int64, target float64) *layout {
	random := s.random
	l = l.clone()
	now, cost := l, l.cost()+l.lack()
	until := s.work.left - steps
	for s.work.left > until && !s.work.spent() && s.ctx.Err() == nil && s.cutoff() > target {
		heat := 0.02 * float64(s.work.left-until) / float64(steps)
		x := now.clone()
		x.settled = random.IntN(16) > 0
		order := slices.Clone(s.order)
		if random.IntN(2) == 0 {
			random.Shuffle(len(order), func(a, b int) { order[a], order[b] = order[b], order[a] })
		}
		s.disturb(x, random, order)
		x.fill(order)
		x.noise, x.excluded, x.settled = nil, 0, false
		// What is found is kept, whether or not the search goes on from there: it may stand
		// at a layout that lacks frames and counts for less.
		if x.complete() {
			s.keep(x)
		}
		// A little dearer is taken now and then, less and less (simulated annealing).
		c := x.cost() + x.lack()
		if c < cost-1e-9 || random.Float64() < math.Exp((cost-c)/(heat*now.cost()/float64(max(5, len(s.m.Shots)))+1e-9)) {
			now.discard()
			now, cost = x, c
		} else {
			x.discard()
		}
	}
	return now
}

// lack is what the layout's missing frames count for while it is being refined: a
// few times what a frame is worth.
func (l *layout) lack() float64 {
	sum := 0.0
	for s, n := range l.missing {
		sum += float64(n) * l.m.duals[s]
	}
	return sum
}

// disturb takes something out of a layout. What is meant to go elsewhere is put
// there first; the rest is left to be filled.
func (s *search) disturb(x *layout, random *rand.Rand, order []int) {
	var busy []int
	for k, y := range x.machines {
		if len(y.jobs) > 0 {
			busy = append(busy, k)
		}
	}
	if len(busy) == 0 {
		return
	}
	pick := func() int { return busy[random.IntN(len(busy))] }
	if s.m.inputs != nil && random.IntN(4) == 0 {
		if shot := random.IntN(len(x.missing)); s.m.waits(shot) {
			x.takeShot(shot)
			x.hurry(shot, 0.1+0.9*random.Float64())
			return
		}
	}
	if random.IntN(3) == 0 {
		x.noise = func() float64 { return 1 + 0.3*random.Float64() }
	}
	kind := random.IntN(12 + btoi(s.few))
	if s.scarce && random.IntN(3-btoi(s.few)) == 0 {
		kind = 5
	}
	if !s.few && kind < 3 && random.IntN(4) > 0 {
		kind = 3 // to place a whole machine's or shot's frames anew takes long here
	}
	switch kind {
	case 0: // a whole machine
		x.drop(pick())
	case 1: // two machines
		a, b := pick(), pick()
		x.drop(max(a, b))
		if a != b {
			x.drop(min(a, b))
		}
	case 2: // one shot wherever it is
		x.takeShot(random.IntN(len(x.missing)))
	case 3, 4: // some frames of a job, and not to the same machine
		for range 1 + random.IntN(2) {
			y := x.touch(pick())
			if len(y.jobs) == 0 {
				continue
			}
			x.trim(y, random.IntN(len(y.jobs)), random)
			x.excluded = y.name
			x.fill(order)
			x.excluded = 0
		}
	case 5, 6, 7:
		if !s.handOver(x, busy, random) {
			x.exchange(pick(), pick(), random)
		}
	case 12:
		if !s.outlast(x, pick(), pick(), random) {
			x.exchange(pick(), pick(), random)
		}
	default:
		x.exchange(pick(), pick(), random)
	}
}

// outlast lets server a run on for longer, by however many increments, while
// machine b gives up an increment or all it has.
func (s *search) outlast(l *layout, a, b int, random *rand.Rand) bool {
	x := l.touch(a)
	if a == b || x.unit.kind != rentedOffer {
		return false
	}
	l.prolong(x, random)
	l.relieve(b, random)
	return true
}

// relieve takes an increment off a machine, or all it has, and lets it get nothing
// more for now.
func (l *layout) relieve(k int, random *rand.Rand) {
	x := l.touch(k)
	l.excluded = x.name
	if shorter := x.shorter(); shorter > 0 && random.IntN(4) > 0 {
		l.shorten(k, shorter)
		return
	}
	l.unpack(x)
}

// handOver lets one machine give up its seat of a licence at some moment and
// another take one from then on.
func (s *search) handOver(l *layout, busy []int, random *rand.Rand) bool {
	var holders []int
	var moments []Millis
	var short []int
	for i, grid := range s.m.seatGrid {
		if len(grid) > 0 {
			short = append(short, i)
		}
	}
	if len(short) == 0 {
		return false
	}
	licence := short[random.IntN(len(short))]
	for k, x := range l.machines {
		uses := x.unit.kind != farmTier && slices.ContainsFunc(x.unit.options, func(o option) bool { return s.m.licence[o.shot] == licence })
		if !uses {
			continue
		}
		holders = append(holders, k)
		for _, w := range x.unit.windows {
			moments = append(moments, w.start, w.end)
		}
		for _, j := range x.jobs {
			moments = append(moments, j.start, j.end)
		}
	}
	if len(holders) < 2 {
		return false
	}
	if s.few && random.IntN(2) == 0 {
		// A seat that goes elsewhere may save a whole charge.
		l.relieve(busy[random.IntN(len(busy))], random)
	}
	end := s.m.seatGrid[licence][len(s.m.seatGrid[licence])-1]
	at := moments[random.IntN(len(moments))]
	switch random.IntN(3) {
	case 0: // somewhat sooner or later
		at += Millis(random.Int64N(int64(end)/5+1)) - end/10
	case 1:
		at = Millis(random.Int64N(int64(end)))
	}
	if at <= 0 || at >= end {
		at = Millis(random.Int64N(int64(end)))
	}
	a := random.IntN(len(holders))
	b := (a + 1 + random.IntN(len(holders)-1)) % len(holders)
	x, y := l.touch(holders[a]), l.touch(holders[b])
	first, second := l.unpack(x), l.unpack(y)
	x.open = span{min(x.open.start, at), at}
	y.open = span{at, max(y.open.end, at)}
	if random.IntN(3) == 0 {
		x.open.start, y.open.end = 0, never
	}
	l.meet(x, first)
	if len(second) > 0 && y.unit.kind == rentedOffer && s.few && random.IntN(2) == 0 {
		l.prolong(y, random)
	}
	l.meet(y, second)
	if random.IntN(2) == 0 {
		// What no longer needs to hold back may spread out again.
		z := l.touch(busy[random.IntN(len(busy))])
		z.open = span{0, never}
	}
	return true
}

// prolong lets a server run on, by however many increments.
func (l *layout) prolong(x *machine, random *rand.Rand) {
	r := x.unit.rent
	now := r.paid(x.running())
	x.runs = r.paid(now + 1 + Millis(random.Int64N(int64(max(r.increment, 1000, r.lead+r.wrap+l.longest(x)-now)))))
}

// exchange swaps a few frames of a shot on one machine for a few of another shot
// on another, or on another crew, and packs both machines anew: frames are whole,
// and some mixtures of them leave less of a machine's time unused than others.
func (l *layout) exchange(a, b int, random *rand.Rand) {
	x, y := l.touch(a), l.touch(b)
	quotas := map[*machine][]quota{x: l.unpack(x)}
	if x != y {
		quotas[y] = l.unpack(y)
	}
	from := quotas[x][random.IntN(len(quotas[x]))]
	back := quotas[y][random.IntN(len(quotas[y]))]
	give, get := &x.unit.options[from.option], &y.unit.options[back.option]
	there, here := y.unit.optionFor(give.shot, get.crew), x.unit.optionFor(get.shot, give.crew)
	n := min(from.frames, float64(1+random.IntN(1<<random.IntN(5))))
	if there >= 0 {
		quotas[x] = append(quotas[x], quota{from.option, -n})
		quotas[y] = append(quotas[y], quota{int32(there), n})
	}
	if here >= 0 && random.IntN(4) > 0 {
		k := math.Round(n*float64(give.frame)/float64(get.frame)) + float64(random.IntN(3)-1)
		k = max(0, min(k, back.frames))
		quotas[y] = append(quotas[y], quota{back.option, -k})
		quotas[x] = append(quotas[x], quota{int32(here), k})
	}
	l.meet(x, sum(quotas[x]))
	if x != y {
		l.meet(y, sum(quotas[y]))
	}
}

// unpack takes all jobs off a machine and returns them as quotas.
func (l *layout) unpack(x *machine) []quota {
	var out []quota
	for len(x.jobs) > 0 {
		j := l.take(x, len(x.jobs)-1)
		out = append(out, quota{j.option, float64(j.frames)})
	}
	return sum(out)
}

// sum adds up quotas of the same option.
func sum(list []quota) []quota {
	slices.SortFunc(list, func(a, b quota) int { return int(a.option) - int(b.option) })
	out := list[:0]
	for _, q := range list {
		if n := len(out); n > 0 && out[n-1].option == q.option {
			out[n-1].frames += q.frames
			continue
		}
		out = append(out, q)
	}
	return out
}

// drop takes all jobs off a machine, and lets no server that has none.
func (l *layout) drop(k int) {
	x := l.touch(k)
	if x.unit.kind == rentedOffer {
		l.remove(k)
		return
	}
	for len(x.jobs) > 0 {
		l.take(x, len(x.jobs)-1)
	}
}

// trim takes some of a job's frames off, at its start or its end.
func (l *layout) trim(x *machine, at int, random *rand.Rand) {
	j := l.take(x, at)
	if j.nodes > 0 {
		return
	}
	frame := x.unit.options[j.option].frame
	n := 1
	if random.IntN(2) == 0 {
		n = 1 + random.IntN(j.frames)
	}
	if n = j.frames - n; n == 0 {
		return
	}
	keep := span{j.start, j.start + Millis(n)*frame}
	if random.IntN(2) == 0 {
		keep = span{j.end - Millis(n)*frame, j.end}
	}
	l.put(x, job{keep, j.option, 0, n})
}
