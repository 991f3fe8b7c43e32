package planning

import (
	"cmp"
	"container/heap"
	"context"
	"math"
	"math/rand/v2"
	"slices"
)

// search finds the cheapest layout for the due times of its model, and how cheap
// any can be: branch and bound over how many servers are let of each offer, how
// many increments are paid, which farms are used at all and how many extra seats
// are hired. What is left when these are fixed is close to linear.
type search struct {
	ctx    context.Context
	m      *model
	master *master
	work   *effort
	random *rand.Rand
	scarce bool  // some licence has fewer seats than machines that would hold one
	few    bool  // shots: no more than manyShots
	all    int64 // the effort there was at the start
	order  []int // of the shots, for filling
	best   *layout
	cost   float64 // of best
	nearly *layout // of those with inputs that lack frames, the one that lacks least; nil: none
	closed float64 // least bound of a node that could not be split further
	open   nodeHeap
	enough float64 // stop at a plan of this cost or less
	from   *Plan   // an earlier plan to start from; nil: none
}

// manyShots is from how many shots on a problem counts as big: there what moves a
// single job is left for last.
const manyShots = 20

// veryManyShots is from how many on the relaxed problem is solved only nearly.
const veryManyShots = 120

// node is a part of all plans: those within its limits.
type node struct {
	limits limits
	bound  float64
	depth  int
	cut    bool // by splitCuts: what is counted was whole before
	serial int
}

type nodeHeap []*node

