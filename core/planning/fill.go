package planning

import (
	"cmp"
	"math"
	"slices"
)

// chance is a way to render some of a shot's missing frames.
type chance struct {
	machine int // index, or -1 for a server yet to be let
	unit    int
	option  int32
	frames  int
	runs    Millis // of a server: for how long it has to run
	cost    float64
	end     Millis
}

func (c chance) perFrame() float64 { return c.cost / float64(c.frames) }

// better reports whether c is to be chosen over d: the cheaper frame, then more
// of them, then the faster.
func (c chance) better(d chance) bool {
	if a, b := c.perFrame(), d.perFrame(); math.Abs(a-b) > 1e-9 {
		return a < b
	}
	return cmp.Or(cmp.Compare(d.frames, c.frames), cmp.Compare(c.end, d.end)) < 0
}

// fill places all missing frames, each time where a frame costs least more, the
// shots in the given order. It returns the first shot that found no room, or -1.
func (l *layout) fill(order []int) int {
	failed := -1
	l.untangle()
	for _, s := range l.m.inTurn(order) {
		for l.missing[s] > 0 {
			c, ok := l.cheapest(s)
			if !ok {
				if failed < 0 {
					failed = s
				}
				break
			}
			if c.machine < 0 {
				l.open(c.unit, c.runs)
				c.machine = len(l.machines) - 1
			}
			x := l.touch(c.machine)
			x.runs = max(x.runs, c.runs)
			placed := 0
			if x.unit.kind == rentedOffer {
				placed = l.spread(x, s, c.frames)
			} else {
				placed = l.place(x, c.option, c.frames)
			}
			if placed == 0 || l.work.spent() {
				return s
			}
		}
	}
	return failed
}

// cheapest finds where the shot's next frames cost least.
func (l *layout) cheapest(shot int) (chance, bool) {
	var best chance
	found := false
	take := func(c chance) {
		if l.noise != nil {
			c.cost *= l.noise()
		}
		if c.frames > 0 && (!found || c.better(best)) {
			best, found = c, true
		}
	}
	for _, i := range l.m.places[shot] {
		u := &l.m.units[i]
		if u.kind != rentedOffer && l.machines[l.units[i][0]].name == l.excluded {
			continue
		}
		switch u.kind {
		case ownedHost:
			l.onHost(i, shot, best, found, take)
		case farmTier:
			l.onFarm(i, shot, take)
		default:
			for _, k := range l.units[i] {
				if l.machines[k].name != l.excluded {
					l.onServer(k, l.machines[k], shot, take)
				}
			}
			if len(l.units[i]) < u.copies && !l.settled {
				l.onServer(-1, &machine{unit: u, at: i, open: span{0, never}, held: make([]span, len(l.seats))}, shot, take)
			}
		}
	}
	return best, found
}

func (l *layout) onHost(unit, shot int, best chance, found bool, take func(chance)) {
	k := l.units[unit][0]
	x := l.machines[k]
	for i := range x.unit.of(shot) {
		o := &x.unit.of(shot)[i]
		at := x.unit.optionFor(shot, o.crew)
		cost := o.cost
		if l.m.regret != nil {
			cost += l.m.regret[unit][at]
		}
		if found && l.noise == nil && cost > best.perFrame()+1e-12 {
			continue
		}
		n := l.roomFor(x, o)
		take(chance{k, unit, int32(at), n, 0, cost * float64(n), o.frame})
	}
}

func (l *layout) onFarm(unit, shot int, take func(chance)) {
	k := l.units[unit][0]
	x := l.machines[k]
	o := &x.unit.of(shot)[0]
	n := l.nodeRoom(x, o)
	if n == 0 {
		return
	}
	before, charged := x.cost(), 0.0
	for _, j := range x.jobs {
		charged += float64(j.frames) * x.unit.options[j.option].cost
	}
	after := max(x.unit.least, charged+float64(n)*o.cost)
	// What a minimum charge that is paid anyway still covers costs nothing more.
	if free := x.unit.least - charged; before > 0 && o.cost > 0 && free >= o.cost {
		n = min(n, int(free/o.cost))
		after = before
	}
	if l.m.regret != nil {
		after += float64(n) * l.m.regret[unit][x.unit.optionFor(shot, 0)]
	}
	take(chance{k, unit, int32(x.unit.optionFor(shot, 0)), n, 0, after - before, o.frame})
}

