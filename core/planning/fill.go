package planning

import (
	"cmp"
	"math"
	"slices"
)

// offer is a way to render some of a shot's missing frames.
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
	for _, s := range order {
		for l.missing[s] > 0 {
			c, ok := l.cheapest(s)
			if !ok {
				return s
			}
			if c.machine < 0 {
				l.open(c.unit, c.runs)
				c.machine = len(l.machines) - 1
			}
			x := l.machines[c.machine]
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
	return -1
}

// cheapest finds where the shot's next frames cost least.
func (l *layout) cheapest(shot int) (chance, bool) {
	var best chance
	found := false
	take := func(c chance) {
		if c.frames > 0 && (!found || c.better(best)) {
			best, found = c, true
		}
	}
	for _, i := range l.m.places[shot] {
		u := &l.m.units[i]
		switch u.kind {
		case ownedHost:
			l.onHost(i, shot, best, found, take)
		case farmTier:
			l.onFarm(i, shot, take)
		default:
			for _, k := range l.units[i] {
				l.onServer(k, shot, take)
			}
			if len(l.units[i]) < u.copies {
				l.onNewServer(i, shot, take)
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
		if found && o.cost > best.perFrame()+1e-12 {
			continue
		}
		n := min(l.missing[shot], room(l.free(x, o), o.frame))
		take(chance{k, unit, int32(x.unit.optionFor(shot, o.crew)), n, 0, o.cost * float64(n), o.frame})
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
	// What a least charge that is paid anyway still covers costs nothing more.
	if free := x.unit.least - charged; before > 0 && o.cost > 0 && free >= o.cost {
		n = min(n, int(free/o.cost))
		after = before
	}
	take(chance{k, unit, int32(x.unit.optionFor(shot, 0)), n, 0, after - before, o.frame})
}

// onServer looks at a server that is let already: what fits into the time that is
// paid, and what more increments would take.
func (l *layout) onServer(k, shot int, take func(chance)) {
	x := l.machines[k]
	now := x.running()
	_, before := x.unit.rent.bill(now)
	if now == 0 {
		before = 0
	}
	try := func(runs Millis) int {
		y := x.clone()
		y.runs = runs
		n := l.trial(y, shot)
		if n > 0 {
			_, after := x.unit.rent.bill(y.running())
			take(chance{k, x.at, -1, n, runs, after - before, y.busy().end})
		}
		return n
	}
	n := try(max(x.runs, x.unit.rent.paid(max(now, 1))))
	if n == l.missing[shot] {
		return
	}
	l.lengthen(x, now, n, try)
}

func (l *layout) onNewServer(unit, shot int, take func(chance)) {
	u := &l.m.units[unit]
	x := &machine{unit: u, at: unit, held: make([]span, len(l.seats))}
	try := func(runs Millis) int {
		y := x.clone()
		y.runs = runs
		n := l.trial(y, shot)
		if n > 0 {
			_, cost := u.rent.bill(y.running())
			take(chance{-1, unit, -1, n, runs, cost, y.busy().end})
		}
		return n
	}
	first := try(u.rent.shortest())
	l.lengthen(x, u.rent.shortest(), first, try)
}

// lengthen tries longer times for a server: the next increment, and the shortest
// time in which all fits that would fit without a limit.
func (l *layout) lengthen(x *machine, runs Millis, n int, try func(Millis) int) {
	r := x.unit.rent
	most := max(runs, x.running()) + r.lead + r.wrap + l.longest(x)
	all := try(most)
	if all <= n {
		return
	}
	try(r.paid(max(runs, x.runs) + 1))
	low, high := runs, most
	for high-low > max(r.increment, 1000) {
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

// trial counts how many missing frames of the shot the machine, a copy, takes.
func (l *layout) trial(y *machine, shot int) int {
	t := *l
	t.missing = slices.Clone(l.missing)
	if source := y.unit.source; source != "" {
		t.uploads = map[string][]sending{source: l.uploads[source]}
	}
	return t.spread(y, shot, l.missing[shot])
}

// spread puts up to n frames of the shot on a server's crews so that they end
// together as nearly as may be: the server runs no longer than it must.
func (l *layout) spread(x *machine, shot, n int) int {
	done := 0
	for done < n {
		list := x.unit.of(shot)
		best, at := Millis(0), int32(-1)
		var first span
		for i := range list {
			o := &list[i]
			for _, s := range l.free(x, o) {
				if s.end-s.start >= o.frame {
					// By when the crew could be through with its part of the frames.
					part := (n - done + len(list) - 1) / len(list)
					if end := s.start + Millis(part)*o.frame; at < 0 || end < best {
						best, at, first = end, int32(x.unit.optionFor(shot, o.crew)), s
					}
					break
				}
			}
		}
		if at < 0 {
			break
		}
		o := &x.unit.options[at]
		k := min(n-done, max(1, (n-done+len(list)-1)/len(list)), int((first.end-first.start)/o.frame))
		l.put(x, job{span{first.start, first.start + Millis(k)*o.frame}, at, 0, k})
		done += k
	}
	return done
}