func (h nodeHeap) Len() int { return len(h) }
func (h nodeHeap) Less(a, b int) bool {
	if h[a].bound != h[b].bound {
		return h[a].bound < h[b].bound
	}
	return h[a].serial > h[b].serial
}
func (h nodeHeap) Swap(a, b int) { h[a], h[b] = h[b], h[a] }
func (h *nodeHeap) Push(x any)   { *h = append(*h, x.(*node)) }
func (h *nodeHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

// outcome is what a search found.
type outcome struct {
	layout *layout // nil: none found
	cost   float64
	bound  float64 // no plan within the due times costs less; infinite if there is none
}

func newSearch(ctx context.Context, m *model, work *effort) *search {
	s := &search{ctx: ctx, m: m, master: newMaster(m, work), work: work, all: work.left, random: rand.New(rand.NewPCG(1, 2)), cost: math.Inf(1), closed: math.Inf(1), enough: -1}
	for i := range m.Shots {
		s.order = append(s.order, i)
	}
	s.few = len(m.Shots) <= manyShots
	s.scarce = slices.ContainsFunc(m.seatGrid, func(grid []Millis) bool { return len(grid) > 0 })
	slices.SortStableFunc(s.order, func(a, b int) int {
		return cmp.Or(cmp.Compare(m.due[a], m.due[b]), cmp.Compare(len(m.places[a]), len(m.places[b])))
	})
	return s
}

// margin is more than what rounding can have added to a bound.
const margin = 2e-7

// cutoff is the bound from which on a node cannot hold a plan that is cheaper to
// the cent.
func (s *search) cutoff() float64 {
	return math.Floor(s.cost*100+0.5+1e-7)/100 - 0.005 + margin
}

func (s *search) run() outcome {
	if slices.ContainsFunc(s.m.places, func(p []int) bool { return len(p) == 0 }) {
		return outcome{nil, math.Inf(1), math.Inf(1)}
	}
	promising := s.earlier()
	s.greedy()
	if len(s.m.Shots) > veryManyShots && s.best != nil {
		return s.ascend()
	}
	s.offerColumns()
	serial := 0
	s.open = nodeHeap{&node{limits: s.m.unlimited()}}
	for len(s.open) > 0 && s.cost > s.enough {
		n := heap.Pop(&s.open).(*node)
		if n.bound >= s.cutoff() {
			continue
		}
		if s.work.spent() || s.ctx.Err() != nil || n.cut && s.work.left < s.all/2 {
			heap.Push(&s.open, n)
			break
		}
		bound, covered := s.master.relax(s.ctx, n.limits, s.cutoff(), s.near())
		n.bound = max(n.bound, bound)
		if n.bound >= s.cutoff() {
			continue
		}
		if !covered && !s.work.spent() {
			// Most likely there is no plan here. The bound says what is certain.
			s.closed = min(s.closed, n.bound)
			continue
		}
		found := s.master.taken()
		if n.depth == 0 {
			s.value(bound)
			if !s.few {
				w := s.master.duals()
				s.m.weighRegret(&w)
				s.try(solution{extras: found.extras, short: found.short})
			}
		}
		l := s.try(found)
		if n.depth == 0 && s.ctx.Err() == nil {
			s.dive(n, found)
		}
		children, counted := s.split(n, found)
		if !s.few {
			heap.Push(&s.open, n)
			break // what is left of the effort does more good in refining
		}
		if counted && s.work.left > s.all/2 {
			promising = append(promising, s.refine(l, s.all/30, n.bound))
		}
		if children == nil && n.bound < s.cutoff() {
			s.closed = min(s.closed, n.bound)
		}
		for _, c := range children {
			serial++
			c.serial = serial
			heap.Push(&s.open, c)
		}
	}
	s.refineBest(promising)
	return outcome{s.best, s.cost, s.bound()}
}

// refineBest refines what nodes came to further, the best few of it and then the best of all: a
// plan that is a little dearer, or lacks a few frames, may lead to a better one.
func (s *search) refineBest(promising []*layout) {
	if s.best == nil && s.nearly != nil {
		s.refine(s.nearly, s.work.left/2, s.bound()) // when inputs are home can be shifted in many ways
	}
	slices.SortStableFunc(promising, func(a, b *layout) int { return cmp.Compare(a.cost()+a.lack(), b.cost()+b.lack()) })
	better := func() bool { return s.best != nil && s.cost > s.enough && s.cost > s.bound() }
	for i, l := range promising[:min(3, len(promising))] {
		if better() {
			s.refine(l, s.work.left/int64(5-i), s.bound())
		}
	}
	if better() {
		s.refine(s.best.clone(), s.work.left, s.bound())
	}
}

// ascend finds a layout and a bound where there are too many shots for more.
func (s *search) ascend() outcome {
	a := &ascent{r: s.master}
	l := s.m.unlimited()
	a.start(s.best.prices(1), l)
	a.climb(s.ctx, l, s.cost, 700)
	for i := range s.m.duals {
		s.m.duals[i] = min(s.m.penalty[i], 3*a.prices[i]/float64(s.m.Shots[i].Frames))
	}
	w := a.duals(a.prices)
	s.m.weighRegret(&w)
	s.try(solution{extras: make([]float64, len(s.m.Licences)), short: make([]bool, len(s.m.Licences))})
	s.refine(s.best.clone(), s.work.left, a.bound)
	return outcome{s.best, s.cost, min(a.bound, s.cost)}
}

// near is how exactly the relaxed problem is solved.
func (s *search) near() float64 {
	if !s.few {
		return 0.001
	}
	return 1e-7
}

// bound is what the nodes left prove.
func (s *search) bound() float64 {
	out := min(s.closed, s.cost)
	for _, n := range s.open {
		out = min(out, n.bound)
	}
	if out >= s.cutoff() {
		out = s.cost
	}
	return out
}

// offerColumns gives the master problem the columns in which the first layout uses its
// units, so that it starts from a plan.
func (s *search) offerColumns() {
	if s.best == nil {
		return
	}
	for _, x := range s.best.machines {
		if len(x.jobs) == 0 {
			continue
		}
		out := &column{unit: x.at, cost: x.cost(), runs: x.running(), from: x.busy().start}
		s.master.pack.u = x.unit
		if x.unit.kind == rentedOffer {
			out.runs = x.unit.held(out.runs - x.unit.rent.lead - x.unit.rent.wrap)
		}
		for _, j := range x.jobs {
			out.uses = append(out.uses, use{j.option, float64(j.frames) * float64(x.unit.options[j.option].frame)})
		}
		for l, h := range x.held {
			from := Millis(0)
			for k, end := range s.m.seatGrid[l] {
				if part := min(h.end, end) - max(h.start, from); part > 0 {
					out.seats = append(out.seats, seatTime{l, k, float64(part)})
				}
				from = end
			}
		}
		s.master.pack.tally(out)
		s.master.add(out)
	}
	if !s.few {
		s.master.soften(s.best.prices(3))
	}
}

// prices returns what a frame of each shot costs in the layout, times a factor.
func (l *layout) prices(factor float64) []float64 {
	out := make([]float64, len(l.missing))
	for _, x := range l.machines {
		time := 0.0
		for _, j := range x.jobs {
			time += float64(j.end - j.start)
		}
		for _, j := range x.jobs {
			out[x.unit.options[j.option].shot] += x.cost() * float64(j.end-j.start) / time
		}
	}
	for s, shot := range l.m.Shots {
		out[s] = factor * max(out[s]/float64(shot.Frames), 1e-4)
	}
	return out
}

// value sets what a missing frame counts for, from the relaxed solution.
func (s *search) value(bound float64) {
	frames := 0
	for _, x := range s.m.Shots {
		frames += x.Frames
	}
	for i := range s.m.duals {
		s.m.duals[i] = min(s.m.penalty[i], 3*max(s.master.lp.Dual(i), bound/float64(frames)))
	}
}

// earlier lays out the plan to start from, with what it lacks put where it costs least more.
func (s *search) earlier() []*layout {
	if s.from == nil {
		return nil
	}
	l := newLayout(s.m, s.work)
	l.again(*s.from)
	if l.fill(s.order); l.complete() {
		s.keep(l)
	}
	return []*layout{l}
}

// greedy makes a first layout without the relaxed problem.
func (s *search) greedy() {
	l := newLayout(s.m, s.work)
	for i, x := range s.m.Licences {
		l.seats[i] += x.ExtraSeats
	}
	s.complete(l)
}

// try makes layouts from a relaxed solution, with the extra seats that it hires,
// or where that does not do, with all there are. It returns the best of them,
// which may lack frames.
func (s *search) try(x solution) *layout {
	short := slices.Contains(x.short, true)
	order := make([]int, len(s.m.units))
	for i := range order {
		order[i] = i
	}
	var best *layout
	attempt := func(all bool) {
		l := newLayout(s.m, s.work)
		for i, licence := range s.m.Licences {
			if all {
				l.seats[i] += licence.ExtraSeats
			} else {
				l.seats[i] += int(math.Ceil(x.extras[i] - 1e-6))
			}
		}
		l.follow(x.parts, order)
		if l = s.complete(l); best == nil || l.cost()+l.lack() < best.cost()+best.lack() {
			best = l
		}
		if s.m.rank != nil && (s.nearly == nil || l.lack() < s.nearly.lack()) {
			s.nearly = l.clone()
		}
	}
	attempt(false)
	if !short || !s.few {
		return best
	}
	// Who gets a seat first decides who gets one at all.
	for range 12 {
		s.random.Shuffle(len(order), func(a, b int) { order[a], order[b] = order[b], order[a] })
		attempt(false)
	}
	if !best.complete() {
		attempt(true)
	}
	return best
}

// complete fills a layout up and keeps it if it is the best so far. A shot that
// finds no room goes first the next time, and what it needs is to be home sooner. What it returns may still lack frames.
func (s *search) complete(l *layout) *layout {
	order := slices.Clone(s.order)
	for _, part := range []float64{0.8, 0.6, 0.4, 0.2} {
		x := l.clone()
		failed := x.fill(order)
		if failed < 0 {
			if s.keep(x); x.cost() < 1.03*s.cost && s.few {
				return s.polish(x)
			}
			return x
		}
		i := slices.Index(order, failed)
		if i == 0 && !s.m.waits(failed) || s.work.spent() {
			return x
		}
		if s.m.waits(failed) {
			l.hurry(failed, part)
		}
		order = append([]int{failed}, slices.Delete(order, i, i+1)...)
	}
	return l
}

func (s *search) keep(l *layout) {
	if cost := l.cost(); cost < s.cost-1e-9 {
		s.best, s.cost = l.clone(), cost
	}
}

// polish takes servers and jobs out of a layout one at a time and places their
// frames anew, and keeps what is cheaper, until nothing is.
func (s *search) polish(l *layout) *layout {
	tries := 0
	for improved := true; improved && !s.work.spent(); {
		improved = false
		for k := len(l.machines) - 1; k >= 0; k-- {
			for _, move := range s.moves(l, k) {
				if tries++; tries > 40+20*len(s.m.Shots) || s.work.spent() {
					s.keep(l)
					return l
				}
				x := l.clone()
				move(x)
				if x.fill(s.order) < 0 && x.cost() < l.cost()-1e-9 {
					l, improved = x, true
					break
				}
			}
		}
	}
	s.keep(l)
	return l
}

// moves lists what may be tried with machine k of a layout.
func (s *search) moves(l *layout, k int) []func(*layout) {
	x := l.machines[k]
	if x.unit.kind == rentedOffer {
		out := []func(*layout){func(y *layout) { y.remove(k) }}
		if shorter := x.shorter(); shorter > 0 {
			out = append(out, func(y *layout) { y.shorten(k, shorter) })
		}
		return out
	}
	var out []func(*layout)
	for j := range x.jobs {
		if x.unit.options[x.jobs[j].option].cost > 0 {
			out = append(out, func(y *layout) { y.take(y.touch(k), j) })
		}
	}
	return out
}

// shorter is for how long a server could run for an increment less; 0 if it is not
// one, or has none to spare.
func (x *machine) shorter() Millis {
	if x.unit.kind != rentedOffer || len(x.jobs) == 0 {
		return 0
	}
	now := x.running()
	billed, _ := x.unit.rent.bill(now)
	if out := x.unit.rent.paid(max(1, billed-x.unit.rent.increment)); out < now {
		return out
	}
	return 0
}

// shorten lets a server run for less, and takes off what no longer fits.
func (l *layout) shorten(k int, runs Millis) {
	x := l.touch(k)
	x.runs = runs
	from := x.busy().start
	until := from + runs - x.unit.rent.lead - x.unit.rent.wrap
	for j := len(x.jobs) - 1; j >= 0; j-- {
		if x.jobs[j].end <= until {
			continue
		}
		old := l.take(x, j)
		frame := x.unit.options[old.option].frame
		if n := int(max(0, until-old.start) / frame); n > 0 {
			l.put(x, job{span{old.start, old.start + Millis(n)*frame}, old.option, 0, n})
		}
	}
}