// onServer looks at a server: what fits into the time that is paid, or into its least
// charge if it is yet to be let, and what more increments would take.
func (l *layout) onServer(k int, x *machine, shot int, take func(chance)) {
	now, before := x.running(), 0.0
	if now > 0 {
		_, before = x.unit.rent.bill(now)
	}
	try := func(runs Millis) int {
		t, y := l.tried(x)
		y.runs = runs
		n := t.spread(y, shot, l.missing[shot])
		if n > 0 {
			_, after := x.unit.rent.bill(y.running())
			take(chance{k, x.at, -1, n, runs, after - before, y.busy().end})
		}
		return n
	}
	if n := try(max(x.runs, x.unit.rent.paid(max(now, 1)))); n < l.missing[shot] {
		if k < 0 {
			now = x.unit.rent.shortest()
		}
		l.lengthen(x, now, n, try)
	}
}

// lengthen tries longer times for a server: the next increment, and the shortest
// time in which all fits that would fit without a limit.
func (l *layout) lengthen(x *machine, runs Millis, n int, try func(Millis) int) {
	r := x.unit.rent
	if l.settled {
		try(r.paid(max(runs, x.runs) + 1))
		return
	}
	most := max(runs, x.running()) + r.lead + r.wrap + l.longest(x)
	all := try(most)
	if all <= n {
		return
	}
	try(r.paid(max(runs, x.runs) + 1))
	low, high := runs, most
	for high-low > max(r.increment, 1000, most/64) {
		middle := low + (high-low)/2
		if try(r.paid(middle)) >= all {
			high = middle
		} else {
			low = middle
		}
	}
}

// longest is how long a server could be of use at all.
func (l *layout) longest(x *machine) Millis {
	segments := x.unit.segments
	if len(segments) == 0 {
		return 0
	}
	return segments[len(segments)-1].end - segments[0].start
}

// stillFree reports whether a span that was free is so after others were taken: a crew
// beside it may have made the machine hold a seat, which it then holds in between as well.
func (l *layout) stillFree(x *machine, o *option, s span, others bool) bool {
	lic := l.m.licence[o.shot]
	if !others || lic < 0 || len(l.m.seatGrid[lic]) == 0 {
		return true
	}
	return slices.ContainsFunc(l.free(x, o), func(f span) bool { return f.start <= s.start && s.end <= f.end })
}

// spread puts up to n frames of the shot on a server's crews so that they end
// together as nearly as may be: the server runs no longer than it must.
func (l *layout) spread(x *machine, shot, n int) int {
	list := x.unit.of(shot)
	if len(list) == 0 {
		return 0
	}
	if l.m.waits(shot) {
		return l.spreadInStep(x, list, n)
	}
	first := x.unit.optionFor(shot, list[0].crew)
	side := x.unit.disjoint && (x.unit.ram < 0 || l.m.Shots[shot].RAM == 0)
	done := 0
	for done < n {
		spans := slices.Grow(l.spare.spans[:0], len(list))[:len(list)]
		clear(spans)
		l.spare.spans = spans
		best, at := never, -1
		for i := range list {
			o := &list[i]
			for _, s := range l.free(x, o) {
				if s.end-s.start >= o.frame {
					spans[i] = s
					// By when the crew could be through with its part of the frames.
					part := (n - done + len(list) - 1) / len(list)
					if end := s.start + Millis(part)*o.frame; end < best {
						best, at = end, i
					}
					break
				}
			}
		}
		if at < 0 {
			break
		}
		before := done
		if side && len(x.jobs) > 0 {
			until := together(list, spans, n-done)
			for i, s := range spans {
				k := min(n-done, int((min(s.end, until)-s.start)/list[i].frame))
				if took := (span{s.start, s.start + Millis(k)*list[i].frame}); k > 0 && l.stillFree(x, &list[i], took, done > before) {
					l.put(x, job{took, int32(first + i), 0, k})
					done += k
				}
			}
		}
		if done == before {
			o := &list[at]
			k := min(n-done, max(1, (n-done+len(list)-1)/len(list)), int((spans[at].end-spans[at].start)/o.frame))
			if side {
				k = 1 // anchors a server that has nothing yet
			}
			l.put(x, job{span{spans[at].start, spans[at].start + Millis(k)*o.frame}, int32(first + at), 0, k})
			done += k
		}
	}
	return done
}

// together returns the earliest time by which crews that work side by side, each
// in its span, finish n frames; or the latest end of a span, if they never do.
func together(list []option, spans []span, n int) Millis {
	low, high := never, Millis(0)
	for _, s := range spans {
		if s.end > s.start {
			low, high = min(low, s.start), max(high, s.end)
		}
	}
	for high-low > 1 {
		middle := low + (high-low)/2
		k := 0
		for i, s := range spans {
			k += int(max(0, min(s.end, middle)-s.start) / list[i].frame)
		}
		if k >= n {
			high = middle
		} else {
			low = middle
		}
	}
	return high
}
